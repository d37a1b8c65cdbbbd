package engine

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
	"aditus/internal/ledger"
)

// locks carries out the orders to lock a berth and to unlock it.
func (b *berth) locks(next *decision, orders []*order, now time.Time) {
	for _, o := range orders {
		switch {
		case o.Verb == Lock && next.roll != nil && next.roll.Phase != rollout.Proven:
			o.taken, o.err = true, fmt.Errorf("lock is not possible: a rollout is under way at %s; hold it, or wait for its end", b.id)
		case o.Verb == Lock && next.state.Lock != nil:
			o.taken, o.err = true, fmt.Errorf("lock is not possible: %s is locked already by %s", b.id, next.state.Lock.String())
		case o.Verb == Lock && strings.TrimSpace(o.Note) == "":
			o.taken, o.err = true, fmt.Errorf("lock is not possible without a message: colleagues will want to know why %s is locked", b.id)
		case o.Verb == Lock:
			o.taken = true
			next.state.Lock = &ledger.Lock{Message: o.Note, By: o.By, At: now}
			next.fact(b, now, "locked", o.By, b.state.Applied, fmt.Sprintf("%s locked it: %s", o.By, o.Note), nil)
		case o.Verb == Unlock && next.state.Lock == nil:
			o.taken, o.err = true, fmt.Errorf("unlock is not possible: %s is not locked", b.id)
		case o.Verb == Unlock:
			o.taken = true
			next.fact(b, now, "unlocked", o.By, b.state.Applied, fmt.Sprintf("%s unlocked it; it was locked by %s", o.By, next.state.Lock.String()), nil)
			next.state.Lock = nil
		}
	}
}

// stand follows the guards of what is applied: a breach tells, or goes back, as the guard says; and a person may go back
// to any revision on record.
func (b *berth) stand(next *decision, seen *evidence, orders []*order, now time.Time) {
	for _, o := range orders {
		if o.Verb == RollBack && !o.taken {
			o.taken = true
			if o.err = b.backBy(next, o.Order, now); o.err == nil {
				return
			}
		}
	}
	if !seen.reached || seen.stale != "" {
		return
	}
	var causes []rollout.Cause
	for _, v := range seen.verdicts {
		if v.Word != guard.Breach {
			delete(b.told, v.Guard)
			continue
		}
		text := rollout.Sentence(v)
		if v.Then == guard.RollBack {
			causes = append(causes, rollout.Cause{Kind: "guard", Text: text, Verdict: &v, At: now})
		}
		if !b.told[v.Guard] {
			b.told[v.Guard] = true
			next.fact(b, now, "told", rollout.Itself, b.state.Applied, "a standing guard breaches: "+text, v)
		}
	}
	switch {
	case len(causes) > 0:
		b.standingBack(next, causes, now)
	case next.state.Calls != "":
		next.state.Calls, next.durable = "", true
	}
}

// backBy goes back as a person asked, to a barred revision as well: whoever names it lifts its bar.
func (b *berth) backBy(next *decision, o Order, now time.Time) error {
	if lock := next.state.Lock; lock != nil {
		return fmt.Errorf("roll back is not possible: %s is locked by %s; unlock it first", b.id, lock.String())
	}
	to, err := b.backTo(o.To, next.state)
	if err != nil {
		return err
	}
	if i := slices.IndexFunc(next.state.Bars, func(bar ledger.Bar) bool { return bar.Revision == to.Fingerprint }); i >= 0 {
		next.state.Bars = slices.Delete(next.state.Bars, i, i+1)
		next.fact(b, now, "bar lifted", o.By, to.Fingerprint, fmt.Sprintf("%s lifted the bar on %s (%s), to go back to it", o.By, to.Version, to.Fingerprint.Short()), nil)
	}
	why := "rolled back by " + o.By
	if o.Note != "" {
		why += ": " + o.Note
	}
	b.goBack(next, to, o.By, []rollout.Cause{{Kind: "person", Text: why, At: now}}, now)
	return nil
}

// standingBack goes back from what is applied where its standing guards say so and nothing speaks against it.
func (b *berth) standingBack(next *decision, causes []rollout.Cause, now time.Time) {
	applied := b.desired(b.state.Applied)
	cool := time.Duration(0)
	if applied != nil {
		cool = applied.Rollout.CoolDown.Duration
	}
	to, err := b.backTo("", next.state)
	why := ""
	switch {
	case next.state.Lock != nil:
		why = "it is locked by " + next.state.Lock.String()
	case !next.state.LastRollback.IsZero() && now.Sub(next.state.LastRollback) < cool:
		why = fmt.Sprintf("the last rollback was %s, and the cool-down is %s", say.Ago(now.Sub(next.state.LastRollback)), say.Span(cool))
	case err != nil:
		why = err.Error()
	default:
		b.goBack(next, to, rollout.Itself, causes, now)
		return
	}
	if next.state.Calls == "" {
		next.state.Calls = fmt.Sprintf("%s; nothing is rolled back: %s", causes[0].Text, why)
		next.fact(b, now, "calls", rollout.Itself, b.state.Applied, next.state.Calls, nil)
	}
}

// backTo gives the revision to go back to: the one that was named, or the last proven one before what is applied that
// is not barred.
func (b *berth) backTo(name string, state ledger.BerthState) (*ledger.Revision, error) {
	barred := func(f declare.Fingerprint) bool {
		return slices.ContainsFunc(state.Bars, func(bar ledger.Bar) bool { return bar.Revision == f })
	}
	if name == "" {
		for _, f := range state.Proven {
			if f != state.Applied && !barred(f) {
				if r := b.e.revision(b.id.Workload, f); r != nil {
					return r, nil
				}
			}
		}
		return nil, fmt.Errorf("roll back is not possible: no other revision was ever proven at %s, or all are barred", b.id)
	}
	b.e.mu.Lock()
	defer b.e.mu.Unlock()
	var found []*ledger.Revision
	for i := range b.e.revisions[b.id.Workload] {
		if r := b.e.revisions[b.id.Workload][i]; strings.HasPrefix(string(r.Fingerprint), name) || r.Version == name {
			found = append(found, &r)
		}
	}
	switch {
	case len(found) == 0:
		return nil, fmt.Errorf("roll back is not possible: %s has no revision %s on record", b.id.Workload, name)
	case len(found) > 1 && found[0].Version == name:
		found = found[len(found)-1:] // the newest of that version
	case len(found) > 1:
		return nil, fmt.Errorf("roll back is not possible: %s fits %d revisions of %s; write more of it", name, len(found), b.id.Workload)
	}
	if found[0].Fingerprint == state.Applied {
		return nil, fmt.Errorf("roll back is not possible: %s is what is applied", name)
	}
	return found[0], nil
}

// goBack begins the way back from what is applied to an earlier revision. What is left is barred at once, so that
// nothing brings it back meanwhile.
func (b *berth) goBack(next *decision, to *ledger.Revision, by string, causes []rollout.Cause, now time.Time) {
	from, back := b.side(b.state.Applied), b.side(to.Fingerprint)
	applied := b.desired(b.state.Applied)
	if applied == nil {
		applied = to.Desired
	}
	s := rollout.GoBack(from, back, applied.Rollout, by, causes, now)
	s.ID = b.e.ledger.NextRollout()
	next.roll, next.state.Rollout, next.state.LastRollback, next.state.Left, next.state.Calls = &s, s.ID, now, nil, ""
	next.state.Proven = slices.DeleteFunc(next.state.Proven, func(f declare.Fingerprint) bool { return f == from.Revision })
	next.state.Bars = append(next.state.Bars, ledger.Bar{Revision: from.Revision, Version: from.Version, Why: s.Why, By: by, At: now, Rollout: s.ID})
	b.bars(next)
	next.fact(b, now, "rollback", by, from.Revision, fmt.Sprintf("from %s (%s) back to %s (%s): %s%s", from.Version, from.Revision.Short(), back.Version, back.Revision.Short(), s.Why, rollout.Stays(lasting(applied))), b.senses.verdicts)
	next.fact(b, now, "barred", by, from.Revision, fmt.Sprintf("%s (%s) is barred until Git moves on or a person lifts the bar", from.Version, from.Revision.Short()), nil)
}

// lasting are the tasks of a desired state that cannot be undone.
func lasting(d *declare.Desired) (tasks []string) {
	for _, name := range d.Running() {
		if d.Parts[name].NotUndoable {
			tasks = append(tasks, name)
		}
	}
	return tasks
}

// barsKept is how many bars a berth remembers.
const barsKept = 50

// bars forgets the oldest bars beyond what is kept.
func (b *berth) bars(next *decision) {
	if more := len(next.state.Bars) - barsKept; more > 0 {
		next.state.Bars = next.state.Bars[more:]
	}
}

// revive starts instances anew that do not run any more, by what their probes say: once for each time they stop.
func (b *berth) revive(next *decision, seen *evidence, now time.Time) {
	for _, id := range seen.dead {
		s := b.senses.instances[id]
		if s == nil || !s.revived.IsZero() && now.Sub(s.revived) < reviveEvery {
			continue
		}
		s.revived = now
		next.restarts = append(next.restarts, id)
		next.fact(b, now, "restarted", rollout.Itself, b.state.Applied, fmt.Sprintf("%s is started anew: it %s", id, cmp.Or(s.health.Reason, "does not run")), nil)
	}
}

// reviveEvery is how long an instance that was started anew has to come up before it is started once more.
const reviveEvery = time.Minute

// restart has the target start instances anew.
func (b *berth) restart(ctx context.Context, ids []string) error {
	for _, id := range ids {
		if err := b.driver.Restart(ctx, b.id.Workload, id); err != nil {
			return err
		}
	}
	return nil
}
