package simulate

import (
	"math"

	"gonum.org/v1/gonum/stat/distuv"

	"aditus/internal/core/guard"
	"aditus/internal/core/signal"
)

// A rival is another way to decide about a rollout, from the same intervals: at which of them it goes back, from 1; 0 for never.
// Each goes back only where what it saw of new lies beyond the limit too.
type Rival func(course []Counted, above float64) int

// Counted is what both cohorts showed in an interval.
type Counted struct {
	Old, New signal.Tally
	Share    float64
	extra    float64
}

// Course is what a rollout shows, whatever is decided about it.
func (p Plan) Course(t Traffic, worse float64, seed uint64) (all []Counted) {
	s := t.start(seed)
	for range lead {
		s.next(0, 0)
	}
	for share := range p.shares(p.declared()) {
		i := s.next(share, worse)
		all = append(all, Counted{total(i.old), total(i.new), share, worse})
	}
	return all
}

// Judge tells how a rival decides about a course, and whom that harms.
func (r Rival) Judge(course []Counted, above float64) (o Outcome) {
	at := r(course, above)
	o.Back, o.Interval = at > 0, float64(at)
	if !o.Back {
		at = len(course)
	}
	for _, i := range course[:at] {
		o.Requests, o.Harmed = o.Requests+i.New.Whole, o.Harmed+i.New.Whole*i.extra
	}
	return o
}

// Counts goes back once so many of the last intervals are beyond the limit; of neighbours with too few samples one is made.
func Counts(c guard.Count) Rival {
	return func(course []Counted, above float64) int {
		var beyond []bool
		var old, new signal.Tally
		share := 0.0
		for at, i := range course {
			if i.Share != share {
				share, beyond, old, new = i.Share, nil, signal.Tally{}, signal.Tally{}
			}
			old, new = old.Add(i.Old), new.Add(i.New)
			if old.Whole < max(1, c.Samples) || new.Whole < max(1, c.Samples) {
				continue
			}
			beyond = append(beyond, new.Part/new.Whole-old.Part/old.Whole > above)
			old, new = signal.Tally{}, signal.Tally{}
			n := 0
			for _, b := range beyond[max(0, len(beyond)-c.Of):] {
				if b {
					n++
				}
			}
			if n >= c.Intervals {
				return at + 1
			}
		}
		return 0
	}
}

// stratified adds up how far new is above old, interval by interval, each weighing as much as it tells.
type stratified struct{ sum, weight, noise float64 }

func (s *stratified) add(i Counted) {
	both := i.Old.Add(i.New)
	if i.Old.Whole == 0 || i.New.Whole == 0 {
		return
	}
	rate, weight := both.Part/both.Whole, i.Old.Whole*i.New.Whole/both.Whole
	s.sum += weight * (i.New.Part/i.New.Whole - i.Old.Part/i.Old.Whole)
	s.weight += weight
	s.noise += weight * rate * (1 - rate)
}

// estimate is the difference with its variance.
func (s stratified) estimate() (difference, variance float64) {
	return s.sum / s.weight, max(s.noise, 1e-12) / (s.weight * s.weight)
}

// z is the difference in standard errors.
func (s stratified) z() float64 {
	difference, variance := s.estimate()
	return difference / math.Sqrt(variance)
}

// looking makes a rival of a rule on what was seen, asked after each interval with what share of the rollout has passed.
func looking(begin func() (beyond func(s stratified, passed float64) bool)) Rival {
	return func(course []Counted, above float64) int {
		var s stratified
		beyond := begin()
		for at, i := range course {
			if s.add(i); s.weight == 0 {
				continue
			}
			stops := beyond(s, float64(at+1)/float64(len(course)))
			if difference, _ := s.estimate(); stops && difference > above {
				return at + 1
			}
		}
		return 0
	}
}

var standard = distuv.Normal{Mu: 0, Sigma: 1}

// Uncorrected is the test of two shares at a level, looked at after each interval as though it were the only look.
func Uncorrected(level float64) Rival {
	bar := standard.Quantile(1 - level)
	return looking(func() func(stratified, float64) bool {
		return func(s stratified, _ float64) bool { return s.z() > bar }
	})
}

// GroupSequential looks twenty times in a rollout and spends the level as P. C. O'Brien and T. R. Fleming do, in the form of K. K. G. Lan
// and D. L. DeMets (Biometrika 70, 1983); each look takes what it adds by itself, which is a little careful.
func GroupSequential(level float64) Rival {
	const looks = 20
	spent := func(look int) float64 {
		if look == 0 {
			return 0
		}
		return 2 - 2*standard.CDF(standard.Quantile(1-level/2)/math.Sqrt(float64(look)/looks))
	}
	return looking(func() func(stratified, float64) bool {
		last := 0
		return func(s stratified, passed float64) bool {
			look := int(passed * looks)
			if look == last {
				return false
			}
			adds := spent(look) - spent(last)
			last = look
			return s.z() > standard.Quantile(1-adds)
		}
	})
}

// Mixture is the mixture sequential probability ratio test of H. Robbins (Ann. Math. Statist. 41, 1970), with a normal mixture that is
// as wide as the limit.
func Mixture(level, width float64) Rival {
	mixed := width * width
	return looking(func() func(stratified, float64) bool {
		return func(s stratified, _ float64) bool {
			difference, variance := s.estimate()
			ratio := 0.5*math.Log(variance/(variance+mixed)) + mixed*difference*difference/(2*variance*(variance+mixed))
			return difference > 0 && ratio > math.Log(1/level)
		}
	})
}
