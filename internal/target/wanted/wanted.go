// Package wanted keeps what a site was asked to be: cohorts with their parts, instances, shares and previews, on disk. It
// is the book-keeping of a driver that has no system beneath it to keep it; making it so is the driver's work.
package wanted

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"os"
	"slices"
	"sync"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/target"
)

// Book is what one site was asked to be. It is safe for concurrent use.
type Book struct {
	site string
	file string // empty for nowhere

	mu        sync.Mutex
	workloads map[string]map[declare.Fingerprint]*Cohort
	together  bool // much is asked for, and kept at its end
}

// Cohort is what is asked of one revision of a workload.
type Cohort struct {
	Share     float64                 `json:"share"`
	Preview   bool                    `json:"preview,omitempty"`
	Parts     map[string]declare.Part `json:"parts"`
	Next      map[string]int          `json:"next"` // the number of each part's next instance
	Instances []Instance              `json:"instances"`
	Shares    []Share                 `json:"shares,omitempty"` // what its share became since it last was none, oldest first
}

// Share is a share of the traffic from a moment on.
type Share struct {
	At    time.Time `json:"at"`
	Share float64   `json:"share"`
}

// Instance is one that is asked for.
type Instance struct {
	ID          string            `json:"id"`
	Part        string            `json:"part"`
	Created     time.Time         `json:"created"`
	Environment map[string]string `json:"environment,omitempty"` // that it was created with
	Again       int               `json:"again,omitempty"`       // how often it was to be started anew
	Restarts    []time.Time       `json:"restarts,omitempty"`    // when, the last few times
}

// mostRestarts and mostShares are how much is remembered of an instance and of a cohort.
const (
	mostRestarts = 32
	mostShares   = 64
)

// Open reads the book of a site, which is empty where there is no file yet. An empty file is kept nowhere.
func Open(site, file string) (*Book, error) {
	b := &Book{site: site, file: file, workloads: map[string]map[declare.Fingerprint]*Cohort{}}
	if file == "" {
		return b, nil
	}
	text, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		return b, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &b.workloads)
	}
	if err != nil {
		return nil, fmt.Errorf("bring back what the site %s was asked to run, from %s: %w", site, file, err)
	}
	return b, nil
}

// Read calls do with the cohorts of a workload, by revision. It must keep and change nothing of them.
func (b *Book) Read(workload string, do func(map[declare.Fingerprint]*Cohort)) {
	b.mu.Lock()
	defer b.mu.Unlock()
	do(b.workloads[workload])
}

// Workloads names all workloads that something was asked of, sorted.
func (b *Book) Workloads() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return slices.Sorted(maps.Keys(b.workloads))
}

// change makes a change and keeps it on disk. What could not be kept is kept with the next change, so that whoever asks
// again until it succeeds loses nothing.
func (b *Book) change(do func() error) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if err := do(); err != nil {
		return err
	}
	return b.keep()
}

// Together asks for many things that are kept on disk once, at their end.
func (b *Book) Together(do func() error) error {
	b.mu.Lock()
	b.together = true
	b.mu.Unlock()
	err := do()
	b.mu.Lock()
	defer b.mu.Unlock()
	b.together = false
	return errors.Join(err, b.keep())
}

// keep writes the book. It is called with the lock held.
func (b *Book) keep() error {
	if b.file == "" || b.together {
		return nil
	}
	text, err := json.Marshal(b.workloads)
	if err == nil {
		err = os.WriteFile(b.file+".new", text, 0o600)
	}
	if err == nil {
		err = os.Rename(b.file+".new", b.file)
	}
	if err != nil {
		return fmt.Errorf("keep what the site %s is asked to run: %w", b.site, err)
	}
	return nil
}

// laid gives a cohort with a part that is there, or an error that says what could not be done.
func (b *Book) laid(what, workload string, revision declare.Fingerprint, part string) (*Cohort, error) {
	c := b.workloads[workload][revision]
	if c == nil {
		return nil, fmt.Errorf("%s %s of %s at %s: revision %s was not laid down", what, part, workload, b.site, revision.Short())
	}
	if _, ok := c.Parts[part]; !ok {
		return nil, fmt.Errorf("%s %s of %s at %s: revision %s has no such part", what, part, workload, b.site, revision.Short())
	}
	return c, nil
}

// Lay makes a revision's parts known.
func (b *Book) Lay(workload string, revision declare.Fingerprint, parts map[string]declare.Part) error {
	return b.change(func() error {
		if b.workloads[workload] == nil {
			b.workloads[workload] = map[declare.Fingerprint]*Cohort{}
		}
		c := b.workloads[workload][revision]
		if c == nil {
			c = &Cohort{Parts: map[string]declare.Part{}, Next: map[string]int{}}
			b.workloads[workload][revision] = c
		}
		for name, part := range parts {
			part.Instances = c.Parts[name].Instances
			c.Parts[name] = part
		}
		return nil
	})
}

func (c *Cohort) add(workload string, revision declare.Fingerprint, part string, now time.Time) {
	c.Next[part]++
	id := fmt.Sprintf("%s-%s-%s-%d", workload, part, revision.Short(), c.Next[part])
	c.Instances = append(c.Instances, Instance{ID: id, Part: part, Created: now, Environment: maps.Clone(c.Parts[part].Environment)})
}

// Scale makes a part's cohort the given size; those named in first go first.
func (b *Book) Scale(workload string, revision declare.Fingerprint, part string, want int, first []string, now time.Time) error {
	return b.change(func() error {
		c, err := b.laid("scale", workload, revision, part)
		if err != nil {
			return err
		}
		asked := c.Parts[part]
		asked.Instances = want
		c.Parts[part] = asked
		slices.SortStableFunc(c.Instances, func(x, y Instance) int { // those to go first stand last
			switch a, b := slices.Contains(first, x.ID), slices.Contains(first, y.ID); {
			case a == b:
				return 0
			case a:
				return 1
			}
			return -1
		})
		have := 0
		c.Instances = slices.DeleteFunc(c.Instances, func(in Instance) bool {
			if in.Part == part {
				have++
			}
			return in.Part == part && have > want
		})
		for ; have < want; have++ {
			c.add(workload, revision, part, now)
		}
		return nil
	})
}

// SetShare gives a revision a share of the traffic and another one the rest. splits is false where the site cannot
// split the workload's traffic.
func (b *Book) SetShare(workload string, revision declare.Fingerprint, share float64, rest declare.Fingerprint, splits bool, now time.Time) error {
	return b.change(func() error {
		if math.IsNaN(share) || share < 0 || share > 1 {
			return fmt.Errorf("set the share of %s at %s: %v is not from 0 to 1", workload, b.site, share)
		}
		for name, want := range map[declare.Fingerprint]bool{revision: share > 0, rest: rest != "" && share < 1} {
			if want && b.workloads[workload][name] == nil {
				return fmt.Errorf("set the share of %s at %s: revision %s is not there", workload, b.site, name.Short())
			}
		}
		if !splits && share > 0 && share < 1 {
			return fmt.Errorf("set the share of %s at %s: its traffic cannot be split there", workload, b.site)
		}
		for name, c := range b.workloads[workload] {
			switch name {
			case revision:
				c.setShare(share, now)
			case rest:
				c.setShare(1-share, now)
			default:
				c.setShare(0, now)
			}
		}
		return nil
	})
}

func (c *Cohort) setShare(share float64, now time.Time) {
	switch {
	case share == 0:
		c.Shares = nil
	case share != c.Share:
		c.Shares = append(c.Shares[max(0, len(c.Shares)-mostShares+1):], Share{now, share})
	}
	c.Share = share
}

// Above tells since when a cohort's share has been above a bound; the zero time where it is not.
func (c *Cohort) Above(bound float64) (since time.Time) {
	for _, s := range c.Shares {
		switch {
		case s.Share <= bound:
			since = time.Time{}
		case since.IsZero():
			since = s.At
		}
	}
	return since
}

// Preview leads the preview routes to a revision.
func (b *Book) Preview(workload string, revision declare.Fingerprint) error {
	return b.change(func() error {
		if b.workloads[workload][revision] == nil {
			return fmt.Errorf("preview %s at %s: revision %s was not laid down", workload, b.site, revision.Short())
		}
		for name, c := range b.workloads[workload] {
			c.Preview = name == revision
		}
		return nil
	})
}

// Run asks for a task, once.
func (b *Book) Run(workload string, revision declare.Fingerprint, part string, now time.Time) error {
	return b.change(func() error {
		c, err := b.laid("run", workload, revision, part)
		if err != nil {
			return err
		}
		if !slices.ContainsFunc(c.Instances, func(in Instance) bool { return in.Part == part }) {
			c.add(workload, revision, part, now)
		}
		return nil
	})
}

// Restart asks for an instance to be started anew.
func (b *Book) Restart(workload, id string, now time.Time) error {
	return b.change(func() error {
		for _, c := range b.workloads[workload] {
			for i := range c.Instances {
				if in := &c.Instances[i]; in.ID == id {
					in.Again++
					in.Restarts = append(slices.Clone(in.Restarts[max(0, len(in.Restarts)-mostRestarts+1):]), now)
					return nil
				}
			}
		}
		return fmt.Errorf("%s at %s: %w", id, b.site, target.ErrNoInstance)
	})
}

// Keep moves a part with its instances from one revision to another.
func (b *Book) Keep(workload string, from, to declare.Fingerprint, part string) error {
	return b.change(func() error {
		there := b.workloads[workload][to]
		if there == nil {
			return fmt.Errorf("keep %s of %s at %s: revision %s was not laid down", part, workload, b.site, to.Short())
		}
		if _, ok := there.Parts[part]; ok && b.workloads[workload][from] == nil {
			return nil
		}
		c, err := b.laid("keep", workload, from, part)
		if err != nil {
			return err
		}
		there.Parts[part], there.Next[part] = c.Parts[part], c.Next[part]
		delete(c.Parts, part)
		c.Instances = slices.DeleteFunc(c.Instances, func(in Instance) bool {
			if in.Part == part {
				there.Instances = append(there.Instances, in)
			}
			return in.Part == part
		})
		return nil
	})
}

// Remove takes a part of a revision away.
func (b *Book) Remove(workload string, revision declare.Fingerprint, part string) error {
	return b.change(func() error {
		if c := b.workloads[workload][revision]; c != nil {
			delete(c.Parts, part)
			c.Instances = slices.DeleteFunc(c.Instances, func(in Instance) bool { return in.Part == part })
		}
		return nil
	})
}

// Mark makes a cohort that of another revision.
func (b *Book) Mark(workload string, from, to declare.Fingerprint) error {
	return b.change(func() error {
		cohorts := b.workloads[workload]
		switch c := cohorts[from]; {
		case c == nil && cohorts[to] != nil:
			return nil
		case c == nil:
			return fmt.Errorf("mark %s at %s: revision %s is not there", workload, b.site, from.Short())
		case cohorts[to] != nil:
			return fmt.Errorf("mark %s at %s: revision %s is there already", workload, b.site, to.Short())
		default:
			cohorts[to] = c
			delete(cohorts, from)
		}
		return nil
	})
}

// Drop takes a revision away. One that has traffic is refused.
func (b *Book) Drop(workload string, revision declare.Fingerprint) error {
	return b.change(func() error {
		if c := b.workloads[workload][revision]; c != nil && c.Share > 0 {
			return fmt.Errorf("remove %s of %s at %s: it still has %.1f %% of the traffic", revision.Short(), workload, b.site, c.Share*100)
		}
		delete(b.workloads[workload], revision)
		if len(b.workloads[workload]) == 0 {
			delete(b.workloads, workload)
		}
		return nil
	})
}
