package calendar

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
)

// Ticks are moments: those of a cron expression in a time zone, or a single one.
type Ticks struct {
	cron cron.Schedule
	wall bool // its times of day are those of a clock on the wall
	zone *time.Location
	once time.Time
}

// NewTicks reads a cron expression of five fields, or one such as @daily, in a zone; or else a moment of RFC 3339.
//
// An expression with hours is about the clock on the wall: what a change of the clocks leaves out comes by the offset from
// before it, and what they show twice comes once. One for all hours comes in each hour that passes.
func NewTicks(expression, zone, moment string) (Ticks, error) {
	switch {
	case (expression == "") == (moment == ""):
		return Ticks{}, errors.New("write either cron: or at: with it")
	case moment != "" && zone != "":
		return Ticks{}, errors.New("at: has an offset of its own; leave zone: out")
	case moment != "":
		once, err := time.Parse(time.RFC3339, moment)
		if err != nil {
			return Ticks{}, fmt.Errorf("at: %q is no moment: write it like 2026-12-01T06:00:00Z or 2026-12-01T06:00:00+01:00", moment)
		}
		return Ticks{once: once}, nil
	}
	at, err := Zone(zone)
	if err != nil {
		return Ticks{}, err
	}
	schedule, err := cron.ParseStandard(expression)
	switch {
	case strings.Contains(expression, "="):
		return Ticks{}, errors.New("cron: its zone stands in zone: beside it")
	case strings.HasPrefix(expression, "@every"):
		return Ticks{}, errors.New("cron: write at which minutes and hours, such as */15 * * * *")
	case err != nil:
		return Ticks{}, fmt.Errorf("cron: %q is no cron expression (%w); write it like 30 2 * * *", expression, err)
	case schedule.Next(time.Date(firstYear, 1, 1, 0, 0, 0, 0, time.UTC)).IsZero():
		return Ticks{}, fmt.Errorf("cron: %q never comes", expression)
	}
	fields := strings.Fields(expression)
	return Ticks{cron: schedule, zone: at, wall: len(fields) == 1 && fields[0] != "@hourly" || len(fields) == 5 && !strings.HasPrefix(fields[1], "*")}, nil
}

// After gives the first that comes after a moment.
func (t Ticks) After(after time.Time) (time.Time, bool) {
	if t.cron == nil {
		return t.once, t.once.After(after)
	}
	if !t.wall {
		next := t.cron.Next(after.In(t.zone))
		return next, !next.IsZero()
	}
	// Both clocks differ by what the offset may change by, so that none is passed over.
	for wall := onWall(after.In(t.zone)).Add(-mostChange); ; {
		if wall = t.cron.Next(wall); wall.IsZero() {
			return time.Time{}, false
		}
		if next := offWall(wall, t.zone); next.After(after) {
			return next, true
		}
	}
}

// mostChange is by how much clocks are changed at most, but where a place moves over the date line, which shows a day twice or never.
const mostChange = 24 * time.Hour

// onWall is what a clock shows, as if it were one of UTC.
func onWall(t time.Time) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), 0, time.UTC)
}

// offWall is when a clock shows a time first, or would by the offset from before a change that leaves it out.
func offWall(wall time.Time, zone *time.Location) time.Time {
	_, before := wall.Add(-mostChange).In(zone).Zone()
	by := wall.Add(-time.Duration(before) * time.Second) // by the offset of the day before
	if onWall(by.In(zone)).Equal(wall) {
		return by.In(zone)
	}
	for _, near := range []time.Duration{0, -3 * time.Hour, 3 * time.Hour} { // a change in between
		_, offset := by.Add(near).In(zone).Zone()
		if t := wall.Add(-time.Duration(offset) * time.Second); onWall(t.In(zone)).Equal(wall) {
			return t.In(zone)
		}
	}
	return by.In(zone) // it is left out
}

// mostBack is how far back is looked for the last one of those that were missed.
const mostBack = 40 * 24 * time.Hour

// Due gives the last that came after one moment and up to another, and whether there were others before it.
func (t Ticks) Due(after, now time.Time) (last time.Time, others, due bool) {
	next, comes := t.After(after)
	if !comes || next.After(now) {
		return time.Time{}, false, false
	}
	if now.Sub(next) > mostBack {
		if near, comes := t.After(now.Add(-mostBack)); comes && !near.After(now) {
			next, others = near, true
		}
	}
	for last = next; ; others = true {
		if next, comes = t.After(last); !comes || next.After(now) {
			return last, others, true
		}
		last = next
	}
}
