package simulate

import (
	"math"
	"strconv"

	"gonum.org/v1/gonum/stat/distuv"

	"aditus/internal/core/guard"
	"aditus/internal/core/signal"
)

// Answers are times of answers with a long tail: logarithms of them are normal.
type Answers struct {
	Name    string
	Typical float64 // median, in seconds
	Tail    float64 // standard deviation of the logarithm
	Wander  float64 // how much both cohorts get slower and faster together, as a share per interval
	Scatter float64 // and each by itself
}

// Mean is the rule that the trials of means use: answers of new at most so many seconds slower than those of old.
func Mean(above float64) guard.Rule { return times(signal.Source{Kind: signal.Mean}, above) }

// Quantile is that of quantiles.
func Quantile(at, above float64) guard.Rule {
	return times(signal.Source{Kind: signal.Quantile, Quantile: at}, above)
}

func times(source signal.Source, above float64) guard.Rule {
	source.Of = signal.Series{Metric: "took"}
	return guard.Rule{
		Name: "time", Way: guard.Sequential, Limit: guard.Limit{Kind: guard.AboveOld, Value: above, Unit: guard.Seconds},
		Missing: guard.MissingHolds, Then: guard.RollBack, Signal: source,
	}
}

// pace is how fast both cohorts are, interval by interval.
type pace struct {
	Answers
	s      *source
	common float64
	own    [2]float64
	at     int
}

// typical is the median of one side's answers in the present interval.
func (p *pace) typical(side int) float64 {
	if p.at != p.s.at {
		p.at = p.s.at
		p.common = math.Exp(0.98*math.Log(max(p.common, 1e-9)) + p.Wander*p.s.chance.NormFloat64())
		for n := range p.own {
			p.own[n] = math.Exp(p.Scatter*p.s.chance.NormFloat64() - p.Scatter*p.Scatter/2)
		}
	}
	return p.Typical * p.common * p.own[side]
}

// Means plays a rollout in which new answers more slowly, by so many seconds, from the first interval on.
func (p Plan) Means(t Traffic, a Answers, slower float64, seed uint64) Outcome {
	s := newStream(t.start(seed))
	pace := pace{Answers: a, s: s.source, common: 1}
	s.page = func(t signal.Tally) signal.Page {
		return signal.Page{"took_sum": {signal.NewSample(nil, t.Part)}, "took_count": {signal.NewSample(nil, t.Whole)}}
	}
	s.answers = func(served signal.Tally, side int, slower float64) (all, late signal.Tally) {
		typical := pace.typical(side)
		for k := range int(served.Whole) {
			one := signal.Tally{Part: typical * math.Exp(a.Tail*s.chance.NormFloat64()), Whole: 1}
			if side == 1 {
				one.Part += slower
			}
			if all = all.Add(one); k%2 == 1 {
				late = late.Add(one)
			}
		}
		return all, late
	}
	return p.play([]*stream{s}, slower, 0)
}

// bounds are those of the buckets, in seconds.
var bounds = []float64{0.01, 0.025, 0.05, 0.1, 0.15, 0.2, 0.3, 0.4, 0.5, 0.6, 0.8, 1, 1.5, 2.5, 5, math.Inf(1)}

// Quantiles plays a rollout in which every answer of new takes so many seconds longer, told by a histogram.
func (p Plan) Quantiles(t Traffic, a Answers, slower float64, seed uint64) Outcome {
	s := newStream(t.start(seed))
	pace := pace{Answers: a, s: s.source, common: 1}
	s.page = func(t signal.Tally) signal.Page {
		page := signal.Page{"took_count": {signal.NewSample(nil, t.Whole)}}
		below := 0.0
		for _, bound := range bounds {
			below += t.Buckets[bound]
			page["took_bucket"] = append(page["took_bucket"], signal.NewSample(map[string]string{"le": strconv.FormatFloat(bound, 'g', -1, 64)}, below))
		}
		return page
	}
	s.answers = func(served signal.Tally, side int, slower float64) (all, late signal.Tally) {
		took := distuv.LogNormal{Mu: math.Log(pace.typical(side)), Sigma: a.Tail}
		if side == 0 {
			slower = 0
		}
		all.Buckets, late.Buckets = map[float64]float64{}, map[float64]float64{}
		below, rest := 0.0, served.Whole
		for _, bound := range bounds {
			upTo := 1.0
			if !math.IsInf(bound, 1) {
				upTo = took.CDF(max(0, bound-slower))
			}
			n := s.binomial(rest, min(1, max(0, (upTo-below)/max(1e-12, 1-below))))
			all.Buckets[bound], late.Buckets[bound] = n, s.binomial(n, 0.5)
			late.Whole += late.Buckets[bound]
			below, rest = upTo, rest-n
		}
		all.Whole = served.Whole
		return all, late
	}
	return p.play([]*stream{s}, slower, 0)
}
