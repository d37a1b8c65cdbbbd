package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"sync"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/guard/panel"
	"aditus/internal/core/health"
	"aditus/internal/core/signal"
	"aditus/internal/ledger"
	"aditus/internal/status"
	"aditus/internal/target"
)

// loop looks after one workload at one site: observe, decide, record, act, publish, and again. It alone touches its
// fields, but for those that say otherwise.
type loop struct {
	e      *Engine
	id     berth.ID
	driver target.Driver
	wake   chan struct{}

	state    berth.State
	held     map[declare.Fingerprint]*berth.Revision // those that it is about
	problem  *status.Problem
	troubles map[string]lately // by what it says, without its numbers
	looked   time.Time
	word     health.Word // of what is applied, and since when
	since    time.Time

	waitsFor   string // whatever numbers there are in it
	waitsSince time.Time

	noted     int64 // the last step that the site was told of
	instances map[string]*probed
	panel     panel.Panel
	unread    error                     // what could not be read when the guards were evaluated last, of what they are about
	last      *evidence                 // nil before the first look
	pasts     map[string][]signal.Point // by guard, as read for some rules at a moment
	pastOf    *declare.Desired
	pastRead  time.Time

	mu     sync.Mutex
	orders []*order // guarded by mu

	// Guarded by the engine's lock:
	shown    status.Berth
	proven   []declare.Fingerprint
	course   onCourse
	needs    []string // the workloads that what is applied needs
	stands   int      // standing guards that go back by themselves
	trial    trial
	breached time.Time // since when standing guards breach, where that is seen; zero for not
	acted    bool      // something was asked of the site in the last step, and what came of it is not seen yet
}

func newLoop(e *Engine, id berth.ID) *loop {
	return &loop{e: e, id: id, driver: e.drivers[id.Site], wake: make(chan struct{}, 1), instances: map[string]*probed{}, troubles: map[string]lately{}, state: berth.State{Change: berth.Change{SyncStatus: compare.Unread}}}
}

// resume goes on with the rollout that was under way when the program ended.
func (b *loop) resume() error {
	s, _, err := b.e.ledger.Rollout(b.state.Rollout)
	if err != nil {
		return err
	}
	points, err := b.e.ledger.Points(b.id, s.Began.Add(-panel.LeadIn*s.Rules.Interval.Duration), b.e.clock.Now())
	if err != nil {
		return err
	}
	s = s.Resume(b.e.clock.Now())
	b.state.Roll, b.state.Resumed = &s, true
	b.panel.Recall(points)
	return nil
}

func (b *loop) nudge() { wake(b.wake) }

func (b *loop) run(ctx context.Context) error {
	for {
		now := b.e.clock.Now()
		b.step(ctx, now)
		if err := b.e.clock.Wait(ctx, b.next(now), b.wake); err != nil {
			b.refuse(err)
			return err
		}
	}
}

// unwatched is how long a berth may go without a look before that time counts for nothing, towards deadlines neither: the
// site could not be reached, or the machine slept.
const unwatched = 15 * time.Second

// step is the whole product once round. Nothing is done at the target that is not on record before, and what could not
// be recorded has not happened, but that traffic leaves what does harm.
func (b *loop) step(ctx context.Context, now time.Time) {
	seen := b.observe(ctx, now)
	if ctx.Err() != nil {
		return
	}
	b.watched(seen, now)
	orders := b.takeOrders()
	world, err := b.e.world(b, orders, seen)
	if err != nil { // nothing is decided on half of what is on record
		b.trouble(now, err)
		b.publish(b.view())
		b.answer(orders, unrecorded(make([]berth.Answer, len(orders)), err))
		return
	}
	decided := berth.Decide(b.id, b.state, seen.core(), world, wishes(orders), now)
	answers := decided.Answers
	b.acted = len(decided.Intents) > 0
	if err := b.record(ctx, &decided, now); err != nil {
		next, first, goesOn := decided.Unrecorded(b.state)
		b.state = next
		if goesOn {
			answers = unrecorded(answers, fmt.Errorf("it is carried out, and is not on record yet: %w", err))
		} else {
			answers = unrecorded(answers, err)
		}
		b.trouble(now, errors.Join(err, b.carryOut(ctx, first)))
	} else {
		b.state = decided.State
		if err := b.act(ctx, decided); err != nil && ctx.Err() == nil {
			b.trouble(now, err)
		} else {
			b.trouble(now, seen.trouble)
		}
	}
	b.publish(b.view())
	b.answer(orders, answers) // who has an answer finds what came of it
}

// watched notes that the site was looked at, and since when what is applied does as it does.
func (b *loop) watched(seen *evidence, now time.Time) {
	if seen.reached {
		b.noted = max(b.noted, seen.target.Step)
		if roll := b.state.Roll; roll != nil && now.Sub(b.looked) > unwatched {
			s := roll.Resume(now)
			b.state.Roll = &s
		}
		b.looked = now
	}
	if word := b.health(seen).Word; word != b.word {
		b.word, b.since = word, now
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

	crowded   = 500 // berths, for each so many of which these are looked at so much less often
	mostCrowd = 4
)

// crowd is how many times less often berths are looked at whose target tells of changes, as there are so many.
func (e *Engine) crowd() int {
	e.mu.Lock()
	defer e.mu.Unlock()
	return max(1, min(mostCrowd, len(e.berths)/crowded))
}

// next is when the berth is looked at again if nothing wakes it: at the next beat, or later where it is aligned and
// healthy, nothing is under way or was just done, and no probe or guard is due before.
func (b *loop) next(now time.Time) time.Time {
	beat := now.Add(b.e.beat)
	waits := b.state.Change.SyncStatus == compare.Behind && !b.state.MayCome.IsZero() // for the line's rules, and is woken by what others come to
	if b.acted || b.state.Roll != nil || b.state.Unsettled() || b.problem != nil || b.state.Change.SyncStatus != compare.Aligned && !waits || b.word != health.Healthy || len(b.last.dead) > 0 {
		return beat
	}
	next := now.Add(min(calmBeats*b.e.beat, calmMost))
	if _, ok := b.driver.(target.Follower); ok && !waits {
		calm := min(followedBeats*b.e.beat, followedMost) * time.Duration(b.e.crowd())
		next = now.Add(calm).Truncate(calm / followedAt) // many berths at one moment wake the machine once
	}
	sooner := func(at time.Time) {
		if at.Before(next) {
			next = at
		}
	}
	for _, s := range b.instances {
		for _, due := range s.due {
			sooner(due)
		}
	}
	for _, at := range []time.Time{b.state.NextTurn(), b.state.LifeTurn(), b.state.MayCome} {
		if at.After(now) {
			sooner(at)
		}
	}
	if rules := b.rules(b.last); rules != nil && len(rules.Guards) > 0 {
		sooner(b.panel.Evaluated().Add(rules.Rollout.Interval.Duration))
	}
	if next.Before(beat) {
		return beat
	}
	return next
}

// record writes a decision to the ledger, if there is anything in it that must outlive a restart.
func (b *loop) record(ctx context.Context, d *berth.Decision, now time.Time) error {
	if d.Begins() {
		d.Number(b.e.ledger.NextRollout())
	}
	steady := b.panel.Steady(now)
	if !d.Durable && steady == nil {
		return nil
	}
	entry := ledger.Entry{Berth: b.id, State: &d.State, Rollout: d.Rollout, Steady: steady}
	for _, f := range d.Facts {
		entry.Facts = append(entry.Facts, recorded(b.id, f, now))
	}
	if d.State.Roll != nil {
		entry.Rollout = d.State.Roll
	}
	if entry.Rollout != nil {
		entry.Traffic = b.last.traffic(entry.Rollout, now)
	}
	if entry.Rollout != nil || now.Before(d.State.TailEnds) {
		entry.Points = b.panel.Unkept()
	}
	if r := d.Revision; r != nil {
		entry.Revision = r
		if !b.e.onRecord(r.Workload, r.Fingerprint) {
			entry.Facts = append([]ledger.Fact{declaredFact(*r, []string{b.id.Site}, now)}, entry.Facts...)
		}
	}
	if err := b.e.ledger.Record(context.WithoutCancel(ctx), entry); err != nil {
		return err
	}
	b.e.unpictured.Store(true)
	if r := d.Revision; r != nil {
		b.e.mu.Lock()
		b.e.learn(r.Workload, r.Fingerprint, r.Version)
		b.e.mu.Unlock()
	}
	if entry.Points != nil {
		b.panel.Kept()
	}
	if steady != nil {
		b.panel.KeptSteady()
	}
	return nil
}

// recorded is a fact as the ledger keeps it.
func recorded(id berth.ID, f berth.Fact, now time.Time) ledger.Fact {
	kept := ledger.Fact{At: now, Workload: id.Workload, Site: id.Site, Rollout: f.Rollout, Kind: f.Kind, By: f.By, Revision: f.Revision, Text: f.Text}
	if f.Data != nil {
		kept.Data, _ = json.Marshal(f.Data) // evidence is made of plain values, which always marshal
	}
	return kept
}

// oneTrouble is within what time trouble that comes again is the same one.
const oneTrouble = 30 * time.Second

// lately is trouble of the last half minute: since when it was there, and when last.
type lately struct{ since, last time.Time }

// numbers in trouble do not make it another one: ports, numbers of processes, how long something took.
var numbers = regexp.MustCompile(`[0-9]+`)

// trouble keeps or clears what is wrong with the berth, with the time since when. Trouble that comes and goes, or takes
// turns with another, is one.
func (b *loop) trouble(now time.Time, err error) {
	maps.DeleteFunc(b.troubles, func(_ string, l lately) bool { return now.Sub(l.last) >= oneTrouble })
	was := b.problem
	if b.problem = nil; err != nil {
		text := err.Error()
		what := numbers.ReplaceAllString(text, "0")
		l, again := b.troubles[what]
		if !again {
			l.since = now
		}
		l.last = now
		b.troubles[what] = l
		b.problem = &status.Problem{About: b.id.String(), Text: text, Since: l.since}
	}
	if (was == nil) != (b.problem == nil) || was != nil && was.Text != b.problem.Text {
		b.e.unpictured.Store(true)
	}
}

// act has the target do what was decided; what fails keeps no other up. What a rollout wants is asked for again at the
// next beat, an instance to be started anew when it had its time to come up.
func (b *loop) act(ctx context.Context, d berth.Decision) error {
	err := b.carryOut(ctx, d.Intents)
	for _, id := range d.Restarts {
		if led := b.e.ledger.Leads(ctx); led != nil {
			return errors.Join(err, led)
		}
		if failed := b.driver.Restart(ctx, b.id.Workload, id); failed != nil {
			err = errors.Join(err, fmt.Errorf("start %s anew: %w", id, failed))
		}
		if all := d.State.Restarting; all != nil && all.Last == id && b.instances[id] != nil {
			b.instances[id].asked = append(b.instances[id].asked, b.e.clock.Now())
		}
	}
	return err
}
