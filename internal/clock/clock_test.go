package clock

import (
	"context"
	"testing"
	"testing/synctest"
	"time"
)

var start = time.Date(2026, 3, 12, 9, 0, 0, 0, time.UTC)

func TestScaledClock(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		clock, began := New(start, 6), time.Now()
		if err := clock.Wait(t.Context(), start.Add(time.Minute), nil); err != nil {
			t.Fatal(err)
		}
		if real := time.Since(began); real != 10*time.Second {
			t.Errorf("a minute at six times the speed took %s", real)
		}
		if now := clock.Now(); !now.Equal(start.Add(time.Minute)) {
			t.Errorf("it is %s", now)
		}
		wake := make(chan struct{}, 1)
		wake <- struct{}{}
		if err := clock.Wait(t.Context(), start.Add(time.Hour), wake); err != nil || clock.Now().After(start.Add(time.Minute)) {
			t.Errorf("it did not wake: %v, %s", err, clock.Now())
		}
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		if err := clock.Wait(ctx, start.Add(time.Hour), nil); err == nil {
			t.Error("it waited for someone who was gone")
		}
	})
}

// TestLockstep sees that time stands still while anyone works, and that all are woken at their own moments in order.
func TestLockstep(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		clock := NewLockstep(start)
		clock.Join()
		var order []time.Duration
		for _, every := range []time.Duration{3 * time.Second, 5 * time.Second} {
			clock.Join()
			go func() {
				defer clock.Leave()
				for range 3 {
					if clock.Wait(context.Background(), clock.Now().Add(every), nil) == nil {
						order = append(order, clock.Now().Sub(start))
					}
				}
			}()
		}
		synctest.Wait()
		if now := clock.Now(); !now.Equal(start) {
			t.Fatalf("it went on to %s while the test was at work", now)
		}
		clock.Leave()
		synctest.Wait()
		want := []time.Duration{3, 5, 6, 9, 10, 15}
		if len(order) != len(want) {
			t.Fatalf("woken at %v", order)
		}
		for i := range want {
			if order[i] != want[i]*time.Second {
				t.Fatalf("woken at %v", order)
			}
		}
	})
}
