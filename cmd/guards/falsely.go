package main

import (
	"bytes"
	"fmt"
	"strings"

	"aditus/internal/core/guard"
	"aditus/internal/core/guard/panel"
	"aditus/internal/simulate"
)

// extremes are workloads where requests or bad answers are few or many.
var extremes = []setup{{2, 0.05, 0.05}, {20, 0.02, 0.02}, {1000, 0.0001, 0.0005}, {1e6, 0.0001, 0.00005}, {1000, 0.995, 0.003}, {1000, 0.5, 0.05}}

// byKind writes a table with a line for each kind of traffic and a column for each setup.
func byKind(out *bytes.Buffer, cell func(simulate.Traffic, setup) string) {
	fmt.Fprintf(out, "| traffic |")
	for _, s := range setups {
		fmt.Fprintf(out, " %s |", s)
	}
	fmt.Fprintf(out, "\n| --- |%s\n", strings.Repeat(" ---: |", len(setups)))
	for i, kind := range simulate.Kinds(0, 0) {
		fmt.Fprintf(out, "| %s |", named(kind))
		for _, s := range setups {
			fmt.Fprintf(out, " %s |", cell(simulate.Kinds(s.requests, s.bad)[i], s))
		}
		fmt.Fprintf(out, "\n")
	}
}

// named is a kind's name, with a mark where nothing is promised.
func named(kind simulate.Traffic) string {
	if kind.Unlike {
		return kind.Name + " *"
	}
	return kind.Name
}

// backs tells how many rollouts without a regression are rolled back.
func backs(out *bytes.Buffer, n int) {
	fmt.Fprintf(out, `
### False rollbacks over a whole rollout

%d rollouts for each cell, without a regression, judged every 10 s with a risk of 1 %% to the end of the proving: 5 %%, 25 %% and
50 %% of the traffic for 20 minutes, then 15 minutes with 5 %% left on old. Each cohort has four instances. In brackets the most that it may
really be (99 %%). In the kinds marked * one cohort alone is worse for longer than a stage shows, through no fault
of the version: nothing that is seen of two cohorts can tell that from a regression, and nothing is promised there.

`, n)
	byKind(out, func(kind simulate.Traffic, s setup) string {
		plan := careful(kind, simulate.Ratio(s.above))
		return seen(each(n, func(seed uint64) simulate.Outcome { return plan.Play(kind, 0, 0, seed) }), back)
	})
	fmt.Fprintf(out, "\n| other loads and ratios | steady | all of it |\n| --- | ---: | ---: |\n")
	for _, s := range extremes {
		kinds := simulate.Kinds(s.requests, s.bad)
		fmt.Fprintf(out, "| %s |", s)
		for _, kind := range []simulate.Traffic{kinds[0], kinds[len(kinds)-1]} {
			if s.bad > 0.3 {
				kind.Scatter, kind.Outages = 0, 0 // there is no room for them
			}
			plan := careful(kind, simulate.Ratio(s.above))
			fmt.Fprintf(out, " %s |", seen(each(n/4, func(seed uint64) simulate.Outcome { return plan.Play(kind, 0, 0, seed) }), back))
		}
		fmt.Fprintf(out, "\n")
	}
	fmt.Fprintf(out, `
The same where new is worse by just what is allowed, which is what the risk is promised for, %d rollouts for each cell:

`, n/5)
	byKind(out, func(kind simulate.Traffic, s setup) string {
		plan := careful(kind, simulate.Ratio(s.above))
		return seen(each(n/5, func(seed uint64) simulate.Outcome { return plan.Play(kind, s.above, 0, seed) }), back)
	})
}

// eagerly tells how many are rolled back under the second guarantee.
func eagerly(out *bytes.Buffer, n int) {
	fmt.Fprintf(out, `
The same with %s, %d rollouts for each cell, without a regression:

`, "`safe: no worse than old`", n)
	byKind(out, func(kind simulate.Traffic, s setup) string {
		plan := careful(kind, eager(s.above))
		return seen(each(n, func(seed uint64) simulate.Outcome { return plan.Play(kind, 0, 0, seed) }), back)
	})
}

// clears tells how many stages with a regression end clear.
func clears(out *bytes.Buffer, n int) {
	fmt.Fprintf(out, `
### Falsely clear

%d stages of ten minutes with 25 %% of the traffic for each cell, in which new is worse by half as much again as is allowed: how many
end clear, of which 5 %% may.

`, n)
	byKind(out, func(kind simulate.Traffic, s setup) string {
		plan := simulate.Long(simulate.Ratio(s.above), risk, 0.25, 60)
		all := each(n, func(seed uint64) simulate.Outcome { return plan.Play(kind, 1.5*s.above, 0, seed) })
		return seen(all, func(o simulate.Outcome) bool { return o.Ending == panel.EndsProven })
	})
}

// others tells of other guards than one of a share beside a control.
func others(out *bytes.Buffer, n int) {
	s := setups[1]
	kinds := simulate.Kinds(s.requests, s.bad)
	fmt.Fprintf(out, `
### Several guards, several sites, no control

%d rollouts for each line, of %s, without a regression. *Eight guards* share the risk, each with a signal of its own in this
kind of traffic; *five sites* are five rollouts one after the other, of which any turns back. Without a control (%s) new gets all of the traffic at
the last stage, and a limit above old lies where old is likely to have come to.

| traffic | eight guards | five sites, one guard each | no control |
| --- | ---: | ---: | ---: |
`, n, s, "`control: 0 %`")
	for _, kind := range kinds {
		if kind.Unlike {
			continue
		}
		rules, streams := make([]guard.Rule, 8), make([]simulate.Traffic, 8)
		for i := range rules {
			rules[i], streams[i] = simulate.Ratio(s.above), kind
			rules[i].Name = fmt.Sprint("errors", i)
			rules[i].Signal.Of.Metric, rules[i].Signal.To.Metric = fmt.Sprint("bad", i), fmt.Sprint("all", i)
		}
		plan, alone := careful(kind, rules...), careful(kind, simulate.Ratio(s.above))
		several := each(n, func(seed uint64) simulate.Outcome { return plan.Several(streams, 0, seed) })
		sites := each(n, func(seed uint64) (o simulate.Outcome) {
			for site := range uint64(5) {
				o.Back = o.Back || alone.Play(kind, 0, 0, seed*5+site).Back
			}
			return o
		})
		alone.Control = -1
		bare := each(n, func(seed uint64) simulate.Outcome { return alone.Play(kind, 0, 0, seed) })
		fmt.Fprintf(out, "| %s | %s | %s | %s |\n", kind.Name, seen(several, back), seen(sites, back), seen(bare, back))
	}
	times(out, n)
	standing(out, n)
}

// times tells of guards of times.
func times(out *bytes.Buffer, n int) {
	fmt.Fprintf(out, `
### Means and quantiles

Of answers with a median of 100 ms, 400 requests in 10 s, %d rollouts for each cell; the 99th percentile lies at 0.3 s with a short tail and at
0.5 s and more with a long one:

| answers | guard | no regression | at the limit | slower by twice the limit |
| --- | --- | ---: | ---: | ---: |
`, n)
	answers := []simulate.Answers{
		{Name: "short tail", Typical: 0.1, Tail: 0.5}, {Name: "slower and faster together", Typical: 0.1, Tail: 0.5, Wander: 0.05},
		{Name: "scattered by cohort", Typical: 0.1, Tail: 0.5, Wander: 0.03, Scatter: 0.1}, {Name: "long tail", Typical: 0.1, Tail: 0.7, Wander: 0.03, Scatter: 0.05},
	}
	traffic := simulate.Traffic{Requests: 400}
	for _, a := range answers {
		for _, t := range []struct {
			name  string
			above float64
			play  func(slower float64, seed uint64) simulate.Outcome
		}{
			{"mean, +20 ms", 0.02, func(slower float64, seed uint64) simulate.Outcome {
				return simulate.Careful(simulate.Mean(0.02), risk).Means(traffic, a, slower, seed)
			}},
			{"99th percentile, +50 ms", 0.05, func(slower float64, seed uint64) simulate.Outcome {
				return simulate.Careful(simulate.Quantile(0.99, 0.05), risk).Quantiles(traffic, a, slower, seed)
			}},
		} {
			fmt.Fprintf(out, "| %s | %s |", a.Name, t.name)
			for _, times := range []float64{0, 1, 2} {
				fmt.Fprintf(out, " %s |", seen(each(n, func(seed uint64) simulate.Outcome { return t.play(times*t.above, seed) }), back))
			}
			fmt.Fprintf(out, "\n")
		}
	}
}

// standing tells of guards that stand.
func standing(out *bytes.Buffer, n int) {
	const weeks, limit = 2, 0.03
	n = max(20, n/10)
	fmt.Fprintf(out, `
### Standing

%d times %d weeks of a proven revision under a standing guard with a fixed limit of %.0f %%, 1000 requests in 10 s, 1 %% of them bad: how many of them have a
breach, which once in a hundred days comes to %.0f %%.

| traffic | breaches |
| --- | ---: |
`, n, weeks, limit*100, 100*float64(weeks)*7/100)
	steady := simulate.Traffic{Requests: 1000, Bad: 0.01}
	for _, t := range []struct {
		name  string
		alter func(*simulate.Traffic)
	}{
		{"steady", func(*simulate.Traffic) {}},
		{"daily shape and drift", func(t *simulate.Traffic) { t.Daily, t.Drift, t.Memory = 0.6, 0.05, 0.95 }},
		{"an outage of a minute each day", func(t *simulate.Traffic) { t.Outages, t.Lasts = 1.0/8640, 6 }},
		{"an outage of four minutes each week", func(t *simulate.Traffic) { t.Outages, t.Lasts = 1.0/60480, 24 }},
		{"bursts, and scattered by cohort", func(t *simulate.Traffic) { t.Bursts, t.Scatter = 0.1, 0.4 }},
	} {
		kind := steady
		t.alter(&kind)
		fmt.Fprintf(out, "| %s | %s |\n", t.name, seen(each(n, func(seed uint64) simulate.Outcome {
			return simulate.Outcome{Back: simulate.Standing(kind, limit, weeks*7*24*360, seed)}
		}), back))
	}
}
