package guard

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"gonum.org/v1/gonum/stat/distuv"

	"aditus/internal/core/signal"
)

// TestInstances holds what is seen of instances that go their own ways against how they were made to: a variance of their shares of bad
// answers, as a multiple of the square of what all show.
func TestInstances(t *testing.T) {
	for _, test := range []struct {
		name      string
		instances int
		times     func(chance *rand.Rand, instance, interval int) float64 // how many times as many bad answers one gives
		low, high float64
	}{
		{"alike", 4, func(*rand.Rand, int, int) float64 { return 1 }, 0, 0.005},
		{"one gives three times as many", 4, func(_ *rand.Rand, n, _ int) float64 { return []float64{3, 1, 1, 1}[n] }, 0.3, 0.8}, // (1.5/1.5)² /3 = 0.33, and half as much again
		{"each is off by half", 8, func(_ *rand.Rand, n, _ int) float64 { return []float64{0.5, 1.5}[n%2] }, 0.25, 0.4},        // 0.25 · 8/7, and a quarter more
		{"each scatters from interval to interval", 4, func(chance *rand.Rand, _, _ int) float64 { return math.Exp(0.5 * chance.NormFloat64()) }, 0, 0.02},
		{"all are bad together", 4, func(_ *rand.Rand, _, i int) float64 { return float64(1 + i/50%2*4) }, 0, 0.005},
		{"two tell nothing", 2, func(_ *rand.Rand, n, _ int) float64 { return float64(1 + 2*n) }, 0, 0},
	} {
		sum := 0.0
		const series = 40
		for seed := range uint64(series) {
			chance := rand.New(rand.NewPCG(seed, 5))
			var seen instances
			for i := range 200 {
				by := map[string]signal.Tally{}
				for n := range test.instances {
					mean := 5 * test.times(chance, n, i)
					by[fmt.Sprint(n)] = signal.Tally{Part: distuv.Poisson{Lambda: mean, Src: chance}.Rand(), Whole: 100}
				}
				seen.add(by)
			}
			sum += seen.own() / series
		}
		if sum < test.low || sum > test.high {
			t.Errorf("%s: %.3f, want %v to %v", test.name, sum, test.low, test.high)
		}
	}
}
