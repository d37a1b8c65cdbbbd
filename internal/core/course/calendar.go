package course

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"aditus/internal/core/calendar"
	"aditus/internal/core/declare"
	"aditus/internal/core/say"
)

// Sort is what kind of thing stands in a calendar.
type Sort string

// Sorts of entries.
const (
	SortWindow   Sort = "window"   // something may begin to move
	SortFreeze   Sort = "freeze"   // nothing may
	SortSchedule Sort = "schedule" // something is done
	SortMove     Sort = "move"     // a revision comes, at the earliest
	SortWait     Sort = "wait"     // it waits for somebody
	SortBlocked  Sort = "blocked"  // it comes only after something else did
	SortOffer    Sort = "offer"    // it is offered to a site's team
	SortEnd      Sort = "end"      // of a life
)

// Entry is one thing in a calendar.
type Entry struct {
	Sort     Sort      `json:"sort"`
	Name     string    `json:"name"`           // as it is declared; of a move, wait or offer the version
	Site     string    `json:"site,omitempty"` // empty for the line
	Workload string    `json:"workload,omitempty"`
	From     time.Time `json:"from"`
	Until    time.Time `json:"until,omitzero"` // zero for a moment
	Some     bool      `json:"some,omitempty"` // it is for some workloads alone, which the text names
	Text     string    `json:"text"`           // in words
}

// mostTicks is how many times of a schedule a calendar shows at most.
const mostTicks = 400

// Calendar gives the windows, freezes and schedules between two moments, those of the line first, then of each site.
func (r *Rules) Calendar(sites []string, from, until time.Time) (all []Entry) {
	spread := func(s *declare.Selector, e Entry) {
		if len(s.Workloads) > 0 {
			e.Text, e.Some = e.Text+", for "+strings.Join(s.Workloads, ", "), !declare.Matches(s.Workloads, "") // * is all of them
		}
		if len(s.Sites)+len(s.Teams) == 0 {
			all = append(all, e)
			return
		}
		for _, site := range sites {
			own := declare.Selector{Sites: s.Sites, Teams: s.Teams}
			if r.Selects(&own, "", site) {
				e.Site = site
				all = append(all, e)
			}
		}
	}
	for _, kind := range []struct {
		sort    Sort
		windows []window
		text    string
	}{{SortFreeze, r.freezes, "%s: nothing moves"}, {SortWindow, r.windows, "%s: something may begin"}} {
		for i := range kind.windows {
			w := &kind.windows[i]
			for _, span := range w.times.Within(calendar.Span{From: from, Until: until}) {
				spread(&w.Selector, Entry{Sort: kind.sort, Name: w.Name, From: span.From, Until: span.Until, Text: fmt.Sprintf(kind.text, w.Name)})
			}
		}
	}
	for i := range r.schedules {
		s := &r.schedules[i]
		for at, n := from.Add(-time.Second), 0; n < mostTicks; n++ {
			next, comes := s.ticks.After(at)
			if !comes || !next.Before(until) {
				break
			}
			spread(&s.Selector, Entry{Sort: SortSchedule, Name: s.Name, From: next, Text: s.Name + ": " + Due{Schedule: s.Schedule}.Text()})
			at = next
		}
	}
	return all
}

// Windowed tells whether there are windows for all that is at a site.
func (r *Rules) Windowed(site string) bool {
	return slices.ContainsFunc(r.windows, func(w window) bool { return r.Selects(&w.Selector, "", site) })
}

// Entries give what stands in a calendar of the way of a revision, as a plan foresees it.
func (l Leg) Entries(workload, version string, now time.Time) (all []Entry) {
	e := Entry{Name: version, Site: l.Site, Workload: workload, From: now, Text: fmt.Sprintf("%s %s", workload, version)}
	switch {
	case !l.Proven.IsZero() || l.Never && len(l.Asks) == 0 && l.Waits == "":
		return nil
	case l.Rolling:
		e.Sort, e.Until, e.Text = SortMove, l.Ends, e.Text+" is under way"
		return []Entry{e}
	}
	people := slices.Contains(l.Asks, l.Waits)
	if !l.Never && !l.ByHand && !people && !l.Begins.IsZero() {
		move := e
		move.Sort, move.From, move.Until = SortMove, l.Begins, l.Ends
		move.Text += fmt.Sprintf(" comes %s at the earliest", say.Moment(l.Begins))
		if rest := l.Waiting(); len(rest) > 0 {
			move.Text += ": " + strings.Join(rest, "; then ")
		}
		all = append(all, move)
	}
	if people {
		e.Sort, e.Text = SortWait, e.Text+" "+strings.Join(l.Asks, "; then ")
		if !l.LastDay.IsZero() {
			e.Sort, e.Until = SortOffer, l.LastDay
		}
		all = append(all, e)
	}
	if len(all) == 0 && l.Waits != "" {
		e.Sort, e.Text = SortBlocked, e.Text+": "+l.Waits
		all = append(all, e)
	}
	return all
}
