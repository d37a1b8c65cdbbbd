package draw

import (
	"image/color"
	"io"
	"math"
	"time"

	"gonum.org/v1/plot/vg"

	"aditus/internal/view"
)

// Measures of the bench's drawing, in points.
const (
	benchHigh  = 240.0
	benchLeft  = 96.0
	benchRow   = 14.0
	benchTicks = 6
)

type benchSheet struct {
	*sheet
	b     view.Bench
	limit float64
	top   float64
}

// Bench draws a guard's signal over its history with a limit, the releases of that time, and what the limit would have
// made of each.
func Bench(out io.Writer, format Format, palette Palette, b view.Bench, limit float64) error {
	trial := b.Try(limit)
	height := edge + 110 + benchHigh + 70 + float64(max(1, len(trial.Releases)))*benchRow + edge
	d := &benchSheet{newSheet(format, sheetWidth, height, palette), b, limit, b.Top(limit, b.Rule.Limit.Value)}
	y := edge + 10
	x := d.text(edge, y, d.bright, heading, b.Heading()) + 18
	x = d.text(x, y, d.Palette.text, strong, b.Rule.Name) + 14
	d.text(x, y, d.Palette.text, normal, b.With(limit).Limit.String())
	d.textRight(sheetWidth-edge, y, d.dim, normal, b.Line+", as of "+b.Now.Local().Format("2 Jan 2006 15:04:05"))
	d.line(d.rule, 0.8, nil, d.point(edge, y+18), d.point(sheetWidth-edge, y+18))
	y += 36
	for _, line := range b.Words() {
		d.text(edge, y, d.Palette.text, normal, line)
		y += 14
	}
	y += 8
	d.chart(y)
	d.outcomes(y+benchHigh+54, trial)
	return d.write(out)
}

func (d *benchSheet) x(at time.Time) float64 {
	share := float64(at.Sub(d.b.Since)) / math.Max(1, float64(d.b.Now.Sub(d.b.Since)))
	return benchLeft + share*(sheetWidth-edge-benchLeft)
}

// chart draws the history, what came in with each release, the limit, and the releases below.
func (d *benchSheet) chart(top float64) {
	unit := d.b.Rule.Limit.Unit
	at := func(v float64) float64 { return top + benchHigh*(1-math.Max(0, math.Min(1, v/d.top))) }
	d.textRight(benchLeft-8, top+4, d.dim, small, unit.Format(d.top))
	d.textRight(benchLeft-8, top+benchHigh, d.dim, small, unit.Format(0))
	gap := max(16*time.Minute, d.b.Now.Sub(d.b.Since)/200)
	curve := func(samples []view.Sample, c color.Color, width float64) {
		var points []vg.Point
		for i, s := range samples {
			if i > 0 && s.At.Sub(samples[i-1].At) > gap {
				d.line(c, width, nil, points...)
				points = nil
			}
			points = append(points, d.point(d.x(s.At), at(s.Value)))
		}
		if len(points) > 1 {
			d.line(c, width, nil, points...)
		}
	}
	curve(d.b.History, d.old, 1.4)
	for _, r := range d.b.Releases {
		curve(r.New, d.new, 1.1)
	}
	if !d.b.Moves {
		d.line(d.bad, 1, []float64{4, 2}, d.point(benchLeft, at(d.limit)), d.point(sheetWidth-edge, at(d.limit)))
		d.textRight(benchLeft-8, at(d.limit), d.bad, small, unit.Format(d.limit))
	}
	y := top + benchHigh
	d.line(d.rule, 0.8, nil, d.point(benchLeft, y), d.point(sheetWidth-edge, y))
	for i := range benchTicks + 1 {
		moment := d.b.Since.Add(d.b.Now.Sub(d.b.Since) * time.Duration(i) / benchTicks)
		text := moment.Local().Format("2 Jan 15:04")
		x := math.Min(d.x(moment), sheetWidth-edge-d.width(small, text)/2)
		d.text(math.Max(benchLeft, x-d.width(small, text)/2), y+22, d.dim, small, text)
	}
	for _, r := range d.b.Releases {
		x, c := d.x(r.Began), d.tone(r.Tone())
		d.canvas.FillPolygon(c, []vg.Point{d.point(x-3.5, y+9), d.point(x, y+3), d.point(x+3.5, y+9)})
	}
}

// outcomes lists what the limit would have made of each release.
func (d *benchSheet) outcomes(y float64, t view.Trial) {
	if len(t.Releases) == 0 {
		d.text(edge, y, d.dim, normal, "No release of this time showed the signal.")
	}
	for _, r := range t.Releases {
		text, tone := r.Outcome()
		d.text(edge, y, d.Palette.text, normal, d.clip(80, normal, r.Version))
		d.text(edge+90, y, d.dim, normal, r.Began.Local().Format("2 Jan 15:04"))
		d.text(edge+180, y, d.tone(r.Tone()), normal, string(r.Phase))
		d.text(edge+270, y, d.tone(tone), normal, text)
		y += benchRow
	}
}
