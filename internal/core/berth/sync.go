package berth

import (
	"cmp"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/plan"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
)

// Compare holds applied, declared and live against each other, and decides nothing.
func Compare(state State, seen Seen, world World) Change {
	d := &decision{was: state, seen: seen, world: world}
	d.State = state
	return d.compare()
}

func (d *decision) compare() Change {
	last, declared := d.was.Change, d.world.Declared
	if !d.seen.Reached {
		return Change{SyncStatus: compare.Unread, Differences: last.Differences, Plan: last.Plan}
	}
	cohort, there := d.seen.Cohort(d.State.Applied)
	next := Change{Applied: d.State.Applied}
	if there {
		next.Live = cohort.Live
	}
	var wanted *declare.Desired
	if declared != nil {
		next.Declared, wanted = declared.Fingerprint, declared.Desired
	}
	next.Sized, next.Beside = d.State.Sized, d.beside()
	if last.SyncStatus != compare.Unread && last.SyncStatus != "" && last.Applied == next.Applied && last.Declared == next.Declared && maps.Equal(last.Sized, next.Sized) && slices.Equal(last.Beside, next.Beside) && reflect.DeepEqual(last.Live, next.Live) {
		return last
	}
	next.Differences = compare.Three(Resize(d.desired(d.State.Applied), next.Sized), Resize(wanted, next.Sized), next.Live)
	for i, difference := range next.Differences {
		next.Differences[i].Owner = ownerOf(cohort.Owners, difference.Pointer)
	}
	next.Plan = plan.New(Resize(wanted, next.Sized), next.Differences)
	for i, b := range next.Beside { // they weigh the most
		next.Differences = slices.Insert(next.Differences, i, b.difference())
	}
	next.SyncStatus = compare.SyncStatusOf(next.Differences, there)
	return next
}

// Beside is a revision that is at the site beside what is applied, with no rollout that brought it there.
type Beside struct {
	Revision  declare.Fingerprint
	Version   string
	Share     string // of the traffic, as it is told; empty for none
	Instances int
}

// difference is a set beside what is applied as a difference of what is live.
func (b Beside) difference() compare.Difference {
	is := say.Count(b.Instances, "instance")
	if b.Share != "" {
		is = b.Share + " of the traffic and " + is
	}
	return compare.Difference{Pointer: compare.BesidePointer(b.Version, b.Revision), Kind: compare.Drift, Live: is}
}

// beside are the revisions that have traffic or instances, and are neither applied nor on their way.
func (d *decision) beside() (all []Beside) {
	if d.State.Roll != nil || d.State.Left != nil || d.State.Ending != nil || d.State.Applied == "" {
		return nil
	}
	for _, c := range d.seen.serving() {
		if c.Revision == d.State.Applied {
			continue
		}
		b := Beside{Revision: c.Revision, Version: d.versionOf(c.Revision)}
		if c.Share > 0 {
			b.Share = say.Share(c.Share)
		}
		for _, in := range c.Instances {
			if !in.Done && in.Failed == "" {
				b.Instances++
			}
		}
		if b.Share != "" || b.Instances > 0 {
			all = append(all, b)
		}
	}
	return all
}

// ownerOf tells who set what is live at a place, or below it.
func ownerOf(owners map[string]string, pointer string) string {
	if owner := owners[pointer]; owner != "" || len(owners) == 0 {
		return owner
	}
	for _, at := range slices.Sorted(maps.Keys(owners)) {
		if strings.HasPrefix(at, pointer+"/") {
			return owners[at]
		}
	}
	return ""
}

// lost tells whether all that was applied is gone from the site.
func (d *decision) lost() bool {
	return d.State.Change.SyncStatus == compare.Absent && d.State.Applied != ""
}

// driftText tells the first thing that was changed by hand.
func driftText(differences []compare.Difference) string {
	for _, d := range differences {
		if d.Kind == compare.Drift || d.Kind == compare.Conflict {
			return d.String()
		}
	}
	return "nothing"
}

// liftBars carries out the orders to lift the bar of the declared revision.
func (d *decision) liftBars() {
	d.each(LiftBar, func(o *order) error {
		barred := -1
		if declared := d.world.Declared; declared != nil {
			barred = slices.IndexFunc(d.State.Bars, func(bar Bar) bool { return bar.Revision == declared.Fingerprint })
		}
		if barred < 0 {
			return fmt.Errorf("%s is not possible: no bar stands between %s and what Git declares", o.Verb, d.id)
		}
		bar := d.State.Bars[barred]
		d.State.Bars = slices.Delete(d.State.Bars, barred, barred+1)
		d.fact(BarLifted, o.By, bar.Revision, fmt.Sprintf("%s lifted the bar on %s (%s)", o.By, bar.Version, bar.Revision.Short()), nil)
		return nil
	})
}

// sync starts a rollout of the declared revision where that may be, or puts a drifted site back where that was asked.
func (d *decision) sync() {
	declared := d.world.Declared
	var asked *order
	for _, o := range d.orders {
		if o.Verb != Sync || o.taken {
			continue
		}
		o.taken = true
		if lock := d.State.Lock; lock != nil {
			o.err = fmt.Errorf("sync is not possible: %s is locked by %s; unlock it first", d.id, lock.String())
			return
		}
		comes := declared != nil && !d.State.bars(declared.Fingerprint)
		if stand := d.State.Change.SyncStatus; o.schedule == "" && (stand == compare.Drifted || stand == compare.Diverged && !comes || d.lost()) {
			d.putBack(o.By)
			return
		}
		if asked == nil || asked.schedule != "" { // a person's counts
			asked = o
		}
	}
	if declared == nil {
		d.refuseSync("no link declares " + d.id.String())
		return
	}
	if d.State.InPart != "" && d.State.InPart != declared.Fingerprint {
		d.State.InPart = "" // Git moved on
	}
	question := d.question(declared, asked)
	passes := d.onCourse(&question, declared, asked)
	may, why := rollout.MayStart(question, d.now)
	if !may {
		d.State.Waits = why
		if d.world.Asked && asked != nil && why == d.world.Cannot {
			asked.again = true
			return
		}
		if asked != nil {
			asked.idle = why == ""
		}
		d.refuseSync(cmp.Or(why, "live is as declared already"))
		return
	}
	d.State.InPart = ""
	if asked != nil && len(asked.Parts) > 0 {
		part, err := d.inPart(declared, asked.Parts)
		if err != nil {
			asked.err = err
			return
		}
		d.State.InPart, d.Revision, declared = declared.Fingerprint, part, part
	}
	by, how := rollout.Automatic, "taken automatically"
	cools := !question.LastRollback.IsZero() && d.now.Sub(question.LastRollback) < question.CoolDown
	if question.After != "" {
		how += " after " + question.After + " had proven it"
	}
	switch {
	case asked != nil && asked.schedule != "":
		how = "taken on the schedule " + asked.schedule
	case asked != nil:
		by, how = asked.By, "taken by "+asked.By
		if cools {
			how += " before the cool-down is over"
		}
		if asked.Note != "" {
			how += ": " + asked.Note
		}
	}
	if passes != "" {
		how += fmt.Sprintf(", passing over what is in its way (%s): %s", passes, asked.Override)
	}
	if question.SyncStatus == compare.Behind && d.marks(declared) {
		d.mark(declared, by)
		return
	}
	d.begin(declared, by, how)
	d.State.LetPass = passes != ""
}

// refuseSync tells those who asked for a sync why there is none.
func (d *decision) refuseSync(why string) {
	for _, o := range d.orders {
		if o.Verb == Sync {
			o.err = fmt.Errorf("sync is not possible: %s", why)
		}
	}
}

// bars tells whether a bar stands between a berth and a revision.
func (s State) bars(revision declare.Fingerprint) bool {
	return slices.ContainsFunc(s.Bars, func(bar Bar) bool { return bar.Revision == revision })
}

// question puts together what is to be known before a sync.
func (d *decision) question(declared *Revision, asked *order) rollout.Question {
	state, stand := d.State, d.State.Change.SyncStatus
	if stand == compare.Drifted && state.Left != nil {
		stand = compare.Behind // what was left halfway is no one's drift
	}
	byHand := asked != nil && asked.schedule == ""
	q := rollout.Question{
		SyncStatus: stand, Declared: declared.Fingerprint, Applied: state.Applied, ByHand: byHand, Overwrite: byHand && stand == compare.Diverged, Scheduled: asked != nil && !byHand,
		Reason: byHand && strings.TrimSpace(asked.Note) != "", Ended: d.over(),
		Fresh: d.seen.Reached, Stale: d.seen.Stale, LastRollback: state.LastRollback, CoolDown: declared.Desired.Rollout.CoolDown.Duration,
		Automatic: d.world.Automatic, InPart: state.InPart == declared.Fingerprint, Needs: d.world.Needs, After: d.world.After, AfterProven: d.world.AfterProven,
		Cannot:       d.world.Cannot,
		CannotSwitch: declared.Desired.Rollout.Style == declare.BlueGreen && d.seen.Whole,
	}
	if state.Lock != nil {
		q.Locked = state.Lock.String()
	}
	if left := state.Left; left != nil && left.Revision == declared.Fingerprint {
		q.Left = left.Why
	}
	if state.Gone != nil {
		q.Gone = state.Gone.String()
	}
	for _, bar := range state.Bars {
		if bar.Revision == declared.Fingerprint {
			q.Barred, q.BarredWhy = true, bar.Why
		}
	}
	return q
}

// begin starts a rollout of a revision.
func (d *decision) begin(declared *Revision, by, how string) {
	old, coming := d.side(d.State.Applied), d.sideOf(declared)
	if coming.Version == old.Version {
		coming.Version += " " + coming.Revision.Short() // the artifact is the same; only the revision tells them apart
	}
	old, coming = d.takeOver(old, coming)
	s := rollout.Begin(old, coming, declared.Desired.Rollout, by, how, d.State.LastRollback, d.now)
	s.ID = Unnumbered
	d.State.Roll, d.State.Rollout, d.State.Left, d.State.Gone, d.State.Restarting = &s, s.ID, nil, nil, nil
	d.State.Caught, d.State.LetPass, d.State.Line = "", false, ""
	if c := d.world.Course; c != nil {
		d.State.Line = c.Name
	}
	text := fmt.Sprintf("%s (%s), “%s” by %s, %s: %s", declared.Version, declared.Fingerprint.Short(), declared.Subject, declared.Author, how, stepsText(d.State.Change.Plan))
	if d.State.Change.SyncStatus == compare.Diverged {
		text += "; what was changed by hand is overwritten: " + driftText(d.State.Change.Differences)
	}
	d.fact(Taken, by, declared.Fingerprint, text, nil)
}

// takeOver takes the services out of two sides that need not be started anew for the one to become the other.
func (d *decision) takeOver(old, new rollout.Side) (rollout.Side, rollout.Side) {
	from, to := d.desired(old.Revision), d.desired(new.Revision)
	if !d.seen.TakesOver || from == nil || to == nil {
		return old, new
	}
	return rollout.TakeOver(old, new, from.Alike(*to))
}

// marks tells whether nothing that runs differs between what is applied and a revision.
func (d *decision) marks(declared *Revision) bool {
	applied := d.desired(d.State.Applied)
	return applied != nil && plan.New(declared.Desired, compare.Three(applied, declared.Desired, compare.LiveOf(applied))).OnlyMarks()
}

// mark makes a revision the applied one without starting anything anew, as nothing that runs differs.
func (d *decision) mark(declared *Revision, by string) {
	before := d.State.Applied
	d.State.Applied, d.State.AppliedAt, d.State.MarkedFrom = declared.Fingerprint, d.now, before
	if slices.Contains(d.State.Proven, before) { // what runs was proven, and goes on to be
		d.State.Proven = append([]declare.Fingerprint{declared.Fingerprint}, d.State.Proven...)
		d.State.Proven = d.State.Proven[:min(provenKept, len(d.State.Proven))]
	}
	d.Intents = append(d.Intents, remark(before, declared.Fingerprint)...)
	d.fact(Marked, by, declared.Fingerprint, fmt.Sprintf("%s (%s), “%s” by %s: nothing that runs changes, so it is only marked: %s", declared.Version, declared.Fingerprint.Short(), declared.Subject, declared.Author, fieldsText(d.State.Change.Differences)), d.State.Change.Differences)
}

func remark(from, to declare.Fingerprint) []rollout.Intent {
	return []rollout.Intent{{Do: rollout.Relabel, From: from, Revision: to}, {Do: rollout.Prepare, Revision: to}}
}

// inPart makes the revision that has some parts as they are declared and all else as it is applied.
func (d *decision) inPart(declared *Revision, parts []string) (*Revision, error) {
	applied := d.desired(d.State.Applied)
	if applied == nil {
		return nil, fmt.Errorf("sync of some parts is not possible: nothing of %s is there yet; sync all of it", d.id)
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
			return nil, fmt.Errorf("sync of some parts is not possible: %s has no part %q; it has %s", d.id, name, say.List(slices.Sorted(maps.Keys(declared.Desired.Parts))))
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
	if r.Fingerprint == d.State.Applied {
		return nil, fmt.Errorf("sync is not possible: of %s nothing differs", say.List(parts))
	}
	r.Version = mixed.Version()
	r.Subject += " (only " + say.List(parts) + ")"
	return &r, nil
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

// side is a revision on record as one side of a rollout.
func (d *decision) side(fingerprint declare.Fingerprint) rollout.Side {
	if r := d.world.Revisions[fingerprint]; r != nil {
		return d.sideOf(r)
	}
	return rollout.Side{}
}

func (d *decision) sideOf(r *Revision) rollout.Side { return d.State.side(r) }

// side is a revision as one side of a rollout. What it leaves to others is as it is live.
func (s State) side(r *Revision) rollout.Side {
	desired := compare.KeepLeft(*Resize(r.Desired, s.Sized), s.Change.Live)
	side := rollout.Side{
		Revision: r.Fingerprint, Version: r.Version, Parts: map[string]int{}, Tasks: map[string]rollout.Task{},
		Needs: desired.RunningNeeds(), Declared: slices.Sorted(maps.Keys(desired.Parts)),
	}
	for name, part := range desired.Parts {
		if part.Kind == declare.Objects {
			if side.Objects == nil {
				side.Objects = map[string]int{}
			}
			side.Objects[name] = len(part.ObjectWaves())
			side.Pods += part.Pods()
		}
	}
	for _, name := range desired.Running() {
		if part := desired.Parts[name]; part.Kind == declare.Task {
			side.Tasks[name] = rollout.Task{NotUndoable: part.NotUndoable}
		} else {
			side.Parts[name] = part.Instances
			if part.Keeps() {
				side.Keeps = append(side.Keeps, name)
			}
		}
	}
	side.Proven = slices.Contains(s.Proven, r.Fingerprint) && !s.bars(r.Fingerprint)
	if r.Fingerprint == s.Applied {
		side.Set = s.Set
	}
	return side
}

// Wanted is how many instances there should be of what is applied.
func (s State) Wanted(applied *Revision) (sum int) {
	if applied == nil {
		return 0
	}
	for _, n := range s.side(applied).Parts {
		sum += n
	}
	return sum
}

// putBack makes the site as it was applied.
func (d *decision) putBack(by string) {
	if by != rollout.Automatic {
		d.State.Contested = nil // a person has seen to it
	}
	if d.leads(by) {
		return
	}
	d.Intents = append(d.Intents, rollout.Intent{Do: rollout.Prepare, Revision: d.State.Applied})
	side := d.side(d.State.Applied)
	for _, part := range slices.Sorted(maps.Keys(side.Parts)) {
		count := side.Parts[part]
		d.Intents = append(d.Intents, rollout.Intent{Do: rollout.Scale, Revision: side.Revision, Part: part, Count: count})
	}
	for _, part := range slices.Sorted(maps.Keys(side.Objects)) {
		d.Intents = append(d.Intents, rollout.Intent{Do: rollout.Place, Revision: side.Revision, Part: part, Count: side.Objects[part]})
	}
	d.Intents = append(d.Intents, rollout.Intent{Do: rollout.SetShare, Revision: side.Revision, Share: 1})
	for _, b := range d.State.Change.Beside {
		d.Intents = append(d.Intents, rollout.Intent{Do: rollout.Delete, Revision: b.Revision})
	}
	d.fact(PutBack, by, d.State.Applied, fmt.Sprintf("%s puts the site back as applied: %s", by, driftText(d.State.Change.Differences)), d.State.Change.Differences)
}

// leads brings the traffic back from another revision that has some, as a way back does: to what is applied once that is up.
func (d *decision) leads(by string) bool {
	beside, applied := d.State.Change.Beside, d.world.Revisions[d.State.Applied]
	if len(beside) == 0 || beside[0].Share == "" || applied == nil {
		return false
	}
	why := fmt.Sprintf("%s had %s of the traffic, which no rollout gave it", beside[0].Version, beside[0].Share)
	from, back := d.takeOver(d.side(beside[0].Revision), d.sideOf(applied))
	s := rollout.GoBack(from, back, applied.Desired.Rollout, by, []rollout.Cause{{Kind: rollout.ByPerson, Text: why, At: d.now}}, d.now)
	s.ID, s.New.Set = Unnumbered, d.State.Set
	d.State.Roll, d.State.Rollout, d.State.Calls, d.State.Restarting = &s, s.ID, "", nil
	d.fact(PutBack, by, d.State.Applied, fmt.Sprintf("%s brings all traffic back to %s (%s): %s", by, applied.Version, applied.Fingerprint.Short(), why), d.State.Change.Differences)
	return true
}
