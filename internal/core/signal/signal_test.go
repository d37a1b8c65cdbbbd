package signal

import (
	"math"
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
	errors := Source{Kind: Ratio, Of: Series{"r_total", map[string][]string{"code": {"4*", "503"}}}, To: &Series{Metric: "r_total"}}
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
		{"gauge, from the first scrape on", Source{Kind: Gauge, Of: Series{Metric: "m"}}, []Page{{"m": {{Value: 7}}}}, 7, 1, true},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			var tracker Tracker
			var tally Tally
			ok := false
			at := time.Unix(1000, 0)
			for _, page := range test.pages {
				tally, ok = tracker.Take(test.source, "one", page, at)
				at = at.Add(10 * time.Second)
			}
			value, judged := test.source.Value(tally)
			if judged = judged && ok; judged != test.judgable {
				t.Fatalf("there is a value: %v, want %v (%+v)", judged, test.judgable, tally)
			}
			if judged && (math.Abs(value-test.want) > 1e-9 || tally.Whole != test.whole) {
				t.Errorf("got %v of %v, want %v of %v", value, tally.Whole, test.want, test.whole)
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
	if _, ok := tracker.Take(source, "gone", counters(9, 0), at.Add(time.Second)); ok {
		t.Error("a forgotten instance still has a reading before")
	}
}
