package berth

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/health"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
)

// advance takes one step of the rollout.
func (d *decision) advance() {
	before, declared := *d.State.Roll, d.world.Declared
	var commands []rollout.Command
	var asked []*order
	for _, o := range d.orders {
		e, _ := entryOf(o.Verb)
		if o.taken || e.when != rolling && o.Verb != SignOff && (o.Verb != RollBack || o.To != "") {
			continue
		}
		if o.Verb == RollBack && before.Phase == rollout.Proven && before.Possible(rollout.TurnBack) != nil {
			continue // it is over but for the old side's end, and gone back from after that
		}
		o.taken = true
		if o.err = d.maySign(o.Order, before); o.err == nil {
			commands, asked = append(commands, rollout.Command{Verb: rollout.Verb(o.Verb), By: o.By, Note: o.Note}), append(asked, o)
		}
	}
	for _, o := range d.orders {
		if o.taken || before.Phase != rollout.Proven || d.State.Lock != nil {
			continue
		}
		drifted := d.State.Change.SyncStatus == compare.Drifted || d.State.Change.SyncStatus == compare.Diverged
		coming := ""
		switch {
		case o.Verb == Sync && declared != nil && declared.Fingerprint != before.New.Revision && !d.State.bars(declared.Fingerprint):
			coming = "what is declared"
		case o.Verb == Sync && drifted:
			o.taken = true
			d.putBack(o.By)
			continue
		case o.Verb == RollBack:
			if coming = o.To; coming == "" {
				coming = "the way back"
			}
		case o.Verb == TearDown:
			coming = "its end"
		default:
			if e, _ := entryOf(o.Verb); e.when == steady && before.Possible(rollout.Release) != nil {
				o.taken, o.again = true, true // it is over but for what is left of the old side
			}
			continue
		}
		o.taken, o.again = true, true // it begins once what is left of the old side has made room
		if before.Possible(rollout.Release) == nil {
			commands = append(commands, rollout.Command{Verb: rollout.Release, By: o.By, Note: coming})
		}
	}
	commands = append(commands, d.byLine(before, asked)...)
	if verb := d.newer(before, declared); verb != "" {
		commands = append(commands, rollout.Command{Verb: verb, By: rollout.Automatic, Note: fmt.Sprintf("%s (%s)", declared.Version, declared.Fingerprint.Short())})
	}
	out := rollout.Step(before, d.observation(before), commands, d.now)
	for i, o := range asked { // a person's commands come first
		o.err = out.Refused[i]
	}
	if d.State.Resumed {
		d.State.Resumed = false
		d.fact(GoesOnAfterRestart, rollout.Automatic, before.New.Revision, fmt.Sprintf("in %s, %s", before.Where(), before.Phase), nil)
	}
	for _, f := range out.Facts {
		d.fact(f.Kind, f.By, before.New.Revision, f.Text, f.Data)
	}
	d.State.Roll, d.Rollout, d.Intents = &out.State, &out.State, append(d.Intents, out.Intents...)
	d.Durable = d.Durable || out.State.Phase != before.Phase || d.seen.Evaluated || len(commands) > 0
	d.conclude(before, out)
}

// Anyone stands in a role's list for all people.
const Anyone = "*"

// maySign tells why a person may not sign a stage off that asks for a role; nil where they may, and for other orders.
func (d *decision) maySign(o Order, s rollout.State) error {
	if o.Verb != SignOff || s.Task != "" || s.Stage >= len(s.Rules.Stages) {
		return nil
	}
	role := s.Rules.Stages[s.Stage].SignOff
	if of := d.world.Revisions[s.New.Revision]; d.world.TwoPersons && role != "" && of != nil && of.MadeBy(o.By) {
		return fmt.Errorf("sign off is not possible: %s made the change, and somebody else is to look at it", o.By)
	}
	people, listed := d.world.Roles[role]
	switch {
	case role == "" || slices.Contains(people, Anyone) || slices.Contains(people, o.By):
		return nil
	case !listed:
		return fmt.Errorf("sign off is not possible: it is for %s, and the settings list nobody under that role; write there whose go-ahead it is: roles: {%s: [NAME]}", role, role)
	}
	return fmt.Errorf("sign off is not possible: it is for %s, who are %s, and you are %s", role, say.List(people), o.By)
}

// newer is what a newer declared revision asks of the rollout under way: to make room for it, or nothing.
func (d *decision) newer(s rollout.State, declared *Revision) rollout.Verb {
	switch {
	case declared == nil || declared.Fingerprint == s.New.Revision || declared.Fingerprint == d.State.InPart || s.Return:
		return ""
	case s.Possible(rollout.Release) == nil:
		q, asks := d.question(declared, nil), d.State.Asks
		d.onCourse(&q, declared, nil)
		d.State.Asks = asks // nobody is asked before the old set is let go
		if may, _ := rollout.MayStart(q, d.now); !may {
			return ""
		}
		return rollout.Release
	case s.Ahead() && s.Rules.Newer != declare.NewerWaits && s.Possible(rollout.Supersede) == nil:
		return rollout.Supersede
	}
	return ""
}

// tailOnAfter is how long after its end a rollout's signals are still recorded.
const tailOnAfter = 2 * time.Minute

// provenKept is how many proven revisions a berth remembers.
const provenKept = 20

// conclude carries what a rollout came to over into the berth's own state.
func (d *decision) conclude(before rollout.State, out rollout.Outcome) {
	s := out.State
	entered := s.Phase != before.Phase
	switch {
	case entered && s.Phase == rollout.RollingBack && s.Bar:
		d.State.LastRollback = d.now
	case entered && s.Phase == rollout.RolledBack && s.Bar:
		defer d.forgetBars()
		d.State.Bars = append(d.State.Bars, Bar{Revision: s.New.Revision, Version: s.New.Version, Why: s.Why, By: s.By, At: d.now, Rollout: s.ID})
	case entered && s.Phase == rollout.Proven:
		d.State.MarkedFrom, d.State.Set, d.State.Left = "", s.New.Set, nil
		if d.State.Applied == "" {
			d.State.FirstAt = s.Began
		}
		if d.State.ProvenAt = d.now; s.New.Revision != d.State.Applied { // what was left halfway was gone back from otherwise
			d.State.Applied, d.State.AppliedAt = s.New.Revision, s.Began
		}
		d.State.Proven = append([]declare.Fingerprint{s.New.Revision}, slices.DeleteFunc(d.State.Proven, func(f declare.Fingerprint) bool { return f == s.New.Revision })...)
		d.State.Proven = d.State.Proven[:min(provenKept, len(d.State.Proven))]
	}
	if entered && s.Phase == rollout.RollingBack && before.Phase == rollout.Proven { // to the set that was kept
		d.State.Applied, d.State.Set = s.Old.Revision, s.Old.Set
		d.State.Proven = slices.DeleteFunc(d.State.Proven, func(f declare.Fingerprint) bool { return f == s.New.Revision })
	}
	switch {
	case !entered || s.Phase != rollout.Abandoned:
	case s.Old.None():
		d.State.Applied, d.State.AppliedAt, d.State.MarkedFrom = s.New.Revision, s.Began, ""
	default:
		d.State.Left = &Left{Revision: s.New.Revision, Version: s.New.Version, Share: s.Share, Why: s.Why, By: s.By, At: d.now}
	}
	if out.Done {
		d.State.Rollout, d.State.LastRollout = 0, s.ID
		d.State.Roll, d.Durable = nil, true
		d.State.TailEnds = d.now.Add(tailOnAfter)
	}
}

// observation is what was seen in the terms of the rollout.
func (d *decision) observation(s rollout.State) rollout.Observation {
	seen := d.seen
	o := rollout.Observation{Reached: seen.Reached, Fresh: seen.Reached && seen.Stale == "", Stale: seen.Stale, Verdicts: seen.Verdicts, Splits: !seen.Whole, Pace: d.world.Pace}
	if s.Shared.IsZero() {
		o.Verdicts = nil // they are of what was there before
	}
	if s.Phase == rollout.Proven {
		o.Verdicts = d.spared(o.Verdicts)
	}
	for _, cohort := range seen.Cohorts {
		switch {
		case cohort.Revision == s.New.Revision:
			o.Share = cohort.Share
		case cohort.Revision == s.Old.Revision:
		case cohort.Share > 0 && !(seen.Whole && s.Phase == rollout.Proving):
			o.Astray += cohort.Share // where a target cannot split it goes with the instances, once new has all of its own
		default:
			o.Idle = append(o.Idle, cohort.Revision)
		}
	}
	o.Scaled = d.scaled(s)
	steady := s.Rules.Steady.Duration
	o.Old, o.New = seen.side(s.Old.Revision, steady, d.now), seen.side(s.New.Revision, steady, d.now)
	d.placed(s.Old, &o.Old)
	d.placed(s.New, &o.New)
	return o
}

// placed adds how far the objects of a side are as it has them.
func (d *decision) placed(side rollout.Side, c *rollout.Cohort) {
	desired := d.desired(side.Revision)
	if len(side.Objects) == 0 || desired == nil {
		return
	}
	c.Objects = map[string]rollout.Placed{}
	seen, _ := d.seen.Cohort(side.Revision)
	for part := range side.Objects {
		c.Objects[part] = seen.placed(part, desired.Parts[part].ObjectWaves())
	}
}

// side is a revision's cohort in the terms of the rollout.
func (s Seen) side(revision declare.Fingerprint, steady time.Duration, now time.Time) rollout.Cohort {
	found, ok := s.Cohort(revision)
	c := rollout.Cohort{
		Laid: ok, Preview: found.Preview, Parts: map[string]int{}, Healthy: map[string]int{}, Ready: map[string]int{}, Done: map[string]bool{}, Failed: map[string]string{},
		Health: s.Health(revision, 0), All: slices.Sorted(maps.Keys(found.Live)),
	}
	for _, in := range found.Instances {
		c.Parts[in.Part]++
		if in.Health != nil && in.Health.Word == health.Healthy {
			c.Healthy[in.Part]++
			if now.Sub(in.Health.Since) >= steady {
				c.Ready[in.Part]++
			}
		}
		if in.Done {
			c.Done[in.Part] = true
		}
		if in.Failed != "" {
			c.Failed[in.Part] = in.Failed
		}
		if in.CannotStart != "" {
			c.CannotStart = in.CannotStart
		}
	}
	return c
}

// scaled tells which parts, whose number of instances is left to others, those others scaled during a rollout with a
// complete old cohort.
func (d *decision) scaled(s rollout.State) map[string]int {
	if s.Old.None() || d.seen.Whole || s.Rules.Style == declare.Rolling || !s.Ahead() {
		return nil
	}
	desired, old := d.desired(s.New.Revision), map[string]int{}
	cohort, ok := d.seen.Cohort(s.Old.Revision)
	if desired == nil || !ok {
		return nil
	}
	for part, count := range s.Old.Parts {
		fields, _ := cohort.Live[part].(map[string]any)
		if live, ok := fields["instances"].(float64); ok && int(live) != count && slices.Contains(desired.Leave, "/parts/"+part+"/instances") {
			old[part] = int(live)
		}
	}
	return old
}
