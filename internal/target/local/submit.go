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

	"aditus/internal/core/declare"
	"aditus/internal/limit"
	"aditus/internal/target/local/keeper"
	"aditus/internal/target/local/store"
	"aditus/internal/target/router"
	"aditus/internal/target/wanted"
)

// submit tells the keeper all that the site is asked to run. What cannot be told yet, because its artifact is not there,
// is noted with the reason, and told when that came.
func (s *Site) submit(ctx context.Context) error {
	s.telling.Lock()
	defer s.telling.Unlock()
	return s.tell(ctx)
}

// submitOnly tells the keeper all that a workload is asked to run, and the rest where it is not known that it was told.
func (s *Site) submitOnly(ctx context.Context, workload string) error {
	s.telling.Lock()
	defer s.telling.Unlock()
	if !s.unsubmitted() && !s.book.Partly() {
		if err := s.tell(ctx, s.concerned(workload)...); !errors.Is(err, errUntold) {
			return err
		}
	}
	return s.tell(ctx)
}

// concerned are a workload and those whose instances are told where its are.
func (s *Site) concerned(workload string) []string {
	all := []string{workload}
	for _, other := range s.book.Workloads() {
		if other == workload {
			continue
		}
		s.book.Read(other, func(cohorts map[declare.Fingerprint]*wanted.Cohort) {
			for _, c := range cohorts {
				for name := range c.Addresses {
					if of, _, _ := reaches(name); of == workload {
						all = append(all, other)
						return
					}
				}
			}
		})
	}
	return all
}

// tell tells the keeper what workloads are asked to run, or all where none is named. It is called with telling held.
func (s *Site) tell(ctx context.Context, only ...string) error {
	if s.ReadOnly {
		return fmt.Errorf("%w, and none is started just to look: start Aditus", ErrNoKeeper)
	}
	spec := keeper.Spec{Folder: filepath.Join(s.places, instancesFolder), Listen: s.Listen, Ports: s.Ports, Room: s.room(), Counts: filepath.Join(s.secrets, countsFolder), Partly: s.book.Partly(), Only: only}
	if s.contained() {
		spec.Engine = s.Engine.Address
	}
	failed, wanted := map[string]failure{}, map[string]bool{}
	for _, workload := range s.book.Workloads() {
		for _, id := range s.instances(workload) {
			wanted[id] = true
		}
		if len(only) > 0 && !slices.Contains(only, workload) {
			continue
		}
		var addressed error
		if !s.contained() { // those have names in a network of their own
			addressed = s.addressed(workload)
		}
		cohorts := s.copy(workload)
		for _, revision := range slices.Sorted(maps.Keys(cohorts)) {
			for _, in := range cohorts[revision].Instances {
				p, err := s.process(workload, cohorts[revision], in)
				if err = cmp.Or(err, addressed); err != nil { // where it runs already it runs on
					failed[in.ID], p.Stay = failure{err, store.Final(err), workload}, true
				}
				spec.Processes = append(spec.Processes, p)
			}
		}
		spec.Routes = append(append(spec.Routes, routes(workload, cohorts)...), ways(workload, cohorts, s.copy)...)
	}
	spec.Gone = s.gone()
	version, err := s.Keeper.submit(ctx, s.Name, spec)
	if errors.Is(err, errUntold) {
		return err
	}
	s.mu.Lock()
	s.behind = err != nil
	s.mu.Unlock()
	s.noteSubmitted(version, failed, only)
	if err != nil {
		return fmt.Errorf("have the keeper run what %s is asked to: %w", s.Name, err)
	}
	if !spec.Partly {
		s.tidy(wanted)
	}
	return nil
}

// process is an instance as the keeper is to run it.
func (s *Site) process(workload string, c *wanted.Cohort, in wanted.Instance) (keeper.Process, error) {
	part := c.Parts[in.Part]
	p := keeper.Process{ID: in.ID, Workload: workload, Folder: s.home(in.ID), Ports: slices.Sorted(maps.Keys(part.Ports)), Once: part.Kind == declare.Task, Stop: part.Ending(), Again: in.Again, Found: in.Found}
	for _, name := range slices.Sorted(maps.Keys(part.Probes)) {
		if probe := part.Probes[name]; probe.Tells != declare.TellsAlive && len(probe.Command) == 0 {
			p.Probes = append(p.Probes, probe)
		}
	}
	if part.Fixed {
		p.Fixed = part.Ports
	}
	if s.contained() {
		return p, s.contain(workload, c, in, &p)
	}
	unpacked, err := s.unpacked(part)
	if err != nil {
		return p, err
	}
	told := s.address(workload, in.Part, c)
	if p.Args, err = unpacked.Command(part.Command, s.machine(part)); err != nil {
		return p, err
	}
	for i, text := range p.Args {
		p.Args[i] = declare.Tell(text, told)
	}
	p.Env, err = s.ready(workload, c, in, unpacked)
	if err == nil {
		p.User, err = s.Users.of(s, workload, part)
	}
	p.Folder, p.Dir, p.Umask, p.Secrets = s.home(in.ID), part.Folder, part.Umask, filepath.Join(s.secrets, in.ID)
	for _, name := range slices.Sorted(maps.Keys(part.Volumes)) {
		p.Volumes = append(p.Volumes, s.volume(workload, name))
	}
	p.Reach = s.reach(workload, in.ID, part, unpacked)
	p.Limits = limits(part)
	for _, name := range slices.Sorted(maps.Keys(part.Files)) {
		p.Files = append(p.Files, keeper.File{At: within(name), Text: declare.Tell(part.Files[name].Text, told), Mode: part.Files[name].Mode})
	}
	return p, err
}

// limits are the most that an instance may have of the machine.
func limits(part declare.Part) *limit.Limits {
	l := keeper.DefaultLimits
	if part.Resources != nil {
		most := part.Resources.Limits
		l = limit.Limits{CPU: most.CPU, Memory: most.Memory, Processes: cmp.Or(most.Processes, l.Processes)}
	}
	return &l
}

// unpacked is a part's artifact; nothing where it runs a program of the machine.
func (s *Site) unpacked(part declare.Part) (store.Unpacked, error) {
	if part.Artifact == "" {
		return store.Unpacked{}, nil
	}
	return s.Store.Get(part.Artifact)
}

// machine are the programs of the machine that a part may run.
func (s *Site) machine(part declare.Part) store.Machine {
	return store.Machine{Folders: s.Programs, Path: part.Environment["PATH"]}
}

// laid is where a declared file of an instance is: in memory where there is a file system there, as secrets may be in it.
func (s *Site) laid(id, name string) string {
	return filepath.Join(s.secrets, id, filesFolder, within(name))
}

// routes are a workload's routes, as the cohorts declare them: where they differ, the one with the most traffic says how
// it is led.
func routes(workload string, cohorts map[declare.Fingerprint]*wanted.Cohort) []keeper.Route {
	order := slices.SortedFunc(maps.Keys(cohorts), func(a, b declare.Fingerprint) int {
		switch x, y := cohorts[a].Share, cohorts[b].Share; {
		case x > y || x == y && a < b:
			return -1
		case x < y || a > b:
			return 1
		}
		return 0
	})
	leading := map[string]declare.Part{}
	for _, revision := range slices.Backward(order) {
		for name, part := range cohorts[revision].Parts {
			if part.Kind == declare.Route && part.To != nil {
				leading[name] = part
			}
		}
	}
	var all []keeper.Route
	for _, name := range slices.Sorted(maps.Keys(leading)) {
		part := leading[name]
		r := keeper.Route{Workload: workload, Port: part.To.Port, Route: router.Route{Name: workload + "/" + name, Host: part.Host, Preview: part.Preview, TCP: part.TCP, Path: part.To.Path}}
		if part.PreviewBy != nil {
			r.By = &router.Header{Name: part.PreviewBy.Name, Value: part.PreviewBy.Value}
		}
		if part.Sticky != nil {
			r.Cookie, r.Header = part.Sticky.Cookie, part.Sticky.Header
		}
		for _, revision := range newestFirst(cohorts) {
			c := cohorts[revision]
			own := router.Cohort{Name: string(revision), Share: c.Share, Preview: c.Preview, WarmUp: c.WarmUp}
			for _, in := range c.Instances {
				if in.Part == part.Service {
					own.Instances = append(own.Instances, router.Instance{ID: in.ID})
				}
			}
			if wanted.OfBoth(cohorts, part.Service) { // they are of both cohorts, and have all that comes for either
				own.Share, own.Preview = 0, false
				if len(own.Instances) > 0 {
					own.Share, own.Preview, own.WarmUp = 1, true, 0
				}
			}
			r.Cohorts = append(r.Cohorts, own)
		}
		all = append(all, r)
	}
	return all
}

// newestFirst orders cohorts so that a visitor's place stays with new while its share rises: the one whose instances
// were asked for last comes first.
func newestFirst(cohorts map[declare.Fingerprint]*wanted.Cohort) []declare.Fingerprint {
	newest := func(c *wanted.Cohort) (at int64) {
		for _, in := range c.Instances {
			at = max(at, in.Created.UnixNano())
		}
		return at
	}
	return slices.SortedFunc(maps.Keys(cohorts), func(a, b declare.Fingerprint) int {
		switch x, y := newest(cohorts[a]), newest(cohorts[b]); {
		case x > y || x == y && a < b:
			return -1
		case x < y || a > b:
			return 1
		}
		return 0
	})
}

// tidy removes the folders of instances that are gone. The keeper takes its record out of one once nothing runs there.
func (s *Site) tidy(wanted map[string]bool) {
	for _, at := range []string{filepath.Join(s.places, instancesFolder), s.room()} {
		entries, _ := os.ReadDir(at)
		for _, entry := range entries {
			if wanted[entry.Name()] || strings.HasPrefix(entry.Name(), keeper.GonePrefix) {
				continue
			}
			if _, err := os.Stat(filepath.Join(at, entry.Name(), keeper.RecordFile)); errors.Is(err, os.ErrNotExist) {
				s.remove(filepath.Join(at, entry.Name()))
				s.remove(filepath.Join(s.secrets, entry.Name()))
			}
		}
	}
}
