package router

import (
	"context"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"slices"
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

// BenchmarkRouter is measured against a bare proxy in the same run: requests by several callers over kept connections, as
// fast as they can, and with rests that leave the machine half idle.
func BenchmarkRouter(b *testing.B) {
	backendServer := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, "ready\n") }))
	defer backendServer.Close()
	to, _ := url.Parse(backendServer.URL)
	ways := []struct {
		name string
		open func() (string, func())
	}{
		{"bare", func() (string, func()) {
			bare := httptest.NewServer(newBare(to))
			return bare.URL, bare.Close
		}},
		{"router", func() (string, func()) {
			listener, _ := net.Listen("tcp", "127.0.0.1:0")
			at := listener.Addr().String()
			listener.Close()
			r, in := New(), Instance{ID: "a", Address: to.Host, Ready: true}
			other := in
			other.ID = "b"
			r.Set(at, []Route{{Name: "a", Cohorts: []Cohort{{Name: "n", Share: 0.25, Instances: []Instance{in}}, {Name: "o", Share: 0.75, Instances: []Instance{other}}}}})
			return "http://" + at, func() { r.Close(context.Background()) }
		}},
	}
	for _, way := range ways {
		for load, rest := range map[string]time.Duration{"full": 0, "calm": 4 * time.Millisecond} {
			b.Run(way.name+"/"+load, func(b *testing.B) {
				at, shut := way.open()
				defer shut()
				took := measure(b, at, rest)
				b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "requests/s")
				b.ReportMetric(took*1000, "p99-ms")
			})
		}
	}
}
