package cli

import (
	"archive/tar"
	"bytes"
	"context"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// oddCommand is what the test's own program is called with where it is a service that goes wrong in its own way: the
// interpreter of an artifact's one file, whose second line says which.
const oddCommand = "odd-service"

// oddService is a service that answers as its file says.
func oddService(file string) {
	text, err := os.ReadFile(file)
	if err != nil {
		log.Fatal(err)
	}
	lines := strings.Split(string(text), "\n")
	mode, instance := lines[1], os.Getenv("INSTANCE")
	var good, bad, asked atomic.Int64
	var first atomic.Int64
	odd := func(share float64) bool { return rand.Float64() < share }
	mux := http.NewServeMux()
	mux.HandleFunc("/ready", func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "ready\n") })
	mux.HandleFunc("/metrics", func(w http.ResponseWriter, r *http.Request) {
		value := fmt.Sprint(good.Load())
		switch mode {
		case "too busy for its metrics":
			if strings.HasSuffix(instance, "1") {
				<-r.Context().Done()
				return
			}
		case "infinite":
			value = "+Inf"
		case "negative":
			value = "-1"
		case "without its metric":
			fmt.Fprintf(w, "uptime_seconds 3\n")
			return
		}
		fmt.Fprintf(w, "web_requests_total{code=\"200\"} %s\nweb_requests_total{code=\"500\"} %d\n", value, bad.Load())
	})
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		first.CompareAndSwap(0, time.Now().UnixNano())
		_, err := io.Copy(io.Discard, r.Body)
		fails := err != nil || mode == "cold" && time.Since(time.Unix(0, first.Load())) < 3*time.Second && odd(0.3) || mode == "too busy for its metrics" && odd(0.3)
		switch {
		case mode == "hanging" && odd(0.25):
			<-r.Context().Done()
		case mode == "cut off" && odd(0.25):
			conn, out, err := http.NewResponseController(w).Hijack()
			if err == nil {
				out.WriteString("HTTP/1.1 200 OK\r\nContent-Length: 100\r\n\r\nhalf of it")
				out.Flush()
				conn.Close()
			}
		case fails:
			bad.Add(1)
			http.Error(w, "it went wrong", http.StatusInternalServerError)
		default:
			good.Add(1)
			io.WriteString(w, "a ticket\n")
		}
	})
	log.Fatal(http.ListenAndServe(net.JoinHostPort("127.0.0.1", os.Getenv("PORT")), mux))
}

const oddWorkload = `aditus: 1
workload: %[1]s
sites: [dock]
parts:
  app:
    kind: service
    artifact: file:%[2]s/%[1]s-1.0.0.tar
    instances: 2
    ports: {http: 8080}
    probes: {ready: {http: {port: http, path: /ready}, every: 1s, timeout: 5s, grace: 20s}}
    %[3]s
  entry: {kind: route, host: %[1]s.example, to: {service: app, port: http}}
rollout: {stages: [{share: 50 %%, soak: 3s}, {share: 100 %%, soak: 1s}], deadline: 40s, proving: 3s, interval: 1s, cool-down: 1s%[4]s}
guards:
  - name: errors
    signal: {ratio: {of: {counter: %[5]s, where: {code: "5*"}}, to: {counter: %[5]s}}}
    limit: {at-most: 8 %%}
`

// TestOdd takes services that go wrong in ways that a share of bad answers on a page does not tell through real rollouts under
// load, and sees each decided rightly: what hangs, what is cut off, what cannot be read of one instance or says what cannot be,
// what is cold and what only its callers break.
func TestOdd(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes a minute")
	}
	t.Parallel()
	l := openDock(t)
	l.git("init", "-q")
	at, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	copied, err := os.ReadFile(at)
	self := filepath.Join(filepath.Dir(program), "odd") // which users of their own may run
	if err == nil {
		err = os.WriteFile(self, copied, 0o755)
	}
	if err != nil {
		t.Fatal(err)
	}
	const own = "metrics: {port: http, path: /metrics, requests: web_requests_total}"
	type trial struct {
		workload, mode string
		metrics, warms string
		ends           string // for what it is waited
		says           string // by status, where it does not end
	}
	trials := []trial{
		{"hangs", "hanging", "", "", "rolled-back", ""},
		{"cuts", "cut off", "", "", "rolled-back", ""},
		{"busy", "too busy for its metrics", own, "", "", "The metrics of busy-app-[0-9a-f]+-1 cannot be read: .*guards on them are silent"},
		{"infinite", "infinite", own, "", "", `errors is silent, as infinite-app-[0-9a-f]+-\d: web_requests_total is \+Inf`},
		{"negative", "negative", own, "", "", `errors is silent, as negative-app-[0-9a-f]+-\d: web_requests_total is -1`},
		{"absent", "without its metric", own, "", "", `errors is silent, as absent-app-[0-9a-f]+-\d: there is no web_requests_total`},
		{"cold", "cold", own, ", warm-up: 5s", "proven", ""},
		{"broken", "", "", "", "proven", ""},
	}
	artifact := func(workload, version, mode string) {
		var out bytes.Buffer
		w := tar.NewWriter(&out)
		text := fmt.Sprintf("#!%s %s\n%s\n# %s", self, oddCommand, mode, version)
		w.WriteHeader(&tar.Header{Name: "service", Mode: 0o755, Size: int64(len(text)), Typeflag: tar.TypeReg})
		io.WriteString(w, text)
		w.Close()
		if err := os.WriteFile(filepath.Join(l.artifacts, workload+"-"+version+".tar"), out.Bytes(), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for _, x := range trials {
		counter := "route_requests_total"
		if x.metrics != "" {
			counter = "web_requests_total"
		}
		artifact(x.workload, "1.0.0", "")
		artifact(x.workload, "1.1.0", x.mode)
		text := fmt.Sprintf(oddWorkload, x.workload, l.artifacts, x.metrics, x.warms, counter)
		if err := os.WriteFile(filepath.Join(l.source, "deploy", x.workload+".yaml"), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	l.git("add", "-A")
	l.git("commit", "-q", "-m", "the first versions")
	if out, err := exec.Command(program, "link", "add", "line", l.source, "--data", l.folder, "--every", "1s", "--target", "local="+l.listen).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	settings := filepath.Join(l.folder, "settings.yaml") // what runs the services is not of the machine's programs
	written, err := os.ReadFile(settings)
	if err == nil {
		err = os.WriteFile(settings, []byte(strings.Replace(string(written), "kind: local", "kind: local\n      reach: ["+filepath.Dir(self)+"]", 1)), 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	l.serve()
	ctx, cancel := context.WithCancel(t.Context())
	var callers sync.WaitGroup
	defer callers.Wait()
	defer cancel()
	for _, x := range trials {
		l.sync(x.workload)
		for range 2 {
			callers.Go(func() { l.call(ctx, x.workload) })
		}
	}
	for _, x := range trials {
		l.wait(x.workload, "proven")
	}
	callers.Go(func() { l.breaks(ctx, "broken") })
	for _, x := range trials {
		l.change(x.workload, func(text string) string { return strings.Replace(text, "-1.0.0.tar", "-1.1.0.tar", 1) })
		l.sync(x.workload)
	}
	for _, x := range trials {
		if x.ends != "" {
			l.wait(x.workload, x.ends)
			continue
		}
		says := regexp.MustCompile(x.says)
		l.await(x.workload+" is silent, and says why", func() bool {
			_, out, _ := shell(t, "status", "--data", l.folder)
			return says.MatchString(out)
		})
		if code, out, errs := shell(t, "rollback", x.workload+"/dock", "-m", "it says nothing", "--data", l.folder); code != 0 {
			t.Errorf("%s: a person cannot roll it back: %d %s%s", x.workload, code, out, errs)
		}
		l.wait(x.workload, "rolled-back")
	}
}

// call asks a workload for something again and again, a little at a time, and does not wait for ever.
func (l *dock) call(ctx context.Context, workload string) {
	client := &http.Client{Timeout: 1500 * time.Millisecond}
	for tick := time.NewTicker(25 * time.Millisecond); ctx.Err() == nil; <-tick.C {
		request, _ := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+l.listen+"/crossing", nil)
		request.Host = workload + ".example"
		if response, err := client.Do(request); err == nil {
			io.Copy(io.Discard, response.Body)
			response.Body.Close()
		}
	}
}

// breaks sends bodies that are none, and goes away.
func (l *dock) breaks(ctx context.Context, workload string) {
	for tick := time.NewTicker(20 * time.Millisecond); ctx.Err() == nil; <-tick.C {
		conn, err := net.Dial("tcp", l.listen)
		if err != nil {
			continue
		}
		fmt.Fprintf(conn, "POST / HTTP/1.1\r\nHost: %s.example\r\nTransfer-Encoding: chunked\r\n\r\nno length\r\n", workload)
		conn.SetReadDeadline(time.Now().Add(200 * time.Millisecond))
		io.Copy(io.Discard, conn)
		conn.Close()
	}
}
