package berth

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"aditus/internal/core/compare"
	"aditus/internal/core/course"
	"aditus/internal/core/declare"
	"aditus/internal/core/health"
	"aditus/internal/core/plan"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
)

// acts are the orders that schedules give.
var acts = map[declare.Act]Verb{
	declare.ActDrift: LookForDrift, declare.ActSync: Sync, declare.ActPreview: Preview,
	declare.ActScale: Scale, declare.ActRestart: Restart, declare.ActTearDown: TearDown,
}

// agenda is when something of a berth comes next by the line's rules. It is found anew where they are others, and after each turn.
type agenda struct {
	of   *course.Rules
	next time.Time // zero for never
}

// NextTurn is when a schedule, or the end of a berth's life or its announcement, comes next; zero for never. Nothing of them has to be
// looked at before.
func (s State) NextTurn() time.Time { return s.agenda.next }

// turns gives the orders of schedules that have their turn, once each however the program ends: that they had it is on record before
// anything of it is done. While a rollout is under way, or the site cannot be seen, they wait for theirs.
func (d *decision) turns() {
	rules := d.world.Rules
	if rules == nil || !d.seen.Reached || d.State.Roll != nil || d.State.Ending != nil {
		return
	}
	if d.State.agenda.of == rules && (d.State.agenda.next.IsZero() || d.now.Before(d.State.agenda.next)) {
		return
	}
	had := map[string]time.Time{}
	for _, name := range rules.Scheduled(d.id.Workload, d.id.Site) {
		if had[name] = d.State.Had[name]; had[name].IsZero() {
			had[name] = d.now
		}
	}
	for _, due := range rules.Due(d.id.Workload, d.id.Site, had, d.now) {
		had[due.Name] = due.At
		d.turn(due)
	}
	if !maps.Equal(had, d.State.Had) {
		d.State.Had, d.Durable = had, true
	}
	next, _ := rules.Next(d.id.Workload, d.id.Site, had, d.now)
	d.State.agenda = agenda{rules, next}
}

// turn gives the order of a schedule.
func (d *decision) turn(due course.Due) {
	if due.Missed {
		if due.Schedule.Missed == declare.MissedSkips {
			d.fact(Skipped, rollout.Automatic, d.State.Applied, fmt.Sprintf("%s was to %s %s; that was missed, and is left out", due.Name, due.Text(), due.Since()), nil)
			return
		}
		d.fact(CaughtUp, rollout.Automatic, d.State.Applied, fmt.Sprintf("%s was to %s %s; that was missed, and is done now", due.Name, due.Text(), due.Since()), nil)
	}
	o := &order{Order: Order{Verb: acts[due.Do], Berth: d.id, By: rollout.Automatic, Count: due.To}, schedule: due.Name}
	if due.Part != "" {
		o.Parts = []string{due.Part}
	}
	d.orders = append(d.orders, o)
}

// Sized is a number of instances that somebody or a schedule set, other than it is declared.
type Sized struct {
	Count    int       `json:"count"`
	Declared int       `json:"declared"` // what it stands for: another number that is declared does away with it
	By       string    `json:"by"`
	At       time.Time `json:"at"`
}

// Resize gives a desired state with the numbers of instances that were set otherwise.
func Resize(desired *declare.Desired, sized map[string]Sized) *declare.Desired {
	if desired == nil || len(sized) == 0 {
		return desired
	}
	own := *desired
	own.Parts = maps.Clone(desired.Parts)
	for name, size := range sized {
		if part, ok := own.Parts[name]; ok && part.Kind == declare.Service && part.Instances == size.Declared {
			part.Instances = size.Count
			own.Parts[name] = part
		}
	}
	return &own
}

// settling is how long a site may take to show a number of instances that was just set.
const settling = 15 * time.Second

// resizes tells whether a number of instances was set so lately that the site does not show it yet.
func (d *decision) resizes() bool {
	return !d.State.SizedAt.IsZero() && d.now.Sub(d.State.SizedAt) < settling
}

// Unsettled tells whether something other than a rollout is under way, which goes on step by step.
func (s State) Unsettled() bool {
	return s.Ending != nil || s.Restarting != nil || !s.SizedAt.IsZero()
}

// scale sets numbers of instances, and has the site follow.
func (d *decision) scale() {
	applied := d.desired(d.State.Applied)
	d.each(Scale, func(o *order) error { return d.resize(applied, o) })
	if applied == nil {
		return
	}
	if kept := maps.Clone(d.State.Sized); kept != nil {
		maps.DeleteFunc(kept, func(name string, size Sized) bool { return applied.Parts[name].Instances != size.Declared })
		if len(kept) < len(d.State.Sized) {
			d.State.Sized, d.Durable = kept, true
		}
	}
	if !d.resizes() || !d.seen.Reached {
		return
	}
	cohort, _ := d.seen.Cohort(d.State.Applied)
	shown := true
	for _, name := range slices.Sorted(maps.Keys(applied.Parts)) {
		count, is := d.side(d.State.Applied).Parts[name]
		if fields, ok := cohort.Live[name].(map[string]any); is && ok && fields["instances"] != float64(count) && !d.leaves(applied, name) {
			shown = false
			d.Intents = append(d.Intents, rollout.Intent{Do: rollout.Scale, Revision: d.State.Applied, Part: name, Count: count})
		}
	}
	if shown {
		d.State.SizedAt, d.Durable = time.Time{}, true // what differs from now on was changed by hand
	}
}

func (d *decision) leaves(desired *declare.Desired, part string) bool {
	return slices.Contains(desired.Leave, "/parts/"+part+"/instances")
}

// resize notes what a scale order says.
func (d *decision) resize(applied *declare.Desired, o *order) error {
	if applied == nil {
		return fmt.Errorf("scale is not possible: nothing of %s is there", d.id)
	}
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(applied.Parts)) {
		if applied.Parts[name].Kind == declare.Service && (len(o.Parts) == 0 || slices.Contains(o.Parts, name)) && !d.leaves(applied, name) {
			parts = append(parts, name)
		}
	}
	switch {
	case len(parts) == 0 && len(o.Parts) > 0:
		return fmt.Errorf("scale is not possible: %s has no service %s whose number is ours", d.id.Workload, say.List(o.Parts))
	case len(parts) == 0:
		return fmt.Errorf("scale is not possible: %s has no services whose number is ours", d.id.Workload)
	case o.Count != nil && (*o.Count < 0 || *o.Count > mostInstances):
		return fmt.Errorf("scale is not possible to %d: write a number from 0 to %d", *o.Count, mostInstances)
	}
	next := maps.Clone(d.State.Sized)
	if next == nil {
		next = map[string]Sized{}
	}
	var told []string
	for _, name := range parts {
		declared := applied.Parts[name].Instances
		was := declared
		if size, ok := next[name]; ok {
			was = size.Count
		}
		count := declared
		if delete(next, name); o.Count != nil && *o.Count != declared {
			count = *o.Count
			next[name] = Sized{Count: count, Declared: declared, By: o.By, At: d.now}
		}
		if count != was {
			told = append(told, fmt.Sprintf("%s from %d to %d", name, was, count))
		}
	}
	if len(told) == 0 {
		if o.schedule != "" {
			return nil
		}
		return fmt.Errorf("scale is not possible: there are as many of %s already", say.List(parts))
	}
	d.State.Sized, d.State.SizedAt = next, d.now
	text := fmt.Sprintf("%s scales %s", o.who(), say.List(told))
	if o.Note != "" {
		text += ": " + o.Note
	}
	d.fact(Resized, o.By, d.State.Applied, text, nil)
	return nil
}

// mostInstances is how many instances of a part somebody may set.
const mostInstances = 10000

// who tells who gave an order, for a sentence.
func (o *order) who() string {
	if o.schedule != "" {
		return o.schedule
	}
	return o.By
}

// Restarting is a restart of all instances, one by one, on its way.
type Restarting struct {
	By    string    `json:"by"`
	Since time.Time `json:"since"`
	Last  string    `json:"last,omitempty"` // the instance that was started anew last
	At    time.Time `json:"at,omitzero"`
	Count int       `json:"count,omitempty"` // how many were
}

// restart starts all instances of what is applied anew, one at a time, each once the one before is healthy again.
func (d *decision) restart() {
	d.each(Restart, func(o *order) error {
		frozen := ""
		if o.schedule != "" {
			frozen = d.world.Rules.Frozen(d.now, d.id.Workload, d.id.Site)
		}
		switch applied := d.world.Revisions[d.State.Applied]; {
		case frozen != "":
			return fmt.Errorf("restart is not possible: %s", frozen)
		case applied == nil:
			return fmt.Errorf("restart is not possible: nothing of %s is there", d.id)
		case d.State.Restarting != nil:
			return fmt.Errorf("restart is not possible: its instances are started anew already, since %s", say.Moment(d.State.Restarting.Since))
		default:
			d.State.Restarting = &Restarting{By: o.By, Since: d.now}
			text := fmt.Sprintf("%s starts all instances of %s anew, one by one", o.who(), applied.Version)
			if o.Note != "" {
				text += ": " + o.Note
			}
			d.fact(RestartBegins, o.By, d.State.Applied, text, nil)
		}
		return nil
	})
	r := d.State.Restarting
	applied := d.desired(d.State.Applied)
	if r == nil || !d.seen.Reached {
		return
	}
	if applied == nil {
		d.State.Restarting, d.Durable = nil, true
		return
	}
	cohort, _ := d.seen.Cohort(d.State.Applied)
	next, unwell := "", ""
	for _, in := range cohort.Instances {
		switch {
		case in.Health == nil || in.Done:
		case in.Health.Word != health.Healthy:
			unwell = in.ID
		case in.Health.Started.Before(r.Since) && next == "":
			next = in.ID
		}
	}
	following := r.Last != "" && (unwell != "" || next == r.Last)
	switch {
	case following && d.now.Sub(r.At) > max(applied.Rollout.Deadline.Duration, reviveEvery):
		d.State.Restarting = nil
		d.fact(Called, rollout.Automatic, d.State.Applied, fmt.Sprintf("%s was started anew and is not healthy after %s; no more are started anew", r.Last, say.Span(d.now.Sub(r.At))), nil)
	case following, unwell != "" && d.now.Sub(r.Since) < reviveEvery: // it is waited for
	case next != "":
		again := *r
		again.Last, again.At, again.Count = next, d.now, r.Count+1
		d.State.Restarting, d.Durable = &again, true
		d.startAnew(next)
	case unwell == "":
		d.State.Restarting = nil
		d.fact(RestartEnds, rollout.Automatic, d.State.Applied, fmt.Sprintf("all of it runs anew: %s", say.Count(r.Count, "instance")), nil)
	}
}

// Previewed is the data of a fact of that kind: what a sync would have done at that moment.
type Previewed struct {
	Declared    declare.Fingerprint  `json:"declared"`
	Stand       compare.SyncStatus   `json:"stand"`
	Differences []compare.Difference `json:"differences"`
	Plan        plan.Plan            `json:"plan"`
	Waits       string               `json:"waits,omitempty"`
}

// preview keeps what a sync would do now.
func (d *decision) preview() {
	d.each(Preview, func(o *order) error {
		c, declared := d.State.Change, d.world.Declared
		if c.SyncStatus == compare.Unread || declared == nil {
			return fmt.Errorf("preview is not possible: nothing is declared for %s, or it cannot be seen", d.id)
		}
		text := fmt.Sprintf("%s previews %s (%s): a sync would %s", o.who(), declared.Version, declared.Fingerprint.Short(), stepsText(c.Plan))
		if c.SyncStatus == compare.Aligned {
			text = fmt.Sprintf("%s previews %s (%s): a sync would change nothing", o.who(), declared.Version, declared.Fingerprint.Short())
		}
		if d.State.Waits != "" {
			text += "; " + d.State.Waits
		}
		d.fact(PreviewKept, o.By, declared.Fingerprint, text, Previewed{declared.Fingerprint, c.SyncStatus, c.Differences, c.Plan, d.State.Waits})
		return nil
	})
}
