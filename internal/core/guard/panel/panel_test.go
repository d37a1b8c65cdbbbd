package panel

import (
	"fmt"
	"math"
	"reflect"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/rollout"
	"aditus/internal/core/signal"
)

var (
	start = time.Date(2026, 3, 12, 9, 0, 0, 0, time.UTC)
	every = 10 * time.Second
)

// world is two instances that count requests and failures, of which new fails a given share.
type world struct {
	t      *testing.T
	s      Subject
	p      Panel
	now    time.Time
	counts map[string][2]float64 // failed and all, by instance

	started map[string]time.Time
}

func newWorld(t *testing.T, limit guard.Limit, way guard.Way) *world {
	rule := guard.Rule{
		Name: "failed", Limit: limit, Way: way, Missing: guard.MissingHolds, Then: guard.RollBack, Standing: guard.Tell, Breach: &guard.Count{Intervals: 2, Of: 3, Samples: 10},
		Signal: signal.Source{Kind: signal.Ratio, Of: signal.Series{Metric: "failed"}, To: &signal.Series{Metric: "all"}},
	}
	rules := declare.Rollout{Risk: 0.01, Interval: declare.Span{Duration: every}, Stages: []declare.Stage{{Share: 0.1}, {Share: 0.5, Guards: []string{"another"}}, {Share: 1}}}
	rolled := rollout.State{
		ID: 7, Phase: rollout.Settling, Began: start, Rules: rules,
		Old: rollout.Side{Revision: "old", Parts: map[string]int{"app": 1}}, New: rollout.Side{Revision: "new", Parts: map[string]int{"app": 1}},
	}
	return &world{t: t, now: start, counts: map[string][2]float64{}, s: Subject{Rules: &declare.Desired{Rollout: rules, Guards: []guard.Rule{rule}}, Roll: &rolled, Applied: "old"}}
}

// share says that the share of a stage has been reached just now.
func (w *world) share(stage int, phase rollout.Phase) {
	roll := *w.s.Roll
	roll.Stage, roll.Phase, roll.Shared = stage, phase, w.now
	w.s.Roll = &roll
}

// interval lets one interval pass in which old and new fail some of their requests, and judges.
func (w *world) interval(old, new float64) Judgement {
	w.now = w.now.Add(every)
	var scrapes []Scrape
	for id, failing := range map[string]float64{"old": old, "new": new} {
		c := w.counts[id]
		c[0], c[1] = c[0]+100*failing, c[1]+100
		w.counts[id] = c
		scrapes = append(scrapes, Scrape{
			Instance: id, Part: "app", Revision: declare.Fingerprint(id), Started: w.started[id], Requests: "all",
			Page: signal.Page{"failed": {signal.NewSample(nil, c[0])}}, Measured: signal.Page{"failed": {signal.NewSample(nil, -1)}, "all": {signal.NewSample(nil, c[1])}},
		})
	}
	w.p.Evaluate(w.s, scrapes, func(string) bool { return true }, w.now)
	return w.p.Judge(w.s, true, w.now)
}

// TestDue sees that guards look twice as often once they nearly breach, and that what counts is not hurried by it.
func TestDue(t *testing.T) {
	for _, test := range []struct {
		name   string
		way    guard.Way
		alter  func(*guard.Rule)
		stands bool
		want   time.Duration
	}{
		{"sequentially", guard.Sequential, nil, false, every / 2},
		{"by count", guard.ByCount, func(r *guard.Rule) { r.Breach.Intervals, r.Breach.Of = 4, 4 }, false, every},
		{"one that tells", guard.Sequential, func(r *guard.Rule) { r.Then = guard.Tell }, false, every},
		{"what is proven", guard.Sequential, nil, true, every},
	} {
		w := newWorld(t, guard.Limit{Kind: guard.AtMost, Value: 0.02, Unit: guard.Share}, test.way)
		if test.alter != nil {
			test.alter(&w.s.Rules.Guards[0])
		}
		if w.share(0, rollout.Soaking); test.stands {
			w.s.Roll, w.s.Applied = nil, "new"
		}
		w.interval(0, 0)
		if j := w.interval(0, 0.02); j.Verdicts[0].Word == guard.Breach || w.p.Due(w.s).Sub(w.now) != every {
			t.Errorf("%s: the next look is due in %s at the limit", test.name, w.p.Due(w.s).Sub(w.now))
		}
		j := w.interval(0, 0.12)
		if due := w.p.Due(w.s).Sub(w.now); j.Verdicts[0].Word == guard.Breach || due != test.want {
			t.Errorf("%s: the next look is due in %s, not %s, %+v", test.name, due, test.want, j.Verdicts[0])
		}
	}
}

// TestStages sees which evaluations count for which stage: those that lie wholly under its share, where the guard counts.
func TestStages(t *testing.T) {
	for _, way := range []guard.Way{guard.ByCount, guard.Sequential} {
		t.Run(string(way), func(t *testing.T) {
			w := newWorld(t, guard.Limit{Kind: guard.AtMost, Value: 0.05}, way)
			w.interval(0, 0)
			if j := w.interval(0.9, 0.9); len(j.Verdicts) != 0 {
				t.Errorf("before any share is reached it judges %v", j.Verdicts)
			}
			w.now = w.now.Add(every / 2)
			w.share(0, rollout.Soaking)
			w.now = w.now.Add(-every / 2)
			if v := w.interval(0, 0.9).Verdicts[0]; v.Judged != 0 {
				t.Errorf("an interval that lies half before the share counts: %+v", v)
			}
			v := w.interval(0, 0.01).Verdicts[0]
			if v.Judged != 1 || v.Then != guard.RollBack {
				t.Errorf("the first whole interval: %+v", v)
			}
			w.share(1, rollout.Soaking)
			if j := w.interval(0, 0.9); len(j.Verdicts) != 0 {
				t.Errorf("a guard that this stage does not name counts in it: %v", j.Verdicts)
			}
			w.share(2, rollout.Soaking)
			v = w.interval(0, 0.01).Verdicts[0]
			if counted := map[guard.Way]int{guard.ByCount: 1, guard.Sequential: 2}[way]; v.Judged != counted || v.Word == guard.Breach {
				t.Errorf("what was evaluated in a stage that does not name the guard counts: %+v", v)
			}
			var words []guard.Word
			for range 3 {
				words = append(words, w.interval(0, 0.5).Verdicts[0].Word)
			}
			if words[2] != guard.Breach {
				t.Errorf("half of all requests fail at 100 %%: %v", words)
			}
		})
	}
}

// TestMoves sees where a limit lies that moves: above what old showed last once new has all the traffic, and above the
// workload's past.
func TestMoves(t *testing.T) {
	w := newWorld(t, guard.Limit{Kind: guard.AboveOld, Value: 0.02}, guard.Sequential)
	w.share(0, rollout.Soaking)
	for range 5 {
		if v := w.interval(0.1, 0.1).Verdicts[0]; v.Bound != nil {
			t.Fatalf("beside old there is a bound: %v", *v.Bound)
		}
	}
	w.share(2, rollout.Soaking)
	w.counts["old"] = [2]float64{} // it serves nothing any more
	w.s.Roll.Shared = w.now
	drop := func() Judgement {
		w.now = w.now.Add(every)
		c := w.counts["new"]
		c[0], c[1] = c[0]+10, c[1]+100
		w.counts["new"] = c
		w.p.Evaluate(w.s, []Scrape{{Instance: "new", Revision: "new", Requests: "all", Page: signal.Page{"failed": {signal.NewSample(nil, c[0])}, "all": {signal.NewSample(nil, c[1])}}}}, func(string) bool { return true }, w.now)
		return w.p.Judge(w.s, true, w.now)
	}
	for range 3 {
		v := drop().Verdicts[0]
		most := guard.Proportion(40, 400).High + 0.02 // the first reading of a counter is no interval yet
		if v.Bound == nil || *v.Bound < most-0.005 || *v.Bound > most+0.005 {
			t.Fatalf("above what old showed last the limit lies at %v and not at about %.3f", v.Bound, most)
		}
	}

	w = newWorld(t, guard.Limit{Kind: guard.AbovePast, Value: 0.02}, guard.ByCount)
	w.share(0, rollout.Soaking)
	if v := w.interval(0, 0.01).Verdicts[0]; v.Bound != nil || v.Judged != 0 {
		t.Errorf("without a past: %+v", v)
	}
	w = newWorld(t, guard.Limit{Kind: guard.AbovePast, Value: 0.02}, guard.ByCount)
	w.share(0, rollout.Soaking)
	w.s.Past = map[string][]signal.Point{}
	for day := range 5 {
		w.s.Past["failed"] = append(w.s.Past["failed"], Point{At: start.AddDate(0, 0, -day-1), Value: 0.03, Part: 3, Whole: 100}.Signal())
	}
	w.interval(0, 0)
	if v := w.interval(0, 0.2).Verdicts[0]; v.Bound == nil || *v.Bound < 0.0499 || *v.Bound > 0.0501 {
		t.Errorf("above its past of 3 %% by 2 points the limit lies at %v", v.Bound)
	}
}

// TestProbesAreNoTraffic sees that what old shows once it has none of the traffic, as probes are counted too, is not what
// new is held against.
func TestProbesAreNoTraffic(t *testing.T) {
	for _, way := range []guard.Way{guard.ByCount, guard.Sequential} {
		w := newWorld(t, guard.Limit{Kind: guard.AboveOld, Value: 0.02}, way)
		w.share(0, rollout.Soaking)
		for range 30 {
			w.interval(0.1, 0.1)
		}
		w.share(2, rollout.Soaking)
		for range 60 { // old is asked for nothing but its health
			if v := w.interval(0, 0.1).Verdicts[0]; v.Word == guard.Breach {
				t.Fatalf("%s: new is as old was, and %+v", way, v)
			}
		}
	}
}

// TestClosing sees that once old has given its control up new is held against fixed limits alone.
func TestClosing(t *testing.T) {
	for kind, judged := range map[guard.LimitKind]int{guard.AboveOld: 0, guard.AtMost: 1} {
		w := newWorld(t, guard.Limit{Kind: kind, Value: 0.05}, guard.Sequential)
		w.s.Roll.Control = 0.05
		w.s.Roll.Rules.Stages[1].Guards = nil
		for stage, phase := range []rollout.Phase{rollout.Soaking, rollout.Proving} {
			w.share(stage, phase)
			for range 5 {
				if n := len(w.interval(0.01, 0.01).Verdicts); n != 1 {
					t.Fatalf("%s: %d verdicts in %s", kind, n, w.s.Roll.Where())
				}
			}
		}
		w.share(2, rollout.Soaking)
		if n := len(w.interval(0.01, 0.01).Verdicts); n != judged {
			t.Errorf("%s: %d verdicts once new has all the traffic", kind, n)
		}
	}
}

// TestWarmUp sees that what instances show that are new to their traffic is not judged, unless most of it is bad.
func TestWarmUp(t *testing.T) {
	for _, test := range []struct {
		way    guard.Way
		warmUp time.Duration
		cold   float64 // bad answers of new in its first four intervals
		words  string
	}{
		{guard.Sequential, 0, 0.3, "breach"},
		{guard.Sequential, 4 * every, 0.3, "warming warming warming undecided clear"},
		{guard.Sequential, 4 * every, 0.9, "breach"},
		{guard.ByCount, 4 * every, 0.3, "warming warming warming undecided clear"},
	} {
		w := newWorld(t, guard.Limit{Kind: guard.AtMost, Value: 0.05}, test.way)
		w.s.Rules.Rollout.WarmUp.Duration = test.warmUp
		w.started = map[string]time.Time{"old": start.Add(-time.Hour), "new": start.Add(-time.Hour)} // it waited without traffic
		for range 3 {
			w.interval(0.01, 0.01)
		}
		w.share(0, rollout.Soaking)
		w.s.Roll.Given = w.now
		var said []string
		for n := range 20 {
			bad := 0.01
			if n < 3 {
				bad = test.cold
			}
			v := w.interval(0.01, bad).Verdicts[0]
			word := string(v.Word)
			if v.Warming {
				word = "warming"
			}
			if len(said) == 0 || said[len(said)-1] != word || word == "warming" {
				said = append(said, word)
			}
			if v.Word == guard.Breach || v.Word == guard.Clear {
				break
			}
		}
		if got := strings.Join(said, " "); !strings.HasSuffix(got, test.words) {
			t.Errorf("%s, %s, %v: %s, want %s", test.way, test.warmUp, test.cold, got, test.words)
		}
	}
}

// TestWarmAgain sees that what an instance showed while it was warming up, and is over, is held against nobody.
func TestWarmAgain(t *testing.T) {
	w := newWorld(t, guard.Limit{Kind: guard.AtMost, Value: 0.05}, guard.Sequential)
	w.s.Roll = nil
	w.s.Rules.Rollout.WarmUp.Duration = 3 * every
	w.started = map[string]time.Time{"old": start}
	var v guard.Verdict
	for n := range 30 {
		bad := 0.01
		if n < 2 {
			bad = 0.9
		}
		if v = w.interval(bad, 0).Verdicts[0]; n > 3 && v.Word == guard.Breach {
			t.Fatalf("%d intervals after its start: %+v", n, v)
		}
	}
	if v.Word != guard.Clear {
		t.Errorf("it is %s", v.Word)
	}
}

// TestProvingGoesOn sees that the proving goes on with what the last stage showed, under the same share, and that what breaches in it
// is found.
func TestProvingGoesOn(t *testing.T) {
	w := newWorld(t, guard.Limit{Kind: guard.AboveOld, Value: 0.02}, guard.Sequential)
	w.s.Roll.Rules.Stages[1].Guards, w.s.Roll.Control = nil, 0.05
	w.share(0, rollout.Soaking)
	w.interval(0.01, 0.01)
	w.share(1, rollout.Soaking)
	var v guard.Verdict
	for range 60 {
		v = w.interval(0.01, 0.01).Verdicts[0]
	}
	if v.Word != guard.Clear {
		t.Fatalf("in the last stage beside old it is %s", v.Word)
	}
	roll := *w.s.Roll
	roll.Phase = rollout.Proving // the share stays
	w.s.Roll = &roll
	if v = w.interval(0.01, 0.01).Verdicts[0]; v.Word != guard.Clear {
		t.Errorf("at the begin of the proving it is %s", v.Word)
	}
	for n := 0; v.Word != guard.Breach; n++ {
		if v = w.interval(0.01, 0.3).Verdicts[0]; n > 8 {
			t.Fatalf("a regression while it proves is %s", v.Word)
		}
	}
}

// TestLead sees that what old showed before the rollout tells how much it scatters: where it does, new has to be worse.
func TestLead(t *testing.T) {
	evidence := map[bool]float64{}
	for _, scatters := range []bool{false, true} {
		w := newWorld(t, guard.Limit{Kind: guard.AboveOld, Value: 0.02}, guard.Sequential)
		for i := range 12 {
			old := 0.1
			if scatters {
				old = 0.3 * float64(i%2)
			}
			w.interval(old, 0)
		}
		w.s.Roll.Began = w.now
		w.share(0, rollout.Soaking)
		for range 3 {
			evidence[scatters] = w.interval(0.1, 0.25).Verdicts[0].Evidence
		}
	}
	if evidence[true] >= evidence[false] {
		t.Errorf("the evidence of a breach is %.2f where old scatters, and %.2f where it does not", evidence[true], evidence[false])
	}
}

// TestRecall sees that evidence which was kept and brought back after a restart leads to the same verdicts, and that
// nothing is kept twice.
func TestRecall(t *testing.T) {
	for _, limit := range []guard.Limit{{Kind: guard.AtMost, Value: 0.05}, {Kind: guard.AboveOld, Value: 0.02}} {
		w := newWorld(t, limit, guard.Sequential)
		var kept []Point
		step := func(old, new float64) Judgement {
			j := w.interval(old, new)
			kept = append(kept, w.p.Unkept()...)
			w.p.Kept()
			return j
		}
		for range 4 {
			step(0.01, 0.01)
		}
		w.share(0, rollout.Soaking)
		var last Judgement
		for i := range 8 {
			last = step(0.01, 0.01+float64(i)/500)
		}
		if n := len(w.p.Unkept()); n != 0 {
			t.Errorf("%d points would be kept twice", n)
		}
		again := Panel{}
		again.Recall(kept)
		if got := again.Judge(w.s, true, w.now); !reflect.DeepEqual(got.Verdicts, last.Verdicts) {
			t.Errorf("after a restart %s: %+v\nand before: %+v", limit, got.Verdicts, last.Verdicts)
		}
	}
}

// TestStanding sees that what is applied is judged by what a breach does then, and summed up for good.
func TestStanding(t *testing.T) {
	w := newWorld(t, guard.Limit{Kind: guard.AtMost, Value: 0.05}, guard.ByCount)
	w.s.Roll = nil
	var v guard.Verdict
	for i := range 31 {
		if i > 0 && (len(w.p.Steady(w.now)) > 0) != (i > 30) {
			t.Errorf("after %s: %v is to be kept", w.now.Sub(start), w.p.Steady(w.now))
		}
		v = w.interval(0.1, 0).Verdicts[0]
	}
	if v.Word != guard.Undecided {
		t.Errorf("what stands fails for less than five minutes: %s", v.Word)
	}
	sums := w.p.Steady(w.now)
	if len(sums) != 1 || fmt.Sprintf("%s %s %.2f %.0f of %.0f", sums[0].Guard, sums[0].Revision, sums[0].Value, sums[0].Part, sums[0].Whole) != "failed old 0.10 300 of 3000" {
		t.Errorf("what is kept for good: %+v", sums)
	}
	for range 4 {
		v = w.interval(0.1, 0).Verdicts[0]
	}
	if v.Word != guard.Breach || v.Then != guard.Tell {
		t.Errorf("what stands fails: %s, and then %s", v.Word, v.Then)
	}
	w.p.KeptSteady()
	if w.interval(0.1, 0); w.p.Steady(w.now) != nil {
		t.Errorf("what was kept is to be kept again: %v", w.p.Steady(w.now))
	}
}

// TestUnread sees that a cohort is not judged while an instance that should tell cannot be read, and that a part which
// never tells of a signal keeps nobody from being judged.
func TestUnread(t *testing.T) {
	for _, way := range []guard.Way{guard.ByCount, guard.Sequential} {
		w := newWorld(t, guard.Limit{Kind: guard.AtMost, Value: 0.05}, way)
		w.share(0, rollout.Soaking)
		all := 0.0
		step := func(unread string, page signal.Page) guard.Verdict {
			w.now, all = w.now.Add(every), all+100
			good := func() signal.Page {
				return signal.Page{"failed": {signal.NewSample(nil, 0)}, "all": {signal.NewSample(nil, all)}}
			}
			scrapes := []Scrape{
				{Instance: "old-1", Part: "app", Revision: "old", Page: good()}, {Instance: "new-1", Part: "app", Revision: "new", Page: good()},
				{Instance: "new-2", Part: "app", Revision: "new", Unread: unread, Page: page}, {Instance: "new-ticker", Part: "ticker", Revision: "new", Page: signal.Page{"ticks": nil}},
			}
			if page == nil && unread == "" {
				scrapes[2].Page = good()
			}
			w.p.Evaluate(w.s, scrapes, func(string) bool { return true }, w.now)
			return w.p.Judge(w.s, true, w.now).Verdicts[0]
		}
		var v guard.Verdict
		for range 20 {
			v = step("", nil)
		}
		if v.Word != guard.Clear {
			t.Fatalf("%s: all is well, and it says %s (%+v)", way, v.Word, v)
		}
		for range 4 {
			v = step("GET /metrics: no answer within 2s", nil)
		}
		if v.Word != guard.Silent || v.Why != "new-2: GET /metrics: no answer within 2s" {
			t.Errorf("%s: one of two cannot be read, and it says %s, %q", way, v.Word, v.Why)
		}
		for range 4 {
			v = step("", signal.Page{"failed": {signal.NewSample(nil, 0)}, "all": {signal.NewSample(nil, math.Inf(1))}})
		}
		if v.Word != guard.Silent || v.Why != "new-2: all is +Inf, which counts nothing" {
			t.Errorf("%s: a counter of +Inf, and it says %s, %q", way, v.Word, v.Why)
		}
		if j := w.p.Judge(w.s, false, w.now); math.IsInf(j.Requests[1], 0) || math.IsNaN(j.Requests[1]) {
			t.Errorf("%s: what it cannot count is among the requests: %v", way, j.Requests)
		}
		step("", nil)
		for range 20 {
			v = step("", nil)
		}
		if v.Word != guard.Clear {
			t.Errorf("%s: it can be read again, and it says %s", way, v.Word)
		}
	}
}

// TestReplay sees that a recording is judged as it would have been while it was live, to the last digit.
func TestReplay(t *testing.T) {
	for _, limit := range []guard.Limit{{Kind: guard.AtMost, Value: 0.05}, {Kind: guard.AboveOld, Value: 0.02}} {
		for _, way := range []guard.Way{guard.ByCount, guard.Sequential} {
			w := newWorld(t, limit, way)
			w.interval(0, 0)
			w.now = start
			w.p = Panel{}
			w.share(0, rollout.Soaking)
			rule := w.s.Rules.Guards[0]
			r := NewReplay(rule, 0.01, every, start)
			page := func(id string) signal.Page {
				c := w.counts[id]
				return signal.Page{"failed": {signal.NewSample(nil, c[0])}, "all": {signal.NewSample(nil, c[1])}}
			}
			r.Take(page("old"), page("new"), start)
			w.p.Evaluate(w.s, []Scrape{{Instance: "old", Revision: "old", Page: page("old")}, {Instance: "new", Revision: "new", Page: page("new")}}, func(string) bool { return true }, start)
			for i := range 30 {
				live := w.interval(0.01*float64(i%3), 0.004*float64(i)).Verdicts[0]
				if got := r.Take(page("old"), page("new"), w.now); !reflect.DeepEqual(got, live) {
					t.Fatalf("%s, %s, interval %d: replayed it is %+v, and live it was %+v", limit, way, i, got, live)
				}
			}
			if !r.Spoke() {
				t.Errorf("%s, %s: it was told nothing", limit, way)
			}
		}
	}
}
