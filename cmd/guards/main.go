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
var setups = []struct{ requests, bad, above float64 }{{300, 0.05, 0.01}, {1000, 0.01, 0.005}, {4000, 0.02, 0.005}}

func main() {
	rollouts := flag.Int("rollouts", 10_000, "how many rollouts without a regression are played for each kind of traffic")
	flag.Parse()
	if err := run(*rollouts); err != nil {
		fmt.Fprintln(os.Stderr, "guards:", err)
		os.Exit(1)
	}
}

func run(rollouts int) error {
	var out bytes.Buffer
	falsely(&out, rollouts)
	ratios, err := delays(&out, max(200, rollouts/10))
	if err != nil {
		return err
	}
	harms, err := harmed(&out, max(200, rollouts/20))
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

// falsely tells how many rollouts without a regression are rolled back.
func falsely(out *bytes.Buffer, n int) {
	fmt.Fprintf(out, "\n### False rollbacks over a whole rollout\n\n%d rollouts for each line, of 20 minutes while both cohorts serve (5 %%, 25 %% and 50 %% of the traffic), judged every\n10 s with a risk of 1 %%. *At the limit* means that new really is worse by exactly what is allowed, which is the hardest\ncase there is; no guard has to let it pass.\n\n", n)
	fmt.Fprintf(out, "| requests in 10 s | bad answers | allowed above old | traffic | no regression | at the limit |\n| ---: | ---: | ---: | --- | ---: | ---: |\n")
	for _, s := range setups {
		for _, kind := range simulate.Kinds(s.requests, s.bad) {
			rule := simulate.Ratio(s.above)
			play := func(worse float64) func(uint64) bool {
				return func(seed uint64) bool {
					return simulate.Sequentially(kind, rule, risk, simulate.Stages, worse, 0, seed).Breach
				}
			}
			fmt.Fprintf(out, "| %.0f | %.1f %% | %.1f points | %s | %s | %s |\n", s.requests, s.bad*100, s.above*100, kind.Name, percent(count(n, play(0)), n), percent(count(n/5, play(s.above)), n/5))
		}
	}
	fmt.Fprintf(out, "\nMeans of answers (median 100 ms, 400 requests in 10 s), %d rollouts for each line:\n\n| answers | allowed above old | no regression | at the limit |\n| --- | ---: | ---: | ---: |\n", n/20)
	for _, a := range []simulate.Answers{{Name: "short tail", Typical: 0.1, Tail: 0.5}, {Name: "slower and faster together", Typical: 0.1, Tail: 0.5, Wander: 0.05}, {Name: "scattered by cohort", Typical: 0.1, Tail: 0.5, Wander: 0.03, Scatter: 0.1}, {Name: "long tail", Typical: 0.1, Tail: 1.2, Wander: 0.03, Scatter: 0.05}} {
		play := func(slower float64) func(uint64) bool {
			return func(seed uint64) bool {
				return simulate.Means(simulate.Traffic{Requests: 400}, a, simulate.Mean(0.02), risk, simulate.Stages, slower, seed).Breach
			}
		}
		fmt.Fprintf(out, "| %s | 20 ms | %s | %s |\n", a.Name, percent(count(n/20, play(0)), n/20), percent(count(n/20, play(0.02)), n/20))
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
				o := simulate.Sequentially(simulate.Traffic{Requests: s.requests, Bad: s.bad}, simulate.Ratio(s.above), risk, []simulate.Stage{{Share: 0.05, Intervals: 5000}}, s.above+extra, 0, seed)
				return o.Requests, float64(o.Interval)
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
				return simulate.Counting(kind, simulate.Ratio(above), c, simulate.Stages, 0, 0, seed).Breach
			})
			if float64(wrong) > risk*float64(n) {
				continue
			}
			total, _ := sum(60, func(seed uint64) (float64, float64) {
				o := simulate.Counting(kind, simulate.Ratio(above), c, simulate.Stages, above+2*(kind.Bad+above), 0, seed)
				if !o.Breach {
					return 1e6, 0
				}
				return float64(o.Interval), 0
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
	kind := simulate.Kinds(s.requests, s.bad)[3]
	c, wrong := tuned(kind, s.above, n)
	fmt.Fprintf(out, "\n### Requests harmed before the rollback\n\nBad answers beyond those that old would have given, until the breach or the end of the rollout, over %d rollouts for each\nline, with %.0f requests in 10 s, %.0f %% of them bad, and %.1f points allowed above old, in the traffic that is *%s*.\n*Counting* is the quickest of 40 rules that breach falsely in at most 1 %% of these rollouts: %d of %d intervals with at\nleast %.0f requests (%s false).\n\n", n, s.requests, s.bad*100, s.above*100, kind.Name, c.Intervals, c.Of, c.Samples, percent(wrong, n))
	fmt.Fprintf(out, "| worse by | sequential: harmed | found | counting: harmed | found |\n| ---: | ---: | ---: | ---: | ---: |\n")
	p := chart("Requests harmed before the rollback", "worse by, in points", "requests")
	var sequential, counting plotter.XYs
	for _, worse := range []float64{0.01, 0.015, 0.02, 0.03, 0.05, 0.1, 0.2} {
		a, foundA := sum(n, func(seed uint64) (float64, float64) {
			o := simulate.Sequentially(kind, simulate.Ratio(s.above), risk, simulate.Stages, worse, 0, seed)
			return o.Harmed, found(o)
		})
		b, foundB := sum(n, func(seed uint64) (float64, float64) {
			o := simulate.Counting(kind, simulate.Ratio(s.above), c, simulate.Stages, worse, 0, seed)
			return o.Harmed, found(o)
		})
		a, b = a/float64(n), b/float64(n)
		fmt.Fprintf(out, "| %.1f points | %.0f | %.0f %% | %.0f | %.0f %% |\n", worse*100, a, 100*foundA/float64(n), b, 100*foundB/float64(n))
		sequential, counting = append(sequential, plotter.XY{X: worse * 100, Y: a}), append(counting, plotter.XY{X: worse * 100, Y: b})
	}
	fmt.Fprintf(out, "\n![requests harmed before the rollback](guards/harm.svg)\n\n")
	if err := line(p, "sequential", tones[0], sequential); err != nil {
		return nil, err
	}
	p.Y.Min = 0
	return p, line(p, "counting", tones[3], counting)
}

func found(o simulate.Outcome) float64 {
	if o.Breach {
		return 1
	}
	return 0
}
