package engine

import (
	"fmt"
	"slices"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
	"aditus/internal/ledger"
)

// advance takes one step of the rollout.
func (b *berth) advance(next *decision, seen *evidence, orders []*order, declared *ledger.Revision, now time.Time) {
	before := *next.roll
	var commands []rollout.Command
	var asked []*order
	for _, o := range orders {
		if verb := rollout.Verb(o.Verb); !o.taken && o.Verb != Sync && o.Verb != Remove && o.Verb != LeaveIt && o.To == "" {
			o.taken = true
			if o.err = b.maySign(o.Order, before); o.err != nil {
				continue
			}
			commands, asked = append(commands, rollout.Command{Verb: verb, By: o.By, Note: o.Note}), append(asked, o)
		}
	}
	for _, o := range orders {
		comes := declared != nil && declared.Fingerprint != before.New.Revision && !barredBy(next.state, declared)
		if o.Verb != Sync || o.taken || before.Phase != rollout.Proven || next.state.Lock != nil || !comes {
			continue
		}
		o.taken, o.again = true, true // it begins once the old set has made room
		if before.Possible(rollout.Release) == nil {
			commands = append(commands, rollout.Command{Verb: rollout.Release, By: o.By, Note: "what is declared"})
		}
	}
	if verb := b.newer(before, next.state, seen, declared, now); verb != "" {
		commands = append(commands, rollout.Command{Verb: verb, By: rollout.Itself, Note: fmt.Sprintf("%s (%s)", declared.Version, declared.Fingerprint.Short())})
	}
	out := rollout.Step(before, b.observation(seen, before, now), commands, now)
	for i, o := range asked { // a person's commands come first
		o.err = out.Refused[i]
	}
	if b.resumed {
		next.fact(b, now, "goes on after a restart", rollout.Itself, before.New.Revision, fmt.Sprintf("in %s, %s", before.Where(), before.Phase), nil)
	}
	for _, f := range out.Facts {
		next.fact(b, now, f.Kind, f.By, before.New.Revision, f.Text, f.Data)
	}
	next.roll, next.write, next.intents = &out.State, &out.State, append(next.intents, out.Intents...)
	next.durable = next.durable || out.State.Phase != before.Phase || seen.evaluated || len(commands) > 0
	b.conclude(next, before, out, now)
}

// maySign tells why a person may not sign a stage off that asks for a role; nil where they may, and for other orders.
func (b *berth) maySign(o Order, s rollout.State) error {
	if o.Verb != SignOff || s.Task != "" || s.Stage >= len(s.Rules.Stages) {
		return nil
	}
	role := s.Rules.Stages[s.Stage].SignOff
	people, listed := b.e.role(role)
	if !listed || slices.Contains(people, o.By) {
		return nil
	}
	return fmt.Errorf("sign off is not possible: it is for %s, who are %s, and you are %s", role, say.List(people), o.By)
}

// newer is what a newer declared revision asks of the rollout under way: to make room for it, or nothing.
func (b *berth) newer(s rollout.State, state ledger.BerthState, seen *evidence, declared *ledger.Revision, now time.Time) rollout.Verb {
	switch {
	case declared == nil || declared.Fingerprint == s.New.Revision || declared.Fingerprint == state.InPart || s.Return:
		return ""
	case s.Possible(rollout.Release) == nil:
		if may, _ := rollout.MayStart(b.question(state, seen, declared, nil), now); !may {
			return ""
		}
		return rollout.Release
	case s.Ahead() && s.Rules.Newer != declare.NewerWaits && s.Possible(rollout.Supersede) == nil:
		return rollout.Supersede
	}
	return ""
}

// provenKept is how many proven revisions a berth remembers.
const provenKept = 20

// conclude carries what a rollout came to over into the berth's own state.
func (b *berth) conclude(next *decision, before rollout.State, out rollout.Outcome, now time.Time) {
	s := out.State
	entered := s.Phase != before.Phase
	switch {
	case entered && s.Phase == rollout.RollingBack && s.Bar:
		next.state.LastRollback = now
	case entered && s.Phase == rollout.RolledBack && s.Bar:
		defer b.bars(next)
		next.state.Bars = append(next.state.Bars, ledger.Bar{Revision: s.New.Revision, Version: s.New.Version, Why: s.Why, By: s.By, At: now, Rollout: s.ID})
	case entered && s.Phase == rollout.Proven:
		next.state.MarkedFrom, next.state.Set, next.state.Left = "", s.New.Set, nil
		next.state.Applied, next.state.AppliedAt, next.state.ProvenAt = s.New.Revision, s.Began, now
		next.state.Proven = append([]declare.Fingerprint{s.New.Revision}, slices.DeleteFunc(next.state.Proven, func(f declare.Fingerprint) bool { return f == s.New.Revision })...)
		next.state.Proven = next.state.Proven[:min(provenKept, len(next.state.Proven))]
	}
	if entered && s.Phase == rollout.RollingBack && before.Phase == rollout.Proven { // to the set that was kept
		next.state.Applied, next.state.Set = s.Old.Revision, s.Old.Set
		next.state.Proven = slices.DeleteFunc(next.state.Proven, func(f declare.Fingerprint) bool { return f == s.New.Revision })
	}
	switch {
	case !entered || s.Phase != rollout.Abandoned:
	case s.Old.None():
		next.state.Applied, next.state.AppliedAt, next.state.MarkedFrom = s.New.Revision, s.Began, ""
	default:
		next.state.Left = &ledger.Left{Revision: s.New.Revision, Version: s.New.Version, Share: s.Share, Why: s.Why, By: s.By, At: now}
	}
	if out.Done {
		next.state.Rollout, next.state.LastRollout = 0, s.ID
		next.roll, next.durable = nil, true
		b.senses.tail = now.Add(tailOnAfter)
	}
}
