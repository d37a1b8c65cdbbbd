package view_test

import (
	"errors"
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"aditus/internal/control"
	"aditus/internal/core/berth"
	"aditus/internal/core/fault"
	"aditus/internal/ledger"
	"aditus/internal/status"
	"aditus/internal/view"
	"aditus/internal/view/storytest"
)

func TestWatchWords(t *testing.T) {
	story := storytest.Load(t)
	var out strings.Builder
	for _, name := range []string{"boarding/north", "crewing/drydock", "fares/slipway", "lookout/north"} {
		w := story.Watches[name]
		title, _ := w.Title()
		fmt.Fprintf(&out, "%s: %s\n  why: %s\n", name, title, strings.Join(w.Why(), " "))
		for _, e := range w.Done() {
			fmt.Fprintf(&out, "  %s %s\n", e.At.Format(time.TimeOnly), e.Text)
		}
		for _, s := range w.Stages {
			fmt.Fprintf(&out, "  %s to %s: %s\n", s.From.Format(time.TimeOnly), s.To.Format(time.TimeOnly), s.Label)
		}
		for _, l := range w.Lanes {
			fmt.Fprintf(&out, "  lane %s, %s: %d points of old, %d of new, from %s to %s\n", l.Guard, l.Limit, len(l.Old), len(l.New), l.Limit.Unit.Format(l.Low), l.Limit.Unit.Format(l.High))
		}
		fmt.Fprintf(&out, "  next: %s\n", strings.Join(w.Next(), " "))
		if w.Met.Requests > 0 {
			fmt.Fprintf(&out, "  met: %s\n", w.Met)
		}
	}
	storytest.Golden(t, "watches.txt", out.String())
}

func TestNothingOnRecord(t *testing.T) {
	b, _ := storytest.Load(t).Snapshot.Find(berth.ID{Workload: "fares", Site: "slipway"})
	folder := t.TempDir()
	book, err := ledger.Open(folder, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer book.Close()
	if _, err := control.Recorded(book); err == nil || !strings.Contains(err.Error(), "no picture") {
		t.Errorf("an empty ledger: %v", err)
	}
	if _, err := view.NewWatch(book, status.Snapshot{}, b.ID, 0); !errors.Is(err, fault.ErrNotFound) {
		t.Errorf("a berth without rollouts: %v", err)
	}
}

// TestBench holds what a limit would have done against the releases of the story's past: two that were proven and the
// one that was rolled back.
func TestBench(t *testing.T) {
	b := storytest.Load(t).Benches["boarding/north slow share"]
	for _, test := range []struct {
		limit   float64
		stopped int
		says    string
	}{{0.05, 1, "1 of 3 releases would have been stopped by slow share at most 5 %"}, {0.01, 3, "would have been stopped"}, {0.5, 0, "passes; came to"}} {
		trial := b.Try(test.limit)
		stopped, _ := trial.Count()
		if summary := trial.Summary(b); stopped != test.stopped || !strings.Contains(summary, test.says) {
			t.Errorf("at %v %d are stopped, want %d:\n%s", test.limit, stopped, test.stopped, summary)
		}
	}
	if trial := b.Try(0.05); trial.Of == 0 || trial.Beyond > trial.Of/20 {
		t.Errorf("%d of %d beyond the limit", trial.Beyond, trial.Of)
	}
	for limit, want := range map[float64]string{0.045: "at-most: 4.5 %", 0.0012: "at-most: 0.12 %"} {
		if key, value := b.Declared(limit); key+": "+value != want {
			t.Errorf("%v is declared as %s: %s, want %s", limit, key, value, want)
		}
	}
	for from, want := range map[float64]float64{0.05: 0.002, 0.0099: 0.0005, 240e6: 1e7} {
		if got := b.Step(from); math.Abs(got-want) > want*1e-6 {
			t.Errorf("a limit of %v moves by %v, want %v", from, got, want)
		}
	}
}
