// Package sim is a stand-in for sites: a seeded, deterministic model of instances and of the traffic they answer,
// served over real HTTP on loopback. What is asked of it is kept in a file, so that it outlives the program as a real
// site would. It is for demonstrations and tests; it runs nothing.
package sim

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/disk"
	"aditus/internal/target"
	"aditus/internal/target/wanted"
)

// Site is one stand-in site. It implements target.Driver.
type Site struct {
	name      string
	folder    string // where its state is kept; empty for nowhere
	behaviour Behaviour
	now       func() time.Time
	book      *wanted.Book

	mu          sync.Mutex
	instances   map[string]map[string]*instance // by workload and ID: what is asked for, and runs
	unreachable bool
}

var (
	_ target.Driver     = (*Site)(nil)
	_ target.Rememberer = (*Site)(nil)
)

// Open makes a site and brings back what was there when the program ended. folder is where its state is kept; empty
// for nowhere.
func Open(name, folder string, behaviour Behaviour, now func() time.Time) (*Site, error) {
	s := &Site{name: name, folder: folder, behaviour: behaviour, now: now, instances: map[string]map[string]*instance{}}
	at, whole := "", ""
	if folder != "" {
		at, whole = filepath.Join(folder, name), filepath.Join(folder, name+".json")
	}
	var err error
	if s.book, err = wanted.Open(name, at, whole, disk.Machine); err != nil {
		return nil, err
	}
	for _, workload := range s.book.Workloads() {
		if err := s.settle(workload); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// Close stops all instances. What the site should run stays on file.
func (s *Site) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, all := range s.instances {
		for _, in := range all {
			in.stop()
		}
	}
}

// SetReachable makes the site answer, or not.
func (s *Site) SetReachable(reachable bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.unreachable = !reachable
}

// Together does many things and keeps the state on file once, at their end.
func (s *Site) Together(do func() error) error { return s.book.Together(do) }

func (s *Site) lock() error {
	s.mu.Lock()
	if s.unreachable {
		s.mu.Unlock()
		return fmt.Errorf("%s: %w", s.name, target.ErrUnreachable)
	}
	return nil
}

// do asks for something of a workload, and makes it so.
func (s *Site) do(workload string, ask func() error) error {
	if err := s.lock(); err != nil {
		return err
	}
	defer s.mu.Unlock()
	s.advance(workload, s.now())
	return errors.Join(ask(), s.settle(workload))
}

// settle starts the instances of a workload that are asked for and do not run, and stops those that are not asked for.
func (s *Site) settle(workload string) (err error) {
	running, wanted := s.instances[workload], map[string]bool{}
	if running == nil {
		running = map[string]*instance{}
		s.instances[workload] = running
	}
	for _, c := range s.cohorts(workload) {
		for _, one := range c.Instances {
			wanted[one.ID] = true
			in := running[one.ID]
			if in == nil {
				artifact, exists := s.behaviour.artifact(c.Parts[one.Part].Artifact)
				in = &instance{site: s, workload: workload, Instance: one, cohort: c, at: s.now(), artifact: artifact, exists: exists}
				running[one.ID] = in
				err = errors.Join(err, in.start())
			}
			in.cohort, in.Instance = c, one
		}
	}
	for id, in := range running {
		if !wanted[id] {
			in.stop()
			delete(running, id)
		}
	}
	return err
}

// cohorts are a workload's cohorts as they are asked for, by revision. All that reads or changes them holds the lock.
func (s *Site) cohorts(workload string) (all map[declare.Fingerprint]*wanted.Cohort) {
	s.book.Read(workload, func(cohorts map[declare.Fingerprint]*wanted.Cohort) { all = cohorts })
	return all
}

// Observe implements target.Driver.
func (s *Site) Observe(_ context.Context, workload string) (target.Observation, error) {
	if err := s.lock(); err != nil {
		return target.Observation{}, err
	}
	defer s.mu.Unlock()
	if err := s.takeHands(); err != nil {
		return target.Observation{}, err
	}
	now := s.now()
	o := target.Observation{Whole: s.whole(), Step: s.book.Step(workload), TakesOver: true}
	cohorts := s.cohorts(workload)
	for _, revision := range slices.Sorted(maps.Keys(cohorts)) {
		c := cohorts[revision]
		seen := target.Cohort{Revision: revision, Share: s.traffic(workload, c, now), Preview: c.Preview, Live: compare.Live{}}
		for name, part := range c.Parts {
			seen.Live[name] = compare.Show(part)
		}
		for _, one := range c.Instances {
			seen.Instances = append(seen.Instances, s.instances[workload][one.ID].observe(now))
		}
		o.Cohorts = append(o.Cohorts, seen)
	}
	return o, nil
}

// Remembered implements target.Rememberer.
func (s *Site) Remembered(workload string, revision declare.Fingerprint) *berth.Revision {
	return s.book.Remembered(workload, revision)
}

// Remembers implements target.Rememberer.
func (s *Site) Remembers() []target.Berth { return s.book.Workloads() }

// whole tells whether the site cannot split traffic.
func (s *Site) whole() bool { return s.behaviour.Sites[s.name].Whole }

func (in *instance) observe(now time.Time) target.Instance {
	seen := target.Instance{ID: in.ID, Part: in.Part, Started: in.started(now), Restarts: in.crashes(now), Environment: in.Environment, Events: in.events(now)}
	if !in.exists {
		seen.CannotStart = fmt.Sprintf("there is no artifact %s", shortName(in.cohort.Parts[in.Part].Artifact))
		return seen
	}
	if in.task() {
		seen.Done, seen.Failed = in.ended(now)
		return seen
	}
	if in.down(now) {
		fault, _ := in.crash()
		seen.Reason, seen.Again = "exited with status 1", in.started(now).Add(fault.After+downtime)
	}
	seen.Address, seen.Ports = "127.0.0.1", map[string]int{}
	for name := range in.cohort.Parts[in.Part].Ports {
		seen.Ports[name] = in.port
	}
	return seen
}

// shortName is an OCI reference without its registry.
func shortName(reference string) string {
	_, name, _ := strings.Cut(reference, "/")
	return name
}

// Apply implements target.Driver.
func (s *Site) Apply(_ context.Context, workload string, wants []target.Want) error {
	return s.do(workload, func() error { return s.apply(workload, wants...) })
}

func (s *Site) splits(map[declare.Fingerprint]*wanted.Cohort) bool { return !s.whole() }

// Restart implements target.Driver.
func (s *Site) Restart(_ context.Context, workload, id string) error {
	return s.do(workload, func() error { return s.book.Restart(workload, id, s.now()) })
}

// traffic is the share that a cohort has: the one that was set, or what its instances make where the site cannot split.
func (s *Site) traffic(workload string, c *wanted.Cohort, now time.Time) float64 {
	if !s.whole() {
		return c.Share
	}
	own, all := 0, 0
	for _, in := range s.instances[workload] {
		if !in.task() && in.up(now) && !in.down(now) && !wanted.OfBoth(s.cohorts(workload), in.Part) {
			all++
			if in.cohort == c {
				own++
			}
		}
	}
	if all == 0 {
		return c.Share
	}
	return float64(own) / float64(all)
}

// advance brings the model of a workload up to now.
func (s *Site) advance(workload string, now time.Time) {
	type group struct {
		cohort *wanted.Cohort
		part   string
	}
	serving := map[group]int{}
	for _, in := range s.instances[workload] {
		if in.up(now) && !in.down(now) {
			serving[group{in.cohort, in.Part}]++
		}
	}
	for _, in := range s.instances[workload] { // each has a chance of its own, so that their order is of no matter
		in.advance(now, func(at time.Time) float64 {
			share := s.traffic(workload, in.cohort, at)
			if wanted.OfBoth(s.cohorts(workload), in.Part) { // all of them answer for both
				share = 1
			}
			return s.requests(workload, at) * share / float64(max(1, serving[group{in.cohort, in.Part}]))
		})
	}
}

// requests is how many requests per second come in for a workload: a daily swing and a noise that changes every ten
// seconds, the same for all its instances.
func (s *Site) requests(workload string, at time.Time) float64 {
	load, listed := s.behaviour.Workloads[workload]
	if !listed {
		load = s.behaviour.Workloads["*"]
	}
	at = at.UTC()
	hour := float64(at.Hour()) + float64(at.Minute())/60
	daily := 1 + load.Swing*math.Cos((hour-load.Peak)/24*2*math.Pi)
	chance := s.behaviour.seedOf(s.name, workload, at.Truncate(10*time.Second).Format(time.RFC3339))
	noise := 0.92 + 0.16*float64(chance%1000)/1000
	factor := s.behaviour.Sites[s.name].Factor
	return load.Requests * daily * noise * cmp.Or(factor, 1)
}
