package guard

import (
	"maps"
	"math"
	"slices"

	"aditus/internal/core/signal"
)

// instances tells from what old's instances showed, each by itself, how far one of them goes its own way for a while: by its
// host, its callers, what it holds in memory. Two cohorts differ by that much through no fault of a version, and it takes
// many intervals until it shows between them; between instances that serve side by side it shows at once. Deviations from
// what all of them showed together in the same interval are added up in blocks of four intervals that belong to two
// halves in turn, recent ones weighing more. The product of both halves is, on average, what lasts: what comes
// and goes within a block cancels, and is left to scatter. An instance that is far worse than the others is odd, and new is not
// held against it.
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
	all            float64 // answers, bad or not, as long as the others are remembered
	seen           int     // the last interval that it showed anything
	odd            bool
}

const (
	// blockOfHalf is how many intervals in a row belong to the same half.
	blockOfHalf = 4
	// window is over how many intervals an instance's deviation is told, about; each weighs so much less than the one after it
	// that it comes to that.
	window = 1 << (batches - 1)
	ebbing = 1 - 2.0/window
	// LeastInstances is how many there must be, to tell one's own way from the others'.
	LeastInstances = 3

	// An odd instance gives so many times as many bad answers as the others, by so many standard deviations; at most so large a
	// part of all are odd.
	oddTimes      = 2
	oddDeviations = 5
	oddOf         = 3
	// oddAtMost is the share of its answers that may be bad: what is worse is no matter of a host.
	oddAtMost = 0.5
)

// ordinary is what old showed without the instances that were odd by what they showed before.
func (c *instances) ordinary(old *signal.Point, by map[string]signal.Tally) *signal.Point {
	rest := *old
	for name, t := range by {
		if d := c.by[name]; d != nil && d.odd {
			rest.Part, rest.Whole = rest.Part-t.Part, rest.Whole-t.Whole
		}
	}
	if rest.Whole <= 0 {
		return old
	}
	if rest.Whole < old.Whole {
		rest.Value = rest.Part / rest.Whole
	}
	return &rest
}

// odd are the instances that are and that showed something in the last interval, in the order of their names.
func (c *instances) odd() (names []string) {
	for _, name := range slices.Sorted(maps.Keys(c.by)) {
		if d := c.by[name]; d.odd && d.seen == c.taken { // one that is gone is nobody's trouble
			names = append(names, name)
		}
	}
	return names
}

// add takes what each instance showed in one interval.
func (c *instances) add(by map[string]signal.Tally) {
	if len(by) < LeastInstances {
		return
	}
	if c.by == nil {
		c.by = map[string]*deviation{}
	}
	var all signal.Tally
	alike := 0.0
	for name, t := range by {
		if c.by[name] == nil {
			c.by[name] = &deviation{}
		}
		if !c.by[name].odd {
			all.Part, all.Whole = all.Part+t.Part, all.Whole+t.Whole
			alike++
		}
	}
	if all.Whole == 0 || alike < LeastInstances-1 {
		return
	}
	alone := 1 / (1 - 1/alike) // each is part of what it is held against
	half := c.taken / blockOfHalf % 2
	c.taken++
	rate := all.Part / all.Whole
	for name, t := range by {
		d := c.by[name]
		d.seen = c.taken
		more, expected := t.Part-rate*t.Whole, rate*t.Whole
		d.all += t.Whole
		d.more[half], d.expected[half] = d.more[half]+more, d.expected[half]+expected
		if expected > 0 && !d.odd {
			c.squares, c.shown = c.squares+alone*more*more/expected, c.shown+1
		}
	}
	for name, d := range c.by {
		if c.taken-d.seen > window {
			delete(c.by, name)
			continue
		}
		if !d.odd {
			c.product += alone * d.more[0] * d.more[1]
			c.weight += d.expected[0] * d.expected[1]
			c.noise += alone * alone * d.expected[0] * d.expected[1]
		}
		d.all *= ebbing
		for h := range d.more {
			d.more[h], d.expected[h] = d.more[h]*ebbing, d.expected[h]*ebbing
		}
	}
	c.mark()
}

// mark tells which instances are odd, the worst first.
func (c *instances) mark() {
	var all, expected float64
	for _, d := range c.by {
		all, expected = all+d.bad(), expected+d.expected[0]+d.expected[1]
	}
	names := slices.SortedFunc(maps.Keys(c.by), func(a, b string) int {
		switch x, y := c.by[a].times(), c.by[b].times(); {
		case x > y:
			return -1
		case x < y:
			return 1
		}
		return 0
	})
	for n, name := range names {
		d := c.by[name]
		own := d.expected[0] + d.expected[1]
		all, expected = all-d.bad(), expected-own
		usual := own * all / max(expected, 1e-12) // what it would have given were it as the rest
		d.odd = n < len(names)/oddOf && d.bad() < oddAtMost*d.all && d.bad() > oddTimes*usual && d.bad()-usual > oddDeviations*math.Sqrt(c.dispersion()*max(1, usual))
		if !d.odd { // and no better one is
			for _, rest := range names[n:] {
				c.by[rest].odd = false
			}
			return
		}
	}
}

// bad is how many bad answers an instance gave.
func (d *deviation) bad() float64 { return d.more[0] + d.more[1] + d.expected[0] + d.expected[1] }

// times is how many times as many that is as was expected.
func (d *deviation) times() float64 { return d.bad() / max(d.expected[0]+d.expected[1], 1e-12) }

// dispersion is how much more instances scatter from interval to interval than their counts explain, as a factor on the variance.
func (c *instances) dispersion() float64 {
	if c.shown == 0 {
		return 1
	}
	return max(1, c.squares/c.shown)
}

// own is the variance of an instance's share of bad answers over a window that comes of going its own way, as a multiple of the
// square of what all show; 0 where none is seen. It is taken smaller by half a standard error, and larger where there are few instances.
func (c *instances) own() float64 {
	if c.weight == 0 || c.taken < 2*blockOfHalf {
		return 0
	}
	// Products of neighbouring intervals are nearly the same, so a window of them counts as one.
	deviation := c.dispersion() * math.Sqrt(c.noise*window) / c.weight
	return (1 + 2/float64(len(c.by))) * max(0, c.product/c.weight-deviation/2)
}
