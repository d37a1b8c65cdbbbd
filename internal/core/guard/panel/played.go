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

// Player judges a recorded rollout as it would have been judged live. What was recorded cannot wait, so every stage takes as
// long as it is declared to soak, and a stage whose guards are not clear at its end is passed on from and told. Make it with
// NewPlayer.
type Player struct {
	panel   Panel
	subject Subject
	roll    rollout.State
	stages  []Stretch
	at      int // of the stages
	begun   bool
	seen    time.Duration // the last moment
	last    []guard.Verdict
	told    Played
	over    bool
}

// NewPlayer makes a Player of a rollout with its guards as declared.
func NewPlayer(d *declare.Desired) *Player {
	p := &Player{roll: recorded(d.Rollout), seen: math.MinInt64, told: Played{Ending: EndsProven}}
	p.subject = Subject{Rules: d, Roll: &p.roll, Applied: OldSide}
	p.stages = schedule(p.roll)
	return p
}

// Play judges a recorded rollout of which the moments come in their order.
func Play(d *declare.Desired, moments iter.Seq[Moment]) Played {
	p := NewPlayer(d)
	for m := range moments {
		if !p.Take(m) {
			break
		}
	}
	return p.End()
}

// Due tells when instances would be looked at next: a moment that comes sooner is passed over. A tenth of an interval is
// within what recordings are inexact by.
func (p *Player) Due() time.Duration {
	if p.seen == math.MinInt64 {
		return p.seen
	}
	step := p.panel.Due(p.subject).Sub(p.panel.Evaluated())
	return p.seen + step - step/10
}

// Take takes what instances showed at a moment; it is false once the rollout is over, or was turned back.
func (p *Player) Take(m Moment) bool {
	switch {
	case p.over:
		return false
	case m.At < p.Due():
		return true
	}
	p.seen = m.At
	if m.At > 0 && !p.begun {
		p.begun = true
		p.enter(0)
	}
	for p.begun && p.at < len(p.stages) && m.At > p.stages[p.at].ends {
		p.leave()
		if p.at++; p.at < len(p.stages) {
			p.enter(p.stages[p.at-1].ends)
		}
	}
	if p.at == len(p.stages) {
		p.over = true
		return false
	}
	now := begins.Add(m.At)
	p.panel.Evaluate(p.subject, m.Scrapes, func(string) bool { return true }, now)
	p.told.Evaluations++
	if !p.begun {
		return true
	}
	p.last = p.panel.Judge(p.subject, true, now).Verdicts
	for _, v := range p.last {
		if v.Word == guard.Breach && v.Then != guard.Tell {
			p.over = true
			p.tell(EndsBack, m.At, v)
			if p.told.Why = rollout.Sentence(v); v.Then == guard.Hold {
				p.told.Ending = EndsHeld
			}
			return false
		}
	}
	return true
}

// enter begins the stretch that is due.
func (p *Player) enter(from time.Duration) {
	p.last = nil
	p.roll.Phase, p.roll.Stage = p.stages[p.at].phase, p.stages[p.at].stage
	if p.roll.Phase == rollout.Soaking {
		p.roll.Shared = begins.Add(from)
	}
	if p.roll.Given.IsZero() && p.roll.AskedShare() > 0 {
		p.roll.Given = p.roll.Shared
	}
}

// leave ends a stretch: what is not clear at its end is waited for, what fell silent before it too.
func (p *Player) leave() {
	stretch := p.stages[p.at]
	if stretch.Lasts == 0 {
		return
	}
	p.last = p.panel.Judge(p.subject, false, begins.Add(stretch.ends)).Verdicts
	for _, v := range p.last {
		if !v.Stops() {
			continue
		}
		if p.told.Waited = append(p.told.Waited, p.roll.Where()); p.told.Ending == EndsProven {
			p.tell(EndsWaiting, stretch.ends, v)
			p.told.Why = fmt.Sprintf("%s is %s", v.Guard, v.Word)
		}
		return
	}
}

// tell notes what became of the rollout, when, and by which guard.
func (p *Player) tell(ending Ending, at time.Duration, v guard.Verdict) {
	p.told.Ending, p.told.At, p.told.Where, p.told.Guard = ending, at.Seconds(), p.roll.Where(), v.Guard
}

// End gives what became of the rollout, where no further moments come.
func (p *Player) End() Played {
	end := p.stages[len(p.stages)-1].ends
	reached := p.seen > end-p.subject.every()
	turned := p.told.Ending == EndsBack || p.told.Ending == EndsHeld
	if !turned && p.at < len(p.stages) && reached {
		p.leave()
	}
	p.told.Verdicts = slices.Clone(p.last)
	switch {
	case turned:
	case !reached:
		p.told.Ending, p.told.Where, p.told.Guard, p.told.Why = EndsTruncated, p.roll.Where(), "", "the recording ends before the rollout does"
		if p.told.Evaluations > 0 {
			p.told.At = p.seen.Seconds()
		}
	case p.told.Ending == EndsProven:
		p.told.At = end.Seconds()
	}
	return p.told
}
