// Package berth decides for one berth: from what is on record of it, what was seen at its site, what is true around it
// and what people ordered, it makes the next state, facts for the ledger, and what is wanted of the target. It is
// computation only: it never acts, and a decision that could not be recorded has changed nothing.
package berth

import (
	"maps"
	"slices"
	"time"

	"aditus/internal/core/compare"
	"aditus/internal/core/course"
	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/health"
	"aditus/internal/core/plan"
	"aditus/internal/core/rollout"
)

// State is what has to be known of a berth to go on. The ledger keeps it, and its rollout's in a record of that one's own.
type State struct {
	Applied      declare.Fingerprint   `json:"applied,omitempty"`
	AppliedAt    time.Time             `json:"applied_at,omitzero"`
	Proven       []declare.Fingerprint `json:"proven,omitempty"` // the last few, newest first
	ProvenAt     time.Time             `json:"proven_at,omitzero"`
	Bars         []Bar                 `json:"bars,omitempty"`
	LastRollback time.Time             `json:"last_rollback,omitzero"`
	Set          string                `json:"set,omitempty"` // blue-green: which of the two sets is applied
	Lock         *Lock                 `json:"lock,omitempty"`
	Left         *Left                 `json:"left,omitempty"`
	Calls        string                `json:"calls,omitempty"`   // why a person is called; empty for not
	Rollout      int64                 `json:"rollout,omitempty"` // under way; 0 for none
	LastRollout  int64                 `json:"last_rollout,omitempty"`
	DriftSince   time.Time             `json:"drift_since,omitzero"`

	DriftLeft   string               `json:"drift_left,omitempty"`  // what a person said to leave, and nothing else
	DriftLooked time.Time            `json:"drift_looked,omitzero"` // when drift was last looked for on schedule
	Corrects    time.Time            `json:"corrects,omitzero"`     // when drift is put back, as announced
	Announced   string               `json:"announced,omitempty"`   // what it was announced for; another change is announced anew
	Contested   *Contest             `json:"contested,omitempty"`   // what was put back by itself lately, and how often
	MarkedFrom  declare.Fingerprint  `json:"marked_from,omitempty"` // the site may still know what is applied by this revision
	InPart      declare.Fingerprint  `json:"in_part,omitempty"`     // a revision of which a person took some parts only
	Breaches    []string             `json:"breaches,omitempty"`    // standing guards whose breach is on record
	BreachSince time.Time            `json:"breach_since,omitzero"` // since when there are any
	Restarted   map[string]time.Time `json:"restarted,omitempty"`   // instances that were started anew, and when last
	Signs       []Signed             `json:"signs,omitempty"`       // go-aheads for what is declared to come here
	Offer       *Offer               `json:"offer,omitempty"`       // of what is declared to the site's team
	Caught      string               `json:"caught,omitempty"`      // why the rollout under way is held by the line's rules
	LetPass     bool                 `json:"let_pass,omitempty"`    // a person let it pass over these, or go on
	Line        string               `json:"line,omitempty"`        // the rules that the rollout under way began by
	TailEnds    time.Time            `json:"tail_ends,omitzero"`    // until when the last rollout's signals are recorded still
	Had         map[string]time.Time `json:"had,omitempty"`         // when each schedule had its turn last
	Sized       map[string]Sized     `json:"sized,omitempty"`       // by part: numbers of instances other than declared
	SizedAt     time.Time            `json:"sized_at,omitzero"`     // when one was set last
	Restarting  *Restarting          `json:"restarting,omitempty"`
	FirstAt     time.Time            `json:"first_at,omitzero"` // when something of it was first applied
	Trial       *Trial               `json:"trial,omitempty"`   // the branch that it is there for; nil for none
	EndTold     *Told                `json:"end_told,omitempty"`
	Extended    *Extended            `json:"extended,omitempty"`
	Ending      *TornDown            `json:"ending,omitempty"` // it is on its way
	Gone        *TornDown            `json:"gone,omitempty"`   // it was, and nothing comes by itself
	Step        int64                `json:"step,omitempty"`   // rises with each decision that the site is told of
	Found       *Found               `json:"found,omitempty"`  // what is applied was found, and is unproven here

	Roll    *rollout.State `json:"-"` // under way; nil for none
	Resumed bool           `json:"-"` // the rollout comes from before a restart, and that is not on record yet
	Change  Change         `json:"-"` // what the last comparison found
	Waits   string         `json:"-"` // why the declared revision does not come yet
	Asks    *Ask           `json:"-"` // whom it waits for; nil where that is nobody
	MayCome time.Time      `json:"-"` // waiting for the line's rules: when they are to be asked again at the latest; zero for not
	Life    *Life          `json:"-"` // how long it has; nil for no end
	agenda  agenda
	Owed    []Fact `json:"-"` // what happened and could not be recorded yet: traffic went first
}

// Change is how a berth stands to Git.
type Change struct {
	SyncStatus  compare.SyncStatus
	Differences []compare.Difference
	Plan        plan.Plan

	// What was compared; the same need no second comparison.
	Applied, Declared declare.Fingerprint
	Live              compare.Live
	Sized             map[string]Sized
	Beside            []Beside // what is there beside what is applied; the one with the most traffic first
}

// World is what a decision has to know beyond the berth and its site. It is made once a step, all of one moment.
type World struct {
	Declared    *Revision // nil where no link declares the berth
	Revisions   map[declare.Fingerprint]*Revision
	Named       map[string][]*Revision // what the ledger has by the names in orders, oldest first
	Automatic   bool                   // the site takes revisions by itself
	Drift       Drift
	After       string // the site whose proof is waited for; empty for none
	AfterProven bool   // that site has proven what is declared
	Cannot      string // why the site cannot run what is declared at all; empty where it can
	Asked       bool   // the site is being asked whether it can, so that a person's sync waits for the answer
	Needs       string // why a workload that what is declared needs is not ready for it; empty where all are
	Shared      string // what else breaches at this time, so that it may be no fault of what is applied here; empty for nothing
	Roles       map[string][]string
	TwoPersons  bool          // who made a commit signs none of what it brings off
	Rules       *course.Rules // of the line; nil where it has none
	Trial       *Trial        // the branch that it is declared for; nil for none
	BranchGone  bool          // there is none of those any more
	Course      *Course       // what the line's rules say; nil where it has none
	Pace        time.Duration // the longest time between two looks that still counts as watched; 0 for what is usual
}

// Drift says what becomes of changes made by hand at the site.
type Drift struct {
	Look    string // cron schedule: when it is looked for; empty for always
	Correct bool   // it is put back after a notice, not only told
	Notice  time.Duration
}

// Seen is what one look at the site gave.
type Seen struct {
	Reached   bool   // the target answered; without that nothing below is known
	Stale     string // why it is not fresh; empty where it is
	Whole     bool   // the target cannot split traffic: the numbers of instances do
	Step      int64  // the last step that the site was told of; 0 where it keeps none
	TakesOver bool   // it lets instances live on as they are as those of another revision
	Cohorts   []Cohort
	Evaluated bool // the signals were read in this step
	Verdicts  []guard.Verdict
	Unmarked  bool     // the target knows what is applied by the revision it had before
	Dead      []string // instances that do not run any more, by what their probes say
}

// Cohort is what is there at one revision.
type Cohort struct {
	Revision  declare.Fingerprint
	Share     float64 // of the traffic, from 0 to 1
	Preview   bool
	Live      compare.Live
	Instances []Instance
	Objects   []Object
	Owners    map[string]string // by JSON Pointer: who set what is live there, where that is not us
}

// Object is one object of a part of objects, at one revision.
type Object struct {
	Part, ID string
	There    bool // it is as the revision has it
	health.State
}

// Instance is one running copy of a part.
type Instance struct {
	ID, Part    string
	Health      *health.Instance // nil for a task, which is done or failed, and for what nobody declared
	Done        bool
	Failed      string
	CannotStart string
	Found       bool // it ran before anybody had it run here, and would run on without
}

// Decision is what a step came to. It is to be recorded whole before anything of it is done.
type Decision struct {
	State    State
	Rollout  *rollout.State // to keep on record; nil where there is none
	Facts    []Fact
	Intents  []rollout.Intent
	Restarts []string  // instances to be started anew
	Revision *Revision // one that was made of parts of others, to be put on record
	Answers  []Answer  // by order
	Durable  bool      // something changed that must be on record
}

// Answer is what became of an order.
type Answer struct {
	Err   error // why it is not possible; nil where it was carried out
	Again bool  // it is to be given again at the next step, when there may be room for it
}

// Unnumbered stands in a decision for the number of a rollout that begins, until Number gives it one.
const Unnumbered = -1

// Begins tells whether a rollout begins with the decision, which needs a number.
func (d *Decision) Begins() bool { return d.State.Rollout == Unnumbered }

// Number gives the rollout that begins its number.
func (d *Decision) Number(id int64) {
	give := func(n *int64) {
		if *n == Unnumbered {
			*n = id
		}
	}
	give(&d.State.Rollout)
	give(&d.State.LastRollout)
	for _, roll := range []*rollout.State{d.State.Roll, d.Rollout} {
		if roll != nil {
			give(&roll.ID)
		}
	}
	for i := range d.Facts {
		give(&d.Facts[i].Rollout)
	}
	for i := range d.State.Bars {
		give(&d.State.Bars[i].Rollout)
	}
}

// Unrecorded is the state to go on with where a decision could not be recorded, and what is done of it all the same. It
// is as it was, but for what was only seen; and traffic that leaves what breaches leaves it now, in memory, and is on
// record as soon as there is one: shares, and the instances and objects that it takes. Nothing else of the way back is done
// before. goesOn tells that it is so.
func (d *Decision) Unrecorded(was State) (next State, first []rollout.Intent, goesOn bool) {
	roll := d.State.Roll
	leaves := roll != nil && was.Roll != nil && was.Roll.ID == roll.ID && roll.Harms()
	returns := roll != nil && roll.Return && (was.Roll == nil || was.Roll.ID == roll.ID) // from what was proven
	if leaves || returns && d.Rollout != nil {
		next = d.State
		next.Owed, next.Step = d.Facts, was.Step // those that were owed before are among them
		return next, slices.DeleteFunc(slices.Clone(d.Intents), func(i rollout.Intent) bool {
			return i.Do != rollout.SetShare && i.Do != rollout.Scale && i.Do != rollout.Place && (i.Do != rollout.Prepare || !returns)
		}), true
	}
	was.Change, was.Waits, was.Asks = d.State.Change, d.State.Waits, d.State.Asks
	return was, nil, false
}

// Decide takes one step. It reads and changes nothing but its arguments' copies.
func Decide(id ID, state State, seen Seen, world World, orders []Order, now time.Time) Decision {
	d := &decision{id: id, was: state, seen: seen, world: world, now: now}
	d.State = state
	d.State.Bars, d.State.Proven, d.State.Breaches = slices.Clone(state.Bars), slices.Clone(state.Proven), slices.Clone(state.Breaches)
	d.State.Restarted = maps.Clone(state.Restarted)
	d.State.Signs = slices.Clone(state.Signs)
	if len(state.Owed) > 0 {
		d.Facts, d.Durable, d.State.Owed = slices.Clone(state.Owed), true, nil
	}
	for _, o := range orders {
		d.orders = append(d.orders, &order{Order: o})
	}
	if d.State.Applied != "" && d.State.FirstAt.IsZero() {
		d.State.FirstAt = d.State.AppliedAt
	}
	d.find()
	d.turns()
	d.liftBars()
	d.locks()
	d.State.Waits, d.State.Asks, d.State.MayCome = "", nil, time.Time{}
	if d.State.Roll == nil || d.State.Roll.Phase == rollout.Proven {
		d.State.Change = d.compare()
	}
	if d.State.Roll == nil && d.State.Found == nil {
		d.ends()
	}
	switch {
	case d.State.Ending != nil:
		d.tearDown()
	case d.State.Found != nil && d.State.Roll == nil:
		d.found()
	case d.State.Roll == nil:
		d.steady()
	}
	if d.State.Roll != nil {
		d.advance()
	}
	if d.State.Roll == nil && seen.Evaluated && now.Before(state.TailEnds) {
		d.Durable = true
	}
	if state.Roll != nil && d.State.Roll == nil {
		d.State.Change = d.compare()
	}
	if d.State.Ending == nil {
		d.revive()
	}
	d.answer()
	d.number()
	return d.Decision
}

// number gives a decision that asks something of the site, or comes to something there, the number of a step of its own.
func (d *decision) number() {
	moves := len(d.Intents) > 0 || d.State.Applied != d.was.Applied || (d.State.Roll == nil) != (d.was.Roll == nil) || d.State.Roll != nil && d.State.Roll.Phase != d.was.Roll.Phase
	if d.Durable && moves {
		d.State.Step++
	}
}

// steady decides while no rollout is under way, which may be what it comes to.
func (d *decision) steady() {
	d.scale()
	d.drift()
	d.standing()
	if d.State.Roll == nil {
		d.goBackWithOthers()
	}
	if d.State.Roll == nil {
		d.asks()
		d.sync()
	}
	if d.State.Roll == nil {
		d.restart()
	}
	d.preview()
}

// decision is one on its way.
type decision struct {
	Decision
	id     ID
	was    State // as it was before the step
	seen   Seen
	world  World
	orders []*order
	now    time.Time
}

// fact adds a fact.
func (d *decision) fact(kind Kind, by string, revision declare.Fingerprint, text string, data any) {
	f := Fact{Kind: kind, By: by, Revision: revision, Text: text, Data: data}
	if d.State.Roll != nil {
		f.Rollout = d.State.Roll.ID
	}
	d.Facts, d.Durable = append(d.Facts, f), true
}

// desired gives what a revision declares; nil where it is not on record.
func (d *decision) desired(revision declare.Fingerprint) *declare.Desired {
	return d.world.desired(revision)
}

func (w World) desired(revision declare.Fingerprint) *declare.Desired {
	if r := w.Revisions[revision]; r != nil {
		return r.Desired
	}
	return nil
}

// Cohort gives the cohort of a revision.
func (s Seen) Cohort(revision declare.Fingerprint) (Cohort, bool) {
	for _, c := range s.Cohorts {
		if c.Revision == revision {
			return c, true
		}
	}
	return Cohort{}, false
}

// Shared gives what was seen with the instances that are the same in two revisions counted to the first, too.
func (s Seen) Shared(old, new declare.Fingerprint, alike map[string]int) Seen {
	from, there := s.Cohort(new)
	if len(alike) == 0 || !there {
		return s
	}
	s.Cohorts = slices.Clone(s.Cohorts)
	for i, c := range s.Cohorts {
		if c.Revision != old {
			continue
		}
		c.Instances = slices.Clone(c.Instances)
		for _, in := range from.Instances {
			if _, same := alike[in.Part]; same {
				c.Instances = append(c.Instances, in)
			}
		}
		s.Cohorts[i] = c
	}
	return s
}

// Health rolls the health of a revision's instances up. At least the given number should be there.
func (s Seen) Health(revision declare.Fingerprint, least int) health.Summary {
	cohort, _ := s.Cohort(revision)
	var all []health.Instance
	for _, in := range cohort.Instances {
		if in.Health != nil {
			all = append(all, *in.Health)
		}
	}
	sum := health.Sum(all, max(least, len(all)))
	if len(cohort.Objects) == 0 {
		return sum
	}
	if sum.Word == health.Stopped && slices.ContainsFunc(cohort.Objects, func(o Object) bool { return o.Word != health.Stopped }) {
		sum.Word = health.Healthy // nothing of it has instances
	}
	for _, o := range cohort.Objects {
		if !o.There { // it tells of another revision's form of it
			continue
		}
		if worse := o.Word == health.Failing && sum.Word != health.Failing || o.Word == health.Starting && o.Moves && sum.Word == health.Healthy; worse {
			sum.Word, sum.Reason = o.Word, o.ID+": "+o.Reason
		}
	}
	return sum
}

// placed tells how far a part's objects are as a revision has them.
func (c Cohort) placed(part string, waves [][]string) (p rollout.Placed) {
	of := make(map[string]Object, len(c.Objects))
	for _, o := range c.Objects {
		if o.Part == part {
			of[o.ID] = o
		}
	}
	stands := true // up to here all waves are there and healthy
	for _, wave := range waves {
		there, well := true, true
		for _, id := range wave {
			o := of[id]
			there, well = there && o.There, well && o.There && !o.Moves && o.Word != health.Failing
			p.Moves = p.Moves || o.There && o.Moves
		}
		p.Lacks = p.Lacks || !there
		switch {
		case stands && well:
			p.Waves++
		case stands:
			stands, p.Next = false, !there
		}
	}
	return p
}
