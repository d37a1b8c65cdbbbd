package signal

import (
	"maps"
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

// together are the buckets of two histograms as those of one.
func together(a, b map[float64]float64) map[float64]float64 {
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
