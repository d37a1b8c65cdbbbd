package simulate

import (
	"fmt"
	"iter"
	"math"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/guard/panel"
	"aditus/internal/core/signal"
)

// Plan is a rollout that is played: stages with rising shares before the one of 100 %, how long that and the proving take, and
// its guards. Lengths are in evaluation intervals.
type Plan struct {
	Stages  []Stage
	Last    int // of the stage of 100 %, beside old's control share and again without it
	Proving int
	Warm    int     // in which new's instances are not judged
	Control float64 // the share that old keeps; the default where it is 0, none where it is negative
	Risk    float64
	Guards  []guard.Rule
}

// Stage is a stage of a played rollout before the last.
type Stage struct {
	Share     float64
	Intervals int
}

// Careful is a careful rollout under one guard: twenty minutes of rising shares, five with a control share on old, and ten of
// proving.
func Careful(rule guard.Rule, risk float64) Plan {
	return Plan{Stages: []Stage{{0.05, 30}, {0.25, 45}, {0.5, 45}}, Last: 30, Proving: 60, Risk: risk, Guards: []guard.Rule{rule}}
}

// Long is a rollout that stays at one share until its guard has decided.
func Long(rule guard.Rule, risk, share float64, intervals int) Plan {
	return Plan{Stages: []Stage{{share, intervals}}, Risk: risk, Guards: []guard.Rule{rule}}
}

// declared is the plan as a declaration has it.
func (p Plan) declared() *declare.Desired {
	span := func(intervals int) declare.Span { return declare.Span{Duration: time.Duration(intervals) * Every} }
	r := declare.Rollout{Style: declare.Canary, Interval: span(1), Proving: span(p.Proving), WarmUp: span(p.Warm), Risk: p.Risk}
	for _, s := range p.Stages {
		r.Stages = append(r.Stages, declare.Stage{Share: s.Share, Soak: span(s.Intervals)})
	}
	r.Stages = append(r.Stages, declare.Stage{Share: 1, Soak: span(p.Last)})
	switch {
	case p.Control > 0:
		r.Control = &p.Control
	case p.Control < 0:
		r.Control = new(float64)
	}
	return &declare.Desired{Rollout: r, Guards: p.Guards}
}

// lead is how many intervals of the old cohort alone come before a rollout.
const lead = 24

// Outcome is how a played rollout came out.
type Outcome struct {
	panel.Played
	Back     bool
	Interval float64 // at whose end it turned back, from 1; else the last
	Requests float64 // that new had answered by then
	Harmed   float64 // of them, bad ones beyond what old would have given
}

// feed is what the instances of a cohort tell: counters that add up.
type feed struct {
	revision  declare.Fingerprint
	part, all string // their names
	instances []counters
}

type counters struct {
	name   string // of the instance
	number int    // of those that came and went before it
	sum    signal.Tally
	last   signal.Tally // of the last interval
	late   signal.Tally // of it, what is not seen half an interval before its end
}

// add adds what the instances of a cohort showed in an interval; late tells what of it came in the second half.
func (f *feed) add(cohort side, shown []signal.Tally, late func(instance int) signal.Tally) {
	if f.instances == nil {
		f.instances = make([]counters, len(cohort.instances))
	}
	for n := range shown {
		c, number := &f.instances[n], cohort.instances[n].number
		if c.name == "" || c.number != number {
			*c = counters{name: fmt.Sprint(f.revision, number), number: number}
		}
		c.sum, c.last, c.late = c.sum.Add(shown[n]), shown[n], late(n)
	}
}

// scrapes are what is read of the instances, but for what is withheld.
func (f *feed) scrapes(withheld func(counters) signal.Tally) (all []panel.Scrape) {
	for _, c := range f.instances {
		if c.name == "" {
			continue
		}
		told := withheld(c)
		page := signal.Page{f.part: {signal.NewSample(nil, c.sum.Part-told.Part)}, f.all: {signal.NewSample(nil, c.sum.Whole-told.Whole)}}
		all = append(all, panel.Scrape{Instance: c.name, Revision: f.revision, Page: page})
	}
	return all
}

func nothing(counters) signal.Tally { return signal.Tally{} }

func second(c counters) signal.Tally { return c.late }

// Play plays a rollout in which new is worse than old by worse from an interval on.
func (p Plan) Play(t Traffic, worse float64, from int, seed uint64) Outcome {
	s := t.start(seed)
	late := func(shown []signal.Tally) func(int) signal.Tally {
		return func(n int) signal.Tally { return s.half(shown[n]) }
	}
	return p.play(s, worse, from, "bad", "all", func(i shown, feeds *[2]feed) {
		feeds[0].add(s.sides[0], i.old, late(i.old))
		feeds[1].add(s.sides[1], i.new, late(i.new))
	})
}

// play plays a rollout of which add makes what instances show in each interval.
func (p Plan) play(s *source, worse float64, from int, part, all string, add func(shown, *[2]feed)) (o Outcome) {
	d := p.declared()
	player := panel.NewPlayer(d)
	feeds := [2]feed{{revision: panel.OldSide, part: part, all: all}, {revision: panel.NewSide, part: part, all: all}}
	// take takes both sides at a moment; it is false once the rollout turned back
	take := func(at time.Duration, withheld func(counters) signal.Tally, lost bool) bool {
		var scrapes []panel.Scrape
		for side := range feeds {
			one := feeds[side].scrapes(withheld)
			if lost && s.happens(s.Lost) {
				for n := range one {
					one[n].Page, one[n].Unread = nil, "lost"
				}
			}
			scrapes = append(scrapes, one...)
		}
		o.Interval = float64(at) / float64(Every)
		return player.Take(panel.Moment{At: at, Scrapes: scrapes})
	}
	early := func(c counters) signal.Tally { return s.part(c.last, s.Skew*s.chance.Float64()) }
	if s.Skew == 0 {
		early = nothing
	}
	none := make([]signal.Tally, s.Instances)
	add(shown{none, none}, &feeds)
	take(-lead*Every, nothing, false)
	for n := range lead {
		add(shown{old: s.next(0, 0).old, new: none}, &feeds)
		take(time.Duration(n+1-lead)*Every, early, false)
	}
	at := 0
	for share := range p.shares(d) {
		extra := 0.0
		if at >= from {
			extra = worse
		}
		i := s.next(share, extra)
		add(i, &feeds)
		at++
		counts := func(part float64) {
			if at > from {
				new := total(i.new).Whole * part
				o.Requests, o.Harmed = o.Requests+new, o.Harmed+new*extra
			}
		}
		half := time.Duration(at)*Every - Every/2
		counts(0.5)
		if player.Due() <= half && !take(half, second, true) {
			break
		}
		counts(0.5)
		if !take(time.Duration(at)*Every, early, true) {
			break
		}
	}
	o.Played = player.End()
	o.Back = o.Ending == panel.EndsBack
	return o
}

// shares are those of new, interval by interval.
func (p Plan) shares(d *declare.Desired) iter.Seq[float64] {
	return func(yield func(float64) bool) {
		for _, stretch := range panel.Schedule(d) {
			for range int(stretch.Lasts / Every) {
				if !yield(stretch.Share) {
					return
				}
			}
		}
	}
}

// Ratio is the rule that all trials of shares use: new at most so much above old.
func Ratio(above float64) guard.Rule {
	return guard.Rule{
		Name: "errors", Way: guard.Sequential, Limit: guard.Limit{Kind: guard.AboveOld, Value: above, Unit: guard.Share}, Missing: guard.MissingHolds, Then: guard.RollBack,
		Signal: signal.Source{Kind: signal.Ratio, Of: signal.Series{Metric: "bad"}, To: &signal.Series{Metric: "all"}},
	}
}

// Counting is the same rule decided by counting.
func Counting(above float64, count guard.Count) guard.Rule {
	rule := Ratio(above)
	rule.Way, rule.Breach = guard.ByCount, &count
	return rule
}

// Bound is Wald's: how many requests to new any sequential test needs on average that breaches falsely with at most
// the chance risk and misses with at most the chance missed, where new is worse than the limit allows by extra
// and old has the rate bad. A. Wald, "Sequential tests of statistical hypotheses", Ann. Math. Statist. 16 (1945).
func Bound(bad, limit, extra, share, risk, missed float64) float64 {
	high := bad + limit + extra
	ratio := (1 - share) / share // requests to old for each to new
	least := math.Inf(1)
	for r := bad; r <= high-limit; r += extra / 2000 {
		least = min(least, divergence(high, r+limit)+ratio*divergence(bad, r))
	}
	return ((1-missed)*math.Log((1-missed)/risk) + missed*math.Log(missed/(1-risk))) / least
}

// divergence is Kullback and Leibler's, of one rate from another.
func divergence(p, q float64) float64 {
	if p == q {
		return 0
	}
	return p*math.Log(p/q) + (1-p)*math.Log((1-p)/(1-q))
}
