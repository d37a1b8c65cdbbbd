package rollout

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/health"
)

// shore is a cluster on which objects stand in two waves, the second of which the cluster exchanges pod by pod.
type shore struct {
	held    map[int]declare.Fingerprint // by wave: whose form of it is there
	pods    map[declare.Fingerprint]int
	laid    map[declare.Fingerprint]bool
	sick    map[declare.Fingerprint]bool // its pods do not come up
	verdict guard.Word
	done    []string
}

const shorePods = 3

func (s *shore) observe() Observation {
	cohort := func(r declare.Fingerprint) Cohort {
		p := Placed{Lacks: s.held[1] != r || s.held[2] != r}
		if s.held[1] == r {
			p.Waves = 1
		}
		if s.held[1] == r && s.held[2] == r && s.pods[r] == shorePods && len(s.pods) == 1 && !s.sick[r] {
			p.Waves = 2
		} else {
			p.Next, p.Moves = p.Waves == 0 || s.held[2] != r, s.held[2] == r
		}
		healthy := s.pods[r]
		if s.sick[r] {
			healthy = 0
		}
		return Cohort{Laid: s.laid[r], Parts: map[string]int{"web": s.pods[r]}, Healthy: map[string]int{"web": healthy}, Ready: map[string]int{"web": healthy}, Health: health.Summary{Total: s.pods[r], Healthy: healthy}, Objects: map[string]Placed{"web": p}}
	}
	o := Observation{Reached: true, Fresh: true, Old: cohort("old0000"), New: cohort("new0000")}
	if all := o.Old.Ready["web"] + o.New.Ready["web"]; all > 0 {
		o.Share = float64(o.New.Ready["web"]) / float64(all)
	}
	if s.verdict != "" && o.New.Ready["web"] > 0 {
		o.Verdicts = []guard.Verdict{{Guard: "slow", Word: s.verdict, Then: guard.RollBack, New: &guard.Estimate{Value: 0.09}, Limit: guard.Limit{Kind: guard.AtMost, Value: 0.05, Unit: guard.Share}}}
	}
	return o
}

func (s *shore) act(intents []Intent) {
	before := [2]declare.Fingerprint{s.held[1], s.held[2]}
	for _, i := range intents {
		switch i.Do {
		case Prepare:
			s.laid[i.Revision] = true
		case Place:
			s.done = append(s.done, fmt.Sprintf("place %s %d", i.Revision[:3], i.Count))
			for wave := 1; wave <= i.Count; wave++ {
				s.held[wave] = i.Revision
			}
		case Withdraw:
			if before != [2]declare.Fingerprint{i.From, i.From} {
				s.done = append(s.done, "too early")
			}
			s.done = append(s.done, fmt.Sprintf("withdraw %s but %.3s", i.Revision[:3], i.From))
		case Delete:
			s.done = append(s.done, "delete "+string(i.Revision[:3]))
			s.laid[i.Revision] = false
		}
	}
	r := s.held[2] // the cluster's own step: one more, and one of the others less once that is up
	switch {
	case r == "":
	case s.pods[r] < shorePods:
		s.pods[r]++
	default:
		for other := range s.pods {
			if other != r && !s.sick[r] {
				if s.pods[other]--; s.pods[other] <= 0 {
					delete(s.pods, other)
				}
			}
		}
	}
}

// TestObjects takes objects that the cluster rolls through what can become of them.
func TestObjects(t *testing.T) {
	for _, c := range []struct {
		name   string
		first  bool // there is no old revision
		change func(s *shore, step int)
		ask    Verb
		phase  Phase
		done   string
		cause  string
	}{
		{name: "comes in wave by wave", phase: Proven, done: "place new 1, place new 2, delete old"},
		{name: "breaches while it is exchanged", change: func(s *shore, step int) {
			if step == 5 {
				s.verdict = guard.Breach
			}
		}, phase: RolledBack, done: "place new 1, place new 2, place old 2, withdraw new but old, delete new", cause: "slow 9.0 %"},
		{name: "does not come up", change: func(s *shore, _ int) { s.sick["new0000"] = true }, phase: RolledBack, done: "place new 1, place new 2, place old 2, withdraw new but old, delete new", cause: "not healthy within"},
		{name: "is the first", first: true, phase: Proven, done: "place new 1, place new 2"},
		{name: "is the first, and gives way", first: true, ask: Supersede, phase: Abandoned, done: "place new 1, place new 2", cause: "left as it is for 1.2.0"},
		{name: "somebody takes an object away", change: func(s *shore, step int) {
			if step == 15 {
				delete(s.held, 1)
			}
		}, phase: Proven, done: "place new 1, place new 2, place new 1, delete old"},
	} {
		t.Run(c.name, func(t *testing.T) {
			sh := &shore{held: map[int]declare.Fingerprint{}, pods: map[declare.Fingerprint]int{}, laid: map[declare.Fingerprint]bool{}, sick: map[declare.Fingerprint]bool{}}
			old := Side{}
			if !c.first {
				old = Side{Revision: "old0000", Version: "1.0.0", Objects: map[string]int{"web": 2}, Pods: shorePods, Proven: true}
				sh.held, sh.pods, sh.laid = map[int]declare.Fingerprint{1: "old0000", 2: "old0000"}, map[declare.Fingerprint]int{"old0000": shorePods}, map[declare.Fingerprint]bool{"old0000": true}
			}
			r := rules
			r.Style, r.Stages = declare.Rolling, []declare.Stage{{Share: 1}}
			now := start
			s := Begin(old, Side{Revision: "new0000", Version: "1.1.0", Objects: map[string]int{"web": 2}, Pods: shorePods}, r, Automatic, "", time.Time{}, now)
			for step := range 200 {
				if c.change != nil {
					c.change(sh, step)
				}
				var commands []Command
				if c.ask != "" && step == 4 {
					commands = []Command{{Verb: c.ask, By: Automatic, Note: "1.2.0"}}
				}
				now = now.Add(2 * time.Second)
				out := Step(s, sh.observe(), commands, now)
				sh.act(out.Intents)
				if s = out.State; out.Done {
					break
				}
			}
			if s.Phase != c.phase || !strings.Contains(s.Why, c.cause) {
				t.Errorf("it is %s: %s", s.Phase, s.Why)
			}
			if done := strings.Join(slices.Compact(sh.done), ", "); done != c.done {
				t.Errorf("it did %s\nwant   %s", done, c.done)
			}
			want := declare.Fingerprint("new0000")
			if c.phase == RolledBack {
				want = old.Revision
			}
			if sh.held[2] != want || len(sh.pods) > 1 || sh.laid["new0000"] != (want == "new0000") {
				t.Errorf("in the end there is %v with %v", sh.held, sh.pods)
			}
		})
	}
}

// TestNoneWhereInstancesAreTheSplit has nothing of a new revision run, on purpose, where a target cannot split traffic: what is not
// there gets none of it, and the rollout comes to its end all the same.
func TestNoneWhereInstancesAreTheSplit(t *testing.T) {
	none := newSide
	none.Parts = map[string]int{"web": 0}
	at := &site{old: 4, whole: true}
	s, facts := run(Begin(oldSide, none, rules, Automatic, "taken automatically", time.Time{}, start), at, 200, func(_ int, _ State, at *site) []Command {
		if at.old > 0 {
			at.share = 0 // the old instances have it, as long as they are there
		}
		return nil
	})
	if s.Phase != Proven || at.old != 0 {
		t.Errorf("it is %s (%s) with %d old instances: %v", s.Phase, s.Why, at.old, facts)
	}
}
