package engine

import (
	"cmp"
	"fmt"
	"os"
	"runtime"
	"strconv"
	"testing"
	"time"

	"aditus/internal/ledger"
	"aditus/internal/status"
)

// TestHours lets a line live for hours, as many as ADITUS_HOURS says, with a release every half an hour, and sees that nothing grows but what is on record.
func TestHours(t *testing.T) {
	hours, err := strconv.Atoi(cmp.Or(os.Getenv("ADITUS_HOURS"), "2"))
	if err != nil {
		t.Fatal(err)
	}
	r := newRig(t)
	r.run()
	type size struct {
		heap              uint64
		goroutines, files int
	}
	measure := func() size {
		var m runtime.MemStats
		runtime.GC()
		runtime.GC()
		runtime.ReadMemStats(&m)
		files, _ := os.ReadDir("/proc/self/fd")
		return size{m.HeapAlloc, runtime.NumGoroutine(), len(files)}
	}
	var first size
	began := time.Now()
	for half := range 2 * hours {
		version := []string{"1", "2"}[half%2]
		r.push(version, ", sign-off: a lead", "", "instances: 4", fmt.Sprintf("instances: 4\n    environment: {ROUND: %q}", fmt.Sprint(half)))
		ends := r.clock.Now().Add(30 * time.Minute)
		r.until(version+" is proven everywhere", func(s status.Snapshot) bool {
			for _, site := range []string{"drydock", "north"} {
				if b := berthAt(s, site); b.Applied == nil || b.Applied.Version != version || b.Rollout != nil {
					return false
				}
			}
			return true
		})
		r.wait(ends.Sub(r.clock.Now()))
		r.must(r.book.Prune(t.Context(), r.clock.Now(), ledger.Keep{Points: time.Hour, Minutes: 2 * time.Hour, Traffic: time.Hour, Rollouts: time.Hour, Facts: 2 * time.Hour}))
		if half == 1 {
			first = measure()
		}
	}
	last := measure()
	t.Logf("%d hours in %s: %+v, then %+v", hours, time.Since(began).Round(time.Second), first, last)
	if last.heap > first.heap*3/2+8<<20 || last.goroutines > first.goroutines+8 || last.files > first.files+4 {
		t.Errorf("it grew from %+v to %+v", first, last)
	}
	facts, err := r.book.Facts(ledger.Query{})
	r.must(err)
	if len(facts) == 0 || r.clock.Now().Sub(facts[0].At) > 2*time.Hour+time.Minute {
		t.Errorf("there are %d facts, the first of %s", len(facts), facts[0].At)
	}
}
