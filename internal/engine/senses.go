package engine

import (
	"slices"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/health"
	"aditus/internal/core/rollout"
	"aditus/internal/core/signal"
	"aditus/internal/ledger"
)

// senses is what a berth remembers of what it saw: the course of every probe and the last evaluations.
type senses struct {
	instances map[string]*sensed
	trackers  map[string]*signal.Tracker // by guard; "" counts requests
	series    []*evaluation              // oldest first
	evaluated time.Time
	verdicts  []guard.Verdict
	judged    judgement // what the verdicts are about
	last      *evidence
	tail      time.Time
}

type judgement struct {
	rollout int64
	shared  time.Time
}

type sensed struct {
	tracks map[string]health.Track
	due    map[string]time.Time
	health health.Instance
}

// evaluation is what every guard's signal was within one interval, by revision.
type evaluation struct {
	at       time.Time
	points   map[string]map[declare.Fingerprint]*signal.Point
	requests map[declare.Fingerprint]float64
	kept     bool // on record
}

func newSenses() *senses {
	return &senses{instances: map[string]*sensed{}, trackers: map[string]*signal.Tracker{}}
}

// add remembers an evaluation, and forgets the oldest ones and the readings of instances that are gone.
func (s *senses) add(e *evaluation) {
	for _, tracker := range s.trackers {
		tracker.Forget(func(id string) bool { return s.instances[id] != nil })
	}
	s.series = append(s.series, e)
	if len(s.series) > seriesKept {
		s.series = slices.Delete(s.series, 0, len(s.series)-seriesKept)
	}
}

func (s *senses) tracker(guard string) *signal.Tracker {
	if s.trackers[guard] == nil {
		s.trackers[guard] = &signal.Tracker{}
	}
	return s.trackers[guard]
}

// whole tells whether an evaluation's interval lies wholly after a moment: one in which the share changed says little
// about either share.
func (e *evaluation) whole(since time.Time, every time.Duration) bool {
	return e.at.Sub(since) >= every-every/10
}

// history is what a guard is judged on. In steady times the applied revision stands where the new one would.
func (s *senses) history(name string, seen *evidence, since time.Time, every time.Duration) []guard.Interval {
	var history []guard.Interval
	for _, e := range s.series {
		if !e.whole(since, every) {
			continue
		}
		interval := guard.Interval{At: e.at}
		if seen.new != "" {
			interval.Old, interval.New = e.points[name][seen.old], e.points[name][seen.new]
		} else {
			interval.New = e.points[name][seen.old]
		}
		history = append(history, interval)
	}
	return history
}

// split is the requests of the last interval on both sides, and the share of the new one since the share was reached.
func (s *senses) split(seen *evidence, about judgement, every time.Duration) (last [2]float64, observed *guard.Estimate) {
	if seen.new == "" || len(s.series) == 0 {
		return last, nil
	}
	newest := s.series[len(s.series)-1]
	last = [2]float64{newest.requests[seen.old], newest.requests[seen.new]}
	var sum [2]float64
	for _, e := range s.series {
		if e.whole(about.shared, every) {
			sum[0], sum[1] = sum[0]+e.requests[seen.old], sum[1]+e.requests[seen.new]
		}
	}
	if sum[0]+sum[1] > 0 && !about.shared.IsZero() {
		share := guard.Proportion(sum[1], sum[0]+sum[1])
		observed = &share
	}
	return last, observed
}

// points gives the evaluations that are not on record yet, as the ledger keeps them.
func (s *senses) points() []ledger.Point {
	var points []ledger.Point
	for _, e := range s.series[max(0, len(s.series)-leadIn):] {
		if e.kept {
			continue
		}
		for name, byRevision := range e.points {
			for revision, p := range byRevision {
				points = append(points, ledger.Point{Guard: name, Revision: revision, At: e.at, Value: p.Value, Part: p.Part, Whole: p.Whole})
			}
		}
	}
	return points
}

// kept notes that all evaluations so far are on record.
func (s *senses) kept() {
	for _, e := range s.series {
		e.kept = true
	}
}

// recall brings evaluations back that the ledger kept before a restart, so that evidence is not lost with it. A
// quantile comes back with its value alone.
func (s *senses) recall(points []ledger.Point) {
	byTime := map[int64]*evaluation{}
	for _, p := range points {
		e := byTime[p.At.UnixMilli()]
		if e == nil {
			e = &evaluation{at: p.At, points: map[string]map[declare.Fingerprint]*signal.Point{}, kept: true}
			byTime[p.At.UnixMilli()] = e
			s.series = append(s.series, e)
		}
		if e.points[p.Guard] == nil {
			e.points[p.Guard] = map[declare.Fingerprint]*signal.Point{}
		}
		e.points[p.Guard][p.Revision] = &signal.Point{At: p.At, Value: p.Value, Tally: signal.Tally{Part: p.Part, Whole: p.Whole, Instances: 1}}
	}
	if n := len(s.series); n > 0 {
		s.evaluated = s.series[n-1].at
	}
}

// look is the rollout's traffic and instances, for the record.
func (s *senses) look(roll *rollout.State, now time.Time) *ledger.Look {
	seen := s.last
	if seen == nil || !seen.reached {
		return nil
	}
	o := seen.observation(*roll)
	return &ledger.Look{At: now, Asked: roll.AskedShare(), Share: o.Share, Requests: seen.requests, Old: o.Old.Health.Total, New: o.New.Health.Total}
}
