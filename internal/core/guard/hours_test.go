package guard

import (
	"testing"
	"time"

	"aditus/internal/core/signal"
)

// TestHours holds one signal against what holds by day and by night.
func TestHours(t *testing.T) {
	night := Limit{Kind: AtMost, Value: 10, Unit: Plain}
	rule := Rule{
		Name: "queue", Signal: signal.Source{Kind: signal.Gauge}, Limit: Limit{Kind: AtMost, Value: 5, Unit: Plain}, Way: ByCount, Breach: &Count{1, 1, 1},
		Hours: []Hours{{From: 22 * 60, To: 6 * 60, Zone: "Asia/Tokyo", Limit: night}, {From: 12 * 60, To: 13 * 60, Limit: Limit{Kind: AtMost, Value: 7, Unit: Plain}}},
	}
	for clock, want := range map[string]float64{"12:59": 7, "13:00": 10, "20:59": 10, "21:00": 5, "11:59": 5, "12:00": 7, "00:00": 5} { // Tokyo is 9 hours ahead
		at, err := time.Parse("2006-01-02 15:04", "2026-03-12 "+clock)
		if err != nil {
			t.Fatal(err)
		}
		if got := rule.LimitAt(at).Value; got != want {
			t.Errorf("at %s the limit is %v, want %v", clock, got, want)
		}
		for value, word := range map[float64]Word{want: Clear, want + 1: Breach} {
			history := []Interval{{At: at, New: &signal.Point{At: at, Value: value, Tally: signal.Tally{Part: value, Whole: 1, Instances: 1}}, Bound: rule.HourlyBound(at)}}
			if v := Judge(rule, history, at.Add(-time.Minute), at, 10*time.Second); v.Word != word || v.Limit.Value != want {
				t.Errorf("%v at %s: %s of %s", value, clock, v.Word, v.Limit)
			}
		}
	}
	for _, wrong := range []string{"", "24:00", "7", "22:60", "-1:00"} {
		if _, err := ReadClock(wrong); err == nil {
			t.Errorf("%q is taken for a time of day", wrong)
		}
	}
}
