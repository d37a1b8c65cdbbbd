package panel

import (
	"cmp"
	"slices"
	"time"

	"aditus/internal/core/declare"
)

// Thin sums points up, oldest first, to one for each interval of every, guard, revision and stage: parts and wholes add up, a value is
// the mean of the values by what each is of, which for shares is the share itself. A point that is sums has the time of
// the last evaluation of the interval in its stage, so that old and new stay side by side.
func Thin(points []Point, every time.Duration) []Point {
	type interval struct {
		at    int64
		stage int
	}
	type kind struct {
		interval
		guard    string
		revision declare.Fingerprint
	}
	within := func(p Point) interval { return interval{p.At.UnixMilli() / every.Milliseconds(), p.Stage} }
	last := map[interval]time.Time{}
	sums, weights := map[kind]*Point{}, map[kind]float64{}
	for _, p := range points {
		if p.At.After(last[within(p)]) {
			last[within(p)] = p.At
		}
		k := kind{within(p), p.Guard, p.Revision}
		if sums[k] == nil {
			sums[k] = &Point{Guard: p.Guard, Revision: p.Revision, Stage: p.Stage}
		}
		sum, weight := sums[k], max(p.Whole, leastWeight)
		sum.Part, sum.Whole, weights[k] = sum.Part+p.Part, sum.Whole+p.Whole, weights[k]+weight
		sum.Value += (p.Value - sum.Value) * weight / weights[k]
	}
	thin := make([]Point, 0, len(sums))
	for k, sum := range sums {
		sum.At = last[k.interval]
		thin = append(thin, *sum)
	}
	slices.SortFunc(thin, func(a, b Point) int {
		return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Guard, b.Guard), cmp.Compare(a.Revision, b.Revision))
	})
	return thin
}

// leastWeight is what an evaluation of nothing weighs, so that a value that is of no number of requests has a mean too.
const leastWeight = 1e-9
