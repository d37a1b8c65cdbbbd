package guard

import (
	"math"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"

	"aditus/internal/core/signal"
)

// Confidence is the level of every interval shown beside a verdict.
const Confidence = 0.99

// Estimate is a measured value with its confidence interval.
type Estimate struct {
	Value float64 `json:"value"`
	Low   float64 `json:"low"`
	High  float64 `json:"high"`
	Count float64 `json:"count"` // requests, observations or readings behind it
}

var normal = distuv.Normal{Mu: 0, Sigma: 1}.Quantile((1 + Confidence) / 2)

// Proportion is the share part/whole with the score interval of E. B. Wilson, "Probable inference, the law of
// succession, and statistical inference", J. Amer. Statist. Assoc. 22 (1927).
func Proportion(part, whole float64) Estimate {
	if whole <= 0 {
		return Estimate{High: 1}
	}
	p, z2 := part/whole, normal*normal
	centre := (p + z2/(2*whole)) / (1 + z2/whole)
	half := normal / (1 + z2/whole) * math.Sqrt(p*(1-p)/whole+z2/(4*whole*whole))
	return Estimate{Value: p, Low: max(0, centre-half), High: min(1, centre+half), Count: whole}
}

// apart is new less old, by squaring and adding the distances of the single intervals' ends: method 10 of
// R. G. Newcombe, "Interval estimation for the difference between independent proportions", Stat. Med. 17 (1998),
// which G. Y. Zou and A. Donner showed to hold for other estimates as well (Stat. Med. 27, 2008).
func apart(old, new Estimate) Estimate {
	d := new.Value - old.Value
	return Estimate{
		Value: d,
		Low:   d - math.Hypot(new.Value-new.Low, old.High-old.Value),
		High:  d + math.Hypot(new.High-new.Value, old.Value-old.Low),
		Count: min(old.Count, new.Count),
	}
}

// estimate pools the intervals for each cohort. Shares get a Wilson interval; everything else Student's interval over
// the intervals' values.
func estimate(source signal.Source, history []Interval) (old, new, diff *Estimate) {
	old = pool(source, history, func(i Interval) *signal.Point { return i.Old })
	new = pool(source, history, func(i Interval) *signal.Point { return i.New })
	if old != nil && new != nil {
		d := apart(*old, *new)
		diff = &d
	}
	return old, new, diff
}

// quantileOf is the quantile of all that was observed, with the quantiles between which the true one lies: a share of the
// observations is binomial, so the share that lies below the true quantile is known within a normal interval, whatever
// the distribution. It is false where only the intervals' values are known.
func quantileOf(source signal.Source, sum signal.Tally) (Estimate, bool) {
	if source.Kind != signal.Quantile || sum.Buckets == nil || sum.Whole <= 0 {
		return Estimate{}, false
	}
	at := func(q float64) float64 {
		source.Quantile = max(0, min(1, q))
		value, _ := source.Value(sum)
		return value
	}
	q := source.Quantile
	off := normal * math.Sqrt(q*(1-q)/sum.Whole)
	return Estimate{Value: at(q), Low: at(q - off), High: at(q + off), Count: sum.Whole}, true
}

func pool(source signal.Source, history []Interval, side func(Interval) *signal.Point) *Estimate {
	var sum signal.Tally
	var values []float64
	for _, interval := range history {
		if p := side(interval); p != nil {
			sum, values = sum.Add(p.Tally), append(values, p.Value)
		}
	}
	if len(values) == 0 {
		return nil
	}
	if source.Kind.Share() {
		e := Proportion(sum.Part, sum.Whole)
		return &e
	}
	if e, ok := quantileOf(source, sum); ok {
		return &e
	}
	mean, deviation := stat.MeanStdDev(values, nil)
	e := Estimate{Value: mean, Low: mean, High: mean, Count: sum.Whole}
	if n := float64(len(values)); n > 1 {
		half := distuv.StudentsT{Mu: 0, Sigma: 1, Nu: n - 1}.Quantile((1+Confidence)/2) * deviation / math.Sqrt(n)
		e.Low, e.High = mean-half, mean+half
	}
	return &e
}
