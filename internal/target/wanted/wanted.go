// Package wanted keeps what a site was asked to be: cohorts with their parts, instances, shares and previews, on disk. It
// is the book-keeping of a driver that has no system beneath it to keep it; making it so is the driver's work.
package wanted

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/rollout"
	"aditus/internal/disk"
	"aditus/internal/target"
)

// Book is what one site was asked to be. It is safe for concurrent use.
type Book struct {
	site   string
	folder string // empty for nowhere
	disk   disk.Disk

	mu       sync.Mutex
	pages    map[string]*page // by workload
	unkept   map[string]bool  // those that are not on disk as they are
	together bool             // much is asked for, and kept at its end
	spoilt   map[string]error // by workload: what was asked of it cannot be read
}

// page is what was asked of one workload.
type page struct {
	Workload string                          `json:"workload"`
	Step     int64                           `json:"step,omitempty"` // the last one on record that asked for something
	Cohorts  map[declare.Fingerprint]*Cohort `json:"cohorts"`

	site string
}

// Cohort is what is asked of one revision of a workload.
type Cohort struct {
	Share     float64                 `json:"share"`
	Preview   bool                    `json:"preview,omitempty"`
	WarmUp    time.Duration           `json:"warm-up,omitempty"` // over which a new instance gets ever more of what its peers get
	Parts     map[string]declare.Part `json:"parts"`
	Next      map[string]int          `json:"next"` // the number of each part's next instance
	Instances []Instance              `json:"instances"`
	Shares    []Share                 `json:"shares,omitempty"`    // what its share became since it last was none, oldest first
	Taken     map[string]bool         `json:"taken,omitempty"`     // parts whose instances are those of the other cohort just as well
	Addresses map[string]int          `json:"addresses,omitempty"` // ports by which its instances reach others: by their part, and the workload, part and port that they reach
	Revision  *target.Remembered      `json:"revision,omitempty"`
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
	Found       *target.Found     `json:"found,omitempty"`       // what was it already when it was asked for; nil for nothing
}

// mostRestarts and mostShares are how much is remembered of an instance and of a cohort.
const (
	mostRestarts = 32
	mostShares   = 64
)

// Read calls do with the cohorts of a workload, by revision. It must keep and change nothing of them.
func (b *Book) Read(workload string, do func(map[declare.Fingerprint]*Cohort)) {
	b.mu.Lock()
	defer b.mu.Unlock()
	do(b.cohorts(workload))
}

// cohorts are a workload's, none where nothing was asked of it. It is called with the lock held.
func (b *Book) cohorts(workload string) map[declare.Fingerprint]*Cohort {
	if p := b.pages[workload]; p != nil {
		return p.Cohorts
	}
	return nil
}

// Step is the number of the last step on record that asked something of a workload; 0 for none.
func (b *Book) Step(workload string) int64 {
	b.mu.Lock()
	defer b.mu.Unlock()
	if p := b.pages[workload]; p != nil {
		return p.Step
	}
	return 0
}

// Remembered gives what is remembered of a workload's revision; nil for nothing.
func (b *Book) Remembered(workload string, revision declare.Fingerprint) *berth.Revision {
	b.mu.Lock()
	defer b.mu.Unlock()
	c := b.cohorts(workload)[revision]
	if c == nil {
		return nil
	}
	return c.Revision.Revision(revision)
}

// Spoilt tells why what was asked of a workload cannot be read; nil where it can.
func (b *Book) Spoilt(workload string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.spoilt[workload]
}

// Partly tells whether something was asked of the site that cannot be read any more.
func (b *Book) Partly() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return len(b.spoilt) > 0
}

// Workloads names all workloads that something was asked of, sorted.
func (b *Book) Workloads() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	var all []string
	for workload, p := range b.pages {
		if len(p.Cohorts) > 0 {
			all = append(all, workload)
		}
	}
	slices.Sort(all)
	return all
}

// change makes a change of a workload and keeps it on disk. What could not be kept is kept with the next change, so that
// whoever asks again until it succeeds loses nothing.
func (b *Book) change(workload string, do func(*page) error) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if err := b.spoilt[workload]; err != nil {
		return err
	}
	p := b.pages[workload]
	if p == nil {
		p = &page{Workload: workload, Cohorts: map[declare.Fingerprint]*Cohort{}, site: b.site}
		b.pages[workload] = p
	}
	err := do(p)
	b.unkept[workload] = true
	return errors.Join(err, b.keep())
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

// prepared gives a cohort with a part that is there, or an error that says what could not be done.
func (p *page) prepared(what string, revision declare.Fingerprint, part string) (*Cohort, error) {
	c := p.Cohorts[revision]
	if c == nil {
		return nil, fmt.Errorf("%s %s of %s at %s: revision %s was not prepared", what, part, p.Workload, p.site, revision.Short())
	}
	if _, ok := c.Parts[part]; !ok {
		return nil, fmt.Errorf("%s %s of %s at %s: revision %s has no such part", what, part, p.Workload, p.site, revision.Short())
	}
	return c, nil
}

// Splits tells whether a site can split a workload's traffic.
type Splits func(cohorts map[declare.Fingerprint]*Cohort) bool

// Address remembers the port by which a cohort's instances reach others.
func (b *Book) Address(workload string, revision declare.Fingerprint, name string, port int) error {
	return b.change(workload, func(p *page) error {
		if c := p.Cohorts[revision]; c != nil {
			c.address(name, port)
		}
		return nil
	})
}

// Apply asks for what is wanted, one after the other, and goes on where one cannot be.
func (b *Book) Apply(workload string, wants []target.Want, splits Splits, now time.Time) error {
	return b.change(workload, func(p *page) error {
		var failed []error
		for _, w := range wants {
			failed = append(failed, p.apply(w, splits, now))
		}
		return errors.Join(failed...)
	})
}

func (p *page) apply(w target.Want, splits Splits, now time.Time) error {
	switch w.Do {
	case target.Note:
		p.Step = max(p.Step, w.Step)
		return nil
	case rollout.Prepare:
		p.prepare(w)
		return nil
	case rollout.Scale:
		return p.scale(w, now)
	case rollout.SetShare:
		return p.setShare(w, splits, now)
	case rollout.Preview:
		return p.preview(w.Revision)
	case rollout.Run:
		return p.run(w, now)
	case rollout.Take:
		return p.take(w)
	case rollout.MovePart:
		return p.movePart(w)
	case rollout.RemovePart:
		p.removePart(w)
		return nil
	case rollout.LetGo:
		p.letGo(w)
		return nil
	case rollout.Relabel:
		return p.relabel(w.From, w.Revision)
	case rollout.Delete:
		return p.delete(w.Revision)
	}
	return fmt.Errorf("%s at %s: nobody knows how to %q", p.Workload, p.site, w.Do)
}

// prepare makes a revision's parts known.
func (p *page) prepare(w target.Want) {
	c := p.Cohorts[w.Revision]
	if c == nil {
		for _, other := range p.Cohorts {
			other.Taken = nil // that was about a cohort before this one
		}
		c = &Cohort{Parts: map[string]declare.Part{}, Next: map[string]int{}}
		p.Cohorts[w.Revision] = c
	}
	c.WarmUp = w.Desired.Rollout.WarmUp.Duration
	if w.Remember != nil {
		c.Revision = w.Remember
	}
	for name, part := range w.Desired.Parts {
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
func (p *page) scale(w target.Want, now time.Time) error {
	part, want := w.Part, w.Count
	c, err := p.prepared("scale", w.Revision, part)
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
	for found := w.Found; have < want; have++ {
		c.add(p.Workload, w.Revision, part, now)
		c.Instances[len(c.Instances)-1].Found, found = found, nil
	}
	return nil
}

// setShare gives a revision a share of the traffic and another one the rest.
func (p *page) setShare(w target.Want, splits Splits, now time.Time) error {
	revision, share, rest := w.Revision, w.Share, w.Rest
	if math.IsNaN(share) || share < 0 || share > 1 {
		return fmt.Errorf("set the share of %s at %s: %v is not from 0 to 1", p.Workload, p.site, share)
	}
	for name, want := range map[declare.Fingerprint]bool{revision: share > 0, rest: rest != "" && share < 1} {
		if want && p.Cohorts[name] == nil {
			return fmt.Errorf("set the share of %s at %s: revision %s is not there", p.Workload, p.site, name.Short())
		}
	}
	if share > 0 && share < 1 && !splits(p.Cohorts) {
		return fmt.Errorf("set the share of %s at %s: its traffic cannot be split there", p.Workload, p.site)
	}
	for name, c := range p.Cohorts {
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
func (p *page) preview(revision declare.Fingerprint) error {
	if p.Cohorts[revision] == nil {
		return fmt.Errorf("preview %s at %s: revision %s was not prepared", p.Workload, p.site, revision.Short())
	}
	for name, c := range p.Cohorts {
		c.Preview = name == revision
	}
	return nil
}

// run asks for a task, once.
func (p *page) run(w target.Want, now time.Time) error {
	revision, part := w.Revision, w.Part
	c, err := p.prepared("run", revision, part)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(c.Instances, func(in Instance) bool { return in.Part == part }) {
		c.add(p.Workload, revision, part, now)
	}
	return nil
}

// Restart asks for an instance to be started anew.
func (b *Book) Restart(workload, id string, now time.Time) error {
	return b.change(workload, func(p *page) error {
		for _, c := range p.Cohorts {
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

// take moves the instances of a part, which is the same in both, from one revision to another.
func (p *page) take(w target.Want) error {
	there, err := p.prepared("take", w.Revision, w.Part)
	if err != nil {
		return err
	}
	c := p.Cohorts[w.From]
	if c == nil {
		return nil
	}
	part, moved := c.Parts[w.Part], 0
	c.Instances = slices.DeleteFunc(c.Instances, func(in Instance) bool {
		if in.Part == w.Part {
			there.Instances, moved = append(there.Instances, in), moved+1
		}
		return in.Part == w.Part
	})
	if moved == 0 {
		return nil
	}
	mine := there.Parts[w.Part]
	mine.Instances, part.Instances = mine.Instances+moved, 0
	there.Parts[w.Part], c.Parts[w.Part] = mine, part
	there.Next[w.Part] = max(there.Next[w.Part], c.Next[w.Part])
	if there.Taken == nil {
		there.Taken = map[string]bool{}
	}
	there.Taken[w.Part] = true
	delete(c.Taken, w.Part)
	there.reach(c, w.Part)
	return nil
}

// reach has a part's instances, which came from another cohort, reach others by the ports that they were told there.
func (c *Cohort) reach(from *Cohort, part string) {
	for name, port := range from.Addresses {
		if strings.HasPrefix(name, part+"/") {
			c.address(name, port)
		}
	}
}

func (c *Cohort) address(name string, port int) {
	if c.Addresses == nil {
		c.Addresses = map[string]int{}
	}
	c.Addresses[name] = port
}

// OfBoth tells whether instances of a part are those of several cohorts, in whichever they stand.
func OfBoth(cohorts map[declare.Fingerprint]*Cohort, part string) bool {
	if len(cohorts) < 2 {
		return false
	}
	taken := false
	for _, c := range cohorts {
		taken = taken || c.Taken[part]
	}
	return taken
}

// movePart moves a part with its instances from one revision to another.
func (p *page) movePart(w target.Want) error {
	from, to, part := w.From, w.Revision, w.Part
	there := p.Cohorts[to]
	if there == nil {
		return fmt.Errorf("move %s of %s at %s: revision %s was not prepared", part, p.Workload, p.site, to.Short())
	}
	if _, ok := there.Parts[part]; ok && p.Cohorts[from] == nil {
		return nil
	}
	c, err := p.prepared("move", from, part)
	if err != nil {
		return err
	}
	there.Parts[part], there.Next[part] = c.Parts[part], c.Next[part]
	there.reach(c, part)
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
func (p *page) removePart(w target.Want) {
	revision, part := w.Revision, w.Part
	if c := p.Cohorts[revision]; c != nil {
		delete(c.Parts, part)
		c.Instances = slices.DeleteFunc(c.Instances, func(in Instance) bool { return in.Part == part })
	}
}

// letGo takes a part of a revision away, and the revision with its last one.
func (p *page) letGo(w target.Want) {
	p.removePart(w)
	if c := p.Cohorts[w.Revision]; c != nil && len(c.Parts) == 0 {
		delete(p.Cohorts, w.Revision)
	}
}

// relabel makes a cohort that of another revision.
func (p *page) relabel(from, to declare.Fingerprint) error {
	cohorts := p.Cohorts
	switch c := cohorts[from]; {
	case c == nil && cohorts[to] != nil:
		return nil
	case c == nil:
		return fmt.Errorf("relabel %s at %s: revision %s is not there", p.Workload, p.site, from.Short())
	case cohorts[to] != nil:
		return fmt.Errorf("relabel %s at %s: revision %s is there already", p.Workload, p.site, to.Short())
	default:
		cohorts[to] = c
		delete(cohorts, from)
	}
	return nil
}

// delete takes a revision away. One that has traffic is refused.
func (p *page) delete(revision declare.Fingerprint) error {
	if c := p.Cohorts[revision]; c != nil && c.Share > 0 {
		return fmt.Errorf("delete %s of %s at %s: it still has %.1f %% of the traffic", revision.Short(), p.Workload, p.site, c.Share*100)
	}
	delete(p.Cohorts, revision)
	return nil
}
