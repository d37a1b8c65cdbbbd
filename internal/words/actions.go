package words

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/calendar"
	"aditus/internal/core/compare"
	"aditus/internal/core/course"
	"aditus/internal/core/declare"
	"aditus/internal/core/policy"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
	"aditus/internal/status"
)

// Verb names an action of a face: an order for a berth, or what only a face does.
type Verb string

// Verbs of the orders; TestOrders sees that they are all there.
const (
	Advance       = Verb(berth.Advance)
	Hold          = Verb(berth.Hold)
	GoOn          = Verb(berth.GoOn)
	RollBack      = Verb(berth.RollBack)
	SignOff       = Verb(berth.SignOff)
	LiftBar       = Verb(berth.LiftBar)
	Sync          = Verb(berth.Sync)
	Abandon       = Verb(berth.Abandon)
	Lock          = Verb(berth.LockIt)
	Unlock        = Verb(berth.Unlock)
	RemoveOrphans = Verb(berth.RemoveOrphans)
	LeaveIt       = Verb(berth.LeaveIt)
	TakeOffer     = Verb(berth.TakeOffer)
	PutOff        = Verb(berth.PutOff)
	Decline       = Verb(berth.Decline)
	Scale         = Verb(berth.Scale)
	Restart       = Verb(berth.Restart)
	Preview       = Verb(berth.Preview)
	LookForDrift  = Verb(berth.LookForDrift)
	Extend        = Verb(berth.Extend)
	TearDown      = Verb(berth.TearDown)
	LetGo         = Verb(berth.LetGo)
	Vouch         = Verb(berth.Vouch)
)

// Verbs of what faces do without an order.
const (
	OfferRevert   Verb = "offer revert"
	OpenBench     Verb = "bench"
	Compare       Verb = "compare"
	LookInside    Verb = "look inside"
	WatchIt       Verb = "watch"
	SeeWhy        Verb = "see why"
	LookNow       Verb = "look now"
	AcceptHistory Verb = "accept the new history"
)

// Keys are the letters that stand for the verbs on every screen.
var Keys = map[Verb]string{
	Advance: "a", Hold: "o", GoOn: "g", RollBack: "r", SignOff: "s", LiftBar: "u", Sync: "y",
	RemoveOrphans: "x", LeaveIt: "e", Compare: "c", LookInside: "i",
	Abandon: "d", Lock: "f", Unlock: "f", OfferRevert: "v", OpenBench: "b",
	TakeOffer: "T", PutOff: "P", Decline: "D",
	Scale: "S", Restart: "R", Preview: "V", LookForDrift: "Z", Extend: "E", TearDown: "X", LetGo: "U", Vouch: "O",
	WatchIt: "w", SeeWhy: "w", LookNow: "n", AcceptHistory: "t",
}

// Action is what can be done at a berth, or why it can't be done now.
type Action struct {
	Berth   berth.ID // where, whatever a cursor is on by the time it is chosen
	Verb    Verb
	Key     string
	Means   string                                 // what it does, in a few words
	Asks    string                                 // the question that is put before it is done: what will happen
	Not     error                                  // why it is not possible now; nil where it is
	Denied  bool                                   // whoever is shown it may not do it here; Not says who may
	Seldom  bool                                   // it is in the menu alone, not among the hints
	Changes bool                                   // it changes a site
	Says    string                                 // what a message is asked for, which goes on record; empty where none is
	Read    func(text string) (berth.Order, error) // makes the order of what is typed; nil where that is only its message
	Types   string                                 // it cannot be taken back: this is to be typed first; empty where it can
}

// one are verbs of what concerns one berth, or opens a screen of it.
var one = []Verb{OfferRevert, LookNow, AcceptHistory, Compare, LookInside, OpenBench, WatchIt, SeeWhy, Scale, Restart, TearDown, LetGo}

// Many tells whether an action can be done at many berths at once. What takes the name of what goes is done one by one.
func (a Action) Many() bool { return a.Types == "" && !slices.Contains(one, a.Verb) }

// Actions lists what can be done at a berth, in the order of the menu.
func Actions(b status.Berth) []Action {
	place := b.Workload + " at " + b.Site
	var r rollout.State
	if b.Rollout != nil {
		r = b.Rollout.State
	}
	possible := func(verb rollout.Verb) error {
		if b.Rollout == nil {
			return errors.New("no rollout is under way")
		}
		return r.Possible(verb)
	}
	actions := []Action{
		{Verb: Advance, Means: "skip the rest of this stage's soak", Not: possible(rollout.Advance),
			Asks: fmt.Sprintf("Advance %s? The rest of the soak, %s, is skipped. A silent guard or a breach still stops it.", place, say.Span(left(r)))},
		{Verb: Hold, Means: "stay in this stage; guards stay on", Not: possible(rollout.HoldOn),
			Asks: fmt.Sprintf("Hold %s? It stays at %s of the traffic on %s until someone lets it go on. Guards stay on.", place, say.Share(r.Share), r.New.Version)},
		{Verb: GoOn, Means: "go on from where it was held", Not: possible(rollout.GoOn),
			Asks: goesOn(r, place)},
		signAction(b, r, place, possible),
		backAction(b, r, place),
		{Verb: Abandon, Means: "leave both cohorts as they are; nothing moves by itself any more", Not: possible(rollout.Abandon),
			Asks: fmt.Sprintf("Abandon the rollout of %s? Both cohorts and the traffic stay as they are, %s on %s, and no guard acts any more.", place, say.Share(r.Share), r.New.Version)},
		{Verb: LiftBar, Means: "let the barred revision come again", Not: barred(b), Asks: "Lift the bar? " + afterBar(b)},
		syncAction(b, place), lockAction(b, place), revertAction(b), leaveAction(b, place), orphansAction(b, place),
	}
	actions = append(actions, offerActions(b)...)
	actions = append(actions, lifeActions(b, place)...)
	actions = append(actions, vouchAction(b, place))
	for i := range actions {
		actions[i].Key, actions[i].Changes = Keys[actions[i].Verb], true
	}
	watch := Action{Verb: WatchIt, Key: Keys[WatchIt], Means: "its newest rollout on one time axis"}
	if b.Rollout == nil && b.LastRollout == 0 {
		watch.Not = errors.New("nothing was rolled out here yet")
	}
	bench := Action{Verb: OpenBench, Key: Keys[OpenBench], Means: "a guard's limit over its signal's history, and what it would have stopped"}
	if b.Guards == 0 {
		bench.Not = errors.New("what is applied declares no guard")
	}
	actions = append(actions, watch, bench,
		Action{Verb: Compare, Key: Keys[Compare], Means: "applied, declared and live, field by field, and what a sync does"},
		Action{Verb: LookInside, Key: Keys[LookInside], Means: "its parts, cohorts and instances, with events, log and environment"},
		Action{Verb: LookNow, Key: Keys[LookNow], Means: "read Git again at once"})
	for i := range actions {
		actions[i].Berth = b.ID
		if why := b.MayNot[scopeOf(actions[i].Verb)]; why != "" {
			actions[i].Not, actions[i].Denied = errors.New("it is for "+why), true
		}
	}
	return actions
}

// scopeOf is what a verb needs of whoever asks for it.
func scopeOf(verb Verb) policy.Scope {
	switch {
	case slices.Contains(berth.Verbs(), berth.Verb(verb)):
		return berth.Verb(verb).Scope()
	case verb == OfferRevert:
		return policy.Change
	}
	return policy.Look
}

// signAction gives a go-ahead for the next stage, or for what is declared to come here.
func signAction(b status.Berth, r rollout.State, place string, possible func(rollout.Verb) error) Action {
	if b.Rollout == nil && b.Asks != nil && b.Asks.Kind == course.Signing && b.Declared != nil {
		return Action{Verb: SignOff, Means: "give your go-ahead for what is declared to come here",
			Asks: fmt.Sprintf("Sign off that %s %s comes to %s%s?", b.Workload, b.Declared.Version, b.Site, planned(b))}
	}
	return Action{Verb: SignOff, Means: "give your go-ahead for the next stage", Not: possible(rollout.Sign), Asks: fmt.Sprintf("Sign off %s? %s", place, afterStage(r))}
}

// vouchAction says that what was found at a site is good.
func vouchAction(b status.Berth, place string) Action {
	a := Action{Verb: Vouch, Means: "say that what was found here is good", Seldom: b.Found == nil}
	if b.Found == nil {
		a.Not = errors.New("what serves here is on record")
		return a
	}
	a.Says = fmt.Sprintf("Vouch for %s of %s? It counts as proven, and all goes on from it. Why is it good:", b.Found.Version, place)
	return a
}

// offerActions answer an offer to a site's team.
func offerActions(b status.Berth) []Action {
	take := Action{Verb: TakeOffer, Means: "take what is offered here"}
	off := Action{Verb: PutOff, Means: "put what is offered off, with a reason"}
	no := Action{Verb: Decline, Means: "decline what is offered; the next revision is offered again"}
	if b.Offer == nil || b.Declared == nil || b.Rollout != nil {
		none := errors.New("nothing is offered here")
		take.Not, off.Not, no.Not = none, none, none
		return []Action{take, off, no}
	}
	what := b.Workload + " " + b.Declared.Version
	take.Asks = fmt.Sprintf("Take %s at %s? It comes in its stages as soon as it may%s.", what, b.Site, planned(b))
	off.Says = fmt.Sprintf("Put %s off at %s. Why? Who made it will read it:", what, b.Site)
	no.Says = fmt.Sprintf("Decline %s at %s. Why? Who made it will read it:", what, b.Site)
	if b.Asks != nil && !b.Asks.Last.IsZero() {
		no.Not = fmt.Errorf("it is taken on %s at the latest; put it off until then", say.Moment(b.Asks.Last))
	}
	return []Action{take, off, no}
}

// lifeActions are about how many there are of it, and for how long.
func lifeActions(b status.Berth, place string) []Action {
	scale := Action{Verb: Scale, Means: "another number of instances than is declared, until that changes"}
	restart := Action{Verb: Restart, Means: "start all instances anew, one by one"}
	preview := Action{Verb: Preview, Means: "keep in the ledger what a sync would do"}
	drift := Action{Verb: LookForDrift, Means: "look now for what was changed by hand"}
	extend := Action{Verb: Extend, Means: "let it live longer, with a reason"}
	down := Action{Verb: TearDown, Means: "take all of it away from the site; what volumes hold stays"}
	switch {
	case b.Rollout != nil:
		under := errors.New("a rollout is under way")
		scale.Not, restart.Not, preview.Not, drift.Not, extend.Not, down.Not = under, under, under, under, under, under
	case b.Ending != nil:
		going := errors.New("it is being torn down")
		scale.Not, restart.Not, preview.Not, drift.Not, extend.Not, down.Not = going, going, going, going, going, going
	case b.Applied == nil:
		none := errors.New("nothing of it is there")
		scale.Not, restart.Not, drift.Not, down.Not = none, none, none, none
	case b.Restarting != nil:
		restart.Not = errors.New("they are started anew already")
	case b.Lock != nil:
		down.Not = fmt.Errorf("locked by %s", b.Lock)
	}
	if b.Declared == nil && preview.Not == nil {
		preview.Not = errors.New("nothing is declared for it in Git")
	}
	if b.Life == nil && b.Gone == nil && extend.Not == nil {
		extend.Not = errors.New("no end is set for it")
	}
	scale.Says = fmt.Sprintf("Scale %s. How many instances of each service, or declared, and perhaps why:", place)
	scale.Read = func(text string) (o berth.Order, err error) {
		count, why, _ := strings.Cut(strings.TrimSpace(text), " ")
		o.Note = strings.TrimSpace(why)
		o.Count, err = ReadCount(count)
		return o, err
	}
	restart.Asks = fmt.Sprintf("Restart %s? Its instances are started anew, one by one, each once the one before is healthy.", place)
	preview.Asks = fmt.Sprintf("Keep what a sync of %s would do?", place)
	drift.Asks = fmt.Sprintf("Look at %s for what was changed by hand?", place)
	extend.Says = fmt.Sprintf("Extend the life of %s. Until when (2026-12-28), and why:", place)
	extend.Read = func(text string) (o berth.Order, err error) {
		until, why, _ := strings.Cut(strings.TrimSpace(text), " ")
		o.Note = strings.TrimSpace(why)
		o.Until, err = calendar.Moment(until, time.Local)
		return o, err
	}
	down.Asks = fmt.Sprintf("Tear %s down? Its traffic ends first, then all that runs.", place)
	down.Says = fmt.Sprintf("Type %s, or %s %s, and why:", b.Workload, b.Workload, withVolumes)
	down.Read = func(text string) (berth.Order, error) { return ReadLeaving(text, b.Workload) }
	let := Action{Verb: LetGo, Means: "take the marks off: all of it runs on, and is nobody's", Not: down.Not}
	if made := OwnMade(b); let.Not == nil && made != "" {
		let.Not = fmt.Errorf("%s is of Aditus' own making, and would be looked after by nobody", made)
	}
	let.Asks = fmt.Sprintf("Let %s go? All of it runs on as it is, and Aditus looks after none of it any more.", place)
	let.Says = fmt.Sprintf("Type %s and why:", b.Workload)
	let.Read = down.Read
	all := []Action{scale, restart, preview, drift, extend, down, let}
	for i := range all {
		all[i].Seldom = true
	}
	return all
}

// ReadCount reads how many instances there should be; nil for as many as are declared.
func ReadCount(text string) (*int, error) {
	if text == "declared" {
		return nil, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 {
		return nil, fmt.Errorf("%q is no number of instances: write one from 0 on, or declared", text)
	}
	return &n, nil
}

func goesOn(r rollout.State, place string) string {
	switch {
	case r.HeldFrom == rollout.RollingBack:
		return fmt.Sprintf("Let %s go on with its way back to %s?", place, r.Old.Version)
	case r.HeldFrom == rollout.Settling:
		return fmt.Sprintf("Let %s go on? The instances of %s go on coming up.", place, r.New.Version)
	}
	return fmt.Sprintf("Let %s go on? It continues in %s with %s left.", place, r.HeldFrom, say.Span(left(r)))
}

// backAction turns a rollout round, or goes back from what is proven.
func backAction(b status.Berth, r rollout.State, place string) Action {
	a := Action{Verb: RollBack, Means: "all traffic back to the old revision"}
	switch {
	case b.Rollout != nil && !b.Keeps():
		a.Not = r.Possible(rollout.TurnBack)
		a.Asks = fmt.Sprintf("Roll back %s? All traffic goes to %s as soon as it can take it, the instances of %s stop, and %s is barred here%s.", place, r.Old.Version, r.New.Version, r.New.Version, rollout.Undone(r))
	case b.Keeps():
		a.Not = r.Possible(rollout.TurnBack)
		a.Means = "switch back to the old set, which is kept complete"
		a.Asks = fmt.Sprintf("Roll back %s? All traffic goes to %s at once: its set is still complete. %s is barred here%s.", place, r.Old.Version, r.New.Version, rollout.Stays(b.Lasting))
	case b.Lock != nil:
		a.Not = fmt.Errorf("locked by %s", b.Lock)
	case b.Left != nil && b.Applied != nil:
		a.Means = "take what was left halfway away again"
		a.Asks = fmt.Sprintf("Roll back %s? All traffic goes to %s again, the instances of %s stop, and %s is barred here.", place, b.Applied.Version, b.Left.Version, b.Left.Version)
	case b.Back == nil:
		a.Not = errors.New("no other revision was proven here")
	default:
		a.Means = "back to the revision that was proven before this one"
		a.Asks = fmt.Sprintf("Roll back %s from %s to %s (%s)? %s comes up again and gets all the traffic, and %s is barred here%s.", place, b.Applied.Version, b.Back.Version, b.Back.Fingerprint.Short(), b.Back.Version, b.Applied.Version, rollout.Stays(b.Lasting))
	}
	return a
}

func lockAction(b status.Berth, place string) Action {
	if b.Lock != nil {
		return Action{Verb: Unlock, Means: "let revisions come again", Asks: fmt.Sprintf("Unlock %s? %s locked it: %s.", place, b.Lock.By, b.Lock.Message)}
	}
	a := Action{Verb: Lock, Means: "keep it at its revision, with a message to colleagues", Says: fmt.Sprintf("Lock %s. Why? Your colleagues will read it:", place)}
	if b.Rollout != nil && !b.Keeps() {
		a.Not = errors.New("a rollout is under way")
	}
	return a
}

func revertAction(b status.Berth) Action {
	a := Action{Verb: OfferRevert, Means: "a commit on a branch of its own that takes the barred revision back in Git"}
	if b.Bar == nil || b.Applied == nil || b.Declared == nil {
		a.Not = errors.New("what Git declares is not barred here")
		return a
	}
	if b.Bundle {
		a.Means = "an older version of the bundle, in the settings"
		a.Asks = fmt.Sprintf("Have the link %s stay at the bundle that declares %s, which serves? That is written in the settings in place of its version; what it declares of other workloads goes back too, and nothing newer comes until another version is written there.", b.Link, b.Applied.Version)
		return a
	}
	a.Asks = fmt.Sprintf("Offer the revert of %s? A commit that declares %s as it serves goes to the branch aditus/revert-%s-%s, with the evidence in its message. Nothing else changes.", b.Bar.Version, b.Applied.Version, b.Workload, b.Bar.Revision.Short())
	return a
}

// left is the time that a phase still has to go.
func left(s rollout.State) time.Duration {
	if s.Phase == rollout.Proving || s.HeldFrom == rollout.Proving {
		return s.ProvingLeft()
	}
	if len(s.Rules.Stages) == 0 {
		return 0
	}
	return s.SoakLeft()
}

func afterStage(r rollout.State) string {
	if r.Task != "" {
		return fmt.Sprintf("The task %s then runs. What it does cannot be undone, not by a rollback either.", r.Task)
	}
	if r.Closes() {
		return fmt.Sprintf("%s then is proven.", r.New.Version)
	}
	if r.Stage < r.LastStage() {
		return fmt.Sprintf("%s then gets %s of the traffic.", r.New.Version, say.Share(r.Rules.Stages[r.Stage+1].Share))
	}
	return fmt.Sprintf("%s then is proving at %s of the traffic.", r.New.Version, say.Share(1-r.Control))
}

func barred(b status.Berth) error {
	switch {
	case b.Bar == nil:
		return errors.New("no bar stands here")
	case b.Rollout != nil:
		return errors.New("a rollout is under way")
	}
	return nil
}

func afterBar(b status.Berth) string {
	if b.Bar == nil {
		return ""
	}
	return fmt.Sprintf("%s may be rolled out to %s at %s again. It was rolled back for this: %s.", b.Bar.Version, b.Workload, b.Site, b.Bar.Why)
}

// planned tells what a sync would change; the first few changes where there are many.
func planned(b status.Berth) string {
	changes := b.Changes
	if len(changes) == 0 {
		return ""
	}
	if more := len(changes) - mostPlanned; more > 0 {
		changes = append(slices.Clone(changes[:mostPlanned]), fmt.Sprintf("%d more", more))
	}
	return ": " + say.List(changes)
}

func leaveAction(b status.Berth, place string) Action {
	a := Action{Verb: LeaveIt, Means: "let what was changed by hand stand"}
	if b.Corrects.IsZero() {
		a.Not = errors.New("nothing is about to be put back")
		return a
	}
	a.Asks = fmt.Sprintf("Leave %s as it was changed by hand? It is not put back at %s: %s. It stays drifted.", place, b.Corrects.Local().Format("15:04:05"), changedByHand(b))
	return a
}

// Orphans names the parts that are live at a berth and not declared.
func Orphans(b status.Berth) []string {
	var names []string
	for _, d := range b.Differences {
		if d.Kind == compare.Orphan {
			names = append(names, d.Part())
		}
	}
	return names
}

func orphansAction(b status.Berth, place string) Action {
	a := Action{Verb: RemoveOrphans, Means: "stop and remove parts that are not declared any more"}
	orphans := Orphans(b)
	switch {
	case b.Rollout != nil:
		a.Not = errors.New("a rollout is under way")
	case len(orphans) == 0:
		a.Not = errors.New("nothing here is an orphan")
	default:
		a.Asks = fmt.Sprintf("Remove %s from %s? Its instances stop, and what only they keep is lost.", say.List(orphans), place)
		a.Types = b.Workload
	}
	return a
}

// mostPlanned is how many changes a question names.
const mostPlanned = 3

// how tells the way in which a declared revision comes.
func how(b status.Berth) string {
	if len(b.Changes) == 0 {
		return "is marked as applied; nothing that runs changes"
	}
	switch b.Style {
	case declare.Rolling:
		return "takes over instance by instance now, without waiting for the sites before it"
	case declare.BlueGreen:
		return "comes up as a second set now, is tried, and switched to, without waiting for the sites before it"
	}
	return "is rolled out in its stages now, without waiting for the sites before it"
}

func syncAction(b status.Berth, place string) Action {
	a := Action{Verb: Sync, Means: "bring what is declared, or put back what was changed by hand"}
	switch {
	case b.Lock != nil:
		a.Not = fmt.Errorf("locked by %s", b.Lock)
	case b.Rollout != nil && !b.Keeps():
		a.Not = errors.New("a rollout is under way")
	case b.SyncStatus == compare.Diverged && b.Bar == nil && b.Declared != nil:
		a.Means = "start the rollout of what is declared, over what was changed by hand"
		a.Asks = fmt.Sprintf("Sync %s? %s is rolled out in its stages now. This overwrites what was changed by hand: %s.", place, b.Declared.Version, changedByHand(b))
	case b.SyncStatus == compare.Drifted || b.SyncStatus == compare.Diverged:
		a.Means = "put back what was changed by hand"
		a.Asks = fmt.Sprintf("Put %s back as it was applied? This undoes: %s.", place, changedByHand(b))
	case Lost(b):
		a.Means, a.Asks = "put back what was applied", fmt.Sprintf("Put %s back? The instances of %s are started again and get all the traffic.", place, b.Applied.Version)
	case b.SyncStatus == compare.Unread:
		a.Not = errors.New("there is no fresh look at it")
	case b.Bar != nil:
		a.Not = errors.New("the declared revision is barred; lift the bar first")
	case b.SyncStatus == compare.Behind || b.SyncStatus == compare.Absent:
		a.Means = "start the rollout of what is declared"
		switch {
		case b.Declared == nil:
		case !b.Cools.IsZero():
			a.Says = fmt.Sprintf("Sync %s before the cool-down is over? %s %s%s. Why now?", place, b.Declared.Version, how(b), planned(b))
		default:
			a.Asks = fmt.Sprintf("Sync %s? %s %s%s.", place, b.Declared.Version, how(b), planned(b))
		}
	default:
		a.Not = errors.New("live is as declared already")
	}
	return a
}
