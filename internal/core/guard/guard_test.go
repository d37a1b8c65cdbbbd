package guard

import (
	"math"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/signal"
)

var start = time.Date(2026, 3, 12, 9, 0, 0, 0, time.UTC)

const every = 10 * time.Second

func number(v float64) *float64 { return &v }

func rule(limit Limit) Rule {
	return Rule{Name: "slow", Signal: signal.Source{Kind: signal.Ratio}, Limit: limit, Breach: &Count{Intervals: 3, Of: 5, Samples: 100}, Missing: MissingHolds, Then: RollBack}
}

// side makes a point of so many bad ones of a hundred parts of whole; whole 0 is silence.
func side(at time.Time, bad, whole float64) *signal.Point {
	if whole == 0 {
		return nil
	}
	return &signal.Point{At: at, Value: bad / whole, Tally: signal.Tally{Part: bad, Whole: whole, Instances: 1}}
}

// course makes a history from pairs: bad of new, requests of new; old stays at 2 of 100.
func course(pairs ...[2]float64) (history []Interval) {
	for i, p := range pairs {
		at := start.Add(time.Duration(i+1) * every)
		history = append(history, Interval{At: at, Old: side(at, 2, 100), New: side(at, p[0], p[1])})
	}
	return history
}

func TestJudge(t *testing.T) {
	absolute, relative := Limit{Kind: AtMost, Value: 0.05, Unit: Share}, Limit{Kind: AboveOld, Value: 0.03, Unit: Share}
	good, bad, none, thin := [2]float64{2, 100}, [2]float64{9, 100}, [2]float64{}, [2]float64{2, 25}
	quantile := func(r *Rule) { r.Signal = signal.Source{Kind: signal.Quantile, Quantile: 0.95} } // 9 of 100 lie beyond its last bucket, 0.09; 2 do not move it there
	least, tenth := Limit{Kind: AtLeast, Value: 0.05, Unit: Share}, Limit{Kind: BelowOld, Value: 0.1, Unit: Share, OfBase: true}
	double := Limit{Kind: AboveOld, Value: 1, Unit: Share, OfBase: true}
	low, as, twice := [2]float64{1, 100}, [2]float64{2, 100}, [2]float64{5, 100} // of old's 2 of 100
	tests := []struct {
		name    string
		limit   Limit
		change  func(*Rule)
		history []Interval
		want    Word
		beyond  int
		wait    time.Duration
	}{
		{"nothing yet", absolute, nil, nil, Undecided, 0, 5 * every},
		{"two good ones", absolute, nil, course(good, good), Undecided, 0, 3 * every},
		{"five good ones", absolute, nil, course(good, good, good, good, good), Clear, 0, 0},
		{"three bad of four", absolute, nil, course(bad, good, bad, bad), Breach, 3, 0},
		{"two bad of five", absolute, nil, course(bad, good, bad, good, good), Clear, 2, 0},
		{"bad ones that are over", absolute, nil, course(bad, bad, good, good, good, good, good), Clear, 0, 0},
		{"a breach before five are in", absolute, nil, course(bad, bad, bad), Breach, 3, 0},
		{"against old", relative, nil, course(bad, bad, bad), Breach, 3, 0},
		{"against old, within", relative, nil, course([2]float64{4, 100}, good, good, good, good), Clear, 0, 0},
		{"thin intervals are judged together", absolute, nil, course(thin, thin, thin, thin), Undecided, 1, 4 * 4 * every},
		{"thin ones do not make a breach each", absolute, nil, course([2]float64{25, 25}, thin, thin, [2]float64{0, 30}), Undecided, 1, 4 * 4 * every},
		{"silent", absolute, nil, course(good, none, none, none, none), Silent, 0, 0},
		{"silent means breach", absolute, func(r *Rule) { r.Missing = MissingBreaches }, course(good, none, none, none, none), Breach, 0, 0},
		{"a quantile beyond the last bucket, the limit below", absolute, quantile, course(bad, bad, bad), Breach, 3, 0},
		{"a quantile beyond the last bucket, the limit above", Limit{Kind: AtMost, Value: 0.2}, quantile, course(bad, bad, good, good, bad), Silent, 0, 0},
		{"it may have been, but too seldom", Limit{Kind: AtMost, Value: 0.2}, quantile, course(bad, bad, good, good, good), Clear, 0, 0},
		{"some exceed the limit, one may", Limit{Kind: AtMost, Value: 0.1}, quantile, course([2]float64{11, 100}, [2]float64{12, 100}, bad, good, good), Silent, 2, 0},
		{"it may be, and missing means breach", Limit{Kind: AtMost, Value: 0.2}, func(r *Rule) { quantile(r); r.Missing = MissingBreaches }, course(bad, bad, bad), Breach, 0, 0},
		{"a quantile in a bucket", Limit{Kind: AtMost, Value: 0.2}, quantile, course(good, good, good, good, good), Clear, 0, 0},
		{"too little", least, nil, course(good, good, good), Breach, 3, 0},
		{"enough", least, nil, course(bad, bad, good, good, bad), Clear, 2, 0},
		{"a quantile beyond the last bucket is enough", least, quantile, course(bad, bad, bad, bad, bad), Clear, 0, 0},
		{"less than old", tenth, nil, course(low, low, low), Breach, 3, 0},
		{"as much as old", tenth, nil, course(as, as, as, as, twice), Clear, 0, 0},
		{"half a point below old", Limit{Kind: BelowOld, Value: 0.005, Unit: Share}, nil, course(low, low, low), Breach, 3, 0},
		{"less than two points below old", Limit{Kind: BelowOld, Value: 0.02, Unit: Share}, nil, course(low, low, low, low, twice), Clear, 0, 0},
		{"more than twice old", double, nil, course(twice, twice, twice), Breach, 3, 0},
		{"not twice old", double, nil, course(as, as, low, as, as), Clear, 0, 0},
		{"old is silent, below", tenth, nil, []Interval{{At: start.Add(every), New: side(start, 2, 100)}, {At: start.Add(4 * every), New: side(start, 2, 100)}}, Silent, 0, 0},
		{"old is silent", relative, nil, []Interval{{At: start.Add(every), New: side(start, 2, 100)}, {At: start.Add(4 * every), New: side(start, 2, 100)}}, Silent, 0, 0},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			r := rule(test.limit)
			if test.change != nil {
				test.change(&r)
			}
			now := start
			if n := len(test.history); n > 0 {
				now = test.history[n-1].At
			}
			v := Judge(r, test.history, start, now, every)
			if v.Word != test.want || v.Beyond != test.beyond || v.Wait != test.wait {
				t.Errorf("%s with %d beyond, %s more; want %s, %d, %s", v.Word, v.Beyond, v.Wait, test.want, test.beyond, test.wait)
			}
			if told := strings.Contains(v.Why, "0.95 lies beyond the last bucket, 0.090,"); told != (r.Signal.Kind == signal.Quantile && (v.Word == Silent || r.Missing == MissingBreaches)) {
				t.Errorf("why: %q", v.Why)
			}
		})
	}
}

// TestHalves sees that a count takes looks that come sooner than usual as the intervals that they are parts of.
func TestHalves(t *testing.T) {
	var history []Interval
	for n := range 7 {
		at := start.Add(time.Duration(n) * every)
		if n > 1 {
			at = start.Add(every + time.Duration(n-1)*every/2)
		}
		history = append(history, Interval{At: at, New: side(at, 90, 100)})
	}
	v := Judge(rule(Limit{Kind: AtMost, Value: 0.05, Unit: Share}), history[:5], start, history[4].At, every)
	if v.Judged != 3 || v.Beyond != 3 { // the first two, and the third of two halves
		t.Errorf("%d of %d intervals are beyond", v.Beyond, v.Judged)
	}
	if v := Judge(rule(Limit{Kind: AtMost, Value: 0.05, Unit: Share}), history, start, history[6].At, every); v.Judged != 4 {
		t.Errorf("%d intervals were judged", v.Judged)
	}
}

func TestVerdictStops(t *testing.T) {
	for _, test := range []struct {
		word    Word
		missing Missing
		then    Action
		want    bool
	}{
		{Clear, MissingHolds, RollBack, false}, {Undecided, MissingHolds, RollBack, true}, {Silent, MissingHolds, RollBack, true},
		{Silent, MissingIgnored, RollBack, false}, {Breach, MissingHolds, RollBack, true}, {Breach, MissingHolds, Tell, false},
	} {
		if got := (Verdict{Word: test.word, Missing: test.missing, Then: test.then}).Stops(); got != test.want {
			t.Errorf("%s, missing %s, then %s stops: %v", test.word, test.missing, test.then, got)
		}
	}
}

// TestEvidenceOfABreach sees that a breach is told with the intervals that made it, not with an average that may lie
// within the limit.
func TestEvidenceOfABreach(t *testing.T) {
	v := Judge(rule(Limit{Kind: AtMost, Value: 0.05, Unit: Share}), course([2]float64{0, 1000}, [2]float64{0, 1000}, [2]float64{9, 100}, [2]float64{9, 100}, [2]float64{9, 100}), start, start.Add(5*every), every)
	if v.Word != Breach || math.Abs(v.New.Value-0.09) > 1e-9 || v.New.Count != 300 {
		t.Errorf("%s with %+v, want 0.09 of 300", v.Word, v.New)
	}
}

// TestAlone sees that a limit above old that has come to lie somewhere is held against new alone.
func TestAlone(t *testing.T) {
	r := rule(Limit{Kind: AboveOld, Value: 0.03, Unit: Share})
	alone := course([2]float64{9, 100}, [2]float64{9, 100}, [2]float64{9, 100})
	for bound, want := range map[float64]Word{0.05: Breach, 0.2: Clear} {
		for i := range alone {
			alone[i].Old, alone[i].Bound = nil, &bound
		}
		if v := Judge(r, alone, start, start.Add(3*every), every); v.Word != want && (want == Breach || v.Word == Breach) || v.Bound == nil || *v.Bound != bound {
			t.Errorf("at %v: %s, %v, want %s", bound, v.Word, v.Bound, want)
		}
	}
}

// TestProportion holds the interval against Wilson's at 99 %, computed by hand from the formula for 15 of 148.
func TestProportion(t *testing.T) {
	e := Proportion(15, 148)
	if math.Abs(e.Value-0.101351) > 1e-6 || math.Abs(e.Low-0.053646) > 5e-6 || math.Abs(e.High-0.183266) > 5e-6 {
		t.Errorf("got %+v", e)
	}
	if none := Proportion(0, 50); none.Low != 0 || none.High <= 0 || none.High > 0.2 {
		t.Errorf("none of 50: %+v", none)
	}
	if empty := Proportion(0, 0); empty.Low != 0 || empty.High != 1 {
		t.Errorf("nothing seen must mean anything between 0 and 1, not %+v", empty)
	}
}

// TestDifference holds the difference against its definition: its ends are as far as the single intervals' ends.
func TestDifference(t *testing.T) {
	d := apart(Estimate{Value: 0.6, Low: 0.48, High: 0.71}, Estimate{Value: 0.8, Low: 0.69, High: 0.88})
	if math.Abs(d.Value-0.2) > 1e-9 || math.Abs(d.Low-(0.2-math.Hypot(0.11, 0.11))) > 1e-9 || math.Abs(d.High-(0.2+math.Hypot(0.08, 0.12))) > 1e-9 {
		t.Errorf("got %+v", d)
	}
}

func TestFormat(t *testing.T) {
	for _, test := range []struct {
		unit  Unit
		value float64
		want  string
	}{
		{Share, 0.0907, "9.1 %"}, {Share, 0.0024, "0.24 %"}, {Share, 0.254, "25 %"}, {Share, 0, "0 %"}, {Bytes, 214.3e6, "214 MB"}, {Bytes, 1.5e9, "1.50 GB"},
		{Bytes, 512, "512 B"}, {Seconds, 0.18, "180 ms"}, {Seconds, 2, "2.0 s"}, {Plain, 12, "12.0"},
	} {
		if got := test.unit.Format(test.value); got != test.want {
			t.Errorf("%v %s is written %q, want %q", test.value, test.unit, got, test.want)
		}
	}
	for want, limit := range map[string]Limit{
		"at most 5 %": {Kind: AtMost, Value: 0.05, Unit: Share}, "at most 0.5 points above old": {Kind: AboveOld, Value: 0.005, Unit: Share},
		"at most 1 point above old": {Kind: AboveOld, Value: 0.01, Unit: Share}, "at most 260 MB": {Kind: AtMost, Value: 260e6, Unit: Bytes}, "at most 12": {Kind: AtMost, Value: 12, Unit: Plain},
	} {
		if got := limit.String(); got != want {
			t.Errorf("got %q, want %q", got, want)
		}
	}
	if got := Share.FormatInterval(Estimate{Value: 0.076, Low: 0.06, High: 0.093}); got != "+7.6 (+6.0 to +9.3) points" {
		t.Errorf("got %q", got)
	}
}

func TestMargin(t *testing.T) {
	v := Verdict{Limit: Limit{Kind: AtMost, Value: 0.05, Unit: Share}, New: &Estimate{Value: 0.04}}
	if m, ok := v.Margin(); !ok || math.Abs(m-0.2) > 1e-9 {
		t.Errorf("margin %v", m)
	}
	if _, ok := (Verdict{Limit: v.Limit}).Margin(); ok {
		t.Error("a margin without a measurement")
	}
}
