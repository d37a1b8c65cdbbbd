// Command guards measures the guards on made-up traffic and writes the figures and charts of docs/guards.md anew.
package main

import (
	"bytes"
	"errors"
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
	"aditus/internal/core/guard/panel"
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

// String tells it in short: 300 in 10 s, 5 % bad, 1 point.
func (s setup) String() string {
	return fmt.Sprintf("%.0f in 10 s, %.4g %% bad, +%.3g", s.requests, 100*s.bad, 100*s.above)
}

func main() {
	rollouts := flag.Int("rollouts", 1000, "how many rollouts without a regression are played for each kind of traffic")
	flag.Parse()
	if err := run(*rollouts); err != nil {
		fmt.Fprintln(os.Stderr, "guards:", err)
		os.Exit(1)
	}
}

func run(rollouts int) error {
	var out bytes.Buffer
	falsely(&out, rollouts)
	ratios, err := delays(&out, max(200, rollouts/4))
	if err != nil {
		return err
	}
	harms, err := harmed(&out, max(200, rollouts/10))
	if err != nil {
		return err
	}
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

// count plays so many stories on all processors and counts those that breach.
func count(n int, play func(seed uint64) bool) int {
	const parts = 8
	found := make([]int, parts)
	var group errgroup.Group
	for part := range parts {
		group.Go(func() error {
			for seed := part; seed < n; seed += parts {
				if play(uint64(seed)) {
					found[part]++
				}
			}
			return nil
		})
	}
	_ = group.Wait() // no part fails
	total := 0
	for _, f := range found {
		total += f
	}
	return total
}

// sum plays so many stories and adds up what each gives.
func sum(n int, play func(seed uint64) (a, b float64)) (a, b float64) {
	type pair struct{ a, b float64 }
	found := make([]pair, n)
	var group errgroup.Group
	group.SetLimit(8)
	for seed := range n {
		group.Go(func() error {
			found[seed].a, found[seed].b = play(uint64(seed))
			return nil
		})
	}
	_ = group.Wait() // none fails
	for _, f := range found {
		a, b = a+f.a, b+f.b
	}
	return a, b
}

func percent(n, of int) string { return fmt.Sprintf("%.2f %%", 100*float64(n)/float64(of)) }

// extremes are the same where requests or bad answers are few or many.
var extremes = []setup{{2, 0.05, 0.05}, {20, 0.02, 0.02}, {1e6, 0.0001, 0.00005}, {1000, 0.995, 0.003}, {1000, 0.5, 0.05}}

// seen tells how many of so many it was, and the most that it may really be.
func seen(n, of int) string {
	p := guard.Proportion(float64(n), float64(of))
	return fmt.Sprintf("%.2f %% (≤ %.2f)", 100*p.Value, 100*p.High)
}

// careful is a careful rollout in a kind of traffic, with a warm-up where instances start cold.
func careful(kind simulate.Traffic, rule guard.Rule) simulate.Plan {
	plan := simulate.Careful(rule, risk)
	if kind.Cold > 0 {
		plan.Warm = 5
	}
	return plan
}

// back counts the rollouts of a plan that turn back.
func back(n int, plan simulate.Plan, kind simulate.Traffic, worse float64) int {
	return count(n, func(seed uint64) bool { return plan.Play(kind, worse, 0, seed).Back })
}

// falsely tells how many rollouts without a regression are rolled back, and how many with one are passed.
func falsely(out *bytes.Buffer, n int) {
	fmt.Fprintf(out, "\n### False rollbacks over a whole rollout\n\n%d rollouts for each cell, without a regression, judged every 10 s with a risk of 1 %% to the end of the proving: 5 %%, 25 %% and\n50 %% of the traffic for 20 minutes, then 15 minutes with 5 %% left on old. In brackets the most that it may really be (99 %%).\nIn the kinds marked * one cohort alone is worse for longer than a stage shows, through no fault of the version: nothing that is\nseen of two cohorts can tell that from a regression, and nothing is promised there.\n\n| traffic |", n)
	for _, s := range setups {
		fmt.Fprintf(out, " %s |", s)
	}
	fmt.Fprintf(out, "\n| --- |%s\n", strings.Repeat(" ---: |", len(setups)))
	for i, kind := range simulate.Kinds(0, 0) {
		mark := ""
		if kind.Unlike {
			mark = " *"
		}
		fmt.Fprintf(out, "| %s%s |", kind.Name, mark)
		for _, s := range setups {
			kind := simulate.Kinds(s.requests, s.bad)[i]
			fmt.Fprintf(out, " %s |", seen(back(n, careful(kind, simulate.Ratio(s.above)), kind, 0), n))
		}
		fmt.Fprintf(out, "\n")
	}
	fmt.Fprintf(out, "\n| other loads and ratios | steady | all of it |\n| --- | ---: | ---: |\n")
	for _, s := range extremes {
		kinds := simulate.Kinds(s.requests, s.bad)
		fmt.Fprintf(out, "| %s |", s)
		for _, kind := range []simulate.Traffic{kinds[0], kinds[len(kinds)-1]} {
			if s.bad > 0.3 {
				kind.Scatter, kind.Outages = 0, 0 // there is no room for them
			}
			fmt.Fprintf(out, " %s |", seen(back(n/4, careful(kind, simulate.Ratio(s.above)), kind, 0), n/4))
		}
		fmt.Fprintf(out, "\n")
	}
	fmt.Fprintf(out, "\n### Falsely clear\n\n%d stages of ten minutes with 25 %% of the traffic for each cell, in which new is worse by half as much again as is allowed: how many\nend clear, of which 5 %% may.\n\n| traffic |", n/2)
	for _, s := range setups {
		fmt.Fprintf(out, " %s |", s)
	}
	fmt.Fprintf(out, "\n| --- |%s\n", strings.Repeat(" ---: |", len(setups)))
	for i, kind := range simulate.Kinds(0, 0) {
		fmt.Fprintf(out, "| %s |", kind.Name)
		for _, s := range setups {
			kind := simulate.Kinds(s.requests, s.bad)[i]
			plan := simulate.Long(simulate.Ratio(s.above), risk, 0.25, 60)
			fmt.Fprintf(out, " %s |", seen(count(n/2, func(seed uint64) bool { return plan.Play(kind, 1.5*s.above, 0, seed).Ending == panel.EndsProven }), n/2))
		}
		fmt.Fprintf(out, "\n")
	}
	fmt.Fprintf(out, "\n### Means\n\nOf answers (median 100 ms, 400 requests in 10 s), %d rollouts for each line:\n\n| answers | allowed above old | no regression | at the limit |\n| --- | ---: | ---: | ---: |\n", n/10)
	for _, a := range []simulate.Answers{{Name: "short tail", Typical: 0.1, Tail: 0.5}, {Name: "slower and faster together", Typical: 0.1, Tail: 0.5, Wander: 0.05}, {Name: "scattered by cohort", Typical: 0.1, Tail: 0.5, Wander: 0.03, Scatter: 0.1}, {Name: "long tail", Typical: 0.1, Tail: 1.2, Wander: 0.03, Scatter: 0.05}} {
		play := func(slower float64) func(uint64) bool {
			return func(seed uint64) bool {
				return simulate.Careful(simulate.Mean(0.02), risk).Means(simulate.Traffic{Requests: 400}, a, slower, seed).Back
			}
		}
		fmt.Fprintf(out, "| %s | 20 ms | %s | %s |\n", a.Name, seen(count(n/10, play(0)), n/10), seen(count(n/10, play(0.02)), n/10))
	}
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

// delays tells how long it takes to see regressions of several sizes, against Wald's bound.
func delays(out *bytes.Buffer, n int) (*plot.Plot, error) {
	fmt.Fprintf(out, "\n### Delay\n\nRequests that new answers until the breach, with 5 %% of steady traffic, over %d rollouts for each line, against the fewest\nthat any sequential test can do with on average (Wald) with the same risk of %.0f %% and as few misses (%.0f %%). *Intervals*\nis the same in evaluation intervals. A breach takes two of them at least, so where the bound is below a few intervals\nthe ratio says more of the interval than of the method.\n\n", n, risk*100, missed*100)
	fmt.Fprintf(out, "| bad answers | limit | regression beyond the limit | requests | bound | ratio | intervals | bound |\n| ---: | ---: | ---: | ---: | ---: | ---: | ---: | ---: |\n")
	p := chart("Delay against the lower bound", "intervals that the bound takes", "ratio")
	for i, s := range setups {
		var points plotter.XYs
		for _, size := range []float64{0.5, 1, 1.5, 2, 3, 5} {
			extra := size * (s.bad + s.above)
			requests, intervals := sum(n, func(seed uint64) (float64, float64) {
				o := simulate.Long(simulate.Ratio(s.above), risk, 0.05, 5000).Play(simulate.Traffic{Requests: s.requests, Bad: s.bad}, s.above+extra, 0, seed)
				return o.Requests, o.Interval
			})
			requests, intervals = requests/float64(n), intervals/float64(n)
			bound, per := simulate.Bound(s.bad, s.above, extra, 0.05, risk, missed), s.requests*0.05
			fmt.Fprintf(out, "| %.1f %% | %.1f points | %.2f points | %.0f | %.0f | %.2f | %.1f | %.1f |\n", s.bad*100, s.above*100, extra*100, requests, bound, requests/bound, intervals, bound/per)
			points = append(points, plotter.XY{X: math.Log10(bound / per), Y: requests / bound})
		}
		if err := line(p, fmt.Sprintf("%.0f requests, %.1f %% bad", s.requests, s.bad*100), tones[i], points); err != nil {
			return nil, err
		}
	}
	goal := plotter.NewFunction(func(float64) float64 { return 1.5 })
	goal.Color, goal.Dashes = tones[3], []vg.Length{vg.Points(4), vg.Points(2)}
	p.Add(goal)
	p.Legend.Add("the aim, 1.5", goal)
	p.Y.Min, p.Y.Max = 1, 4
	p.X.Tick.Marker = powers{}
	fmt.Fprintf(out, "\n![ratio of the delay to the lower bound](guards/delay.svg)\n")
	return p, nil
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

// tuned finds the quickest rule that counts and that breaches falsely in as few rollouts.
func tuned(kind simulate.Traffic, above float64, n int) (guard.Count, int) {
	best, bestDelay, bestFalse := guard.Count{}, math.Inf(1), 0
	for _, c := range []guard.Count{{Intervals: 2, Of: 3}, {Intervals: 3, Of: 4}, {Intervals: 3, Of: 5}, {Intervals: 4, Of: 5}, {Intervals: 5, Of: 6}, {Intervals: 6, Of: 8}, {Intervals: 8, Of: 10}, {Intervals: 10, Of: 12}} {
		for _, samples := range []float64{50, 150, 400, 1000, 2500} {
			c.Samples = samples
			wrong := count(n, func(seed uint64) bool {
				return simulate.Careful(simulate.Counting(above, c), risk).Play(kind, 0, 0, seed).Back
			})
			if float64(wrong) > risk*float64(n) {
				continue
			}
			total, _ := sum(60, func(seed uint64) (float64, float64) {
				o := simulate.Careful(simulate.Counting(above, c), risk).Play(kind, above+2*(kind.Bad+above), 0, seed)
				if !o.Back {
					return 1e6, 0
				}
				return o.Interval, 0
			})
			if total < bestDelay {
				best, bestDelay, bestFalse = c, total, wrong
			}
		}
	}
	return best, bestFalse
}

// harmed tells how many requests a regression harms before it is rolled back, against the rule that counts.
func harmed(out *bytes.Buffer, n int) (*plot.Plot, error) {
	s := setups[1]
	kind := scattered(s)
	c, wrong := tuned(kind, s.above, n)
	fmt.Fprintf(out, "\n### Requests harmed before the rollback\n\nBad answers beyond those that old would have given, until the breach or the end of the rollout, over %d rollouts for each\nline, with %.0f requests in 10 s, %.0f %% of them bad, and %.1f points allowed above old, in the traffic that is *%s*.\n*Counting* is the quickest of 40 rules that breach falsely in at most 1 %% of these rollouts: %d of %d intervals with at\nleast %.0f requests (%s false).\n\n", n, s.requests, s.bad*100, s.above*100, kind.Name, c.Intervals, c.Of, c.Samples, percent(wrong, n))
	fmt.Fprintf(out, "| worse by | within the limit: harmed | found | no worse than old: harmed | found | counting: harmed | found |\n| ---: | ---: | ---: | ---: | ---: | ---: | ---: |\n")
	p := chart("Requests harmed before the rollback", "worse by, in points", "requests")
	eager := simulate.Ratio(s.above)
	eager.Safe = guard.NoWorse
	var sequential, counting, eagerly plotter.XYs
	for _, worse := range []float64{0, 0.0025, 0.005, 0.01, 0.015, 0.02, 0.03, 0.05, 0.1, 0.2} {
		a, foundA := sum(n, func(seed uint64) (float64, float64) {
			o := simulate.Careful(simulate.Ratio(s.above), risk).Play(kind, worse, 0, seed)
			return o.Harmed, found(o)
		})
		b, foundB := sum(n, func(seed uint64) (float64, float64) {
			o := simulate.Careful(simulate.Counting(s.above, c), risk).Play(kind, worse, 0, seed)
			return o.Harmed, found(o)
		})
		e, foundE := sum(n, func(seed uint64) (float64, float64) {
			o := simulate.Careful(eager, risk).Play(kind, worse, 0, seed)
			return o.Harmed, found(o)
		})
		a, b, e = a/float64(n), b/float64(n), e/float64(n)
		fmt.Fprintf(out, "| %.2f points | %.0f | %.0f %% | %.0f | %.0f %% | %.0f | %.0f %% |\n", worse*100, a, 100*foundA/float64(n), e, 100*foundE/float64(n), b, 100*foundB/float64(n))
		if worse < s.above {
			continue
		}
		eagerly = append(eagerly, plotter.XY{X: worse * 100, Y: e})
		sequential, counting = append(sequential, plotter.XY{X: worse * 100, Y: a}), append(counting, plotter.XY{X: worse * 100, Y: b})
	}
	fmt.Fprintf(out, "\n![requests harmed before the rollback](guards/harm.svg)\n\n")
	if err := errors.Join(line(p, "within the limit", tones[0], sequential), line(p, "no worse than old", tones[2], eagerly)); err != nil {
		return nil, err
	}
	p.Y.Min = 0
	return p, line(p, "counting", tones[3], counting)
}

// scattered is the traffic in which each cohort scatters by itself.
func scattered(s setup) simulate.Traffic {
	for _, kind := range simulate.Kinds(s.requests, s.bad) {
		if kind.Name == "scattered by cohort" {
			return kind
		}
	}
	panic("there is no such traffic")
}

func found(o simulate.Outcome) float64 {
	if o.Back {
		return 1
	}
	return 0
}
