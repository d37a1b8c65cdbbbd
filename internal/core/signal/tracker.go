package signal

import (
	"math"
	"strconv"
	"time"
)

const maxFinite = math.MaxFloat64

func parseBound(le string) (float64, bool) {
	if le == "+Inf" {
		return math.Inf(1), true
	}
	bound, err := strconv.ParseFloat(le, 64)
	return bound, err == nil
}

// Point is a signal of one cohort over one interval.
type Point struct {
	At    time.Time `json:"at"` // the interval's end
	Value float64   `json:"value"`
	Tally
}

// Tracker keeps the last reading of every instance, to tell what happened since. The zero Tracker is ready to use.
type Tracker struct {
	last map[string]scrape
}

type scrape struct {
	at      time.Time
	reading Reading
	course  []level    // Slope, Burn: what was read within the while that it is told over, oldest first
	spent   [2]float64 // Burn: part and whole since it was read first
}

// level is what a gauge, or what was counted until then, was at a moment.
type level struct {
	at    time.Time
	value float64
	whole float64 // Burn
}

// Take adds a scrape of an instance and gives what happened since the one before. It is false for the first scrape
// of an instance, and for a page that the source cannot be read from; why tells why, and is empty where it can.
func (t *Tracker) Take(source Source, instance string, page Page, at time.Time) (tally Tally, ok bool, why string) {
	reading, why := source.Read(page)
	if why != "" {
		return Tally{}, false, why
	}
	if t.last == nil {
		t.last = map[string]scrape{}
	}
	before, known := t.last[instance]
	if known && !at.After(before.at) {
		return Tally{}, false, ""
	}
	if source.Kind == Slope {
		course := before.course
		if n := len(course); n == 0 || at.Sub(course[n-1].at).Seconds() >= source.Over/mostLevels {
			course = append(course, level{at: at, value: sumOf(reading.of)})
		}
		course = lastly(course, at, source.Over)
		t.last[instance] = scrape{at: at, reading: reading, course: course}
		rise, ok := slope(course, source.Over)
		return Tally{Part: rise, Whole: 1, Largest: rise, Instances: 1}, ok, ""
	}
	now := scrape{at: at, reading: reading.remembering(before.reading)}
	defer func() { t.last[instance] = now }()
	if source.Kind.read() {
		return source.Between(reading, reading, 0), true, ""
	}
	if !known {
		now.course = []level{{at: at}}
		return Tally{}, false, ""
	}
	tally = source.Between(before.reading, reading, at.Sub(before.at))
	if source.Kind == Burn {
		now.spend(source, before, &tally)
	}
	return tally, true, ""
}

// lastly leaves the levels of a while before a moment, and the last one before that.
func lastly(course []level, at time.Time, over float64) []level {
	for len(course) > 2 && at.Sub(course[1].at).Seconds() >= over {
		course = course[1:]
	}
	return course
}

// spend makes a tally of what happened since the scrape before one of both windows.
func (s *scrape) spend(source Source, before scrape, tally *Tally) {
	s.spent = [2]float64{before.spent[0] + tally.Part, before.spent[1] + tally.Whole}
	course := before.course
	if last := course[len(course)-1].at; s.at.Sub(last).Seconds() >= source.Lately/levelsLately {
		course = append(course, level{s.at, s.spent[0], s.spent[1]})
	}
	s.course = lastly(course, s.at, source.Over)
	since := func(over float64) (part, whole float64) { // the last level before the window, or the first there is
		from := s.course[0]
		for _, l := range s.course {
			if s.at.Sub(l.at).Seconds() < over*(1-1e-9) {
				break
			}
			from = l
		}
		return s.spent[0] - from.value, s.spent[1] - from.whole
	}
	tally.Part, tally.Whole = since(source.Over)
	tally.Lately[0], tally.Lately[1] = since(source.Lately)
}

// levelsLately is how often it is noted what was counted within a shorter window.
const levelsLately = 20

// At is when an instance was read last; zero for never.
func (t *Tracker) At(instance string) time.Time { return t.last[instance].at }

// leastCourse is the share of the while that a slope is told over which must have been seen, leastLevels how often at least, and mostLevels how often
// it is noted.
const (
	leastCourse = 0.8
	leastLevels = 5
	mostLevels  = 300
)

// slope is how much a gauge rises in an hour, by least squares. It is false while too little of the while was seen.
func slope(course []level, over float64) (float64, bool) {
	n := len(course)
	if n < leastLevels || course[n-1].at.Sub(course[0].at).Seconds() < leastCourse*over {
		return 0, false
	}
	hours := func(l level) float64 { return l.at.Sub(course[0].at).Hours() }
	x, y := 0.0, 0.0
	for _, l := range course {
		x, y = x+hours(l)/float64(n), y+l.value/float64(n)
	}
	sum, squares := 0.0, 0.0
	for _, l := range course {
		off := hours(l) - x
		sum, squares = sum+off*(l.value-y), squares+off*off
	}
	return sum / squares, squares > 0
}

// remembering is a reading that still knows the series which one before it had: one that is missing from a page and comes
// again has not begun anew.
func (r Reading) remembering(before Reading) Reading {
	keep(r.of, before.of)
	keep(r.to, before.to)
	keep(r.sum, before.sum)
	for name, bounds := range before.buckets {
		if r.buckets != nil && r.buckets[name] == nil {
			r.buckets[name] = bounds
		}
	}
	return r
}

func keep(now, before map[string]float64) {
	for name, value := range before {
		if _, there := now[name]; !there && now != nil && len(now) < MostSeries {
			now[name] = value
		}
	}
}

// Forget drops instances that are gone: all but those that keep names.
func (t *Tracker) Forget(keep func(instance string) bool) {
	for instance := range t.last {
		if !keep(instance) {
			delete(t.last, instance)
		}
	}
}
