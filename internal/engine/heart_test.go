package engine

import (
	"bufio"
	"fmt"
	"math"
	"net/http"
	"net/http/httptest"
	"net/url"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/guard/panel"
	"aditus/internal/core/health"
	"aditus/internal/core/rollout"
	"aditus/internal/core/signal"
	"aditus/internal/scrape"
	"aditus/internal/status"
)

// metricsPage is OpenMetrics text as an instance of a web service exposes it, after so many scrapes.
func metricsPage(n int) string {
	var text strings.Builder
	text.WriteString("# TYPE http_requests counter\n")
	for i := range 8 {
		fmt.Fprintf(&text, "http_requests_total{code=\"200\",path=\"/v1/%d\"} %d\nhttp_requests_total{code=\"500\",path=\"/v1/%d\"} %d\n", i, 120*n+i, i, n)
	}
	text.WriteString("# TYPE http_request_duration_seconds histogram\n")
	for i, le := range []string{"0.025", "0.05", "0.1", "0.25", "0.5", "1", "2.5", "+Inf"} {
		fmt.Fprintf(&text, "http_request_duration_seconds_bucket{le=%q} %d\n", le, (i+1)*n*15)
	}
	fmt.Fprintf(&text, "http_request_duration_seconds_sum %d\nhttp_request_duration_seconds_count %d\n# TYPE process_resident_memory_bytes gauge\nprocess_resident_memory_bytes 2.1e8\n# EOF\n", n, 120*n)
	return text.String()
}

// trying is one rollout with all that the core keeps of it.
type trying struct {
	state     rollout.State
	trackers  []signal.Tracker
	processes []*guard.Process
	health    map[string]health.Track
}

// BenchmarkThousandRollouts is one second of 1000 rollouts with 10 instances each, all evaluated: health of every
// instance, three signals of every instance, verdicts, and a step of the state machine. Fetching the pages and parsing
// them is not in it; BenchmarkIngest has the parsing.
func BenchmarkThousandRollouts(b *testing.B) {
	const rollouts, instances = 1000, 10
	above, most := 0.01, 0.05
	every := time.Second
	code := signal.Series{Metric: "http_requests_total"}
	bad := code
	bad.Where = map[string][]string{"code": {"5*"}}
	rules := []guard.Rule{
		{Name: "errors", Signal: signal.Source{Kind: signal.Ratio, Of: bad, To: &code}, Limit: guard.Limit{Kind: guard.AboveOld, Value: above, Unit: guard.Share}, Way: guard.Sequential, Then: guard.RollBack},
		{Name: "slow", Signal: signal.Source{Kind: signal.ShareAbove, Of: signal.Series{Metric: "http_request_duration_seconds"}, Bound: 0.25}, Limit: guard.Limit{Kind: guard.AtMost, Value: most, Unit: guard.Share}, Way: guard.Sequential, Then: guard.Tell},
	}
	span := func(d time.Duration) declare.Span { return declare.Span{Duration: d} }
	declared := declare.Rollout{Style: declare.Canary, Stages: []declare.Stage{{Share: 0.2, Soak: span(time.Hour)}, {Share: 1}}, Deadline: span(time.Minute), Proving: span(time.Hour), Interval: span(every)}
	pages := make([]signal.Page, 64)
	for n := range pages {
		var err error
		if pages[n], err = scrape.ReadMetrics(strings.NewReader(metricsPage(n + 1))); err != nil {
			b.Fatal(err)
		}
	}
	now := time.Unix(1773300000, 0)
	old, new := rollout.Side{Revision: "old", Parts: map[string]int{"web": 8}, Proven: true}, rollout.Side{Revision: "new", Parts: map[string]int{"web": 8}}
	all := make([]*trying, rollouts)
	for i := range all {
		t := &trying{state: rollout.Begin(old, new, declared, rollout.Automatic, "", time.Time{}, now), trackers: make([]signal.Tracker, len(rules)), health: map[string]health.Track{}}
		t.state.Phase, t.state.Shared, t.state.Seen = rollout.Soaking, now, now
		for _, rule := range rules {
			t.processes = append(t.processes, guard.NewProcess(rule, 0.01, every))
		}
		all[i] = t
	}
	names := make([]string, instances)
	for i := range names {
		names[i] = fmt.Sprintf("web-%d", i)
	}
	thresholds := []health.Thresholds{{Every: every, Timeout: every, Passes: 1, Fails: 3}}
	seen := rollout.Observation{Reached: true, Fresh: true, Splits: true, Share: 0.2,
		Old: rollout.Cohort{Laid: true, Parts: map[string]int{"web": 8}, Healthy: map[string]int{"web": 8}, Ready: map[string]int{"web": 8}},
		New: rollout.Cohort{Laid: true, Parts: map[string]int{"web": 2}, Healthy: map[string]int{"web": 2}, Ready: map[string]int{"web": 2}}}
	second := 0
	evaluate := func(t *trying) {
		for _, name := range names {
			t.health[name] = t.health[name].Observe(health.Outcome{At: now, Passed: true}, thresholds[0])
			health.JudgeInstance([]health.Track{t.health[name]}, thresholds, now, nil, time.Time{}, now)
		}
		seen.Verdicts = seen.Verdicts[:0]
		for k, rule := range rules {
			var sides [2]signal.Tally
			for i, name := range names {
				side := 0
				if i >= 8 {
					side = 1
				}
				if tally, ok, _ := t.trackers[k].Take(rule.Signal, name, pages[second%len(pages)], now); ok {
					sides[side] = sides[side].Add(tally)
				}
			}
			interval := guard.Interval{At: now}
			for side, into := range []**signal.Point{&interval.Old, &interval.New} {
				if value, ok := rule.Signal.Value(sides[side]); ok {
					*into = &signal.Point{At: now, Value: value, Tally: sides[side]}
				}
			}
			t.processes[k].Begin(0, now)
			t.processes[k].Add(interval)
			seen.Verdicts = append(seen.Verdicts, t.processes[k].Verdict(now))
		}
		t.state = rollout.Step(t.state, seen, nil, now).State
	}
	b.ReportAllocs()
	for b.Loop() {
		now, second = now.Add(every), second+1
		for _, t := range all {
			evaluate(t)
		}
	}
	var memory runtime.MemStats
	runtime.ReadMemStats(&memory)
	b.ReportMetric(b.Elapsed().Seconds()/float64(b.N)*100, "%-of-a-core")
	b.ReportMetric(float64(memory.HeapSys)/1e6, "MB")
	runtime.KeepAlive(all)
}

// BenchmarkIngest parses metrics pages and takes two signals from them.
func BenchmarkIngest(b *testing.B) {
	text := metricsPage(1000)
	samples := 0
	source := signal.Source{Kind: signal.ShareAbove, Of: signal.Series{Metric: "http_request_duration_seconds"}, Bound: 0.25}
	var tracker signal.Tracker
	now := time.Unix(1773300000, 0)
	for b.Loop() {
		page, err := scrape.ReadMetrics(strings.NewReader(text))
		if err != nil {
			b.Fatal(err)
		}
		for _, s := range page {
			samples += len(s)
		}
		now = now.Add(time.Second)
		tracker.Take(source, "web-1", page, now)
	}
	b.ReportMetric(float64(samples)/b.Elapsed().Minutes(), "samples/min")
}

// BenchmarkSeries is an evaluation of an instance that exposes 10,000 series: its page is fetched and read, and two guards, one of which judges each
// route by itself too, take from it what they need and keep it.
func BenchmarkSeries(b *testing.B) {
	const routes, codes, every = 1000, 8, 5 * time.Second // 8,000 counters, and 100 histograms of 20 series
	asked := 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked++
		out := bufio.NewWriter(w)
		defer out.Flush()
		fmt.Fprintln(out, "# TYPE http_requests_total counter")
		for route := range routes {
			for code := range codes {
				fmt.Fprintf(out, "http_requests_total{path=\"/v1/route/%d\",code=\"%d\",method=\"GET\"} %d\n", route, 200+100*(code%4)+code/4, asked*(1000-route))
			}
		}
		fmt.Fprintln(out, "# TYPE took_seconds histogram")
		for route := range routes / 10 {
			for bucket := range 18 {
				fmt.Fprintf(out, "took_seconds_bucket{path=\"/v1/route/%d\",le=\"%g\"} %d\n", route, 0.001*math.Exp2(float64(bucket)), asked*10*(bucket+1))
			}
			fmt.Fprintf(out, "took_seconds_bucket{path=\"/v1/route/%d\",le=\"+Inf\"} %d\ntook_seconds_sum{path=\"/v1/route/%d\"} %d\ntook_seconds_count{path=\"/v1/route/%d\"} %d\n", route, asked*200, route, asked*3, route, asked*200)
		}
	}))
	defer server.Close()
	at, err := url.Parse(server.URL)
	if err != nil {
		b.Fatal(err)
	}
	port, _ := strconv.Atoi(at.Port())
	all := signal.Series{Metric: "http_requests_total"}
	bad := signal.Series{Metric: "http_requests_total", Where: map[string][]string{"code": {"5*"}}}
	rules := declare.Rollout{Style: declare.Canary, Stages: []declare.Stage{{Share: 1}}, Interval: declare.Span{Duration: every}, Risk: 0.01}
	about := panel.Subject{Applied: "new", Rules: &declare.Desired{Rollout: rules, Guards: []guard.Rule{
		{Name: "errors", Signal: signal.Source{Kind: signal.Ratio, Each: "path", Of: bad, To: &all}, Limit: guard.Limit{Kind: guard.AtMost, Value: 0.9, Unit: guard.Share}, Way: guard.Sequential, Then: guard.RollBack, Standing: guard.Tell},
		{Name: "slow", Signal: signal.Source{Kind: signal.ShareAbove, Of: signal.Series{Metric: "took_seconds"}, Bound: 0.25}, Limit: guard.Limit{Kind: guard.AtMost, Value: 0.9, Unit: guard.Share}, Way: guard.Sequential, Then: guard.Tell, Standing: guard.Tell},
	}}}
	scraper, now := scrape.New(), time.Unix(1773300000, 0)
	defer scraper.Close()
	var judges panel.Panel
	series := 0
	for b.Loop() {
		page, err := scraper.Fetch(b.Context(), at.Hostname(), map[string]int{"http": port}, declare.Metrics{Endpoint: declare.Endpoint{Port: "http", Path: "/metrics"}}, nil, now)
		if err != nil {
			b.Fatal(err)
		}
		series = 0
		for _, samples := range page {
			series += len(samples)
		}
		now = now.Add(every)
		judges.Evaluate(about, []panel.Scrape{{Instance: "web-1", Part: "web", Revision: "new", Page: page}}, func(string) bool { return true }, now)
		judges.Judge(about, true, now)
	}
	if series < 10_000 {
		b.Fatalf("%d series", series)
	}
	b.ReportMetric(100*b.Elapsed().Seconds()/float64(b.N)/every.Seconds(), "%-of-a-core")
}

// TestUnrecorded sees that an order whose record fails is answered with that, and has changed nothing.
func TestUnrecorded(t *testing.T) {
	r := settled(t)
	r.book.Close()
	err := r.do(berth.Order{Verb: berth.LockIt, Berth: berth.ID{Workload: "web", Site: "drydock"}, By: "Maren Oake", Note: "the regatta"})
	if err == nil || !strings.Contains(err.Error(), "record in the ledger") {
		t.Errorf("an order that could not be recorded: %v", err)
	}
	if b := berthAt(r.engine.Snapshot(), "drydock"); b.Lock != nil {
		t.Errorf("it is locked: %v", b.Lock)
	}
}

// TestBackUnrecorded has a person turn a rollout back while nothing can be recorded: its traffic leaves, and the answer
// says how things are.
func TestBackUnrecorded(t *testing.T) {
	r := settled(t)
	r.push("2")
	r.until("version 2 has traffic", func(s status.Snapshot) bool { return r.share("drydock", "2") > 0 })
	r.book.Close()
	err := r.order(berth.RollBack, "drydock")
	if err == nil || !strings.Contains(err.Error(), "it is carried out, and is not on record yet") {
		t.Errorf("it is answered: %v", err)
	}
	r.until("its traffic has left", func(status.Snapshot) bool { return r.share("drydock", "2") == 0 })
	if err := r.order(berth.Advance, "drydock"); err == nil || strings.Contains(err.Error(), "carried out") {
		t.Errorf("an order that is not possible: %v", err)
	}
}
