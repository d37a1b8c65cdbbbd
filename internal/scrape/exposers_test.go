package scrape

import (
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"math"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os/exec"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"aditus/internal/core/declare"
	"aditus/internal/core/signal"
	"aditus/internal/socket/porttest"
)

// fetched is the page of a server, fetched as an instance's is.
func fetched(t *testing.T, at, path string) (signal.Page, error) {
	t.Helper()
	u, err := url.Parse(at)
	if err != nil {
		t.Fatal(err)
	}
	port, _ := strconv.Atoi(u.Port())
	s := New()
	defer s.Close()
	return s.Fetch(t.Context(), u.Hostname(), map[string]int{"http": port}, declare.Metrics{Endpoint: declare.Endpoint{Port: "http", Path: path}}, nil, time.Now().Add(-time.Minute))
}

// value is the sum of all samples of a metric that have a label; NaN where there are none.
func value(page signal.Page, name, label, is string) float64 {
	sum, any := 0.0, false
	for _, s := range page[name] {
		if s.Unread == "" && (label == "" || s.Labels[label] == is) {
			sum, any = sum+s.Value, true
		}
	}
	if !any {
		return math.NaN()
	}
	return sum
}

// TestGoClient reads what the usual client of Go exposes with its default collectors, in each of its formats.
func TestGoClient(t *testing.T) {
	registry := prometheus.NewRegistry()
	registry.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	asked := prometheus.NewCounterVec(prometheus.CounterOpts{Name: "http_requests_total", Help: "All of them."}, []string{"code"})
	took := prometheus.NewHistogram(prometheus.HistogramOpts{Name: "took_seconds", Help: "How long.", Buckets: []float64{0.1, 0.3, 1}})
	grows := prometheus.NewHistogram(prometheus.HistogramOpts{Name: "grows_seconds", Help: "How long.", NativeHistogramBucketFactor: 1.1})
	odd := prometheus.NewGauge(prometheus.GaugeOpts{Name: "boarding.queue", Help: "A name with a dot."})
	idle := prometheus.NewHistogram(prometheus.HistogramOpts{Name: "idle", Help: "Below nought too.", NativeHistogramBucketFactor: 1.1})
	registry.MustRegister(asked, took, grows, odd, idle)
	asked.WithLabelValues("200").Add(40)
	asked.WithLabelValues("500").(prometheus.ExemplarAdder).AddWithExemplar(2, prometheus.Labels{"trace": "a # {b}"})
	odd.Set(7)
	for range 500 {
		idle.Observe(0) // in the bucket about nought
		idle.Observe(0.75)
		idle.Observe(-3)
	}
	for i := range 1000 {
		took.Observe(float64(i) / 1000)
		grows.Observe(float64(i+1) / 1000)
	}
	for name, options := range map[string]promhttp.HandlerOpts{"as it is by itself": {}, "with OpenMetrics": {EnableOpenMetrics: true}, "unpacked": {DisableCompression: true}} {
		server := httptest.NewServer(promhttp.HandlerFor(registry, options))
		defer server.Close()
		page, err := fetched(t, server.URL, "/metrics")
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		for metric, want := range map[string]float64{"http_requests_total": 42, "took_seconds_count": 1000, "grows_seconds_count": 1000, "boarding.queue": 7} {
			if got := value(page, metric, "", ""); got != want {
				t.Errorf("%s: %s is %v, want %v", name, metric, got, want)
			}
		}
		if value(page, "took_seconds_bucket", "le", "0.3") != 301 || !(value(page, "go_goroutines", "", "") > 0) || !(value(page, "process_resident_memory_bytes", "", "") > 0) {
			t.Errorf("%s: %v", name, page)
		}
		for _, q := range []float64{0.1, 0.5, 0.99} { // within what a bucket is wide
			source := signal.Source{Kind: signal.Quantile, Of: signal.Series{Metric: "grows_seconds"}, Quantile: q}
			reading, why := source.Read(page)
			if got, ok := source.Value(source.Between(signal.Reading{}, reading, time.Second)); why != "" || !ok || math.Abs(got-q) > 0.1*q {
				t.Errorf("%s: the quantile %v is %v (%s)", name, q, got, why)
			}
		}
		for bound, want := range map[float64]float64{-4: 1, -2: 2. / 3, 0.5: 1. / 3, 1: 0} { // where buckets end
			above := signal.Source{Kind: signal.ShareAbove, Of: signal.Series{Metric: "idle"}, Bound: bound}
			reading, why := above.Read(page)
			if got, ok := above.Value(above.Between(signal.Reading{}, reading, time.Second)); why != "" || !ok || math.Abs(got-want) > 1e-9 {
				t.Errorf("%s: %v lie above %v, want %v (%s)", name, got, bound, want, why)
			}
		}
		slow := signal.Source{Kind: signal.ShareAbove, Of: signal.Series{Metric: "grows_seconds"}, Bound: 5} // where nothing was observed
		reading, why := slow.Read(page)
		if got, ok := slow.Value(slow.Between(signal.Reading{}, reading, time.Second)); why != "" || !ok || got != 0 {
			t.Errorf("%s: above all that was observed there is %v (%s)", name, got, why)
		}
	}
	for format, media := range map[string]string{"OpenMetrics": openMetrics + ";version=1.0.0", "the older text": "text/plain;version=0.0.4"} {
		server := httptest.NewServer(promhttp.HandlerFor(registry, promhttp.HandlerOpts{EnableOpenMetrics: true}))
		defer server.Close()
		request, _ := http.NewRequest(http.MethodGet, server.URL, nil)
		request.Header.Set("Accept", media)
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		text, _ := io.ReadAll(response.Body)
		response.Body.Close()
		page, err := Read(text, response.Header.Get("Content-Type"), time.Time{})
		if err != nil || value(page, "http_requests_total", "code", "500") != 2 || value(page, "took_seconds_bucket", "le", "+Inf") != 1000 || !(value(page, "go_goroutines", "", "") > 0) {
			t.Errorf("%s: %v: %v", format, err, page["http_requests_total"])
		}
	}
}

// TestExposers reads what other exposers say by themselves: programs that make test installs, in their default settings.
func TestExposers(t *testing.T) {
	for _, test := range []struct {
		name, needs string
		command     []string
		metrics     []string
		signals     []signal.Source // that guards judge by it
	}{
		{"node exporter", "prometheus-node-exporter", []string{"prometheus-node-exporter", "--web.listen-address=ADDRESS"}, []string{"node_load1", "node_memory_MemTotal_bytes", "node_cpu_seconds_total"}, []signal.Source{
			{Kind: signal.Gauge, Of: signal.Series{Metric: "node_load1"}},
			{Kind: signal.GaugeShare, Of: signal.Series{Metric: "node_memory_MemAvailable_bytes"}, To: &signal.Series{Metric: "node_memory_MemTotal_bytes"}},
			{Kind: signal.Rate, Of: signal.Series{Metric: "node_cpu_seconds_total", Where: map[string][]string{"mode": {"user", "system"}}}},
			{Kind: signal.Rate, Each: "device", Of: signal.Series{Metric: "node_network_receive_bytes_total", Except: map[string][]string{"device": {"veth*"}}}},
		}},
		{"the client of Python", "/usr/bin/python3", []string{"/usr/bin/python3", "-c", `
import sys, time
from prometheus_client import *
host, port = sys.argv[1].split(":")
asked = Counter("asked", "All of them.", ["code"]); asked.labels("200").inc(5)
Info("build", "What it is.").info({"version": "1.2", "note": "a { # } \" b\nc"})
Enum("gate", "How it stands.", states=["open", "shut"]).state("open")
Histogram("took_seconds", "How long.").observe(0.3, {"trace": "x"})
Summary("size_bytes", "How much.").observe(3)
start_http_server(int(port), host)
time.sleep(600)
`, "ADDRESS"}, []string{"asked_total", "build_info", "gate", "took_seconds_bucket", "size_bytes_count", "python_info", "process_cpu_seconds_total"}, []signal.Source{
			{Kind: signal.Ratio, Of: signal.Series{Metric: "asked_total", Where: map[string][]string{"code": {"5*"}}}, To: &signal.Series{Metric: "asked_total"}},
			{Kind: signal.ShareAbove, Of: signal.Series{Metric: "took_seconds"}, Bound: 2.5},
			{Kind: signal.Quantile, Of: signal.Series{Metric: "took_seconds"}, Quantile: 0.9},
			{Kind: signal.Apdex, Of: signal.Series{Metric: "took_seconds"}, Bound: 0.25},
			{Kind: signal.Mean, Of: signal.Series{Metric: "took_seconds"}},
			{Kind: signal.Per, Of: signal.Series{Metric: "size_bytes_sum"}, To: &signal.Series{Metric: "asked_total"}},
			{Kind: signal.Gauge, Of: signal.Series{Metric: "process_resident_memory_bytes"}},
		}},
	} {
		t.Run(test.name, func(t *testing.T) {
			if _, err := exec.LookPath(test.needs); err != nil {
				t.Skip("there is no " + test.needs + ": make test installs it")
			}
			if test.needs == "/usr/bin/python3" && exec.Command(test.needs, "-c", "import prometheus_client").Run() != nil {
				t.Skip("there is no client of Python: make test installs it")
			}
			at := porttest.Free(t)
			args := make([]string, len(test.command))
			for i, arg := range test.command {
				args[i] = strings.ReplaceAll(arg, "ADDRESS", at)
			}
			cmd := exec.Command(args[0], args[1:]...)
			if err := cmd.Start(); err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
			var page signal.Page
			var err error
			for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
				if page, err = fetched(t, "http://"+at, "/metrics"); err == nil {
					break
				}
			}
			if err != nil {
				t.Fatal(err)
			}
			for _, metric := range test.metrics {
				if math.IsNaN(value(page, metric, "", "")) {
					t.Errorf("there is no %s: %v", metric, page[metric])
				}
			}
			for name, samples := range page {
				if samples[0].Unread != "" {
					t.Errorf("%s is lost: %s", name, samples[0].Unread)
				}
			}
			for _, source := range test.signals {
				var tracker signal.Tracker
				tracker.Take(source, "one", page, time.Unix(0, 0))
				if tally, ok, why := tracker.Take(source, "one", page, time.Unix(10, 0)); !ok || why != "" || tally.Instances != 1 {
					t.Errorf("%s of %s: %+v, %s", source.Kind, source.Of.Metric, tally, why)
				}
				if source.Each != "" && len(source.Values(page)) == 0 {
					t.Errorf("%s of %s: no value of %s", source.Kind, source.Of.Metric, source.Each)
				}
			}
		})
	}
}

// TestFamilies reads pages of which something is not as it should be: what is lost says why, and the rest is kept.
func TestFamilies(t *testing.T) {
	old := fmt.Sprint(time.Now().Add(-time.Hour).UnixMilli())
	for name, test := range map[string]struct {
		media, page string
		has         []string
		lost        map[string]string // why
		refused     string
	}{
		"a family twice":           {"", "# HELP a x\n# TYPE a gauge\na 1\n# HELP a y\n# TYPE a gauge\na{b=\"c\"} 2\n", []string{"a"}, nil, ""},
		"types that are newer":     {openMetrics, "# TYPE a info\na_info{b=\"c\"} 1\n# TYPE s stateset\ns{s=\"on\"} 1\n# TYPE u unknown\nu 3\n# TYPE g gaugehistogram\ng_bucket{le=\"+Inf\"} 1\ng_gcount 1\ng_gsum 1\n# EOF\n", []string{"a_info", "s", "u", "g_gcount"}, nil, ""},
		"exemplars and their like": {openMetrics, "# TYPE a counter\na_total{b=\"# {x}\"} 1 # {t=\"} 5 # {\"} 2 3\na_total{b=\"2\"} 4 1.5\n# EOF\n", []string{"a_total"}, nil, ""},
		"names of today":           {openMetrics, "# TYPE \"http.took\" gauge\n{\"http.took\",\"code.x\"=\"1\"} 2\n# EOF\n", []string{"http.took"}, nil, ""},
		"one that is broken":       {"", "# TYPE a gauge\na 1\n# TYPE b gauge\nb{c=} 1\nb 2\n# TYPE c counter\nc_total 3\n", []string{"a", "c_total"}, map[string]string{"b": "b cannot be read", "b_count": "b cannot be read"}, ""},
		"one without a type":       {"", "a 1\nb{ 2\nc 3\n", []string{"a", "c"}, map[string]string{"b": "b cannot be read"}, ""},
		"what is old":              {"", "# TYPE a gauge\na 1 " + old + "\n# TYPE b gauge\nb 1\n", []string{"b"}, map[string]string{"a": "it was measured at"}, ""},
		"what is old in part":      {"", "# TYPE a gauge\na 1 " + old + "\na{b=\"c\"} 1\n", []string{"a"}, nil, ""},
		"no end":                   {openMetrics + "; version=1.0.0", "# TYPE a gauge\na 1\n", nil, nil, "it breaks off"},
		"no page":                  {"text/html", "<html>It works!</html>", nil, nil, "no metrics page"},
		"nothing":                  {"", "", nil, nil, "it holds no sample"},
		"no number alone":          {"", "a NaN\n", nil, nil, "it holds no sample"},
		"protobuf that is none":    {protobuf, "\x05hello", nil, nil, "cannot be read"},
	} {
		page, err := Read([]byte(test.page), test.media, time.Now().Add(-time.Minute))
		if test.refused != "" {
			if !errors.Is(err, ErrNoMetrics) || !strings.Contains(err.Error(), test.refused) {
				t.Errorf("%s: %v, want %q", name, err, test.refused)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		for _, metric := range test.has {
			if math.IsNaN(value(page, metric, "", "")) {
				t.Errorf("%s: there is no %s in %v", name, metric, page)
			}
		}
		for metric, why := range test.lost {
			source := signal.Source{Kind: signal.Gauge, Of: signal.Series{Metric: metric}}
			if _, got := source.Read(page); !strings.Contains(got, why) {
				t.Errorf("%s: %s is told %q, want %q", name, metric, got, why)
			}
		}
	}
}

// TestElsewhere follows a page to another path of the same instance, and to nobody else.
func TestElsewhere(t *testing.T) {
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "a 1\n") }))
	defer other.Close()
	mux := http.NewServeMux()
	mux.HandleFunc("/moved", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "metrics?all=1", http.StatusFound) })
	mux.HandleFunc("/metrics", func(w http.ResponseWriter, r *http.Request) { fmt.Fprintf(w, "a %s\n", r.URL.Query().Get("all")) })
	mux.HandleFunc("/round", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/round", http.StatusFound) })
	mux.HandleFunc("/away", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, other.URL, http.StatusFound) })
	mux.HandleFunc("/bomb", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Encoding", "gzip")
		out := gzip.NewWriter(w)
		for range 1000 {
			out.Write([]byte(strings.Repeat("a 1\n", 4096)))
		}
		out.Close()
	})
	mux.HandleFunc("/packed", func(w http.ResponseWriter, r *http.Request) { w.Header().Set("Content-Encoding", "br") })
	server := httptest.NewServer(mux)
	defer server.Close()
	if page, err := fetched(t, server.URL, "/moved"); err != nil || value(page, "a", "", "") != 1 {
		t.Errorf("%v (%v)", page, err)
	}
	for path, want := range map[string]string{"/round": "more than 3 times", "/away": "another host or port", "/bomb": "larger than", "/packed": `packed as "br"`} {
		if _, err := fetched(t, server.URL, path); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", path, err, want)
		}
	}
}
