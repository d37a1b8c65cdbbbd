package scrape

import (
	"fmt"
	"net/http/httptest"
	"net/url"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/guard/panel"
	"aditus/internal/core/rollout"
	"aditus/internal/core/signal"
	"aditus/internal/source"
)

// gate is a service that exposes what it does with the usual client of Go and its default collectors.
type gate struct {
	port                                    int
	asked, bookings, offers, queries, bytes *prometheus.CounterVec
	took                                    prometheus.Histogram
	grown                                   prometheus.Histogram
	queue, used, size, memory               prometheus.Gauge
}

func newGate(t *testing.T) *gate {
	t.Helper()
	counter := func(name string, labels ...string) *prometheus.CounterVec {
		return prometheus.NewCounterVec(prometheus.CounterOpts{Name: name, Help: name}, labels)
	}
	gauge := func(name string) prometheus.Gauge {
		return prometheus.NewGauge(prometheus.GaugeOpts{Name: name, Help: name})
	}
	g := &gate{
		asked: counter("http_requests_total", "code", "path"), bookings: counter("bookings_total"), offers: counter("offers_total"), queries: counter("db_queries_total"), bytes: counter("sent_bytes_total"),
		took:  prometheus.NewHistogram(prometheus.HistogramOpts{Name: "took_seconds", Help: "How long.", Buckets: []float64{0.05, 0.1, 0.25, 0.3, 0.5, 1.2, 2.5}}),
		grown: prometheus.NewHistogram(prometheus.HistogramOpts{Name: "grown_seconds", Help: "How long.", NativeHistogramBucketFactor: 1.1}),
		queue: gauge("queue_length"), used: gauge("pool_used"), size: gauge("pool_size"), memory: gauge("cache_bytes"),
	}
	registry := prometheus.NewRegistry()
	registry.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}), g.asked, g.bookings, g.offers, g.queries, g.bytes, g.took, g.grown, g.queue, g.used, g.size, g.memory)
	g.size.Set(100)
	g.bookings.WithLabelValues() // there from the start: what is not there is not nought
	g.memory.Set(200e6)
	server := httptest.NewServer(promhttp.HandlerFor(registry, promhttp.HandlerOpts{}))
	t.Cleanup(server.Close)
	at, err := url.Parse(server.URL)
	if err != nil {
		t.Fatal(err)
	}
	g.port, _ = strconv.Atoi(at.Port())
	return g
}

// serves is an interval of ordinary work.
func (g *gate) serves() {
	for i := range 200 {
		path, code := "/", "200"
		if i%20 == 0 {
			path = "/book"
		}
		if i%100 == 99 {
			code = "503"
		}
		g.answers(code, path, []float64{0.02, 0.02, 0.08, 0.2}[i%4])
	}
	g.bookings.WithLabelValues().Add(20)
	g.offers.WithLabelValues().Add(60)
	g.queries.WithLabelValues().Add(400)
	g.bytes.WithLabelValues().Add(200 * 10e3)
	g.queue.Set(12)
	g.used.Set(40)
}

func (g *gate) answers(code, path string, seconds float64) {
	g.asked.WithLabelValues(code, path).Inc()
	g.took.Observe(seconds)
	g.grown.Observe(seconds)
}

// again does something so many times.
func again(times int, do func()) {
	for range times {
		do()
	}
}

// realGuards are guards as people write them, each with what makes it breach.
var realGuards = []struct {
	signal, limit string
	bad           func(g *gate, interval int)
}{
	{`ratio: {of: {counter: http_requests_total, where: {code: "5*"}}, to: {counter: http_requests_total}}`, "above-old-by: 1 points", func(g *gate, _ int) { again(20, func() { g.answers("500", "/", 0.02) }) }},
	{`ratio: {of: {counter: http_requests_total, where: {code: "5*"}, except: {path: ["/int*"]}}, to: {counter: http_requests_total, except: {path: ["/int*"]}}}`, "at-most: 4 %", func(g *gate, _ int) { again(20, func() { g.answers("500", "/", 0.02) }) }},
	{`each: path, ratio: {of: {counter: http_requests_total, where: {code: "5*"}}, to: {counter: http_requests_total}}`, "above-old-by: 10 points", func(g *gate, _ int) { again(8, func() { g.answers("500", "/book", 0.02) }) }},
	{`share-above: {histogram: took_seconds, bound: 250ms}`, "at-most: 5 %", func(g *gate, _ int) { again(30, func() { g.answers("200", "/", 0.4) }) }},
	{`share-above: {histogram: grown_seconds, bound: 250ms}`, "at-most: 5 %", func(g *gate, _ int) { again(30, func() { g.answers("200", "/", 0.4) }) }},
	{`quantile: {histogram: took_seconds, at: 90 %}`, "above-old-by: 50 % of old", func(g *gate, _ int) { again(60, func() { g.answers("200", "/", 0.9) }) }},
	{`mean: {histogram: took_seconds}`, "above-old-by: 40ms", func(g *gate, _ int) { again(40, func() { g.answers("200", "/", 0.9) }) }},
	{`apdex: {histogram: took_seconds, bound: 300ms}`, "at-least: 0.9", func(g *gate, _ int) { again(80, func() { g.answers("200", "/", 2) }) }},
	{`weighted: {histogram: took_seconds, weights: {100ms: 1, 500ms: 0.8, 2500ms: 0.1}}`, "below-old-by: 3 points", func(g *gate, _ int) { again(40, func() { g.answers("200", "/", 2) }) }},
	{`ratio: {of: {counter: bookings_total}, to: {counter: offers_total}}`, "below-old-by: 10 % of old", func(g *gate, _ int) { g.offers.WithLabelValues().Add(60) }},
	{`rate: {counter: bookings_total}`, "at-least: 1.5", nil},
	{`rate: {counter: bookings_total}`, "below-past-by: 30 % of past", nil},
	{`per: {of: {counter: db_queries_total}, to: {counter: http_requests_total}}`, "above-old-by: 10 %", func(g *gate, _ int) { g.queries.WithLabelValues().Add(200) }},
	{`per: {of: {counter: sent_bytes_total}, to: {counter: http_requests_total}}`, "at-most: 20 kB", func(g *gate, _ int) { g.bytes.WithLabelValues().Add(200 * 30e3) }},
	{`gauge: {metric: pool_used, over: pool_size}`, "at-most: 80 %", func(g *gate, _ int) { g.used.Set(95) }},
	{`gauge: {metric: queue_length, take: max}`, "at-most: 50", func(g *gate, _ int) { g.queue.Set(70) }},
	{`slope: {metric: cache_bytes, over: 2m}`, "at-most: 200 MB", func(g *gate, i int) { g.memory.Set(200e6 + float64(i)*1e6) }},
	{`burn: {of: {counter: http_requests_total, where: {code: "5*"}}, to: {counter: http_requests_total}, objective: 98 %, over: [4m, 1m]}`, "at-most: 3", func(g *gate, _ int) { again(40, func() { g.answers("500", "/", 0.02) }) }},
	{`gauge: {metric: go_goroutines}`, "at-most: 100000", nil}, // of the default collector
}

// TestGuardsOnRealPages has two instances that expose with a real client, and each guard breach by what is bad for it, and by nothing else.
func TestGuardsOnRealPages(t *testing.T) {
	scraper := New()
	defer scraper.Close()
	const every = 10 * time.Second
	start := time.Date(2026, 3, 12, 9, 0, 0, 0, time.UTC)
	past := []signal.Point{}
	for day := 1; day <= 14; day++ { // two bookings a second
		past = append(past, signal.Point{At: start.AddDate(0, 0, -day), Value: 2, Tally: signal.Tally{Part: 600, Whole: 300, Instances: 1}})
	}
	var rules []guard.Rule
	for i, g := range realGuards {
		text := fmt.Sprintf("name: guard %d\nsignal: {%s}\nlimit: {%s}\n", i, g.signal, g.limit)
		if !strings.HasPrefix(g.signal, "each") && !strings.HasPrefix(g.signal, "share-above") && !strings.HasPrefix(g.signal, "ratio: {of: {counter: http") { // these are decided sequentially
			text += "breach: {intervals: 2, of: 4, samples: 1}\n"
		}
		node, err := source.ReadYAML("guard", []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		rule, problems := declare.ReadGuard(node)
		if len(problems) > 0 {
			t.Fatalf("%s: %v", g.signal, problems)
		}
		rules = append(rules, rule)
	}
	// play gives the verdicts of some guards after a stage in which new may do what is bad.
	play := func(rules []guard.Rule, bad func(*gate, int)) map[string]guard.Verdict {
		old, new := newGate(t), newGate(t)
		rolls := declare.Rollout{Risk: 0.01, Interval: declare.Span{Duration: every}, Stages: []declare.Stage{{Share: 0.5}, {Share: 1}}}
		side := func(name declare.Fingerprint) rollout.Side {
			return rollout.Side{Revision: name, Parts: map[string]int{"gate": 1}}
		}
		about := panel.Subject{
			Rules: &declare.Desired{Rollout: rolls, Guards: rules}, Past: map[string][]signal.Point{},
			Roll: &rollout.State{ID: 1, Phase: rollout.Soaking, Began: start.Add(-time.Minute), Shared: start, Rules: rolls, Old: side("old"), New: side("new")},
		}
		for _, rule := range rules {
			about.Past[rule.Name] = past
		}
		var judges panel.Panel
		verdicts := map[string]guard.Verdict{}
		for i := range 45 {
			now := start.Add(time.Duration(i) * every)
			old.serves()
			switch {
			case bad != nil:
				new.serves()
				bad(new, i)
			case len(rules) > 1:
				new.serves()
			default: // nothing happens there
				new.answers("200", "/", 0.02)
			}
			var scrapes []panel.Scrape
			for name, g := range map[string]*gate{"old": old, "new": new} {
				page, err := scraper.Fetch(t.Context(), "127.0.0.1", map[string]int{"http": g.port}, declare.Metrics{Endpoint: declare.Endpoint{Port: "http", Path: "/"}}, nil, time.Time{})
				if err != nil {
					t.Fatal(err)
				}
				scrapes = append(scrapes, panel.Scrape{Instance: name, Part: "gate", Revision: declare.Fingerprint(name), Page: page})
			}
			judges.Evaluate(about, scrapes, func(string) bool { return true }, now)
			for _, v := range judges.Judge(about, true, now).Verdicts {
				if verdicts[v.Guard].Word != guard.Breach {
					verdicts[v.Guard] = v
				}
			}
		}
		return verdicts
	}
	for name, v := range play(rules, nil) {
		if v.Word != guard.Clear {
			t.Errorf("%s of a good version: %s, %s: %+v", name, v.Word, v.Why, v)
		}
	}
	for i, rule := range rules {
		if rule.Signal.Of.Metric == "go_goroutines" {
			continue
		}
		if v := play([]guard.Rule{rule}, realGuards[i].bad)[rule.Name]; v.Word != guard.Breach {
			t.Errorf("%s, %s, of a bad version: %s, %s: %+v", realGuards[i].signal, realGuards[i].limit, v.Word, v.Why, v)
		}
	}
}
