package panel

import (
	"cmp"
	"slices"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/signal"
)

// Instances that are new to their traffic fill caches and compile what they run, and answer worse for a while. For the time that
// the rollout declares they are not judged by the guards' limits; more than half of their answers bad is a breach all the same.

const (
	// coarse is the share of bad answers that instances may give while they warm up.
	coarse = 0.5
	// coarseOf is how many answers are behind a breach of that at least.
	coarseOf = 20
)

// warms tells whether an instance is so new to its traffic that what it shows is not judged yet: counted from its start, and
// where its revision is on its way in from when that first had any of the traffic.
func (s Subject) warms(in Scrape, now time.Time) bool {
	since := in.Started
	if s.Roll != nil && in.Revision == s.Roll.New.Revision && s.Roll.Given.After(since) {
		since = s.Roll.Given
	}
	return in.Revision == s.judged() && now.Sub(since) < s.Rules.Rollout.WarmUp.Duration
}

// judged is the revision that is held against limits.
func (s Subject) judged() declare.Fingerprint {
	old, new := s.sides()
	return cmp.Or(new, old)
}

// warmedAt is when the last evaluation was in which all that new showed came from instances that are warming up.
func (p *Panel) warmedAt(rule guard.Rule, s Subject) time.Time {
	for _, e := range slices.Backward(p.series) {
		switch {
		case e.points[rule.Name][s.judged()] != nil:
			return time.Time{}
		case e.young[rule.Name].Whole > 0:
			return e.at
		}
	}
	return time.Time{}
}

// warming is a verdict in the light of what instances show that are warming up: a breach of the coarse limit, or undecided
// for now where there is nothing else.
func (p *Panel) warming(rule guard.Rule, s Subject, v guard.Verdict) guard.Verdict {
	if v.Word == guard.Breach || len(p.series) == 0 || s.Rules.Rollout.WarmUp.Duration == 0 {
		return v
	}
	var young signal.Tally
	for _, e := range slices.Backward(p.series) {
		if !whole(e.at, s.about().shared, s.every()) || e.young[rule.Name].Whole == 0 {
			break // what was once warm counts no more
		}
		young = young.Add(e.young[rule.Name])
	}
	if showed := guard.Proportion(young.Part, young.Whole); rule.Signal.Kind.Share() && !rule.Limit.Below() && young.Whole >= coarseOf && showed.Low > coarse && (rule.Limit.Moves() || rule.Limit.Value < coarse) {
		limit := guard.Limit{Kind: guard.AtMost, Value: coarse, Unit: guard.Share}
		return guard.Verdict{Guard: v.Guard, Word: guard.Breach, Limit: limit, Then: v.Then, Missing: v.Missing, New: &showed, Way: guard.ByCount, At: v.At}
	}
	if v.Word == guard.Undecided && p.warmedAt(rule, s).Equal(p.series[len(p.series)-1].at) {
		v.Warming, v.Wait = true, s.Rules.Rollout.WarmUp.Duration
	}
	return v
}
