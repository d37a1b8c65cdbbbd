package berth

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/health"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
)

// Found is what serves at a site and the ledger does not know: the ledger is gone, or older than the site. It is kept as it
// is, unproven here, until a person vouches for a revision or its own guards have held for as long as a proving takes.
type Found struct {
	Revision declare.Fingerprint `json:"revision"`
	Version  string              `json:"version"`
	At       time.Time           `json:"at"`
	Why      string              `json:"why"`
	Barred   bool                `json:"barred,omitempty"` // by the ledger that is older: only a person can vouch for it
	Held     time.Duration       `json:"held,omitempty"`   // how long it was seen to be well
	Needs    time.Duration       `json:"needs,omitempty"`  // how long it has to be
	Waits    string              `json:"waits,omitempty"`  // what it does not count for now; empty where it does

	seen time.Time // when it was well last
}

// String says why nothing moves.
func (f *Found) String() string {
	return fmt.Sprintf("what serves was found here and is unproven, %s; %s", f.Why, f.Next())
}

// Next says what it waits for.
func (f *Found) Next() string {
	switch {
	case f.Barred:
		return "it is barred, so that it waits for somebody to vouch for it, or to go back"
	case f.Waits != "":
		return fmt.Sprintf("it waits for somebody to vouch for it, or to be well for %s: %s", say.Span(f.Needs), f.Waits)
	}
	return fmt.Sprintf("it waits for somebody to vouch for it, or to be well for %s more", say.Span(max(0, f.Needs-f.Held)))
}

// behindSite tells why the record cannot be that of what is at the site; empty where it can.
func (d *decision) behindSite() string {
	s := d.State
	switch {
	case !d.seen.Reached:
		return ""
	case d.seen.Step > s.Step && s.Step == 0:
		return "the ledger knows nothing of it"
	case d.seen.Step > s.Step:
		return fmt.Sprintf("the ledger is older than the site, which was told of step %d, and %d is the last on record", d.seen.Step, s.Step)
	case s.Step == 0 && s.Applied == "" && s.Roll == nil && s.Left == nil && s.Gone == nil && s.LastRollout == 0 && len(d.seen.serving()) > 0:
		return "the ledger knows nothing of it"
	}
	return ""
}

// serving are the cohorts that have instances, objects or traffic, the one with the most traffic first.
func (s Seen) serving() (all []Cohort) {
	for _, c := range s.Cohorts {
		if c.Share > 0 || len(c.Instances) > 0 || len(c.Objects) > 0 {
			all = append(all, c)
		}
	}
	slices.SortStableFunc(all, func(a, b Cohort) int {
		return cmp.Or(cmp.Compare(b.Share, a.Share), cmp.Compare(s.Health(b.Revision, 0).Healthy, s.Health(a.Revision, 0).Healthy))
	})
	return all
}

// find takes what serves for what is applied where the ledger does not know of it. Nothing at the site is changed by that.
func (d *decision) find() {
	why := d.behindSite()
	if why == "" {
		return
	}
	s := &d.State
	s.Step = d.seen.Step
	if roll := s.Roll; roll != nil {
		ended := *roll
		ended.Phase, ended.Why, ended.By, ended.Ended = rollout.Abandoned, why, rollout.Automatic, d.now
		d.Rollout, s.Roll, s.Rollout, s.LastRollout, s.Resumed = &ended, nil, 0, roll.ID, false
	}
	s.Left, s.Corrects, s.Announced, s.Restarting, s.MarkedFrom, s.Ending, s.DriftSince = nil, time.Time{}, "", nil, "", nil, time.Time{}
	serving := d.seen.serving()
	if len(serving) == 0 {
		d.fact(FoundThere, rollout.Automatic, s.Applied, why+", and nothing of it is there", nil)
		return
	}
	d.adopt(serving[0].Revision)
	f := &Found{Revision: s.Applied, Version: d.versionOf(s.Applied), At: d.now, Why: why, Barred: s.bars(s.Applied)}
	s.Found = f
	d.Revision = d.world.Revisions[s.Applied]
	text := fmt.Sprintf("%s: %s (%s) is taken as found, with %s of the traffic", why, f.Version, s.Applied.Short(), say.Share(serving[0].Share))
	for _, other := range serving[1:] {
		text += fmt.Sprintf(", beside %s (%s) with %s", d.versionOf(other.Revision), other.Revision.Short(), say.Share(other.Share))
	}
	d.fact(FoundThere, rollout.Automatic, s.Applied, text, f)
}

// adopt makes a revision that is there the applied one.
func (d *decision) adopt(revision declare.Fingerprint) {
	s := &d.State
	s.Proven = slices.DeleteFunc(s.Proven, func(f declare.Fingerprint) bool { return f == revision })
	if s.Applied != revision {
		s.Applied, s.AppliedAt, s.Set, s.InPart, s.Sized = revision, d.now, "", "", nil
	}
	s.Breaches, s.BreachSince, s.Calls = nil, time.Time{}, ""
}

func (d *decision) versionOf(revision declare.Fingerprint) string {
	if r := d.world.Revisions[revision]; r != nil {
		return r.Version
	}
	return "revision " + revision.Short()
}

// vouch has a person say which revision is good, among those that are there.
func (d *decision) vouch(o *order) error {
	f := d.State.Found
	if f == nil {
		return fmt.Errorf("%s is not possible: what serves at %s is on record", o.Verb, d.id)
	}
	revision := d.State.Applied
	if o.To != "" {
		var named []declare.Fingerprint
		for _, c := range d.seen.serving() {
			if c.Revision == declare.Fingerprint(o.To) || len(o.To) >= leastName && len(o.To) < len(c.Revision) && string(c.Revision[:len(o.To)]) == o.To || d.versionOf(c.Revision) == o.To {
				named = append(named, c.Revision)
			}
		}
		if len(named) != 1 {
			return fmt.Errorf("%s is not possible: of what is at %s, %q is %s; there are %s", o.Verb, d.id, o.To, say.Count(len(named), "revision"), d.servingText())
		}
		revision = named[0]
	}
	if d.desired(revision) == nil {
		return fmt.Errorf("%s is not possible: nobody knows what %s declares, so that nothing could be held against it; sync what Git declares, with a reason", o.Verb, revision.Short())
	}
	d.adopt(revision)
	d.Revision = d.world.Revisions[revision]
	d.State.Bars = slices.DeleteFunc(d.State.Bars, func(bar Bar) bool { return bar.Revision == revision })
	text := fmt.Sprintf("%s vouches for %s (%s)", o.By, d.versionOf(revision), revision.Short())
	if o.Note != "" {
		text += ": " + o.Note
	}
	d.settleFound(o.By, text)
	return nil
}

// leastName is how much of a fingerprint names a revision.
const leastName = 4

func (d *decision) servingText() string {
	var all []string
	for _, c := range d.seen.serving() {
		all = append(all, fmt.Sprintf("%s (%s)", d.versionOf(c.Revision), c.Revision.Short()))
	}
	return say.List(all)
}

// settleFound ends the time in which nothing moves: what is applied counts as proven.
func (d *decision) settleFound(by, text string) {
	d.State.Found = nil
	d.State.Proven = append([]declare.Fingerprint{d.State.Applied}, d.State.Proven...)
	d.State.Proven = d.State.Proven[:min(provenKept, len(d.State.Proven))]
	d.State.ProvenAt = d.now
	d.fact(Vouched, by, d.State.Applied, text, nil)
}

// found decides for what was found: it waits for a person, or for its own guards.
func (d *decision) found() {
	d.noteDrift()
	d.each(Vouch, d.vouch)
	d.each(RollBack, func(o *order) error {
		if err := d.backBy(o.Order); err != nil {
			return err
		}
		d.State.Found = nil
		return nil
	})
	d.each(Sync, func(o *order) error {
		if d.desired(d.State.Applied) == nil && o.schedule == "" && o.Note != "" && d.world.Declared != nil {
			d.State.Found, o.taken = nil, false // nothing else can be done about it
			d.sync()
			return o.err
		}
		return fmt.Errorf("sync is not possible: %s", d.State.Found)
	})
	if d.State.Found == nil || d.State.Roll != nil {
		return
	}
	for _, o := range d.orders {
		if e, _ := entryOf(o.Verb); !o.taken && e.when == steady {
			o.taken, o.err = true, fmt.Errorf("%s is not possible: %s", o.Verb, d.State.Found)
		}
	}
	d.watchFound()
	if d.State.Found != nil {
		d.State.Waits = d.State.Found.Next()
	}
}

// watchFound counts for how long what was found is well, and takes it for proven once that is long enough.
func (d *decision) watchFound() {
	next := *d.State.Found
	f := &next
	d.State.Found = f
	r := d.world.Revisions[d.State.Applied]
	if r == nil {
		f.Waits = "nobody knows what it declares"
		return
	}
	f.Needs = r.Desired.Rollout.Proving.Duration
	if f.Waits = d.unwell(r); f.Waits != "" || f.Barred {
		f.Held, f.seen = 0, time.Time{}
		return
	}
	if passed := d.now.Sub(f.seen); !f.seen.IsZero() && passed <= cmp.Or(d.world.Pace, longestPace) {
		f.Held += passed
	}
	if f.seen = d.now; f.Held >= f.Needs {
		d.settleFound(rollout.Automatic, fmt.Sprintf("%s (%s), which was found, has been well for %s: it counts as proven here", f.Version, d.State.Applied.Short(), say.Span(f.Held)))
	}
}

// longestPace is the longest time between two looks that still counts as watched, where the world does not say.
const longestPace = 15 * time.Second

// unwell tells why what is applied cannot be taken for proven now; empty where it can.
func (d *decision) unwell(applied *Revision) string {
	if !d.seen.Reached || d.seen.Stale != "" {
		return cmp.Or(d.seen.Stale, "the site is not reached")
	}
	if sum := d.seen.Health(d.State.Applied, d.State.Wanted(applied)); sum.Word != health.Healthy {
		return fmt.Sprintf("it is %s (%s)", sum.Word, cmp.Or(sum.Reason, "not all of its instances are"))
	}
	judged := map[string]bool{}
	for _, v := range d.seen.Verdicts {
		judged[v.Guard] = true
		if v.Stops() {
			return fmt.Sprintf("the guard %s is %s", v.Guard, v.Word)
		}
	}
	alone := false
	for _, rule := range applied.Desired.Guards {
		switch {
		case rule.Limit.Relative(): // there is nothing to hold it against
		case !judged[rule.Name]:
			return fmt.Sprintf("the guard %s has not been decided yet", rule.Name)
		default:
			alone = true
		}
	}
	if len(applied.Desired.Guards) > 0 && !alone {
		return "all of its guards hold new against old, and there is nothing old"
	}
	return ""
}
