package rollout

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"aditus/internal/core/guard"
	"aditus/internal/core/say"
)

func (m *machine) hold(by, why string) {
	m.HeldFrom = m.Phase
	m.fact(FactHeld, by, "%s, in %s", why, m.Where())
	m.enter(Held, by, "%s", why)
}

// judge turns the rollout round, or holds it, where the evidence says so. All causes found at once are one rollback.
func (m *machine) judge() {
	var causes []Cause
	var hold []string
	for _, verdict := range m.seen.Verdicts {
		if verdict.Word != guard.Breach {
			continue
		}
		switch verdict.Then {
		case guard.RollBack:
			causes = append(causes, Cause{Kind: ByGuard, Text: Sentence(verdict), Verdict: &verdict, At: m.now})
		case guard.Hold:
			hold = append(hold, Sentence(verdict))
		case guard.Tell:
			if !slices.Contains(m.Told, verdict.Guard) {
				m.Told = append(m.Told, verdict.Guard)
				m.facts = append(m.facts, Fact{Kind: FactTold, By: Automatic, Data: verdict, Text: Sentence(verdict) + counted(&verdict) + "; the guard only tells"})
			}
		}
	}
	causes = append(causes, m.unwell()...)
	switch {
	case len(causes) > 0 && m.Phase == Held && (m.Return || m.coolingDown() || !m.Old.Proven):
	case len(causes) > 0 && m.Return:
		m.hold(Automatic, "the way back breaches itself, and nothing is tried after it: "+causes[0].Text)
	case len(causes) > 0 && m.coolingDown():
		m.hold(Automatic, "a second rollback within the cool-down is a person's to decide: "+causes[0].Text)
	case len(causes) > 0 && m.Old.None():
		m.hold(Automatic, "there is no revision to go back to: "+causes[0].Text)
	case len(causes) > 0 && !m.Old.Proven:
		m.hold(Automatic, fmt.Sprintf("%s was never proven, so going back to it is a person's to decide: %s", m.Old.Version, causes[0].Text))
	case len(causes) > 0:
		for _, cause := range causes {
			m.facts = append(m.facts, Fact{Kind: FactBreach, By: Automatic, Text: fmt.Sprintf("%s%s, decided %s into %s", cause.Text, counted(cause.Verdict), say.Span(m.now.Sub(m.Entered)), m.Where()), Data: cause})
		}
		m.turnBack(Automatic, true, causes)
	case len(hold) > 0 && m.Phase != Held:
		m.hold(Automatic, hold[0])
	}
}

// stand turns back to the kept old set where a standing guard breaches.
func (m *machine) stand() {
	var causes []Cause
	for _, verdict := range m.seen.Verdicts {
		if verdict.Word == guard.Breach && verdict.Then == guard.RollBack {
			causes = append(causes, Cause{Kind: ByGuard, Text: Sentence(verdict), Verdict: &verdict, At: m.now})
		}
	}
	if len(causes) > 0 && m.Old.Proven && !m.coolingDown() {
		m.turnBack(Automatic, true, causes)
	}
}

// counted tells on what a verdict rests.
func counted(v *guard.Verdict) string {
	switch {
	case v == nil || v.New == nil || v.Limit.Unit == guard.Alerts:
		return ""
	case v.Way == guard.Sequential:
		unit := v.Limit.Unit
		return fmt.Sprintf(" (%s to %s)", unit.Format(max(0, v.New.Low)), unit.Format(v.New.High))
	case v.Beyond == 0:
		return ""
	}
	return fmt.Sprintf(" (in %d of %d intervals)", v.Beyond, v.Judged)
}

// unwell gives the causes that lie in the new cohort's health.
func (m *machine) unwell() []Cause {
	cohort := m.seen.New
	cause := func(kind CauseKind, format string, args ...any) []Cause {
		return []Cause{{Kind: kind, Text: fmt.Sprintf(format, args...), At: m.now}}
	}
	if cohort.CannotStart != "" {
		return cause(ByArtifact, "cannot start: %s", cohort.CannotStart)
	}
	for _, task := range slices.Sorted(maps.Keys(m.New.Tasks)) {
		if failed := cohort.Failed[task]; failed != "" {
			return cause(ByTask, "the task %s failed: %s", task, failed)
		}
	}
	if m.settled(m.stage().Share) {
		return m.untried(cause)
	}
	why := cohort.Health.Reason
	if why == "" {
		why = "no reason known"
	}
	// Whatever the phase, traffic on a cohort with nothing healthy does not wait for a deadline.
	for _, part := range slices.Sorted(maps.Keys(m.New.Parts)) {
		if m.New.Parts[part] > 0 && cohort.Healthy[part] == 0 && m.seen.Share > 0 && cohort.Health.Failing > 0 {
			return cause(ByHealth, "no instance of %s is healthy any more: %s", part, why)
		}
	}
	if up := m.up(); up > m.Most {
		m.Most, m.Progressed = up, m.now
	}
	if m.Phase == Settling || m.HeldFrom == Settling {
		if waited := m.now.Sub(later(later(m.Since, m.Resumed), m.Progressed)); m.Phase == Settling && waited > m.Rules.Deadline.Duration {
			return cause(ByDeadline, "new instances were not healthy within %s: %s", say.Span(m.Rules.Deadline.Duration), why)
		}
		return nil
	}
	// Soak and proving stand still meanwhile, so the time since the last good look tells how long it lasts.
	if !m.Seen.IsZero() && m.now.Sub(later(m.Seen, m.Resumed)) > m.Rules.Deadline.Duration {
		return cause(ByHealth, "new instances did not come back to health within %s: %s", say.Span(m.Rules.Deadline.Duration), why)
	}
	return nil
}

// untried gives the cause that lies in a task that tries the new cohort and does not come to its end.
func (m *machine) untried(cause func(kind CauseKind, format string, args ...any) []Cause) []Cause {
	limit := m.Rules.Deadline.Duration + m.stage().Soak.Duration
	if m.Phase != Soaking || m.now.Sub(later(m.Since, m.Resumed)) <= limit {
		return nil
	}
	if tasks := m.unchecked(); len(tasks) > 0 {
		return cause(ByTask, "the task %s, which tries %s, did not end within %s", tasks[0], m.New.Version, say.Span(limit))
	}
	return nil
}

// up is how many new instances are ready.
func (m *machine) up() (sum int) {
	for _, n := range m.seen.New.Ready {
		sum += n
	}
	return sum
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

func (m *machine) coolingDown() bool {
	return !m.LastRollback.IsZero() && m.now.Sub(m.LastRollback) < m.Rules.CoolDown.Duration
}

// turnBack starts the way back.
func (m *machine) turnBack(by string, bar bool, causes []Cause) {
	m.Causes, m.Bar, m.Task = append(m.Causes, causes...), bar, ""
	m.LetGo, m.Ended = false, time.Time{}
	texts := make([]string, len(causes))
	for i, cause := range causes {
		texts[i] = cause.Text
	}
	m.enter(RollingBack, by, "%s", strings.Join(texts, "; "))
	if m.Old.None() {
		m.fact(FactRollback, by, "%s is taken away again, from %s%s", m.New.Version, m.Where(), Undone(m.State))
		return
	}
	m.facts = append(m.facts, Fact{Kind: FactRollback, By: by, Data: m.seen.Verdicts, Text: fmt.Sprintf("back to %s (%s), from %s%s", m.Old.Version, m.Old.Revision.Short(), m.Where(), Undone(m.State))})
}

// Undone tells, in the end of a sentence, what going back does not undo; it is empty where everything is undone.
func Undone(s State) string { return Stays(s.Passed) }

// Stays tells the same of tasks that are named.
func Stays(tasks []string) string {
	switch len(tasks) {
	case 0:
		return ""
	case 1:
		return fmt.Sprintf("; what the task %s did stays, as it cannot be undone", tasks[0])
	}
	return fmt.Sprintf("; what the tasks %s did stays, as it cannot be undone", strings.Join(tasks, ", "))
}

// Sentence tells a breach in words: slow share 9.1 %, at most 5 % is allowed.
func Sentence(v guard.Verdict) string {
	unit := v.Limit.Unit
	switch {
	case v.Why != "" && v.Word == guard.Breach && v.Since.IsZero():
		return v.Name() + ": " + v.Why
	case !v.Since.IsZero() || v.New == nil:
		return fmt.Sprintf("%s gave no samples since %s", v.Name(), v.Since.Format(time.TimeOnly))
	case v.Limit.Relative() && v.Difference != nil:
		return fmt.Sprintf("%s %s against old, %s", v.Name(), unit.FormatDifference(v.Difference.Value), v.Limit.Allows())
	}
	return fmt.Sprintf("%s %s, %s", v.Name(), unit.Format(v.New.Value), v.Limit.Allows())
}
