// Command guards measures the guards on made-up traffic and writes the figures and charts of docs/guards.md anew.
package main

import (
	"bytes"
	"flag"
	"fmt"
	"image/color"
	"math"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sync/errgroup"
	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"

	"aditus/internal/core/guard"
	"aditus/internal/simulate"
)

const (
	risk   = 0.01
	missed = 0.01 // that Wald's bound is told for
	page   = "docs/guards.md"
	charts = "docs/guards"
	begins = "<!-- figures, written by make guards -->\n"
	ends   = "<!-- end of figures -->"
)

// setups are how busy a workload is, how many of its answers are bad, and what its guard allows above old.
var setups = []setup{{300, 0.05, 0.01}, {1000, 0.01, 0.005}, {4000, 0.02, 0.005}}

type setup struct{ requests, bad, above float64 }

// String tells it in short: 300 in 10 s, 5 % bad, +1.
func (s setup) String() string {
	return fmt.Sprintf("%.0f in 10 s, %.4g %% bad, +%.3g", s.requests, 100*s.bad, 100*s.above)
}

func main() {
	rollouts := flag.Int("rollouts", 200, "how many rollouts without a regression are played for each kind of traffic")
	flag.Parse()
	if err := run(*rollouts); err != nil {
		fmt.Fprintln(os.Stderr, "guards:", err)
		os.Exit(1)
	}
}

func run(rollouts int) error {
	var out bytes.Buffer
	backs(&out, rollouts)
	eagerly(&out, rollouts/2)
	clears(&out, rollouts/2)
	others(&out, max(50, rollouts/5))
	ratios, err := delays(&out, max(200, rollouts/2))
	if err != nil {
		return err
	}
	harms, err := harmed(&out, max(200, rollouts/5))
	if err != nil {
		return err
	}
	rivals(&out, max(100, rollouts/5))
	if err := os.MkdirAll(charts, 0o755); err != nil {
		return err
	}
	if err := ratios.Save(16*vg.Centimeter, 8*vg.Centimeter, filepath.Join(charts, "delay.svg")); err != nil {
		return err
	}
	if err := harms.Save(16*vg.Centimeter, 8*vg.Centimeter, filepath.Join(charts, "harm.svg")); err != nil {
		return err
	}
	text, err := os.ReadFile(page)
	if err != nil {
		return err
	}
	before, rest, ok := strings.Cut(string(text), begins)
	_, after, closed := strings.Cut(rest, ends)
	if !ok || !closed {
		return fmt.Errorf("%s has no place for the figures: put %q and %q into it", page, strings.TrimSpace(begins), ends)
	}
	return os.WriteFile(page, []byte(before+begins+out.String()+ends+after), 0o644)
}

// each plays so many stories on all processors.
func each(n int, play func(seed uint64) simulate.Outcome) []simulate.Outcome {
	all := make([]simulate.Outcome, n)
	var group errgroup.Group
	group.SetLimit(8)
	for seed := range n {
		group.Go(func() error {
			all[seed] = play(uint64(seed))
			return nil
		})
	}
	_ = group.Wait() // none fails
	return all
}

// mean is what stories came to on average.
type mean struct{ harmed, requests, intervals, back float64 }

func meanOf(all []simulate.Outcome) (m mean) {
	n := float64(len(all))
	for _, o := range all {
		m.harmed, m.requests, m.intervals = m.harmed+o.Harmed/n, m.requests+o.Requests/n, m.intervals+o.Interval/n
		if o.Back {
			m.back += 1 / n
		}
	}
	return m
}

// seen tells how many of stories it was, and the most that it may really be.
func seen(all []simulate.Outcome, was func(simulate.Outcome) bool) string {
	n := 0
	for _, o := range all {
		if was(o) {
			n++
		}
	}
	p := guard.Proportion(float64(n), float64(len(all)))
	return fmt.Sprintf("%.2f %% (≤ %.2f)", 100*p.Value, 100*p.High)
}

func back(o simulate.Outcome) bool { return o.Back }

// careful is a careful rollout in a kind of traffic, with a warm-up where instances start cold.
func careful(kind simulate.Traffic, rules ...guard.Rule) simulate.Plan {
	plan := simulate.Careful(rules[0], risk)
	plan.Guards = rules
	if kind.Cold > 0 {
		plan.Warm = 5 + int(3*kind.ColdFor)
	}
	return plan
}

// eager is the rule of a share under the second guarantee.
func eager(above float64) guard.Rule {
	rule := simulate.Ratio(above)
	rule.Safe = guard.NoWorse
	return rule
}

var (
	ink   = color.RGBA{0x2c, 0x36, 0x3e, 0xff}
	tones = []color.Color{color.RGBA{0x3f, 0x6e, 0x9e, 0xff}, color.RGBA{0xb8, 0x85, 0x1f, 0xff}, color.RGBA{0x3a, 0x86, 0x5e, 0xff}, color.RGBA{0xc8, 0x4a, 0x3a, 0xff}}
)

func chart(title, x, y string) *plot.Plot {
	p := plot.New()
	p.Title.Text, p.X.Label.Text, p.Y.Label.Text = title, x, y
	p.X.Color, p.Y.Color = ink, ink
	p.Legend.Top = true
	p.Add(plotter.NewGrid())
	return p
}

func line(p *plot.Plot, name string, tone color.Color, points plotter.XYs) error {
	l, s, err := plotter.NewLinePoints(points)
	if err != nil {
		return err
	}
	l.Color, s.Color, l.Width = tone, tone, vg.Points(1.4)
	p.Add(l, s)
	p.Legend.Add(name, l)
	return nil
}

// powers marks a logarithmic axis with the numbers themselves.
type powers struct{}

func (powers) Ticks(low, high float64) (ticks []plot.Tick) {
	for _, v := range []float64{0.1, 0.3, 1, 3, 10, 30, 100, 300} {
		if at := math.Log10(v); at >= low && at <= high {
			ticks = append(ticks, plot.Tick{Value: at, Label: fmt.Sprint(v)})
		}
	}
	return ticks
}
