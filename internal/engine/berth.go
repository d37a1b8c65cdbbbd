package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/health"
	"aditus/internal/core/plan"
	"aditus/internal/core/rollout"
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
	points, err := b.e.ledger.Points(b.id, s.Began.Add(-LeadIn*s.Rules.Interval.Duration), b.e.clock.Now())
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
		if err := b.e.clock.Wait(ctx, b.next(now), b.wake); err != nil {
			b.refuse(err)
			return err
		}
	}
}

// A berth with nothing to do is looked at every calmBeats beats, though not less often than every calmMost; where its
// target tells of changes by itself every followedBeats, and every followedMost.
const (
	calmBeats     = 5
	calmMost      = 5 * time.Second
	followedBeats = 12
	followedMost  = 12 * time.Second
	followedAt    = 4 // moments in that time at which they are
)

// next is when the berth is looked at again if nothing wakes it: at the next beat, or later where it is aligned and
// healthy, nothing is under way, and no probe or guard is due before.
func (b *berth) next(now time.Time) time.Time {
	beat := now.Add(b.e.beat)
	if b.roll != nil || b.problem != nil || b.changes.stand != compare.Aligned || b.word != health.Healthy || len(b.senses.last.dead) > 0 {
		return beat
	}
	next := now.Add(min(calmBeats*b.e.beat, calmMost))
	if _, ok := b.driver.(target.Follower); ok {
		calm := min(followedBeats*b.e.beat, followedMost)
		next = now.Add(calm).Truncate(calm / followedAt) // many berths at one moment wake the machine once
	}
	sooner := func(at time.Time) {
		if at.Before(next) {
			next = at
		}
	}
	for _, s := range b.senses.instances {
		for _, due := range s.due {
			sooner(due)
		}
	}
	if rules := b.rules(b.senses.last); rules != nil && len(rules.Guards) > 0 {
		sooner(b.senses.evaluated.Add(rules.Rollout.Interval.Duration))
	}
	return later(beat, next)
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
		b.answer(orders)
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
