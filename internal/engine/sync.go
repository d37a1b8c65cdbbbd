package engine

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/plan"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
	"aditus/internal/ledger"
)

// compare holds applied, declared and live against each other.
func (b *berth) compare(seen *evidence, declared *ledger.Revision) change {
	if !seen.reached {
		return change{stand: compare.Unread, differences: b.changes.differences, plan: b.changes.plan}
	}
	cohort, there := seen.target.Cohort(b.state.Applied)
	next := change{applied: b.state.Applied}
	if there {
		next.live = cohort.Live
	}
	if declared != nil {
		next.declared = declared.Fingerprint
	}
	if last := b.changes; last.stand != compare.Unread && last.applied == next.applied && last.declared == next.declared && reflect.DeepEqual(last.live, next.live) {
		return last
	}
	var applied, wanted *declare.Desired
	if r := b.e.revision(b.id.Workload, b.state.Applied); r != nil {
		applied = r.Desired
	}
	if declared != nil {
		wanted = declared.Desired
	}
	next.differences = compare.Three(applied, wanted, next.live)
	next.stand, next.plan = compare.StandOf(next.differences, there), plan.New(wanted, next.differences)
	return next
}

// lost tells whether all that was applied is gone from the site.
func (b *berth) lost() bool {
	return b.changes.stand == compare.Absent && b.state.Applied != ""
}

func driftText(differences []compare.Difference) string {
	for _, d := range differences {
		if d.Kind == compare.Drift || d.Kind == compare.Conflict {
			return d.String()
		}
	}
	return "nothing"
}

// liftBars carries out the orders to lift the bar of the declared revision.
func (b *berth) liftBars(next *decision, orders []*order, declared *ledger.Revision, now time.Time) {
	for _, o := range orders {
		if o.Verb != LiftBar {
			continue
		}
		o.taken = true
		barred := -1
		if declared != nil {
			barred = slices.IndexFunc(next.state.Bars, func(bar ledger.Bar) bool { return bar.Revision == declared.Fingerprint })
		}
		if barred < 0 {
			o.err = fmt.Errorf("%s is not possible: no bar stands between %s and what Git declares", o.Verb, b.id)
			continue
		}
		bar := next.state.Bars[barred]
		next.state.Bars = slices.Delete(next.state.Bars, barred, barred+1)
		next.fact(b, now, "bar lifted", o.By, bar.Revision, fmt.Sprintf("%s lifted the bar on %s (%s)", o.By, bar.Version, bar.Revision.Short()), nil)
	}
}

// sync starts a rollout of the declared revision where that may be, or puts a drifted site back where that was asked.
func (b *berth) sync(next *decision, seen *evidence, orders []*order, declared *ledger.Revision, now time.Time) {
	var asked *order
	for _, o := range orders {
		if o.Verb != Sync {
			continue
		}
		o.taken = true
		if lock := next.state.Lock; lock != nil {
			o.err = fmt.Errorf("sync is not possible: %s is locked by %s; unlock it first", b.id, lock.String())
			return
		}
		comes := declared != nil && !barredBy(next.state, declared)
		if b.changes.stand == compare.Drifted || b.changes.stand == compare.Diverged && !comes || b.lost() {
			b.putBack(next, o.By, now)
			return
		}
		asked = o
	}
	refuse := func(why string) {
		b.waits = why
		for _, o := range orders {
			if o.Verb == Sync {
				o.err = fmt.Errorf("sync is not possible: %s", cmp.Or(why, "live is as declared already"))
			}
		}
	}
	if declared == nil {
		refuse("no link declares " + b.id.String())
		b.waits = ""
		return
	}
	if b.state.InPart != "" && b.state.InPart != declared.Fingerprint {
		next.state.InPart = "" // Git moved on
	}
	if b.changes.stand == compare.Drifted && next.state.Left != nil {
		b.changes.stand = compare.Behind // what was left halfway is no one's drift
	}
	question := b.question(next.state, seen, declared, asked)
	may, why := rollout.MayStart(question, now)
	if !may {
		refuse(why)
		return
	}
	if asked != nil && len(asked.Parts) > 0 {
		part, err := b.inPart(declared, asked.Parts)
		if err != nil {
			asked.err = err
			return
		}
		next.state.InPart, declared = declared.Fingerprint, part
	} else {
		next.state.InPart = ""
	}
	b.waits = ""
	by, how := rollout.Itself, "taken automatically"
	if question.After != "" {
		how += " after " + question.After + " had proven it"
	}
	if asked != nil {
		by, how = asked.By, "taken by "+asked.By
	}
	if b.changes.stand == compare.Behind && b.marks(declared) {
		b.mark(next, declared, by, now)
		return
	}
	b.begin(next, declared, by, how, now)
}

// barredBy tells whether a bar stands between a berth and a revision.
func barredBy(state ledger.BerthState, r *ledger.Revision) bool {
	return slices.ContainsFunc(state.Bars, func(bar ledger.Bar) bool { return bar.Revision == r.Fingerprint })
}

// question puts together what is to be known before a sync.
func (b *berth) question(state ledger.BerthState, seen *evidence, declared *ledger.Revision, asked *order) rollout.Question {
	q := rollout.Question{
		Stand: b.changes.stand, Declared: declared.Fingerprint, Applied: b.state.Applied, ByHand: asked != nil, Overwrite: asked != nil && b.changes.stand == compare.Diverged,
		Fresh: seen.reached, Stale: seen.stale, LastRollback: b.state.LastRollback, CoolDown: declared.Desired.Rollout.CoolDown.Duration,
		Automatic: b.e.site(b.id.Site).Automatic, InPart: state.InPart == declared.Fingerprint, Needs: b.e.needsOf(b.id, declared.Desired.Needs),
	}
	if state.Lock != nil {
		q.Locked = state.Lock.String()
	}
	if left := state.Left; left != nil && left.Revision == declared.Fingerprint {
		q.Left = left.Why
	}
	if declared.Desired.Rollout.Style == declare.BlueGreen && seen.target.Whole {
		q.CannotSwitch = true
	}
	for _, bar := range state.Bars {
		if bar.Revision == declared.Fingerprint {
			q.Barred, q.BarredWhy = true, bar.Why
		}
	}
	q.After, q.AfterProven = b.e.waitsFor(b.id)
	return q
}

// begin starts a rollout of a revision.
func (b *berth) begin(next *decision, declared *ledger.Revision, by, how string, now time.Time) {
	old, coming := b.side(b.state.Applied), b.side(declared.Fingerprint)
	if coming.Version == old.Version {
		coming.Version += " " + coming.Revision.Short() // the artifact is the same; only the revision tells them apart
	}
	s := rollout.Begin(old, coming, declared.Desired.Rollout, by, how, b.state.LastRollback, now)
	s.ID = b.e.ledger.NextRollout()
	next.roll, next.state.Rollout, next.state.Left = &s, s.ID, nil
	text := fmt.Sprintf("%s (%s), “%s” by %s, %s: %s", declared.Version, declared.Fingerprint.Short(), declared.Subject, declared.Author, how, stepsText(b.changes.plan))
	if b.changes.stand == compare.Diverged {
		text += "; what was changed by hand is overwritten: " + driftText(b.changes.differences)
	}
	next.fact(b, now, "taken", by, declared.Fingerprint, text, nil)
}

// marks tells whether nothing that runs differs between what is applied and a revision.
func (b *berth) marks(declared *ledger.Revision) bool {
	applied := b.desired(b.state.Applied)
	return applied != nil && plan.New(declared.Desired, compare.Three(applied, declared.Desired, compare.LiveOf(applied))).OnlyMarks()
}

// mark makes a revision the applied one without starting anything anew, as nothing that runs differs.
func (b *berth) mark(next *decision, declared *ledger.Revision, by string, now time.Time) {
	before := b.state.Applied
	next.state.Applied, next.state.AppliedAt, next.state.MarkedFrom = declared.Fingerprint, now, before
	if slices.Contains(next.state.Proven, before) { // what runs was proven, and goes on to be
		next.state.Proven = append([]declare.Fingerprint{declared.Fingerprint}, next.state.Proven...)
		next.state.Proven = next.state.Proven[:min(provenKept, len(next.state.Proven))]
	}
	next.intents = append(next.intents, b.remark(before, declared.Fingerprint)...)
	next.fact(b, now, "marked", by, declared.Fingerprint, fmt.Sprintf("%s (%s), “%s” by %s: nothing that runs changes, so it is only marked: %s", declared.Version, declared.Fingerprint.Short(), declared.Subject, declared.Author, fieldsText(b.changes.differences)), b.changes.differences)
}

func (b *berth) remark(from, to declare.Fingerprint) []rollout.Intent {
	return []rollout.Intent{{Do: rollout.Mark, From: from, Revision: to}, {Do: rollout.Lay, Revision: to}}
}

// inPart makes the revision that has some parts as they are declared and all else as it is applied.
func (b *berth) inPart(declared *ledger.Revision, parts []string) (*ledger.Revision, error) {
	applied := b.desired(b.state.Applied)
	if applied == nil {
		return nil, fmt.Errorf("sync of some parts is not possible: nothing of %s is there yet; sync all of it", b.id)
	}
	mixed := *declared.Desired
	mixed.Parts = maps.Clone(applied.Parts)
	for _, name := range parts {
		part, ok := declared.Desired.Parts[name]
		_, was := applied.Parts[name]
		switch {
		case ok:
			mixed.Parts[name] = part
		case was:
			delete(mixed.Parts, name)
		default:
			return nil, fmt.Errorf("sync of some parts is not possible: %s has no part %q; it has %s", b.id, name, say.List(slices.Sorted(maps.Keys(declared.Desired.Parts))))
		}
	}
	for name, part := range mixed.Parts {
		for _, need := range part.Needs {
			if _, ok := mixed.Parts[need]; !ok {
				return nil, fmt.Errorf("sync of some parts is not possible: %s needs %s, which is not among them", name, need)
			}
		}
	}
	r := *declared
	r.Desired, r.Fingerprint = &mixed, mixed.Fingerprint()
	if r.Fingerprint == b.state.Applied {
		return nil, fmt.Errorf("sync is not possible: of %s nothing differs", say.List(parts))
	}
	r.Version = mixed.Version()
	r.Subject += " (only " + say.List(parts) + ")"
	return &r, b.e.remember(context.Background(), &r, []string{b.id.Site})
}

// fieldsText names the fields that differ, the first few where there are many.
func fieldsText(differences []compare.Difference) string {
	const most = 4
	var names []string
	for _, d := range differences {
		names = append(names, strings.TrimPrefix(strings.TrimPrefix(d.Pointer, "/parts/"), "/"))
	}
	if more := len(names) - most; more > 0 {
		names = append(names[:most], fmt.Sprintf("%d more", more))
	}
	return say.List(names)
}

func stepsText(p plan.Plan) string {
	if p.Steps() == 0 {
		return "only rules change"
	}
	text := ""
	for _, wave := range p.Waves {
		for _, step := range wave {
			if text != "" {
				text += ", "
			}
			text += string(step.Act) + " " + step.Part
		}
	}
	return text
}

// side is a revision as one side of a rollout. What it leaves to others is as it is live.
func (b *berth) side(fingerprint declare.Fingerprint) rollout.Side {
	r := b.e.revision(b.id.Workload, fingerprint)
	if r == nil {
		return rollout.Side{}
	}
	desired := compare.KeepLeft(*r.Desired, b.changes.live)
	side := rollout.Side{
		Revision: fingerprint, Version: r.Version, Parts: map[string]int{}, Tasks: map[string]rollout.Task{},
		Needs: desired.RunningNeeds(), Declared: slices.Sorted(maps.Keys(desired.Parts)),
	}
	for _, name := range desired.Running() {
		if part := desired.Parts[name]; part.Kind == declare.Task {
			side.Tasks[name] = rollout.Task{NotUndoable: part.NotUndoable}
		} else {
			side.Parts[name] = part.Instances
			if len(part.Volumes) > 0 && part.Instances == 1 {
				side.Keeps = append(side.Keeps, name)
			}
		}
	}
	side.Proven = slices.Contains(b.state.Proven, fingerprint) && !slices.ContainsFunc(b.state.Bars, func(bar ledger.Bar) bool { return bar.Revision == fingerprint })
	if fingerprint == b.state.Applied {
		side.Set = b.state.Set
	}
	return side
}

// putBack makes the site as it was applied.
func (b *berth) putBack(next *decision, by string, now time.Time) {
	next.intents = append(next.intents, rollout.Intent{Do: rollout.Lay, Revision: b.state.Applied})
	side := b.side(b.state.Applied)
	for part, count := range side.Parts {
		next.intents = append(next.intents, rollout.Intent{Do: rollout.Scale, Revision: side.Revision, Part: part, Count: count})
	}
	next.intents = append(next.intents, rollout.Intent{Do: rollout.SetShare, Revision: side.Revision, Share: 1})
	next.fact(b, now, "put back", by, b.state.Applied, fmt.Sprintf("%s puts the site back as applied: %s", by, driftText(b.changes.differences)), b.changes.differences)
}
