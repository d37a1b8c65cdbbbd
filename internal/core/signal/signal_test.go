package signal

import (
	"math"
	"strings"
	"testing"
	"time"
)

func histogram(le01, le1, inf, sum float64) Page {
	bucket := func(le string, v float64) Sample { return NewSample(map[string]string{"le": le, "path": "/"}, v) }
	path := map[string]string{"path": "/"}
	return Page{
		"h_bucket": {bucket("0.1", le01), bucket("1", le1), bucket("+Inf", inf)},
		"h_count":  {NewSample(path, inf)}, "h_sum": {NewSample(path, sum)},
	}
}

func counters(ok, failed float64) Page {
	return Page{"r_total": {NewSample(map[string]string{"code": "200"}, ok), NewSample(map[string]string{"code": "503"}, failed)}}
}

func TestTracker(t *testing.T) {
	errors := Source{Kind: Ratio, Of: Series{Metric: "r_total", Where: map[string][]string{"code": {"4*", "503"}}}, To: &Series{Metric: "r_total"}}
	tests := []struct {
		name     string
		source   Source
		pages    []Page // of one instance, ten seconds apart
		want     float64
		whole    float64
		judgable bool
	}{
		{"ratio", errors, []Page{counters(100, 10), counters(190, 20)}, 0.1, 100, true},
		{"ratio over a reset: all of the new value came since", errors, []Page{counters(1000, 500), counters(18, 2)}, 0.1, 20, true},
		{"a first scrape tells nothing", errors, []Page{counters(1000, 500)}, 0, 0, false},
		{"no requests, no ratio", errors, []Page{counters(5, 5), counters(5, 5)}, 0, 0, false},
		{"a page without the counter", errors, []Page{counters(5, 5), {"else": {{Value: 1}}}}, 0, 0, false},
		{"share above a bound", Source{Kind: ShareAbove, Of: Series{Metric: "h"}, Bound: 0.1}, []Page{histogram(0, 0, 0, 0), histogram(80, 95, 100, 9)}, 0.2, 100, true},
		{"a bound between buckets counts as the larger one", Source{Kind: ShareAbove, Of: Series{Metric: "h"}, Bound: 0.5}, []Page{histogram(0, 0, 0, 0), histogram(80, 95, 100, 9)}, 0.05, 100, true},
		{"median", Source{Kind: Quantile, Of: Series{Metric: "h"}, Quantile: 0.5}, []Page{histogram(0, 0, 0, 0), histogram(100, 100, 100, 0)}, 0.05, 100, true},
		{"quantile within a bucket", Source{Kind: Quantile, Of: Series{Metric: "h"}, Quantile: 0.9}, []Page{histogram(0, 0, 0, 0), histogram(80, 100, 100, 0)}, 0.55, 100, true},
		{"quantile beyond the last bound", Source{Kind: Quantile, Of: Series{Metric: "h"}, Quantile: 0.99}, []Page{histogram(0, 0, 0, 0), histogram(10, 20, 100, 0)}, 1, 100, true},
		{"mean", Source{Kind: Mean, Of: Series{Metric: "h"}}, []Page{histogram(5, 5, 5, 2), histogram(5, 5, 15, 7)}, 0.5, 10, true},
		{"rate", Source{Kind: Rate, Of: Series{Metric: "r_total"}}, []Page{counters(100, 0), counters(150, 0)}, 5, 10, true},
		{"all but some", Source{Kind: Rate, Of: Series{Metric: "r_total", Except: map[string][]string{"code": {"5*"}}}}, []Page{counters(100, 7), counters(150, 90)}, 5, 10, true},
		{"one counter for each of another", Source{Kind: Per, Of: Series{Metric: "r_total", Where: map[string][]string{"code": {"200"}}}, To: &Series{Metric: "r_total", Except: map[string][]string{"code": {"200"}}}}, []Page{counters(100, 10), counters(400, 20)}, 30, 10, true},
		{"none of what it is for", Source{Kind: Per, Of: Series{Metric: "r_total"}, To: &Series{Metric: "r_total", Where: map[string][]string{"code": {"503"}}}}, []Page{counters(100, 10), counters(400, 10)}, 0, 0, false},
		{"one gauge over another", Source{Kind: GaugeShare, Of: Series{Metric: "m"}, To: &Series{Metric: "n"}}, []Page{{"m": {{Value: 3}, {Labels: map[string]string{"a": "b"}, Value: 4}}, "n": {{Value: 20}}}}, 0.35, 1, true},
		{"a gauge over nothing", Source{Kind: GaugeShare, Of: Series{Metric: "m"}, To: &Series{Metric: "n"}}, []Page{{"m": {{Value: 3}}, "n": {{Value: 0}}}}, 0, 0, false},
		{"weights", Source{Kind: Weighted, Of: Series{Metric: "h"}, Weights: []Weight{{0.1, 1}, {0.25, 0.5}}}, []Page{histogram(0, 0, 0, 0), histogram(80, 90, 100, 9)}, 0.85, 100, true},
		{"Apdex", Source{Kind: Apdex, Of: Series{Metric: "h"}, Bound: 0.1}, []Page{histogram(0, 0, 0, 0), histogram(80, 90, 100, 9)}, 0.85, 100, true},
		{"a metric that cannot be read", Source{Kind: Gauge, Of: Series{Metric: "m"}}, []Page{{"m": {{Unread: "m cannot be read"}}}}, 0, 0, false},
		{"gauge, from the first scrape on", Source{Kind: Gauge, Of: Series{Metric: "m"}}, []Page{{"m": {{Value: 7}}}}, 7, 1, true},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			var tracker Tracker
			var tally Tally
			ok := false
			at := time.Unix(1000, 0)
			for _, page := range test.pages {
				tally, ok, _ = tracker.Take(test.source, "one", page, at)
				at = at.Add(10 * time.Second)
			}
			value, judged := test.source.Value(tally)
			if judged = judged && ok; judged != test.judgable {
				t.Fatalf("there is a value: %v, want %v (%+v)", judged, test.judgable, tally)
			}
			if judged && (math.Abs(value-test.want) > 1e-9 || tally.Whole != test.whole) {
				t.Errorf("got %v of %v, want %v of %v", value, tally.Whole, test.want, test.whole)
			}
			if beyond := strings.Contains(test.name, "beyond the last"); test.source.Beyond(tally) != beyond {
				t.Errorf("it lies beyond the last bucket: %v, want %v (%+v)", !beyond, beyond, tally)
			}
		})
	}
}

func TestTalliesAddUp(t *testing.T) {
	source := Source{Kind: Quantile, Of: Series{Metric: "h"}, Quantile: 0.5}
	a, _ := source.Read(histogram(10, 10, 10, 0))
	b, _ := source.Read(histogram(0, 30, 30, 0))
	none, _ := source.Read(histogram(0, 0, 0, 0))
	sum := source.Between(none, a, 0).Add(source.Between(none, b, 0))
	if v, _ := source.Value(sum); math.Abs(v-0.4) > 1e-9 || sum.Instances != 2 || sum.Whole != 40 {
		t.Errorf("the median of both is %v of %+v, want 0.4", v, sum)
	}
	rate := Source{Kind: Rate, Of: Series{Metric: "r"}}
	if v, _ := rate.Value(Tally{Part: 50, Whole: 10, Instances: 1}.Add(Tally{Part: 30, Whole: 10, Instances: 1})); v != 8 {
		t.Errorf("two instances at 5 and 3 a second make %v, want 8", v)
	}
	top := Source{Kind: GaugeMax}
	if v, _ := top.Value(Tally{Largest: 3, Instances: 1}.Add(Tally{Largest: 9, Instances: 1})); v != 9 {
		t.Errorf("the largest of 3 and 9 is %v", v)
	}
}

func TestForget(t *testing.T) {
	var tracker Tracker
	source := Source{Kind: Rate, Of: Series{Metric: "r_total"}}
	at := time.Unix(0, 0)
	tracker.Take(source, "gone", counters(1, 0), at)
	tracker.Forget(func(string) bool { return false })
	if _, ok, _ := tracker.Take(source, "gone", counters(9, 0), at.Add(time.Second)); ok {
		t.Error("a forgotten instance still has a reading before")
	}
}

// TestUnreadable sees that what cannot be read off a page is never taken for nought, and why that is.
func TestUnreadable(t *testing.T) {
	codes := []Sample{NewSample(map[string]string{"code": "200"}, 90), NewSample(map[string]string{"code": "404"}, 1)}
	ratio := func(of, to Series) Source { return Source{Kind: Ratio, Of: of, To: &to} }
	failed, all := Series{Metric: "r_total", Where: map[string][]string{"code": {"5*"}}}, Series{Metric: "r_total"}
	buckets := func(bounds ...string) Page {
		page := Page{"h_count": {NewSample(nil, 10)}, "h_sum": {NewSample(nil, 3)}}
		for i, bound := range bounds {
			page["h_bucket"] = append(page["h_bucket"], NewSample(map[string]string{"le": bound}, float64(i)))
		}
		return page
	}
	for _, test := range []struct {
		name   string
		source Source
		page   Page
		why    string // empty where it can be read
	}{
		{"nothing failed yet", ratio(failed, all), Page{"r_total": codes}, ""},
		{"a misspelt label", ratio(Series{Metric: "r_total", Where: map[string][]string{"cod": {"5*"}}}, all), Page{"r_total": codes}, "no sample of r_total has the label cod"},
		{"a misspelt label of the whole", ratio(failed, Series{Metric: "r_total", Where: map[string][]string{"pth": {"/"}}}), Page{"r_total": codes}, "no sample of r_total has the label pth"},
		{"a whole that nothing is", ratio(failed, Series{Metric: "r_total", Where: map[string][]string{"code": {"9*"}}}), Page{"r_total": codes}, "no sample of r_total is as it is looked for"},
		{"a numerator that never was", ratio(Series{Metric: "errors_total"}, all), Page{"r_total": codes}, "there is no errors_total"},
		{"a counter of +Inf", ratio(failed, all), Page{"r_total": append(codes[:2:2], NewSample(map[string]string{"code": "500"}, math.Inf(1)))}, "r_total is +Inf, which counts nothing"},
		{"a counter of no number", Source{Kind: Rate, Of: all}, Page{"r_total": {NewSample(nil, math.NaN())}}, "r_total is NaN, which counts nothing"},
		{"a negative counter", Source{Kind: Rate, Of: all}, Page{"r_total": {NewSample(nil, -3)}}, "r_total is -3, which counts nothing"},
		{"more than anything counts", Source{Kind: Rate, Of: all}, Page{"r_total": {NewSample(nil, 1e300)}}, "r_total is 1e+300, which counts nothing"},
		{"a negative gauge", Source{Kind: Gauge, Of: Series{Metric: "depth"}}, Page{"depth": {NewSample(nil, -4)}}, ""},
		{"a gauge of -Inf", Source{Kind: GaugeMax, Of: Series{Metric: "depth"}}, Page{"depth": {NewSample(nil, math.Inf(-1))}}, "depth is -Inf, which is no number to reckon with"},
		{"only the last bucket", Source{Kind: ShareAbove, Of: Series{Metric: "h"}, Bound: 0.2}, buckets("+Inf"), "h has no bucket below +Inf"},
		{"a bound beyond all buckets", Source{Kind: ShareAbove, Of: Series{Metric: "h"}, Bound: 2}, buckets("0.5", "1", "+Inf"), "the last bucket of h ends at 1, and 2 is asked for"},
		{"the last bound itself", Source{Kind: ShareAbove, Of: Series{Metric: "h"}, Bound: 1}, buckets("0.5", "1", "+Inf"), ""},
		{"no histogram", Source{Kind: Mean, Of: Series{Metric: "x"}}, buckets("1", "+Inf"), "there is no x_count"},
		{"a mean needs no buckets", Source{Kind: Mean, Of: Series{Metric: "h"}}, buckets(), ""},
	} {
		var tracker Tracker
		_, ok, why := tracker.Take(test.source, "one", test.page, time.Unix(1000, 0))
		if why != test.why || ok && why != "" {
			t.Errorf("%s: %q, want %q", test.name, why, test.why)
		}
	}
}

// TestSeriesMissing sees that a series which is missing from one page and comes again counts what came since, not all that
// it ever counted; one that is new counts whole, and one that came back lower began anew.
func TestSeriesMissing(t *testing.T) {
	failed := Source{Kind: Ratio, Of: Series{Metric: "r_total", Where: map[string][]string{"code": {"5*"}}}, To: &Series{Metric: "r_total"}}
	page := func(values map[string]float64) Page {
		p := Page{}
		for code, value := range values {
			p["r_total"] = append(p["r_total"], NewSample(map[string]string{"code": code}, value))
		}
		return p
	}
	for _, test := range []struct {
		name        string
		pages       []map[string]float64
		part, whole float64 // of the last interval
	}{
		{"missing once", []map[string]float64{{"200": 1000, "500": 400}, {"200": 1100}, {"200": 1200, "500": 401}}, 1, 101},
		{"missing twice", []map[string]float64{{"200": 1000, "500": 400}, {"200": 1100}, {"200": 1150}, {"200": 1200, "500": 402}}, 2, 52},
		{"new", []map[string]float64{{"200": 1000}, {"200": 1100, "500": 3}}, 3, 103},
		{"begun anew meanwhile", []map[string]float64{{"200": 1000, "500": 400}, {"200": 10}, {"200": 30, "500": 5}}, 5, 25},
	} {
		var tracker Tracker
		var tally Tally
		for i, values := range test.pages {
			tally, _, _ = tracker.Take(failed, "one", page(values), time.Unix(int64(i)*10, 0))
		}
		if tally.Part != test.part || tally.Whole != test.whole {
			t.Errorf("%s: %v of %v, want %v of %v", test.name, tally.Part, tally.Whole, test.part, test.whole)
		}
	}
	h := Source{Kind: ShareAbove, Of: Series{Metric: "h"}, Bound: 0.1}
	var tracker Tracker
	for i, p := range []Page{histogram(80, 95, 100, 9), {"h_count": {NewSample(map[string]string{"path": "/other"}, 1)}, "h_bucket": {NewSample(map[string]string{"path": "/other", "le": "0.1"}, 1)}}, histogram(81, 96, 102, 9)} {
		tally, _, why := tracker.Take(h, "one", p, time.Unix(int64(i)*10, 0))
		if i == 2 && (tally.Whole != 2 || tally.Part != 1 || why != "") {
			t.Errorf("a histogram that came again: %v of %v (%s)", tally.Part, tally.Whole, why)
		}
	}
}

// TestBurn counts errors for hours and looks at how fast a budget burns over both windows at once.
func TestBurn(t *testing.T) {
	source := Source{Kind: Burn, Of: Series{Metric: "failed_total"}, To: &Series{Metric: "r_total"}, Over: 3600, Lately: 300, Allows: 0.001}
	var tracker Tracker
	start := time.Date(2026, 3, 12, 9, 0, 0, 0, time.UTC)
	bad, all, last := 0.0, 0.0, 0.0
	for _, stretch := range []struct {
		minutes  int
		failing  float64 // share of the answers
		requests float64 // a second
		burns    float64 // at its end
	}{
		{120, 0.0005, 10, 0.5},                      // half of what is allowed
		{2, 0.1, 10, 0.1*2.0/60/0.001 + 0.48},       // the longer window hardly knows of it, so it does not count much
		{10, 0.1, 10, 0.1 * 12.0 / 60 / 0.001},      // both do
		{30, 0, 10, 0},                              // it is over: the shorter window knows that
		{10, 0, 0, 0},                               // nobody asks
		{1, 1, 1, 60.0 / (60 + 600*18) * 1000 * 17}, // hardly anybody asks, and all fails
	} {
		for range stretch.minutes * 6 {
			start = start.Add(10 * time.Second)
			bad, all = bad+10*stretch.requests*stretch.failing, all+10*stretch.requests
			page := Page{"failed_total": {NewSample(nil, bad)}, "r_total": {NewSample(nil, all)}}
			tally, ok, why := tracker.Take(source, "a", page, start)
			if value, there := source.Value(tally); ok && there && why == "" {
				last = value
			}
		}
		if want := stretch.burns; stretch.requests != 1 && math.Abs(last-want) > 0.08*want+0.05 {
			t.Errorf("after %d minutes of %v: %v, want %v", stretch.minutes, stretch.failing, last, want)
		} else if stretch.requests == 1 && !(last > 5 && last < 40) {
			t.Errorf("of few requests: %v", last)
		}
	}
	if n := len(tracker.last["a"].course); n > 3600/15+3 {
		t.Errorf("%d levels are held", n)
	}
	// Of two instances the counts add up, not the rates.
	two := Tally{Part: 1, Whole: 1000, Lately: [2]float64{1, 100}}.Add(Tally{Part: 3, Whole: 1000, Lately: [2]float64{0, 100}})
	if value, ok := source.Value(two); !ok || math.Abs(value-2) > 1e-9 {
		t.Errorf("two instances burn %v", value)
	}
}
