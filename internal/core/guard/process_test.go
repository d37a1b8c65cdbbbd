package guard

import (
	"math"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"gonum.org/v1/gonum/stat/distuv"

	"aditus/internal/core/signal"
)

// TestBetIsFair sees, by going through all that two cohorts can show, that no bet pays on average where the limit is
// kept, whatever the common rate is: that is what all else rests on.
func TestBetIsFair(t *testing.T) {
	const oldOf, newOf = 12, 7
	for _, test := range []struct{ low, high, gap float64 }{{0.1, 0.4, 0.05}, {0.02, 0.2, 0}, {0.3, 0.9, 0.2}, {0.2, 0.25, 0.1}, {0.1, 0.1, 0.05}, {0.05, 0.0001, 0.1}} {
		better := test.high-test.low < test.gap // the bet is that the limit is kept
		for rate := 0.0; rate <= 0.9; rate += 0.05 {
			for _, apart := range []float64{0, test.gap / 2, test.gap, test.gap + 0.05, test.gap + 0.1} {
				if kept := apart <= test.gap; kept == better && apart != test.gap || rate+apart > 1 {
					continue // not of the null hypothesis
				}
				old, new, mean := distuv.Binomial{N: oldOf, P: rate}, distuv.Binomial{N: newOf, P: rate + apart}, 0.0
				for o := 0.0; o <= oldOf; o++ {
					for n := 0.0; n <= newOf; n++ {
						mean += old.Prob(o) * new.Prob(n) * math.Exp(pairBet(sample{o, oldOf}, sample{n, newOf}, test.low, test.high, test.gap))
					}
				}
				if mean > 1+1e-6 {
					t.Errorf("the bet on %v pays %v where old has %v and new %v more", test, mean, rate, apart)
				}
			}
		}
	}
	mean, new := 0.0, distuv.Binomial{N: newOf, P: 0.1}
	for n := 0.0; n <= newOf; n++ {
		mean += new.Prob(n) * math.Exp(alone(sample{n, newOf}, 0.3, 0.1))
	}
	if math.Abs(mean-1) > 1e-9 {
		t.Errorf("a bet against the limit itself pays %v", mean)
	}
}

// shown is an interval with bad answers drawn at two rates.
func shown(chance *rand.Rand, n int, oldOf, newOf, old, new float64) Interval {
	i := Interval{At: start.Add(time.Duration(n) * every)}
	side := func(of, rate float64) *signal.Point {
		if of == 0 {
			return nil
		}
		bad := distuv.Binomial{N: of, P: rate, Src: chance}.Rand()
		return &signal.Point{At: i.At, Value: bad / of, Tally: signal.Tally{Part: bad, Whole: of}}
	}
	i.Old, i.New = side(oldOf, old), side(newOf, new)
	return i
}

func TestProcess(t *testing.T) {
	relative, absolute, past := Limit{Kind: AboveOld, Value: 0.02, Unit: Share}, Limit{Kind: AtMost, Value: 0.05, Unit: Share}, Limit{Kind: AbovePast, Value: 0.02, Unit: Share}
	tests := []struct {
		name       string
		limit      Limit
		old, new   float64 // rates
		oldOf, of  float64
		intervals  int
		missing    Missing
		want       Word
		waitAtMost time.Duration // of undecided
	}{
		{"worse than old", relative, 0.01, 0.1, 900, 100, 12, MissingHolds, Breach, 0},
		{"as old", relative, 0.01, 0.01, 900, 100, 60, MissingHolds, Clear, 0},
		{"too soon to say", relative, 0.01, 0.01, 900, 20, 3, MissingHolds, Undecided, time.Hour},
		{"both are bad", relative, 0.3, 0.3, 900, 100, 200, MissingHolds, Clear, 0},
		{"beyond a fixed limit", absolute, 0.01, 0.15, 900, 100, 8, MissingHolds, Breach, 0},
		{"within a fixed limit", absolute, 0.01, 0.01, 900, 100, 8, MissingHolds, Clear, 0},
		{"beyond its past", past, 0, 0.12, 0, 200, 8, MissingHolds, Breach, 0},
		{"no past", past, 0, 0.12, 0, 0, 8, MissingHolds, Silent, 0},
		{"silent", absolute, 0, 0, 0, 0, 8, MissingHolds, Silent, 0},
		{"silence breaches", absolute, 0, 0, 0, 0, 8, MissingBreaches, Breach, 0},
		{"old is silent", relative, 0, 0.01, 0, 100, 8, MissingHolds, Silent, 0},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			r := rule(test.limit)
			r.Way, r.Missing = Sequential, test.missing
			feed := func() *Process {
				chance := rand.New(rand.NewPCG(1, 2))
				p := NewProcess(r, 0.01, every)
				for n := range 24 {
					p.Lead(shown(chance, n, 1000, 0, test.old, 0).Old, nil)
				}
				p.Begin(0, start)
				for n := range test.intervals {
					i := shown(chance, n+1, test.oldOf, test.of, test.old, test.new)
					if test.limit.Base() == OwnPast && i.New != nil {
						i.Bound = number(0.03)
					}
					p.Add(i)
				}
				return p
			}
			p, now := feed(), start.Add(time.Duration(test.intervals)*every)
			v := p.Verdict(now)
			if v.Word != test.want || v.Word == Undecided && (v.Wait <= 0 || v.Wait > test.waitAtMost) {
				t.Errorf("%s, %s more; want %s: evidence %.2f, %+v", v.Word, v.Wait, test.want, v.Evidence, v.Difference)
			}
			if v.Difference != nil && (v.Difference.Low >= v.Difference.Value || v.Difference.High <= v.Difference.Value) {
				t.Errorf("the difference %+v has no width", v.Difference)
			}
			if again := feed().Verdict(now); !reflect.DeepEqual(v, again) {
				t.Errorf("fed the same it says %+v and then %+v", v, again)
			}
		})
	}
}

// TestProcessOverStages sees that what is kept is shown anew under each share, and that a regression that only shows
// under a later one is found although all was well before.
func TestProcessOverStages(t *testing.T) {
	r := rule(Limit{Kind: AboveOld, Value: 0.02, Unit: Share})
	r.Way = Sequential
	p, chance := NewProcess(r, 0.01, every), rand.New(rand.NewPCG(3, 4))
	word := func(n int) Word { return p.Verdict(start.Add(time.Duration(n) * every)).Word }
	p.Begin(0, start)
	for n := range 60 {
		p.Add(shown(chance, n+1, 900, 100, 0.01, 0.01))
	}
	if got := word(60); got != Clear {
		t.Fatalf("after a good stage it is %s", got)
	}
	p.Begin(1, start.Add(60*every))
	if got := word(60); got != Undecided {
		t.Errorf("at the begin of the next stage it is %s", got)
	}
	for n := 60; n < 72; n++ {
		p.Add(shown(chance, n+1, 500, 500, 0.01, 0.06))
	}
	if got := word(72); got != Breach {
		t.Errorf("a regression in the second stage is %s", got)
	}
}

// TestSafe holds the two guarantees against each other: both let pass what is as good as old, and what is a little worse with much
// evidence for it; what is worse than allowed is found far sooner where only what is no worse than old is safe.
func TestSafe(t *testing.T) {
	for _, kind := range []signal.Kind{signal.Ratio, signal.Mean} {
		found := map[Safe]map[float64]int{}
		for _, safe := range []Safe{WithinLimit, NoWorse} {
			found[safe] = map[float64]int{}
			for _, worse := range []float64{0, 0.002, 0.02} {
				for seed := range uint64(20) {
					r := rule(Limit{Kind: AboveOld, Value: 0.01, Unit: Share})
					r.Way, r.Safe, r.Signal.Kind = Sequential, safe, kind
					chance := rand.New(rand.NewPCG(seed, 4))
					p := NewProcess(r, 0.01, every)
					for n := range 24 {
						p.Lead(shown(chance, n, 3000, 0, 0.03, 0).Old, nil)
					}
					p.Begin(0, start)
					n := 0
					for n < 400 && !p.Broke() {
						n++
						p.Add(shown(chance, n, 3000, 1000, 0.03, 0.03+worse))
					}
					if p.Broke() {
						found[safe][worse] += 400 - n
					}
				}
			}
		}
		within, no := found[WithinLimit], found[NoWorse]
		if within[0]+within[0.002]+no[0]+no[0.002] > 0 || within[0.02] < 20*380 || 400*20-no[0.02] > (400*20-within[0.02])*3/4 {
			t.Errorf("%s: intervals that were left when it was found, by how much worse: %v", kind, found)
		}
	}
}

// TestProcessOfMeans sees that means are told apart by how much they scatter.
func TestProcessOfMeans(t *testing.T) {
	for _, test := range []struct {
		worse float64
		want  Word
	}{{0, Clear}, {0.08, Breach}} {
		r := Rule{Name: "mean", Signal: signal.Source{Kind: signal.Mean}, Limit: Limit{Kind: AboveOld, Value: 0.02, Unit: Seconds}, Way: Sequential, Missing: MissingHolds}
		p, chance := NewProcess(r, 0.01, every), rand.New(rand.NewPCG(5, 6))
		side := func(n int, of, mean float64) *signal.Point {
			value := mean + 0.2/math.Sqrt(of)*chance.NormFloat64()
			return &signal.Point{At: start.Add(time.Duration(n) * every), Value: value, Tally: signal.Tally{Part: value * of, Whole: of}}
		}
		for n := range 24 {
			p.Lead(side(n-24, 1000, 0.2), nil)
		}
		p.Begin(0, start)
		for n := range 40 {
			p.Add(Interval{At: start.Add(time.Duration(n+1) * every), Old: side(n+1, 900, 0.2), New: side(n+1, 100, 0.2+test.worse)})
		}
		if v := p.Verdict(start.Add(40 * every)); v.Word != test.want || math.Abs(v.Difference.Value-test.worse) > 0.02 {
			t.Errorf("%v worse is %s with %+v, want %s", test.worse, v.Word, v.Difference, test.want)
		}
	}
}

// TestNearAll sees that a share which is nearly all is judged as well as one that is nearly nothing: what is the same in
// both cohorts does not breach, what is worse by more than the limit does, and what nothing could exceed never does.
func TestNearAll(t *testing.T) {
	const runs, intervals, each = 200, 60, 500
	for _, test := range []struct {
		old, new, limit float64
		breaches        bool
	}{
		{0.9, 0.9, 0.02, false}, {0.97, 0.97, 0.02, false}, {0.985, 0.985, 0.01, false}, {0.99, 0.99, 0.02, false}, {0.995, 0.995, 0.002, false}, {0.999, 0.999, 0.005, false}, {0.97, 0.989, 0.02, false},
		{0.9, 0.95, 0.02, true}, {0.96, 0.99, 0.01, true}, {0.985, 0.998, 0.005, true},
	} {
		r := rule(Limit{Kind: AboveOld, Value: test.limit, Unit: Share})
		r.Way = Sequential
		chance, broke := rand.New(rand.NewPCG(7, uint64(test.old*1e4))), 0
		for range runs {
			p := NewProcess(r, 0.01, every)
			for n := range 20 {
				p.Lead(shown(chance, n, each, 0, test.old, 0).Old, nil)
			}
			p.Begin(0, start)
			for n := range intervals {
				p.Add(shown(chance, n, each, each, test.old, test.new))
			}
			if p.Broke() {
				broke++
			}
		}
		if test.breaches && broke < runs*9/10 || !test.breaches && broke > runs*3/100 {
			t.Errorf("old %v, new %v, limit %v: %d of %d breach", test.old, test.new, test.limit, broke, runs)
		}
	}
}

// TestBudget sees that all of the chance of a false breach is set aside for something and no more than all, whatever the
// stages come to: one without any interval, which loses nothing, or a hundred.
func TestBudget(t *testing.T) {
	for _, stages := range [][]int{{1}, {1000}, {0, 1000}, {0, 0, 500, 0, 500}, {10, 10, 10, 1000}, {1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1}} {
		p, sum, first := NewProcess(rule(Limit{Kind: AboveOld, Value: 0.02, Unit: Share}), 0.01, every), 0.0, 0.0
		chance := rand.New(rand.NewPCG(8, 9))
		for n := range 5 {
			p.Lead(shown(chance, n, 100, 0, 0.1, 0).Old, nil)
		}
		for stage, intervals := range stages {
			p.Begin(stage, start)
			for n := range intervals {
				p.Add(shown(chance, n, 100, 100, 0.1, 0.1))
				if sum += p.start(); first == 0 {
					first = sum
				}
			}
		}
		if sum > 1 || first < firstStart {
			t.Errorf("stages of %v intervals: %.3f is set aside, %.3f for the first", stages, sum, first)
		}
	}
}

// TestInterrupted sees that, without a control, what begins with the switch is a breach at once, and what comes once the guard was clear only
// where it lasts.
func TestInterrupted(t *testing.T) {
	for _, test := range []struct {
		name        string
		from, lasts int // intervals in which new is worse
		by          int // the interval at which it breaches, about; 0 for never
	}{
		{"from the switch on", 0, 200, 5},
		{"an outage", 40, 12, 0},
		{"an outage, and another", 40, 24, 0},
		{"something that stays", 40, 200, 73}, // five minutes are thirty intervals
	} {
		r := rule(Limit{Kind: AboveOld, Value: 0.01, Unit: Share})
		r.Way = Sequential
		p, chance, bound, broke := NewProcess(r, 0.01, every), rand.New(rand.NewPCG(4, 4)), 0.03, 0
		p.Begin(0, start)
		for n := 1; n <= 200 && broke == 0; n++ {
			rate := 0.01
			if n > test.from && n <= test.from+test.lasts && (test.by > 0 || n%30 < 24) {
				rate = 0.2
			}
			i := shown(chance, n, 0, 1000, 0, rate)
			i.Old, i.Bound = nil, &bound
			if p.Add(i); p.Broke() {
				broke = n
			}
		}
		if (broke > 0) != (test.by > 0) || broke > test.by+3 || broke < test.by-3 {
			t.Errorf("%s: breach at %d, want %d", test.name, broke, test.by)
		}
	}
}
