package scrape

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strconv"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/declare"
)

// instance serves an instance with every way to answer.
func instance(t *testing.T) (host string, ports map[string]int) {
	t.Helper()
	mux := http.NewServeMux()
	mux.HandleFunc("/busy", func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "no", http.StatusServiceUnavailable) })
	mux.HandleFunc("/metrics", func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, page) })
	mux.HandleFunc("/html", func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "<html>It works!</html>") })
	mux.HandleFunc("/empty", func(http.ResponseWriter, *http.Request) {})
	mux.HandleFunc("/endless", func(w http.ResponseWriter, _ *http.Request) {
		for i := range 200_000 {
			if _, err := fmt.Fprintf(w, "a_metric_with_a_long_name_%d 1\n", i); err != nil {
				return
			}
		}
	})
	server := httptest.NewServer(mux)
	t.Cleanup(server.Close)
	address, err := url.Parse(server.URL)
	if err != nil {
		t.Fatal(err)
	}
	port, _ := strconv.Atoi(address.Port())
	return address.Hostname(), map[string]int{"http": port}
}

func TestScrape(t *testing.T) {
	host, ports := instance(t)
	s := New()
	defer s.Close()
	scrape := func(path string) error {
		_, err := s.Fetch(t.Context(), host, ports, declare.Metrics{Endpoint: declare.Endpoint{Port: "http", Path: path}}, nil, time.Time{})
		return err
	}
	if err := scrape("/metrics"); err != nil {
		t.Error(err)
	}
	for _, path := range []string{"/html", "/empty"} {
		if err := scrape(path); !errors.Is(err, ErrNoMetrics) {
			t.Errorf("%s: %v", path, err)
		}
	}
	if err := scrape("/busy"); err == nil || !strings.Contains(err.Error(), "status 503") {
		t.Errorf("/busy: %v", err)
	}
	if err := scrape("/endless"); err == nil || !strings.Contains(err.Error(), "larger than") {
		t.Errorf("/endless: %v", err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := s.Fetch(ctx, host, ports, declare.Metrics{Endpoint: declare.Endpoint{Port: "http", Path: "/metrics"}}, nil, time.Time{}); err == nil {
		t.Error("a scrape went on for a caller that was gone")
	}
}

// page is OpenMetrics text with what sets it apart from older formats: units, exemplars, the end mark.
const page = `# TYPE http_requests counter
# UNIT http_requests requests
# HELP http_requests All of them.
http_requests_total{code="200",path="/a\"b"} 12 # {trace_id="x"} 1.0 1520879607.789
http_requests_total{code="500"} 3 1520879607.789
# TYPE http_request_duration_seconds histogram
http_request_duration_seconds_bucket{le="0.25"} 8 # {trace_id="y"} 0.2
http_request_duration_seconds_bucket{le="+Inf"} 15
http_request_duration_seconds_sum 4.5
http_request_duration_seconds_count 15
# TYPE process_resident_memory_bytes gauge
process_resident_memory_bytes 2.12e+08 1520879607.5
# EOF
`

func TestReadMetrics(t *testing.T) {
	read, err := ReadMetrics(strings.NewReader(page))
	if err != nil {
		t.Fatal(err)
	}
	find := func(name, label, value string) float64 {
		for _, s := range read[name] {
			if label == "" || s.Labels[label] == value {
				return s.Value
			}
		}
		t.Errorf("there is no %s with %s=%s in %v", name, label, value, read)
		return 0
	}
	for _, test := range []struct {
		name, label, value string
		want               float64
	}{
		{"http_requests_total", "path", `/a"b`, 12}, {"http_requests_total", "code", "500", 3}, {"http_request_duration_seconds_bucket", "le", "0.25", 8},
		{"http_request_duration_seconds_bucket", "le", "+Inf", 15}, {"http_request_duration_seconds_count", "", "", 15}, {"http_request_duration_seconds_sum", "", "", 4.5},
		{"process_resident_memory_bytes", "", "", 2.12e8},
	} {
		if got := find(test.name, test.label, test.value); got != test.want {
			t.Errorf("%s is %v, want %v", test.name, got, test.want)
		}
	}
}
