// Package calendar tells when something recurs: spans of time by a rule of RFC 5545 in a time zone, or one from a moment to
// another. It knows no clock; whoever asks says when it is.
package calendar

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/teambition/rrule-go"
)

// Times are spans of time, as they are declared: one from From to Until, or one of a length by each recurrence of a rule.
type Times struct {
	Zone   string `json:"zone,omitempty"`   // of the IANA time zone database; UTC where it is left out
	From   string `json:"from,omitempty"`   // Local: a date, or a date and a time of day
	Until  string `json:"until,omitempty"`  // Local; it is not within any more
	Starts string `json:"starts,omitempty"` // Local: the first that there may be, and the time of day of all
	Rule   string `json:"rule,omitempty"`   // RFC 5545, 3.3.10
	Lasts  string `json:"lasts,omitempty"`  // time that really passes, such as 2h30m
}

// Span is a time from a moment up to another, which is not within.
type Span struct{ From, Until time.Time }

// Has tells whether a moment is within.
func (s Span) Has(t time.Time) bool { return !t.Before(s.From) && t.Before(s.Until) }

// Recurrence is Times that were found right.
type Recurrence struct {
	once  Span
	rule  *rrule.RRule // nil for once
	lasts time.Duration
}

// Limits on what is accepted: whatever is asked is answered by looking at no more than this.
const (
	longestSpan = 366 * 24 * time.Hour
	horizon     = 10 * 366 * 24 * time.Hour // within which a rule must come at all
	mostJoined  = 400                       // spans that meet are one, as far as so many
)

// local are the forms of a moment without a zone.
var local = []string{"2006-01-02T15:04:05", "2006-01-02T15:04", "2006-01-02"}

// Moment reads a date, or a date and a time of day, in a zone. A time of day that a change of the clocks leaves out is taken by
// the offset from before it.
func Moment(text string, zone *time.Location) (time.Time, error) {
	for _, form := range local {
		if t, err := time.ParseInLocation(form, text, zone); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no moment: write it like 2026-12-01 or 2026-12-01T06:00, in the zone's own time", text)
}

// Zone finds a time zone by its name; UTC for none.
func Zone(name string) (*time.Location, error) {
	if name == "Local" {
		return nil, errors.New("write the zone's name, such as Atlantic/Reykjavik: what is local differs from machine to machine")
	}
	zone, err := time.LoadLocation(name)
	if err != nil {
		return nil, fmt.Errorf("there is no time zone %q; names are like Atlantic/Reykjavik", name)
	}
	return zone, nil
}

// New checks times.
func New(t Times) (*Recurrence, error) {
	zone, err := Zone(t.Zone)
	if err != nil {
		return nil, err
	}
	once, recurs := t.From != "" || t.Until != "", t.Rule != "" || t.Starts != "" || t.Lasts != ""
	switch {
	case once == recurs:
		return nil, errors.New("write either from: and until:, or starts:, rule: and lasts:")
	case once && (t.From == "" || t.Until == ""):
		return nil, errors.New("from: needs until:, and until: needs from:")
	case once:
		r := &Recurrence{}
		if r.once.From, err = Moment(t.From, zone); err != nil {
			return nil, fmt.Errorf("from: %w", err)
		}
		if r.once.Until, err = Moment(t.Until, zone); err != nil {
			return nil, fmt.Errorf("until: %w", err)
		}
		if !r.once.Until.After(r.once.From) {
			return nil, fmt.Errorf("it ends at %s, before it begins", t.Until)
		}
		return r, nil
	case t.Rule == "" || t.Starts == "" || t.Lasts == "":
		return nil, errors.New("a time that recurs needs starts:, rule: and lasts:")
	}
	starts, err := Moment(t.Starts, zone)
	if err != nil {
		return nil, fmt.Errorf("starts: %w", err)
	}
	r := &Recurrence{}
	if r.lasts, err = time.ParseDuration(t.Lasts); err != nil || r.lasts < time.Minute || r.lasts > longestSpan {
		return nil, fmt.Errorf("lasts: %q is no length from a minute to a year; write it like 2h30m", t.Lasts)
	}
	options, err := rrule.StrToROptionInLocation(strings.ToUpper(t.Rule), zone)
	switch {
	case err != nil:
		return nil, fmt.Errorf("rule: %q is no recurrence rule (%w); write it like FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR", t.Rule, err)
	case !options.Dtstart.IsZero():
		return nil, errors.New("rule: it has a start of its own; write that as starts:")
	case options.Freq > rrule.DAILY:
		return nil, errors.New("rule: what comes more often than every day is written as several that come daily")
	case options.Interval < 0 || len(options.Byhour)+len(options.Byminute)+len(options.Bysecond) > 24:
		return nil, errors.New("rule: it comes more than two dozen times a day")
	}
	options.Dtstart = starts
	if r.rule, err = rrule.NewRRule(*options); err != nil {
		return nil, fmt.Errorf("rule: %w", err)
	}
	if len(r.rule.Between(starts, starts.Add(horizon), true)) == 0 {
		return nil, fmt.Errorf("rule: %q never comes within ten years of its start", t.Rule)
	}
	return r, nil
}

// At gives the span that a moment is within. Spans that meet or overlap are one.
func (r *Recurrence) At(t time.Time) (found Span, within bool) {
	if r.rule == nil {
		return r.once, r.once.Has(t)
	}
	for _, from := range r.rule.Between(t.Add(-r.lasts), t, true) {
		if s := (Span{from, from.Add(r.lasts)}); s.Has(t) {
			if !within {
				found = s
			}
			found.Until, within = s.Until, true
		}
	}
	if !within {
		return Span{}, false
	}
	for range mostJoined {
		next := r.rule.Between(found.Until.Add(-r.lasts), found.Until, true)
		if len(next) == 0 || !next[len(next)-1].Add(r.lasts).After(found.Until) {
			break
		}
		found.Until = next[len(next)-1].Add(r.lasts)
	}
	return found, true
}

// After gives the first span that begins after a moment, within ten years.
func (r *Recurrence) After(t time.Time) (Span, bool) {
	if r.rule == nil {
		return r.once, r.once.From.After(t)
	}
	from := r.rule.After(t, false)
	if from.IsZero() || from.Sub(t) > horizon {
		return Span{}, false
	}
	return Span{from, from.Add(r.lasts)}, true
}

// Between gives all spans that have something of a time, oldest first, and no more than most.
func (r *Recurrence) Between(within Span, most int) (all []Span) {
	s, ok := r.At(within.From)
	if !ok {
		s, ok = r.After(within.From)
	}
	for ok && s.From.Before(within.Until) && len(all) < most {
		if n := len(all); n > 0 && !s.From.After(all[n-1].Until) {
			all[n-1].Until = s.Until
		} else {
			all = append(all, s)
		}
		s, ok = r.After(s.From)
	}
	return all
}
