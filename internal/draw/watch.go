package draw

import (
	"fmt"
	"image/color"
	"io"
	"math"
	"strings"
	"time"

	"gonum.org/v1/plot/vg"

	"aditus/internal/core/berth"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
	"aditus/internal/view"
	"aditus/internal/words"
)

// Measures of the watch's drawing, in points.
const (
	sheetWidth  = 1000.0
	edge        = 24.0
	chartLeft   = 140.0
	chartRight  = 730.0
	sideLeft    = 766.0
	laneHeight  = 74.0
	laneGap     = 18.0
	trafficHigh = 46.0
	eventRow    = 14.0
)

// watchSheet draws one rollout.
type watchSheet struct {
	*sheet
	w view.Watch
}

// Watch draws a rollout on one time axis: stages, share, instances, the guards' signals with their limits, events, and
// beside it why it is where it is.
func Watch(out io.Writer, format Format, palette Palette, w view.Watch) error {
	events := min(len(w.Events), 12)
	height := edge + 214 + trafficHigh + float64(len(w.Lanes))*(laneHeight+laneGap) + float64(events)*eventRow + edge
	d := &watchSheet{newSheet(format, sheetWidth, math.Max(height, 520), palette), w}
	d.head()
	y := edge + 58
	top := y + 30
	lanesEnd := top + 20 + trafficHigh + 62 + float64(len(w.Lanes))*(laneHeight+laneGap)
	d.guides(top, lanesEnd+22)
	d.stages(y)
	y = d.traffic(top + 20)
	y = d.instances(y + 22)
	for _, lane := range w.Lanes {
		y = d.lane(y+laneGap, lane)
	}
	y = d.axis(y + 22)
	d.events(y+30, events)
	d.side(edge + 58)
	return d.write(out)
}

// x is where a moment is.
func (d *watchSheet) x(at time.Time) float64 {
	share := float64(at.Sub(d.w.Start)) / float64(d.w.End.Sub(d.w.Start))
	return chartLeft + share*(chartRight-chartLeft)
}

func (d *watchSheet) within(at time.Time) bool {
	return !at.Before(d.w.Start) && !at.After(d.w.End)
}

func (d *watchSheet) head() {
	y := edge + 10
	x := d.text(edge, y, d.bright, heading, d.w.Berth.Workload+" · "+d.w.Berth.Site) + 22
	revision := func(c color.Color, r *berth.Revision) {
		if r != nil {
			x = d.text(x, y, c, strong, r.Version)
			x = d.text(x+4, y, d.dim, normal, r.Fingerprint.Short()) + 8
		}
	}
	revision(d.old, d.w.From)
	if d.w.From != nil {
		d.canvas.FillPolygon(d.dim, []vg.Point{d.point(x, y-3), d.point(x+5, y), d.point(x, y+3)})
		x += 13
	}
	revision(d.new, d.w.To)
	title, tone := d.w.Title()
	d.text(x+16, y, d.tone(tone), strong, title)
	d.textRight(sheetWidth-edge, y, d.dim, normal, fmt.Sprintf("%s, as of %s", d.w.Line, d.w.Now.Local().Format("2 Jan 2006 15:04:05")))
	d.line(d.rule, 0.8, nil, d.point(edge, y+18), d.point(sheetWidth-edge, y+18))
}

func (d *watchSheet) stretch(t view.StretchTone) color.Color {
	switch t {
	case view.Back:
		return d.bad
	case view.Alone:
		return d.old
	case view.Holds:
		return d.clear
	}
	return d.new
}

func (d *watchSheet) guides(from, to float64) {
	for _, s := range d.w.Stages {
		c, width := d.rule, 0.8
		if s.Tone == view.Back {
			c, width = d.bad, 1.1
		}
		d.line(c, width, []float64{3, 3}, d.point(d.x(s.From), from), d.point(d.x(s.From), to))
	}
}

func (d *watchSheet) label(y float64, name, under string) {
	d.text(edge, y, d.dim, small, name)
	if under != "" {
		d.text(edge, y+12, d.dim, small, under)
	}
}

func (d *watchSheet) stages(y float64) {
	d.label(y+6, "STAGES", "")
	free := 0.0
	for i, s := range d.w.Stages {
		from, to := d.x(s.From), d.x(s.To)
		d.line(d.stretch(s.Tone), 3, nil, d.point(from, y+20), d.point(to, y+20))
		d.line(d.stretch(s.Tone), 1, nil, d.point(from, y+14), d.point(from, y+26))
		label := strings.ReplaceAll(s.Label, "  ", ", ")
		room := to - from
		if i == len(d.w.Stages)-1 {
			room = chartRight + 20 - from
		}
		if d.width(small, label) > room {
			label, _, _ = strings.Cut(label, ", ")
		}
		if from >= free && d.width(small, label) <= math.Max(room, 24) {
			free = d.text(from, y+6, d.Palette.text, small, label) + 4
		}
	}
}

// steps turns samples that hold until the next one into a line.
func (d *watchSheet) steps(samples []view.Sample, y func(float64) float64) []vg.Point {
	var points []vg.Point
	last := math.NaN()
	for _, s := range samples {
		if !d.within(s.At) {
			continue
		}
		if !math.IsNaN(last) && last != s.Value {
			points = append(points, d.point(d.x(s.At), y(last)))
		}
		points = append(points, d.point(d.x(s.At), y(s.Value)))
		last = s.Value
	}
	if len(points) > 0 {
		points = append(points, d.point(d.x(d.w.End), y(last))) // it holds until now
	}
	return points
}

func (d *watchSheet) traffic(y float64) float64 {
	most := d.w.TopShare()
	d.label(y+4, "TRAFFIC", "share of new")
	d.textRight(chartLeft-8, y+4, d.dim, small, say.Share(most))
	d.textRight(chartLeft-8, y+trafficHigh-4, d.dim, small, "0 %")
	at := func(v float64) float64 { return y + trafficHigh*(1-v/most) }
	if points := d.steps(d.w.Traffic, at); len(points) > 1 {
		base := d.point(0, at(0)).Y
		area := append([]vg.Point{{X: points[0].X, Y: base}}, points...)
		area = append(area, vg.Point{X: points[len(points)-1].X, Y: base})
		d.canvas.FillPolygon(d.new, area)
	}
	d.line(d.rule, 0.6, nil, d.point(chartLeft, y+trafficHigh), d.point(chartRight, y+trafficHigh))
	return y + trafficHigh
}

func (d *watchSheet) instances(y float64) float64 {
	d.label(y, "INSTANCES", "")
	row := func(y float64, name string, samples []view.Sample, c color.Color) {
		from, last := time.Time{}, 0.0
		until := func(at time.Time) {
			if last > 0 {
				text := fmt.Sprintf("%s %.0f", name, last)
				x := d.x(from)
				if to := d.x(at); to-x > d.width(small, text)+6 {
					x = d.text(x, y, c, small, text) + 4
				}
				d.line(c, 1.2, nil, d.point(x, y), d.point(d.x(at), y))
			}
		}
		for _, s := range samples {
			if d.within(s.At) && (from.IsZero() || s.Value != last) {
				until(s.At)
				from, last = s.At, s.Value
			}
		}
		if len(samples) > 0 && !from.IsZero() {
			until(d.w.End)
		}
	}
	row(y, "old", d.w.Old, d.old)
	row(y+14, "new", d.w.New, d.new)
	return y + 22
}

// lane draws a signal. Old is drawn first and wider, so that where both run together each stays visible.
func (d *watchSheet) lane(y float64, lane view.Lane) float64 {
	unit := lane.Limit.Unit
	c := d.Palette.text
	for _, v := range d.w.Verdicts {
		if v.Guard == lane.Guard && words.VerdictTone(v) == words.Bad {
			c = d.bad
		}
	}
	d.text(edge, y+4, c, normal, d.clip(74, normal, lane.Guard))
	if lane.Limit.Relative() {
		d.text(edge, y+17, d.dim, small, lane.Limit.Amount())
		d.text(edge, y+28, d.dim, small, lane.Limit.Against())
	} else {
		d.text(edge, y+17, d.dim, small, lane.Limit.String())
	}
	d.textRight(chartLeft-8, y+4, d.dim, small, unit.Format(lane.High))
	d.textRight(chartLeft-8, y+laneHeight-4, d.dim, small, unit.Format(lane.Low))
	at := func(v float64) float64 {
		return y + laneHeight*(1-math.Max(0, math.Min(1, (v-lane.Low)/(lane.High-lane.Low))))
	}
	gap := 4 * d.w.Rollout.Rules.Interval.Duration
	d.curve(lane.Bound, at, time.Duration(math.MaxInt64), d.bad, 0.9, []float64{4, 2})
	d.curve(lane.Old, at, gap, d.old, 2.6, nil)
	d.curve(lane.New, at, gap, d.new, 1.1, nil)
	d.line(d.rule, 0.6, nil, d.point(chartLeft, y+laneHeight), d.point(chartRight, y+laneHeight))
	return y + laneHeight
}

// curve draws measured samples; it breaks where there was none for longer than gap.
func (d *watchSheet) curve(samples []view.Sample, y func(float64) float64, gap time.Duration, c color.Color, width float64, dashes []float64) {
	var points []vg.Point
	var before time.Time
	flush := func() {
		if len(points) > 1 {
			d.line(c, width, dashes, points...)
		}
		points = nil
	}
	for _, s := range samples {
		if !d.within(s.At) {
			continue
		}
		if !before.IsZero() && s.At.Sub(before) > gap {
			flush()
		}
		points, before = append(points, d.point(d.x(s.At), y(s.Value))), s.At
	}
	flush()
}

func (d *watchSheet) axis(y float64) float64 {
	d.label(y, "EVENTS", "")
	for _, e := range d.w.Events {
		if !d.within(e.At) {
			continue
		}
		x, r := d.x(e.At), 3.5
		c := d.Palette.text
		if e.Tone != words.Quiet {
			c = d.tone(e.Tone)
		}
		diamond := []vg.Point{d.point(x, y-r), d.point(x+r, y), d.point(x, y+r), d.point(x-r, y)}
		if e.Tone == words.Bad {
			d.canvas.FillPolygon(c, diamond)
		} else {
			d.line(c, 0.9, nil, append(diamond, diamond[0])...)
		}
	}
	y += 12
	d.line(d.rule, 0.8, nil, d.point(chartLeft, y), d.point(chartRight, y))
	total := d.w.End.Sub(d.w.Start)
	const ticks = 6
	for i := range ticks + 1 {
		at := d.w.Start.Add(total * time.Duration(i) / ticks)
		x := d.x(at)
		d.line(d.rule, 0.8, nil, d.point(x, y), d.point(x, y+4))
		text := at.Local().Format(time.TimeOnly)
		d.text(math.Min(x, chartRight-d.width(small, text)/2)-d.width(small, text)/2, y+12, d.dim, small, text)
	}
	return y
}

func (d *watchSheet) events(y float64, most int) {
	d.line(d.rule, 0.8, nil, d.point(edge, y-8), d.point(sheetWidth-edge, y-8))
	y += 6
	for i := len(d.w.Events) - 1; i >= len(d.w.Events)-most; i-- {
		e := d.w.Events[i]
		d.text(edge, y, d.dim, small, e.At.Local().Format(time.TimeOnly))
		c := d.Palette.text
		if e.Tone != words.Quiet {
			c = d.tone(e.Tone)
		}
		d.text(edge+52, y, c, small, string(e.Kind))
		d.text(edge+130, y, d.Palette.text, small, d.clip(sheetWidth-2*edge-130, small, e.Text))
		y += eventRow
	}
}

// side tells why, what was done, and what is next.
func (d *watchSheet) side(y float64) {
	width := sheetWidth - edge - sideLeft
	head := func(text string) {
		d.text(sideLeft, y, d.dim, small, text)
		y += 15
	}
	head("WHY")
	for i, line := range d.w.Why() {
		c := d.Palette.text
		if i == 0 {
			c = d.bright
		}
		y = d.wrap(sideLeft, y, width, c, normal, line)
	}
	y += 10
	if done := d.w.Done(); len(done) > 0 {
		head("WHAT WAS DONE")
		for _, e := range done {
			d.text(sideLeft, y, d.dim, normal, e.At.Local().Format("15:04:05.0"))
			d.text(sideLeft+56, y, d.tone(e.Tone), normal, e.Text)
			y += 13
		}
		y += 10
	}
	if d.w.Met.Requests > 0 {
		head("WHO NOTICED")
		y = d.wrap(sideLeft, y, width, d.Palette.text, normal, d.w.Met.String()) + 10
	}
	if seen := d.w.Seen(); seen != "" {
		head("TRAFFIC SEEN")
		d.text(sideLeft, y, d.Palette.text, normal, seen)
		y += 23
	}
	if len(d.w.Verdicts) > 0 {
		title := "VERDICTS"
		if d.w.Rollout.Phase == rollout.RollingBack || d.w.Rollout.Phase == rollout.RolledBack {
			title = "VERDICTS AT THE TURN"
		}
		head(title)
		y = d.verdicts(y) + 10
	}
	head("NEXT")
	for _, line := range d.w.Next() {
		y = d.wrap(sideLeft, y, width, d.Palette.text, normal, line)
	}
}

func (d *watchSheet) verdicts(y float64) float64 {
	for _, v := range d.w.Verdicts {
		unit := v.Limit.Unit
		d.text(sideLeft, y, d.Palette.text, normal, d.clip(62, normal, v.Guard))
		if v.Old != nil {
			d.textRight(sideLeft+108, y, d.old, normal, unit.Format(v.Old.Value))
		}
		if v.New != nil {
			d.textRight(sideLeft+158, y, d.new, normal, unit.Format(v.New.Value))
		}
		d.text(sideLeft+168, y, d.tone(words.VerdictTone(v)), normal, words.VerdictWord(v))
		y += 12
		if more := words.VerdictMore(v); more != "" {
			d.text(sideLeft+8, y, d.dim, small, more)
			y += 13
		}
	}
	return y
}
