package engine

import (
	"testing"
	"time"

	"aditus/internal/target"
)

// TestRestarts counts how often an instance was started anew by itself since it was first looked at, of the last times that its site tells.
func TestRestarts(t *testing.T) {
	start := time.Date(2026, 5, 2, 6, 0, 0, 0, time.UTC)
	at := func(minutes ...int) (all []time.Time) {
		for _, m := range minutes {
			all = append(all, start.Add(time.Duration(m)*time.Minute))
		}
		return all
	}
	p := &probed{asked: at(30)}
	for i, look := range []struct {
		restarts []time.Time
		want     float64
	}{
		{at(1, 2), 0}, {at(1, 2), 0}, {at(1, 2, 5), 1}, {at(5, 6, 7), 3}, {at(6, 7, 30), 3}, {at(30, 31, 32), 5}, {nil, 5}, {at(40), 6},
	} {
		if got := p.count(target.Instance{Started: start, Restarts: look.restarts}); got != look.want {
			t.Errorf("look %d: %v, want %v", i+1, got, look.want)
		}
	}
	fresh := &probed{}
	if a, b := fresh.count(target.Instance{Started: start}), fresh.count(target.Instance{Started: start, Restarts: at(1)}); a != 0 || b != 1 {
		t.Errorf("one that was never started anew before: %v, then %v", a, b)
	}
}
