package guard

import "math"

// spread estimates how much a signal scatters from interval to interval beyond what its counts explain: bursts, unlike
// users, noisy neighbours. Each step is the square of the difference of two neighbouring intervals, after J. von
// Neumann, "Distribution of the ratio of the mean square successive difference to the variance", Ann. Math. Statist. 12
// (1941), so that drift and a jump of the mean, such as a regression, hardly count.
type spread struct {
	extra float64 // sum of squared differences less what the counts explain, each times its weight
	known float64 // sum of the squares of what the counts explain, relative
	steps float64
	last  float64
	vari  float64 // of last, by its counts
	some  bool
}

const (
	// priorSteps is how many steps the assumption that there is no extra scatter weighs before there were any.
	priorSteps = 4
	// mostStep bounds what one step may add, in multiples of what its counts explain: one outage is not the rule.
	mostStep = 25
	// wary is by how many standard errors the estimate is taken too large while it rests on few steps.
	wary = 0.5
)

// add takes an interval's value with the variance that its counts explain.
func (s *spread) add(value, variance float64) {
	if variance <= 0 || math.IsNaN(value) {
		return
	}
	if s.some {
		expected := variance + s.vari
		step := min((value-s.last)*(value-s.last)/expected, mostStep)
		// Weighted by how well the counts are known: intervals with few say little of anything else.
		s.extra += (step - 1) * expected / 2 / (expected * expected)
		s.known += 1 / (expected * expected)
		s.steps++
	}
	s.last, s.vari, s.some = value, variance, true
}

// gap forgets the last value, as the next one does not follow it.
func (s *spread) gap() { s.some = false }

// beyond is the variance beyond what the counts explain, for an interval whose counts explain so much.
func (s *spread) beyond(explained float64) float64 {
	weight := s.known + priorSteps/(4*explained*explained)
	found := s.extra / weight
	deviation := math.Sqrt(1/weight) / math.Sqrt2 // of the estimate, were there no extra scatter
	return max(0, found+wary*deviation*math.Sqrt(priorSteps/(priorSteps+s.steps)))
}

// leastSteps is how many steps there must be before a scale is known.
const leastSteps = 5

// step takes a mean whose counts make it scatter in proportion to counts, the sum of their reciprocals.
func (s *spread) step(value, counts float64) {
	if math.IsNaN(value) || counts <= 0 {
		return
	}
	if s.some {
		square := (value - s.last) * (value - s.last) / (counts + s.vari)
		if s.steps >= leastSteps {
			square = min(square, mostStep*s.extra/s.steps)
		}
		s.extra += square
		s.steps++
	}
	s.last, s.vari, s.some = value, counts, true
}

// scaled is the variance of a mean with such counts. It is false until enough was seen.
func (s *spread) scaled(counts float64) (float64, bool) {
	if s.steps < leastSteps || s.extra <= 0 {
		return 0, false
	}
	return s.extra / s.steps * (1 + 3/s.steps) * counts, true
}
