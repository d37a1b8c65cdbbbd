package signal

import (
	"maps"
	"math"
	"slices"
)

// Buckets count how many observations were at most their bounds. Not all histograms have the same ones, nor always: those that grow buckets by
// themselves have one where something was observed. At a bound that a histogram has not, it counts as many as at the next lower one.

// at is how many observations were at most a bound, of buckets with sorted bounds.
func at(bounds []float64, buckets map[float64]float64, bound float64) float64 {
	i, is := slices.BinarySearch(bounds, bound)
	switch {
	case is:
		return buckets[bound]
	case i == 0:
		return 0
	}
	return buckets[bounds[i-1]]
}

// growth is what came to each bucket of a histogram since it was read before.
func growth(before, after map[float64]float64) map[float64]float64 {
	grew := make(map[float64]float64, len(after))
	if same(before, after) || len(before) == 0 {
		for bound, count := range after {
			grew[bound] = grown(before[bound], count)
		}
		return grew
	}
	bounds := slices.Sorted(maps.Keys(before))
	reset := false
	for bound, count := range after {
		reset = reset || count < at(bounds, before, bound)
	}
	for bound, count := range after {
		if grew[bound] = count; !reset {
			grew[bound] -= at(bounds, before, bound)
		}
	}
	return grew
}

// Together are the buckets of two histograms as those of one.
func Together(a, b map[float64]float64) map[float64]float64 {
	if len(a) == 0 || len(b) == 0 {
		sum := maps.Clone(a)
		if len(a) == 0 {
			sum = maps.Clone(b)
		}
		if sum == nil {
			sum = map[float64]float64{}
		}
		return sum
	}
	if same(a, b) {
		sum := make(map[float64]float64, len(a))
		for bound, count := range a {
			sum[bound] = count + b[bound]
		}
		return sum
	}
	of, other := slices.Sorted(maps.Keys(a)), slices.Sorted(maps.Keys(b))
	sum := make(map[float64]float64, len(a)+len(b))
	for _, bounds := range [2][]float64{of, other} {
		for _, bound := range bounds {
			sum[bound] = at(of, a, bound) + at(other, b, bound)
		}
	}
	return sum
}

// same tells whether two histograms have the same buckets.
func same(a, b map[float64]float64) bool {
	if len(a) != len(b) {
		return false
	}
	for bound := range a {
		if _, is := b[bound]; !is {
			return false
		}
	}
	return true
}

// Bucket is how many observations were at most a bound.
type Bucket struct{ Bound, Count float64 }

// Ranges gather the buckets of a histogram that grows them by itself: each has the observations between two bounds alone, and where there is
// none nothing was observed.
type Ranges struct {
	all []Bucket
	sum float64
}

// Add adds how many observations lie between two bounds, which lie above all before.
func (r *Ranges) Add(from, to, count float64) {
	if len(r.all) == 0 || from > r.all[len(r.all)-1].Bound { // that nothing lies between is known too
		r.all = append(r.all, Bucket{from, r.sum})
	}
	r.sum += count
	r.all = append(r.all, Bucket{to, r.sum})
}

// Cumulative are the buckets as a histogram has them that declares them, where there are so many observations. They never end short of one.
func (r *Ranges) Cumulative(count float64) []Bucket {
	return append(r.all, Bucket{math.MaxFloat64, r.sum}, Bucket{math.Inf(1), count}) // what was not seen beyond is known not to be
}
