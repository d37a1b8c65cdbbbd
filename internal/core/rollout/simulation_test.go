package rollout

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"testing"
	"time"

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

// TestSimulation plays rollouts against sites that are slow, flap, go silent and breach at random times, with commands
// and restarts at random times, and holds every step against the invariants.
func TestSimulation(t *testing.T) {
	seen := map[Phase]int{}
	for seed := range seeds(t) {
		if err := play(uint64(seed), seen); err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
	}
	for _, phase := range []Phase{Soaking, Waiting, Held, Proving, RollingBack, RolledBack, Proven} {
		if seen[phase] < 20 {
			t.Errorf("only %d stories came to %s, so they prove little of it: %v", seen[phase], phase, seen)
		}
	}
}

// play plays one story and counts the phases it came to.
func play(seed uint64, visits map[Phase]int) error {
	chance := rand.New(rand.NewPCG(seed, 1))
	maybe := func(per int) bool { return chance.IntN(per) == 0 }
	target := &site{old: 4, readyIn: chance.IntN(30), then: guard.RollBack, missing: guard.MissingHolds, verdict: guard.Undecided}
	s, now := begin(), start
	verbs := []Verb{Advance, HoldOn, GoOn, GoOn, TurnBack, Sign, Sign, Sign}
	turned := time.Time{}
	for step := range 2000 {
		now = now.Add(time.Second)
		disturb(target, maybe)
		var commands []Command
		if maybe(40) {
			commands = append(commands, Command{Verb: verbs[chance.IntN(len(verbs))], By: "someone"})
		}
		if maybe(50) { // a restart: the state is written and read back, and time has passed
			text, err := json.Marshal(s)
			if err != nil {
				return err
			}
			s = State{}
			if err := json.Unmarshal(text, &s); err != nil {
				return err
			}
			now = now.Add(time.Duration(chance.IntN(600)) * time.Second)
			s = s.Resume(now)
		}
		seen, before := target.observe(), s
		out := Step(s, seen, commands, now)
		if err := lawful(before, out, seen, now); err != nil {
			return fmt.Errorf("step %d, %s in stage %d: %w", step, before.Phase, before.Stage+1, err)
		}
		if out.State.Phase == RollingBack && before.Phase != RollingBack {
			if !turned.IsZero() {
				return fmt.Errorf("step %d: turned round twice", step)
			}
			turned = now
		}
		if out.State.Phase != before.Phase {
			visits[out.State.Phase]++
		}
		s = out.State
		if !maybe(20) { // now and then the target does nothing of it
			target.act(out.Intents)
		}
		if out.Done {
			return nil
		}
	}
	if s.Phase == Held || s.Phase == Waiting {
		return nil // it waits for a person, and says so
	}
	return fmt.Errorf("neither ended nor waiting for a person: %s because %s (site %+v)", s.Phase, s.Why, *target)
}

// disturb changes a site in ways that happen.
func disturb(t *site, maybe func(int) bool) {
	t.stale, t.unreachable = "", false
	switch {
	case maybe(40):
		t.unreachable = true
	case maybe(60):
		t.stale = "the site cannot be reached"
	case maybe(30):
		t.verdict = guard.Clear
	case maybe(60):
		t.verdict = guard.Undecided
	case maybe(80):
		t.verdict = guard.Silent
	case maybe(600):
		t.verdict = guard.Breach
	case maybe(500) && t.new > 0:
		t.new--
		t.ready = min(t.ready, t.new)
	case maybe(900):
		t.failing = true
	case maybe(300):
		t.oldDown = true
	}
	if t.oldDown && maybe(20) {
		t.oldDown = false
	}
	if t.failing && maybe(60) {
		t.failing = false
	}
}

// lawful holds one step against the invariants.
func lawful(before State, out Outcome, seen Observation, now time.Time) error {
	s := out.State
	limit := before.Rules.Stages[s.Stage].Share
	if s.Phase == Proving || s.Phase == Proven {
		limit = 1
	}
	advanced := s.Stage > before.Stage || s.Phase == Proving && before.Phase != Proving && before.Phase != Held || s.Phase == Proven && before.Phase != Proven
	switch {
	case advanced && !seen.Fresh:
		return fmt.Errorf("it advanced on stale evidence")
	case advanced && seen.Verdicts[0].Word != guard.Clear && !(seen.Verdicts[0].Word == guard.Undecided && (before.Hurry || s.Phase != before.Phase)):
		return fmt.Errorf("it advanced while a guard is %s", seen.Verdicts[0].Word)
	case s.Soaked < before.Soaked && s.Stage == before.Stage && s.Phase != Soaking:
		return fmt.Errorf("soak was lost")
	case s.Soaked-before.Soaked > maxGap:
		return fmt.Errorf("%s of soak were counted in one step", s.Soaked-before.Soaked)
	case s.Phase != before.Phase && s.Why == "":
		return fmt.Errorf("it became %s without a reason", s.Phase)
	case s.Phase != before.Phase && !s.Since.Equal(now):
		return fmt.Errorf("it became %s at the wrong time", s.Phase)
	case before.Phase.Over() && s.Phase != before.Phase:
		return fmt.Errorf("it went on after its end")
	}
	if len(out.Intents) > 0 && !seen.Reached {
		return fmt.Errorf("it asks for %+v of a site it cannot see", out.Intents)
	}
	for _, i := range out.Intents {
		switch {
		case i.Do == SetShare && i.Share > limit+1e-9:
			return fmt.Errorf("a share of %v was asked for, the stage allows %v", i.Share, limit)
		case i.Do == SetShare && i.Share > seen.Share && seen.New.Health.Healthy == 0:
			return fmt.Errorf("traffic was asked for a cohort with nothing healthy")
		case i.Do == SetShare && i.Share < seen.Share && seen.Old.Health.Healthy == 0 && seen.New.Health.Healthy > 0:
			return fmt.Errorf("traffic was taken back to a cohort with nothing healthy")
		case i.Do == Drop && i.Revision == before.New.Revision && seen.Share > 0 && s.Traffic.IsZero():
			return fmt.Errorf("new instances were stopped while they had traffic")
		case i.Do == Drop && i.Revision == before.Old.Revision && s.Phase != Proven:
			return fmt.Errorf("old instances were stopped before the new revision was proven")
		case i.Do == Scale && i.Revision == before.Old.Revision && i.Count < before.Old.Parts[i.Part]:
			return fmt.Errorf("the old cohort was made smaller during the rollout")
		case i.Do == Scale && i.Count > before.New.Parts[i.Part]:
			return fmt.Errorf("%d instances were asked for, %d are declared", i.Count, before.New.Parts[i.Part])
		}
	}
	if seen.Verdicts[0].Word == guard.Breach && seen.Fresh && before.Phase.Forward() && s.Phase != RollingBack && !s.Phase.Over() {
		return fmt.Errorf("a breach was seen and it is %s", s.Phase)
	}
	return nil
}
