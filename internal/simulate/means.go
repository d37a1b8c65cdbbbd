package simulate

import (
	"math"
	"time"

	"aditus/internal/core/guard"
	"aditus/internal/core/signal"
)

// Mean is the rule that the trials of means use: answers of new at most so many seconds slower than those of old.
func Mean(above float64) guard.Rule {
	return guard.Rule{Name: "time", Signal: signal.Source{Kind: signal.Mean}, Way: guard.Sequential, Limit: guard.Limit{Kind: guard.AboveOld, Value: above, Unit: guard.Seconds}, Then: guard.RollBack}
}

// Answers are times of answers with a long tail: logarithms of them are normal.
type Answers struct {
	Name    string
	Typical float64 // median, in seconds
	Tail    float64 // standard deviation of the logarithm
	Wander  float64 // how much both cohorts get slower and faster together, as a share per interval
	Scatter float64 // and each by itself
}

// next makes the mean of so many answers, slower by so much.
func (a Answers) next(s *source, at time.Time, requests, level, slower float64) *signal.Point {
	n := s.poisson(requests)
	if n == 0 {
		return nil
	}
	typical := a.Typical * level * math.Exp(a.Scatter*s.chance.NormFloat64()-a.Scatter*a.Scatter/2)
	sum := 0.0
	for range int(n) {
		sum += typical*math.Exp(a.Tail*s.chance.NormFloat64()) + slower
	}
	return &signal.Point{At: at, Value: sum / n, Tally: signal.Tally{Part: sum, Whole: n}}
}

// Means plays a rollout in which new answers more slowly from the first interval on, under a rule on the mean.
func Means(t Traffic, a Answers, rule guard.Rule, risk float64, stages []Stage, slower float64, seed uint64) (o Outcome) {
	s := t.start(seed)
	p := guard.NewProcess(rule, risk, Every)
	level, at := 1.0, time.Unix(0, 0)
	step := func(share, slower float64) guard.Interval {
		at = at.Add(Every)
		level = math.Exp(0.98*math.Log(level) + a.Wander*s.chance.NormFloat64())
		i := guard.Interval{At: at}
		if share < 1 {
			i.Old = a.next(s, at, t.Requests*(1-share), level, 0)
		}
		if share > 0 {
			i.New = a.next(s, at, t.Requests*share, level, slower)
		}
		return i
	}
	for range lead {
		p.Lead(step(0, 0).Old)
	}
	for number, stage := range stages {
		p.Begin(number, at)
		for range stage.Intervals {
			i := step(stage.Share, slower)
			o.Interval++
			if i.New != nil {
				o.Requests += i.New.Whole
			}
			if p.Add(i); p.Broke() {
				o.Breach = true
				return o
			}
		}
	}
	return o
}
