package metricstore

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	"github.com/prometheus/prometheus/model/labels"
	"github.com/prometheus/prometheus/promql/parser"

	"aditus/internal/core/signal"
	"aditus/internal/socket/porttest"
)

// real starts a metrics store that reads what is at some addresses every second, and gives where it answers.
func real(t *testing.T, at ...string) string {
	t.Helper()
	if _, err := exec.LookPath("prometheus"); err != nil {
		t.Skip("there is no metrics store: make test installs it")
	}
	folder, address := t.TempDir(), porttest.Free(t)
	settings := "global: {scrape_interval: 1s, scrape_timeout: 500ms}\nscrape_configs:\n- job_name: boarding\n  static_configs: [{targets: [" + strings.Join(at, ", ") + "]}]\n"
	if err := os.WriteFile(filepath.Join(folder, "settings.yaml"), []byte(settings), 0o600); err != nil {
		t.Fatal(err)
	}
	run := exec.Command("prometheus", "--config.file="+filepath.Join(folder, "settings.yaml"), "--storage.tsdb.path="+filepath.Join(folder, "data"), "--web.listen-address="+address, "--enable-feature=native-histograms", "--log.level=error")
	run.Stderr = os.Stderr
	if err := run.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		run.Process.Kill()
		run.Wait()
	})
	return "http://" + address
}

// until asks again until what comes is as it should be.
func until(t *testing.T, what string, ask func() bool) {
	t.Helper()
	for end := time.Now().Add(20 * time.Second); !ask(); {
		if time.Now().After(end) {
			t.Fatal(what + " did not come to be")
		}
		time.Sleep(50 * time.Millisecond) // the store reads on its own
	}
}

func opened(t *testing.T, access Access) *Store {
	t.Helper()
	s, err := New(access)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

// exposed is an instance that exposes what it counts.
type exposed struct {
	at    string
	asked *prometheus.CounterVec
	took  prometheus.Histogram
	grows prometheus.Histogram
	ends  func()
}

func expose(t *testing.T, version string) exposed {
	t.Helper()
	registry := prometheus.NewRegistry()
	own := prometheus.WrapRegistererWith(prometheus.Labels{"version": version}, registry)
	e := exposed{
		asked: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "http_requests_total", Help: "All."}, []string{"code"}),
		took:  prometheus.NewHistogram(prometheus.HistogramOpts{Name: "took_seconds", Help: "How long.", Buckets: []float64{0.1, 0.25, 1}}),
		grows: prometheus.NewHistogram(prometheus.HistogramOpts{Name: "grows_seconds", Help: "How long.", NativeHistogramBucketFactor: 1.1}),
	}
	failed := prometheus.NewCounterVec(prometheus.CounterOpts{Name: "failed_total", Help: "Of all."}, []string{"why"})
	own.MustRegister(e.asked, e.took, e.grows, failed)
	failed.WithLabelValues("tide")
	server := httptest.NewServer(promhttp.HandlerFor(registry, promhttp.HandlerOpts{}))
	t.Cleanup(server.Close)
	e.at, e.ends = strings.TrimPrefix(server.URL, "http://"), server.Close
	return e
}

var (
	byAddress = &signal.Mark{Label: "instance", Is: signal.ByAddress}
	byVersion = &signal.Mark{Label: "version", Is: signal.ByVersion}
	requests  = signal.Series{Metric: "http_requests_total"}
	failures  = signal.Source{Kind: signal.Ratio, Of: signal.Series{Metric: "http_requests_total", Where: map[string][]string{"code": {"5*"}}}, To: &requests}
)

func marked(s signal.Source, by *signal.Mark) signal.Source {
	s.Store, s.Cohort = "harbour", by
	return s
}

// TestReal reads from a real store what two instances count, told apart by their addresses and by their versions.
func TestReal(t *testing.T) {
	old, new := expose(t, "1.4.1"), expose(t, "1.4.2")
	s := opened(t, Access{URL: real(t, old.at, new.at)})
	const most = 5 * time.Second
	for source, by := range map[string]*signal.Mark{"address": byAddress, "version": byVersion} {
		whose := []One{{Name: "old", Names: []string{old.at}}, {Name: "new", Names: []string{new.at}}}
		if by == byVersion {
			whose = []One{{Name: "old", Names: []string{"1.4.1"}}, {Name: "new", Names: []string{"1.4.2"}}}
		}
		// read gives what a signal came to of both since the last time, once all of what was counted has been read.
		trackers := map[string]*signal.Tracker{}
		read := func(name string, source signal.Source, whole float64) map[string]signal.Tally {
			source = marked(source, by)
			if trackers[name] == nil {
				trackers[name] = &signal.Tracker{}
			}
			sums := map[string]signal.Tally{}
			until(t, fmt.Sprintf("%s: a whole of %v", name, whole), func() bool {
				shown, err := s.Read(t.Context(), source, whose, time.Now(), most)
				if err != nil {
					t.Log(err)
					return false
				}
				ready := true
				for _, one := range shown {
					tally, ok, why := trackers[name].Take(source, one.Of, one.Page, one.Time)
					if ok && why == "" {
						sums[one.Of] = sums[one.Of].Add(tally)
					} else if one.Unread != "" || why != "" {
						t.Log(one.Unread, why, one.Page)
						ready = false
					}
				}
				return ready && (whole == 0 || sums["old"].Whole >= whole && sums["new"].Whole >= whole)
			})
			return sums
		}
		signals := map[string]signal.Source{
			"errors": failures,
			"tides":  {Kind: signal.Per, Of: signal.Series{Metric: "failed_total", Where: map[string][]string{"why": {"storm"}}}, To: &requests}, // nothing of it ever happened
			"slow":   {Kind: signal.ShareAbove, Of: signal.Series{Metric: "took_seconds"}, Bound: 0.25},
			"grown":  {Kind: signal.ShareAbove, Of: signal.Series{Metric: "grows_seconds"}, Bound: 0.25},
		}
		for _, e := range []exposed{old, new} {
			e.asked.WithLabelValues("200").Inc()
			e.took.Observe(0.01)
			e.grows.Observe(0.01)
		}
		for name, source := range signals {
			read(name, source, 0)
		}
		for range 100 {
			for _, e := range []exposed{old, new} {
				e.took.Observe(0.2)
				e.grows.Observe(0.2)
			}
			old.asked.WithLabelValues("200").Inc()
			new.asked.WithLabelValues("200").Inc()
		}
		for range 25 {
			new.asked.WithLabelValues("503").Inc()
			old.asked.WithLabelValues("200").Inc()
			new.took.Observe(0.5)
			new.grows.Observe(0.5)
		}
		for name, source := range signals {
			whole, bad := 100.0, 25.0
			if name == "tides" {
				bad = 0
			}
			if name == "errors" || name == "tides" {
				whole = 125
			}
			sums := read(name, source, whole)
			if sums["old"].Part != 0 || sums["new"].Part != bad {
				t.Errorf("by %s, %s: %+v", source.Cohort, name, sums)
			}
		}
		_ = source
	}

	for _, test := range []struct {
		name   string
		source signal.Source
		of     One
		says   string
	}{
		{"a metric that is not there", marked(signal.Source{Kind: signal.Rate, Of: signal.Series{Metric: "bookings_total"}}, byVersion), One{Name: "new", Names: []string{"1.4.2"}}, "there is no bookings_total with version=1.4.2"},
		{"a version that is not there", marked(failures, byVersion), One{Name: "new", Names: []string{"9"}}, "there is no http_requests_total with version=9"},
		{"a label that is not there", marked(failures, &signal.Mark{Label: "berth", Is: signal.ByVersion}), One{Name: "new", Names: []string{"1.4.2"}}, "there is no http_requests_total with berth=1.4.2"},
		{"a query of nothing", signal.Source{Kind: signal.Query, Query: `sum(bookings{version="%version%"})`}, One{Name: "new", Fills: []string{"%version%", "1.4.2"}}, "the query finds nothing"},
		{"a query of many", signal.Source{Kind: signal.Query, Query: `http_requests_total`}, One{Name: "new"}, "the query finds 3 series, and one number is asked for"},
		{"a query of no number", signal.Source{Kind: signal.Query, Query: `vector(0)/vector(0)`}, One{Name: "new"}, "the query answers NaN"},
	} {
		shown, err := s.Read(t.Context(), test.source, []One{test.of}, time.Now(), most)
		if err != nil || len(shown) != 1 || !strings.Contains(shown[0].Unread, test.says) {
			t.Errorf("%s: %v, %v, want %q", test.name, shown, err, test.says)
		}
	}
	if _, err := s.Read(t.Context(), signal.Source{Kind: signal.Query, Query: `sum(`}, []One{{Name: "new"}}, time.Now(), most); err == nil || !strings.Contains(err.Error(), "it does not take the query") {
		t.Errorf("a broken query: %v", err)
	}
	sum := signal.Source{Kind: signal.Query, Query: `sum(http_requests_total{version="%version%"})`}
	if shown, err := s.Read(t.Context(), sum, []One{{Name: "new", Fills: []string{"%version%", "1.4.2"}}}, time.Now(), most); err != nil || shown[0].Page["answer"][0].Value < 125 {
		t.Errorf("a query: %v, %v", shown, err)
	}
	if _, err := s.Read(t.Context(), marked(failures, byVersion), []One{{Name: "old", Names: []string{"1"}}, {Name: "new", Names: []string{"1"}}}, time.Now(), most); err == nil || !strings.Contains(err.Error(), "tell them apart by another label") {
		t.Errorf("two of one version: %v", err)
	}

	new.ends() // what is not read any more is silent, and says since when
	until(t, "a late sample", func() bool {
		shown, err := s.Read(t.Context(), marked(failures, byVersion), []One{{Name: "new", Names: []string{"1.4.2"}}}, time.Now().Add(2*time.Minute), time.Second)
		return err == nil && len(shown) == 1 && (strings.Contains(shown[0].Unread, "old, and 1s is the most") || strings.Contains(shown[0].Unread, "there is no"))
	})
}

// TestAnswers goes through what may come instead of an answer.
func TestAnswers(t *testing.T) {
	stream := `{"metric":{"__name__":"http_requests_total","version":"1.4.2","code":"200"},"values":[[%d,"%s"]]}`
	matrix := func(streams ...string) string {
		return `{"status":"success","data":{"resultType":"matrix","result":[` + strings.Join(streams, ",") + `]}}`
	}
	now := time.Unix(1_790_000_000, 0)
	for _, test := range []struct {
		name   string
		answer http.HandlerFunc
		says   string
	}{
		{"nobody is let in", func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(401) }, "it takes other credentials"},
		{"somebody else is let in", func(w http.ResponseWriter, r *http.Request) {
			if user, password, _ := r.BasicAuth(); user != "aditus" || password != "tide" {
				t.Errorf("it came as %s", user)
			}
			w.WriteHeader(403)
		}, "it takes other credentials"},
		{"it moved", func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://elsewhere.skerry.example/", http.StatusFound)
		}, "write its new address into the settings"},
		{"a page", func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "<html>hello") }, "no metrics store"},
		{"no page", func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(404) }, "there is no query API"},
		{"an error", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(503)
			fmt.Fprint(w, `{"status":"error","errorType":"unavailable","error":"too \u001b[2J many"}`)
		}, "status 503: it has no room"},
		{"a part", func(w http.ResponseWriter, r *http.Request) {
			fmt.Fprint(w, `{"status":"success","warnings":["one of two shards is away"],"data":{"resultType":"matrix","result":[]}}`)
		}, "it answers in part only: one of two shards is away"},
		{"another kind", func(w http.ResponseWriter, r *http.Request) {
			fmt.Fprint(w, `{"status":"success","data":{"resultType":"vector","result":[]}}`)
		}, "it answers with a vector where series were asked for"},
		{"what nobody asked for", func(w http.ResponseWriter, r *http.Request) {
			fmt.Fprint(w, matrix(strings.Replace(fmt.Sprintf(stream, now.Unix(), "3"), "1.4.2", "1.3", 1)))
		}, "which nobody asked for"},
		{"of the year 3000", func(w http.ResponseWriter, r *http.Request) {
			fmt.Fprint(w, matrix(fmt.Sprintf(stream, 32503680000, "3")))
		}, "one of the clocks is wrong"},
		{"without a time", func(w http.ResponseWriter, r *http.Request) {
			fmt.Fprint(w, matrix(`{"metric":{"__name__":"http_requests_total","version":"1.4.2"}}`))
		}, "no time of their own"},
		{"too much", func(w http.ResponseWriter, r *http.Request) {
			fmt.Fprint(w, `{"status":"success","data":`)
			for range 20 {
				w.Write([]byte(strings.Repeat(" ", 1<<20)))
			}
			fmt.Fprint(w, `{"resultType":"matrix","result":[]}}`)
		}, "larger than 16 MB"},
		{"nothing for a while", func(w http.ResponseWriter, r *http.Request) {
			io.Copy(io.Discard, r.Body) // so that it is seen when nobody waits any more
			<-r.Context().Done()
		}, "no answer within 3s"},
	} {
		t.Run(test.name, func(t *testing.T) {
			t.Parallel()
			server := httptest.NewServer(test.answer)
			t.Cleanup(server.Close)
			s := opened(t, Access{URL: server.URL, User: "aditus", Password: "tide"})
			_, err := s.Read(context.Background(), marked(failures, byVersion), []One{{Name: "new", Names: []string{"1.4.2"}}}, now, 30*time.Second)
			if err == nil || !strings.Contains(err.Error(), test.says) || strings.Contains(err.Error(), "127.0.0.1") || strings.Contains(err.Error(), "tide") || strings.Contains(err.Error(), "\x1b") {
				t.Errorf("%v, want %q", err, test.says)
			}
		})
	}
	reads := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { // nothing but GET
		if r.Method != http.MethodGet {
			w.WriteHeader(405)
			return
		}
		fmt.Fprint(w, matrix(fmt.Sprintf(stream, now.Unix(), "3")))
	}))
	defer reads.Close()
	if shown, err := opened(t, Access{URL: reads.URL}).Read(t.Context(), marked(failures, byVersion), []One{{Name: "new", Names: []string{"1.4.2"}}}, now, time.Second); err != nil || len(shown) != 1 || shown[0].Page["http_requests_total"][0].Value != 3 {
		t.Errorf("by GET alone: %+v, %v", shown, err)
	}
	if shown, err := opened(t, Access{URL: reads.URL}).Read(t.Context(), marked(failures, byVersion), []One{{Name: "new", Names: []string{"1.4.2"}}}, now.Add(time.Minute), 30*time.Second); err != nil || !strings.Contains(shown[0].Unread, "is 1 min old, and 30 s is the most") {
		t.Errorf("late, whatever was asked for: %+v, %v", shown, err)
	}
	s := opened(t, Access{URL: "http://" + porttest.Free(t)})
	if _, err := s.Read(t.Context(), marked(failures, byVersion), []One{{Name: "new", Names: []string{"1.4.2"}}}, now, time.Second); err == nil || err.Error() != "connection refused" {
		t.Errorf("nobody there: %v", err)
	}
	if _, err := New(Access{URL: "http://a", CA: filepath.Join(t.TempDir(), "none")}); err == nil {
		t.Error("a file of certificates that is not there was taken")
	}
}

// TestSelector tells that whatever stands in a declaration or a version comes through as what it is.
func TestSelector(t *testing.T) {
	series := signal.Series{Metric: `boarding.queue`, Where: map[string][]string{"code": {"5*", `a"b`}, "a.b": {"x|y"}}, Except: map[string][]string{"path": {"/ready*"}}}
	for _, histogram := range []bool{false, true} {
		text := selector(series, histogram, "version", []string{`1.4"} or up{a="`, "2+3"})
		if _, err := labels.NewMatcher(labels.MatchRegexp, "version", "x"); err != nil {
			t.Fatal(err)
		}
		matchers, err := parser.NewParser(parser.Options{}).ParseMetricSelector(text)
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		for _, test := range []struct {
			label, value string
			taken        bool
		}{
			{"version", `1.4"} or up{a="`, true}, {"version", "2+3", true}, {"version", "23", false}, {"version", "223", false},
			{"code", "503", true}, {"code", "403", false}, {"code", `a"b`, true}, {"a.b", "x|y", true}, {"a.b", "x", false}, {"path", "/ready/now", false}, {"path", "/book", true},
			{"__name__", "boarding.queue", true}, {"__name__", "boarding.queue_bucket", histogram}, {"__name__", "boarding_queue", false},
		} {
			for _, m := range matchers {
				if m.Name == test.label && m.Matches(test.value) != test.taken {
					t.Errorf("%s: %s=%q taken: %v", text, test.label, test.value, !test.taken)
				}
			}
		}
	}
}

// TestPage reads a page that tells of many instances, and what may come instead of one.
func TestPage(t *testing.T) {
	now := time.Now()
	var asked int
	text := `# TYPE http_requests_total counter
http_requests_total{pod="gate-1",code="200"} 90
http_requests_total{pod="gate-1",code="503"} 10
http_requests_total{pod="gate-2",code="200"} 100
http_requests_total{pod="other",code="200"} 1e6
# TYPE took_seconds histogram
took_seconds_bucket{pod="gate-1",le="0.25"} 7
took_seconds_bucket{pod="gate-1",le="+Inf"} 9
took_seconds_count{pod="gate-1"} 9
took_seconds_sum{pod="gate-1"} 2
`
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch asked++; r.URL.Path {
		case "/metrics":
			fmt.Fprint(w, text)
		case "/late":
			fmt.Fprintf(w, "queue{pod=\"gate-1\"} 3 %d\n", now.Add(-time.Hour).UnixMilli())
		case "/odd":
			fmt.Fprint(w, "<html>")
		default:
			w.WriteHeader(404)
		}
	}))
	defer server.Close()
	byPod := &signal.Mark{Label: "pod", Is: signal.ByInstance}
	whose := []One{{Name: "old", Names: []string{"gate-1"}}, {Name: "new", Names: []string{"gate-2"}}, {Name: "gone", Names: []string{"gate-3"}}}
	open := func(path string) *Page {
		p, err := NewPage(Access{URL: server.URL + path})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(p.Close)
		return p
	}
	p := open("/metrics")
	shown, err := p.Read(t.Context(), marked(failures, byPod), whose, now, time.Minute)
	if err != nil || len(shown) != 3 || len(shown[0].Page["http_requests_total"]) != 2 || len(shown[1].Page["http_requests_total"]) != 1 || shown[2].Unread != "there is no http_requests_total with pod=gate-3" {
		t.Errorf("%+v, %v", shown, err)
	}
	slow := marked(signal.Source{Kind: signal.ShareAbove, Of: signal.Series{Metric: "took_seconds"}, Bound: 0.25}, byPod)
	if shown, err := p.Read(t.Context(), slow, whose, now, time.Minute); err != nil || len(shown[0].Page["took_seconds_bucket"]) != 2 || shown[1].Unread == "" || asked != 1 {
		t.Errorf("%+v, %v; asked %d times", shown, err, asked)
	}
	if shown, err := p.Read(t.Context(), slow, whose, now.Add(time.Second), time.Minute); err != nil || asked == 1 && !shown[0].Time.Equal(now) {
		t.Errorf("a page that was fetched before is told as new: %+v, %v", shown, err)
	}
	for path, want := range map[string]string{"/late": "it was measured at", "/odd": "no metrics", "/none": "status 404"} {
		queue := marked(signal.Source{Kind: signal.Gauge, Of: signal.Series{Metric: "queue"}}, byPod)
		shown, err := open(path).Read(t.Context(), queue, whose[:1], now, time.Minute)
		said := fmt.Sprint(err)
		if err == nil {
			_, said = queue.Read(shown[0].Page)
		}
		if !strings.Contains(said, want) {
			t.Errorf("%s: %+v, %s, want %q", path, shown, said, want)
		}
	}
}
