// Package engine is where the core meets time and the access: a loop for each berth that observes, compares, decides,
// records and acts, and one for each link. All that it knows survives in the ledger.
package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/singleflight"

	"aditus/internal/clock"
	"aditus/internal/config"
	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/core/policy"
	"aditus/internal/ledger"
	"aditus/internal/probe"
	"aditus/internal/scrape"
	"aditus/internal/scrape/pushed"
	"aditus/internal/source"
	"aditus/internal/status"
	"aditus/internal/target"
)

// Engine looks after all berths. Make it with New, then Run it.
type Engine struct {
	settings   config.Settings
	ledger     *ledger.Ledger
	drivers    map[string]target.Driver
	clock      clock.Clock
	prober     *probe.Prober
	scraper    *scrape.Scraper
	stores     stores
	pushed     *pushed.Store
	alerts     alerts
	access     Access
	beat       time.Duration
	group      *errgroup.Group
	ctx        context.Context
	seq        atomic.Uint64 // of the last change
	views      uint64        // of berths that were put out, each otherwise than the one before
	unpictured atomic.Bool   // something came on record, or trouble came or went, since the last picture

	hearing sync.Mutex
	heard   map[chan struct{}]bool // channels that Changed gave; guarded by hearing

	mu         sync.Mutex
	links      []*link
	registries *source.Registries
	revisions  map[string]*history // by workload
	declared   map[berth.ID]declaration
	berths     map[berth.ID]*loop
	ruled      map[string]ruled // rules of the line by their names
	named      struct {         // the line's rules and their name, which takes a while to find
		line *declare.Line
		name string
	}
	grounds  singleflight.Group // of sites that are asked what they stand on
	problems map[string]status.Problem
	refused  map[string]time.Time // what was put on record as refused, and when; guarded by mu
}

// New makes an engine that goes on from what the ledger holds. drivers has one driver for each site.
func New(settings config.Settings, book *ledger.Ledger, drivers map[string]target.Driver, clock clock.Clock, access Access) (*Engine, error) {
	e := &Engine{
		settings: settings, beat: settings.Beat, ledger: book, drivers: drivers, clock: clock, prober: probe.New(), scraper: scrape.New(), pushed: pushed.New(), heard: map[chan struct{}]bool{}, access: access,
		registries: source.NewRegistries(settings.Registries, access.registry),
		revisions:  map[string]*history{}, declared: map[berth.ID]declaration{},
		berths: map[berth.ID]*loop{}, ruled: map[string]ruled{}, problems: map[string]status.Problem{}, refused: map[string]time.Time{},
	}
	for _, site := range settings.Sites {
		if drivers[site.Name] == nil {
			return nil, fmt.Errorf("site %s has no target", site.Name)
		}
	}
	if err := e.recall(); err != nil {
		return nil, err
	}
	for _, w := range wantedLinks(settings) {
		watched, err := newLink(e, w.source, w.follow)
		if err != nil {
			return nil, err
		}
		e.links = append(e.links, watched)
	}
	e.mergeDeclared()
	if err := e.pin(); err != nil {
		return nil, err
	}
	for id := range e.declared {
		if e.berths[id] == nil && e.drivers[id.Site] != nil {
			e.berths[id] = newLoop(e, id) // declared before, and nothing of it is on record yet
		}
	}
	for site, driver := range e.drivers {
		if there, ok := driver.(target.Rememberer); ok {
			for _, workload := range there.Remembers() {
				if id := (berth.ID{Workload: workload, Site: site}); e.berths[id] == nil {
					e.berths[id] = newLoop(e, id) // it is there, and the ledger knows nothing of it
				}
			}
		}
	}
	for _, b := range e.berths {
		b.publish(b.view())
		clock.Join()
	}
	for range e.links {
		clock.Join()
	}
	return e, nil
}

// pin holds the artifacts of what is declared to the digests that were found for them before, so that a tag that moved
// changes nothing by itself, after a restart either.
func (e *Engine) pin() error {
	for id, d := range e.declared {
		r, err := e.revision(id.Workload, d.fingerprint)
		if err != nil {
			return err
		}
		if r != nil {
			for _, part := range r.Desired.Parts {
				e.registries.Pin(part.Artifact)
			}
		}
	}
	return nil
}

// recall brings back what the ledger holds: revisions, the berths' states, and the rollouts that were under way with
// the evidence they had.
func (e *Engine) recall() error {
	names, err := e.ledger.RevisionNames()
	if err != nil {
		return err
	}
	for _, n := range names {
		e.learn(n.Workload, n.Fingerprint, n.Version)
	}
	if err := e.recallAlerts(); err != nil {
		return err
	}
	states, err := e.ledger.Berths()
	if err != nil {
		return err
	}
	for id, state := range states {
		if e.drivers[id.Site] == nil {
			continue // the site was taken out of the settings; its record stays
		}
		if state.Trial != nil && state.Applied == "" && state.Rollout == 0 {
			continue // it came and went with a branch
		}
		b := newLoop(e, id)
		state.Change = b.state.Change
		b.state = state
		if state.Rollout != 0 {
			if err := b.resume(); err != nil {
				return fmt.Errorf("go on with %s: %w", id, err)
			}
		}
		e.berths[id] = b
	}
	return nil
}

// Run works until ctx ends, and returns nil then. The loops have joined the clock since New, so that it does not run
// ahead before they do.
func (e *Engine) Run(ctx context.Context) error {
	defer e.prober.Close()
	defer e.scraper.Close()
	e.mu.Lock()
	e.group, e.ctx = errgroup.WithContext(ctx)
	known := slices.Collect(maps.Values(e.berths))
	links := slices.Clone(e.links)
	e.mu.Unlock()
	for _, l := range links {
		e.watch(l)
	}
	e.awaitFirst(links)
	for _, b := range known {
		e.start(b)
	}
	e.follow()
	e.group.Go(func() error { return e.keepPicture(e.ctx) })
	err := e.group.Wait()
	if errors.Is(err, context.Canceled) {
		return nil
	}
	return err
}

// follow has those sites follow what they run on that can, so that a berth is looked at as soon as something changed.
func (e *Engine) follow() {
	for site, driver := range e.drivers {
		follower, ok := driver.(target.Follower)
		if !ok {
			continue
		}
		e.group.Go(func() error {
			follower.Follow(e.ctx, func(workload target.Berth) {
				e.mu.Lock()
				b := e.berths[berth.ID{Workload: workload, Site: site}]
				e.mu.Unlock()
				if b != nil {
					b.nudge()
				}
			})
			return nil
		})
	}
}

// firstLook is how long, in real time, the berths wait for the first look at all links before they go on without it.
const firstLook = 5 * time.Second

// awaitFirst waits until all links were read once, so that no berth is judged before it is known what is declared. A slow
// one does not hold the others up for long.
func (e *Engine) awaitFirst(links []*link) {
	enough := time.NewTimer(firstLook)
	defer enough.Stop()
	for _, l := range links {
		select {
		case <-l.first:
		case <-enough.C:
			return
		case <-e.ctx.Done():
			return
		}
	}
}

// watch runs a link's loop, which has joined the clock.
func (e *Engine) watch(l *link) {
	ctx, stop := context.WithCancel(e.ctx)
	e.mu.Lock()
	l.stop = stop
	e.mu.Unlock()
	e.group.Go(func() error { return l.loop(ctx) })
}

// start runs a berth's loop, which has joined the clock.
func (e *Engine) start(b *loop) {
	e.group.Go(func() error {
		defer e.clock.Leave()
		return b.run(e.ctx)
	})
}

// The last snapshot is kept, in real time, within pictureSoon of anything new on record, and every pictureEvery anyway: more often where
// other servers show it to people.
const (
	pictureSoon  = time.Second
	pictureEvery = 20 * time.Second
	pictureShown = 3 * time.Second
	pictureRest  = 20 // times as long as keeping it took, nothing is kept after it
)

func (e *Engine) keepPicture(ctx context.Context) error {
	ticker := time.NewTicker(pictureSoon)
	defer ticker.Stop()
	var kept time.Time
	every := pictureEvery
	if e.ledger.Shared() {
		every = pictureShown
	}
	rest := pictureSoon // a large picture that takes its time is kept less often
	for {
		done := false
		select {
		case <-ctx.Done():
			done = true
		case <-ticker.C:
			if time.Since(kept) < rest || !e.unpictured.Swap(false) && time.Since(kept) < every {
				continue
			}
		}
		began := time.Now()
		s := e.Snapshot()
		e.report("ledger", e.ledger.KeepPicture(context.WithoutCancel(ctx), ledger.BoardPicture, s.Now, s))
		kept = time.Now()
		rest = max(pictureSoon/2, pictureRest*kept.Sub(began))
		if done {
			return ctx.Err()
		}
	}
}

// Changed gives a channel of one's own, until ctx ends, that has something whenever a snapshot would be new.
func (e *Engine) Changed(ctx context.Context) <-chan struct{} {
	own := make(chan struct{}, 1)
	e.hearing.Lock()
	defer e.hearing.Unlock()
	e.heard[own] = true
	context.AfterFunc(ctx, func() {
		e.hearing.Lock()
		defer e.hearing.Unlock()
		delete(e.heard, own)
	})
	return own
}

// signal tells all who follow that a snapshot would be new.
func (e *Engine) signal() {
	e.seq.Add(1)
	e.hearing.Lock()
	defer e.hearing.Unlock()
	for own := range e.heard {
		wake(own)
	}
}

// Report keeps a problem that concerns no single berth among those that are shown, or clears it.
func (e *Engine) Report(about string, err error) {
	e.report(about, err)
	e.signal()
}

// report keeps or clears a problem that concerns no single berth.
func (e *Engine) report(about string, err error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if err == nil {
		delete(e.problems, about)
		return
	}
	if e.problems[about].Text != err.Error() {
		e.problems[about] = status.Problem{About: about, Text: err.Error(), Since: e.clock.Now()}
	}
}

// Policy says who may do what.
func (e *Engine) Policy(context.Context) policy.Policy {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.policy()
}

func (e *Engine) policy() policy.Policy {
	line, _ := e.line()
	if line == nil {
		return policy.Policy{}
	}
	p := policy.Policy{Teams: line.Teams}
	for site, of := range line.Sites {
		if of.Team != "" {
			if p.Sites == nil {
				p.Sites = map[string]string{}
			}
			p.Sites[site] = of.Team
		}
	}
	return p
}

// Snapshot gives what is known now.
func (e *Engine) Snapshot() status.Snapshot {
	e.mu.Lock()
	defer e.mu.Unlock()
	s := status.Snapshot{Seq: e.seq.Load(), Line: e.settings.Line, Now: e.clock.Now()}
	order := map[string]int{}
	for i, site := range e.settings.Sites {
		s.Sites = append(s.Sites, site.Name)
		order[site.Name] = i
	}
	s.Policy = e.policy()
	s.Teams = s.Policy.Sites
	for _, l := range e.links {
		if !l.ended(s.Now) {
			s.Links = append(s.Links, l.shown)
		}
	}
	for _, b := range e.berths {
		if over := b.shown.Branch != nil && b.shown.Declared == nil && b.shown.Applied == nil && b.shown.Rollout == nil; !over { // its branch is gone, and so is it
			s.Berths = append(s.Berths, b.shown)
		}
	}
	slices.SortFunc(s.Berths, func(a, b status.Berth) int {
		return cmp.Or(cmp.Compare(a.Workload, b.Workload), cmp.Compare(order[a.Site], order[b.Site]))
	})
	for _, p := range e.problems {
		s.Problems = append(s.Problems, p)
	}
	slices.SortFunc(s.Problems, func(a, b status.Problem) int { return cmp.Compare(a.About, b.About) })
	return s
}

// Tree gives what is at a berth's site of it, and what belongs to what.
func (e *Engine) Tree(ctx context.Context, id berth.ID) ([]status.Node, error) {
	driver, ok := e.drivers[id.Site].(target.Rooted)
	if !ok {
		return nil, nil
	}
	return driver.Tree(ctx, id.Workload)
}

// Sheet gives all that a berth's site knows of one node of its tree.
func (e *Engine) Sheet(ctx context.Context, id berth.ID, node string) (status.Sheet, error) {
	driver, ok := e.drivers[id.Site].(target.Rooted)
	if !ok {
		return status.Sheet{}, fault.New(fault.ErrNotFound, "%s knows no more of it than its instances", id.Site)
	}
	return driver.Sheet(ctx, id.Workload, node)
}

// Log gives the newest lines of an instance.
func (e *Engine) Log(ctx context.Context, id berth.ID, instance string, since time.Time, most int) ([]target.LogLine, error) {
	driver := e.drivers[id.Site]
	if driver == nil {
		return nil, fault.New(fault.ErrNotFound, "there is no site %s", id.Site)
	}
	return driver.Log(ctx, id.Workload, instance, since, most)
}
