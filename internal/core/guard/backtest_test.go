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

// TestTrend sees where a limit above old lies once old shows nothing any more: close above what it showed where that was steady,
// and ever further from it where it used to drift.
func TestTrend(t *testing.T) {
	r := rule(Limit{Kind: AboveOld, Value: 0.02, Unit: Share})
	for _, test := range []struct {
		name        string
		wander      float64 // of the logarithm of old's rate, in an interval
		keeps       float64
		soon, later [2]float64 // where the limit lies after an interval and after an hour
	}{
		{"steady", 0, 0, [2]float64{0.04, 0.05}, [2]float64{0.04, 0.07}},
		{"wandering around its mean", 0.1, 0.8, [2]float64{0.042, 0.075}, [2]float64{0.044, 0.2}},
		{"drifting away", 0.05, 1, [2]float64{0.042, 0.12}, [2]float64{0.08, 1}},
	} {
		var before []Interval
		chance := rand.New(rand.NewPCG(3, 1))
		at := 0.0
		for n := range 200 {
			at = test.keeps*at + test.wander*chance.NormFloat64()
			before = append(before, shown(chance, n, 4000, 0, 0.02*math.Exp(at), 0))
		}
		trend := NewTrend(r, before)
		scale := 1.0
		if test.keeps == 1 {
			scale = math.Exp(at) // from where it has come to
		}
		soon, later := trend.Bound(1), trend.Bound(360)
		if soon < scale*test.soon[0] && soon < 0.04 || soon > max(1, scale)*test.soon[1] || later < test.later[0] || later > test.later[1]*max(1, scale) || later < soon {
			t.Errorf("%s: %.4f after an interval, want %v; %.4f after an hour, want %v", test.name, soon, test.soon, later, test.later)
		}
		lower := NewTrend(rule(Limit{Kind: BelowOld, Value: 0.02, Unit: Share}), before) // as far on the other side
		if gap, other := later-0.02-trend.level, lower.level-0.02-lower.Bound(360); math.Abs(gap-other) > 1e-9 || lower.level >= trend.level {
			t.Errorf("%s: a lower limit drifts by %v, an upper one by %v", test.name, other, gap)
		}
		if seen := trend.Bound(64); test.keeps == 1 && later < 1.2*seen {
			t.Errorf("%s: %.4f after an hour, %.4f after the longest that was seen of its drift", test.name, later, seen)
		}
	}
	if NewTrend(r, nil) != nil {
		t.Error("without anything of old it has a trend")
	}
}

// TestStanding sees that a guard that stands finds a regression that sets in late and stays, that all is well once it is over,
// and that what is over by itself is none, however often it comes.
func TestStanding(t *testing.T) {
	r := rule(Limit{Kind: AtMost, Value: 0.05, Unit: Share})
	r.Way = Sequential
	for _, test := range []struct {
		name        string
		of, rate    float64
		lasts, each int
		at, after   Word
	}{
		{"a regression", 300, 0.12, 100, 900, Breach, Clear},
		{"a minute's outage every hour", 300, 0.45, 6, 360, Clear, Clear},
		{"the same with few requests", 40, 0.45, 6, 360, Clear, Clear},
	} {
		p, chance := NewStanding(r, every, 1), rand.New(rand.NewPCG(9, 9))
		p.Begin(0, start)
		words := map[int]Word{}
		ever := false
		for n := range 1800 {
			rate := 0.02
			if n >= 400 && (n-400)%test.each < test.lasts {
				rate = test.rate
			}
			p.Add(shown(chance, n+1, 0, test.of, 0, rate))
			words[n] = p.Verdict(start.Add(time.Duration(n+1) * every)).Word
			ever = ever || words[n] == Breach
		}
		if words[399] != Clear || words[405] == Breach || words[450] != test.at || words[899] != test.after || ever != (test.at == Breach) {
			t.Errorf("%s: before %s, soon %s, meanwhile %s, afterwards %s, ever a breach %v", test.name, words[399], words[405], words[450], words[899], ever)
		}
	}
}

// TestLineBudget sees that many standing guards share one budget: each needs so much more evidence, and not that many times as long.
func TestLineBudget(t *testing.T) {
	r := rule(Limit{Kind: AtMost, Value: 0.05, Unit: Share})
	r.Way = Sequential
	took := map[int]int{}
	for _, among := range []int{1, 1000} {
		p, chance := NewStanding(r, every, among), rand.New(rand.NewPCG(9, 9))
		p.Begin(0, start)
		for n := 1; !p.Broke() && n < 5000; n++ {
			p.Add(shown(chance, n, 0, 300, 0, 0.06))
			took[among] = n
		}
	}
	if took[1000] <= took[1] || took[1000] > 3*took[1] {
		t.Errorf("one takes %d intervals, one of a thousand %d", took[1], took[1000])
	}
}

// TestBacktestLower sees that lower limits stop a rollout of which there is too little, also once new was alone, and tell how near they came.
func TestBacktestLower(t *testing.T) {
	for _, test := range []struct {
		limit   Limit
		rate    float64 // of new, from when it was alone
		stopped bool
		nearest float64
	}{
		{Limit{Kind: AtLeast, Value: 0.5, Unit: Share}, 0.9, false, 0.56}, {Limit{Kind: AtLeast, Value: 0.8, Unit: Share}, 0.9, false, 0.89}, {Limit{Kind: AtLeast, Value: 0.8, Unit: Share}, 0.6, true, 1.33},
		{Limit{Kind: BelowOld, Value: 0.1, Unit: Share}, 0.88, false, 0.91}, {Limit{Kind: BelowOld, Value: 0.1, Unit: Share}, 0.6, true, 1.33}, {Limit{Kind: BelowOld, Value: 0.1, Unit: Share, OfBase: true}, 0.6, true, 1.33},
		{Limit{Kind: BelowPast, Value: 0.1, Unit: Share}, 0.6, true, 1.33},
	} {
		chance := rand.New(rand.NewPCG(7, 7))
		var history []Staged
		for n := range 60 {
			if n < 30 {
				history = append(history, Staged{Interval: shown(chance, n, 5000, 5000, 0.9, 0.9)})
				continue
			}
			alone := shown(chance, n, 0, 10000, 0, test.rate)
			alone.Old = nil
			history = append(history, Staged{Interval: alone, Stage: 1, Alone: true})
		}
		got := Backtest(rule(test.limit), 0.01, every, nil, history, func(time.Time) *float64 { return number(0.8) })
		if got.Stopped != test.stopped || test.stopped && got.At.Before(history[30].At) || !got.Lower || math.Abs(got.Nearest-test.nearest) > 0.06 {
			t.Errorf("%s, %v then: %+v", test.limit, test.rate, got)
		}
	}
}
