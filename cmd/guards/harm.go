package main

import (
	"bytes"
	"errors"
	"fmt"
	"math"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"

	"aditus/internal/core/guard"
	"aditus/internal/simulate"
)

// delays tells how long it takes to see regressions of several sizes, against Wald's bound.
func delays(out *bytes.Buffer, n int) (*plot.Plot, error) {
	fmt.Fprintf(out, `
### Delay

Requests that new answers until the breach, with 5 %% of steady traffic, over %d rollouts for each line, against the fewest
that any sequential test can do with on average (Wald) with the same risk of %.0f %% and as few misses (%.0f %%). *Intervals*
is the same in evaluation intervals. No single look decides by itself, so where the bound is below a few intervals the ratio says
more of the interval than of the method.

| bad answers | limit | regression beyond the limit | requests | bound | ratio | intervals | bound |
| ---: | ---: | ---: | ---: | ---: | ---: | ---: | ---: |
`, n, risk*100, missed*100)
	p := chart("Delay against the lower bound", "intervals that the bound takes", "ratio")
	for i, s := range setups {
		var points plotter.XYs
		for _, size := range []float64{0.5, 1, 1.5, 2, 3, 5} {
			extra := size * (s.bad + s.above)
			plan, traffic := simulate.Long(simulate.Ratio(s.above), risk, 0.05, 5000), simulate.Traffic{Requests: s.requests, Bad: s.bad}
			m := meanOf(each(n, func(seed uint64) simulate.Outcome { return plan.Play(traffic, s.above+extra, 0, seed) }))
			bound, per := simulate.Bound(s.bad, s.above, extra, 0.05, risk, missed), s.requests*0.05
			fmt.Fprintf(out, "| %.1f %% | %.1f points | %.2f points | %.0f | %.0f | %.2f | %.1f | %.1f |\n", s.bad*100, s.above*100, extra*100, m.requests, bound, m.requests/bound, m.intervals, bound/per)
			points = append(points, plotter.XY{X: math.Log10(bound / per), Y: m.requests / bound})
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

// courses are what rollouts in a kind of traffic show.
func courses(kind simulate.Traffic, worse float64, n int) [][]simulate.Counted {
	all := make([][]simulate.Counted, n)
	each(n, func(seed uint64) simulate.Outcome {
		all[seed] = careful(kind, guard.Rule{}).Course(kind, worse, seed)
		return simulate.Outcome{}
	})
	return all
}

func decided(all [][]simulate.Counted, by simulate.Rival, above float64) mean {
	return meanOf(each(len(all), func(seed uint64) simulate.Outcome { return by.Judge(all[seed], above) }))
}

// tuned finds the rule that counts which harms fewest with a regression of twice the limit, of those that go back falsely in as few rollouts.
func tuned(kind simulate.Traffic, above float64, n int) (best guard.Count) {
	good, worse := courses(kind, 0, n), courses(kind, 2*above, n)
	least := math.Inf(1)
	for _, c := range []guard.Count{{Intervals: 1, Of: 1}, {Intervals: 2, Of: 2}, {Intervals: 2, Of: 3}, {Intervals: 3, Of: 4}, {Intervals: 3, Of: 5}, {Intervals: 4, Of: 5}, {Intervals: 5, Of: 6}, {Intervals: 6, Of: 8}, {Intervals: 8, Of: 10}, {Intervals: 10, Of: 12}} {
		for _, c.Samples = range []float64{1, 20, 50, 150, 400, 1000, 2500} {
			if decided(good, simulate.Counts(c), above).back > risk {
				continue
			}
			if m := decided(worse, simulate.Counts(c), above); m.harmed < least {
				best, least = c, m.harmed
			}
		}
	}
	return best
}

// harmed tells how many requests a regression harms before it is rolled back, against the rule that counts.
func harmed(out *bytes.Buffer, n int) (*plot.Plot, error) {
	fmt.Fprintf(out, `
### Requests harmed before the rollback

Bad answers beyond those that old would have given, until the breach or the end of the rollout, over %d rollouts for each
line. *Counting* is, of 70 rules that breach falsely in at most 1 %% of rollouts in that traffic, the one that harms fewest where new
is worse by twice the limit. In brackets how many are found.
`, n)
	var drawn *plot.Plot
	for i, t := range []struct {
		setup
		kind  string
		worse []float64 // in limits
	}{
		{setups[1], "scattered by cohort", []float64{0, 0.5, 1, 2, 3, 4, 6, 10, 20, 40}},
		{setup{1000, 0, 0.005}, "steady", []float64{1, 2, 4, 10, 40}},
		{setup{1000, 0.00001, 0.0005}, "steady", []float64{1, 2, 4, 10, 40}},
		{setup{4, 0.02, 0.02}, "steady", []float64{2, 4, 10, 40}},
	} {
		kind := kindOf(t.setup, t.kind)
		count := tuned(kind, t.above, max(n, 300))
		fmt.Fprintf(out, "\n%s, %s; counting is %d of %d intervals with at least %.0f requests:\n\n", "With "+t.setup.String(), t.kind, count.Intervals, count.Of, count.Samples)
		fmt.Fprintf(out, "| worse by | within the limit | no worse than old | counting |\n| ---: | ---: | ---: | ---: |\n")
		lines := make([]plotter.XYs, 3)
		for _, times := range t.worse {
			worse := times * t.above
			fmt.Fprintf(out, "| %.3g points |", worse*100)
			for k, m := range []mean{
				meanOf(each(n, func(seed uint64) simulate.Outcome {
					return careful(kind, simulate.Ratio(t.above)).Play(kind, worse, 0, seed)
				})),
				meanOf(each(n, func(seed uint64) simulate.Outcome { return careful(kind, eager(t.above)).Play(kind, worse, 0, seed) })),
				decided(courses(kind, worse, n), simulate.Counts(count), t.above),
			} {
				fmt.Fprintf(out, " %s |", harm(m))
				if times >= 1 {
					lines[k] = append(lines[k], plotter.XY{X: worse * 100, Y: m.harmed})
				}
			}
			fmt.Fprintf(out, "\n")
		}
		if i > 0 {
			continue
		}
		drawn = chart("Requests harmed before the rollback", "worse by, in points", "requests")
		drawn.Y.Min = 0
		if err := errors.Join(line(drawn, "within the limit", tones[0], lines[0]), line(drawn, "no worse than old", tones[2], lines[1]), line(drawn, "counting", tones[3], lines[2])); err != nil {
			return nil, err
		}
		fmt.Fprintf(out, "\n![requests harmed before the rollback](guards/harm.svg)\n")
	}
	return drawn, nil
}

// harm tells what a way to decide came to: whom it harmed, and how often it found the regression.
func harm(m mean) string { return fmt.Sprintf("%.3g (%.0f %%)", m.harmed, m.back*100) }

// kindOf is a kind of traffic by its name.
func kindOf(s setup, name string) simulate.Traffic {
	for _, kind := range simulate.Kinds(s.requests, s.bad) {
		if kind.Name == name {
			return kind
		}
	}
	panic("there is no such traffic: " + name)
}

// rivals tells how other ways to decide do on the same rollouts.
func rivals(out *bytes.Buffer, n int) {
	s := setups[1]
	const times = 2
	fmt.Fprintf(out, `
### Beside other ways to decide

%d rollouts for each cell, of %s: how many without a regression turn back, and how many requests are harmed where new is worse by
%.2g points, with how many found in brackets. *Uncorrected* tests two shares at 1 %% after each interval; *group-sequential* twenty times with the
bounds of O'Brien and Fleming; *mixture* is the mixture sequential probability ratio test; all of them go back only where their estimate lies beyond
the limit, on counts that are summed up interval by interval. *Counting* is tuned to each kind.

| traffic | within the limit | no worse than old | counting | uncorrected | group-sequential | mixture |
| --- | ---: | ---: | ---: | ---: | ---: | ---: |
`, n, s, 100*times*s.above)
	for _, kind := range simulate.Kinds(s.requests, s.bad) {
		good, worse := courses(kind, 0, n), courses(kind, times*s.above, n)
		fmt.Fprintf(out, "| %s |", named(kind))
		for _, rule := range []guard.Rule{simulate.Ratio(s.above), eager(s.above)} {
			play := func(worse float64) mean {
				return meanOf(each(n, func(seed uint64) simulate.Outcome { return careful(kind, rule).Play(kind, worse, 0, seed) }))
			}
			fmt.Fprintf(out, " %.1f %%, %s |", play(0).back*100, harm(play(times*s.above)))
		}
		for _, by := range []simulate.Rival{simulate.Counts(tuned(kind, s.above, max(n, 300))), simulate.Uncorrected(risk), simulate.GroupSequential(risk), simulate.Mixture(risk, s.above)} {
			fmt.Fprintf(out, " %.1f %%, %s |", decided(good, by, s.above).back*100, harm(decided(worse, by, s.above)))
		}
		fmt.Fprintf(out, "\n")
	}
}
