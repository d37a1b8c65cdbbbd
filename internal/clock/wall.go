package clock

import (
	"context"
	"sync"
	"time"
)

// Wall is the machine's time, made fit to work by: it never goes back. Where the machine's clock was set forward, or the
// machine slept, it goes along at once; where that was set back it runs at half its speed until both are the same again,
// so that nothing is over sooner than it may be, and nothing stands still.
type Wall struct {
	read func() (steady time.Duration, wall time.Time) // time since some moment, whatever the clock is set to; what the clock says

	mu   sync.Mutex
	last time.Time
	at   time.Duration // of the steady time
}

// mostBack is how far on record times may lie ahead for the clock to begin there: what lies beyond was noted by a clock that was wrong.
const mostBack = 24 * time.Hour

// NewWall gives the machine's time. latest is the newest moment on record, before which it must not begin; zero for none.
func NewWall(latest time.Time) *Wall {
	began := time.Now()
	return newWall(latest, func() (time.Duration, time.Time) {
		now := time.Now()
		return now.Sub(began), now.Round(0)
	})
}

func newWall(latest time.Time, read func() (time.Duration, time.Time)) *Wall {
	w := &Wall{read: read}
	w.at, w.last = read()
	if ahead := latest.Sub(w.last); ahead > 0 && ahead <= mostBack {
		w.last = latest
	}
	return w
}

// Now implements Clock.
func (w *Wall) Now() time.Time {
	w.mu.Lock()
	defer w.mu.Unlock()
	now, _ := w.both()
	return now
}

// both gives what it is now, and what the machine's clock says. It is called with the lock held.
func (w *Wall) both() (now, wall time.Time) {
	at, wall := w.read()
	passed := at - w.at
	now = w.last.Add(passed)
	if wall.After(now) {
		now = wall
	} else if slow := w.last.Add(passed / 2); wall.Before(now) {
		if now = slow; wall.After(slow) {
			now = wall
		}
	}
	w.last, w.at = now, at
	return now, wall
}

// As is what a moment is that the machine's clock noted, by this time.
func (w *Wall) As(noted time.Time) time.Time {
	w.mu.Lock()
	defer w.mu.Unlock()
	now, wall := w.both()
	if now.Sub(wall) < notable || noted.IsZero() {
		return noted
	}
	return now.Add(-wall.Sub(noted))
}

// notable is how far apart the two must be for anybody to care.
const notable = time.Second

// waitMost is how long it is waited at once, as the machine's clock may be set meanwhile.
const waitMost = 15 * time.Second

// Wait implements Clock.
func (w *Wall) Wait(ctx context.Context, until time.Time, wake <-chan struct{}) error {
	for {
		left := until.Sub(w.Now())
		timer := time.NewTimer(min(left, waitMost))
		select {
		case <-ctx.Done():
			timer.Stop()
			return ctx.Err()
		case <-wake:
			timer.Stop()
			return nil
		case <-timer.C:
		}
		if left <= waitMost && !w.Now().Before(until) {
			return nil
		}
	}
}

// Late implements Clock.
func (w *Wall) Late() time.Duration { return busy }

// Join implements Clock.
func (w *Wall) Join() {}

// Leave implements Clock.
func (w *Wall) Leave() {}
