package guard

import "math"

// scatter estimates how much more a signal scatters than its counts explain, as a factor on the variance: bursts, unlike
// users, noisy neighbours, answers that go bad in groups. Each step is the square of the difference of two neighbouring
// intervals over what their counts explain, after J. von Neumann, "Distribution of the ratio of the mean square successive
// difference to the variance", Ann. Math. Statist. 12 (1941), so that drift and a jump of the mean, such as a regression,
// hardly count. What has a memory does not show between neighbours: so the same is done with batches of 2, 4, 8, 16
// and 32 intervals, and the largest factor counts. The variance of a mean of so many is then that of the long run.
type scatter struct {
	levels    [batches]level
	explained float64 // variance by the counts of an interval, recent ones weighing more
	largest   float64 // factor, as of now
	among     float64 // factor by how far old's instances go their own ways
	unscaled  bool    // the counts tell the variance but for a factor that nothing says beforehand, as of means
}

// level is what batches of one size showed.
type level struct {
	rises, falls, steps float64
	last                reading // the batch before
	open                reading // the one that fills
	filled              int
}

// reading is a value with the variance that its counts explain; none where that is 0.
type reading struct{ value, variance float64 }

// and is the mean of both, each weighing as much as it tells.
func (r reading) and(o reading) reading {
	if r.variance == 0 {
		return o
	}
	a, b := 1/r.variance, 1/o.variance
	return reading{(r.value*a + o.value*b) / (a + b), 1 / (a + b)}
}

const (
	batches = 6 // sizes, each twice the one before
	// leastSteps is how many steps there must be before a scale is known that nothing says beforehand.
	leastSteps = 5
	// shrinks is how many steps it weighs that a batch scatters as those of half its size do.
	shrinks = 5
	// lean is by how many standard errors each estimate is taken smaller, as the largest of several is too large by about as much.
	lean = 0.3
	// largestStep bounds what one step counts, in multiples of what is usual: one outage is not the rule.
	largestStep = 16
	// freeRises is how much more may get worse than better, in the same: what scatters does both alike, a regression does not.
	freeRises = 6
	// carries is how many steps of what was before count at most when the share changes.
	carries = 16
)

// add takes an interval's value with the variance that its counts explain.
func (s *scatter) add(value, variance float64) {
	if variance <= 0 || math.IsNaN(value) {
		return
	}
	if s.explained == 0 {
		s.explained = variance
	}
	s.explained = fading*s.explained + (1-fading)*variance
	finer := s.least()
	for i := range s.levels {
		finer = max(s.least(), s.levels[i].add(reading{value, variance}, 1<<i, finer))
	}
	s.largest = s.most()
}

// add takes a reading, and gives the factor of batches of this size where those of half of it have the factor finer.
func (l *level) add(r reading, size int, finer float64) float64 {
	l.open = l.open.and(r)
	if l.filled++; l.filled == size {
		if l.last.variance > 0 {
			d := l.open.value - l.last.value
			step := d * d / (l.open.variance + l.last.variance)
			if usual := l.factor(finer); usual > 0 {
				step = min(step, largestStep*usual)
			}
			if d > 0 {
				l.rises += step
			} else {
				l.falls += step
			}
			l.steps++
		}
		l.last, l.open, l.filled = l.open, reading{}, 0
	}
	return l.factor(finer)
}

// factor is what the variance is to be multiplied by, where batches of half the size have the factor finer, or none is known
// beforehand: then it is 0 until there were enough.
func (l *level) factor(finer float64) float64 {
	switch {
	case finer > 0:
		sum := l.falls + min(l.rises, l.falls+freeRises*finer)
		return (sum + shrinks*finer) / (l.steps + shrinks) * (1 - lean*math.Sqrt(2/(l.steps+shrinks)))
	case l.steps < leastSteps:
		return 0
	}
	return (l.rises + l.falls) / l.steps * (1 + 3/l.steps)
}

// least is the factor that there is at least; 0 where none is known beforehand.
func (s *scatter) least() float64 {
	if s.unscaled {
		return 0
	}
	return 1
}

// gap forgets the last values, as the next one does not follow them.
func (s *scatter) gap() {
	for i := range s.levels {
		s.levels[i].last, s.levels[i].open, s.levels[i].filled = reading{}, reading{}, 0
	}
}

// change goes on with another share, in which the counts explain so much. What scatters with the counts keeps its factor, what
// does not has a larger one where they explain less; the larger one is taken.
func (s *scatter) change(explained float64) {
	if s.explained == 0 || explained <= 0 {
		return
	}
	ratio := s.explained / explained
	if ratio < 1 {
		ratio = math.Sqrt(ratio)
	}
	for i := range s.levels {
		l := &s.levels[i]
		if l.steps == 0 {
			continue
		}
		scale := min(l.steps, carries) / l.steps
		factor := (l.rises + l.falls) / l.steps
		if ratio > 1 { // what is little more than chance is not made much of
			factor = l.factor(1)
		}
		if factor > 1 {
			scale *= (1 + (factor-1)*ratio) / factor
		}
		l.rises, l.falls, l.steps = l.rises*scale, l.falls*scale, min(l.steps, carries)
	}
	s.explained = explained
	s.largest = s.most()
}

// factor is what the variance that the counts explain is to be multiplied by; 0 while that is not known.
func (s *scatter) factor() float64 { return max(s.least(), s.largest, s.among) }

// most is the largest factor of all sizes of batches.
func (s *scatter) most() float64 {
	finer := s.least()
	largest := finer
	for i := range s.levels {
		finer = max(s.least(), s.levels[i].factor(finer))
		if largest = max(largest, finer); finer == 0 {
			break
		}
	}
	return largest
}
