package simulate

import (
	"fmt"
	"iter"
	"maps"
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

// Play plays a rollout in which new is worse than old by worse from an interval on.
func (p Plan) Play(t Traffic, worse float64, from int, seed uint64) Outcome {
	return p.play([]*stream{shares(t, "bad", "all", seed)}, worse, from)
}

// Several plays a rollout under as many guards as there are kinds of traffic, each of which has a signal of its own that follows its kind.
func (p Plan) Several(kinds []Traffic, worse float64, seed uint64) Outcome {
	var streams []*stream
	for n, t := range kinds {
		if n > 0 { // instances come, go and are read as one
			t.Lost, t.Churn = 0, 0
		}
		streams = append(streams, shares(t, fmt.Sprint("bad", n), fmt.Sprint("all", n), seed+uint64(n)<<32))
	}
	return p.play(streams, worse, 0)
}

// play plays a rollout in which instances show all of these streams. The first one's requests are those that count.
func (p Plan) play(streams []*stream, worse float64, from int) (o Outcome) {
	player := panel.NewPlayer(p.declared())
	// take takes what all show at a moment; it is false once the rollout turned back
	take := func(at time.Duration, when moment) bool {
		scrapes := streams[0].scrapes(when)
		for _, other := range streams[1:] {
			for n, s := range other.scrapes(when) {
				if scrapes[n].Page != nil {
					maps.Copy(scrapes[n].Page, s.Page)
				}
			}
		}
		o.Interval = float64(at) / float64(Every)
		return player.Take(panel.Moment{At: at, Scrapes: scrapes})
	}
	next := func(share, worse float64) (first shown) {
		for n, s := range streams {
			if i := s.next(share, worse); n == 0 {
				first = i
			}
		}
		return first
	}
	for _, s := range streams {
		s.nothing()
	}
	take(-lead*Every, before)
	for n := range lead {
		next(0, 0)
		take(time.Duration(n+1-lead)*Every, before)
	}
	at := 0
	for share := range p.shares(p.declared()) {
		extra := 0.0
		if at >= from {
			extra = worse
		}
		new := total(next(share, extra).new).Whole / 2
		at++
		counts := func() {
			if at > from {
				o.Requests, o.Harmed = o.Requests+new, o.Harmed+new*extra
			}
		}
		ends := time.Duration(at) * Every
		counts()
		if player.Due() <= ends-Every/2 && !take(ends-Every/2, halfway) {
			break
		}
		counts()
		if !take(ends, end) {
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
