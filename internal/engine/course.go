package engine

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"aditus/internal/config"
	"aditus/internal/core/berth"
	"aditus/internal/core/course"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
	"aditus/internal/source"
	"aditus/internal/status"
)

// linesKept is how many of a line's rules a link remembers: for what came with a change of them, and rollouts that began before.
const linesKept = 10

// takeLine takes the line's rules of a commit, and names those from before it where they changed.
func (s *linkState) takeLine(line *declare.Line, bound map[string]string) (before string) {
	next := declare.Line{}
	if line != nil {
		next = *line
	}
	if len(s.Lines) == 0 {
		if line != nil {
			s.Lines = []declare.Line{next}
		}
		return ""
	}
	if before = lineName(s.Lines[0]); lineName(next) == before {
		return ""
	}
	kept := []declare.Line{next}
	for i, line := range s.Lines { // what holds a revision is not forgotten, however often they change meanwhile
		if name := lineName(line); i < linesKept-1 || slices.Contains(slices.Collect(maps.Values(bound)), name) {
			kept = append(kept, line)
		}
	}
	s.Lines = kept
	return before
}

// bind holds what is declared for a berth to rules from before its commit too.
func (s *linkState) bind(id berth.ID, name string) {
	if s.Bound == nil {
		s.Bound = map[string]string{}
	}
	s.Bound[id.String()] = name
}

// lineName names rules by what they say.
func lineName(line declare.Line) string {
	text, err := json.Marshal(line)
	if err != nil {
		panic("a line's rules must marshal: " + err.Error())
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:6])
}

// ruled are rules that are ready to be asked, for some years around when they were made so.
type ruled struct {
	*course.Rules
	at time.Time
}

// rulesFor is for how long they are.
const rulesFor = 24 * time.Hour

// policyLink is the link that has the line's rules; nil where the settings name none. It is called with the lock held, as all here.
func (e *Engine) policyLink() *link {
	for _, l := range e.links {
		if l.follow == nil && l.source.Name == e.settings.Policy && e.settings.Policy != "" {
			return l
		}
	}
	return nil
}

// line gives the line's rules and their name; nil where there are none.
func (e *Engine) line() (*declare.Line, string) {
	l := e.policyLink()
	if l == nil || len(l.state.Lines) == 0 {
		return nil, ""
	}
	if first := &l.state.Lines[0]; e.named.line != first { // the list is made anew where they change
		e.named.line, e.named.name = first, lineName(*first)
	}
	return e.named.line, e.named.name
}

// rulesOf gives rules by their name, ready to be asked; nil where they are not known any more.
func (e *Engine) rulesOf(name string, now time.Time) *course.Rules {
	if r, ok := e.ruled[name]; ok && now.Sub(r.at).Abs() < rulesFor {
		return r.Rules
	}
	l := e.policyLink()
	if l == nil {
		return nil
	}
	for _, line := range l.state.Lines {
		if lineName(line) == name {
			rules, err := course.New(line, now)
			if err != nil {
				return nil // it was checked when it was read
			}
			e.ruled[name] = ruled{rules, now}
			return rules
		}
	}
	return nil
}

// roles says who plays which role: by the line's rules, or the settings.
func (e *Engine) roles() map[string][]string {
	if line, _ := e.line(); line != nil {
		return line.Roles
	}
	return e.settings.Roles
}

// drift says what becomes of changes made by hand at a site: by the line's rules, or the settings.
func (e *Engine) drift(site config.Site) berth.Drift {
	if line, _ := e.line(); line != nil {
		d := line.Sites[site.Name].Drift
		return berth.Drift{Look: d.Look, Correct: d.Then == config.CorrectDrift, Notice: d.Notice.Duration}
	}
	return berth.Drift{Look: site.Drift.Look, Correct: site.Drift.Then == config.CorrectDrift, Notice: site.Drift.Notice}
}

// onCourse is a berth as others' courses see it, of one declared revision.
type onCourse struct {
	of     declare.Fingerprint
	commit string
	course.Berth
	author string
	signed string
	takes  time.Duration
	turned time.Time // when it was rolled back, where it was
}

// seenOnCourse tells how a berth stands to what is declared for it.
func (b *loop) seenOnCourse() onCourse {
	c := onCourse{of: b.state.Change.Declared}
	r := b.held[c.of]
	if r == nil {
		return c
	}
	c.commit, c.author, c.signed, c.takes = r.Commit, r.Author, r.Signed, rollout.Least(r.Desired.Rollout)
	s := &b.state
	if roll := s.Roll; roll != nil && roll.New.Revision == c.of {
		c.Has = !roll.Return && roll.Phase.Forward()
		c.Rolling = c.Has
		if roll.Return || roll.Phase == rollout.RollingBack {
			c.Turned, c.turned = roll.Why, roll.Since
		}
	}
	if s.Applied == c.of && slices.Contains(s.Proven, c.of) {
		c.Has, c.Proven = true, s.ProvenAt
		if c.Proven.IsZero() {
			c.Proven = s.AppliedAt
		}
	}
	for _, bar := range s.Bars {
		if bar.Revision == c.of {
			c.Turned, c.turned, c.Has, c.Proven = bar.Why, bar.At, false, time.Time{}
		}
	}
	c.Signs = s.SignsOf(c.of)
	return c
}

// courseOf is what the line's rules have to say of what is declared for a berth; nil where there are none, and for what a site takes
// from another branch for a while.
func (e *Engine) courseOf(b *loop, declared *berth.Revision, now time.Time) *berth.Course {
	line, name := e.line()
	d, known := e.declared[b.id]
	if line == nil || !known {
		return nil
	}
	rules := e.rulesOf(name, now)
	if rules == nil {
		return nil
	}
	c := &berth.Course{Name: name, Rules: rules, Query: e.query(line, b.id, now)}
	c.Query.Author, c.Query.Signed, c.Query.Takes, c.Query.Follows = declared.Author, declared.Signed, rollout.Least(declared.Desired.Rollout), d.link.follow != nil || d.trial != nil
	own := b.seenOnCourse()
	c.Query.Here = own.Berth
	if bound := d.link.state.Bound[b.id.String()]; bound != "" {
		c.Also = e.rulesOf(bound, now)
	}
	if b.state.Line != "" {
		c.Began = e.rulesOf(b.state.Line, now)
	}
	if c.Query.Follows {
		return c // it rides in no train
	}
	_, with := line.TrainOf(b.id.Workload)
	for _, workload := range with {
		id := berth.ID{Workload: workload, Site: b.id.Site}
		other, there := e.seen(id)
		if !there {
			continue
		}
		rider := course.Rider{Workload: workload, Pending: !other.Has && other.Turned == "" && other.Proven.IsZero()}
		if rider.Pending {
			q := e.query(line, id, now)
			q.Here, q.Author, q.Signed, q.Takes = other.Berth, other.author, other.signed, other.takes
			rider.Waits = rules.Judge(q).Why
		}
		if roll := b.state.Roll; other.Turned != "" && (other.commit == declared.Commit || own.Rolling && other.turned.After(roll.Began)) {
			rider.Turned = other.Turned
		}
		c.Query.Train = append(c.Query.Train, rider)
	}
	return c
}

// query is what is asked of one berth, but for what it knows itself.
func (e *Engine) query(line *declare.Line, id berth.ID, now time.Time) course.Query {
	q := course.Query{Now: now, Workload: id.Workload, Site: id.Site, Elsewhere: map[string]course.Berth{}}
	if c := line.CourseOf(id.Workload); c != nil {
		for _, step := range c.Steps {
			for _, site := range step.Sites {
				if other, there := e.seen(berth.ID{Workload: id.Workload, Site: site}); there && site != id.Site {
					q.Elsewhere[site] = other.Berth
				}
			}
		}
	}
	return q
}

// seen is how another berth stands to what is declared for it now.
func (e *Engine) seen(id berth.ID) (onCourse, bool) {
	d, ok := e.declared[id]
	if !ok || d.link.follow != nil {
		return onCourse{}, false
	}
	c := onCourse{of: d.fingerprint}
	if b := e.berths[id]; b != nil && b.course.of == d.fingerprint {
		c = b.course
	}
	c.Declared = true
	return c, true
}

// Course foresees when what is declared for a workload comes to the sites of its course; with a ref, what that branch, tag or commit of
// its link would declare, by the rules there.
func (e *Engine) Course(ctx context.Context, workload, ref string) (status.Course, error) {
	now := e.clock.Now()
	told := status.Course{Workload: workload, Now: now, Legs: []course.Leg{}}
	e.mu.Lock()
	line, name := e.line()
	rules := e.rulesOf(name, now)
	var link *link
	for id, d := range e.declared {
		if id.Workload == workload && d.link.follow == nil {
			link = d.link
		}
	}
	policy := e.policyLink()
	e.mu.Unlock()
	var other map[berth.ID]source.Declaration
	if ref != "" && link != nil {
		loaded, err := e.preview(ctx, link, ref, nil)
		if err != nil {
			return told, err
		}
		other = map[berth.ID]source.Declaration{}
		for _, d := range loaded.Declarations {
			if d.Workload == workload {
				other[berth.ID{Workload: d.Workload, Site: d.Site}] = d
			}
		}
		if link == policy && loaded.Line != nil {
			line = loaded.Line
			if rules, err = course.New(*line, now); err != nil {
				return told, err
			}
		}
	}
	switch {
	case link == nil:
		return told, e.noWorkload(workload)
	case line == nil || rules == nil:
		return told, fault.New(fault.ErrNotFound, "the line has no rules: name the link that has its line.yaml with policy: in the settings")
	}
	c := line.CourseOf(workload)
	if c == nil {
		return told, nil
	}
	told.Course, told.On = c.Name, c.On
	told.Train, told.With = line.TrainOf(workload)
	e.mu.Lock()
	defer e.mu.Unlock()
	if other == nil {
		told.Legs, told.Version = e.plan(line, rules, workload, now)
		return told, nil
	}
	told.Legs = planned(workload, other, rules, now)
	if len(told.Legs) > 0 {
		first := other[berth.ID{Workload: workload, Site: told.Legs[0].Site}]
		told.Version = first.Version()
	}
	return told, nil
}

// planned foresees the way of what some other commit declares, of which nothing is anywhere yet.
func planned(workload string, declared map[berth.ID]source.Declaration, rules *course.Rules, now time.Time) []course.Leg {
	return rules.Plan(workload, now, func(site string) (course.Query, bool) {
		d, is := declared[berth.ID{Workload: workload, Site: site}]
		q := course.Query{Now: now, Workload: workload, Site: site, Elsewhere: map[string]course.Berth{}, Here: course.Berth{Declared: is}, Author: d.Commit.Author, Signed: d.Commit.Signed, Takes: rollout.Least(d.Rollout)}
		for id := range declared {
			if id.Workload == workload && id.Site != site {
				q.Elsewhere[id.Site] = course.Berth{Declared: true}
			}
		}
		return q, is
	})
}

// plan foresees when what is declared for a workload comes to its sites. It is called with the lock held.
func (e *Engine) plan(line *declare.Line, rules *course.Rules, workload string, now time.Time) (legs []course.Leg, version string) {
	legs = rules.Plan(workload, now, func(site string) (course.Query, bool) {
		id := berth.ID{Workload: workload, Site: site}
		q := e.query(line, id, now)
		seen, declared := e.seen(id)
		q.Here, q.Author, q.Signed, q.Takes = seen.Berth, seen.author, seen.signed, seen.takes
		if b := e.berths[id]; b != nil && b.shown.Offer != nil && b.shown.Offer.Revision == seen.of {
			q.Offer = &b.shown.Offer.Offer
		}
		if b := e.berths[id]; b != nil && b.shown.Declared != nil {
			version = cmp.Or(version, b.shown.Declared.Version)
		}
		return q, declared
	})
	return legs, version
}

// longestCalendar is how long a calendar may be.
const longestCalendar = 400 * 24 * time.Hour

// Calendar tells what happens between two moments: windows, freezes and schedules of the line, when revisions come at the earliest
// and whom they wait for, and ends of lives.
func (e *Engine) Calendar(_ context.Context, from, until time.Time) (status.Calendar, error) {
	if !until.After(from) || until.Sub(from) > longestCalendar {
		return status.Calendar{}, fmt.Errorf("a calendar is from a moment to a later one, %d days at most", int(longestCalendar/(24*time.Hour)))
	}
	s := e.Snapshot()
	told := status.Calendar{Line: s.Line, Now: s.Now, From: from, Until: until, Sites: s.Sites, Teams: s.Teams}
	within := func(entry course.Entry) {
		if end := entry.Until; entry.From.Before(until) && (entry.From.After(from) || entry.From.Equal(from) || end.After(from)) {
			told.Entries = append(told.Entries, entry)
		}
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	line, name := e.line()
	var rules *course.Rules
	if line != nil {
		rules = e.rulesOf(name, told.Now)
	}
	if rules != nil {
		told.Entries = append(told.Entries, rules.Calendar(told.Sites, from, until)...)
	}
	coming := map[string]bool{}
	for _, b := range s.Berths {
		if b.Life != nil {
			within(course.Entry{Sort: course.SortEnd, Name: b.Life.Name, Site: b.Site, Workload: b.Workload, From: b.Life.Ends, Text: fmt.Sprintf("%s at %s is torn down: its life ends (%s)", b.Workload, b.Site, b.Life.Name)})
		}
		pending := b.Declared != nil && b.Follows == "" && (b.Applied == nil || b.Applied.Fingerprint != b.Declared.Fingerprint)
		switch {
		case b.Bar != nil:
			within(course.Entry{Sort: course.SortWait, Name: b.Bar.Version, Site: b.Site, Workload: b.Workload, From: told.Now, Text: fmt.Sprintf("%s %s is barred: %s", b.Workload, b.Bar.Version, b.Bar.Why)})
		case pending && rules != nil && rules.CourseOf(b.Workload) != nil:
			coming[b.Workload] = true
		case pending && b.Waits != "" && b.Rollout == nil:
			within(course.Entry{Sort: course.SortBlocked, Name: b.Declared.Version, Site: b.Site, Workload: b.Workload, From: told.Now, Text: fmt.Sprintf("%s %s: %s", b.Workload, b.Declared.Version, b.Waits)})
		}
	}
	for _, workload := range slices.Sorted(maps.Keys(coming)) {
		legs, version := e.plan(line, rules, workload, told.Now)
		for _, leg := range legs {
			b := e.berths[berth.ID{Workload: workload, Site: leg.Site}]
			switch {
			case b == nil || b.shown.Bar != nil:
				continue
			case b.shown.Rollout != nil && b.shown.Rollout.Phase == rollout.Waiting:
				r := b.shown.Rollout
				within(course.Entry{Sort: course.SortWait, Name: version, Site: leg.Site, Workload: workload, From: told.Now, Text: fmt.Sprintf("%s %s: %s", workload, version, r.Why)})
				continue
			}
			for _, entry := range leg.Entries(workload, version, told.Now) {
				within(entry)
			}
		}
	}
	slices.SortStableFunc(told.Entries, func(a, b course.Entry) int {
		return cmp.Or(a.From.Compare(b.From), cmp.Compare(a.Site, b.Site), cmp.Compare(a.Workload, b.Workload))
	})
	return told, nil
}

// scheduledLook is when a schedule has Git looked at next; zero for never.
func (e *Engine) scheduledLook() time.Time {
	now := e.clock.Now()
	e.mu.Lock()
	defer e.mu.Unlock()
	line, name := e.line()
	if line == nil {
		return time.Time{}
	}
	rules := e.rulesOf(name, now)
	if rules == nil {
		return time.Time{}
	}
	at, _ := rules.Looks(now)
	return at
}

// noWorkload is that no link declares a workload, with the one that may be meant.
func (e *Engine) noWorkload(name string) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	var known []string
	for id := range e.declared {
		known = append(known, id.Workload)
	}
	if say.Mistyped(name, known) == "" {
		return fault.New(fault.ErrNotFound, "no link declares %s", name)
	}
	return fault.New(fault.ErrNotFound, "%s", say.None("workload", name, known))
}
