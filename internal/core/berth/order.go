package berth

import (
	"fmt"
	"slices"
	"time"

	"aditus/internal/core/policy"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
)

// Verb is what a person can ask for at a berth.
type Verb string

// Verbs of the orders.
const (
	Advance       = Verb(rollout.Advance)
	Hold          = Verb(rollout.HoldOn)
	GoOn          = Verb(rollout.GoOn)
	RollBack      = Verb(rollout.TurnBack)
	SignOff       = Verb(rollout.Sign)
	Abandon       = Verb(rollout.Abandon)
	LiftBar       = Verb("lift the bar")
	Sync          = Verb("sync")
	RemoveOrphans = Verb("remove orphans")
	LockIt        = Verb("lock")
	Unlock        = Verb("unlock")
	LeaveIt       = Verb("leave it") // drift that would be corrected otherwise
	TakeOffer     = Verb("take")
	PutOff        = Verb("put off")
	Decline       = Verb("decline")
	Scale         = Verb("scale")
	Restart       = Verb("restart")
	Preview       = Verb("preview")
	LookForDrift  = Verb("look for drift")
	Extend        = Verb("extend") // the end of its life
	TearDown      = Verb("tear down")
	LetGo         = Verb("let go") // all of it runs on, and is nobody's
	Vouch         = Verb("vouch")  // for what was found at the site
)

// Order is somebody's wish for a berth.
type Order struct {
	Verb     Verb      `json:"verb"`
	Berth    ID        `json:"berth"`
	By       string    `json:"by"`
	From     string    `json:"from,omitempty"` // where it was given, for the record
	Note     string    `json:"note,omitempty"`
	Parts    []string  `json:"parts,omitempty"`    // Sync, Scale, TearDown: only these parts; empty for all
	Override string    `json:"override,omitempty"` // Sync: why it passes over what the line's rules put in its way; by those who may
	Until    time.Time `json:"until,omitzero"`     // PutOff: when it is asked again; zero for not. Extend: until when
	Count    *int      `json:"count,omitempty"`    // Scale: how many instances; nil for as many as are declared
	Volumes  bool      `json:"volumes,omitempty"`  // TearDown: what its volumes hold goes too
	To       string    `json:"to,omitempty"`       // RollBack: a revision on record; empty for the last proven one. Vouch: one that is there; empty for the one that was found
}

// order is one that a step is at.
type order struct {
	Order
	schedule string // that gives it; empty for a person
	taken    bool
	again    bool
	idle     bool // there was nothing to do, which is no news where a schedule gave it
	err      error
}

// when says in which of the two ways a berth can be an order is for.
type when int

const (
	always  when = iota // whatever is under way; it answers for itself
	steady              // no rollout is under way
	rolling             // one is
	either              // it means one thing with a rollout, and another without
)

// entry is one kind of order: what it needs of whoever gives it, and when it is for. Its reason for not being possible
// at the moment comes from the part of the decision that carries it out.
type entry struct {
	verb  Verb
	scope policy.Scope
	when  when
}

// table has all orders that there are. Whatever gives, takes or shows orders goes by it.
var table = []entry{
	{verb: Advance, when: rolling, scope: policy.Sync},
	{verb: Hold, when: rolling, scope: policy.Sync},
	{verb: GoOn, when: rolling, scope: policy.Sync},
	{verb: SignOff, when: either, scope: policy.SignOff},
	{verb: RollBack, when: either, scope: policy.Sync},
	{verb: Abandon, when: rolling, scope: policy.Sync},
	{verb: Sync, when: either, scope: policy.Sync},
	{verb: RemoveOrphans, when: steady, scope: policy.Sync},
	{verb: LiftBar, when: always, scope: policy.Change},
	{verb: LockIt, when: always, scope: policy.Lock},
	{verb: Unlock, when: always, scope: policy.Lock},
	{verb: LeaveIt, when: steady, scope: policy.Change},
	{verb: TakeOffer, when: steady, scope: policy.SignOff},
	{verb: PutOff, when: steady, scope: policy.SignOff},
	{verb: Decline, when: steady, scope: policy.SignOff},
	{verb: Scale, when: steady, scope: policy.Sync},
	{verb: Restart, when: steady, scope: policy.Sync},
	{verb: Preview, when: steady, scope: policy.Sync},
	{verb: LookForDrift, when: steady, scope: policy.Sync},
	{verb: Extend, when: steady, scope: policy.Change},
	{verb: TearDown, when: steady, scope: policy.Change},
	{verb: LetGo, when: steady, scope: policy.Change},
	{verb: Vouch, when: steady, scope: policy.Change},
}

func entryOf(verb Verb) (entry, bool) {
	if i := slices.IndexFunc(table, func(e entry) bool { return e.verb == verb }); i >= 0 {
		return table[i], true
	}
	return entry{}, false
}

// Verbs are those of all orders.
func Verbs() (all []Verb) {
	for _, e := range table {
		all = append(all, e.verb)
	}
	return all
}

// Scope is what a verb needs of whoever gives the order; one that is not known needs the highest.
func (v Verb) Scope() policy.Scope {
	if e, ok := entryOf(v); ok {
		return e.scope
	}
	return policy.Highest
}

// Needs is all that an order needs of whoever gives it.
func (o Order) Needs() []policy.Scope {
	needs := []policy.Scope{o.Verb.Scope()}
	if o.Override != "" {
		needs = append(needs, policy.Override)
	}
	if o.Volumes {
		needs = append(needs, policy.RemoveData)
	}
	return needs
}

// each calls do with the orders of a verb that nothing took yet.
func (d *decision) each(verb Verb, do func(o *order) error) {
	for _, o := range d.orders {
		if o.Verb == verb && !o.taken {
			o.taken = true
			o.err = do(o)
		}
	}
}

// answer answers all orders, and puts on record who gave those that were carried out.
func (d *decision) answer() {
	for _, o := range d.orders {
		e, known := entryOf(o.Verb)
		switch {
		case !known:
			o.err = fmt.Errorf("there is no order %q; there are %s", o.Verb, say.List(words(Verbs())))
		case o.taken:
		case d.State.Ending != nil:
			o.err = fmt.Errorf("%s is not possible: %s is being torn down", o.Verb, d.id)
		case e.when == steady, e.when == either && d.State.Roll != nil:
			o.err = fmt.Errorf("%s is not possible: a rollout is under way at %s", o.Verb, d.id)
		default:
			o.err = fmt.Errorf("%s is not possible: no rollout is under way at %s", o.Verb, d.id)
		}
		if o.schedule != "" {
			if o.err != nil && !o.idle {
				d.fact(NotDone, rollout.Automatic, d.State.Applied, fmt.Sprintf("%s: %v", o.schedule, o.err), nil)
			}
			continue
		}
		if o.err == nil && !o.again && o.From != "" {
			d.fact(Asked, o.By, "", fmt.Sprintf("%s, asked by %s from %s", o.Verb, o.By, o.From), Origin{From: o.From})
		}
		d.Answers = append(d.Answers, Answer{Err: o.err, Again: o.again})
	}
}

func words(verbs []Verb) (all []string) {
	for _, v := range verbs {
		all = append(all, string(v))
	}
	return all
}
