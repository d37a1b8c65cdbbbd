package course

import (
	"fmt"
	"time"

	"aditus/internal/core/calendar"
	"aditus/internal/core/declare"
	"aditus/internal/core/say"
)

// schedule is one that is ready to be asked.
type schedule struct {
	declare.Schedule
	ticks calendar.Ticks
}

// end is so too; at is zero where it depends on when a berth was first applied.
type end struct {
	declare.End
	at time.Time
}

// agenda makes schedules and ends ready.
func (r *Rules) agenda() error {
	for _, s := range r.Line.Schedules {
		ticks, err := calendar.NewTicks(s.Cron, s.Zone, s.At)
		if err != nil {
			return fmt.Errorf("%s: %w", s.Name, err)
		}
		r.schedules = append(r.schedules, schedule{s, ticks})
	}
	for _, e := range r.Line.Ends {
		own := end{End: e}
		if e.At != "" {
			zone, err := calendar.Zone(e.Zone)
			if err == nil {
				own.at, err = calendar.Moment(e.At, zone)
			}
			if err != nil {
				return fmt.Errorf("%s: %w", e.Name, err)
			}
		}
		r.ends = append(r.ends, own)
	}
	return nil
}

// Due is what a schedule has to do now.
type Due struct {
	declare.Schedule
	At     time.Time // for when it was
	Missed bool      // that is over: nothing ran, or the site could not be reached
}

// Grace is how late something may be done that was not missed.
const Grace = 2 * time.Minute

// Due gives what schedules have to do at a berth, by when each had its turn last. One that never had is not due before it comes
// next.
func (r *Rules) Due(workload, site string, had map[string]time.Time, now time.Time) (due []Due) {
	for i := range r.schedules {
		s := &r.schedules[i]
		last, known := had[s.Name]
		if !known || s.Do == declare.ActLook || !r.Selects(&s.Selector, workload, site) {
			continue
		}
		if at, others, is := s.ticks.Due(last, now); is {
			due = append(due, Due{s.Schedule, at, others || now.Sub(at) > Grace})
		}
	}
	return due
}

// Scheduled names the schedules that are for a berth.
func (r *Rules) Scheduled(workload, site string) (names []string) {
	for i := range r.schedules {
		if s := &r.schedules[i]; s.Do != declare.ActLook && r.Selects(&s.Selector, workload, site) {
			names = append(names, s.Name)
		}
	}
	return names
}

// Looks is when a schedule has Git looked at next; false for never.
func (r *Rules) Looks(after time.Time) (next time.Time, comes bool) {
	for i := range r.schedules {
		if s := &r.schedules[i]; s.Do == declare.ActLook {
			if at, ever := s.ticks.After(after); ever && (!comes || at.Before(next)) {
				next, comes = at, true
			}
		}
	}
	return next, comes
}

// End is when a berth's life ends.
type End struct {
	Name    string        `json:"name"`
	At      time.Time     `json:"at"`
	Notice  time.Duration `json:"notice"` // how long before it is announced
	Volumes bool          `json:"volumes,omitempty"`
}

// EndOf gives the end that comes first to a berth which was first applied at a moment; false where there is none.
func (r *Rules) EndOf(workload, site string, first time.Time) (found End, is bool) {
	for i := range r.ends {
		e := &r.ends[i]
		if !r.Selects(&e.Selector, workload, site) || e.at.IsZero() && first.IsZero() {
			continue
		}
		at := e.at
		if at.IsZero() {
			at = first.Add(e.After.Duration)
		}
		if !is || at.Before(found.At) {
			found, is = End{e.Name, at, e.Notice.Duration, e.Volumes}, true
		}
	}
	return found, is
}

// Next is when a schedule comes next to a berth, by when each had its turn last; false for never.
func (r *Rules) Next(workload, site string, had map[string]time.Time, now time.Time) (next time.Time, comes bool) {
	for i := range r.schedules {
		s := &r.schedules[i]
		if s.Do == declare.ActLook || !r.Selects(&s.Selector, workload, site) {
			continue
		}
		last, known := had[s.Name]
		if !known {
			last = now
		}
		if at, ever := s.ticks.After(last); ever && (!comes || at.Before(next)) {
			next, comes = at, true
		}
	}
	return next, comes
}

// Text tells what a schedule does.
func (d Due) Text() string {
	text := string(d.Do)
	if d.Do == declare.ActScale {
		text = "scale " + orAll(d.Part) + " as declared"
		if d.To != nil {
			text = fmt.Sprintf("scale %s to %d", orAll(d.Part), *d.To)
		}
	}
	return text
}

func orAll(part string) string {
	if part == "" {
		return "all services"
	}
	return part
}

// Since tells for when it was.
func (d Due) Since() string { return say.Moment(d.At) }
