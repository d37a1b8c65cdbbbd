package draw

import (
	"io"
	"slices"
	"strings"
	"time"

	"gonum.org/v1/plot/vg"

	"aditus/internal/core/course"
	"aditus/internal/status"
)

// Measures of the course's drawing, in points.
const (
	legWidth  = 176.0
	legHeight = 74.0
	legApart  = 34.0 // steps, with the lines between them
	legBelow  = 12.0 // sites of one step
)

// OfCourse draws the way of a revision through its sites.
func OfCourse(c status.Course, zone *time.Location) Painter {
	return func(out io.Writer, format Format, palette Palette) error {
		return Course(out, format, palette, c, zone)
	}
}

// Course draws the way of a revision through its sites: steps from left to right, a box for each site with when it begins there at the
// earliest and what it waits for, and lines from the sites that have to prove it before.
func Course(out io.Writer, format Format, palette Palette, c status.Course, zone *time.Location) error {
	var steps [][]course.Leg
	for _, leg := range c.Legs {
		for len(steps) < leg.Step {
			steps = append(steps, nil)
		}
		steps[leg.Step-1] = append(steps[leg.Step-1], leg)
	}
	steps = slices.DeleteFunc(steps, func(legs []course.Leg) bool { return len(legs) == 0 })
	most := 1
	for _, legs := range steps {
		most = max(most, len(legs))
	}
	top := edge + 46.0
	width := max(sheetWidth/2, 2*edge+float64(len(steps))*(legWidth+legApart)-legApart)
	d := newSheet(format, width, top+float64(most)*(legHeight+legBelow)+edge, palette)
	x := d.text(edge, edge+10, d.bright, heading, strings.TrimSpace(c.Workload+" "+c.Version)) + 18
	about := "on the course " + c.Course
	if c.Course == "" {
		about = "on no course: it comes by hand"
	} else if !c.On {
		about += ", which is off"
	}
	d.text(x, edge+10, d.Palette.text, strong, about)
	d.line(d.rule, 0.8, nil, d.point(edge, edge+28), d.point(width-edge, edge+28))
	at := map[string][2]float64{} // the left upper corner of each site's box
	for i, legs := range steps {
		for k, leg := range legs {
			at[leg.Site] = [2]float64{edge + float64(i)*(legWidth+legApart), top + float64(k)*(legHeight+legBelow)}
		}
	}
	for _, leg := range c.Legs {
		to := at[leg.Site]
		for _, before := range leg.After {
			from, shown := at[before]
			if !shown {
				continue
			}
			var dashes []float64
			if leg.Any {
				dashes = []float64{3, 2}
			}
			middle := to[0] - legApart/2
			d.line(d.dim, 1, dashes, d.point(from[0]+legWidth, from[1]+legHeight/2), d.point(middle, from[1]+legHeight/2), d.point(middle, to[1]+legHeight/2), d.point(to[0], to[1]+legHeight/2))
		}
	}
	for _, leg := range c.Legs {
		d.leg(leg, at[leg.Site][0], at[leg.Site][1], zone)
	}
	return d.write(out)
}

// leg draws one site's box.
func (s *sheet) leg(leg course.Leg, x, y float64, zone *time.Location) {
	ink, when := s.new, leg.Comes(zone)
	switch {
	case !leg.Proven.IsZero():
		ink, when = s.clear, "proven "+leg.Proven.In(zone).Format("Mon 2 Jan 15:04")
	case leg.Never:
		ink = s.bad
	case leg.Rolling:
	case leg.ByHand:
		ink = s.dim
	case len(leg.Asks) > 0:
		ink, when = s.asks, "begins "+when
	default:
		when = "begins " + when
	}
	s.box(x, y, legWidth, legHeight, s.ground)
	s.line(ink, 1.2, nil, []vg.Point{s.point(x, y), s.point(x+legWidth, y), s.point(x+legWidth, y+legHeight), s.point(x, y+legHeight), s.point(x, y)}...)
	s.text(x+8, y+13, s.bright, strong, s.clip(legWidth-16, strong, leg.Site))
	s.text(x+8, y+28, ink, normal, when)
	waits := leg.Waiting()
	row := y + 43
	for _, text := range waits[:min(len(waits), 2)] {
		s.text(x+8, row, s.Palette.text, small, s.clip(legWidth-16, small, text))
		row += 13
	}
}
