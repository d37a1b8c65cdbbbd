package draw

import (
	"fmt"
	"io"
	"time"

	"aditus/internal/core/say"
	"aditus/internal/view"
)

// reportRow is how high a line of the report is, in points.
const reportRow = 16.0

// reportColumns are where the columns of the report end, or begin where they are words.
var reportColumns = struct{ releases, proven, back, typical, slow, longest, turn, why float64 }{250, 310, 370, 450, 530, 610, 690, 710}

// OfReport draws how releases went.
func OfReport(r view.Report, zone *time.Location) Painter {
	return func(out io.Writer, format Format, palette Palette) error {
		return Report(out, format, palette, r, zone)
	}
}

// Report draws how releases went, month by month: how many, how long they took, how many came back and why.
func Report(out io.Writer, format Format, palette Palette, r view.Report, zone *time.Location) error {
	rows := 1
	for _, m := range r.Months {
		rows += len(m.Workloads) + 3
	}
	top := edge + 50.0
	d := newSheet(format, sheetWidth, top+float64(rows+1)*reportRow+edge, palette)
	x := d.text(edge, edge+10, d.bright, heading, r.Line) + 18
	d.text(x, edge+10, d.Palette.text, strong, "how releases went")
	if !r.From.IsZero() {
		d.textRight(sheetWidth-edge, edge+10, d.dim, normal, r.From.In(zone).Format("2 Jan 2006")+" to "+r.Until.In(zone).Format("2 Jan 2006"))
	}
	d.line(d.rule, 0.8, nil, d.point(edge, edge+28), d.point(sheetWidth-edge, edge+28))
	y := top
	if len(r.Months) == 0 {
		d.text(edge, y, d.dim, normal, "nothing was released")
		return d.write(out)
	}
	for _, m := range r.Months {
		d.reportHead(y, m.Month)
		y += reportRow
		for _, l := range m.Workloads {
			d.reportLine(y, l, l.Workload, normal)
			y += reportRow
		}
		if len(m.Workloads) > 1 {
			d.line(d.rule, 0.4, nil, d.point(edge, y-reportRow/2), d.point(sheetWidth-edge, y-reportRow/2))
			d.reportLine(y, m.All, "all", normal)
			y += reportRow
		}
		y += reportRow
	}
	d.reportLine(y, r.All, "all months", strong)
	return d.write(out)
}

func (s *sheet) reportHead(y float64, month string) {
	c := reportColumns
	title := month
	if at, err := time.Parse("2006-01", month); err == nil {
		title = at.Format("January 2006")
	}
	s.text(edge, y, s.bright, strong, title)
	for _, one := range []struct {
		at   float64
		text string
	}{{c.releases, "releases"}, {c.proven, "proven"}, {c.back, "back"}, {c.typical, "typical"}, {c.slow, "9 of 10"}, {c.longest, "longest"}, {c.turn, "turned in"}} {
		s.textRight(one.at, y, s.dim, small, one.text)
	}
	s.text(c.why, y, s.dim, small, "why they came back")
}

func (s *sheet) reportLine(y float64, l view.ReportLine, name string, w weight) {
	c := reportColumns
	s.text(edge, y, s.bright, w, s.clip(c.releases-edge-50, w, name))
	s.textRight(c.releases, y, s.Palette.text, normal, fmt.Sprint(l.Releases))
	s.textRight(c.proven, y, s.clear, normal, fmt.Sprint(l.Proven))
	ink := s.dim
	if l.Back > 0 {
		ink = s.bad
	}
	s.textRight(c.back, y, ink, normal, fmt.Sprint(l.Back))
	for _, one := range []struct {
		at   float64
		took time.Duration
	}{{c.typical, l.Typical}, {c.slow, l.Slow}, {c.longest, l.Longest}, {c.turn, l.TurnBack}} {
		if one.took > 0 {
			s.textRight(one.at, y, s.Palette.text, normal, say.Span(one.took))
		}
	}
	s.text(c.why, y, s.Palette.text, small, s.clip(sheetWidth-edge-c.why, small, l.Told()))
}
