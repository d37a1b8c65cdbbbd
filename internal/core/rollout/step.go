package rollout

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/say"
)

// Automatic is who acts when no person does.
const Automatic = "aditus"

// shareTolerance is how far the share seen at a target may be from the one asked for and still count as reached.
const shareTolerance = 0.0005

// Step makes one step. It decides nothing forward on an observation that is not fresh; a way back that was decided
// once is gone to its end.
func Step(s State, seen Observation, commands []Command, now time.Time) Outcome {
	m := &machine{State: s, seen: seen, now: now}
	m.Causes, m.SignedOff, m.Told, m.Passed = slices.Clone(s.Causes), slices.Clone(s.SignedOff), slices.Clone(s.Told), slices.Clone(s.Passed)
	if seen.Reached {
		m.State.Share = seen.Share
		if !seen.Splits {
			m.dropControl()
		}
	}
	for _, command := range commands {
		m.refused = append(m.refused, m.command(command))
	}
	if m.Ahead() && seen.Fresh {
		m.follow()
		m.check()
		m.judge()
		m.relieve()
	}
	if m.Phase == Proven && m.KeptFor(now) > 0 && seen.Fresh {
		m.stand()
	}
	m.proceed()
	m.count()
	return Outcome{State: m.State, Intents: m.intents(), Facts: m.facts, Refused: m.refused, Done: m.done()}
}

type machine struct {
	State
	seen    Observation
	now     time.Time
	facts   []Fact
	refused []error
	wishes  []Intent
}

func (m *machine) fact(kind FactKind, by, format string, args ...any) {
	m.facts = append(m.facts, Fact{Kind: kind, By: by, Text: fmt.Sprintf(format, args...)})
}

// enter goes to a phase and says why.
func (m *machine) enter(phase Phase, by, format string, args ...any) {
	m.Phase, m.By, m.Why, m.Since = phase, by, fmt.Sprintf(format, args...), m.now
}

var (
	errOver       = errors.New("the rollout is over")
	errGoingBack  = errors.New("it is being rolled back already")
	errNotHeld    = errors.New("it is not held")
	errHeld       = errors.New("it is held: go on first")
	errHeldOnce   = errors.New("it is held already")
	errSettling   = errors.New("instances are still coming up")
	errStale      = errors.New("there is no fresh evidence to advance on")
	errWaiting    = errors.New("the stage waits for a sign-off: sign off instead")
	errNothingOld = errors.New("there is no revision to go back to")
	errReturns    = errors.New("it is a way back itself: hold it, let it go on, or abandon it")
	errNotAhead   = errors.New("it is on its way back: let it go on, or abandon it")
	errNotKept    = errors.New("no old set is kept")
)

// Possible tells why a verb is not possible in this state, or nil where it is.
func (s State) Possible(verb Verb) error {
	kept := s.Phase == Proven && s.Rules.Style == declare.BlueGreen && !s.LetGo && !s.Return && !s.Old.None()
	switch {
	case verb == Release && !kept:
		return errNotKept
	case kept && (verb == Release || verb == TurnBack):
		return nil
	case s.Phase.Over():
		return errOver
	case verb == Abandon:
		return nil
	case s.Phase == RollingBack && verb == HoldOn:
		return nil
	case s.Phase == RollingBack:
		return errGoingBack
	case s.Return && (verb == TurnBack || verb == Supersede):
		return errReturns
	case !s.Ahead() && verb != GoOn:
		return errNotAhead
	}
	switch verb {
	case Advance:
		switch s.Phase {
		case Settling:
			return errSettling
		case Waiting:
			return errWaiting
		case Held:
			return errHeld
		}
	case HoldOn:
		if s.Phase == Held {
			return errHeldOnce
		}
	case GoOn:
		if s.Phase != Held {
			return errNotHeld
		}
	case TurnBack:
		if s.Old.None() {
			return errNothingOld
		}
	case Supersede:
	case Sign:
		if s.Phase != Waiting {
			if asked := s.stage().SignOff; asked != "" && s.Phase == Soaking {
				return fmt.Errorf("the stage soaks for %s more before it asks for a sign-off", say.Span(s.SoakLeft()))
			}
			return errors.New("no sign-off is asked for now")
		}
	default:
		return errors.New("there is no such command")
	}
	return nil
}

func (m *machine) command(c Command) error {
	if err := m.Possible(c.Verb); err != nil {
		return fmt.Errorf("%s is not possible: %w", c.Verb, err)
	}
	switch c.Verb {
	case Advance:
		if !m.seen.Fresh {
			return fmt.Errorf("%s is not possible: %w", c.Verb, errStale)
		}
		m.Hurry = true
		m.fact(FactAdvanced, c.By, "%s skipped the rest of %s", c.By, m.Where())
	case HoldOn:
		why := "held by " + c.By + note(c.Note)
		if c.By == Automatic {
			why = c.Note
		}
		m.hold(c.By, why)
	case GoOn:
		m.enter(m.HeldFrom, c.By, "%s let it go on", c.By)
		m.HeldFrom, m.Calls = "", ""
		m.fact(FactGoesOn, c.By, "%s let it go on in %s", c.By, m.Where())
	case Sign:
		if m.Task != "" {
			task := m.Task
			m.SignedOff = append(m.SignedOff, SignOff{Stage: m.Stage, Task: task, By: c.By, At: m.now})
			m.Passed, m.Task = append(m.Passed, task), ""
			m.fact(FactSignedOff, c.By, "%s let the task %s run, which cannot be undone%s", c.By, task, note(c.Note))
			m.enter(Settling, c.By, "the task %s runs", task)
			return nil
		}
		m.SignedOff = append(m.SignedOff, SignOff{Stage: m.Stage, By: c.By, At: m.now})
		m.fact(FactSignedOff, c.By, "%s signed stage %d of %d off%s", c.By, m.Stage+1, len(m.Rules.Stages), note(c.Note))
	case TurnBack:
		if m.Phase == Proven && m.KeptFor(m.now) <= 0 {
			return fmt.Errorf("%s is not possible: %w", c.Verb, errNotKept)
		}
		m.turnBack(c.By, true, []Cause{{Kind: ByPerson, Text: "rolled back by " + c.By + note(c.Note), At: m.now}})
	case Abandon:
		m.abandon(c.By, "left as it is by "+c.By+note(c.Note))
	case Release:
		m.LetGo = true
		m.fact(FactReleased, c.By, "the old set of %s goes, as %s comes in", m.Old.Version, c.Note)
	case Supersede:
		if m.Old.None() && !m.Shared.IsZero() { // it serves, and nothing else does: the newer one comes in beside it
			m.abandon(c.By, "left as it is for "+c.Note+", which comes in beside it")
			return nil
		}
		m.turnBack(c.By, false, []Cause{{Kind: ByNewer, Text: "superseded by " + c.Note, At: m.now}})
	}
	return nil
}

func note(text string) string {
	if text == "" {
		return ""
	}
	return ": " + text
}

// abandon leaves everything as it is.
func (m *machine) abandon(by, why string) {
	m.fact(FactAbandoned, by, "%s (%s) is left unproven with %s of the traffic, from %s: %s", m.New.Version, m.New.Revision.Short(), say.Share(m.seen.Share), m.Where(), why)
	m.enter(Abandoned, by, "%s", why)
	m.Ended = m.now
}

// settled tells whether the new cohort has all the healthy instances that a share needs, and the old one gave way where
// the two are exchanged.
func (m *machine) settled(share float64) bool {
	if !m.seen.New.Laid {
		return false
	}
	for part := range m.New.Parts {
		if m.seen.New.Ready[part] < m.wanted(part, share) {
			return false
		}
		if m.swaps(part) && m.seen.Old.Parts[part] > m.leaves(part, share) {
			return false
		}
	}
	for part, instances := range m.New.Alike {
		if m.seen.New.Ready[part] < min(m.Old.Alike[part], instances) {
			return false
		}
	}
	for task := range m.New.Tasks {
		if _, checks := m.checkedIn(task); !checks && !m.seen.New.Done[task] {
			return false
		}
	}
	for part, waves := range m.New.Objects {
		if m.seen.New.Objects[part].Waves < waves {
			return false
		}
	}
	return m.Rules.Style != declare.BlueGreen || share > 0 || m.seen.New.Preview
}

// reached tells whether the traffic is split as asked. Where a target cannot split it, the instances are the split, and a new
// cohort that is to have none gets none.
func (m *machine) reached() bool {
	return !m.seen.Splits && (m.exchanges() || m.New.Empty()) || near(m.seen.Share, m.AskedShare())
}

func near(a, b float64) bool { return math.Abs(a-b) < shareTolerance }

// proceed goes on to the next phase where the present one has done its part.
func (m *machine) proceed() {
	switch m.Phase {
	case Settling:
		if m.Shared.IsZero() && m.seen.Fresh && m.seen.Share > 0 && m.New.rolled() {
			m.Shared, m.Given = m.now, m.now // the cluster rolls it, and gives it traffic as it comes up: the guards watch from here
		}
		if m.seen.Fresh && m.settled(m.AskedShare()) && m.reached() {
			m.soak()
		}
		if task := m.asksFor(); m.Phase == Settling && m.seen.Fresh && m.seen.New.Laid && task != "" {
			m.Task = task
			m.enter(Waiting, Automatic, "the task %s cannot be undone and waits for a sign-off before it runs", task)
			m.fact(FactWaiting, Automatic, "%s", m.Why)
		}
	case Soaking:
		if !m.mayLeave(m.SoakLeft()) {
			return
		}
		if m.stage().SignOff != "" && !m.signed() {
			m.enter(Waiting, Automatic, "stage %d of %d is clear and waits for a sign-off by %s", m.Stage+1, len(m.Rules.Stages), m.stage().SignOff)
			m.fact(FactWaiting, Automatic, "%s", m.Why)
			return
		}
		if m.Closes() {
			m.prove("all guards held for %s beside %s of the traffic on %s, and alone", say.Span(m.Proved), say.Share(m.Control), m.Old.Version)
			return
		}
		m.nextStage()
	case Waiting:
		if m.Task == "" && m.signed() && m.mayLeave(0) {
			m.nextStage()
		}
	case Proving:
		switch {
		case !m.mayLeave(m.ProvingLeft()):
		case m.Control > 0:
			m.stageAfter()
		default:
			m.prove("all guards held for %s at full traffic", say.Span(m.Proved))
		}
	case RollingBack:
		m.goBack()
	}
}

// relieve has new take old's control share as well once nothing of old can answer it.
func (m *machine) relieve() {
	controls := m.Control > 0 && m.Stage == m.LastStage() && !m.Shared.IsZero() && m.Ahead() && m.Phase != Held // held means nothing moves
	if !controls || m.carry(m.Old, m.seen.Old.Healthy) > 0 || m.carry(m.New, m.seen.New.Healthy) == 0 {
		return
	}
	m.fact(FactControl, Automatic, "%s has nothing healthy any more to answer its %s of the traffic: %s takes all of it", m.Old.Version, say.Share(m.Control), m.New.Version)
	m.dropControl()
	m.Shared = m.now // what was shown before says nothing of this share
}

// prove ends the rollout with the new revision proven.
func (m *machine) prove(format string, args ...any) {
	m.enter(Proven, Automatic, format, args...)
	m.Ended = m.now
	m.facts = append(m.facts, Fact{Kind: FactProven, By: Automatic, Data: m.seen.Verdicts, Text: fmt.Sprintf("%s (%s) is proven: %s", m.New.Version, m.New.Revision.Short(), m.Why)})
}

// soak begins a stage's soak, with its share reached.
func (m *machine) soak() {
	m.Shared, m.Soaked, m.Seen, m.Hurry = m.now, 0, m.now, false
	if m.Given.IsZero() && m.seen.Share > 0 {
		m.Given = m.now
	}
	stage, of := m.stage(), len(m.Rules.Stages)
	text := fmt.Sprintf("%s of the traffic is on %s", say.Share(m.seen.Share), m.New.Version)
	switch {
	case m.Rules.Style == declare.BlueGreen && stage.Share == 0:
		text = fmt.Sprintf("the set of %s is complete and is tried on its preview route", m.New.Version)
	case m.Rules.Style == declare.BlueGreen:
		m.Switched = m.now
	}
	m.enter(Soaking, Automatic, "%s", text)
	m.facts = append(m.facts, Fact{
		Kind: FactStage, By: Automatic, Data: Reached{m.Stage + 1, of, stage.Share, stage.Soak},
		Text: fmt.Sprintf("%s: %s%s", m.Where(), text, soaks(stage.Soak.Duration)),
	})
}

// soaks says how long a stage soaks, where it does.
func soaks(d time.Duration) string {
	if d == 0 {
		return ""
	}
	return ", soak " + say.Span(d)
}

// follow takes over what someone who may scaled meanwhile: both cohorts keep their shares of what is wanted now.
func (m *machine) follow() {
	for _, part := range slices.Sorted(maps.Keys(m.seen.Scaled)) {
		count := m.seen.Scaled[part]
		if m.New.Parts[part] == count || count == 0 {
			continue
		}
		m.Old.Parts, m.New.Parts = maps.Clone(m.Old.Parts), maps.Clone(m.New.Parts)
		m.fact(FactScaled, "someone at the site", "%s was scaled from %d to %d instances; both cohorts follow", part, m.New.Parts[part], count)
		m.Old.Parts[part], m.New.Parts[part] = count, count
	}
}

// mayLeave tells whether the evidence lets the rollout leave its phase: fresh, settled, the time over, nothing
// undecided, silent or beyond its limit. A person's advance stands in for the time and for what is undecided.
func (m *machine) mayLeave(left time.Duration) bool {
	if !m.seen.Fresh || !m.settled(m.AskedShare()) || !m.reached() {
		return false
	}
	if len(m.unchecked()) > 0 {
		return false
	}
	for _, verdict := range m.seen.Verdicts {
		if verdict.Stops() && !(m.Hurry && verdict.Word == guard.Undecided) {
			return false
		}
	}
	return left <= 0 || m.Hurry
}

// unchecked are the tasks that have not passed yet of those that try the new cohort in this stage, and in those before.
func (m *machine) unchecked() (tasks []string) {
	for i := range m.Rules.Stages[:m.Stage+1] {
		for _, task := range checksOf(m.Rules, i) {
			if _, has := m.New.Tasks[task]; has && !m.seen.New.Done[task] {
				tasks = append(tasks, task)
			}
		}
	}
	return tasks
}

// check notes how the tasks do that try the new cohort.
func (m *machine) check() {
	for _, task := range slices.Sorted(maps.Keys(m.New.Tasks)) {
		stage, checks := m.checkedIn(task)
		if !checks || !m.begun(task) || !m.seen.Fresh {
			continue
		}
		i := slices.IndexFunc(m.Checks, func(c Check) bool { return c.Task == task })
		if i < 0 {
			m.Checks = append(slices.Clone(m.Checks), Check{Task: task, Stage: stage, Began: m.now})
			i = len(m.Checks) - 1
		}
		c := m.Checks[i]
		switch {
		case !c.Ended.IsZero():
			continue
		case m.seen.New.Failed[task] != "":
			c.Ended, c.Failed = m.now, m.seen.New.Failed[task]
		case m.seen.New.Done[task]:
			c.Ended = m.now
			m.fact(FactChecked, Automatic, "%s: the task %s passed after %s", m.Where(), task, say.Span(c.Ended.Sub(c.Began)))
		default:
			continue
		}
		m.Checks = slices.Clone(m.Checks)
		m.Checks[i] = c
	}
}

func (m *machine) signed() bool {
	return slices.ContainsFunc(m.SignedOff, func(s SignOff) bool { return s.Task == "" && s.Stage == m.Stage })
}

func (m *machine) nextStage() {
	m.Hurry = false
	if m.Stage == m.LastStage() {
		m.Proved, m.Seen = 0, m.now
		if m.Control > 0 {
			m.enter(Proving, Automatic, "%s of the traffic, under guard for %s; %s keeps %s to compare with", say.Share(1-m.Control), say.Span(m.Rules.Proving.Duration), m.Old.Version, say.Share(m.Control))
		} else {
			m.enter(Proving, Automatic, "full traffic, under guard for %s", say.Span(m.Rules.Proving.Duration))
		}
		m.fact(FactProving, Automatic, "%s", m.Why)
		return
	}
	m.stageAfter()
}

// stageAfter begins the stage after this one.
func (m *machine) stageAfter() {
	m.Hurry = false
	m.Stage++
	m.Entered, m.Soaked, m.Progressed, m.Most = m.now, 0, time.Time{}, 0
	m.enter(Settling, Automatic, "instances for %s of the traffic are coming up", say.Share(m.stage().Share))
}

// goBack ends the way back once nothing of the new cohort is left.
func (m *machine) goBack() {
	if !m.seen.Reached {
		return
	}
	if near(m.seen.Share, 0) && m.Traffic.IsZero() {
		m.Traffic = m.now
		if !m.Shared.IsZero() && !m.Old.None() {
			m.fact(FactTrafficBack, Automatic, "all traffic is on %s again", m.Old.Version)
		}
	}
	if m.Traffic.IsZero() || m.seen.New.instances() > 0 || m.seen.New.Laid {
		if m.Calls == "" && m.now.Sub(later(m.Since, m.Resumed)) > m.Rules.Deadline.Duration {
			m.Calls = fmt.Sprintf("the way back to %s takes longer than %s: %s", m.Old.Version, say.Span(m.Rules.Deadline.Duration), m.stuck())
			m.fact(FactCalls, Automatic, "%s; it goes on trying, and a person should look", m.Calls)
		}
		return
	}
	m.Calls = ""
	m.fact(FactStopped, Automatic, "the instances of %s are stopped", m.New.Version)
	why := m.Why
	m.enter(RolledBack, m.By, "%s", why)
	m.Ended = m.now
	serves := m.Old.Version + " serves alone again"
	if m.Old.None() {
		serves = "nothing is there again"
	}
	m.fact(FactRolledBack, m.By, "%s; %s", serves, why)
	if m.Bar {
		m.fact(FactBarred, m.By, "%s (%s) is barred until Git moves on or a person lifts the bar", m.New.Version, m.New.Revision.Short())
	}
}

// stuck tells what a way back waits for.
func (m *machine) stuck() string {
	switch {
	case m.carry(m.Old, m.seen.Old.Healthy) < 1:
		return cmp.Or(m.seen.Old.Health.Reason, "the old instances are not healthy")
	case !m.placedBack():
		return "not all objects are as they were"
	case m.Traffic.IsZero():
		return "the traffic is not back"
	}
	return "the new instances do not stop"
}

// count adds the time since the last look to the soak or the proving, where the evidence of both ends is good.
func (m *machine) count() {
	if !m.seen.Fresh || !m.settled(m.AskedShare()) {
		return
	}
	from := m.Seen
	if m.Resumed.After(from) { // nobody watched before
		from = m.Resumed
	}
	passed := m.now.Sub(from)
	if m.Seen.IsZero() || passed > cmp.Or(m.seen.Pace, maxGap) {
		passed = 0
	}
	switch m.Phase {
	case Soaking:
		m.Soaked += passed
	case Proving:
		m.Proved += passed
	}
	m.Seen = m.now
}

// maxGap is the longest time between two looks that still counts as watched, where the observation does not say.
const maxGap = 15 * time.Second
