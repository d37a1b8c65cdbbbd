package demo

import (
	"math"
	"math/rand/v2"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/guard"
	"aditus/internal/core/rollout"
	"aditus/internal/core/signal"
	"aditus/internal/ledger"
)

// locked is a berth that somebody locked before the story.
var locked = berth.ID{Workload: "fares", Site: "isles"}

// Measures of the past that is made up for the berth whose guards are worth a look at the bench.
const (
	pastDays  = 14
	pastEvery = 30 * time.Minute
	stageLong = 24 // evaluations in each stage of a past rollout
)

// remember makes up what the guards of a berth showed over the last days, and during the rollouts of its last revisions.
func (w *World) remember(revisions []berth.Revision, start time.Time) (entries []ledger.Entry) {
	chance := rand.New(rand.NewPCG(5150, 2))
	newest := revisions[len(revisions)-1]
	for _, rule := range newest.Desired.Guards {
		entry := ledger.Entry{Berth: Breached}
		for at := start.Add(-pastDays * 24 * time.Hour); at.Before(start); at = at.Add(pastEvery) {
			p := made(chance, rule, at, 0)
			p.Revision = servedAt(revisions, at).Fingerprint
			entry.Steady = append(entry.Steady, p)
		}
		entries = append(entries, entry)
	}
	proven := revisions[max(0, len(revisions)-4) : len(revisions)-1] // the newest is yet to come
	for i := 1; i < len(proven); i++ {
		entries = append(entries, w.rolledOut(chance, proven[i-1], proven[i], start.Add(-time.Duration(len(proven)-i)*3*24*time.Hour-5*time.Hour), 0.004*float64(i)))
	}
	return entries
}

// servedAt is the revision that served at a moment.
func servedAt(revisions []berth.Revision, at time.Time) berth.Revision {
	found := revisions[0]
	for _, r := range revisions[:len(revisions)-1] {
		if r.At.Before(at) {
			found = r
		}
	}
	return found
}

// made makes up what a guard's signal was at a moment, worse by so much.
func made(chance *rand.Rand, rule guard.Rule, at time.Time, worse float64) ledger.Point {
	hour := float64(at.UTC().Hour()) + float64(at.UTC().Minute())/60
	daily := math.Cos((hour - 8) / 24 * 2 * math.Pi)
	p := ledger.Point{Guard: rule.Name, At: at, Whole: math.Round(6000 * (1 + 0.3*daily)), Stage: -1}
	usual := 0.028 + 0.004*daily + worse
	switch rule.Signal.Kind {
	case signal.Ratio:
		usual = 0.0022 + worse/20
	case signal.Gauge, signal.GaugeMax:
		p.Whole = 6
		p.Value = 212e6 + 6e6*daily + 3e6*chance.NormFloat64()
		p.Part = p.Value * p.Whole
		return p
	}
	p.Part = math.Round(max(0, usual*p.Whole+math.Sqrt(usual*p.Whole)*1.4*chance.NormFloat64()))
	p.Value = p.Part / p.Whole
	return p
}

// rolledOut makes up a rollout that was proven.
func (w *World) rolledOut(chance *rand.Rand, old, new berth.Revision, at time.Time, worse float64) ledger.Entry {
	rules := new.Desired.Rollout
	s := rollout.Begin(
		rollout.Side{Revision: old.Fingerprint, Version: old.Version, Parts: map[string]int{"gate": 6}, Proven: true},
		rollout.Side{Revision: new.Fingerprint, Version: new.Version, Parts: map[string]int{"gate": 6}}, rules, rollout.Automatic, "taken automatically", time.Time{}, at)
	s.ID, s.Phase, s.Stage = w.Ledger.NextRollout(), rollout.Proven, len(rules.Stages)-1
	entry := ledger.Entry{Berth: Breached, Rollout: &s}
	add := func(rule guard.Rule, side berth.Revision, moment time.Time, stage int, share, worse float64) {
		p := made(chance, rule, moment, worse)
		if rule.Signal.Kind.Share() {
			p.Whole = math.Max(1, math.Round(p.Whole*share))
			p.Part = math.Min(p.Whole, math.Round(p.Part*share))
			p.Value = p.Part / p.Whole
		}
		p.Revision, p.Stage = side.Fingerprint, stage
		entry.Points = append(entry.Points, p)
	}
	moment := at
	for stage := range len(rules.Stages) + 1 {
		share := rules.Stages[min(stage, len(rules.Stages)-1)].Share
		for range stageLong {
			moment = moment.Add(rules.Interval.Duration)
			for _, rule := range new.Desired.Guards {
				add(rule, new, moment, stage, share, worse)
				if share < 1 {
					add(rule, old, moment, stage, 1-share, 0)
				}
			}
		}
	}
	s.Ended, s.Since, s.Why = moment, moment, "all guards held at full traffic"
	return entry
}

// start is when a made-up berth took its revision.
func start(r berth.Revision) time.Time { return r.At.Add(time.Hour) }
