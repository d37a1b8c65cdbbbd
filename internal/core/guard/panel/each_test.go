package panel

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"aditus/internal/core/guard"
	"aditus/internal/core/rollout"
	"aditus/internal/core/signal"
)

// TestEach judges a guard on each route: what is too little to be told of all together breaches by itself, and what hardly anybody asks for keeps
// nothing up.
func TestEach(t *testing.T) {
	for way, limit := range map[guard.Way]float64{guard.Sequential: 0.02, guard.ByCount: 0.15} {
		for _, test := range []struct {
			name    string
			fails   map[string]float64 // of new, by route
			word    guard.Word
			each    string
			nearest string
		}{
			{"all is well", nil, guard.Clear, "", ""},
			{"a route fails that has little of the traffic", map[string]float64{"/book": 0.3}, guard.Breach, "path=/book", ""},
			{"a route that ends in a star", map[string]float64{"/fares/*": 0.4}, guard.Breach, "path=/fares/*", ""},
			{"all of them fail", map[string]float64{"/": 0.3, "/book": 0.3, "/fares/*": 0.3, "/rare": 0.3}, guard.Breach, "", ""},
		} {
			w := newWorld(t, guard.Limit{Kind: guard.AboveOld, Value: limit, Unit: guard.Share}, way)
			r := &w.s.Rules.Guards[0]
			r.Breach.Of, r.Breach.Intervals = 5, 3
			r.Signal = signal.Source{Kind: signal.Ratio, Each: "path", Of: signal.Series{Metric: "asked", Where: map[string][]string{"code": {"5*"}}}, To: &signal.Series{Metric: "asked"}}
			random := rand.New(rand.NewPCG(1, 2))
			r.Missing = guard.MissingBreaches // of all together: nobody asks for /gone any more
			routes := map[string]int{"/": 800, "/book": 40, "/fares/*": 40, "/rare": 1, "/gone": 0}
			counts := map[string]float64{"old/gone200": 5, "new/gone200": 5}
			interval := func() Judgement {
				w.now = w.now.Add(every)
				var scrapes []Scrape
				for _, id := range []string{"old", "new"} {
					page := signal.Page{}
					for _, route := range slices.Sorted(maps.Keys(routes)) {
						for range routes[route] {
							code := "200"
							if random.Float64() < 0.01 || id == "new" && random.Float64() < test.fails[route] {
								code = "503"
							}
							counts[id+route+code]++
						}
						for _, code := range []string{"200", "503"} {
							if n := counts[id+route+code]; n > 0 {
								page["asked"] = append(page["asked"], signal.NewSample(map[string]string{"path": route, "code": code}, n))
							}
						}
					}
					scrapes = append(scrapes, Scrape{Instance: id, Part: "app", Revision: w.s.Roll.Old.Revision, Page: page})
				}
				scrapes[1].Revision = "new"
				w.p.Evaluate(w.s, scrapes, func(string) bool { return true }, w.now)
				return w.p.Judge(w.s, true, w.now)
			}
			interval()
			w.share(0, rollout.Soaking)
			var v guard.Verdict
			for range 40 {
				if v = interval().Verdicts[0]; v.Word == guard.Breach {
					break
				}
			}
			if v.Word != test.word || v.Each != test.each || v.Guard != "failed" {
				t.Errorf("%s, %s: %s %q: %+v", way, test.name, v.Word, v.Each, v)
			}
			if (v.Worst != nil) != (test.word == guard.Clear) {
				t.Errorf("%s, %s: the worst is %+v", way, test.name, v.Worst)
			}
			if test.each != "" && rollout.Sentence(v) == "" || v.Each != "" && v.New.Value < 0.1 {
				t.Errorf("%s, %s: %s", way, test.name, rollout.Sentence(v))
			}
		}
	}
}

// TestEachMisspelt judges each value of a label that nothing has: that is silence, with its reason.
func TestEachMisspelt(t *testing.T) {
	w := newWorld(t, guard.Limit{Kind: guard.AtMost, Value: 0.5, Unit: guard.Share}, guard.ByCount)
	w.s.Rules.Guards[0].Signal.Each = "pth"
	w.share(0, rollout.Soaking)
	var v guard.Verdict
	for range 6 {
		v = w.interval(0.01, 0.01).Verdicts[0]
	}
	if v.Word != guard.Silent || v.Why != "no sample has the label pth" {
		t.Errorf("%s: %s", v.Word, v.Why)
	}
}

// TestEachBounded meets more routes than are judged by themselves.
func TestEachBounded(t *testing.T) {
	w := newWorld(t, guard.Limit{Kind: guard.AtMost, Value: 0.1, Unit: guard.Share}, guard.Sequential)
	w.s.Rules.Guards[0].Signal = signal.Source{Kind: signal.Ratio, Each: "path", Of: signal.Series{Metric: "failed"}, To: &signal.Series{Metric: "asked"}}
	w.share(0, rollout.Soaking)
	for i := range 10 {
		page := signal.Page{}
		for route := range 500 {
			labels := map[string]string{"path": fmt.Sprintf("/%d/%d", i, route)}
			page["asked"] = append(page["asked"], signal.NewSample(labels, float64(1000-route)))
			page["failed"] = append(page["failed"], signal.NewSample(labels, 0))
		}
		w.now = w.now.Add(10 * time.Second)
		w.p.Evaluate(w.s, []Scrape{{Instance: "new", Part: "app", Revision: "new", Page: page}}, func(string) bool { return true }, w.now)
		w.p.Judge(w.s, true, w.now)
	}
	if n := len(w.p.each(w.s.Rules.Guards[0])); n != mostEach {
		t.Errorf("%d routes are judged by themselves", n)
	}
	if ones := w.p.each(w.s.Rules.Guards[0]); ones[0].Name != "failed, path=/0/0" {
		t.Errorf("the first one is %s", ones[0].Name)
	}
	shared := 1 / among(w.s.Rules.Guards[0])
	for _, one := range w.p.each(w.s.Rules.Guards[0]) {
		shared += 1 / among(one)
	}
	if shared > 1+1e-9 || shared < 0.99 {
		t.Errorf("together they have %v of the guard's risk", shared)
	}
	if n := len(w.p.trackers); n > mostEach+2 {
		t.Errorf("%d trackers", n)
	}
}

// TestElsewhere takes what a store knows, which comes later than it was measured: each sample counts once, and what was counted while the share changed
// counts for neither share.
func TestElsewhere(t *testing.T) {
	w := newWorld(t, guard.Limit{Kind: guard.AtMost, Value: 0.1, Unit: guard.Share}, guard.ByCount)
	r := &w.s.Rules.Guards[0]
	r.Signal.Store, r.Breach = "harbour", &guard.Count{Intervals: 1, Of: 1, Samples: 1}
	ask := func(measured time.Duration, failed, all float64) *signal.Point {
		w.now = w.now.Add(every)
		page := signal.Page{"failed": {signal.NewSample(nil, failed)}, "all": {signal.NewSample(nil, all)}}
		w.s.Elsewhere = map[string][]Scrape{"failed": {{Instance: "new", Part: "app", Revision: "new", Page: page, At: start.Add(measured)}}}
		w.p.Evaluate(w.s, []Scrape{{Instance: "new", Part: "app", Revision: "new", Page: signal.Page{"failed": {signal.NewSample(nil, 1e6)}, "all": {signal.NewSample(nil, 1e6)}}}}, func(string) bool { return false }, w.now)
		w.p.Judge(w.s, true, w.now)
		return w.p.series[len(w.p.series)-1].points["failed"]["new"]
	}
	at := func(seconds int) time.Duration { return time.Duration(seconds) * time.Second }
	w.share(0, rollout.Soaking) // at 0 s
	if p := ask(at(5), 0, 100); p != nil {
		t.Errorf("the first sample tells %+v", p)
	}
	if p := ask(at(15), 1, 200); p == nil || p.Part != 1 || p.Whole != 100 {
		t.Errorf("the second sample tells %+v", p)
	}
	if p := ask(at(15), 1, 200); p != nil {
		t.Errorf("the same sample once more tells %+v", p)
	}
	if why := w.p.series[len(w.p.series)-1].silent["failed"]; why != "the last sample of new is 15 s old" {
		t.Error(why)
	}
	w.share(1, rollout.Soaking) // at 30 s
	if p := ask(at(35), 90, 300); p != nil {
		t.Errorf("what was counted under both shares tells %+v", p)
	}
	if p := ask(at(45), 92, 400); p == nil || p.Part != 2 || p.Whole != 100 {
		t.Errorf("what was counted since tells %+v", p)
	}
}

// TestAlertWhileWarming has an alert count while what comes in is warming up: it is none of its instances'.
func TestAlertWhileWarming(t *testing.T) {
	w := newWorld(t, guard.Limit{Kind: guard.AtMost, Unit: guard.Alerts}, guard.ByCount)
	r := &w.s.Rules.Guards[0]
	r.Signal, r.Breach = signal.Source{Kind: signal.Alert, Of: signal.Series{Metric: "pager"}}, &guard.Count{Intervals: 1, Of: 1, Samples: 1}
	w.s.Rules.Rollout.WarmUp.Duration = time.Hour
	w.share(0, rollout.Soaking)
	w.s.Roll.Given = w.now
	for firing, want := range []guard.Word{guard.Clear, guard.Breach} {
		w.now = w.now.Add(every)
		w.s.Elsewhere = map[string][]Scrape{"failed": {{Instance: "alerts of pager", Revision: "new", Page: signal.Answered(float64(firing)), Told: "The gate is down"}}}
		w.p.Evaluate(w.s, nil, func(string) bool { return true }, w.now)
		if v := w.p.Judge(w.s, true, w.now).Verdicts[0]; v.Word != want || want == guard.Breach && rollout.Sentence(v) != "failed: The gate is down" {
			t.Errorf("%d fire: %s, %s", firing, v.Word, rollout.Sentence(v))
		}
	}
}
