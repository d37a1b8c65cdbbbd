package guard

import (
	"math"

	"aditus/internal/core/signal"
)

// instances tells from what old's instances showed, each by itself, how far one of them goes its own way for a while: by its
// host, its callers, what it holds in memory. Two cohorts differ by that much through no fault of a version, and it takes
// many intervals until it shows between them; between instances that serve side by side it shows at once. Deviations from
// what all of them showed together in the same interval are added up in blocks of four intervals that belong to two
// halves in turn, recent ones weighing more. The product of both halves is, on average, what lasts: what comes
// and goes within a block cancels, and is left to scatter.
type instances struct {
	by      map[string]*deviation
	taken   int     // intervals
	product float64 // of both halves' deviations, summed over instances and intervals
	weight  float64 // of their expected counts
	noise   float64 // variance of product, were all instances alike and each answer by itself
	squares float64 // of what instances deviated by in an interval, over what was expected
	shown   float64 // how many of them
}

// deviation is how many more bad answers an instance gave than expected, by half, with how many were.
type deviation struct {
	more, expected [2]float64
	seen           int // the last interval that it showed anything
}

const (
	// blockOfHalf is how many intervals in a row belong to the same half.
	blockOfHalf = 4
	// window is over how many intervals an instance's deviation is told, about; each weighs so much less than the one after it
	// that it comes to that.
	window = 1 << (batches - 1)
	ebbing = 1 - 2.0/window
	// leastInstances is how many there must be, to tell one's own way from the others'.
	leastInstances = 3
)

// add takes what each instance showed in one interval.
func (c *instances) add(by map[string]signal.Tally) {
	var all signal.Tally
	for _, t := range by {
		all.Part, all.Whole = all.Part+t.Part, all.Whole+t.Whole
	}
	if len(by) < leastInstances || all.Whole == 0 {
		return
	}
	if c.by == nil {
		c.by = map[string]*deviation{}
	}
	alone := 1 / (1 - 1/float64(len(by))) // each is part of what it is held against
	half := c.taken / blockOfHalf % 2
	c.taken++
	rate := all.Part / all.Whole
	for name, t := range by {
		d := c.by[name]
		if d == nil {
			d = &deviation{}
			c.by[name] = d
		}
		d.seen = c.taken
		more, expected := t.Part-rate*t.Whole, rate*t.Whole
		d.more[half], d.expected[half] = d.more[half]+more, d.expected[half]+expected
		if expected > 0 {
			c.squares, c.shown = c.squares+alone*more*more/expected, c.shown+1
		}
	}
	for name, d := range c.by {
		if c.taken-d.seen > window {
			delete(c.by, name)
			continue
		}
		c.product += alone * d.more[0] * d.more[1]
		c.weight += d.expected[0] * d.expected[1]
		c.noise += alone * alone * d.expected[0] * d.expected[1]
		for h := range d.more {
			d.more[h], d.expected[h] = d.more[h]*ebbing, d.expected[h]*ebbing
		}
	}
}

// own is the variance of an instance's share of bad answers over a window that comes of going its own way, as a multiple of the
// square of what all show, taken smaller by a standard error; 0 where none is seen.
func (c *instances) own() float64 {
	if c.weight == 0 || c.taken < 2*blockOfHalf {
		return 0
	}
	// Products of neighbouring intervals are nearly the same, so a window of them counts as one.
	deviation := max(1, c.squares/c.shown) * math.Sqrt(c.noise*window) / c.weight
	return (1 + 2/float64(max(1, len(c.by)))) * max(0, c.product/c.weight-deviation/2)
}
