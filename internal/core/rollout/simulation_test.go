package rollout

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
)

// seeds is how many stories TestSimulation plays; ADITUS_SEEDS asks for more.
func seeds(t *testing.T) int {
	if text := os.Getenv("ADITUS_SEEDS"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil {
			t.Fatalf("ADITUS_SEEDS must be a number: %v", err)
		}
		return n
	}
	return 500
}

// TestSimulation plays rollouts of all styles against sites that delay, fail, flap, lose instances, cannot be reached and
// lie about counts, with commands and restarts at random times, and holds every step against the invariants of
// docs/rollout.md. Of a seed that fails it tells the shortest story that still does.
func TestSimulation(t *testing.T) {
	ends := map[string]int{}
	for seed := range seeds(t) {
		s := tale(uint64(seed))
		end, err := s.play(nil)
		if err != nil {
			t.Fatalf("seed %d: %v", seed, s.shortest(err))
		}
		ends[string(s.rules.Style)+" "+end]++
	}
	for _, end := range []string{"proven", "rolled back", "abandoned"} {
		for _, style := range []declare.Style{declare.Canary, declare.Rolling, declare.BlueGreen} {
			if ends[string(style)+" "+end] < 8 {
				t.Errorf("only %d stories of a %s rollout end %s: %v", ends[string(style)+" "+end], style, end, ends)
			}
		}
	}
	t.Log(ends)
}

// story is all that makes a simulated rollout what it is.
type story struct {
	seed     uint64
	old, new Side
	rules    declare.Rollout
	splits   bool
	cooling  bool
	returns  bool
	slow     int
	events   []event
}

const (
	stormy = 400  // steps in which things happen
	longer = 3000 // steps after which a story must be over, or wait for a person
)

// tale makes up a story.
func tale(seed uint64) story {
	chance := rand.New(rand.NewPCG(seed, 1))
	maybe := func(per int) bool { return chance.IntN(per) == 0 }
	s := story{seed: seed, rules: rules, splits: !maybe(3), cooling: maybe(12), returns: maybe(8), slow: 2 + chance.IntN(30)}
	s.rules.Extra, s.rules.Missing = declare.Budget{Number: chance.IntN(3)}, declare.Budget{Number: chance.IntN(2)}
	if s.rules.Extra.Number+s.rules.Missing.Number == 0 {
		s.rules.Extra.Number = 1
	}
	switch chance.IntN(3) {
	case 0:
		s.rules.Style = declare.Canary
	case 1:
		s.rules.Style = declare.Rolling
		s.rules.Stages = []declare.Stage{{Share: 0.5, Soak: span(5 * time.Second)}, {Share: 1}}
		if maybe(2) {
			s.rules.Stages = s.rules.Stages[1:]
		}
	default:
		s.splits = true // without that there is no switch
		s.rules.Style, s.rules.Keep = declare.BlueGreen, span(time.Duration(chance.IntN(60))*time.Second)
		s.rules.Stages = []declare.Stage{{Share: 0, Soak: span(5 * time.Second)}, {Share: 1}}
	}
	web := 1 + chance.IntN(6)
	s.old = Side{Revision: oldSide.Revision, Version: "1.0.0", Parts: map[string]int{"web": web}, Declared: []string{"web"}, Proven: !maybe(15)}
	s.new = Side{Revision: newSide.Revision, Version: "1.1.0", Parts: map[string]int{"web": web}, Tasks: map[string]Task{}, Needs: map[string][]string{}, Declared: []string{"web"}}
	if maybe(6) {
		s.new.Parts["web"] = 1 + chance.IntN(6)
	}
	if maybe(2) {
		s.old.Parts["store"], s.new.Parts["store"] = 1, 1
		if maybe(3) {
			s.old.Parts["store"], s.new.Parts["store"] = 3, 3
		}
		s.old.Keeps, s.new.Keeps = []string{"store"}, []string{"store"}
		s.old.Declared, s.new.Declared = append(s.old.Declared, "store"), append(s.new.Declared, "store")
		if maybe(2) {
			s.new.Needs["web"] = []string{"store"}
		}
	}
	if maybe(2) {
		s.new.Parts["worker"] = chance.IntN(4)
		s.new.Declared = append(s.new.Declared, "worker")
	}
	if maybe(3) {
		s.new.Tasks["migrate"] = Task{NotUndoable: maybe(2)}
		s.new.Needs["web"] = append(s.new.Needs["web"], "migrate")
		s.new.Declared = append(s.new.Declared, "migrate")
	}
	if s.rules.Style == declare.BlueGreen && maybe(2) {
		s.rules.Try, s.new.Tasks["smoke"] = "smoke", Task{}
		s.new.Declared = append(s.new.Declared, "smoke")
	}
	if s.rules.Style != declare.BlueGreen && maybe(2) {
		s.rules.Stages = slices.Clone(s.rules.Stages)
		at := chance.IntN(len(s.rules.Stages))
		s.rules.Stages[at].Checks, s.new.Tasks["load"] = []string{"load"}, Task{}
		s.new.Declared = append(s.new.Declared, "load")
	}
	if maybe(3) {
		s.old.Declared = append(s.old.Declared, "gone")
	}
	s.storm(chance)
	return s
}

// storm makes up what happens.
func (s *story) storm(chance *rand.Rand) {
	happens := func(per int, what string, lasts int, do, after func(*model)) {
		for at := range stormy {
			if chance.IntN(per) == 0 {
				s.events = append(s.events, event{at: at, what: what, do: do})
				if lasts > 0 {
					s.events = append(s.events, event{at: at + 1 + chance.IntN(lasts), what: what + ", no more", do: after})
				}
			}
		}
	}
	says := func(w guard.Word) func(*model) { return func(m *model) { m.verdict = w } }
	fails := func(r declare.Fingerprint, yes bool) func(*model) { return func(m *model) { m.bad[r] = yes } }
	happens(60, "unreachable", 20, func(m *model) { m.down = true }, func(m *model) { m.down = false })
	happens(70, "stale", 12, func(m *model) { m.stale = true }, func(m *model) { m.stale = false })
	happens(25, "clear", 0, says(guard.Clear), nil)
	happens(60, "undecided", 0, says(guard.Undecided), nil)
	happens(90, "silent", 0, says(guard.Silent), nil)
	happens(500, "breach", 0, says(guard.Breach), nil)
	happens(300, "new loses one", 0, loses(s.new.Revision), nil)
	happens(300, "old loses one", 0, loses(s.old.Revision), nil)
	happens(120, "one of new flaps", 0, flaps(s.new.Revision, 8), nil)
	happens(200, "one of old flaps", 0, flaps(s.old.Revision, 8), nil)
	if s.splits && s.rules.Style != declare.Rolling && !s.returns {
		for count := range 3 {
			happens(900, fmt.Sprintf("someone scales web to %d", 2+2*count), 0, scales(s.old.Revision, 2+2*count), nil)
		}
	}
	happens(900, "new fails", 60, fails(s.new.Revision, true), fails(s.new.Revision, false))
	happens(700, "old fails", 60, fails(s.old.Revision, true), fails(s.old.Revision, false))
	happens(100, "a count is one too small", 2, func(m *model) { m.lie = -1 }, func(m *model) { m.lie = 0 })
	happens(100, "a count is one too large", 2, func(m *model) { m.lie = 1 }, func(m *model) { m.lie = 0 })
	if chance.IntN(10) == 0 {
		s.events = append(s.events, event{what: "tasks fail", do: func(m *model) { m.taskFails = true }})
	}
	if chance.IntN(20) == 0 {
		s.events = append(s.events, event{what: "new cannot start", do: func(m *model) { m.cannotStart = true }})
	}
	verbs := []Verb{Advance, HoldOn, GoOn, GoOn, TurnBack, Sign, Sign, Sign, Abandon, Supersede, Release}
	for at := range stormy {
		if chance.IntN(40) == 0 {
			verb := verbs[chance.IntN(len(verbs))]
			s.events = append(s.events, event{at: at, what: string(verb), ask: verb})
		}
		if chance.IntN(50) == 0 {
			s.events = append(s.events, event{at: at, what: "restart", rest: true})
		}
	}
	slices.SortStableFunc(s.events, func(a, b event) int { return a.at - b.at })
}

// play plays a story without some of its events and tells how it ends.
func (s story) play(without []bool) (string, error) {
	m := newModel(s.seed, s.old, s.new, s.splits)
	m.slow = s.slow
	if slices.Contains(s.old.Declared, "gone") {
		m.oldPart = "gone"
	}
	now, last := start, time.Time{}
	if s.cooling {
		last = start.Add(-time.Minute)
	}
	state := Begin(s.old, s.new, s.rules, Automatic, "taken", last, now)
	if s.returns {
		state = GoBack(s.old, s.new, s.rules, Automatic, []Cause{{Kind: "guard", Text: "slow"}}, now)
		m.new = state.New
	}
	turned := 0
	for step := range longer {
		now = now.Add(time.Second)
		m.now = step
		if step == stormy { // the sea calms down
			m.calm, m.down, m.stale, m.lie, m.verdict = true, false, false, 0, guard.Clear
			m.bad = map[declare.Fingerprint]bool{}
		}
		var commands []Command
		for i, e := range s.events {
			switch {
			case e.at != step || without != nil && without[i]:
			case e.do != nil:
				e.do(m)
			case e.rest:
				again, err := revive(state)
				if err != nil {
					return "", err
				}
				if seen := m.observe(); !reflect.DeepEqual(facts(Step(state, seen, nil, now)), facts(Step(again, seen, nil, now))) {
					return "", fmt.Errorf("step %d: a restart makes a difference", step)
				}
				now = now.Add(time.Duration(m.chance(600, "slept", step)) * time.Second)
				state = again.Resume(now)
			default:
				commands = append(commands, Command{Verb: e.ask, By: "someone", Note: "1.2.0"})
			}
		}
		seen, before := m.observe(), state
		if seen.Reached && state.Ahead() && m.scaled > 0 && state.Old.Parts["web"] != m.scaled {
			seen.Scaled = map[string]int{"web": m.scaled}
		}
		out := Step(state, seen, commands, now)
		for _, law := range laws {
			if err := law.holds(m, before, out, seen, commands, now); err != nil {
				return "", fmt.Errorf("step %d, %s in %s: %s: %w", step, before.Phase, before.Where(), law.name, err)
			}
		}
		if out.State.Phase == RollingBack && before.Phase != RollingBack && before.HeldFrom != RollingBack {
			if turned++; turned > 1 {
				return "", fmt.Errorf("step %d: turned round twice", step)
			}
		}
		state = out.State
		if m.chance(20, "idle", step) != 0 { // now and then the target does nothing of it
			if err := m.act(state, out.Intents); err != nil {
				return "", fmt.Errorf("step %d, %s in %s: %w", step, state.Phase, state.Where(), err)
			}
		}
		if out.Done {
			return string(state.Phase), nil
		}
	}
	if state.Phase == Held || state.Phase == Waiting || state.Calls != "" {
		return "waits", nil
	}
	return "", fmt.Errorf("neither ended nor waiting for a person: %s in %s because %s", state.Phase, state.Where(), state.Why)
}

// revive writes a state and reads it back.
func revive(s State) (again State, err error) {
	text, err := json.Marshal(s)
	if err == nil {
		err = json.Unmarshal(text, &again)
	}
	return again, err
}

// facts is what an outcome comes to, in a form that can be compared.
func facts(o Outcome) any {
	text, _ := json.Marshal([]any{o.State, o.Intents, o.Facts, o.Done}) // plain values
	return string(text)
}

// shortest takes events out of a story as long as it fails and tells what is left.
func (s story) shortest(err error) error {
	without := make([]bool, len(s.events))
	for size := len(s.events); size > 0; size /= 2 {
		for from := 0; from < len(s.events); from += size {
			trial := slices.Clone(without)
			for i := from; i < min(from+size, len(trial)); i++ {
				trial[i] = true
			}
			if _, still := s.play(trial); still != nil && !slices.Equal(trial, without) {
				without, err = trial, still
			}
		}
	}
	var told []string
	for i, e := range s.events {
		if !without[i] {
			told = append(told, fmt.Sprintf("%d %s", e.at, e.what))
		}
	}
	return fmt.Errorf("%w\n  %s, splits %v, returns %v, extra %d, missing %d, old %v, new %v, needs %v, tasks %v\n  %s", err, s.rules.Style, s.splits, s.returns, s.rules.Extra.Number, s.rules.Missing.Number, s.old.Parts, s.new.Parts, s.new.Needs, s.new.Tasks, strings.Join(told, "; "))
}

// law is an invariant of docs/rollout.md, under the name it has there.
type law struct {
	name  string
	holds func(m *model, before State, out Outcome, seen Observation, commands []Command, now time.Time) error
}

var laws = []law{
	{"nothing on stale data", func(_ *model, before State, out Outcome, seen Observation, commands []Command, _ time.Time) error {
		s := out.State
		advanced := s.Stage > before.Stage || s.Phase == Proving && before.Phase != Proving && before.Phase != Held || s.Phase == Proven && before.Phase != Proven
		word := seen.Verdicts[0].Word
		hurried := before.Hurry || slices.ContainsFunc(commands, func(c Command) bool { return c.Verb == Advance })
		switch {
		case advanced && !seen.Fresh:
			return fmt.Errorf("it advanced on stale evidence")
		case advanced && word != guard.Clear && !(word == guard.Undecided && hurried):
			return fmt.Errorf("it advanced while a guard is %s", word)
		case len(out.Intents) > 0 && !seen.Reached:
			return fmt.Errorf("it asks for %+v of a site it cannot see", out.Intents)
		case s.Soaked-before.Soaked > maxGap || s.Proved-before.Proved > maxGap:
			return fmt.Errorf("time that nobody watched was counted")
		}
		return nil
	}},
	{"no stage is left unchecked", func(_ *model, before State, out Outcome, seen Observation, _ []Command, _ time.Time) error {
		s := out.State
		if before.Return || s.Stage == before.Stage && (s.Phase == before.Phase || s.Phase != Proving && s.Phase != Proven) {
			return nil
		}
		for i := range before.Rules.Stages[:before.Stage+1] {
			for _, task := range checksOf(before.Rules, i) {
				if _, has := before.New.Tasks[task]; has && !seen.New.Done[task] && before.Phase != Held {
					return fmt.Errorf("stage %d was left, and %s had not passed", before.Stage+1, task)
				}
			}
		}
		return nil
	}},
	{"a check sees its share", func(_ *model, before State, out Outcome, _ Observation, _ []Command, _ time.Time) error {
		for _, i := range out.Intents {
			if stage, checks := out.State.checkedIn(i.Part); i.Do == Run && checks && (out.State.Stage < stage || out.State.Stage == stage && out.State.Phase == Settling) {
				return fmt.Errorf("%s runs before the share of stage %d is reached", i.Part, stage+1)
			}
		}
		return nil
	}},
	{"a reason for everything", func(_ *model, before State, out Outcome, _ Observation, _ []Command, now time.Time) error {
		switch s := out.State; {
		case s.Phase != before.Phase && s.Why == "":
			return fmt.Errorf("it became %s without a reason", s.Phase)
		case s.Phase != before.Phase && !s.Since.Equal(now):
			return fmt.Errorf("it became %s at the wrong time", s.Phase)
		case before.Phase.Over() && s.Phase != before.Phase && before.Phase != Proven:
			return fmt.Errorf("it went on after its end")
		}
		return nil
	}},
	{"capacity", capacity},
	{"surge", surge},
	{"share", func(_ *model, before State, out Outcome, seen Observation, _ []Command, _ time.Time) error {
		limit := before.Rules.Stages[out.State.Stage].Share
		switch {
		case out.State.Phase == Proving:
			limit = 1 - out.State.Control
		case out.State.Phase == Proven || before.Control > 0 && out.State.Control == 0: // nothing can be split, or old is gone
			limit = 1
		}
		for _, i := range out.Intents {
			if i.Do == SetShare && i.Share > max(limit, 0)+1e-9 && out.State.Phase != RollingBack {
				return fmt.Errorf("%v was asked for, the stage allows %v", i.Share, limit)
			}
			if i.Do == SetShare && out.State.Phase == RollingBack && i.Share > seen.Share+1e-9 {
				return fmt.Errorf("%v was asked for on the way back from %v", i.Share, seen.Share)
			}
		}
		return nil
	}},
	{"no traffic to nothing healthy", func(_ *model, before State, out Outcome, seen Observation, _ []Command, _ time.Time) error {
		for _, i := range out.Intents {
			switch {
			case i.Do != SetShare:
			case i.Share > seen.Share+1e-9 && seen.New.Health.Healthy == 0 && seen.Old.Health.Healthy > 0:
				return fmt.Errorf("traffic was asked for a new cohort with nothing healthy")
			case i.Share < seen.Share-1e-9 && seen.Old.Health.Healthy == 0 && seen.New.Health.Healthy > 0:
				return fmt.Errorf("traffic was taken back to a cohort with nothing healthy")
			}
		}
		return nil
	}},
	{"back within one evaluation", func(m *model, before State, out Outcome, seen Observation, _ []Command, _ time.Time) error {
		if seen.Verdicts[0].Word != guard.Breach || !seen.Fresh || !before.Ahead() || out.State.Phase.Over() {
			return nil
		}
		if out.State.Phase == Held {
			return nil // held for a person, with the reason: see the laws below
		}
		if out.State.Phase != RollingBack {
			return fmt.Errorf("a breach was seen and it is %s", out.State.Phase)
		}
		complete := seen.Share > 1e-9 && m.splits
		for part, n := range before.Old.Parts {
			complete = complete && (seen.Old.Ready[part] >= n || slices.Contains(before.Old.Keeps, part))
		}
		if complete && !slices.ContainsFunc(out.Intents, func(i Intent) bool { return i.Do == SetShare && i.Share == 0 }) {
			return fmt.Errorf("the old cohort is complete and does not get the traffic: %+v", out.Intents)
		}
		return nil
	}},
	{"one rollback per cool-down", func(_ *model, before State, out Outcome, _ Observation, _ []Command, now time.Time) error {
		if out.State.Phase == RollingBack && before.Phase != RollingBack && out.State.By == Automatic && out.State.Bar && !before.LastRollback.IsZero() && now.Sub(before.LastRollback) < before.Rules.CoolDown.Duration {
			return fmt.Errorf("the last one was %s ago", now.Sub(before.LastRollback))
		}
		return nil
	}},
	{"never back to what was not proven", func(_ *model, before State, out Outcome, _ Observation, _ []Command, _ time.Time) error {
		if s := out.State; s.Phase == RollingBack && before.Phase != RollingBack && s.By == Automatic && s.Bar && (!s.Old.Proven || s.Return) {
			return fmt.Errorf("it turned round by itself")
		}
		return nil
	}},
	{"sign-offs", func(_ *model, before State, out Outcome, _ Observation, _ []Command, _ time.Time) error {
		for _, i := range out.Intents {
			if i.Do == Run && before.New.Tasks[i.Part].NotUndoable && !slices.ContainsFunc(out.State.SignedOff, func(o SignOff) bool { return o.Task == i.Part }) {
				return fmt.Errorf("the task %s cannot be undone and runs without one", i.Part)
			}
		}
		return nil
	}},
}

// after is what a side has once the intents are carried out: instances, and how many of them are healthy.
func after(side Side, seen Cohort, part string, intents []Intent) (count, healthy int) {
	count, healthy = seen.Parts[part], seen.Healthy[part]
	for _, i := range intents {
		if i.Revision == side.Revision && (i.Do == Delete || i.Do == Scale && i.Part == part) {
			n := i.Count
			if i.Do == Delete {
				n = 0
			}
			healthy = min(healthy, n) // those that are not up go first
			count = n
		}
	}
	return count, healthy
}

// capacity: what serves never becomes less than the budget by what is asked for.
func capacity(m *model, before State, out Outcome, seen Observation, _ []Command, _ time.Time) error {
	s := out.State
	if !seen.Reached || m.lie != 0 {
		return nil
	}
	for part, old := range s.Old.Parts {
		new, declared := s.New.Parts[part]
		if !declared || new == 0 {
			continue
		}
		_, oldLeft := after(s.Old, seen.Old, part, out.Intents)
		_, newLeft := after(s.New, seen.New, part, out.Intents)
		had, left := seen.Old.Healthy[part]+seen.New.Healthy[part], oldLeft+newLeft
		least := max(0, min(old, new)-s.Rules.Missing.Less(new))
		switch {
		case slices.Contains(s.Old.Keeps, part):
			least = max(0, min(old, new)-1)
		case m.splits && (s.Return || s.Rules.Style != declare.Rolling):
			// A complete cohort serves alone: without traffic the other one does not count.
			if s.Phase == RollingBack && !s.Traffic.IsZero() {
				had, left, least = seen.Old.Healthy[part], oldLeft, old
			} else if s.Phase.Forward() {
				had, left, least = seen.Old.Healthy[part], oldLeft, old
			}
		case s.Phase == RollingBack && s.Why != "" && seen.New.Health.Healthy == 0:
			continue
		}
		if left < had && left < least {
			return fmt.Errorf("of %s %d healthy are left of %d, at least %d are due: %+v", part, left, had, least, out.Intents)
		}
	}
	return nil
}

// surge: there are never more instances than the budget allows, and never two of what keeps state.
func surge(m *model, before State, out Outcome, seen Observation, _ []Command, _ time.Time) error {
	s := out.State
	if !seen.Reached || m.lie != 0 {
		return nil
	}
	for part, old := range s.Old.Parts {
		new, declared := s.New.Parts[part]
		if !declared || new == 0 || s.Old.Empty() {
			continue
		}
		most, keeps := max(old, new)+s.Rules.Extra.More(new), slices.Contains(s.Old.Keeps, part)
		if keeps {
			most = max(old, new)
		}
		// What is asked to go may take its time: it counts until it is gone.
		oldThen, _ := after(s.Old, seen.Old, part, out.Intents)
		newThen, _ := after(s.New, seen.New, part, out.Intents)
		if complete := m.splits && (s.Return || s.Rules.Style != declare.Rolling); complete && !keeps {
			// Each cohort by itself: neither grows beyond what it is wanted to be.
			if oldThen > max(old, seen.Old.Parts[part]) || newThen > max(new, seen.New.Parts[part]) {
				return fmt.Errorf("%d and %d of %s, at most %d and %d may be there: %+v", oldThen, newThen, part, old, new, out.Intents)
			}
			continue
		}
		oldThen, newThen = max(oldThen, seen.Old.Parts[part]), max(newThen, seen.New.Parts[part])
		if grows := oldThen+newThen > seen.Old.Parts[part]+seen.New.Parts[part]; grows && oldThen+newThen > most {
			return fmt.Errorf("%d and %d of %s, at most %d may be there: %+v", oldThen, newThen, part, most, out.Intents)
		}
	}
	return nil
}
