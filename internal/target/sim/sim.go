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
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/target"
)

// Site is one stand-in site. It implements target.Driver.
type Site struct {
	name      string
	file      string // where its state is kept; empty for nowhere
	behaviour Behaviour
	now       func() time.Time

	mu          sync.Mutex
	workloads   map[string]map[declare.Fingerprint]*cohort
	unreachable bool
	together    bool // many things are done before the state is kept
}

var _ target.Driver = (*Site)(nil)

type cohort struct {
	share     float64
	preview   bool
	parts     map[string]declare.Part
	instances []*instance
	next      map[string]int
}

// Open makes a site and brings back what was there when the program ended. folder is where its state is kept; empty
// for nowhere.
func Open(name, folder string, behaviour Behaviour, now func() time.Time) (*Site, error) {
	s := &Site{name: name, behaviour: behaviour, now: now, workloads: map[string]map[declare.Fingerprint]*cohort{}}
	if folder == "" {
		return s, nil
	}
	s.file = filepath.Join(folder, name+".json")
	text, err := os.ReadFile(s.file)
	if errors.Is(err, os.ErrNotExist) {
		return s, nil
	}
	if err == nil {
		err = s.restore(text)
	}
	if err != nil {
		return nil, fmt.Errorf("bring back the stand-in site %s from %s: %w", name, s.file, err)
	}
	return s, nil
}

// Close stops all instances. What the site should run stays on file.
func (s *Site) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, cohorts := range s.workloads {
		for _, c := range cohorts {
			for _, in := range c.instances {
				in.stop()
			}
		}
	}
}

// SetReachable makes the site answer, or not.
func (s *Site) SetReachable(reachable bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.unreachable = !reachable
}

func (s *Site) lock() error {
	s.mu.Lock()
	if s.unreachable {
		s.mu.Unlock()
		return fmt.Errorf("%s: %w", s.name, target.ErrUnreachable)
	}
	return nil
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
	o := target.Observation{Whole: s.behaviour.Sites[s.name].Whole}
	for _, revision := range slices.Sorted(maps.Keys(s.workloads[workload])) {
		c := s.workloads[workload][revision]
		seen := target.Cohort{Revision: revision, Share: s.traffic(workload, c, now), Preview: c.preview, Live: c.live()}
		for _, in := range c.instances {
			seen.Instances = append(seen.Instances, in.observe(now))
		}
		o.Cohorts = append(o.Cohorts, seen)
	}
	return o, nil
}

func (in *instance) observe(now time.Time) target.Instance {
	seen := target.Instance{ID: in.id, Part: in.part, Started: in.started(now), Restarts: in.crashes(now), Environment: in.environment, Events: in.events(now)}
	if !in.exists {
		seen.CannotStart = fmt.Sprintf("there is no artifact %s", shortName(in.cohort.parts[in.part].Artifact))
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
	for name := range in.cohort.parts[in.part].Ports {
		seen.Ports[name] = in.port
	}
	return seen
}

// shortName is an OCI reference without its registry.
func shortName(reference string) string {
	_, name, _ := strings.Cut(reference, "/")
	return name
}

// live is what the cohort really is, in the form of a declaration.
func (c *cohort) live() compare.Live {
	live := compare.Live{}
	for name, part := range c.parts {
		live[name] = compare.Show(part)
	}
	return live
}

// Lay implements target.Driver.
func (s *Site) Lay(_ context.Context, workload string, revision declare.Fingerprint, desired declare.Desired) error {
	if err := s.lock(); err != nil {
		return err
	}
	defer s.mu.Unlock()
	cohorts := s.workloads[workload]
	if cohorts == nil {
		cohorts = map[declare.Fingerprint]*cohort{}
		s.workloads[workload] = cohorts
	}
	c := cohorts[revision]
	if c == nil {
		c = &cohort{parts: map[string]declare.Part{}, next: map[string]int{}}
		cohorts[revision] = c
	}
	for name, part := range desired.Parts {
		part.Instances = c.parts[name].Instances
		c.parts[name] = part
	}
	return s.save()
}

// Scale implements target.Driver.
func (s *Site) Scale(_ context.Context, workload string, revision declare.Fingerprint, part string, instances int, first []string) error {
	if err := s.lock(); err != nil {
		return err
	}
	defer s.mu.Unlock()
	c := s.workloads[workload][revision]
	if c == nil {
		return fmt.Errorf("scale %s at %s: revision %s was not laid down", workload, s.name, revision.Short())
	}
	if _, ok := c.parts[part]; !ok {
		return fmt.Errorf("scale %s at %s: revision %s has no part %s", workload, s.name, revision.Short(), part)
	}
	return errors.Join(s.resize(workload, revision, c, part, instances, first), s.save())
}

func (s *Site) resize(workload string, revision declare.Fingerprint, c *cohort, part string, want int, first []string) error {
	s.advance(workload, s.now())
	live := c.parts[part]
	live.Instances = want
	c.parts[part] = live
	have := 0
	slices.SortStableFunc(c.instances, func(a, b *instance) int { // those to go first stand last
		switch x, y := slices.Contains(first, a.id), slices.Contains(first, b.id); {
		case x == y:
			return 0
		case x:
			return 1
		}
		return -1
	})
	c.instances = slices.DeleteFunc(c.instances, func(in *instance) bool {
		if in.part != part {
			return false
		}
		have++
		if have > want {
			in.stop()
			return true
		}
		return false
	})
	for ; have < want; have++ {
		c.next[part]++
		in := s.instance(workload, c, part, fmt.Sprintf("%s-%s-%s-%d", workload, part, revision.Short(), c.next[part]), s.now())
		if err := in.start(); err != nil {
			return err
		}
		in.rise(0, c.share, s.now())
		c.instances = append(c.instances, in)
	}
	return nil
}

func (s *Site) instance(workload string, c *cohort, part, id string, created time.Time) *instance {
	artifact, exists := s.behaviour.artifact(c.parts[part].Artifact)
	return &instance{
		site: s, workload: workload, cohort: c, part: part, id: id, created: created, at: s.now(), artifact: artifact, exists: exists,
		environment: maps.Clone(c.parts[part].Environment),
	}
}

// SetShare implements target.Driver.
func (s *Site) SetShare(_ context.Context, workload string, revision declare.Fingerprint, share float64, rest declare.Fingerprint) error {
	if err := s.lock(); err != nil {
		return err
	}
	defer s.mu.Unlock()
	if math.IsNaN(share) || share < 0 || share > 1 {
		return fmt.Errorf("set the share of %s at %s: %v is not from 0 to 1", workload, s.name, share)
	}
	for name, want := range map[declare.Fingerprint]bool{revision: share > 0, rest: rest != "" && share < 1} {
		if want && s.workloads[workload][name] == nil {
			return fmt.Errorf("set the share of %s at %s: revision %s is not there", workload, s.name, name.Short())
		}
	}
	if s.behaviour.Sites[s.name].Whole && share > 0 && share < 1 {
		return fmt.Errorf("set the share of %s at %s: the site cannot split traffic", workload, s.name)
	}
	now := s.now()
	s.advance(workload, now)
	for name, c := range s.workloads[workload] {
		before := c.share
		switch name {
		case revision:
			c.share = share
		case rest:
			c.share = 1 - share
		default:
			c.share = 0
		}
		for _, in := range c.instances {
			in.rise(before, c.share, now)
		}
	}
	return s.save()
}

// traffic is the share that a cohort has: the one that was set, or what its instances make where the site cannot split.
func (s *Site) traffic(workload string, c *cohort, now time.Time) float64 {
	if !s.behaviour.Sites[s.name].Whole {
		return c.share
	}
	own, all := 0, 0
	for _, other := range s.workloads[workload] {
		for _, in := range other.instances {
			if !in.task() && in.up(now) && !in.down(now) {
				all++
				if other == c {
					own++
				}
			}
		}
	}
	if all == 0 {
		return c.share
	}
	return float64(own) / float64(all)
}

// rise notes when the share of traffic rose above a fault's bound.
func (in *instance) rise(before, share float64, now time.Time) {
	for _, fault := range in.artifact.Faults {
		if fault.Above > 0 && before <= fault.Above && share > fault.Above {
			in.over = now
		}
	}
}

// advance brings the model of a workload up to now.
func (s *Site) advance(workload string, now time.Time) {
	for _, c := range s.workloads[workload] {
		byPart := map[string][]*instance{}
		for _, in := range c.instances {
			byPart[in.part] = append(byPart[in.part], in)
		}
		for _, part := range slices.Sorted(maps.Keys(byPart)) {
			serving := 0
			for _, in := range byPart[part] {
				if in.up(now) && !in.down(now) {
					serving++
				}
			}
			for _, in := range byPart[part] {
				in.advance(now, func(at time.Time) float64 {
					return s.requests(workload, at) * s.traffic(workload, c, at) / float64(max(1, serving))
				})
			}
		}
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
