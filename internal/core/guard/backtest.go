package guard

import (
	"cmp"
	"time"

	"aditus/internal/core/signal"
)

// Staged is an interval of a rollout with the stage under whose share it lay, from 0; -1 for none.
type Staged struct {
	Interval
	Stage int
	Alone bool // new had all the traffic, so that a limit above old is held against what old showed last
}

// Tested is what a rule would have made of a rollout.
type Tested struct {
	Stopped   bool      // it would have breached
	At        time.Time // when
	Undecided bool      // or it would have waited, as at the end of a stage it could not be told whether the limit held
	Nearest   float64   // how close the signal came to the limit by then, as a share of it; beyond 1 it was exceeded. Of a lower limit it is the limit as a share of the least
	Lower     bool      // the limit is a lower one
	Judged    int       // intervals
}

// Backtest holds a rule against a rollout of the past, interval by interval as it would have been then. lead is what the
// old cohort showed before; past gives where a limit above the workload's own past lay. Of a rollout that ended early only what it showed until then can be told.
func Backtest(rule Rule, risk float64, every time.Duration, lead []*signal.Point, history []Staged, past func(time.Time) *float64) (t Tested) {
	if rule.Signal.Kind == signal.Quantile { // its evidence is of the limit that was declared then, and says nothing of another
		rule.Way, rule.Breach = ByCount, cmp.Or(rule.Breach, &Count{Intervals: 3, Of: 5, Samples: 50})
	}
	t.Lower = rule.Limit.Below()
	near := func(margin float64) float64 {
		if t.Lower {
			return 1 / max(margin+1, 1e-9)
		}
		return 1 - margin
	}
	p := NewProcess(rule, risk, every)
	for _, old := range lead {
		p.Lead(old, nil)
	}
	var inStage, before []Interval
	for _, old := range lead {
		before = append(before, Interval{Old: old})
	}
	var trend *Trend // of old, once new has all the traffic
	alone := 0
	var began time.Time
	var v Verdict
	stage := -1
	leave := func() { // the stage; what is undecided then is waited for
		if margin, ok := v.Margin(); ok && v.Word == Undecided {
			t.Nearest = max(t.Nearest, near(margin))
			t.Undecided = true
		}
	}
	for _, i := range history {
		if i.Stage < 0 {
			continue
		}
		if i.Stage != stage {
			leave()
			stage, inStage, began = i.Stage, nil, i.At.Add(-every)
		}
		switch {
		case len(rule.Hours) > 0:
			i.Bound = rule.HourlyBound(i.At)
		case rule.Limit.Base() == OwnPast:
			i.Bound = past(i.At)
		case rule.Limit.Relative() && i.Alone:
			if trend == nil {
				trend = NewTrend(rule, before)
			}
			if alone++; trend != nil {
				bound := trend.Bound(alone)
				i.Bound = &bound
			}
		default:
			before = append(before, i.Interval)
		}
		inStage = append(inStage, i.Interval)
		if rule.Way == Sequential {
			p.Begin(stage, began)
			p.Add(i.Interval)
			v = p.Verdict(i.At)
		} else {
			v = Judge(rule, inStage, began, i.At, every)
		}
		t.Judged++
		if margin, ok := v.Margin(); ok && v.Word != Undecided {
			t.Nearest = max(t.Nearest, near(margin))
		}
		if v.Word == Breach {
			t.Stopped, t.Undecided, t.At = true, false, i.At
			return t
		}
	}
	leave()
	return t
}
