// Package calendar tells when something recurs: spans of time by a rule of RFC 5545 in a time zone, or one from a moment to
// another. It knows no clock; whoever asks says when it is.
package calendar

import (
	"errors"
	"fmt"
	"slices"
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

// Recurrence is all spans that Times make around a moment, those that meet or overlap as one, oldest first.
type Recurrence []Span

// Limits on what is accepted, and on how far is looked.
const (
	longestSpan = 366 * 24 * time.Hour
	back        = 2 * longestSpan  // before the moment
	ahead       = 10 * longestSpan // and after it
	mostSpans   = 4000
	firstYear   = 2000
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

// New checks times, and tells when they are: for two years before a moment and ten years after it, or as far as a few thousand
// recurrences go. The zero moment stands for their start.
func New(t Times, around time.Time) (Recurrence, error) {
	zone, err := Zone(t.Zone)
	if err != nil {
		return nil, err
	}
	once, recurs := t.From != "" || t.Until != "", t.Rule != "" || t.Starts != "" || t.Lasts != ""
	switch {
	case once == recurs:
		return nil, errors.New("write either from: and until:, or starts:, rule: and lasts: together")
	case once && (t.From == "" || t.Until == ""):
		return nil, errors.New("from: and until: stand together")
	case once:
		var s Span
		if s.From, err = Moment(t.From, zone); err != nil {
			return nil, fmt.Errorf("from: %w", err)
		}
		if s.Until, err = Moment(t.Until, zone); err != nil {
			return nil, fmt.Errorf("until: %w", err)
		}
		if !s.Until.After(s.From) {
			return nil, fmt.Errorf("it ends at %s, before it begins", t.Until)
		}
		return Recurrence{s}, nil
	case t.Rule == "" || t.Starts == "" || t.Lasts == "":
		return nil, errors.New("a time that recurs needs starts:, rule: and lasts: together")
	}
	starts, err := Moment(t.Starts, zone)
	if err != nil {
		return nil, fmt.Errorf("starts: %w", err)
	}
	if starts.Year() < firstYear {
		return nil, fmt.Errorf("starts: %s is long ago; write one from %d on", t.Starts, firstYear)
	}
	lasts, err := time.ParseDuration(t.Lasts)
	if err != nil || lasts < time.Minute || lasts > longestSpan {
		return nil, fmt.Errorf("lasts: %q is no length from a minute to a year; write it like 2h30m", t.Lasts)
	}
	options, err := rrule.StrToROptionInLocation(strings.ToUpper(t.Rule), zone)
	switch {
	case err != nil:
		return nil, fmt.Errorf("rule: %q is no recurrence rule (%w); write it like FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR", t.Rule, err)
	case !options.Dtstart.IsZero():
		return nil, errors.New("rule: it has a start of its own, which stands in starts: instead")
	case options.Freq > rrule.DAILY:
		return nil, errors.New("rule: what comes more often than every day is written as several that come daily")
	case options.Interval < 0 || len(options.Byhour)+len(options.Byminute)+len(options.Bysecond) > 24:
		return nil, errors.New("rule: it comes more than two dozen times a day")
	}
	options.Dtstart = starts
	rule, err := rrule.NewRRule(*options)
	if err != nil {
		return nil, fmt.Errorf("rule: %w", err)
	}
	if around.IsZero() {
		around = starts
	}
	if len(rule.Between(starts, starts.Add(ahead), true)) == 0 {
		return nil, fmt.Errorf("rule: %q never comes within ten years of its start", t.Rule)
	}
	r := Recurrence{}
	next := rule.Iterator()
	for count := 0; count < mostSpans; {
		from, comes := next()
		if !comes || from.After(around.Add(ahead)) {
			break
		}
		s := Span{from, from.Add(lasts)}
		if s.Until.Before(around.Add(-back)) {
			continue
		}
		if count++; len(r) > 0 && !s.From.After(r[len(r)-1].Until) {
			r[len(r)-1].Until = s.Until
		} else {
			r = append(r, s)
		}
	}
	return r, nil
}

// search finds the first span that ends after a moment.
func (r Recurrence) search(t time.Time) int {
	i, _ := slices.BinarySearchFunc(r, t, func(s Span, t time.Time) int {
		if s.Until.After(t) {
			return 1
		}
		return -1
	})
	return i
}

// At gives the span that a moment is within.
func (r Recurrence) At(t time.Time) (Span, bool) {
	if i := r.search(t); i < len(r) && r[i].Has(t) {
		return r[i], true
	}
	return Span{}, false
}

// After gives the first span that begins after a moment.
func (r Recurrence) After(t time.Time) (Span, bool) {
	i := r.search(t)
	if i < len(r) && !r[i].From.After(t) {
		i++
	}
	if i == len(r) {
		return Span{}, false
	}
	return r[i], true
}

// Within gives the spans that overlap with one, oldest first.
func (r Recurrence) Within(of Span) []Span {
	from := r.search(of.From)
	until := from
	for until < len(r) && r[until].From.Before(of.Until) {
		until++
	}
	return r[from:until]
}
