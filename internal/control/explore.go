package control

import (
	"context"
	"maps"
	"slices"
	"time"

	"go.yaml.in/yaml/v4"
	"golang.org/x/sync/errgroup"

	"aditus/internal/config"
	"aditus/internal/core/fault"
	"aditus/internal/core/policy"
	"aditus/internal/source"
	"aditus/internal/target"
)

// Asked is a repository, or a bundle in a registry, that is looked at before it becomes a link.
type Asked struct {
	Repository string             `json:"repository"`
	Branch     string             `json:"branch,omitempty"`  // main, or the only one, where it is left out
	Version    string             `json:"version,omitempty"` // of a bundle
	Plain      bool               `json:"plain,omitempty"`   // of a bundle: the registry speaks http
	Credential *source.Credential `json:"credential,omitempty"`
}

// Offer is what a repository offers.
type Offer struct {
	Where    string              `json:"where"`              // the address, without what is secret in it
	Took     time.Duration       `json:"took"`               // until it had answered, in nanoseconds
	Branches []string            `json:"branches,omitempty"` // none of a bundle
	Branch   string              `json:"branch,omitempty"`   // that was looked at
	Head     source.Commit       `json:"head"`
	Folders  []source.Found      `json:"folders"`           // that have something to run
	Targets  map[string][]Target `json:"targets,omitempty"` // what a site can run on, by the names of sites that are not in the settings yet
}

// Target is what a new site can run on.
type Target struct {
	Kind  string         `json:"kind"`
	Means string         `json:"means"`           // in words
	Value map[string]any `json:"value"`           // as it stands under target: of the site
	Wrong string         `json:"wrong,omitempty"` // what is to be mended before a site can run on it
}

// usual are names of branches that are taken first where none is given.
var usual = []string{"main", "master", "trunk"}

// Explore looks at what a repository offers, and changes nothing.
func (l Live) Explore(ctx context.Context, who policy.Actor, a Asked) (offer Offer, err error) {
	if err := l.settles(ctx, who); err != nil {
		return offer, err
	}
	if far := who.Known != policy.ByAccount; far {
		if err := config.OfMachine("links", map[string]any{"repository": a.Repository}); err != nil {
			return offer, fault.New(fault.ErrForbidden, "%v", err)
		}
	}
	link := config.Link{Name: "connect", Repository: a.Repository, Branch: a.Branch, Version: a.Version, Plain: a.Plain, Every: time.Minute}
	access := source.Access{}
	if a.Credential != nil {
		access.Credential = *a.Credential
	}
	began := time.Now()
	if !link.Bundle() {
		if err := link.Check(); a.Branch != "" && err != nil {
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
	if err := link.Check(); err != nil {
		return offer, err
	}
	if offer.Folders, offer.Head, err = source.Find(ctx, link, access); err != nil {
		return offer, err
	}
	offer.Where, offer.Took = link.Where(), time.Since(began)
	settings, _ := l.Rules()
	offer.Targets, err = l.targets(ctx, settings, offer.Folders)
	return offer, err
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

// targets are what the sites can run on that folders are for and settings do not have yet: each has an address of its own.
func (l Live) targets(ctx context.Context, settings config.Settings, folders []source.Found) (map[string][]Target, error) {
	all, before := map[string][]Target{}, slices.Clone(settings.Sites)
	ctx, cancel := context.WithTimeout(ctx, tryWithin) // for all of them together
	defer cancel()
	var tries []func() // each of a target of its own, once all are there
	for _, at := range folders {
		for _, name := range at.Sites() {
			if slices.ContainsFunc(settings.Sites, func(s config.Site) bool { return s.Name == name }) || all[name] != nil {
				continue
			}
			for _, kind := range l.Kinds {
				made, err := kind.New(name, before, "")
				if err != nil {
					continue // this machine has nothing of the kind
				}
				value, err := valueOf(made)
				if err != nil {
					return nil, err
				}
				at := len(all[name])
				all[name] = append(all[name], Target{Kind: kind.Name, Means: kind.Describe(made), Value: value})
				tries = append(tries, func() {
					if err := tried(ctx, kind, made); err != nil {
						all[name][at].Wrong = err.Error()
					}
				})
				if kind.OnMachine(made) {
					before = append(before, config.Site{Name: name, Target: made}) // which keeps its address from the next one
				}
			}
		}
	}
	var group errgroup.Group
	group.SetLimit(triesAtOnce)
	for _, try := range tries {
		group.Go(func() error {
			try()
			return nil
		})
	}
	return all, group.Wait()
}

// What sites would stand on may take so long to answer, all of it, and so many are asked at once.
const (
	tryWithin   = 5 * time.Second
	triesAtOnce = 16
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

// valueOf is a target as it is written.
func valueOf(t config.Target) (value map[string]any, err error) {
	text, err := yaml.Marshal(t)
	if err == nil {
		err = yaml.Unmarshal(text, &value)
	}
	return value, err
}

// Explore looks at nothing here.
func (s *Standby) Explore(context.Context, policy.Actor, Asked) (Offer, error) {
	return Offer{}, s.Missing()
}
