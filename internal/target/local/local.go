// Package local is a site of real processes on this machine: instances kept by a keeper, traffic led to them by its
// router, artifacts unpacked in a store. It implements target.Driver. Instances reach what is theirs alone, and run as the user
// who runs Aditus, or each workload as one of its own.
package local

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/rollout"
	"aditus/internal/disk"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/target/local/keeper"
	"aditus/internal/target/local/store"
	"aditus/internal/target/wanted"
)

// Options say what a site stands on.
type Options struct {
	Name     string
	Folder   string   // the data folder
	Listen   string   // where HTTP traffic comes in; empty for nowhere
	Programs []string // folders of programs of the machine that may be run
	Reach    []string // folders of the machine that instances may use beside their own; "/" for all
	Ports    [2]int   // the first and the last that instances are given
	Store    *store.Store
	Keeper   *Client
	Users    *Users                              // whom workloads run as; nil for the user who runs Aditus
	Open     func(sealed string) (string, error) // opens a secret's value; nil where there are none
	Mark     func(plain string) string           // the fingerprint of a secret's value; nil where there are none
	ReadOnly bool                                // it is only looked at: no keeper is started for it, or told anything
	Engine   *Engine                             // that instances are containers of; nil for processes of the machine
	As       func(time.Time) time.Time           // what the engine's clock calls a moment of the machine's; nil where it is the same
}

// Site is one site on this machine. Make it with Open.
type Site struct {
	Options
	book    *wanted.Book
	folder  string
	places  string // the folder of its instances and volumes
	secrets string // on a file system in memory where there is one

	cache    cache
	telling  sync.Mutex // one telling of the keeper at a time
	pledging sync.Mutex // one change of what is pledged at a time
	mu       sync.Mutex
	failed   map[string]failure // instances that are not with the keeper, and why
	behind   bool               // more is asked for than the keeper was told
	held     bool               // much is asked for, and it is told later
}

var (
	_ target.Driver     = (*Site)(nil)
	_ target.Follower   = (*Site)(nil)
	_ target.Rememberer = (*Site)(nil)
)

type failure struct {
	err      error
	final    bool
	workload string
}

// Open opens a site and has the keeper run what it was asked to run before.
func Open(o Options) (*Site, error) {
	s := &Site{Options: o, folder: filepath.Join(o.Folder, sitesFolder, o.Name), failed: map[string]failure{}}
	if s.places = s.folder; o.Users != nil {
		s.places = o.Users.places(o.Name)
	}
	s.secrets = secretsOf(o.Folder, o.Name, s.places)
	err := os.MkdirAll(s.folder, 0o700)
	if err == nil && !o.ReadOnly {
		err = errors.Join(s.settle(), s.makeFolder(filepath.Join(s.places, instancesFolder)), ownFolder(s.secrets, o.Users != nil))
	}
	if err != nil {
		return nil, fmt.Errorf("open the site %s: %w", o.Name, err)
	}
	if s.book, err = wanted.Open(o.Name, filepath.Join(s.folder, "asked"), filepath.Join(s.folder, "asked.json"), disk.Machine); err != nil {
		return nil, err
	}
	if o.Users != nil {
		o.Users.use(s)
	}
	use := func(user string, references func() []string, ready func()) { o.Store.Use(user, references, ready) }
	if s.contained() {
		use = o.Engine.Images.Use
	}
	use(o.Name, s.references, func() { s.submit(context.Background()) }) // where it fails, the next look tells why
	return s, nil
}

// references are all artifacts that the site is asked to have.
func (s *Site) references() (all []string) {
	for _, workload := range s.book.Workloads() {
		s.book.Read(workload, func(cohorts map[declare.Fingerprint]*wanted.Cohort) {
			for _, c := range cohorts {
				for _, part := range c.Parts {
					if part.Artifact != "" {
						all = append(all, part.Artifact)
					}
				}
			}
		})
	}
	return all
}

// Observe implements target.Driver.
func (s *Site) Observe(ctx context.Context, workload string) (target.Observation, error) {
	var o target.Observation
	if err := s.book.Spoilt(workload); err != nil {
		return o, err
	}
	cohorts := s.copy(workload)
	o.Step, o.TakesOver, o.Told = s.book.Step(workload), true, s.toldOf(workload)
	status, err := s.status(ctx)
	if err != nil {
		return o, err
	}
	if status.Silent != "" {
		return o, fmt.Errorf("%s: %w: %s", s.Name, target.ErrUnreachable, status.Silent)
	}
	o.Whole, o.Trouble = len(cohorts) > 0 && !routed(cohorts), status.Troubles.Of(workload+"/")
	for _, revision := range slices.Sorted(maps.Keys(cohorts)) {
		c := cohorts[revision]
		seen := target.Cohort{Revision: revision, Share: c.Share, Preview: c.Preview, Live: compare.Live{}}
		for name, part := range c.Parts {
			seen.Live[name] = s.live(workload, c, name, part, status.Processes)
		}
		for _, in := range c.Instances {
			if status.Processes[in.ID].NoImage && s.contained() && !s.ReadOnly {
				s.bringAnew(c.Parts[in.Part].Artifact)
			}
			seen.Instances = append(seen.Instances, s.show(in, c.Parts[in.Part], status.Processes[in.ID]))
		}
		o.Cohorts = append(o.Cohorts, seen)
	}
	if o.Whole {
		byInstances(o.Cohorts, cohorts)
	}
	return o, nil
}

// Remembered implements target.Rememberer.
func (s *Site) Remembered(workload string, revision declare.Fingerprint) *berth.Revision {
	return s.book.Remembered(workload, revision)
}

// Remembers implements target.Rememberer.
func (s *Site) Remembers() []target.Berth { return s.book.Workloads() }

// show is an instance as the engine sees it.
func (s *Site) show(in wanted.Instance, part declare.Part, now keeper.State) target.Instance {
	seen := target.Instance{
		ID: in.ID, Part: in.Part, Started: s.as(now.Started), Again: s.as(now.Again), Reason: now.Reason, Done: now.Done, Failed: now.Failed,
		Environment: in.Environment, Cores: now.Cores, Memory: now.Memory,
	}
	created := s.as(in.Created)
	if seen.Started.IsZero() {
		seen.Started = created
	}
	for _, at := range now.Restarts {
		seen.Restarts = append(seen.Restarts, s.as(at))
	}
	if seen.Found = now.Found; in.Found == nil {
		seen.Events = append(seen.Events, status.Event{At: created, Text: "created from " + cmp.Or(part.Artifact, strings.Join(part.Command, " "))})
	}
	for _, e := range now.Events {
		seen.Events = append(seen.Events, status.Event{At: s.as(e.At), Text: e.Text, Bad: e.Bad})
	}
	s.mu.Lock()
	failed, isFailed := s.failed[in.ID]
	s.mu.Unlock()
	switch {
	case now.Running:
		if seen.Address, seen.Ports = keeper.Host, now.Ports; !now.Led {
			seen.Waits = "its probes have not passed yet where traffic is led to it"
		}
		if seen.Ails = now.Ails; seen.Ails != "" {
			seen.Waits = ""
		}
	case isFailed && failed.final:
		seen.CannotStart = failed.err.Error()
		seen.Events = append(seen.Events, status.Event{At: created, Text: "cannot start: " + seen.CannotStart, Bad: true})
	case isFailed:
		seen.Reason = failed.err.Error()
	}
	return seen
}

// as is what the engine's clock calls a moment of the machine's.
func (s *Site) as(at time.Time) time.Time {
	if s.As == nil || at.IsZero() {
		return at
	}
	return s.As(at)
}

// routed tells whether traffic is led to a workload by routes, which can split it.
func routed(cohorts map[declare.Fingerprint]*wanted.Cohort) bool {
	for _, c := range cohorts {
		for _, part := range c.Parts {
			if part.Kind == declare.Route {
				return true
			}
		}
	}
	return false
}

// byInstances gives cohorts the shares that their running instances make, where no route splits the traffic.
func byInstances(seen []target.Cohort, cohorts map[declare.Fingerprint]*wanted.Cohort) {
	up, all := make([]int, len(seen)), 0
	for i, c := range seen {
		for _, in := range c.Instances {
			if in.Address != "" && cohorts[c.Revision].Parts[in.Part].Kind == declare.Service && !wanted.OfBoth(cohorts, in.Part) {
				up[i]++
				all++
			}
		}
	}
	for i := range seen {
		if all > 0 {
			seen[i].Share = float64(up[i]) / float64(all)
		}
	}
}

// copy gives what is asked of a workload, as a value.
func (s *Site) copy(workload string) map[declare.Fingerprint]*wanted.Cohort {
	out := map[declare.Fingerprint]*wanted.Cohort{}
	s.book.Read(workload, func(cohorts map[declare.Fingerprint]*wanted.Cohort) {
		for revision, c := range cohorts {
			own := *c
			own.Parts, own.Instances = maps.Clone(c.Parts), slices.Clone(c.Instances)
			out[revision] = &own
		}
	})
	return out
}

// do has the keeper do what was just asked for of a workload.
func (s *Site) do(ctx context.Context, workload string) error {
	s.mu.Lock()
	held := s.held
	s.mu.Unlock()
	if held {
		return nil
	}
	return s.submitOnly(ctx, workload)
}

// Together asks for many things of which the keeper is told at once, when the site is looked at next.
func (s *Site) Together(do func() error) error {
	set := func(held bool) {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.held, s.behind = held, true
	}
	set(true)
	defer set(false)
	return s.book.Together(do)
}

// unsubmitted tells whether more is asked for than the keeper was told.
func (s *Site) unsubmitted() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.behind
}

// Apply implements target.Driver. What can be asked for is, and the keeper is told once.
func (s *Site) Apply(ctx context.Context, workload string, wants []target.Want) error {
	var failed []error
	var possible []target.Want
	volumes := map[string]bool{} // to be removed
	before := s.copy(workload)
	for _, w := range wants {
		if w.Do == rollout.Prepare {
			if err := s.clash(workload, *w.Desired); err != nil {
				failed = append(failed, err)
				continue
			}
			for _, part := range w.Desired.Parts {
				switch { // it comes while the rest is prepared
				case part.Artifact == "":
				case s.contained():
					s.Engine.Images.Get(part.Artifact)
				default:
					s.Store.Get(part.Artifact)
				}
			}
		}
		if c := before[w.Revision]; w.Do == rollout.RemovePart && c != nil && c.Parts[w.Part].Kind == declare.Volume {
			volumes[w.Part] = true
		}
		possible = append(possible, w)
	}
	possible, left := s.leave(ctx, workload, before, possible)
	failed = append(failed, left, s.book.Apply(workload, s.withFound(workload, possible), routed, time.Now()), s.redeemed())
	after := s.copy(workload)
	for _, w := range possible {
		if c := after[w.Revision]; w.Do == rollout.Prepare && c != nil {
			failed = append(failed, s.putBack(ctx, workload, c))
		}
	}
	told := s.do(ctx, workload)
	if told == nil {
		for part := range volumes {
			if err := s.removeVolume(ctx, workload, part); err != nil {
				failed = append(failed, fmt.Errorf("remove the volume %s of %s at %s: %w", part, workload, s.Name, err))
			}
		}
	}
	return errors.Join(append(failed, told)...)
}

// removeVolume takes a volume away, with all that it holds.
func (s *Site) removeVolume(ctx context.Context, workload, part string) error {
	if s.contained() {
		return s.Engine.Host.RemoveVolume(ctx, s.own(workload, part))
	}
	return s.remove(s.volume(workload, part))
}

// Restart implements target.Driver.
func (s *Site) Restart(ctx context.Context, workload, instance string) error {
	if err := s.book.Restart(workload, instance, time.Now()); err != nil {
		return err
	}
	return s.do(ctx, workload)
}

// clash refuses routes that another workload has already.
func (s *Site) clash(workload string, desired declare.Desired) (refused error) {
	for _, other := range s.book.Workloads() {
		if other == workload {
			continue
		}
		s.book.Read(other, func(cohorts map[declare.Fingerprint]*wanted.Cohort) {
			for _, c := range cohorts {
				if own, name := takes(desired.Parts, c.Parts); own != "" {
					refused = fmt.Errorf("prepare %s at %s: its route %s takes the same traffic as %s of %s: give it another host, or another tcp port", workload, s.Name, own, name, other)
				}
			}
		})
	}
	return refused
}

// takes finds a route among parts that claims what one among others does; empty where there is none.
func takes(parts, others map[string]declare.Part) (own, other string) {
	has := map[string]string{}
	for name, part := range others {
		for _, claim := range part.Claims() {
			has[claim.What] = name
		}
	}
	for name, part := range parts {
		for _, claim := range part.Claims() {
			if other := has[claim.What]; other != "" {
				return name, other
			}
		}
	}
	return "", ""
}
