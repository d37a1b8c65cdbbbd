package berth

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
)

// locks carries out the orders to lock a berth and to unlock it.
func (d *decision) locks() {
	d.each(LockIt, func(o *order) error {
		switch {
		case d.State.Roll != nil && d.State.Roll.Phase != rollout.Proven:
			return fmt.Errorf("lock is not possible: a rollout is under way at %s; hold it, or wait for its end", d.id)
		case d.State.Ending != nil:
			return fmt.Errorf("lock is not possible: %s is being torn down", d.id)
		case d.State.Lock != nil && d.State.Lock.Message == o.Note:
			return nil // asked for once more
		case d.State.Lock != nil:
			return fmt.Errorf("lock is not possible: %s is locked already by %s", d.id, d.State.Lock.String())
		case strings.TrimSpace(o.Note) == "":
			return fmt.Errorf("lock is not possible without a message: colleagues will want to know why %s is locked", d.id)
		}
		d.State.Lock = &Lock{Message: o.Note, By: o.By, At: d.now}
		d.fact(Locked, o.By, d.State.Applied, fmt.Sprintf("%s locked it: %s", o.By, o.Note), nil)
		return nil
	})
	d.each(Unlock, func(o *order) error {
		if d.State.Lock == nil {
			return nil // it is as it should be
		}
		d.fact(Unlocked, o.By, d.State.Applied, fmt.Sprintf("%s unlocked it; it was locked by %s", o.By, d.State.Lock.String()), nil)
		d.State.Lock = nil
		return nil
	})
}

// standing follows the guards of what is applied: a breach tells, or goes back, as the guard says; and a person may go
// back to any revision on record.
func (d *decision) standing() {
	fresh := d.seen.Reached && d.seen.Stale == ""
	for _, v := range d.seen.Verdicts {
		if known := slices.Index(d.State.Breaches, v.Guard); fresh && known >= 0 && v.Word != guard.Breach {
			d.State.Breaches, d.Durable = slices.Delete(d.State.Breaches, known, known+1), true // also where a person goes back at this moment
		}
	}
	d.each(RollBack, func(o *order) error {
		if d.State.Roll != nil {
			return fmt.Errorf("%s is not possible: a rollout is under way at %s", o.Verb, d.id)
		}
		return d.backBy(o.Order)
	})
	if d.State.Roll != nil || !fresh {
		return
	}
	var causes []rollout.Cause
	for _, v := range d.seen.Verdicts {
		if v.Word != guard.Breach {
			continue
		}
		text := rollout.Sentence(v)
		if v.Then == guard.RollBack {
			causes = append(causes, rollout.Cause{Kind: rollout.ByGuard, Text: text, Verdict: &v, At: d.now})
		}
		if !slices.Contains(d.State.Breaches, v.Guard) {
			d.State.Breaches = append(d.State.Breaches, v.Guard)
			d.fact(Breached, rollout.Automatic, d.State.Applied, "a standing guard breaches: "+text, v)
		}
	}
	switch {
	case len(d.State.Breaches) == 0:
		d.State.BreachSince = time.Time{}
	case d.State.BreachSince.IsZero():
		d.State.BreachSince = d.now
	}
	switch {
	case len(causes) > 0:
		d.standingBack(causes)
	case d.State.Calls != "":
		d.State.Calls, d.Durable = "", true
	}
}

// backBy goes back as a person asked, to a barred revision as well: whoever names it lifts its bar.
func (d *decision) backBy(o Order) error {
	if lock := d.State.Lock; lock != nil {
		return fmt.Errorf("roll back is not possible: %s is locked by %s; unlock it first", d.id, lock.String())
	}
	if d.State.Left != nil && d.backFromLeft(o) {
		return nil
	}
	to, err := d.backTo(o.To)
	if err != nil {
		return err
	}
	if i := slices.IndexFunc(d.State.Bars, func(bar Bar) bool { return bar.Revision == to.Fingerprint }); i >= 0 {
		d.State.Bars = slices.Delete(d.State.Bars, i, i+1)
		d.fact(BarLifted, o.By, to.Fingerprint, fmt.Sprintf("%s lifted the bar on %s (%s), to go back to it", o.By, to.Version, to.Fingerprint.Short()), nil)
	}
	d.goBack(d.State.Applied, to, o.By, o.causes(d.now))
	return nil
}

// causes are why a person goes back.
func (o Order) causes(now time.Time) []rollout.Cause {
	why := "rolled back by " + o.By
	if o.Note != "" {
		why += ": " + o.Note
	}
	return []rollout.Cause{{Kind: rollout.ByPerson, Text: why, At: now}}
}

// backFromLeft takes what was left halfway away again, so that all is as applied; false where a person means another revision.
func (d *decision) backFromLeft(o Order) bool {
	applied := d.world.Revisions[d.State.Applied]
	if applied == nil || o.To != "" && !slices.ContainsFunc(d.world.Named[o.To], func(r *Revision) bool { return r.Fingerprint == applied.Fingerprint }) {
		return false
	}
	d.goBack(d.State.Left.Revision, applied, o.By, o.causes(d.now))
	return true
}

// standingBack goes back from what is applied where its standing guards say so and nothing speaks against it.
func (d *decision) standingBack(causes []rollout.Cause) {
	applied := d.desired(d.State.Applied)
	cool := time.Duration(0)
	if applied != nil {
		cool = applied.Rollout.CoolDown.Duration
	}
	to, err := d.backTo("")
	why := ""
	switch {
	case d.world.Shared != "":
		why = d.world.Shared
	case d.State.Lock != nil:
		why = "it is locked by " + d.State.Lock.String()
	case !d.State.LastRollback.IsZero() && d.now.Sub(d.State.LastRollback) < cool:
		why = fmt.Sprintf("the last rollback was %s, and the cool-down is %s", say.Ago(d.now.Sub(d.State.LastRollback)), say.Span(cool))
	case err != nil:
		why = err.Error()
	default:
		d.goBack(d.State.Applied, to, rollout.Automatic, causes)
		return
	}
	d.call(causes[0].Text, why)
}

// call calls a person, once, where what is applied would go back and does not.
func (d *decision) call(breach, why string) {
	if d.State.Calls == "" {
		d.State.Calls = fmt.Sprintf("%s; nothing is rolled back: %s", breach, why)
		d.fact(Called, rollout.Automatic, d.State.Applied, d.State.Calls, nil)
	}
}

// spared are the verdicts on what is proven while its old set is kept: where something else breaches too they only tell, and a person is called.
func (d *decision) spared(verdicts []guard.Verdict) []guard.Verdict {
	all, called := slices.Clone(verdicts), false
	for i, v := range all {
		if d.world.Shared != "" && v.Word == guard.Breach && v.Then == guard.RollBack {
			called = true
			d.call(rollout.Sentence(v), d.world.Shared)
			all[i].Then = guard.Tell
		}
	}
	if !called && d.State.Calls != "" {
		d.State.Calls, d.Durable = "", true
	}
	return all
}

// Back gives the last proven revision before what is applied that is not barred; nil where there is none.
func (s State) Back(revisions map[declare.Fingerprint]*Revision) *Revision {
	for _, f := range s.Proven {
		if r := revisions[f]; r != nil && f != s.Applied && !s.bars(f) {
			return r
		}
	}
	return nil
}

// WayBack gives the revisions of which one may be gone back to, newest first: the proven ones down to the first that is
// not barred.
func (s State) WayBack() (all []declare.Fingerprint) {
	for _, f := range s.Proven {
		if f == s.Applied {
			continue
		}
		all = append(all, f)
		if !s.bars(f) {
			break
		}
	}
	return all
}

// backTo gives the revision to go back to: the one that was named, or the last proven one.
func (d *decision) backTo(name string) (*Revision, error) {
	if name == "" {
		if r := d.State.Back(d.world.Revisions); r != nil {
			return r, nil
		}
		return nil, fmt.Errorf("roll back is not possible: no other revision was ever proven at %s, or all are barred", d.id)
	}
	found := d.world.Named[name]
	switch {
	case len(found) == 0:
		return nil, fmt.Errorf("roll back is not possible: %s has no revision %s on record", d.id.Workload, name)
	case len(found) > 1 && found[0].Version == name:
		found = found[len(found)-1:] // the newest of that version
	case len(found) > 1:
		return nil, fmt.Errorf("roll back is not possible: %s fits %d revisions of %s; write more of it", name, len(found), d.id.Workload)
	}
	if found[0].Fingerprint == d.State.Applied {
		return nil, fmt.Errorf("roll back is not possible: %s is what is applied", name)
	}
	return found[0], nil
}

// goBack begins the way back from what serves, or was left halfway, to an earlier revision. What it leaves is barred at once, so
// that nothing brings it back meanwhile.
func (d *decision) goBack(what declare.Fingerprint, to *Revision, by string, causes []rollout.Cause) {
	from, back := d.takeOver(d.side(what), d.sideOf(to))
	applied := d.desired(what)
	if applied == nil {
		applied = to.Desired
	}
	s := rollout.GoBack(from, back, applied.Rollout, by, causes, d.now)
	s.ID = Unnumbered
	if to.Fingerprint == d.State.Applied {
		s.New.Set = d.State.Set // it never went
	}
	d.State.Roll, d.State.Rollout, d.State.LastRollback, d.State.Left, d.State.Calls, d.State.Restarting = &s, s.ID, d.now, nil, "", nil
	d.State.Proven = slices.DeleteFunc(d.State.Proven, func(f declare.Fingerprint) bool { return f == from.Revision })
	d.State.Bars = append(d.State.Bars, Bar{Revision: from.Revision, Version: from.Version, Why: s.Why, By: by, At: d.now, Rollout: s.ID})
	d.forgetBars()
	d.fact(Rollback, by, from.Revision, fmt.Sprintf("from %s (%s) back to %s (%s): %s%s", from.Version, from.Revision.Short(), back.Version, back.Revision.Short(), s.Why, rollout.Stays(Lasting(applied))), d.seen.Verdicts)
	d.fact(Barred, by, from.Revision, fmt.Sprintf("%s (%s) is barred until Git moves on or a person lifts the bar", from.Version, from.Revision.Short()), nil)
}

// Lasting are the tasks of a desired state that cannot be undone.
func Lasting(d *declare.Desired) (tasks []string) {
	for _, name := range d.Running() {
		if d.Parts[name].NotUndoable {
			tasks = append(tasks, name)
		}
	}
	return tasks
}

// barsKept is how many bars a berth remembers.
const barsKept = 50

// forgetBars forgets the oldest bars beyond what is kept.
func (d *decision) forgetBars() {
	if more := len(d.State.Bars) - barsKept; more > 0 {
		d.State.Bars = d.State.Bars[more:]
	}
}

// reviveEvery is how long an instance that was started anew has to come up before it is started once more.
const reviveEvery = time.Minute

// revive starts instances anew that do not run any more, by what their probes say: once for each time they stop.
func (d *decision) revive() {
	there := map[string]string{}
	for _, c := range d.seen.Cohorts {
		for _, in := range c.Instances {
			there[in.ID] = ""
			if in.Health != nil {
				there[in.ID] = in.Health.Reason
			}
		}
	}
	if d.seen.Reached {
		maps.DeleteFunc(d.State.Restarted, func(id string, _ time.Time) bool { _, is := there[id]; return !is })
	}
	for _, id := range d.seen.Dead {
		if last := d.State.Restarted[id]; !last.IsZero() && d.now.Sub(last) < reviveEvery {
			continue
		}
		d.startAnew(id)
		d.fact(Restarted, rollout.Automatic, d.State.Applied, fmt.Sprintf("%s is started anew: it %s", id, cmp.Or(there[id], "does not run")), nil)
	}
}

// startAnew has the site start an instance anew; it has a while to come up.
func (d *decision) startAnew(id string) {
	if d.State.Restarted == nil {
		d.State.Restarted = map[string]time.Time{}
	}
	d.State.Restarted[id] = d.now
	d.Restarts = append(d.Restarts, id)
}
