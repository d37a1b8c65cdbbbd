package engine

import (
	"context"
	"sync/atomic"
	"testing"
	"time"

	"aditus/internal/clock"
	"aditus/internal/core/rollout"
	"aditus/internal/status"
	"aditus/internal/target/sim"
)

// leaper is a clock that leaps when it is told to, as a machine's does that is set, or slept. It never goes back: clock.Wall sees to that.
type leaper struct {
	clock.Clock
	off atomic.Int64
}

func (l *leaper) Now() time.Time { return l.Clock.Now().Add(time.Duration(l.off.Load())) }

func (l *leaper) Wait(ctx context.Context, until time.Time, wake <-chan struct{}) error {
	return l.Clock.Wait(ctx, until.Add(-time.Duration(l.off.Load())), wake)
}

func (l *leaper) leap(by time.Duration) { l.off.Add(int64(by)) }

// TestLeaps has the clock leap forward in the midst of rollouts, while the engine runs and while it does not: a good version is
// proven, no sooner than it may be, and a bad one goes back.
func TestLeaps(t *testing.T) {
	for name, leaps := range map[string][]time.Duration{"an hour": {time.Hour}, "twice": {time.Hour, 20 * time.Minute}} {
		for _, restarts := range []bool{false, true} {
			if restarts {
				name += ", while it does not run"
			}
			t.Run(name, func(t *testing.T) {
				t.Parallel()
				r := newRig(t)
				l := &leaper{Clock: r.clock}
				r.clock = l
				model, err := sim.ReadBehaviour("test", []byte(behaviour))
				r.must(err)
				for site := range r.sites {
					r.sites[site], err = sim.Open(site, "", model, l.Now)
					r.must(err)
				}
				leap := func() {
					for _, by := range leaps {
						if restarts {
							r.halt()
						}
						l.leap(by)
						if restarts {
							r.run()
						}
						r.wait(3 * time.Second)
					}
				}
				run := func(s status.Snapshot) *status.Rollout { return berthAt(s, "drydock").Rollout }
				r.push("1", ", sign-off: a lead", "")
				r.run()
				r.until("1 is proven", func(s status.Snapshot) bool {
					b := berthAt(s, "drydock")
					return b.Applied != nil && b.Applied.Version == "1" && b.Rollout == nil
				})
				r.push("2", ", sign-off: a lead", "")
				r.until("2 soaks", func(s status.Snapshot) bool { return run(s) != nil && run(s).Phase == rollout.Soaking })
				began := l.Clock.Now()
				leap()
				r.until("2 proves", func(s status.Snapshot) bool { return run(s) != nil && run(s).Phase == rollout.Proving })
				leap()
				r.until("2 is proven", func(s status.Snapshot) bool {
					b := berthAt(s, "drydock")
					return b.Applied != nil && b.Applied.Version == "2" && b.Rollout == nil
				})
				if took := l.Clock.Now().Sub(began); took < 55*time.Second { // what is left of 15 s, then 15 s, 10 s and 20 s
					t.Errorf("it was proven within %s", took)
				}
				r.push("slow", ", sign-off: a lead", "")
				r.until("the bad one soaks", func(s status.Snapshot) bool { return run(s) != nil && run(s).Phase == rollout.Soaking })
				leap()
				r.until("it is back", func(s status.Snapshot) bool {
					b := berthAt(s, "drydock")
					return b.Applied != nil && b.Applied.Version == "2" && b.Bar != nil && b.Rollout == nil
				})
			})
		}
	}
}
