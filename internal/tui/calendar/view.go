package calendar

import (
	"fmt"
	"strings"
	"time"

	"aditus/internal/core/course"
	"aditus/internal/core/say"
	"aditus/internal/tui/kit"
	"aditus/internal/view"
)

// Places of the screen.
const (
	titlesAt  = 2
	lanesAt   = 4
	details   = 8 // rows, with the rule above them
	leastText = 8 // cells, below which no text stands beside a mark
)

// View implements screen.Screen.
func (m *Model) View(p *kit.Page) {
	c := m.cal
	x := p.Head(c.Line, "calendar", c.Now.In(c.Zone).Format("Mon 2 Jan  15:04:05"))
	what := c.Zoom.String()
	if m.steps != 0 {
		what = fmt.Sprintf("%s to %s", c.From.In(c.Zone).Format("Mon 2 Jan"), c.Until.Add(-time.Second).In(c.Zone).Format("Mon 2 Jan 2006"))
	}
	p.PutIn(x, 0, p.W-x-24, kit.Text, what+", times in "+zoneName(c))
	left := kit.Margin + 1
	label := 16
	for _, l := range c.Lanes {
		label = max(label, kit.Width(l.Name)+3)
	}
	label = min(label, max(12, p.W/4))
	chart := chart{c, left + label, p.W - kit.Margin - 1}
	chart.titles(p)
	end := p.H - 2 - details
	if p.H < 30 {
		end = p.H - 2 - 5
	}
	m.rowsAt, m.room = lanesAt, max(1, end-lanesAt)
	from, to := m.list.Window(m.room, len(c.Lanes))
	nx, now := chart.x(c.Now)
	if now {
		p.Put(nx, lanesAt-1, kit.Clear, "┃")
		p.PutIn(nx+1, lanesAt-1, chart.right-nx-1, kit.Dim, "now")
	}
	y := lanesAt
	for i := from; i < to; i++ {
		l := c.Lanes[i]
		if i == m.list.At {
			p.Choose(y)
		}
		role, at := kit.Text, left+2
		if l.Head {
			role, at = kit.Bright, left
		}
		p.PutIn(at, y, label-1-(at-left), role, l.Name)
		chart.spans(p, y, l)
		if now {
			p.Put(nx, y, kit.Clear, "┃")
		}
		chart.marks(p, y, l)
		y++
	}
	p.More(lanesAt-1, from, to, len(c.Lanes))
	if len(c.Lanes) == 0 {
		p.Put(left, lanesAt, kit.Text, "There is no site yet.")
	}
	m.detail(p, end, p.H-2)
}

func zoneName(c view.Calendar) string {
	name := c.Zone.String()
	if name == "Local" {
		name = c.Now.In(c.Zone).Format("MST")
	}
	return name
}

// detail tells the selected lane in sentences.
func (m *Model) detail(p *kit.Page, y, end int) {
	p.Rule(y)
	l, ok := m.selected()
	if !ok {
		return
	}
	left := kit.Margin + 1
	name := l.Name
	if l.Berth.Workload != "" {
		name += " · " + l.Berth.Site
	}
	at := p.Put(left, y+1, kit.Bright, name)
	if team := m.cal.Teams[l.Name]; l.Head && team != "" {
		p.Put(at+3, y+1, kit.Dim, "of "+team)
	}
	y += 2
	label, when := 39, m.cal.When
	if p.W < 120 {
		label, when = 18, func(e course.Entry) string { return m.cal.Moment(e.From) }
	}
	for _, line := range m.cal.Near(l, end-y, when) {
		if y >= end {
			return
		}
		x := left
		if line.Label != "" {
			p.PutIn(left, y, label-1, kit.Dim, line.Label)
			x = left + label
		}
		p.PutIn(x, y, p.W-x-2, kit.RoleOf(line.Tone), line.Text)
		y++
	}
}

// chart is the part of the screen that time goes across.
type chart struct {
	c           view.Calendar
	left, right int
}

// x is the column of a moment; false where that is not shown.
func (h chart) x(at time.Time) (int, bool) {
	share := h.c.Share(at)
	return h.column(share), share >= 0 && share < 1
}

func (h chart) column(share float64) int {
	return h.left + int(max(0, min(1, share))*float64(h.right-h.left))
}

// titles writes the days over the chart.
func (h chart) titles(p *kit.Page) {
	ticks := h.c.Ticks()
	for i, t := range ticks {
		at := h.column(h.c.Share(t.At))
		next := h.right
		if i+1 < len(ticks) {
			next = h.column(h.c.Share(ticks[i+1].At))
		}
		text := t.Text
		if kit.Width(text) >= next-at {
			text = t.Short
		}
		if kit.Width(text) >= next-at {
			continue // it would run into the next one
		}
		role := kit.Dim
		if t.Week {
			role = kit.Text
		}
		p.PutIn(at, titlesAt, max(next-at, kit.Width(text)), role, text)
	}
}

// spans draws when something may move in one row, and when nothing may.
func (h chart) spans(p *kit.Page, y int, l view.CalendarLane) {
	if l.Head && !l.Bound { // nothing restricts it
		p.Put(h.left, y, kit.Rule, strings.Repeat("─", h.right-h.left))
	}
	for _, sort := range []course.Sort{course.SortWindow, course.SortFreeze} {
		for _, e := range l.Spans {
			if e.Sort == sort {
				h.span(p, y, e)
			}
		}
	}
}

// marks draws what happens in one row, with a few words beside each.
func (h chart) marks(p *kit.Page, y int, l view.CalendarLane) {
	for i, e := range l.Marks {
		at, in := h.x(e.From)
		if e.From.Before(h.c.From) && e.Until.After(h.c.From) {
			at, in = h.left, true
		}
		if !in {
			continue
		}
		role := kit.RoleOf(view.EntryTone(e.Sort))
		if e.Sort == course.SortBlocked {
			role = kit.Dim
		}
		next := h.right
		for _, other := range l.Marks[i+1:] {
			if ox, shown := h.x(other.From); shown {
				next = ox
				break
			}
		}
		p.Put(at, y, role, view.EntrySign(e.Sort))
		text := beside(h.c, e)
		switch width := kit.Width(text); {
		case text == "":
		case next-at-2 >= min(width, leastText*3):
			p.PutIn(at+2, y, next-at-3, role, text)
		case i == 0 && at-h.left >= width+1:
			p.Right(at-1, y, role, text)
		case next-at-2 >= leastText:
			p.PutIn(at+2, y, next-at-3, role, text)
		}
	}
}

// span draws a window or a freeze.
func (h chart) span(p *kit.Page, y int, e course.Entry) {
	from, until := h.column(h.c.Share(e.From)), h.column(h.c.Share(e.Until))
	until = max(until, from+1)
	if e.Sort == course.SortFreeze {
		p.Put(from, y, kit.Dim, strings.Repeat("▓", until-from))
		switch width := kit.Width(e.Name); {
		case from-h.left > width+1:
			p.Right(from-1, y, kit.Text, " "+e.Name)
		case h.right-until > width+1:
			p.Put(until+1, y, kit.Text, e.Name+" ")
		}
		return
	}
	line := strings.Repeat("─", max(0, until-from-2))
	switch {
	case until-from < 2:
		line = "╌"
	case e.From.Before(h.c.From):
		line = "─" + line + "┤"
	case e.Until.After(h.c.Until):
		line = "├" + line + "─"
	default:
		line = "├" + line + "┤"
	}
	p.Put(from, y, kit.Text, line)
}

// beside is what stands beside a mark.
func beside(c view.Calendar, e course.Entry) string {
	text := strings.TrimSpace(strings.TrimPrefix(strings.TrimPrefix(e.Text, e.Workload), " "+e.Name))
	switch e.Sort {
	case course.SortSchedule:
		return ""
	case course.SortMove:
		if !e.From.After(c.Now) {
			return "under way"
		}
		at := e.From.In(c.Zone)
		switch day := c.Now.In(c.Zone); {
		case at.YearDay() == day.YearDay() && at.Year() == day.Year():
			return at.Format("15:04") + " at the earliest"
		case at.Sub(day) < 6*24*time.Hour:
			return at.Format("Mon 15:04") + " at the earliest"
		}
		return c.Moment(e.From) + " at the earliest"
	case course.SortEnd:
		if left := e.From.Sub(c.Now); left > 0 {
			return "ends in " + say.Span(left)
		}
		return "ended"
	}
	return strings.TrimPrefix(text, ": ")
}
