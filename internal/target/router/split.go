package router

import (
	"math"
	"math/bits"
	"sync/atomic"
)

// golden is the golden ratio's fraction, times 2⁶⁴.
const golden = 0x9E3779B97F4A7C15

// sequence gives every request a place from 0 to 1, as a fraction of 2⁶⁴: the multiples of the golden ratio. Of all ways
// to go on for ever they lie the most evenly, so that of any n requests in a row the number whose place is below a share
// is off by a few at most, whatever the share; and as they never repeat, no client that asks in a rhythm gets always the
// same cohort. (Knuth, The Art of Computer Programming, volume 3, section 6.4; the three-distance theorem.)
type sequence struct{ n atomic.Uint64 }

func (s *sequence) next() uint64 { return s.n.Add(1) * golden }

// placeOf gives a visitor a place of its own that never changes, by FNV-1a and the multiplication that spreads it.
func placeOf(visitor string) uint64 {
	h := uint64(14695981039346656037)
	for i := range len(visitor) {
		h = (h ^ uint64(visitor[i])) * 1099511628211
	}
	h ^= h >> 32
	return bits.RotateLeft64(h*golden, 32) * golden
}

// bounds are the places at which each cohort's share ends, from shares that come to 1.
func bounds(shares []float64) []uint64 {
	ends, sum := make([]uint64, len(shares)), 0.0
	for i, share := range shares {
		sum += share
		switch {
		case sum >= 1-1e-12:
			ends[i] = math.MaxUint64
		case sum <= 0:
			ends[i] = 0
		default:
			ends[i] = uint64(math.Ldexp(sum, 64))
		}
	}
	return ends
}

// choose gives the cohort that a place belongs to.
func choose(ends []uint64, place uint64) int {
	for i, end := range ends {
		if place < end || end == math.MaxUint64 {
			return i
		}
	}
	return len(ends) - 1
}
