package control

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"reflect"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"
	"golang.org/x/sync/errgroup"

	"aditus/internal/config"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/core/policy"
	"aditus/internal/source"
	"aditus/internal/target"
	"aditus/internal/words"
)

// Asked is a repository, or a bundle in a registry, that is looked at before it becomes a link, with what was decided so far.
type Asked struct {
	Repository string             `json:"repository"`
	Branch     string             `json:"branch,omitempty"`  // main, or the only one, where it is left out
	Version    string             `json:"version,omitempty"` // of a bundle
	Plain      bool               `json:"plain,omitempty"`   // of a bundle: the registry speaks http
	Credential *source.Credential `json:"credential,omitempty"`

	Folder    string            `json:"folder,omitempty"`    // that is to be taken; the first with something to run where it is left out
	Workload  string            `json:"workload,omitempty"`  // of a folder that has only objects of a cluster's API: the one that they are
	Sites     []string          `json:"sites,omitempty"`     // and where it runs
	Variables map[string]string `json:"variables,omitempty"` // of a bundle: other values than its own
	Targets   map[string]string `json:"targets,omitempty"`   // what new sites are to run on, by their names: KIND, KIND=WHERE or fields, as in the settings; what stands first where it is left out
}

// Offer is what a repository offers.
type Offer struct {
	Where    string              `json:"where"`              // the address, without what is secret in it
	Took     time.Duration       `json:"took"`               // until it had answered, in nanoseconds
	Branches []string            `json:"branches,omitempty"` // none of a bundle
	Branch   string              `json:"branch,omitempty"`   // that was looked at
	Head     source.Commit       `json:"head"`
	Folders  []source.Found      `json:"folders"`           // that have something to run
	Folder   string              `json:"folder,omitempty"`  // of them, that the rest is about
	Targets  map[string][]Target `json:"targets,omitempty"` // what a site can run on, by the names of sites that are not in the settings yet; one of them is chosen

	Berths   []Foreseen     `json:"berths,omitempty"`   // what would be where
	Wrong    []string       `json:"wrong,omitempty"`    // for which none of it would be taken, with the place
	Warnings []string       `json:"warnings,omitempty"` // what is doubtful, with the place
	May      map[string]any `json:"may,omitempty"`      // what the link has to be allowed, where there are others
	Narrowed []string       `json:"narrowed,omitempty"` // links that may declare everything as long as they are the only one, and what they declare now once there is this one
}

// Foreseen is what a workload would be at a site.
type Foreseen struct {
	Workload string   `json:"workload"`
	Site     string   `json:"site"`
	Version  string   `json:"version,omitempty"`
	Parts    []string `json:"parts"`             // in words, in the order in which they come up
	Told     []string `json:"told,omitempty"`    // what the site has of it already, and would make otherwise
	Refused  []string `json:"refused,omitempty"` // what it would refuse, and what it cannot do
}

// Target is what a new site can run on.
type Target struct {
	Kind  string         `json:"kind"`
	Means string         `json:"means"`           // in words
	Value map[string]any `json:"value"`           // as it stands under target: of the site
	Wrong string         `json:"wrong,omitempty"` // what is to be mended before a site can run on it

	Chosen bool `json:"chosen,omitempty"` // it is what was asked for, or the first

	made config.Target
}

// usual are names of branches that are taken first where none is given.
var usual = []string{"main", "master", "trunk"}

// looked is what a link is called while it is looked at.
const looked = "connect"

// check tells what is wrong with a link that has no name of its own yet.
func check(link config.Link) error {
	if err := link.Check(); err != nil {
		return errors.New(strings.TrimPrefix(err.Error(), "link "+looked+": "))
	}
	return nil
}

// Explore looks at what a repository offers, and changes nothing.
func (l Live) Explore(ctx context.Context, who policy.Actor, a Asked) (offer Offer, err error) {
	if err := l.settles(ctx, who); err != nil {
		return offer, err
	}
	far := who.Known != policy.ByAccount
	if far {
		if err := config.OfMachine("links", map[string]any{"repository": a.Repository}); err != nil {
			return offer, fault.New(fault.ErrForbidden, "%v", err)
		}
	}
	link := config.Link{Name: looked, Repository: a.Repository, Branch: a.Branch, Version: a.Version, Plain: a.Plain, Variables: a.Variables, Every: time.Minute}
	access := source.Access{}
	if a.Credential != nil {
		access.Credential = *a.Credential
	}
	if access.Cache, err = os.MkdirTemp("", "aditus-connect-"); err != nil {
		return offer, fmt.Errorf("make room for a look at %s: %w", link.Where(), err)
	}
	defer os.RemoveAll(access.Cache)
	began := time.Now()
	if !link.Bundle() {
		if err := check(link); a.Branch != "" && err != nil {
			return offer, err
		}
		at, err := source.Branches(ctx, link, access)
		if err != nil {
			return offer, err
		}
		offer.Branches = slices.Sorted(maps.Keys(at))
		if link.Branch == "" {
			link.Branch = firstOf(offer.Branches)
		}
		offer.Branch = link.Branch
	}
	if err := check(link); err != nil {
		return offer, err
	}
	if offer.Folders, offer.Head, err = source.Find(ctx, link, access); err != nil {
		return offer, err
	}
	offer.Where, offer.Took = link.Where(), time.Since(began)
	if len(offer.Folders) == 0 {
		return offer, nil
	}
	chosen := 0
	if a.Folder != "" {
		if chosen = slices.IndexFunc(offer.Folders, func(f source.Found) bool { return f.Folder == a.Folder }); chosen < 0 {
			return offer, fault.New(fault.ErrNotFound, "there is nothing to run in the folder %s of %s", a.Folder, offer.Where)
		}
	}
	at := offer.Folders[chosen]
	link.Folder, offer.Folder = at.Folder, at.Folder
	sites := at.Sites()
	if len(at.Workloads) == 0 {
		sites = a.Sites
	}
	if err := l.targets(ctx, far, sites, len(at.Workloads) == 0, a.Targets, &offer); err != nil {
		return offer, err
	}
	if len(at.Workloads) == 0 {
		if a.Workload == "" || len(a.Sites) == 0 {
			return offer, nil // it is asked for first
		}
		link.Workload, link.Sites = a.Workload, a.Sites
		if err := check(link); err != nil {
			return offer, err
		}
	}
	return offer, l.foresee(ctx, far, link, access, sites, &offer)
}

// foresee tells what a link would bring to its sites, and what it has to be allowed.
func (l Live) foresee(ctx context.Context, far bool, link config.Link, access source.Access, sites []string, offer *Offer) error {
	settings, _ := l.Rules()
	several := len(settings.Links) > 0
	declared, problems, err := l.Foretell(ctx, link, access, sites, !far || !several) // from far away no file of the machine is looked at for a link that may not have any
	if err != nil {
		return err
	}
	for _, p := range problems {
		if p.Warning {
			offer.Warnings = append(offer.Warnings, p.Error())
		} else {
			offer.Wrong = append(offer.Wrong, p.Error())
		}
	}
	bySite := map[string][]declare.Desired{}
	for _, d := range declared {
		bySite[d.Site] = append(bySite[d.Site], d.Desired)
	}
	if several {
		if offer.May, err = valueOf(config.MayOf(declare.GrantOf(bySite))); err != nil {
			return err
		}
		offer.Narrowed = l.unbound(settings)
		if err := config.OfMachine("links", map[string]any{"may": offer.May}); far && err != nil {
			offer.Wrong = append(offer.Wrong, "may: "+err.Error())
		}
	}
	if len(offer.Wrong) > 0 {
		return nil // and nothing of it is asked of a site
	}
	ctx, cancel := context.WithTimeoutCause(ctx, foreseeWithin, fmt.Errorf("it has not answered within %s", foreseeWithin))
	defer cancel()
	drivers, done := l.looked(settings, offer.Targets)
	defer done()
	offer.Berths = make([]Foreseen, len(declared))
	var group errgroup.Group
	group.SetLimit(triesAtOnce)
	for i, d := range declared {
		f := &offer.Berths[i]
		*f = Foreseen{Workload: d.Workload, Site: d.Site, Version: d.Version(), Parts: words.Parts(d.Desired)}
		if kind := l.kindAt(settings, offer.Targets, d.Site); kind != nil {
			for _, name := range slices.Sorted(maps.Keys(d.Desired.Parts)) {
				if lacks := kind.Lacks(d.Desired.Parts[name]); len(lacks) > 0 {
					f.Refused = append(f.Refused, fmt.Sprintf("%s: what it runs on has no %s", name, strings.Join(lacks, ", no ")))
				}
			}
		}
		group.Go(func() error {
			tried, err := l.Foresee(ctx, drivers[d.Site], d)
			if cause := context.Cause(ctx); err != nil && cause != nil {
				err = cause
			}
			if err != nil {
				f.Told = append(f.Told, "it could not be asked what it would make of this: "+err.Error())
			}
			for _, t := range tried {
				of := cmp.Or(t.ID, t.Part)
				if of != "" {
					of += ": "
				}
				if t.Refused != "" {
					f.Refused = append(f.Refused, of+t.Refused)
				}
				for _, text := range t.Told {
					f.Told = append(f.Told, of+text)
				}
			}
			return nil
		})
	}
	return group.Wait()
}

// kindAt is the kind of a site, one of the settings or a new one; nil where it is not known.
func (l Live) kindAt(settings config.Settings, targets map[string][]Target, name string) *target.Kind {
	on := ""
	for _, t := range targets[name] {
		if t.Chosen {
			on = t.Kind
		}
	}
	for _, site := range settings.Sites {
		if site.Name == name {
			on = site.Target.Kind
		}
	}
	kind, err := target.Find(l.Kinds, on)
	if err != nil {
		return nil
	}
	return &kind
}

// looked opens the new sites that can tell what they would make of a revision, to look at them alone.
func (l Live) looked(settings config.Settings, targets map[string][]Target) (drivers map[string]target.Driver, done func()) {
	drivers = map[string]target.Driver{}
	var close []func()
	for _, name := range slices.Sorted(maps.Keys(targets)) {
		i := slices.IndexFunc(targets[name], func(t Target) bool { return t.Chosen })
		if i < 0 {
			continue
		}
		at := targets[name][i]
		kind, err := target.Find(l.Kinds, at.Kind)
		if err != nil || kind.Objects == nil || at.Wrong != "" {
			continue
		}
		opened, err := kind.Open(target.Ground{Folder: l.Folder, Settings: settings, ReadOnly: true}, []config.Site{{Name: name, Target: at.made}})
		if opened.Close != nil {
			close = append(close, opened.Close)
		}
		if err == nil {
			maps.Copy(drivers, opened.Drivers)
		}
	}
	return drivers, func() {
		for _, end := range close {
			end()
		}
	}
}

// firstOf is the branch that is looked at where none is given: a usual one, or the first.
func firstOf(branches []string) string {
	for _, name := range usual {
		if slices.Contains(branches, name) {
			return name
		}
	}
	if len(branches) > 0 {
		return branches[0]
	}
	return usual[0]
}

// targets tells what sites can run on that settings do not have yet, each at an address of its own, with what was asked for first. objects is
// whether it has to take objects of a cluster's API.
func (l Live) targets(ctx context.Context, far bool, sites []string, objects bool, asked map[string]string, offer *Offer) error {
	settings, _ := l.Rules()
	offer.Targets = map[string][]Target{}
	before := slices.Clone(settings.Sites)
	ctx, cancel := context.WithTimeout(ctx, tryWithin) // for all of them together
	defer cancel()
	var tries []func() // each of a target of its own, once all are there
	for _, name := range sites {
		if slices.ContainsFunc(settings.Sites, func(s config.Site) bool { return s.Name == name }) {
			continue
		}
		var all []Target
		add := func(kind target.Kind, made config.Target) (at int, err error) {
			if settings.Ledger != "" && l.Leader != nil && kind.OnMachine(made) && made.Machine == "" {
				made.Machine = l.Leader.Name // others that share the ledger are on other machines
			}
			if at = slices.IndexFunc(all, func(t Target) bool { return t.Kind == kind.Name && reflect.DeepEqual(t.made, made) }); at >= 0 {
				return at, nil
			}
			value, err := valueOf(made)
			t := Target{Kind: kind.Name, Means: kind.Describe(made), Value: value, made: made}
			if err := config.OfMachine("sites", value); far && err != nil {
				t.Wrong = err.Error() // and it is not tried for whoever is elsewhere
			}
			all = append(all, t)
			return len(all) - 1, err
		}
		for _, kind := range l.Kinds {
			made, err := kind.New(name, before, "")
			if err != nil || objects && kind.Objects == nil {
				continue // this machine has nothing of the kind
			}
			if _, err := add(kind, made); err != nil {
				return err
			}
		}
		if len(all) == 0 {
			all = append(all, Target{Wrong: "there is nothing that it could run on here"})
		}
		chosen := 0
		if text := asked[name]; text != "" && len(l.Kinds) > 0 {
			made, err := target.Read(l.Kinds, name, before, text)
			if err != nil {
				chosen, all = len(all), append(all, Target{Kind: made.Kind, Means: text, Wrong: err.Error()})
			} else if kind, err := target.Find(l.Kinds, made.Kind); err != nil {
				return err
			} else if chosen, err = add(kind, made); err != nil {
				return err
			}
		}
		all[chosen].Chosen = true
		for i, t := range all {
			kind, err := target.Find(l.Kinds, t.Kind)
			if err != nil || t.Wrong != "" {
				continue
			}
			if kind.OnMachine(t.made) {
				before = append(before, config.Site{Name: name, Target: t.made}) // which keeps its address from the next one
			}
			tries = append(tries, func() {
				if err := tried(ctx, kind, t.made); err != nil {
					all[i].Wrong = err.Error()
				}
			})
		}
		offer.Targets[name] = all
	}
	var group errgroup.Group
	group.SetLimit(triesAtOnce)
	for _, try := range tries {
		group.Go(func() error {
			try()
			return nil
		})
	}
	return group.Wait()
}

// What sites would stand on may take so long to answer, all of it, and so many are asked at once.
const (
	tryWithin     = 5 * time.Second
	foreseeWithin = 20 * time.Second // what they would make of revisions
	triesAtOnce   = 16
)

// tried tells why a site could not run on a target now.
func tried(ctx context.Context, kind target.Kind, t config.Target) error {
	if kind.Ready != nil {
		if err := kind.Ready(t); err != nil {
			return err
		}
	}
	if kind.Try == nil {
		return nil
	}
	_, err := kind.Try(ctx, t)
	return err
}

// valueOf is a piece of the settings as it is written.
func valueOf(piece any) (value map[string]any, err error) {
	text, err := yaml.Marshal(piece)
	if err == nil {
		err = yaml.Unmarshal(text, &value)
	}
	return value, err
}

// Explore looks at nothing here.
func (s *Standby) Explore(context.Context, policy.Actor, Asked) (Offer, error) {
	return Offer{}, s.Missing()
}
