package guard

import (
	"time"

	"aditus/internal/core/signal"
)

const (
	// PastDays is how far back a workload's own past goes that is compared with.
	PastDays = 14
	// leastDays is on how many of them there must be something, at that time of day.
	leastDays = 3
	// pastWindow is how far from the time of day a point may lie.
	pastWindow = 30 * time.Minute
	// pastSince is how long ago the past begins.
	pastSince = 12 * time.Hour
)

// Past gives where a limit above a workload's own past lies at a moment: above what it showed at that time of day, in
// UTC, over the last PastDays days. It is nil where there is too little of it. points are in any order.
func Past(rule Rule, points []signal.Point, now time.Time) *float64 {
	var all *signal.Point
	days := map[int]bool{}
	for _, p := range points {
		ago := now.Sub(p.At)
		if ago < pastSince || ago > PastDays*24*time.Hour+pastWindow {
			continue
		}
		off := (ago + pastWindow) % (24 * time.Hour)
		if off > 2*pastWindow {
			continue
		}
		days[int((ago+pastWindow)/(24*time.Hour))] = true
		all = join(rule.Signal, all, &p)
	}
	if len(days) < leastDays {
		return nil
	}
	bound := rule.Limit.At(all.Value)
	return &bound
}
