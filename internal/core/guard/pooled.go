package guard

import (
	"math"

	"aditus/internal/core/signal"
)

// pooled is what the estimates beside a verdict are made of.
type pooled struct {
	information float64 // sum of the reciprocal variances
	old, new    sample  // of shares; of means the values, weighted by information
	oldCount    float64
	newCount    float64
	paired      bool

	oldTally, newTally signal.Tally // of quantiles
}

// and gives both as one.
func (s pooled) and(o pooled) pooled {
	s.information += o.information
	s.old, s.new = sample{s.old.part + o.old.part, s.old.whole + o.old.whole}, sample{s.new.part + o.new.part, s.new.whole + o.new.whole}
	s.oldCount, s.newCount, s.paired = s.oldCount+o.oldCount, s.newCount+o.newCount, o.paired
	s.oldTally, s.newTally = s.oldTally.Add(o.oldTally), s.newTally.Add(o.newTally)
	return s
}

// pool adds an interval to what the estimates are made of.
func (p *Process) pool(i Interval, information float64) {
	one := pooled{information: information, newCount: i.New.Whole, paired: p.paired(i)}
	side := func(s *signal.Point) sample {
		if p.rule.Signal.Kind.Share() {
			return sample{s.Part, s.Whole}
		}
		return sample{s.Value * information, information}
	}
	one.new = side(i.New)
	if i.Old != nil {
		one.old, one.oldCount = side(i.Old), i.Old.Whole
	}
	if p.rule.Signal.Kind == signal.Quantile {
		if one.newTally = i.New.Tally; i.Old != nil {
			one.oldTally = i.Old.Tally
		}
	}
	p.whole = p.whole.and(one)
	if p.lately = append(p.lately, one); len(p.lately) > standingLast {
		p.lately = p.lately[1:]
	}
}

// last is what the last so many intervals showed.
func (p *Process) last(n int) (sum pooled) {
	for _, one := range p.lately[max(0, len(p.lately)-n):] {
		sum = sum.and(one)
	}
	return sum
}

// estimates are what was pooled, with its confidence sequence around what is held against the limit.
func (p *Process) estimates(s pooled) (old, new, difference *Estimate) {
	if s.new.whole <= 0 {
		return nil, nil, nil
	}
	estimate := func(side sample, count float64) *Estimate {
		if p.rule.Signal.Kind.Share() {
			e := Proportion(side.part, side.whole)
			return &e
		}
		value := side.part / side.whole
		return &Estimate{Value: value, Low: value, High: value, Count: count}
	}
	new = estimate(s.new, s.newCount)
	if s.old.whole > 0 {
		old = estimate(s.old, s.oldCount)
	}
	if p.rule.Signal.Kind == signal.Quantile {
		return p.quantiles(s, old, new)
	}
	radius := p.radius(s.information)
	if s.paired && old != nil {
		d := new.Value - old.Value
		return old, new, &Estimate{Value: d, Low: d - radius, High: d + radius, Count: min(old.Count, new.Count)}
	}
	new.Low, new.High = new.Value-radius, new.Value+radius
	if p.rule.Signal.Kind.Share() {
		new.Low, new.High = max(0, new.Low), min(1, new.High)
	}
	return old, new, nil
}

// quantiles are the estimates of quantiles: of all that was observed together, where that is still known.
func (p *Process) quantiles(s pooled, old, new *Estimate) (_, _, difference *Estimate) {
	if e, ok := quantileOf(p.rule.Signal, s.newTally); ok {
		*new = e
	}
	if old == nil {
		return nil, new, nil
	}
	if e, ok := quantileOf(p.rule.Signal, s.oldTally); ok {
		*old = e
	}
	if !s.paired {
		return old, new, nil
	}
	d := apart(*old, *new)
	return old, new, &d
}

// radius is half the width of the confidence sequence around what is held against the limit: the normal mixture of H.
// Robbins, "Statistical methods related to the law of the iterated logarithm", Ann. Math. Statist. 41 (1970), in the
// form of S. R. Howard, A. Ramdas, J. McAuliffe and J. Sekhon, "Time-uniform, nonparametric, nonasymptotic confidence
// sequences", Ann. Statist. 49 (2021), narrowest about where its width is that of the limit. It holds at all times
// together, approximately where counts are small. Of a standing process, and of what made a breach, it is that of as
// much information, and an interval for the eye.
func (p *Process) radius(information float64) float64 {
	if information <= 0 {
		return math.Inf(1)
	}
	width := max(p.rule.Limit.Value, 1e-9)
	if p.rule.Limit.Base() != OldSide {
		width /= 2
	}
	mixed := 1 / (width * width)
	alpha := 1 - Confidence
	return math.Sqrt((information+mixed)*math.Log((information+mixed)/(mixed*alpha*alpha))) / information
}
