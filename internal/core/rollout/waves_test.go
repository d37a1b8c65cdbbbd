package rollout

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/guard"
	"aditus/internal/core/health"
)

// yard is a target with many parts that need each other: it does what it is told after a while, and some of it fails.
type yard struct {
	chance  *rand.Rand
	new     Side
	laid    bool
	old     map[string]int
	parts   map[string]int // instances of the new cohort
	ready   map[string]int
	tasks   map[string]int // steps that a task still takes
	ran     map[string]int
	failing map[string]bool // tasks that fail at their end, services that never come up
	share   float64
	kept    []string
}

func (y *yard) observe() Observation {
	o := Observation{Reached: true, Fresh: true, Share: y.share, Verdicts: []guard.Verdict{{Guard: "slow", Word: guard.Clear}}}
	o.New = Cohort{Laid: y.laid, Parts: map[string]int{}, Healthy: map[string]int{}, Done: map[string]bool{}, Failed: map[string]string{}}
	for part, n := range y.parts {
		o.New.Parts[part], o.New.Healthy[part] = n, y.ready[part]
		o.New.Health.Total += n
		o.New.Health.Healthy += y.ready[part]
	}
	for task, left := range y.tasks {
		o.New.Parts[task] = 1
		if left > 0 {
			continue
		}
		if y.failing[task] {
			o.New.Failed[task] = "exited with status 1"
		} else {
			o.New.Done[task] = true
		}
	}
	o.Old = Cohort{Laid: y.old != nil, Parts: y.old, Healthy: y.old, Health: health.Summary{Total: 1, Healthy: 1}}
	if y.old != nil {
		o.Old.All = []string{"gone", "web"}
		for _, part := range y.kept {
			o.Old.All = slices.DeleteFunc(o.Old.All, func(p string) bool { return p == part })
		}
	}
	return o
}

func (y *yard) act(intents []Intent) error {
	for _, i := range intents {
		switch i.Do {
		case Lay:
			y.laid = true
		case Scale:
			if i.Revision != y.new.Revision {
				continue
			}
			if i.Count > y.parts[i.Part] {
				if err := y.met(i.Part); err != nil {
					return err
				}
			}
			y.parts[i.Part] = i.Count
		case Run:
			if err := y.met(i.Part); err != nil {
				return err
			}
			if y.ran[i.Part]++; y.ran[i.Part] > 1 {
				return fmt.Errorf("the task %s ran twice", i.Part)
			}
			y.tasks[i.Part] = 1 + y.chance.IntN(5)
		case SetShare:
			y.share = i.Share
		case Keep:
			y.kept = append(y.kept, i.Part)
		case Drop:
			if i.Revision == y.new.Revision {
				y.laid, y.parts, y.ready, y.tasks = false, map[string]int{}, map[string]int{}, map[string]int{}
			} else {
				y.old = nil
			}
		}
	}
	for part, n := range y.parts {
		if y.ready[part] < n && !y.failing[part] && y.chance.IntN(3) == 0 {
			y.ready[part]++
		}
	}
	for task, left := range y.tasks {
		y.tasks[task] = max(0, left-1)
	}
	return nil
}

// met tells whether something may begin: all that it needs is healthy or done.
func (y *yard) met(part string) error {
	for _, need := range y.new.Needs[part] {
		_, task := y.new.Tasks[need]
		if task && (y.ran[need] == 0 || y.tasks[need] > 0 || y.failing[need]) || !task && y.ready[need] == 0 {
			return fmt.Errorf("%s began before %s, which it needs, was there", part, need)
		}
	}
	return nil
}

// TestWavesSimulation plays rollouts of random parts that need each other, with tasks that fail and tasks that cannot
// be undone, with restarts: nothing begins before what it needs, no task runs twice, none that cannot be undone runs
// without a sign-off, an orphan is kept before the old cohort goes, and every story ends or waits for a person.
func TestWavesSimulation(t *testing.T) {
	ends := map[string]int{}
	for seed := range seeds(t) {
		end, err := playWaves(uint64(seed))
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		ends[end]++
	}
	for _, end := range []string{"proven", "rolled back: task", "rolled back: deadline"} {
		if ends[end] < 20 {
			t.Errorf("only %d stories end %s: %v", ends[end], end, ends)
		}
	}
}

func playWaves(seed uint64) (string, error) {
	chance := rand.New(rand.NewPCG(seed, 7))
	y := &yard{chance: chance, old: map[string]int{"web": 2}, parts: map[string]int{}, ready: map[string]int{}, tasks: map[string]int{}, ran: map[string]int{}, failing: map[string]bool{}}
	y.new = Side{Revision: "new0000", Version: "2", Parts: map[string]int{"web": 1 + chance.IntN(4)}, Tasks: map[string]Task{}, Needs: map[string][]string{}, Declared: []string{"web"}}
	names := []string{"web"}
	for i := range 1 + chance.IntN(6) {
		name := fmt.Sprintf("p%d", i)
		if chance.IntN(3) == 0 {
			y.new.Tasks[name] = Task{NotUndoable: chance.IntN(2) == 0}
		} else {
			y.new.Parts[name] = chance.IntN(4)
		}
		for _, before := range names {
			if before != "web" && y.new.Parts[before]+len(y.new.Tasks) > 0 && chance.IntN(3) == 0 && (y.new.Parts[before] > 0 || slices.Contains(sortedTasks(y.new), before)) {
				y.new.Needs[name] = append(y.new.Needs[name], before)
			}
		}
		if chance.IntN(12) == 0 {
			y.failing[name] = true
		}
		names = append(names, name)
		y.new.Declared = append(y.new.Declared, name)
	}
	s, now := Begin(oldSide, y.new, rules, Itself, "taken", time.Time{}, start), start
	signed := map[string]bool{}
	for step := range 3000 {
		now = now.Add(time.Second)
		var commands []Command
		if s.Phase == Waiting && chance.IntN(4) == 0 {
			if s.Task != "" {
				signed[s.Task] = true
			}
			commands = []Command{{Verb: Sign, By: "Maren Oake"}}
		}
		if chance.IntN(60) == 0 {
			text, err := json.Marshal(s)
			if err == nil {
				s = State{}
				err = json.Unmarshal(text, &s)
			}
			if err != nil {
				return "", err
			}
			s = s.Resume(now)
		}
		out := Step(s, y.observe(), commands, now)
		s = out.State
		for _, i := range out.Intents {
			switch {
			case i.Do == Run && y.new.Tasks[i.Part].NotUndoable && !signed[i.Part]:
				return "", fmt.Errorf("step %d: the task %s cannot be undone and ran without a sign-off", step, i.Part)
			case i.Do == Drop && i.Revision == oldSide.Revision && !slices.Contains(y.kept, "gone"):
				return "", fmt.Errorf("step %d: the old cohort went with what is not declared any more", step)
			}
		}
		if err := y.act(out.Intents); err != nil {
			return "", fmt.Errorf("step %d: %w", step, err)
		}
		if out.Done {
			if s.Phase == RolledBack {
				if len(s.Passed) > 0 && !strings.Contains(Undone(s), s.Passed[0]) {
					return "", fmt.Errorf("nobody says that %s is not undone", s.Passed[0])
				}
				return "rolled back: " + s.Causes[0].Kind, nil
			}
			return string(s.Phase), nil
		}
	}
	return "", fmt.Errorf("it never ends: %s because %s", s.Phase, s.Why)
}

func sortedTasks(s Side) (names []string) {
	for name := range s.Tasks {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// TestFirstReplaced sees that a newer revision can replace a first one: it is taken away where it never served, and left
// as it is, for the newer one to come in beside it, where it does.
func TestFirstReplaced(t *testing.T) {
	for _, serves := range []bool{false, true} {
		s := Begin(Side{}, newSide, rules, Itself, "taken", time.Time{}, start)
		target := &site{readyIn: 1000}
		if serves {
			target.readyIn = 0
		}
		s, _ = run(s, target, 8, nil)
		s, facts := run(s, target, 20, func(step int, s State, _ *site) []Command {
			if step == 0 {
				return []Command{{Verb: Supersede, By: Itself, Note: "1.2.0"}}
			}
			return nil
		})
		want, told := RolledBack, "rollback stopped rolled back"
		if serves {
			want, told = Abandoned, "abandoned"
		}
		if s.Phase != want || !strings.Contains(strings.Join(facts, " "), told) || s.Bar {
			t.Errorf("serves %v: %s (%s), told %v", serves, s.Phase, s.Why, facts)
		}
	}
}
