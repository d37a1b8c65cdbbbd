package panel

import (
	"fmt"
	"maps"
	"math"
	"slices"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/signal"
)

// A quantile is decided sequentially on shares. A fixed limit is kept where no more of new lies above it than the quantile leaves,
// 1 % of p99. A limit above old is kept where no more of new lies above old's usual quantile and the limit than of old lies above
// that quantile: what slows both in the same interval cancels.

const (
	// tailFades is how much less each interval weighs in what old usually shows than the one after it.
	tailFades = 0.97
	// tailOf is how many observations old must have shown beyond a quantile, on average, before that is known.
	tailOf = 10
)

// tails makes the parts of a quantile's tallies what lies above where it is held against. What cannot be told is taken out,
// with the reason.
func (p *Panel) tails(rule guard.Rule, e *evaluation, s Subject, tallies map[declare.Fingerprint]signal.Tally) {
	old, new := s.sides()
	atOld, atNew, why := p.thresholds(rule, e, s)
	if rule.Limit.Relative() {
		defer p.remember(rule, tallies[old])
	}
	for revision, tally := range maps.Clone(tallies) {
		at := atNew
		if revision == old && new != "" {
			at = atOld
		}
		above, ok := tally.Above(at)
		reason := why
		if reason == "" && !ok && tally.Whole > 0 {
			reason = fmt.Sprintf("no bucket of %s reaches %s", rule.Signal.Of.Metric, rule.Limit.Unit.Format(at))
		}
		if reason != "" {
			delete(tallies, revision)
			e.silent[rule.Name] = reason
			continue
		}
		tally.Part = above
		tallies[revision] = tally
	}
}

// thresholds are where old's and new's observations are told apart, or why that is not known.
func (p *Panel) thresholds(rule guard.Rule, e *evaluation, s Subject) (old, new float64, why string) {
	switch {
	case !rule.Limit.Moves():
		at := rule.LimitAt(e.at).Value
		return at, at, ""
	case rule.Limit.Base() == guard.OldSide && (s.Roll == nil || e.stage == noStage || !s.Roll.AloneIn(e.stage)):
		usual := p.usual[rule.Name]
		if least := tailOf / (1 - rule.Signal.Quantile); usual.Whole < least {
			return 0, 0, fmt.Sprintf("the quantile %g of old takes %.0f observations of it to be known, and there are %.0f", rule.Signal.Quantile, math.Ceil(least), usual.Whole)
		}
		at, _ := rule.Signal.Value(usual)
		return at, at + rule.Limit.Value, ""
	}
	bound := p.bound(rule, e, s)
	if bound == nil {
		return 0, 0, "nothing shows yet what is usual"
	}
	return *bound, *bound, ""
}

// remember adds to what old usually shows.
func (p *Panel) remember(rule guard.Rule, old signal.Tally) {
	if p.usual == nil {
		p.usual = map[string]signal.Tally{}
	}
	usual := p.usual[rule.Name]
	usual.Whole *= tailFades
	usual.Buckets = maps.Clone(usual.Buckets)
	for _, edge := range slices.Collect(maps.Keys(usual.Buckets)) {
		usual.Buckets[edge] *= tailFades
	}
	p.usual[rule.Name] = usual.Add(old)
}
