package guard

import (
	"math"

	"aditus/internal/core/signal"
)

// Trend is what old showed until new got all of the traffic, and how far it used to drift: an interrupted time series. A limit
// above old lies, from then on, above the most that old is likely to have come to since. Nothing cancels any more, so what
// hits everything and never did before is not told from a regression.
type Trend struct {
	level  float64   // what old showed last, or the end of its interval that is nearer to the limit
	drifts []float64 // variance of the difference between two blocks, by their distance in powers of 2
	limit  Limit
}

const (
	// lastOf is over how many intervals old is told by what it showed last.
	lastOf = 24
	// block is how many intervals are one value of the series.
	block = 4
	// drifting is how many standard deviations of its drift old is allowed for.
	drifting = 3
)

// NewTrend makes the trend of what old showed in the intervals before; nil where it showed nothing.
func NewTrend(rule Rule, before []Interval) *Trend {
	var shown []*signal.Point
	for _, i := range before {
		if i.Old != nil {
			shown = append(shown, i.Old)
		}
	}
	if len(shown) == 0 {
		return nil
	}
	together := func(points []*signal.Point) (sum *signal.Point) {
		for _, p := range points {
			sum = join(rule.Signal, sum, p)
		}
		return sum
	}
	last := together(shown[max(0, len(shown)-lastOf):])
	var blocks []reading
	for from := 0; from+block <= len(shown); from += block {
		blocks = append(blocks, blockOf(rule, together(shown[from:from+block])))
	}
	t := &Trend{level: last.Value, limit: rule.Limit}
	if rule.Signal.Kind.Share() {
		showed := Proportion(last.Part, last.Whole)
		if t.level = showed.High; rule.Limit.Below() {
			t.level = showed.Low
		}
	}
	for distance := 1; 2*distance < len(blocks); distance *= 2 {
		sum := 0.0
		for i := distance; i < len(blocks); i++ {
			d := blocks[i].value - blocks[i-distance].value
			sum += d*d - blocks[i].variance - blocks[i-distance].variance
		}
		t.drifts = append(t.drifts, max(0, sum/float64(len(blocks)-distance)))
	}
	return t
}

// blockOf is a block's value with the variance that its counts explain, where they do.
func blockOf(rule Rule, p *signal.Point) reading {
	r := reading{value: p.Value}
	if rule.Signal.Kind.Share() && p.Whole > 0 {
		rate := (p.Part + 0.5) / (p.Whole + 1)
		r.variance = rate * (1 - rate) / p.Whole
	}
	return r
}

// Bound is where the limit lies so many intervals after old showed anything last.
func (t *Trend) Bound(after int) float64 {
	largest, reach := 0.0, float64(block)
	for i, drift := range t.drifts {
		if distance := float64(block) * math.Exp2(float64(i)); distance < 2*float64(after) {
			largest, reach = max(largest, drift), distance
		}
	}
	if beyond := float64(after) / reach; beyond > 1 {
		largest *= beyond // as a random walk would, further than anybody has seen
	}
	drift := drifting * math.Sqrt(largest)
	if t.limit.Below() {
		drift = -drift
	}
	return t.limit.At(t.level + drift)
}
