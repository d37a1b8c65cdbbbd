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
	"path/filepath"
	"slices"
	"sync"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/rollout"
	"aditus/internal/target"

	"github.com/google/renameio/v2"
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
	WarmUp    time.Duration           `json:"warm-up,omitempty"` // over which a new instance gets ever more of what its peers get
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
	return errors.Join(do(), b.keep())
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
		err = renameio.WriteFile(b.file, text, 0o600, renameio.WithTempDir(filepath.Dir(b.file)))
	}
	if err != nil {
		return fmt.Errorf("keep what the site %s is asked to run: %w", b.site, err)
	}
	return nil
}

// prepared gives a cohort with a part that is there, or an error that says what could not be done.
func (b *Book) prepared(what, workload string, revision declare.Fingerprint, part string) (*Cohort, error) {
	c := b.workloads[workload][revision]
	if c == nil {
		return nil, fmt.Errorf("%s %s of %s at %s: revision %s was not prepared", what, part, workload, b.site, revision.Short())
	}
	if _, ok := c.Parts[part]; !ok {
		return nil, fmt.Errorf("%s %s of %s at %s: revision %s has no such part", what, part, workload, b.site, revision.Short())
	}
	return c, nil
}

// Splits tells whether a site can split a workload's traffic.
type Splits func(cohorts map[declare.Fingerprint]*Cohort) bool

// Apply asks for what is wanted, one after the other, and goes on where one cannot be.
func (b *Book) Apply(workload string, wants []target.Want, splits Splits, now time.Time) error {
	return b.change(func() error {
		var failed []error
		for _, w := range wants {
			failed = append(failed, b.apply(workload, w, splits, now))
		}
		return errors.Join(failed...)
	})
}

func (b *Book) apply(workload string, w target.Want, splits Splits, now time.Time) error {
	switch w.Do {
	case rollout.Prepare:
		b.prepare(workload, w.Revision, w.Desired)
		return nil
	case rollout.Scale:
		return b.scale(workload, w, now)
	case rollout.SetShare:
		return b.setShare(workload, w, splits, now)
	case rollout.Preview:
		return b.preview(workload, w.Revision)
	case rollout.Run:
		return b.run(workload, w, now)
	case rollout.MovePart:
		return b.movePart(workload, w)
	case rollout.RemovePart:
		b.removePart(workload, w)
		return nil
	case rollout.Relabel:
		return b.relabel(workload, w.From, w.Revision)
	case rollout.Delete:
		return b.delete(workload, w.Revision)
	}
	return fmt.Errorf("%s at %s: nobody knows how to %q", workload, b.site, w.Do)
}

// prepare makes a revision's parts known.
func (b *Book) prepare(workload string, revision declare.Fingerprint, desired *declare.Desired) {
	if b.workloads[workload] == nil {
		b.workloads[workload] = map[declare.Fingerprint]*Cohort{}
	}
	c := b.workloads[workload][revision]
	if c == nil {
		c = &Cohort{Parts: map[string]declare.Part{}, Next: map[string]int{}}
		b.workloads[workload][revision] = c
	}
	c.WarmUp = desired.Rollout.WarmUp.Duration
	for name, part := range desired.Parts {
		part.Instances = c.Parts[name].Instances
		c.Parts[name] = part
	}
}

func (c *Cohort) add(workload string, revision declare.Fingerprint, part string, now time.Time) {
	c.Next[part]++
	id := fmt.Sprintf("%s-%s-%s-%d", workload, part, revision.Short(), c.Next[part])
	c.Instances = append(c.Instances, Instance{ID: id, Part: part, Created: now, Environment: maps.Clone(c.Parts[part].Environment)})
}

// scale makes a part's cohort the given size; those named in first go first.
func (b *Book) scale(workload string, w target.Want, now time.Time) error {
	part, want := w.Part, w.Count
	c, err := b.prepared("scale", workload, w.Revision, part)
	if err != nil {
		return err
	}
	asked := c.Parts[part]
	asked.Instances = want
	c.Parts[part] = asked
	slices.SortStableFunc(c.Instances, func(x, y Instance) int { // those to go first stand last
		switch a, b := slices.Contains(w.First, x.ID), slices.Contains(w.First, y.ID); {
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
		c.add(workload, w.Revision, part, now)
	}
	return nil
}

// setShare gives a revision a share of the traffic and another one the rest.
func (b *Book) setShare(workload string, w target.Want, splits Splits, now time.Time) error {
	revision, share, rest := w.Revision, w.Share, w.Rest
	if math.IsNaN(share) || share < 0 || share > 1 {
		return fmt.Errorf("set the share of %s at %s: %v is not from 0 to 1", workload, b.site, share)
	}
	for name, want := range map[declare.Fingerprint]bool{revision: share > 0, rest: rest != "" && share < 1} {
		if want && b.workloads[workload][name] == nil {
			return fmt.Errorf("set the share of %s at %s: revision %s is not there", workload, b.site, name.Short())
		}
	}
	if share > 0 && share < 1 && !splits(b.workloads[workload]) {
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

// preview leads the preview routes to a revision.
func (b *Book) preview(workload string, revision declare.Fingerprint) error {
	if b.workloads[workload][revision] == nil {
		return fmt.Errorf("preview %s at %s: revision %s was not prepared", workload, b.site, revision.Short())
	}
	for name, c := range b.workloads[workload] {
		c.Preview = name == revision
	}
	return nil
}

// run asks for a task, once.
func (b *Book) run(workload string, w target.Want, now time.Time) error {
	revision, part := w.Revision, w.Part
	c, err := b.prepared("run", workload, revision, part)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(c.Instances, func(in Instance) bool { return in.Part == part }) {
		c.add(workload, revision, part, now)
	}
	return nil
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

// movePart moves a part with its instances from one revision to another.
func (b *Book) movePart(workload string, w target.Want) error {
	from, to, part := w.From, w.Revision, w.Part
	there := b.workloads[workload][to]
	if there == nil {
		return fmt.Errorf("move %s of %s at %s: revision %s was not prepared", part, workload, b.site, to.Short())
	}
	if _, ok := there.Parts[part]; ok && b.workloads[workload][from] == nil {
		return nil
	}
	c, err := b.prepared("move", workload, from, part)
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
}

// removePart takes a part of a revision away.
func (b *Book) removePart(workload string, w target.Want) {
	revision, part := w.Revision, w.Part
	if c := b.workloads[workload][revision]; c != nil {
		delete(c.Parts, part)
		c.Instances = slices.DeleteFunc(c.Instances, func(in Instance) bool { return in.Part == part })
	}
}

// relabel makes a cohort that of another revision.
func (b *Book) relabel(workload string, from, to declare.Fingerprint) error {
	cohorts := b.workloads[workload]
	switch c := cohorts[from]; {
	case c == nil && cohorts[to] != nil:
		return nil
	case c == nil:
		return fmt.Errorf("relabel %s at %s: revision %s is not there", workload, b.site, from.Short())
	case cohorts[to] != nil:
		return fmt.Errorf("relabel %s at %s: revision %s is there already", workload, b.site, to.Short())
	default:
		cohorts[to] = c
		delete(cohorts, from)
	}
	return nil
}

// delete takes a revision away. One that has traffic is refused.
func (b *Book) delete(workload string, revision declare.Fingerprint) error {
	if c := b.workloads[workload][revision]; c != nil && c.Share > 0 {
		return fmt.Errorf("delete %s of %s at %s: it still has %.1f %% of the traffic", revision.Short(), workload, b.site, c.Share*100)
	}
	delete(b.workloads[workload], revision)
	if len(b.workloads[workload]) == 0 {
		delete(b.workloads, workload)
	}
	return nil
}
