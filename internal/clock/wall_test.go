package clock

import (
	"testing"
	"time"
)

// TestWall sets the machine's clock while it runs and while nothing does, and lets the machine sleep.
func TestWall(t *testing.T) {
	start := time.Date(2026, 3, 12, 9, 0, 0, 0, time.UTC)
	var steady time.Duration
	var off time.Duration // of the machine's clock
	read := func() (time.Duration, time.Time) { return steady, start.Add(steady + off) }
	w := newWall(time.Time{}, read)
	pass := func(d time.Duration) { steady += d }
	is := func(what string, want time.Duration) {
		t.Helper()
		if got := w.Now(); !got.Equal(start.Add(want)) {
			t.Errorf("%s it is %s, want %s", what, got.Sub(start), want)
		}
	}
	pass(time.Minute)
	is("untouched", time.Minute)
	noted := w.Now()
	off = time.Hour
	is("set forward, or after a sleep", time.Hour+time.Minute)
	if got := w.As(noted); !got.Equal(noted) {
		t.Errorf("what was noted before is %s", got)
	}
	off = 0
	is("set back again it stays", time.Hour+time.Minute)
	pass(10 * time.Minute)
	is("and runs at half its speed", time.Hour+6*time.Minute)
	if got := w.As(start.Add(11 * time.Minute)); !got.Equal(w.Now()) {
		t.Errorf("what the machine notes now is %s, and it is %s", got, w.Now())
	}
	last := w.Now()
	for range 200 {
		pass(time.Minute)
		if now := w.Now(); now.Before(last) || now.Sub(last) > time.Minute || now.Sub(last) < 30*time.Second {
			t.Fatalf("within a minute it went from %s to %s", last, now)
		} else {
			last = now
		}
	}
	is("in the end both are the same", 211*time.Minute)
	for _, test := range []struct {
		ahead, want time.Duration
		what        string
	}{{-time.Hour, 0, "on record before"}, {time.Hour, time.Hour, "an hour ahead on record"}, {30 * 24 * time.Hour, 0, "a month ahead on record, by a clock that was wrong"}} {
		steady, off = 0, 0
		w = newWall(start.Add(test.ahead), read)
		is(test.what, test.want)
	}
}

// TestWallWaits waits by a clock that is set forward meanwhile, for what has passed already, and until it is woken.
func TestWallWaits(t *testing.T) {
	w := NewWall(time.Time{})
	if err := w.Wait(t.Context(), w.Now().Add(20*time.Millisecond), nil); err != nil {
		t.Error(err)
	}
	if err := w.Wait(t.Context(), w.Now().Add(-time.Hour), nil); err != nil {
		t.Error(err)
	}
	wake := make(chan struct{}, 1)
	wake <- struct{}{}
	if err := w.Wait(t.Context(), w.Now().Add(time.Hour), wake); err != nil {
		t.Error(err)
	}
}
