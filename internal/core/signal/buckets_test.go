package signal

import (
	"maps"
	"math"
	"testing"
	"time"
)

// TestBuckets adds up and tells apart histograms whose buckets are not the same.
func TestBuckets(t *testing.T) {
	inf := math.Inf(1)
	type h = map[float64]float64
	for name, test := range map[string]struct{ got, want h }{
		"the same ones":                      {Together(h{1: 2, 2: 5, inf: 6}, h{1: 1, 2: 1, inf: 4}), h{1: 3, 2: 6, inf: 10}},
		"one has another between":            {Together(h{1: 2, 4: 5}, h{1: 1, 2: 3, 4: 4}), h{1: 3, 2: 5, 4: 9}},
		"one begins later":                   {Together(h{4: 5, 8: 6}, h{1: 1, 8: 2}), h{1: 1, 4: 6, 8: 8}},
		"one alone":                          {Together(nil, h{1: 1}), h{1: 1}},
		"none":                               {Together(nil, nil), h{}},
		"nothing came":                       {growth(h{1: 2, 4: 5}, h{1: 2, 4: 5}), h{1: 0, 4: 0}},
		"a bucket that was not there before": {growth(h{1: 2, 4: 5}, h{1: 2, 2: 3, 4: 6}), h{1: 0, 2: 1, 4: 1}},
		"one below all before":               {growth(h{4: 5}, h{1: 1, 4: 6}), h{1: 1, 4: 1}},
		"one beyond all before":              {growth(h{1: 2}, h{1: 2, 4: 3}), h{1: 0, 4: 1}},
		"coarser buckets than before":        {growth(h{1: 2, 2: 3, 4: 5}, h{1: 3, 4: 7}), h{1: 1, 4: 2}},
		"a counter that began anew":          {growth(h{1: 20, 2: 30}, h{1: 1, 4: 2}), h{1: 1, 4: 2}},
		"the first time":                     {growth(nil, h{1: 1, 4: 2}), h{1: 1, 4: 2}},
	} {
		if !maps.Equal(test.got, test.want) {
			t.Errorf("%s: %v, want %v", name, test.got, test.want)
		}
	}
}

// TestSlope tells how much a gauge rises in an hour, once enough of it was seen, and forgets what was before.
func TestSlope(t *testing.T) {
	source := Source{Kind: Slope, Of: Series{Metric: "m"}, Over: 600}
	var tracker Tracker
	start := time.Unix(1000, 0)
	take := func(minute int, value float64) (float64, bool) {
		tally, ok, why := tracker.Take(source, "one", Page{"m": {{Value: value}}}, start.Add(time.Duration(minute)*time.Minute))
		if why != "" {
			t.Fatal(why)
		}
		rise, known := source.Value(tally)
		return rise, ok && known
	}
	for minute := range 60 {
		value := 500.0 // at first it is high and steady
		if minute >= 20 {
			value = float64(minute) * 2 // then it rises by 120 an hour
		}
		rise, ok := take(minute, value)
		switch {
		case ok != (minute >= 8):
			t.Fatalf("minute %d: it is told: %v", minute, ok)
		case minute < 20 && ok && math.Abs(rise) > 1e-6, minute >= 31 && math.Abs(rise-120) > 1e-6:
			t.Errorf("minute %d: %v", minute, rise)
		}
	}
	if held := len(tracker.last["one"].course); held > 12 {
		t.Errorf("it remembers %d readings", held)
	}
}
