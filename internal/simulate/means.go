package simulate

import (
	"math"

	"aditus/internal/core/guard"
	"aditus/internal/core/signal"
)

// Mean is the rule that the trials of means use: answers of new at most so many seconds slower than those of old.
func Mean(above float64) guard.Rule {
	return guard.Rule{
		Name: "time", Way: guard.Sequential, Limit: guard.Limit{Kind: guard.AboveOld, Value: above, Unit: guard.Seconds}, Missing: guard.MissingHolds, Then: guard.RollBack,
		Signal: signal.Source{Kind: signal.Mean, Of: signal.Series{Metric: "took"}},
	}
}

// Answers are times of answers with a long tail: logarithms of them are normal.
type Answers struct {
	Name    string
	Typical float64 // median, in seconds
	Tail    float64 // standard deviation of the logarithm
	Wander  float64 // how much both cohorts get slower and faster together, as a share per interval
	Scatter float64 // and each by itself
}

// Means plays a rollout in which new answers more slowly, by so many seconds, from the first interval on.
func (p Plan) Means(t Traffic, a Answers, slower float64, seed uint64) Outcome {
	s := t.start(seed)
	level := 1.0
	took := func(feed *feed, cohort side, counts []signal.Tally, slower float64) {
		sums, late := make([]signal.Tally, len(counts)), make([]signal.Tally, len(counts))
		typical := a.Typical * level * math.Exp(a.Scatter*s.chance.NormFloat64()-a.Scatter*a.Scatter/2)
		for n, count := range counts {
			for k := range int(count.Whole) {
				one := signal.Tally{Part: typical*math.Exp(a.Tail*s.chance.NormFloat64()) + slower, Whole: 1}
				if sums[n] = sums[n].Add(one); k%2 == 1 {
					late[n] = late[n].Add(one)
				}
			}
		}
		feed.add(cohort, sums, func(n int) signal.Tally { return late[n] })
	}
	return p.play(s, 0, 0, "took_sum", "took_count", func(i shown, feeds *[2]feed) {
		level = math.Exp(0.98*math.Log(level) + a.Wander*s.chance.NormFloat64())
		took(&feeds[0], s.sides[0], i.old, 0)
		took(&feeds[1], s.sides[1], i.new, slower)
	})
}
