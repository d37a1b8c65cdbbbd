package guard

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

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
		{"two of eight give half as much again", 8, func(_ *rand.Rand, n, _ int) float64 { return []float64{1.5, 1, 1, 1, 1.5, 1, 1, 1}[n] }, 0.02, 0.08},
		{"each is off by half", 8, func(_ *rand.Rand, n, _ int) float64 { return []float64{0.5, 1.5}[n%2] }, 0.25, 0.4}, // 0.25 · 8/7, and a quarter more
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

// TestOddInstances sees that one instance of several that is far worse than the others is named and makes neither a breach nor clear, that what
// all do is a breach, and that new is not held against an odd one of old.
func TestOddInstances(t *testing.T) {
	for _, test := range []struct {
		name     string
		old, new []float64 // share of bad answers, by instance
		want     Word
		odd, why string
	}{
		{"all alike", []float64{0.02, 0.02, 0.02, 0.02}, []float64{0.02, 0.02, 0.02, 0.02}, Clear, "[]", ""},
		{"one of new", []float64{0.02, 0.02, 0.02, 0.02}, []float64{0.02, 0.2, 0.02, 0.02}, Undecided, "[new1]", "new1 alone gives"},
		{"one of new, the others without a fault", []float64{0, 0, 0, 0}, []float64{0, 0.1, 0, 0}, Undecided, "[new1]", "new1 alone gives bad answers, and the rest of new none"},
		{"two of new", []float64{0.02, 0.02, 0.02, 0.02}, []float64{0.02, 0.2, 0.2, 0.02}, Breach, "", ""},
		{"all of new", []float64{0.02, 0.02, 0.02, 0.02}, []float64{0.08, 0.1, 0.09, 0.08}, Breach, "", ""},
		{"one of new that fails most of its requests", []float64{0.02, 0.02, 0.02, 0.02}, []float64{0.02, 0.8, 0.02, 0.02}, Breach, "", ""},
		{"one of two", []float64{0.02, 0.02}, []float64{0.02, 0.2}, Breach, "", ""},
		{"one of old", []float64{0.1, 0.02, 0.02, 0.02}, []float64{0.02, 0.02, 0.02, 0.02}, Clear, "[old0]", ""},
		{"one of old, and all of new as bad as old with it", []float64{0.1, 0.02, 0.02, 0.02}, []float64{0.06, 0.06, 0.06, 0.06}, Breach, "[old0]", ""},
	} {
		chance := rand.New(rand.NewPCG(3, 3))
		r := rule(Limit{Kind: AboveOld, Value: 0.015, Unit: Share})
		r.Way = Sequential
		p := NewProcess(r, 0.01, every)
		show := func(prefix string, rates []float64) (sum *signal.Point, each map[string]signal.Tally) {
			sum, each = &signal.Point{}, map[string]signal.Tally{}
			for n, rate := range rates {
				one := signal.Tally{Part: distuv.Binomial{N: 200, P: rate, Src: chance}.Rand(), Whole: 200, Instances: 1}
				each[fmt.Sprint(prefix, n)], sum.Tally = one, sum.Add(one)
			}
			return sum, each
		}
		var v Verdict
		for n := range 120 {
			at := start.Add(time.Duration(n) * every)
			old, each := show("old", test.old)
			if n < 24 {
				p.Lead(old, each)
				continue
			}
			i := Interval{At: at, Old: old, Each: Each{Old: each}}
			i.New, i.Each.New = show("new", test.new)
			p.Begin(0, at)
			p.Add(i)
			if v = p.Verdict(at); v.Word == Breach {
				break
			}
		}
		if v.Word != test.want || test.odd != "" && fmt.Sprint(v.Odd) != test.odd || !strings.HasPrefix(v.Why, test.why) {
			t.Errorf("%s: %s, odd %v, %q; want %s, %s, %q", test.name, v.Word, v.Odd, v.Why, test.want, test.odd, test.why)
		}
	}
}

// TestGone sees that instances that are gone neither make a lone one look like one of several, nor leave what is told of the others no number.
func TestGone(t *testing.T) {
	var seen instances
	show := func(bad map[string]float64) {
		by := map[string]signal.Tally{}
		for name, part := range bad {
			by[name] = signal.Tally{Part: part, Whole: 1000}
		}
		seen.add(by)
	}
	all := map[string]float64{"a": 200, "b": 200, "c": 200}
	for _, name := range []string{"d", "e", "f", "g", "h", "i"} {
		all[name] = 10
	}
	for range 20 {
		show(all)
	}
	if odd := seen.odd(); len(odd) != 3 {
		t.Fatalf("odd are %v", odd)
	}
	for range 20 {
		show(map[string]float64{"a": 200, "b": 200, "c": 200, "d": 10})
	}
	if own := seen.own(); math.IsNaN(own) || math.IsInf(own, 0) {
		t.Errorf("own is %v", own)
	}

	var each ones
	old := sample{20, 1000}
	for n := range 3 { // one instance that was started anew twice, and is bad since
		for range 10 {
			each.add(map[string]signal.Tally{fmt.Sprint(n): {Part: float64(20 + 100*(n/2)), Whole: 1000}}, old, 1)
		}
	}
	if lone := each.lone(0.03); lone != "" {
		t.Errorf("%s is alone to blame, and alone there", lone)
	}
	for n := range 1000 {
		each.add(map[string]signal.Tally{fmt.Sprint("new", n): {Part: 20, Whole: 1000}}, old, 1)
	}
	if len(each.by) > 2*window {
		t.Errorf("%d instances are remembered", len(each.by))
	}
}
