package simulate

import (
	"math"
	"time"

	"aditus/internal/core/guard"
	"aditus/internal/core/signal"
)

// Stage is a stage of a played rollout.
type Stage struct {
	Share     float64
	Intervals int
}

// Stages are those of a careful rollout: twenty minutes of rising shares, and fifteen with a control share on old,
// the last ten of which are the proving.
var Stages = []Stage{{0.05, 30}, {0.25, 45}, {0.5, 45}, {0.95, 30}, {0.95, 60}}

// lead is how many intervals of the old cohort alone come before a rollout.
const lead = 24

// Outcome is how a played rollout came out.
type Outcome struct {
	Breach   bool
	Interval int     // at which it was seen, from 1
	Requests float64 // that new had answered by then
	Harmed   float64 // of them, bad ones beyond what old would have given
}

// decider says after each interval whether the guard breaches.
type decider interface {
	begin(stage int, at time.Time)
	add(guard.Interval) bool
}

type sequential struct{ *guard.Process }

func (s sequential) begin(stage int, at time.Time) { s.Process.Begin(stage, at) }
func (s sequential) add(i guard.Interval) bool {
	s.Process.Add(i)
	return s.Process.Broke()
}

// counting is the rule that counts intervals beyond the limit.
type counting struct {
	rule    guard.Rule
	history []guard.Interval
	began   time.Time
}

func (c *counting) begin(_ int, at time.Time) { c.history, c.began = nil, at }
func (c *counting) add(i guard.Interval) bool {
	c.history = append(c.history, i)
	if most := 40; len(c.history) > most {
		c.history = c.history[len(c.history)-most:]
	}
	return guard.Judge(c.rule, c.history, c.began, i.At, Every).Word == guard.Breach
}

// Ratio is the rule that all trials of shares use: new at most so much above old.
func Ratio(above float64) guard.Rule {
	return guard.Rule{Name: "errors", Signal: signal.Source{Kind: signal.Ratio}, Way: guard.Sequential, Limit: guard.Limit{Kind: guard.AboveOld, Value: above, Unit: guard.Share}, Then: guard.RollBack}
}

// Sequentially plays a rollout under the sequential rule. New is worse than old by worse from the interval on.
func Sequentially(t Traffic, rule guard.Rule, risk float64, stages []Stage, worse float64, from int, seed uint64) Outcome {
	return play(t, rule, func(s *source) decider {
		p := guard.NewProcess(rule, risk, Every)
		for range lead {
			p.Lead(s.next(0, 0).Old)
		}
		return sequential{p}
	}, stages, worse, from, seed)
}

// Counting plays the same rollout under the rule that counts.
func Counting(t Traffic, rule guard.Rule, count guard.Count, stages []Stage, worse float64, from int, seed uint64) Outcome {
	rule.Way, rule.Breach = guard.ByCount, &count
	return play(t, rule, func(s *source) decider {
		for range lead {
			s.next(0, 0)
		}
		return &counting{rule: rule}
	}, stages, worse, from, seed)
}

func play(t Traffic, rule guard.Rule, make func(*source) decider, stages []Stage, worse float64, from int, seed uint64) (o Outcome) {
	s := t.start(seed)
	d := make(s)
	at := 0
	var beside []guard.Interval
	var bound *float64
	for number, stage := range stages {
		if stage.Share == 1 {
			bound = guard.Moves(rule, beside)
		}
		for inside := range stage.Intervals {
			extra := 0.0
			if at >= from {
				extra = worse
			}
			i := s.next(stage.Share, extra)
			if i.Bound = bound; bound == nil {
				beside = append(beside, i)
			}
			if inside == 0 {
				d.begin(number, i.At.Add(-Every))
			}
			at++
			if i.New != nil && at > from {
				o.Requests += i.New.Whole
				o.Harmed += i.New.Whole * extra
			}
			if d.add(i) {
				o.Breach, o.Interval = true, at
				return o
			}
		}
	}
	return o
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
