package simulate

import (
	"math"

	"aditus/internal/core/guard"
	"aditus/internal/core/guard/panel"
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
	took := func(i *signal.Point, c *cohort, slower float64) panel.Scrape {
		if i != nil {
			typical := a.Typical * level * math.Exp(a.Scatter*s.chance.NormFloat64()-a.Scatter*a.Scatter/2)
			for range int(i.Whole) {
				c.bad += typical*math.Exp(a.Tail*s.chance.NormFloat64()) + slower
			}
			c.all += i.Whole
		}
		return panel.Scrape{Instance: string(c.revision), Revision: c.revision, Page: signal.Page{"took_sum": {signal.NewSample(nil, c.bad)}, "took_count": {signal.NewSample(nil, c.all)}}}
	}
	return p.play(s, 0, 0, func(i guard.Interval, _ [2]bool, old, new *cohort) []panel.Scrape {
		level = math.Exp(0.98*math.Log(level) + a.Wander*s.chance.NormFloat64())
		return []panel.Scrape{took(i.Old, old, 0), took(i.New, new, slower)}
	})
}
