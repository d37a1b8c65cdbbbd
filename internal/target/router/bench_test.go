package router

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
)

// newBare is what the router is measured against: the library's proxy, with as many kept connections.
func newBare(to *url.URL) http.Handler {
	return &httputil.ReverseProxy{
		Rewrite:   func(p *httputil.ProxyRequest) { p.SetURL(to); p.SetXForwarded() },
		Transport: &http.Transport{MaxIdleConnsPerHost: backendIdlePer, DisableCompression: true},
	}
}

// callers send requests at once.
const callers = 8

// measure sends b.N requests by several callers, each with a rest after every one, and gives the 99th percentile of what
// they took, in seconds.
func measure(b *testing.B, at string, rest time.Duration) float64 {
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: callers}}
	var mu sync.Mutex
	var all []float64
	var group sync.WaitGroup
	b.ResetTimer()
	for caller := range callers {
		group.Go(func() {
			var own []float64
			for i := caller; i < b.N; i += callers {
				began := time.Now()
				response, err := client.Get(at)
				if err != nil || response.StatusCode != 200 {
					b.Errorf("%v %v", response, err)
					return
				}
				io.Copy(io.Discard, response.Body)
				response.Body.Close()
				own = append(own, time.Since(began).Seconds())
				if rest > 0 {
					time.Sleep(rest)
				}
			}
			mu.Lock()
			defer mu.Unlock()
			all = append(all, own...)
		})
	}
	group.Wait()
	b.StopTimer()
	slices.Sort(all)
	return all[len(all)*99/100]
}

// TestMain lets the test's own program be one side of the benchmark: what is measured runs in processes of their own, as it
// does in earnest, so that callers, router and instance do not share a scheduler.
func TestMain(m *testing.M) {
	if len(os.Args) == 4 && os.Args[1] == "-side" {
		serveSide(os.Args[2], os.Args[3])
		return
	}
	os.Exit(m.Run())
}

// serveSide serves one side of the benchmark until the standard input ends, after it has told its address.
func serveSide(side, behind string) {
	var at string
	switch side {
	case "instance":
		at = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, "ready\n") })).URL
	case "raw":
		at = serveRaw()
	case "bare":
		to, _ := url.Parse(behind)
		at = httptest.NewServer(newBare(to)).URL
	case "router":
		to, _ := url.Parse(behind)
		listener, _ := net.Listen("tcp", "127.0.0.1:0")
		address := listener.Addr().String()
		listener.Close()
		r, in := New(Options{}), Instance{ID: "a", Address: to.Host, Ready: true}
		other := in
		other.ID = "b"
		r.Set(address, []Route{{Name: "a", Cohorts: []Cohort{{Name: "n", Share: 0.25, Instances: []Instance{in}}, {Name: "o", Share: 0.75, Instances: []Instance{other}}}}})
		at = "http://" + address
	}
	fmt.Println(at)
	io.Copy(io.Discard, os.Stdin)
}

// startSide starts a side and gives where it is, and its process.
func startSide(b *testing.B, side, behind string, environment ...string) (at string, pid int) {
	cmd := exec.Command(os.Args[0], "-side", side, behind)
	cmd.Env = append(os.Environ(), environment...)
	cmd.Stderr = os.Stderr
	in, err := cmd.StdinPipe()
	if err != nil {
		b.Fatal(err)
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		b.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() {
		in.Close()
		cmd.Wait()
	})
	at, err = bufio.NewReader(out).ReadString('\n')
	if err != nil {
		b.Fatal(err)
	}
	return strings.TrimSpace(at), cmd.Process.Pid
}

// BenchmarkRouter is measured against a bare proxy in the same run: requests by several callers over kept connections, as
// fast as they can, and with rests that leave the machine half idle.
func BenchmarkRouter(b *testing.B) {
	instance, _ := startSide(b, "instance", "")
	at := map[string]string{}
	for _, side := range []string{"bare", "router"} {
		at[side], _ = startSide(b, side, instance)
	}
	for load, rest := range map[string]time.Duration{"full": 0, "calm": 4 * time.Millisecond} {
		for _, side := range []string{"bare", "router"} { // one soon after the other, as machines have moods
			b.Run(side+"/"+load, func(b *testing.B) {
				took := measure(b, at[side], rest)
				b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "requests/s")
				b.ReportMetric(took*1000, "p99-ms")
			})
		}
	}
}
