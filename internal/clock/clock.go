// Package clock is the time of whoever works by it: the machine's, one that runs faster, or one that jumps from each moment at
// which somebody has something to do to the next.
package clock

import (
	"context"
	"slices"
	"sync"
	"time"
)

// Clock is a time to work by. Each goroutine that waits on it joins first and leaves at its end.
type Clock interface {
	Now() time.Time
	// Wait returns at a moment of the clock, or sooner when wake has something or ctx ends.
	Wait(ctx context.Context, until time.Time, wake <-chan struct{}) error
	// Late is by how much of its time whoever waits may be late on a machine that is busy.
	Late() time.Duration
	Join()
	Leave()
}

// scaled runs with the machine's time, faster by a factor.
type scaled struct {
	real, start time.Time
	factor      float64
}

// New gives a clock that starts at a moment and runs faster than the machine's by a factor; 1 is real time.
func New(start time.Time, factor float64) Clock {
	return &scaled{real: time.Now(), start: start, factor: factor}
}

func (c *scaled) Now() time.Time {
	return c.start.Add(time.Duration(float64(time.Since(c.real)) * c.factor))
}

func (c *scaled) Wait(ctx context.Context, until time.Time, wake <-chan struct{}) error {
	timer := time.NewTimer(time.Duration(float64(until.Sub(c.Now())) / c.factor))
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-timer.C:
	case <-wake:
	}
	return nil
}

// busy is by how much a busy machine is late.
const busy = 400 * time.Millisecond

func (c *scaled) Late() time.Duration { return time.Duration(float64(busy) * c.factor) }

func (c *scaled) Join()  {}
func (c *scaled) Leave() {}

// lockstep stands still while anyone works and jumps to the next moment that someone waits for once all wait. It runs
// as fast as the machine allows, and the same every time.
type lockstep struct {
	mu      sync.Mutex
	now     time.Time
	joined  int
	waiting []*waiter
}

type waiter struct {
	until time.Time
	done  chan struct{}
}

// NewLockstep gives a clock that starts at a moment and runs as fast as the work allows.
func NewLockstep(start time.Time) Clock { return &lockstep{now: start} }

func (c *lockstep) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.now
}

func (c *lockstep) Late() time.Duration { return 0 }

func (c *lockstep) Join() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.joined++
}

func (c *lockstep) Leave() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.joined--
	c.jump()
}

// Wait takes no notice of wake, so that it is the same every time: whoever waits looks again soon enough.
func (c *lockstep) Wait(ctx context.Context, until time.Time, _ <-chan struct{}) error {
	w := &waiter{until: until, done: make(chan struct{})}
	c.mu.Lock()
	c.waiting = append(c.waiting, w)
	c.jump()
	c.mu.Unlock()
	select {
	case <-w.done:
		return ctx.Err()
	case <-ctx.Done():
		c.mu.Lock()
		defer c.mu.Unlock()
		c.waiting = slices.DeleteFunc(c.waiting, func(o *waiter) bool { return o == w })
		return ctx.Err()
	}
}

// jump moves the time on when nobody works any more. It is called with the lock held.
func (c *lockstep) jump() {
	if len(c.waiting) == 0 || len(c.waiting) < c.joined {
		return
	}
	next := c.waiting[0].until
	for _, w := range c.waiting {
		if w.until.Before(next) {
			next = w.until
		}
	}
	if next.After(c.now) {
		c.now = next
	}
	c.waiting = slices.DeleteFunc(c.waiting, func(w *waiter) bool {
		if w.until.After(c.now) {
			return false
		}
		close(w.done)
		return true
	})
}
