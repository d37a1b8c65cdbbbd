package simulate

import (
	"fmt"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard/panel"
	"aditus/internal/core/signal"
)

// stream is one signal of all instances of both cohorts: counters that add up.
type stream struct {
	*source
	feeds [2]feed
	page  func(signal.Tally) signal.Page // of an instance's counters
	// answers makes what requests are about of what an instance served, with the part of it that comes in the second half of the interval;
	// the instance's tally is taken where there is none.
	answers func(served signal.Tally, side int, worse float64) (all, late signal.Tally)
}

// feed is what the instances of a cohort tell.
type feed struct {
	revision  declare.Fingerprint
	instances []counters
}

type counters struct {
	name   string // of the instance
	number int    // of those that came and went before it
	sum    signal.Tally
	last   signal.Tally // of the last interval
	late   signal.Tally // of it, what is not seen half an interval before its end
}

// moment is when instances are read.
type moment int

const (
	before  moment = iota // a rollout
	halfway               // of an interval
	end                   // of it
)

// shares is a stream of shares, told by two counters.
func shares(t Traffic, part, all string, seed uint64) *stream {
	s := newStream(t.start(seed))
	s.page = func(t signal.Tally) signal.Page {
		return signal.Page{part: {signal.NewSample(nil, t.Part)}, all: {signal.NewSample(nil, t.Whole)}}
	}
	return s
}

func newStream(s *source) *stream {
	return &stream{source: s, feeds: [2]feed{{revision: panel.OldSide}, {revision: panel.NewSide}}}
}

// next makes what the next interval shows, in which new is worse by so much.
func (s *stream) next(share, worse float64) shown {
	times := worse
	if s.answers != nil {
		worse = 0
	}
	i := s.source.next(share, worse)
	for side, all := range [2][]signal.Tally{i.old, i.new} {
		for n, served := range all {
			late := s.part(served, 0.5)
			if s.answers != nil {
				served, late = s.answers(served, side, times)
			}
			s.feeds[side].add(n, s.sides[side].instances[n].number, served, late)
		}
	}
	return i
}

// nothing makes an interval in which instances are there and show nothing yet.
func (s *stream) nothing() {
	for side := range s.feeds {
		for n := range s.Instances {
			s.feeds[side].add(n, n, signal.Tally{}, signal.Tally{})
		}
	}
}

// add adds what the instance in a place showed in an interval, late being what of it came in its second half.
func (f *feed) add(place, number int, shown, late signal.Tally) {
	for len(f.instances) <= place {
		f.instances = append(f.instances, counters{})
	}
	c := &f.instances[place]
	if c.name == "" || c.number != number {
		*c = counters{name: fmt.Sprint(f.revision, number), number: number}
	}
	c.sum, c.last, c.late = c.sum.Add(shown), shown, late
}

// scrapes are what is read of the instances at a moment.
func (s *stream) scrapes(when moment) (all []panel.Scrape) {
	for side := range s.feeds {
		lost := when != before && s.happens(s.Lost)
		for _, c := range s.feeds[side].instances {
			scrape := panel.Scrape{Instance: c.name, Revision: s.feeds[side].revision}
			switch {
			case lost:
				scrape.Unread = "lost"
			case when == halfway:
				scrape.Page = s.page(less(c.sum, c.late))
			case s.Skew > 0:
				scrape.Page = s.page(less(c.sum, s.part(c.last, s.Skew*s.chance.Float64())))
			default:
				scrape.Page = s.page(c.sum)
			}
			all = append(all, scrape)
		}
	}
	return all
}

// less is a tally without what another one adds to it.
func less(t, o signal.Tally) signal.Tally {
	rest := signal.Tally{Part: t.Part - o.Part, Whole: t.Whole - o.Whole}
	if t.Buckets != nil {
		rest.Buckets = map[float64]float64{}
		for bound, count := range t.Buckets {
			rest.Buckets[bound] = count - o.Buckets[bound]
		}
	}
	return rest
}
