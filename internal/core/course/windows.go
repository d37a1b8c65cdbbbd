package course

import (
	"fmt"
	"slices"
	"time"

	"aditus/internal/core/calendar"
	"aditus/internal/core/declare"
	"aditus/internal/core/say"
)

// Windows of one kind (the line's, a site's, a workload's, a team's, or of several of these) stand for each other: one of them
// must be open. Of each kind that there is for a berth one must. Freezes stand each for itself.

// applies tells whether a window is for a berth.
func (r *Rules) applies(w *declare.Window, workload, site string) bool {
	return r.Selects(&w.Selector, workload, site)
}

// group is which kind of window it is.
func group(w *declare.Window) int {
	kind := 0
	for i, of := range [][]string{w.Sites, w.Workloads, w.Teams} {
		if len(of) > 0 {
			kind |= 1 << i
		}
	}
	return kind
}

const groups = 8

// block is a freeze or a kind of window that is in the way.
type block struct {
	window *window
	in     barrier
	span   calendar.Span // of the freeze, or the window that is too short
	until  time.Time     // at the earliest; zero for never
}

// barrier is how it is.
type barrier int

const (
	frozen  barrier = iota // a freeze
	freezes                // one begins before it would end
	shut                   // no window is open
	short                  // one is, and not for long enough
	past                   // none opens any more
)

// why tells it in words, and whether they say until when.
func (b block) why(takes time.Duration) (text string, told bool) {
	switch b.in {
	case frozen:
		return fmt.Sprintf("%s: nothing moves until %s", b.window.Name, say.Moment(b.until)), true
	case freezes:
		return fmt.Sprintf("it takes %s at least, and %s begins %s", say.Span(takes), b.window.Name, say.Moment(b.span.From)), false
	case short:
		return fmt.Sprintf("it takes %s at least, and the window %s ends %s", say.Span(takes), b.window.Name, say.Moment(b.span.Until)), false
	case past:
		return fmt.Sprintf("the window %s does not open any more", b.window.Name), true
	}
	return fmt.Sprintf("waits for the window %s, which opens %s", b.window.Name, say.Moment(b.until)), true
}

// blocks are what is in the way of something that begins at a moment and takes so long.
func (r *Rules) blocks(at time.Time, workload, site string, takes time.Duration) (all []block) {
	for i := range r.freezes {
		w := &r.freezes[i]
		if !r.applies(&w.Window, workload, site) {
			continue
		}
		if s, within := w.times.At(at); within {
			all = append(all, block{w, frozen, s, s.Until})
		} else if s, comes := w.times.After(at); comes && s.From.Before(at.Add(takes)) {
			all = append(all, block{w, freezes, s, s.Until})
		}
	}
	var kinds [groups][]*window
	for i := range r.windows {
		if w := &r.windows[i]; r.applies(&w.Window, workload, site) {
			kinds[group(&w.Window)] = append(kinds[group(&w.Window)], w)
		}
	}
	for _, windows := range kinds {
		if b, in := closed(windows, at, takes); in {
			all = append(all, b)
		}
	}
	return all
}

// closed tells whether none of several windows is open for long enough.
func closed(windows []*window, at time.Time, takes time.Duration) (b block, is bool) {
	if len(windows) == 0 {
		return b, false
	}
	b = block{window: windows[0], in: past}
	for _, w := range windows {
		if s, within := w.times.At(at); within {
			if !at.Add(takes).After(s.Until) {
				return b, false
			}
			if s.Until.After(b.span.Until) {
				b.window, b.in, b.span = w, short, s
			}
		}
		if s, comes := w.times.After(at); comes && (b.until.IsZero() || s.From.Before(b.until)) {
			if b.until = s.From; b.in != short {
				b.window, b.in = w, shut
			}
		}
	}
	return b, true
}

// later is a moment that is not before another; the other where it is.
func later(a, b time.Time) time.Time {
	if a.Before(b) {
		return b
	}
	return a
}

// mostTries bounds how many openings are looked at.
const mostTries = 120

// Opens is when something that takes so long may begin at the earliest; false where none of the next openings is long enough.
func (r *Rules) Opens(at time.Time, workload, site string, takes time.Duration) (time.Time, bool) {
	for range mostTries {
		blocks := r.blocks(at, workload, site, takes)
		if len(blocks) == 0 {
			return at, true
		}
		next := at
		for _, b := range blocks {
			if b.until.IsZero() {
				return time.Time{}, false
			}
			next = later(next, b.until)
		}
		if !next.After(at) {
			return time.Time{}, false
		}
		at = next
	}
	return time.Time{}, false
}

// Open tells whether something that takes so long may begin now.
func (r *Rules) Open(now time.Time, workload, site string, takes time.Duration) Answer {
	blocks := r.blocks(now, workload, site, takes)
	if len(blocks) == 0 {
		return Answer{}
	}
	why, told := blocks[0].why(takes)
	a := Answer{Kind: Window, Why: why}
	opens, ever := r.Opens(now, workload, site, takes)
	switch {
	case !ever:
		a.Why += "; none of the next openings is as long as that takes"
	case !told || !opens.Equal(blocks[0].until):
		a.Why += fmt.Sprintf("; it may begin %s", say.Moment(opens))
	}
	a.Until = opens
	return a
}

// mayPass are those who may pass over all that is in the way.
func (r *Rules) mayPass(now time.Time, workload, site string, takes time.Duration) (who []string) {
	for i, b := range r.blocks(now, workload, site, takes) {
		if i == 0 {
			who = slices.Clone(b.window.Override)
			continue
		}
		who = slices.DeleteFunc(who, func(one string) bool { return !slices.Contains(b.window.Override, one) })
	}
	return who
}

// Holds tells why a rollout that is under way is to be held, as no window is open any more or a freeze began; empty where it goes on.
func (r *Rules) Holds(now time.Time, workload, site string) string {
	for _, b := range r.blocks(now, workload, site, 0) {
		if b.window.Caught == declare.CaughtHolds {
			why, _ := b.why(0)
			return why
		}
	}
	return ""
}

// Frozen tells why nothing moves at a berth now; empty where no freeze is.
func (r *Rules) Frozen(now time.Time, workload, site string) string {
	for i := range r.freezes {
		w := &r.freezes[i]
		if s, within := w.times.At(now); within && r.applies(&w.Window, workload, site) {
			return fmt.Sprintf("%s: nothing moves until %s", w.Name, say.Moment(s.Until))
		}
	}
	return ""
}
