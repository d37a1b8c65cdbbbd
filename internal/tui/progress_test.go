package tui

import (
	"testing"

	"aditus/internal/core/rollout"
	"aditus/internal/status"
)

// TestProgress tells the terminal how far what moves is, where it takes that.
func TestProgress(t *testing.T) {
	moving := func(share float64) status.Berth {
		return status.Berth{Rollout: &status.Rollout{State: rollout.State{Share: share}}}
	}
	a, _ := app(t)
	if a.View().ProgressBar != nil {
		t.Error("a terminal of which nothing is known is told the progress")
	}
	a.options.Progress = true
	for want, berths := range map[int][]status.Berth{-1: {{}}, 0: {moving(0)}, 30: {moving(0.5), moving(0.1), {}}, 100: {moving(1)}} {
		a.snapshot.Berths = berths
		got := -1
		if bar := a.View().ProgressBar; bar != nil {
			got = bar.Value
		}
		if got != want {
			t.Errorf("%+v are %d %%, want %d", berths, got, want)
		}
	}
}
