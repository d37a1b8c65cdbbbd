package simulate

import (
	"aditus/internal/core/guard"
)

// Standing tells whether a standing guard breaches within so many intervals of a proven revision.
func Standing(t Traffic, limit float64, intervals int, seed uint64) bool {
	s := t.start(seed)
	rule := Ratio(limit)
	rule.Limit.Kind, rule.Standing = guard.AtMost, guard.RollBack
	p := guard.NewStanding(rule, Every, 1)
	for range intervals {
		i := s.interval(s.next(1, 0))
		p.Begin(0, i.At)
		if p.Add(i); p.Broke() {
			return true
		}
	}
	return false
}
