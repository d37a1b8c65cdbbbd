package draw

import (
	"image/color"
	"io"
	"time"

	"gonum.org/v1/plot/vg"

	"aditus/internal/core/course"
	"aditus/internal/view"
)

// Measures of the calendar's drawing, in points.
const (
	calendarLeft = 150.0
	calendarRow  = 17.0
	calendarTop  = edge + 62
)

type calendarSheet struct {
	*sheet
	c view.Calendar
}

// OfCalendar draws a line's time.
func OfCalendar(c view.Calendar) Painter {
	return func(out io.Writer, format Format, palette Palette) error { return Calendar(out, format, palette, c) }
}

// Calendar draws a line's time: sites down, days across.
func Calendar(out io.Writer, format Format, palette Palette, c view.Calendar) error {
	height := calendarTop + float64(len(c.Lanes)+1)*calendarRow + edge
	d := &calendarSheet{newSheet(format, sheetWidth, height, palette), c}
	x := d.text(edge, edge+10, d.bright, heading, c.Line) + 18
	d.text(x, edge+10, d.Palette.text, strong, c.From.In(c.Zone).Format("2 January")+" to "+c.Until.Add(-time.Second).In(c.Zone).Format("2 January 2006"))
	d.textRight(sheetWidth-edge, edge+10, d.dim, normal, "as of "+c.Now.In(c.Zone).Format("2 Jan 2006 15:04"))
	d.line(d.rule, 0.8, nil, d.point(edge, edge+28), d.point(sheetWidth-edge, edge+28))
	bottom := height - edge
	ticks := c.Ticks()
	for i, t := range ticks {
		at := d.x(t.At)
		width := 0.3
		if t.Week {
			width = 0.8
		}
		d.line(d.rule, width, nil, d.point(at, edge+36), d.point(at, bottom))
		room := sheetWidth - edge - at
		if i+1 < len(ticks) {
			room = d.x(ticks[i+1].At) - at
		}
		text := t.Text
		if d.width(small, text)+4 > room {
			text = t.Short
		}
		if d.width(small, text)+4 <= room {
			d.text(at+3, edge+42, d.dim, small, text)
		}
	}
	for i, l := range c.Lanes {
		d.lane(calendarTop+float64(i)*calendarRow, l)
	}
	if share := c.Share(c.Now); share >= 0 && share < 1 {
		d.line(d.clear, 1.2, nil, d.point(d.x(c.Now), edge+36), d.point(d.x(c.Now), bottom))
	}
	return d.write(out)
}

func (d *calendarSheet) x(at time.Time) float64 {
	return calendarLeft + max(0, min(1, d.c.Share(at)))*(sheetWidth-edge-calendarLeft)
}

func (d *calendarSheet) lane(y float64, l view.CalendarLane) {
	ink, at := d.Palette.text, edge+12.0
	if l.Head {
		ink, at = d.bright, edge
	}
	d.text(at, y, ink, normal, d.clip(calendarLeft-at-8, normal, l.Name))
	if l.Head && !l.Bound {
		d.line(d.rule, 1, nil, d.point(calendarLeft, y), d.point(sheetWidth-edge, y))
	}
	for _, e := range l.Spans {
		from, until := d.x(e.From), d.x(e.Until)
		if e.Sort == course.SortFreeze {
			d.box(from, y-5, max(1, until-from), 10, d.rule)
			d.text(from+3, y, d.Palette.text, small, d.clip(max(0, until-from-4), small, e.Name))
			continue
		}
		d.line(d.Palette.text, 1, nil, d.point(from, y), d.point(until, y))
		for _, end := range []float64{from, until} {
			d.line(d.Palette.text, 1, nil, d.point(end, y-3), d.point(end, y+3))
		}
	}
	for i, e := range l.Marks {
		from := e.From
		if from.Before(d.c.From) && e.Until.After(d.c.From) {
			from = d.c.From
		}
		if share := d.c.Share(from); share < 0 || share >= 1 {
			continue
		}
		c, x := d.tone(view.EntryTone(e.Sort)), d.x(from)
		if e.Sort == course.SortBlocked {
			c = d.dim
		}
		d.mark(x, y, c, e.Sort)
		room := sheetWidth - edge - x - 8
		if i+1 < len(l.Marks) {
			room = d.x(l.Marks[i+1].From) - x - 8
		}
		if e.Sort != course.SortSchedule && room > 24 {
			d.text(x+7, y, c, small, d.clip(room, small, e.Text))
		}
	}
}

// mark draws the sign of an entry.
func (d *calendarSheet) mark(x, y float64, c color.Color, sort course.Sort) {
	diamond := []vg.Point{d.point(x-4, y), d.point(x, y-4), d.point(x+4, y), d.point(x, y+4), d.point(x-4, y)}
	switch sort {
	case course.SortMove, course.SortBlocked:
		d.line(c, 1.2, nil, diamond...)
	case course.SortWait:
		d.canvas.FillPolygon(c, diamond)
	case course.SortOffer:
		d.line(c, 1.2, nil, diamond...)
		d.box(x-1.5, y-1.5, 3, 3, c)
	case course.SortEnd:
		d.line(c, 1.4, nil, d.point(x-3, y-3), d.point(x+3, y+3))
		d.line(c, 1.4, nil, d.point(x-3, y+3), d.point(x+3, y-3))
	default:
		d.box(x-1, y-1, 2, 2, d.dim)
	}
}
