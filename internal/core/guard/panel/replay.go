package panel

import (
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/rollout"
	"aditus/internal/core/signal"
)

// Replay judges a recording with one guard, as one stage of a rollout in which new has a share beside old. It goes the way
// of live evidence, through a Panel.
type Replay struct {
	panel   Panel
	subject Subject
}

// NewReplay makes a Replay that begins at a moment and is evaluated about every so often. risk is the chance of a false
// breach over all of it, for a guard that decides sequentially.
func NewReplay(rule guard.Rule, risk float64, every time.Duration, began time.Time) *Replay {
	rules := declare.Rollout{Risk: risk, Interval: declare.Span{Duration: every}, Stages: []declare.Stage{{Share: 0.5}, {Share: 1}}}
	side := func(name declare.Fingerprint) rollout.Side {
		return rollout.Side{Revision: name, Parts: map[string]int{"": 1}}
	}
	return &Replay{subject: Subject{
		Rules: &declare.Desired{Rollout: rules, Guards: []guard.Rule{rule}},
		Roll:  &rollout.State{ID: 1, Phase: rollout.Soaking, Began: began, Shared: began, Rules: rules, Old: side("old"), New: side("new")},
	}}
}

// Take takes what both cohorts showed at a moment, an empty page where one showed nothing, and gives the verdict then.
func (r *Replay) Take(old, new signal.Page, at time.Time) guard.Verdict {
	var scrapes []Scrape
	for _, s := range []Scrape{{Instance: "old", Revision: "old", Page: old}, {Instance: "new", Revision: "new", Page: new}} {
		if len(s.Page) > 0 {
			scrapes = append(scrapes, s)
		}
	}
	r.panel.Evaluate(r.subject, scrapes, func(string) bool { return true }, at)
	return r.panel.Judge(r.subject, true, at).Verdicts[0]
}

// Spoke tells whether the guard's signal of the new cohort was ever there.
func (r *Replay) Spoke() bool {
	for _, e := range r.panel.series {
		for _, points := range e.points {
			if points["new"] != nil {
				return true
			}
		}
	}
	return false
}
