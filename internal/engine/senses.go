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

	processes  map[string]*guard.Process // by guard, of those that decide sequentially
	follows    int64                     // the rollout they follow, standingID for what is applied
	stands     declare.Fingerprint       // that is applied
	fed        time.Time                 // the last evaluation they were given
	past       map[string]knownBound     // limits above the workload's own past, by guard
	moved      map[string]knownBound     // limits above what old showed last, by guard
	steady     map[string]*ledger.Point  // what is summed up for the history, by guard
	steadyFrom time.Time
}

// standingID stands for no rollout.
const standingID = -1

// knownBound is where a limit that moves lay, as of a moment.
type knownBound struct {
	at    time.Time
	bound *float64
}

// following says which processes are wanted.
type following struct {
	rules    *declare.Desired
	id       int64
	revision declare.Fingerprint // new, or the one that stands
	make     func(guard.Rule) *guard.Process
	bound    func(guard.Rule, *evaluation) *float64
}

// feed gives the processes all evaluations that they have not had. For a new rollout, and after a restart, they are
// made anew and given all of them.
func (s *senses) feed(f following, roll *rollout.State) {
	if s.processes == nil || s.follows != f.id || s.stands != f.revision {
		s.processes, s.follows, s.stands, s.fed = map[string]*guard.Process{}, f.id, f.revision, time.Time{}
		for _, rule := range f.rules.Guards {
			if rule.Way == guard.Sequential {
				s.processes[rule.Name] = f.make(rule)
			}
		}
	}
	for _, e := range s.series {
		if !e.at.After(s.fed) {
			continue
		}
		s.fed = e.at
		for _, rule := range f.rules.Guards {
			p, points := s.processes[rule.Name], e.points[rule.Name]
			switch {
			case p == nil:
			case f.id == standingID:
				p.Begin(0, e.at)
				p.Add(guard.Interval{At: e.at, New: points[f.revision], Bound: f.bound(rule, e)})
			case e.at.Before(roll.Began):
				p.Lead(points[roll.Old.Revision])
			case e.stage != noStage && roll.Counts(rule.Name, e.stage):
				p.Begin(e.stage, e.at)
				p.Add(guard.Interval{At: e.at, Old: points[roll.Old.Revision], New: points[f.revision], Bound: f.bound(rule, e)})
			}
		}
	}
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
	stage    int  // of the rollout under whose share all of it lies; noStage for none
	kept     bool // on record
}

func newSenses() *senses {
	return &senses{past: map[string]knownBound{}, moved: map[string]knownBound{}, instances: map[string]*sensed{}, trackers: map[string]*signal.Tracker{}}
}

// add remembers an evaluation, and forgets the readings of instances that are gone.
func (s *senses) add(e *evaluation) {
	for _, tracker := range s.trackers {
		tracker.Forget(func(id string) bool { return s.instances[id] != nil })
	}
	s.series = append(s.series, e)
}

// trim forgets the oldest evaluations, once they were judged: after a restart all of a rollout's are.
func (s *senses) trim() {
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
	return e.at.Sub(since) >= wholeOf(every)
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
	for _, e := range s.series[max(0, len(s.series)-LeadIn):] {
		if e.kept {
			continue
		}
		for name, byRevision := range e.points {
			for revision, p := range byRevision {
				points = append(points, ledger.Point{Guard: name, Revision: revision, At: e.at, Value: p.Value, Part: p.Part, Whole: p.Whole, Stage: e.stage})
			}
		}
	}
	return points
}

// recorded notes what is on record now: all evaluations so far, and the history of what serves alone.
func (s *senses) recorded(points, steady bool) {
	if points {
		for _, e := range s.series {
			e.kept = true
		}
	}
	if steady {
		s.steady = nil
	}
}

// recall brings evaluations back that the ledger kept before a restart, so that evidence is not lost with it. A
// quantile comes back with its value alone.
func (s *senses) recall(points []ledger.Point) {
	byTime := map[int64]*evaluation{}
	for _, p := range points {
		e := byTime[p.At.UnixMilli()]
		if e == nil {
			e = &evaluation{at: p.At, stage: p.Stage, points: map[string]map[declare.Fingerprint]*signal.Point{}, kept: true}
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
	new, _ := seen.target.Cohort(roll.New.Revision)
	return &ledger.Look{At: now, Asked: roll.AskedShare(), Share: new.Share, Requests: seen.requests, Old: seen.sum(roll.Old.Revision, 0).Total, New: seen.sum(roll.New.Revision, 0).Total}
}
