package probe

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strconv"
	"testing"
	"time"

	"golang.org/x/sys/unix"
	"google.golang.org/grpc"
	grpchealth "google.golang.org/grpc/health"
	"google.golang.org/grpc/health/grpc_health_v1"

	"aditus/internal/core/declare"
)

// instance serves an instance with every way to answer.
func instance(t *testing.T) (host string, ports map[string]int) {
	t.Helper()
	mux := http.NewServeMux()
	mux.HandleFunc("/ready", func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "ok") })
	mux.HandleFunc("/moved", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/else", http.StatusFound) })
	mux.HandleFunc("/busy", func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "no", http.StatusServiceUnavailable) })
	mux.HandleFunc("/dies", func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) })
	mux.HandleFunc("/hangs", func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() })
	server := httptest.NewServer(mux)
	t.Cleanup(server.Close)
	address, err := url.Parse(server.URL)
	if err != nil {
		t.Fatal(err)
	}
	port, _ := strconv.Atoi(address.Port())
	return address.Hostname(), map[string]int{"http": port, "closed": silentPort(t)}
}

// silentPort is a port at which nobody listens, and nobody else can.
func silentPort(t *testing.T) int {
	t.Helper()
	socket, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM, 0)
	if err == nil {
		t.Cleanup(func() { unix.Close(socket) })
		err = unix.Bind(socket, &unix.SockaddrInet4{Addr: [4]byte{127, 0, 0, 1}})
	}
	var at unix.Sockaddr
	if err == nil {
		at, err = unix.Getsockname(socket)
	}
	if err != nil {
		t.Fatal(err)
	}
	return at.(*unix.SockaddrInet4).Port
}

func TestProbe(t *testing.T) {
	host, ports := instance(t)
	s := New()
	defer s.Close()
	web := func(port, path string) declare.Probe {
		return declare.Probe{HTTP: &declare.Endpoint{Port: port, Path: path}}
	}
	tests := []struct {
		probe   declare.Probe
		timeout time.Duration
		want    string
	}{
		{web("http", "/ready"), 0, ""}, {web("http", "/moved"), 0, ""}, {web("http", "/busy"), 0, "GET /busy: status 503"}, {web("http", "/dies"), 0, "GET /dies: EOF"},
		{web("http", "/hangs"), 30 * time.Millisecond, "GET /hangs: no answer within 30ms"}, {web("closed", "/"), 0, fmt.Sprintf("GET /: nothing listens at port %d ($PORT_CLOSED)", ports["closed"])},
		{declare.Probe{TCP: &declare.Endpoint{Port: "http"}}, 0, ""}, {declare.Probe{TCP: &declare.Endpoint{Port: "closed"}}, 0, fmt.Sprintf("tcp: nothing listens at port %d ($PORT_CLOSED)", ports["closed"])},
	}
	for _, test := range tests {
		test.probe.Timeout.Duration = max(test.timeout, 0)
		if test.timeout == 0 {
			test.probe.Timeout.Duration = 10 * time.Second
		}
		if got := s.Ask(t.Context(), host, ports, test.probe); got != test.want {
			t.Errorf("%+v %+v: %q, want %q", test.probe.HTTP, test.probe.TCP, got, test.want)
		}
	}
}

// TestProbeGRPC asks a server by the gRPC health protocol, whatever it answers.
func TestProbeGRPC(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	server, states := grpc.NewServer(), grpchealth.NewServer()
	grpc_health_v1.RegisterHealthServer(server, states)
	states.SetServingStatus("gauge", grpc_health_v1.HealthCheckResponse_NOT_SERVING)
	go server.Serve(listener)
	t.Cleanup(server.Stop)
	plain := httptest.NewServer(http.NotFoundHandler())
	t.Cleanup(plain.Close)
	_, port, _ := net.SplitHostPort(plain.Listener.Addr().String())
	other, _ := strconv.Atoi(port)
	ports := map[string]int{"rpc": listener.Addr().(*net.TCPAddr).Port, "web": other, "closed": 1}
	s := New()
	defer s.Close()
	for _, test := range []struct{ port, service, want string }{
		{"rpc", "", ""}, {"rpc", "gauge", "grpc: the server says NOT_SERVING"}, {"rpc", "other", `grpc: the server knows no service "other"`}, {"closed", "", "grpc: connection refused"}, {"web", "", "grpc: connection refused"},
	} {
		probe := declare.Probe{GRPC: &declare.Endpoint{Port: test.port, Path: test.service}, Timeout: declare.Span{Duration: 10 * time.Second}}
		if got := s.Ask(t.Context(), "127.0.0.1", ports, probe); got != test.want {
			t.Errorf("%s of %s: %q, want %q", test.service, test.port, got, test.want)
		}
	}
}
