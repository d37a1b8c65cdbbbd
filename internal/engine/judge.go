package engine

import (
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/rollout"
	"aditus/internal/core/signal"
	"aditus/internal/ledger"
)

// stageOf is the stage under whose share a whole evaluation interval lies that ends now; -1 for none.
func (b *loop) stageOf(now time.Time) int {
	if stage := b.stage(); stage != noStage && now.Sub(b.state.Roll.Shared) >= wholeOf(b.state.Roll.Rules.Interval.Duration) {
		return stage
	}
	return noStage
}

// stage is the stage whose share new has now, the proving being one more; noStage while the share is on its way.
func (b *loop) stage() int {
	s := b.state.Roll
	if s == nil || s.Shared.IsZero() || s.Phase == rollout.Settling || s.HeldFrom == rollout.Settling || !s.Ahead() {
		return noStage
	}
	if s.Phase == rollout.Proving || s.HeldFrom == rollout.Proving {
		return len(s.Rules.Stages)
	}
	return s.Stage
}

// noStage stands for an evaluation that is not about any stage.
const noStage = -1

// wholeOf is how much of an interval must lie under one share for it to count as whole.
func wholeOf(every time.Duration) time.Duration { return every - every/10 }

// judge holds the guards against what was evaluated: during a rollout new against its limits, and otherwise what is
// applied against those that stand.
func (b *loop) judge(seen *evidence, now time.Time) {
	rules, about := b.rules(seen), judgement{}
	if rules == nil {
		return
	}
	if b.state.Roll != nil {
		about = judgement{b.state.Roll.ID, b.state.Roll.Shared}
	}
	every := rules.Rollout.Interval.Duration
	if !seen.evaluated && about == b.senses.judged && now.Sub(b.senses.evaluated) < 2*every {
		seen.verdicts = b.senses.verdicts
		seen.requests, seen.observed = b.senses.split(seen, about, every)
		return
	}
	b.senses.judged = about
	if b.state.Roll != nil && about.shared.IsZero() {
		b.senses.verdicts = nil
		return
	}
	b.senses.feed(b.process(rules), b.state.Roll)
	b.senses.trim()
	for _, rule := range rules.Guards {
		if b.judges(rule) {
			seen.verdicts = append(seen.verdicts, b.verdict(rule, seen, about, now, every))
		}
	}
	b.senses.verdicts = seen.verdicts
	seen.requests, seen.observed = b.senses.split(seen, about, every)
}

// judges tells whether a guard counts now: in this stage, and with something to measure and to compare with.
func (b *loop) judges(rule guard.Rule) bool {
	s := b.state.Roll
	if s == nil || s.Phase == rollout.Proven {
		return !rule.Limit.Relative()
	}
	if s.Phase != rollout.Proving && !s.Counts(rule.Name, s.Stage) {
		return false
	}
	alone := s.Old.Empty() && rule.Limit.AtMost == nil // a first revision has neither an old one nor a past
	return s.AskedShare() > 0 && !s.New.Empty() && !alone
}

// verdict is a guard's judgement as of now.
func (b *loop) verdict(rule guard.Rule, seen *evidence, about judgement, now time.Time, every time.Duration) guard.Verdict {
	stands := b.state.Roll == nil || b.state.Roll.Phase == rollout.Proven
	if stands {
		rule.Then = rule.Standing
	}
	if p := b.senses.processes[rule.Name]; p != nil {
		if b.state.Roll != nil && !stands {
			if stage := b.stage(); stage != noStage {
				p.Begin(stage, about.shared)
			}
			p.Awake(b.state.Roll.Resumed)
		}
		v := p.Verdict(now)
		v.Then = rule.Then
		return v
	}
	began, history := about.shared, b.senses.history(rule.Name, seen, about.shared, every)
	if !stands && b.state.Roll.AskedShare() == 1 && rule.Limit.Relative() {
		history = guard.AgainstLast(rule, b.senses.history(rule.Name, seen, b.state.Roll.Began, every), history)
	}
	if rule.Limit.AbovePastBy != nil {
		for i := range history {
			history[i].Bound = b.past(rule, history[i].At)
		}
	}
	if stands {
		history = history[max(0, len(history)-2*rule.Breach.Of):]
		began = now
	}
	return guard.Judge(rule, history, later(began, b.sinceResume()), now, every)
}

// sinceResume is when watching went on after a restart: silence counts from there.
func (b *loop) sinceResume() time.Time {
	if b.state.Roll != nil {
		return b.state.Roll.Resumed
	}
	return time.Time{}
}

// process makes the processes that a berth's guards need now.
func (b *loop) process(rules *declare.Desired) following {
	f := following{rules: rules, id: standingID, revision: b.state.Applied, bound: b.bound}
	risk, every := rules.RiskEach(), rules.Rollout.Interval.Duration
	f.make = func(rule guard.Rule) *guard.Process { return guard.NewStanding(rule, every) }
	if b.state.Roll != nil && b.state.Roll.Phase != rollout.Proven {
		f.id, f.revision = b.state.Roll.ID, b.state.Roll.New.Revision
		f.make = func(rule guard.Rule) *guard.Process { return guard.NewProcess(rule, risk, every) }
	}
	return f
}

// bound is where a limit that moves lay at an evaluation; nil where it does not move, or cannot be told.
func (b *loop) bound(rule guard.Rule, e *evaluation) *float64 {
	switch {
	case rule.Limit.AbovePastBy != nil:
		return b.past(rule, e.at)
	case rule.Limit.Relative() && b.state.Roll != nil && e.stage != noStage && b.state.Roll.ShareIn(e.stage) == 1:
		return b.moved(rule)
	}
	return nil
}

// moved is where a limit above old lies since the new cohort has all the traffic. It is worked out once, while what old
// showed last is still remembered.
func (b *loop) moved(rule guard.Rule) *float64 {
	if known, ok := b.senses.moved[rule.Name]; ok && known.at.Equal(b.state.Roll.Shared) {
		return known.bound
	}
	var before []guard.Interval
	for _, e := range b.senses.series {
		if !e.at.After(b.state.Roll.Shared) {
			before = append(before, guard.Interval{At: e.at, Old: e.points[rule.Name][b.state.Roll.Old.Revision]})
		}
	}
	b.senses.moved[rule.Name] = knownBound{b.state.Roll.Shared, guard.Moves(rule, before)}
	return b.senses.moved[rule.Name].bound
}

// pastEvery is how often a workload's own past is read anew.
const pastEvery = 5 * time.Minute

// past is where a limit above the workload's own past lies.
func (b *loop) past(rule guard.Rule, at time.Time) *float64 {
	known, ok := b.senses.past[rule.Name]
	if ok && at.Sub(known.at) < pastEvery && !at.Before(known.at) {
		return known.bound
	}
	rows, err := b.e.ledger.Steady(b.id, rule.Name, at.AddDate(0, 0, -guard.PastDays-1))
	if err != nil {
		return nil // the guard is silent then, and says so
	}
	points := make([]signal.Point, len(rows))
	for i, r := range rows {
		points[i] = signal.Point{At: r.At, Value: r.Value, Tally: signal.Tally{Part: r.Part, Whole: r.Whole, Instances: 1}}
	}
	b.senses.past[rule.Name] = knownBound{at, guard.Past(rule, points, at)}
	return b.senses.past[rule.Name].bound
}

// keepSteady adds what the applied revision showed while it served alone to the history that is kept for good.
func (b *loop) keepSteady(e *evaluation, rules *declare.Desired, now time.Time) {
	if b.state.Roll != nil && b.state.Roll.Phase != rollout.Proven {
		b.senses.steady = nil
		return
	}
	if b.senses.steady == nil {
		b.senses.steady, b.senses.steadyFrom = map[string]*ledger.Point{}, now
	}
	for _, rule := range rules.Guards {
		p := e.points[rule.Name][b.state.Applied]
		if p == nil {
			continue
		}
		sum := b.senses.steady[rule.Name]
		if sum == nil {
			sum = &ledger.Point{Guard: rule.Name, Revision: b.state.Applied}
			b.senses.steady[rule.Name] = sum
		}
		// Weighted by what is behind each value, so that a mean and a rate come out right as well.
		sum.Value = (sum.Value*sum.Whole + p.Value*p.Whole) / max(1e-12, sum.Whole+p.Whole)
		sum.Part, sum.Whole, sum.At = sum.Part+p.Part, sum.Whole+p.Whole, now
	}
}

// steadyPoints gives the history that is due to be kept, and begins the next.
func (b *loop) steadyPoints(now time.Time) (points []ledger.Point) {
	if b.senses.steady == nil || now.Sub(b.senses.steadyFrom) < ledger.SteadyEvery {
		return nil
	}
	for _, p := range b.senses.steady {
		points = append(points, *p)
	}
	return points
}
