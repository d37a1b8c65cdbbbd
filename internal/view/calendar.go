package view

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/course"
	"aditus/internal/core/say"
	"aditus/internal/status"
	"aditus/internal/words"
)

// Zoom is how much time a calendar shows.
type Zoom int

// Zooms, from near to far.
const (
	Day Zoom = iota
	Week
	TwoWeeks
	Month
	Quarter
	zooms
)

func (z Zoom) String() string {
	return [...]string{"the day", "the week", "the next 2 weeks", "the month", "the quarter"}[z]
}

func (z Zoom) days() int { return [...]int{1, 7, 14, 30, 91}[z] }

// Nearer is the next zoom that shows less.
func (z Zoom) Nearer() Zoom { return max(Day, z-1) }

// Farther is the next zoom that shows more.
func (z Zoom) Farther() Zoom { return min(zooms-1, z+1) }

// Range is the time that a calendar shows: whole days, from the one of a moment on, so many steps later or earlier.
func (z Zoom) Range(now time.Time, steps int, zone *time.Location) (from, until time.Time) {
	y, m, d := now.In(zone).Date()
	step := max(1, z.days()/2)
	from = time.Date(y, m, d+steps*step, 0, 0, 0, 0, zone)
	return from, from.AddDate(0, 0, z.days())
}

// Calendar is a line's time, a lane for each of its sites and for what happens there.
type Calendar struct {
	status.Calendar
	Zoom  Zoom
	Zone  *time.Location
	Lanes []CalendarLane
}

// CalendarLane is one row of a calendar.
type CalendarLane struct {
	Name    string
	Berth   berth.ID // of what happens to one; empty otherwise
	Head    bool     // of the line or a site
	Bound   bool     // windows say when something may begin there
	Spans   []course.Entry
	Marks   []course.Entry // by when they begin
	Entries []course.Entry // all that it shows, by when they begin
}

// NewCalendar lays a calendar out.
func NewCalendar(c status.Calendar, zoom Zoom, zone *time.Location) Calendar {
	cal := Calendar{Calendar: c, Zoom: zoom, Zone: zone}
	cal.site("")
	for _, site := range c.Sites {
		cal.site(site)
	}
	return cal
}

// site adds the lanes of a site, or of the line.
func (c *Calendar) site(site string) {
	head := CalendarLane{Name: cmp.Or(site, "the line"), Head: true}
	var lanes []*CalendarLane
	under := func(name string, id berth.ID) *CalendarLane {
		for _, l := range lanes {
			if l.Name == name && l.Berth == id {
				return l
			}
		}
		lanes = append(lanes, &CalendarLane{Name: name, Berth: id})
		return lanes[len(lanes)-1]
	}
	for _, e := range c.Entries {
		if e.Site != site {
			continue
		}
		switch e.Sort {
		case course.SortWindow, course.SortFreeze:
			head.Bound = head.Bound || e.Sort == course.SortWindow
			head.Spans, head.Entries = append(head.Spans, e), append(head.Entries, e)
			continue
		}
		name := entryName(e)
		id := berth.ID{}
		if e.Workload != "" {
			id = berth.ID{Workload: e.Workload, Site: site}
		}
		lane := under(name, id)
		lane.Marks, lane.Entries = append(lane.Marks, e), append(lane.Entries, e)
	}
	if site == "" && len(head.Entries)+len(lanes) == 0 {
		return
	}
	c.Lanes = append(c.Lanes, head)
	slices.SortStableFunc(lanes, func(a, b *CalendarLane) int {
		return cmp.Or(cmp.Compare(a.Berth.Workload, b.Berth.Workload), cmp.Compare(a.Name, b.Name))
	})
	for _, l := range lanes {
		c.Lanes = append(c.Lanes, *l)
	}
}

// entryName is what an entry is about, in a few words: a rule's name, or a workload with the version that comes.
func entryName(e course.Entry) string {
	switch {
	case e.Workload == "":
		return e.Name
	case e.Sort == course.SortEnd || e.Name == "":
		return e.Workload
	}
	return e.Workload + " " + e.Name
}

// Share is where a moment is, from 0 at the beginning to 1 at the end.
func (c Calendar) Share(at time.Time) float64 {
	return float64(at.Sub(c.From)) / float64(c.Until.Sub(c.From))
}

// CalendarTick is a title over the time axis.
type CalendarTick struct {
	At    time.Time
	Text  string
	Short string // where there is little room
	Week  bool   // a week begins
}

// Ticks are the titles of the time that is shown.
func (c Calendar) Ticks() (ticks []CalendarTick) {
	for at := c.From.In(c.Zone); at.Before(c.Until); {
		t := CalendarTick{At: at, Week: at.Weekday() == time.Monday && at.Hour() == 0}
		switch c.Zoom {
		case Day:
			t.Text = at.Format("15:04")
			t.Short = at.Format("15")
			at = at.Add(3 * time.Hour)
		case Week, TwoWeeks:
			t.Text, t.Short = at.Format("Mon _2"), at.Format("_2")
			at = at.AddDate(0, 0, 1)
		default:
			t.Text, t.Short = at.Format("2 Jan"), at.Format("2")
			at = nextMonday(at)
		}
		ticks = append(ticks, t)
	}
	return ticks
}

// nextMonday is the first after a day.
func nextMonday(at time.Time) time.Time {
	days := (8 - int(at.Weekday())) % 7
	if days == 0 {
		days = 7
	}
	return at.AddDate(0, 0, days)
}

// EntryTone is what an entry is about, for its colour.
func EntryTone(sort course.Sort) words.Tone {
	switch sort {
	case course.SortMove:
		return words.Moves
	case course.SortWait, course.SortOffer:
		return words.Asks
	case course.SortEnd:
		return words.Bad
	}
	return words.Quiet
}

// EntrySign is the sign of an entry.
func EntrySign(sort course.Sort) string {
	switch sort {
	case course.SortMove, course.SortBlocked:
		return "◇"
	case course.SortWait:
		return "◆"
	case course.SortOffer:
		return "◈"
	case course.SortEnd:
		return "✕"
	}
	return "·"
}

// Moment tells when something is, in the calendar's zone.
func (c Calendar) Moment(at time.Time) string { return at.In(c.Zone).Format("Mon 2 Jan 15:04") }

// When tells when an entry is.
func (c Calendar) When(e course.Entry) string {
	if e.Until.IsZero() {
		return c.Moment(e.From)
	}
	until := c.Moment(e.Until)
	if e.From.In(c.Zone).YearDay() == e.Until.In(c.Zone).YearDay() && e.Until.Sub(e.From) < 24*time.Hour {
		until = e.Until.In(c.Zone).Format("15:04")
	}
	return c.Moment(e.From) + " to " + until
}

// Near tells of a lane what comes next, and of a berth's what stands in its way, a few lines of each.
func (c Calendar) Near(l CalendarLane, most int, when func(course.Entry) string) (lines []words.Line) {
	add := func(e course.Entry) {
		if len(lines) < most {
			lines = append(lines, words.Line{Label: when(e), Text: say.Capital(e.Text), Tone: EntryTone(e.Sort)})
		}
	}
	for _, e := range l.Entries {
		if e.From.After(c.Now) || e.Until.After(c.Now) || e.Sort == course.SortWait || e.Sort == course.SortOffer {
			add(e)
		}
	}
	if !l.Head { // what nothing may move through
		for _, e := range c.Entries {
			if e.Sort == course.SortFreeze && (e.Site == "" || e.Site == l.Berth.Site) && e.Until.After(c.Now) {
				add(e)
			}
		}
	}
	if len(lines) == 0 {
		lines = append(lines, words.Line{Text: "Nothing is planned in this time; nothing restricts it either."})
		if l.Bound || len(l.Entries) > 0 {
			lines[0].Text = "Nothing more is planned in this time."
		}
	}
	if more := len(l.Entries) - most; more > 0 && len(lines) == most {
		lines[most-1].Text += fmt.Sprintf("  (%d more)", more)
	}
	return lines
}
