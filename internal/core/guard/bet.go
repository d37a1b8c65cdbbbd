package guard

import "math"

// A bet is the likelihood of what one interval showed under one alternative, over its likelihood under the member of
// the null hypothesis that comes closest to that alternative. Its expectation is at most 1 whatever the two cohorts'
// common rate is in that interval, as long as new does not differ from old by more than the limit; a product of bets is
// therefore large only with a small chance where the limit is kept. This is the e-variable for two streams of
// R. J. Turner, A. Ly and P. D. Grünwald, "Generic E-variables for exact sequential k-sample tests that allow for
// optional stopping", J. Statist. Plann. Inference 230 (2024), for a limit on the difference; docs/guards.md derives it.

// sample is how many of how many.
type sample struct{ part, whole float64 }

// pairBet is the logarithm of the bet that new has the rate high where old has low, against new being exactly gap above
// old. With high-low below gap it is the bet that new is better than that.
func pairBet(old, new sample, low, high, gap float64) float64 {
	r := closest(old.whole, new.whole, low, high, gap)
	return likelier(new, high, r+gap) + likelier(old, low, r)
}

// alone is the logarithm of the bet that a cohort has a rate, against it being at the limit.
func alone(new sample, rate, limit float64) float64 { return likelier(new, rate, limit) }

// likelier is the logarithm of the likelihood of a sample under one rate over that under another.
func likelier(s sample, rate, other float64) float64 {
	return s.part*math.Log(rate/other) + (s.whole-s.part)*math.Log((1-rate)/(1-other))
}

// closest is the rate of old that, with new gap above it, comes closest to the rates low and high in the sense of
// Kullback and Leibler, weighted by how much each cohort shows. It is where the derivative changes its sign.
func closest(old, new, low, high, gap float64) float64 {
	slope := func(r float64) float64 {
		n := r + gap
		return new*(high-n)/(n*(1-n)) + old*(low-r)/(r*(1-r))
	}
	from, to := low, high-gap
	if from > to {
		from, to = to, from
	}
	from, to = max(from, leastRate), min(to, 1-gap-leastRate)
	for range closestSteps {
		if middle := (from + to) / 2; slope(middle) > 0 {
			from = middle
		} else {
			to = middle
		}
	}
	return (from + to) / 2
}

const (
	leastRate    = 1e-7
	closestSteps = 30 // each halves the bracket
)

// normalBet is the logarithm of the bet that a value with a variance lies by effect off its null value, where it showed so
// much. What lies far out in the direction of the bet counts no more than longTail standard deviations, as answers that go
// bad in groups have long tails; so no larger effect is bet on.
func normalBet(showed, effect, variance float64) float64 {
	most := longTail * math.Sqrt(variance)
	if effect < 0 {
		showed, effect = -showed, -effect
	}
	return meanBet(min(showed, most), min(effect, most), variance)
}

// longTail is in standard deviations.
const longTail = 2

// meanBet is the logarithm of the bet that a mean with a variance lies by effect beyond its null value, where it showed
// beyond. It is exact for normal values.
func meanBet(beyond, effect, variance float64) float64 {
	return (effect*beyond - effect*effect/2) / variance
}
