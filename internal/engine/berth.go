package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/health"
	"aditus/internal/core/plan"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
	"aditus/internal/ledger"
	"aditus/internal/target"
)

// berth looks after one workload at one site. Its loop alone touches its fields, but for those that say otherwise.
type berth struct {
	e      *Engine
	id     ledger.Berth
	driver target.Driver
	wake   chan struct{}

	state   ledger.BerthState
	roll    *rollout.State // nil when no rollout is under way
	senses  *senses
	resumed bool   // the rollout comes from before a restart, and that is not on record yet
	changes change // what the last comparison found
	waits   string
	told    map[string]bool // standing guards whose breach is on record
	drift   time.Time       // when drift was last looked for on schedule
	problem *Problem
	looked  time.Time
	word    health.Word // of what is applied, and since when
	since   time.Time

	mu     sync.Mutex
	orders []*order // guarded by mu

	shown  Berth                 // guarded by the engine's lock
	proven []declare.Fingerprint // guarded by the engine's lock
}

// change is how a berth stands to Git.
type change struct {
	stand       compare.Stand
	differences []compare.Difference
	plan        plan.Plan

	// what was compared; the same three need no second comparison
	applied, declared declare.Fingerprint
	live              compare.Live
}

func newBerth(e *Engine, id ledger.Berth) *berth {
	return &berth{e: e, id: id, driver: e.drivers[id.Site], wake: make(chan struct{}, 1), senses: newSenses(), told: map[string]bool{}, changes: change{stand: compare.Unread}}
}

// resume goes on with the rollout that was under way when the program ended.
func (b *berth) resume() error {
	s, _, err := b.e.ledger.Rollout(b.state.Rollout)
	if err != nil {
		return err
	}
	points, err := b.e.ledger.Points(b.id, s.Began.Add(-leadIn*s.Rules.Interval.Duration), b.e.clock.Now())
	if err != nil {
		return err
	}
	s = s.Resume(b.e.clock.Now())
	b.roll, b.resumed = &s, true
	b.senses.recall(points)
	return nil
}

func (b *berth) nudge() { wake(b.wake) }

func (b *berth) loop(ctx context.Context) error {
	for {
		now := b.e.clock.Now()
		b.step(ctx, now)
		if err := b.e.clock.Wait(ctx, now.Add(b.e.beat), b.wake); err != nil {
			b.refuse(err)
			return err
		}
	}
}

// unwatched is how long a berth may go without a look before that time counts for nothing, towards deadlines neither: the
// site could not be reached, or the machine slept.
const unwatched = 15 * time.Second

// step is the whole product once round: observe, compare, decide, record, act, show. Nothing is done at the target
// that is not on record before.
func (b *berth) step(ctx context.Context, now time.Time) {
	seen := b.observe(ctx, now)
	if ctx.Err() != nil {
		return
	}
	if seen.reached {
		if gap := now.Sub(b.looked); b.roll != nil && gap > unwatched {
			s := b.roll.Resume(now)
			b.roll = &s
		}
		b.looked = now
	}
	if word := b.health(seen).Word; word != b.word {
		b.word, b.since = word, now
	}
	orders := b.takeOrders()
	next := b.decide(seen, orders, now)
	if err := b.record(ctx, next, now); err != nil {
		b.trouble(now, err)
		for _, o := range orders {
			o.answer(err)
		}
	} else {
		ended := b.roll != nil && next.roll == nil
		b.state, b.roll, b.resumed = next.state, next.roll, false
		if ended {
			declared, _ := b.e.declaredFor(b.id, b.state.Applied)
			b.changes = b.compare(seen, declared)
		}
		if err := errors.Join(b.act(ctx, next.intents), b.restart(ctx, next.restarts)); err != nil && ctx.Err() == nil {
			b.trouble(now, err)
		} else {
			b.trouble(now, seen.trouble)
		}
		for _, o := range orders {
			o.answer(o.err)
		}
	}
	b.publish(b.view())
}

// decision is what a step came to.
type decision struct {
	state    ledger.BerthState
	roll     *rollout.State // nil once nothing is under way
	write    *rollout.State // the rollout's state to keep on record
	facts    []ledger.Fact
	intents  []rollout.Intent
	restarts []string // instances to be started anew
	steady   []ledger.Point
	durable  bool // something changed that must be on record
}

// decide puts all that is known into the core and takes what it says.
func (b *berth) decide(seen *evidence, orders []*order, now time.Time) decision {
	next := decision{state: b.state, roll: b.roll}
	next.state.Bars, next.state.Proven = slices.Clone(b.state.Bars), slices.Clone(b.state.Proven)
	declared, _ := b.e.declaredFor(b.id, b.state.Applied)
	b.liftBars(&next, orders, declared, now)
	b.locks(&next, orders, now)
	b.waits = ""
	if next.roll != nil && next.roll.Phase == rollout.Proven {
		b.changes = b.compare(seen, declared)
	}
	if next.roll == nil {
		b.changes = b.compare(seen, declared)
		b.noteDrift(&next, seen, now)
		b.tidy(&next, seen, orders, now)
		b.stand(&next, seen, orders, now)
	}
	if next.roll == nil {
		b.sync(&next, seen, orders, declared, now)
	}
	if next.roll != nil {
		b.advance(&next, seen, orders, declared, now)
	}
	if next.roll == nil && seen.evaluated && now.Before(b.senses.tail) {
		next.durable = true
	}
	if next.steady = b.steadyPoints(now); next.steady != nil {
		next.durable = true
	}
	b.revive(&next, seen, now)
	for _, o := range orders {
		switch {
		case o.taken:
		case o.Verb == Sync || o.Verb == Remove || o.Verb == LeaveIt || o.Verb == RollBack:
			o.err = fmt.Errorf("%s is not possible: a rollout is under way at %s", o.Verb, b.id)
		default:
			o.err = fmt.Errorf("%s is not possible: no rollout is under way at %s", o.Verb, b.id)
		}
	}
	return next
}

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
	if verb := b.newer(before, next.state, seen, declared, now); verb != "" {
		commands = append(commands, rollout.Command{Verb: verb, By: rollout.Itself, Note: fmt.Sprintf("%s (%s)", declared.Version, declared.Fingerprint.Short())})
	}
	out := rollout.Step(before, b.observation(seen, before, now), commands, now)
	for i, o := range asked {
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

// fact adds a fact to a decision.
func (d *decision) fact(b *berth, now time.Time, kind, by string, revision declare.Fingerprint, text string, data any) {
	f := ledger.Fact{At: now, Workload: b.id.Workload, Site: b.id.Site, Kind: kind, By: by, Revision: revision, Text: text}
	if d.roll != nil {
		f.Rollout = d.roll.ID
	}
	if data != nil {
		f.Data, _ = json.Marshal(data) // evidence is made of plain values, which always marshal
	}
	d.facts, d.durable = append(d.facts, f), true
}

// record writes a decision to the ledger, if there is anything in it that must outlive a restart.
func (b *berth) record(ctx context.Context, next decision, now time.Time) error {
	if !next.durable {
		return nil
	}
	entry := ledger.Entry{Berth: b.id, Facts: next.facts, State: &next.state, Rollout: next.write, Steady: next.steady}
	if next.roll != nil && entry.Rollout == nil {
		entry.Rollout = next.roll
	}
	if entry.Rollout != nil {
		entry.Look = b.senses.look(entry.Rollout, now)
	}
	if entry.Rollout != nil || now.Before(b.senses.tail) {
		entry.Points = b.senses.points()
	}
	if err := b.e.ledger.Record(context.WithoutCancel(ctx), entry); err != nil {
		return err
	}
	b.e.news.Store(true)
	if entry.Points != nil {
		b.senses.kept()
	}
	return nil
}

// act has the target do what was decided. Whatever fails is asked for again at the next beat.
func (b *berth) act(ctx context.Context, intents []rollout.Intent) error {
	ctx, cancel := context.WithTimeout(ctx, askTimeout)
	defer cancel()
	var failed []error
	for _, i := range intents {
		if err := b.do(ctx, i); err != nil {
			failed = append(failed, err)
		}
	}
	return errors.Join(failed...)
}

func (b *berth) do(ctx context.Context, i rollout.Intent) error {
	workload := b.id.Workload
	switch i.Do {
	case rollout.Lay:
		r := b.e.revision(workload, i.Revision)
		if r == nil {
			return fmt.Errorf("revision %s is not on record", i.Revision.Short())
		}
		desired, err := b.opened(compare.KeepLeft(*r.Desired, b.changes.live))
		if err != nil {
			return err
		}
		return b.driver.Lay(ctx, workload, i.Revision, desired)
	case rollout.Scale:
		return b.driver.Scale(ctx, workload, i.Revision, i.Part, i.Count, b.unwell(i.Part))
	case rollout.Preview:
		return b.driver.Preview(ctx, workload, i.Revision)
	case rollout.Run:
		return b.driver.Run(ctx, workload, i.Revision, i.Part)
	case rollout.SetShare:
		rest := declare.Fingerprint("")
		if b.roll != nil {
			rest = b.roll.Old.Revision
		}
		return b.driver.SetShare(ctx, workload, i.Revision, i.Share, rest)
	case rollout.Keep:
		return b.driver.Keep(ctx, workload, i.From, i.Revision, i.Part)
	case rollout.Prune:
		return b.driver.Remove(ctx, workload, i.Revision, i.Part)
	case rollout.Mark:
		return b.driver.Mark(ctx, workload, i.From, i.Revision)
	case rollout.Drop:
		return b.driver.Drop(ctx, workload, i.Revision)
	}
	return nil
}

// unwell names the instances of a part that are not healthy, so that they are the first to go.
func (b *berth) unwell(part string) (ids []string) {
	for _, cohort := range b.senses.last.target.Cohorts {
		for _, in := range cohort.Instances {
			if in.Part == part && b.senses.last.health[in.ID].Word != health.Healthy {
				ids = append(ids, in.ID)
			}
		}
	}
	return ids
}

// opened gives a desired state with its secrets opened, for the driver alone.
func (b *berth) opened(desired declare.Desired) (declare.Desired, error) {
	parts := maps.Clone(desired.Parts)
	for name, part := range parts {
		if part.Kind != declare.Secret {
			continue
		}
		part.Opened = map[string]string{}
		for key, sealed := range part.Sealed {
			plain, err := b.e.outside.Opener.Open(sealed)
			if err != nil {
				return desired, fmt.Errorf("the secret %s of %s: %w; nothing of %s is laid down until it opens", key, name, err, b.id)
			}
			part.Opened[key] = plain
		}
		parts[name] = part
	}
	desired.Parts = parts
	return desired, nil
}

// trouble keeps or clears what is wrong with the berth, with the time since when.
func (b *berth) trouble(now time.Time, err error) {
	switch {
	case err == nil && b.problem != nil:
		b.problem = nil
		b.e.news.Store(true)
	case err != nil && (b.problem == nil || b.problem.Text != err.Error()):
		b.problem = &Problem{About: b.id.String(), Text: err.Error(), Since: now}
		b.e.news.Store(true)
	}
}
