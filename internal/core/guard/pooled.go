package guard

import "math"

// pooled is what the estimates beside a verdict are made of.
type pooled struct {
	information float64 // sum of the reciprocal variances
	old, new    sample  // of shares; of means the values, weighted by information
	oldCount    float64
	newCount    float64
	paired      bool
}

// add adds an interval, with all before it weighing so much less.
func (s *pooled) add(fade, information float64, old, new sample, oldCount, newCount float64, paired bool) {
	fold := func(into *sample, s sample) {
		into.part, into.whole = into.part*fade+s.part, into.whole*fade+s.whole
	}
	s.information = s.information*fade + information
	fold(&s.old, old)
	fold(&s.new, new)
	s.oldCount, s.newCount, s.paired = s.oldCount*fade+oldCount, s.newCount*fade+newCount, paired
}

// pool adds an interval to what the estimates are made of.
func (p *Process) pool(i Interval, information float64, paired bool) {
	var old, new sample
	var oldCount float64
	if p.rule.Signal.Kind.Share() {
		new = sample{i.New.Part, i.New.Whole}
	} else {
		new = sample{i.New.Value * information, information}
	}
	if i.Old != nil {
		oldCount = i.Old.Whole
		old = sample{i.Old.Part, i.Old.Whole}
		if !p.rule.Signal.Kind.Share() {
			old = sample{i.Old.Value * information, information}
		}
	}
	fade := 1.0
	if p.standing {
		fade = fading
	}
	p.whole.add(fade, information, old, new, oldCount, i.New.Whole, paired)
	p.recent.add(recently, information, old, new, oldCount, i.New.Whole, paired)
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
	width := max(p.rule.Limit.Value(), 1e-9)
	if p.rule.Limit.AboveOldBy == nil {
		width /= 2
	}
	mixed := 1 / (width * width)
	alpha := 1 - Confidence
	return math.Sqrt((information+mixed)*math.Log((information+mixed)/(mixed*alpha*alpha))) / information
}
