package guard

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"aditus/internal/core/signal"
)

// TestBacktest sees when limits would have stopped a rollout that got worse in its second stage, whichever way is
// chosen, and how close a wider one came.
func TestBacktest(t *testing.T) {
	chance := rand.New(rand.NewPCG(7, 7))
	var history []Staged
	for n := range 60 {
		stage, rate := 0, 0.02
		if n >= 30 {
			stage, rate = 1, 0.09
		}
		if n == 30 {
			history = append(history, Staged{Interval: shown(chance, n, 900, 100, 0.02, 0.9), Stage: -1}) // between the stages
		}
		history = append(history, Staged{Interval: shown(chance, n+1, 900, 100, 0.02, rate), Stage: stage})
	}
	for _, test := range []struct {
		way                Way
		limit              float64
		stopped, undecided bool
	}{{Sequential, 0.05, true, false}, {ByCount, 0.05, true, false}, {Sequential, 0.15, false, false}, {ByCount, 0.2, false, false}, {Sequential, 0.092, false, true}} {
		r := rule(Limit{Kind: AtMost, Value: test.limit, Unit: Share})
		r.Way = test.way
		got := Backtest(r, 0.01, every, nil, history, nil)
		if got.Stopped != test.stopped || got.Undecided != test.undecided || got.Stopped && got.At.Before(start.Add(31*every)) || !got.Stopped && (got.Nearest < 0.3 || (got.Nearest > 0.9) != got.Undecided) {
			t.Errorf("%s at %v: %+v", test.way, test.limit, got)
		}
	}
}

// TestBacktestMoved sees that limits that move stop a rollout that got worse once new was alone, whichever way is chosen.
func TestBacktestMoved(t *testing.T) {
	for _, way := range []Way{Sequential, ByCount} {
		for _, rate := range []float64{0.02, 0.09} {
			chance := rand.New(rand.NewPCG(7, 7))
			var history []Staged
			for n := range 60 {
				if n < 30 {
					history = append(history, Staged{Interval: shown(chance, n, 900, 100, 0.02, 0.02)})
					continue
				}
				alone := shown(chance, n, 0, 1000, 0, rate)
				alone.Old = nil
				history = append(history, Staged{Interval: alone, Stage: 1, Alone: true})
			}
			above, past := rule(Limit{Kind: AboveOld, Value: 0.02, Unit: Share}), rule(Limit{Kind: AbovePast, Value: 0.02, Unit: Share})
			for _, r := range []Rule{above, past} {
				r.Way = way
				got := Backtest(r, 0.01, every, nil, history, func(time.Time) *float64 { return number(0.04) })
				if worse := rate > 0.05; got.Stopped != worse || worse && got.At.Before(history[30].At) {
					t.Errorf("%s by %s at %v: %+v", r.Limit, way, rate, got)
				}
			}
		}
	}
}

// TestPast holds a limit above the past against days with a shape of their own.
func TestPast(t *testing.T) {
	now := time.Date(2026, 3, 12, 9, 30, 0, 0, time.UTC)
	r := rule(Limit{Kind: AbovePast, Value: 0.01, Unit: Share})
	days := func(n int) (points []signal.Point) {
		for at := now.AddDate(0, 0, -n); at.Before(now); at = at.Add(10 * time.Minute) {
			bad := 10.0 // of 1000, at night
			if at.Hour() >= 8 && at.Hour() < 20 {
				bad = 30
			}
			points = append(points, signal.Point{At: at, Value: bad / 1000, Tally: signal.Tally{Part: bad, Whole: 1000}})
		}
		return points
	}
	if bound := Past(r, days(7), now); bound == nil || math.Abs(*bound-0.04) > 1e-9 {
		t.Errorf("in the morning it lies at %v, want 0.04", bound)
	}
	if bound := Past(r, days(7), now.Add(-6*time.Hour)); bound == nil || math.Abs(*bound-0.02) > 1e-9 {
		t.Errorf("at night it lies at %v, want 0.02", bound)
	}
	if bound := Past(r, days(2), now); bound != nil {
		t.Errorf("of two days it is told to lie at %v", *bound)
	}
}

// TestMoves sees where a limit above old lies once old shows nothing any more.
func TestMoves(t *testing.T) {
	r := rule(Limit{Kind: AboveOld, Value: 0.02, Unit: Share})
	bound := Moves(r, course([2]float64{20, 1000}, [2]float64{20, 1000}))
	if bound == nil || *bound <= 0.04 || *bound > 0.1 {
		t.Errorf("it lies at %v, want above 0.04, by as much as 200 requests of old leave open", *bound)
	}
	if Moves(r, nil) != nil {
		t.Error("without anything of old it lies somewhere")
	}
}

// TestStanding sees that a guard that stands finds a regression that sets in late, and that all is well once it is over.
func TestStanding(t *testing.T) {
	r := rule(Limit{Kind: AtMost, Value: 0.05, Unit: Share})
	r.Way = Sequential
	p, chance := NewStanding(r, every), rand.New(rand.NewPCG(9, 9))
	p.Begin(0, start)
	words := map[int]Word{}
	for n := range 900 {
		rate := 0.02
		if n >= 400 && n < 500 {
			rate = 0.12
		}
		p.Add(shown(chance, n+1, 0, 300, 0, rate))
		words[n] = p.Verdict(start.Add(time.Duration(n+1) * every)).Word
	}
	if words[399] != Clear || words[430] != Breach || words[899] != Clear {
		t.Errorf("before %s, meanwhile %s, afterwards %s", words[399], words[430], words[899])
	}
}
