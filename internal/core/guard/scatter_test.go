package guard

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

// TestScatter holds the factor against what is known of made-up series, in the middle of many: the variance of a mean over
// the long run, as a multiple of that of an interval by itself.
func TestScatter(t *testing.T) {
	wander := func(keeps float64) func(*rand.Rand) func(int) float64 {
		return func(chance *rand.Rand) func(int) float64 {
			at := 0.0
			return func(int) float64 {
				at = keeps*at + math.Sqrt(1-keeps*keeps)*chance.NormFloat64()
				return at
			}
		}
	}
	steady := wander(0)
	for _, test := range []struct {
		name      string
		series    func(*rand.Rand) func(int) float64
		variance  float64 // that the counts explain
		n         int
		low, high float64
	}{
		{"by the counts alone", steady, 1, 120, 1, 1.7},
		{"less than by the counts", steady, 4, 120, 1, 1},
		{"nine times as much", steady, 1.0 / 9, 120, 7.5, 14},
		{"with a memory of five intervals", wander(0.67), 1, 240, 3, 8}, // (1+0.67)/(1-0.67) = 5
		{"with a memory of nineteen", wander(0.9), 1, 480, 7, 30},       // 19
		{"a regression in the middle", func(chance *rand.Rand) func(int) float64 {
			next := steady(chance)
			return func(i int) float64 { return next(i) + 8*float64(i/30) }
		}, 1, 60, 1, 2.5},
		{"a slow start", func(chance *rand.Rand) func(int) float64 {
			next := steady(chance)
			return func(i int) float64 { return next(i) + 30*math.Exp(-float64(i)/3) }
		}, 1, 60, 3, 150},
		{"too few to tell", steady, 1.0 / 9, 2, 1, 5},
	} {
		var factors []float64
		for seed := range uint64(101) {
			next := test.series(rand.New(rand.NewPCG(seed, 1)))
			var s scatter
			for i := range test.n {
				s.add(next(i), test.variance)
			}
			factors = append(factors, s.factor())
		}
		slices.Sort(factors)
		if middle := factors[50]; middle < test.low || middle > test.high {
			t.Errorf("%s: %.2f, want %v to %v", test.name, middle, test.low, test.high)
		}
	}
}

// TestScatterElsewhere sees what becomes of a factor under another share: what scatters with the counts keeps it, what does
// not has a larger one where the counts explain less, and what cannot be told apart is taken for the worse.
func TestScatterElsewhere(t *testing.T) {
	for _, test := range []struct{ before, after, low, high float64 }{
		{1, 1, 6, 12}, {1, 0.25, 20, 50}, {1, 4, 3.5, 6},
	} {
		chance := rand.New(rand.NewPCG(5, 6))
		var s scatter
		for range 100 {
			s.add(3*chance.NormFloat64(), test.before)
		}
		s.change(test.after)
		if f := s.factor(); f < test.low || f > test.high {
			t.Errorf("from %v to %v: %.2f, want %v to %v", test.before, test.after, f, test.low, test.high)
		}
	}
	means := scatter{unscaled: true}
	for i := range 5 {
		means.add(float64(i%2), 0.01)
		if f := means.factor(); f != 0 {
			t.Errorf("after %d values the scale is %v", i+1, f)
		}
	}
	if means.add(0, 0.01); means.factor() <= 0 || math.IsNaN(means.factor()) {
		t.Errorf("the scale is %v", means.factor())
	}
}
