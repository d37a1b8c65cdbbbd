package panel

import (
	_ "embed"
	"fmt"
	"iter"
	"math"
	"slices"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/rollout"
)

// PlayedSchema is the JSON Schema (2020-12) of a Played as a line of aditus guard replay --rollout.
//
//go:embed played.schema.json
var PlayedSchema []byte

// Moment is what all instances of both cohorts showed at one moment of a recorded rollout.
type Moment struct {
	At      time.Duration // from the beginning of the first stage; what lies before it is of old alone
	Scrapes []Scrape      // of the revisions OldSide and NewSide
}

// The revisions of a recorded rollout.
const (
	OldSide declare.Fingerprint = "old"
	NewSide declare.Fingerprint = "new"
)

// Ending is what would have become of a recorded rollout.
type Ending string

// Endings.
const (
	EndsBack      Ending = "rolled back"
	EndsHeld      Ending = "held"
	EndsProven    Ending = "proven"
	EndsWaiting   Ending = "waiting"    // at the end of a stage a guard was not clear, so the rollout would still be in it
	EndsTruncated Ending = "unfinished" // the recording ends before the rollout
)

// Played is what the guards made of a recorded rollout.
type Played struct {
	Ending      Ending          `json:"ending"`
	At          float64         `json:"at"`              // seconds from the beginning of the first stage: when it turned back or was held, first waited, or ended
	Where       string          `json:"where,omitempty"` // the stage
	Guard       string          `json:"guard,omitempty"` // that brought it about
	Why         string          `json:"why,omitempty"`
	Evaluations int             `json:"evaluations"`
	Waited      []string        `json:"waited,omitempty"` // stages at whose end a guard was not clear
	Verdicts    []guard.Verdict `json:"verdicts"`         // the last
}

// Stretch is a part of the schedule of a recorded rollout.
type Stretch struct {
	Lasts time.Duration
	Share float64 // of new
	phase rollout.Phase
	stage int
	ends  time.Duration
}

// Schedule is that of a recorded rollout, in which each stage takes as long as it soaks and the proving as long as declared.
func Schedule(d *declare.Desired) []Stretch { return schedule(recorded(d.Rollout)) }

func schedule(s rollout.State) (all []Stretch) {
	at := time.Duration(0)
	add := func(phase rollout.Phase, stage int, lasts time.Duration, share float64) {
		at += lasts
		all = append(all, Stretch{lasts, share, phase, stage, at})
	}
	for i, stage := range s.Rules.Stages {
		add(rollout.Soaking, i, stage.Soak.Duration, stage.Share)
		if i == s.LastStage() {
			add(rollout.Proving, i, s.Rules.Proving.Duration, 1-s.Control)
		}
	}
	return all
}

// begins is when recorded rollouts begin.
var begins = time.Unix(0, 0).UTC()

// recorded is the first state of a recorded rollout.
func recorded(rules declare.Rollout) rollout.State {
	side := func(name declare.Fingerprint) rollout.Side {
		return rollout.Side{Revision: name, Version: string(name), Parts: map[string]int{"": 1}, Proven: true}
	}
	s := rollout.Begin(side(OldSide), side(NewSide), rules, rollout.Automatic, "recorded", time.Time{}, begins)
	s.ID = 1
	return s
}

// Play judges a recorded rollout as it would have been judged live. What was recorded cannot wait, so every stage takes as
// long as it is declared to soak, and a stage whose guards are not clear at its end is passed on from and told. Moments come
// in their order.
func Play(d *declare.Desired, moments iter.Seq[Moment]) Played {
	roll := recorded(d.Rollout)
	s := Subject{Rules: d, Roll: &roll, Applied: OldSide}
	var p Panel
	stages, at, told := schedule(roll), 0, Played{Ending: EndsProven}
	var last []guard.Verdict
	leave := func() { // the stretch; what is not clear at its end is waited for, what fell silent before it too
		if stages[at].Lasts == 0 {
			return
		}
		last = p.Judge(s, false, begins.Add(stages[at].ends)).Verdicts
		for _, v := range last {
			if !v.Stops() {
				continue
			}
			if told.Waited = append(told.Waited, roll.Where()); told.Ending == EndsProven {
				told.Ending, told.Guard, told.Where, told.At = EndsWaiting, v.Guard, roll.Where(), stages[at].ends.Seconds()
				told.Why = fmt.Sprintf("%s is %s", v.Guard, v.Word)
			}
			return
		}
	}
	share := func(from time.Duration) {
		last = nil
		next := roll
		next.Phase, next.Stage = stages[at].phase, stages[at].stage
		if next.Phase == rollout.Soaking {
			next.Shared = begins.Add(from)
		}
		if next.Given.IsZero() && next.AskedShare() > 0 {
			next.Given = next.Shared
		}
		roll = next
	}
	begun := false
	seen := time.Duration(math.MinInt64)
	for m := range moments {
		now := begins.Add(m.At)
		seen = m.At
		if m.At > 0 && !begun {
			begun = true
			share(0)
		}
		for begun && at < len(stages) && m.At > stages[at].ends {
			leave()
			if at++; at < len(stages) {
				share(stages[at-1].ends)
			}
		}
		if at == len(stages) {
			break
		}
		p.Evaluate(s, m.Scrapes, func(string) bool { return true }, now)
		told.Evaluations++
		if !begun {
			continue
		}
		last = p.Judge(s, true, now).Verdicts
		for _, v := range last {
			if v.Word == guard.Breach && v.Then != guard.Tell {
				told.Ending, told.At, told.Where, told.Guard, told.Why, told.Verdicts = EndsBack, m.At.Seconds(), roll.Where(), v.Guard, rollout.Sentence(v), slices.Clone(last)
				if v.Then == guard.Hold {
					told.Ending = EndsHeld
				}
				return told
			}
		}
	}
	end := stages[len(stages)-1].ends
	reached := seen > end-s.every()
	if at < len(stages) && reached {
		leave()
	}
	told.Verdicts = slices.Clone(last)
	switch {
	case !reached:
		told.Ending, told.Where, told.Guard, told.Why = EndsTruncated, roll.Where(), "", "the recording ends before the rollout does"
		if told.Evaluations > 0 {
			told.At = seen.Seconds()
		}
	case told.Ending == EndsProven:
		told.At = end.Seconds()
	}
	return told
}
