package rollout

import (
	"math"
	"slices"

	"aditus/internal/core/declare"
)

// exchanges tells whether the old cohort gives way while the new one comes up: when rolling, and where a target cannot
// split traffic, so that the numbers of instances are the split.
func (m *machine) exchanges() bool {
	return !m.Old.Empty() && !m.New.Empty() && (!m.seen.Splits || m.Rules.Style == declare.Rolling && !m.Return)
}

// keeps tells whether a part keeps state, so that never two of its instances are there for one.
func (m *machine) keeps(part string) bool {
	return slices.Contains(m.New.Keeps, part) || slices.Contains(m.Old.Keeps, part)
}

// swaps tells whether a part's instances are exchanged one for another, rather than both cohorts being complete.
func (m *machine) swaps(part string) bool {
	_, both := m.Old.Parts[part]
	return both && m.New.Parts[part] > 0 && (m.exchanges() || m.keeps(part))
}

// wanted is how many instances of a part the new cohort needs for a share. What keeps state comes over with the last
// stage; until then both cohorts use the old one's.
func (m *machine) wanted(part string, share float64) int {
	instances := m.New.Parts[part]
	switch {
	case m.Old.Parts[part] > 0 && m.keeps(part) && share < 1:
		return 0
	case m.Rules.Style == declare.BlueGreen:
		return instances
	}
	return size(share, instances)
}

// leaves is how many instances of a part the old cohort keeps beside a new one with a share.
func (m *machine) leaves(part string, share float64) int {
	old := m.Old.Parts[part]
	if m.keeps(part) && share < 1 {
		return old
	}
	most, _ := m.budget(part)
	return max(0, min(old-int(share*float64(old)+1e-9), most-m.wanted(part, share)))
}

// size is how many of so many instances carry a share.
func size(share float64, instances int) int {
	return int(math.Ceil(share*float64(instances) - 1e-9))
}

// budget is how many instances of a part there may be, and how many must be up.
func (m *machine) budget(part string) (most, least int) {
	old, new := m.Old.Parts[part], m.New.Parts[part]
	if m.keeps(part) {
		return max(old, new), max(0, min(old, new)-1)
	}
	return max(old, new) + m.Rules.Extra.More(new), max(0, min(old, new)-m.Rules.Missing.Less(new))
}

// swap gives the sizes to ask for now on the way to up having so many instances of a part and down so few. carries is
// the share of the traffic that down still has.
func (m *machine) swap(part string, up, down Cohort, want, leave int, carries float64) (more, fewer int) {
	most, least := m.budget(part)
	haveUp, haveDown := up.Parts[part], down.Parts[part]
	more = max(min(haveUp, want), min(want, most-haveDown))
	needed := least - up.Ready[part]
	if m.seen.Splits && !m.keeps(part) {
		of := m.Old.Parts[part]
		if m.Phase == RollingBack {
			of = m.New.Parts[part]
		}
		needed = max(needed, size(carries, of)-(of-min(of, least)))
	}
	switch healthy := down.Healthy[part]; {
	case haveDown < leave:
		fewer = max(haveDown, min(leave, most-max(more, haveUp)))
	case healthy >= needed:
		fewer = min(haveDown, max(leave, needed))
	case haveUp < want && more <= haveUp || m.Phase == RollingBack:
		fewer = max(leave, healthy) // those that are not up only stand in the way
	default:
		fewer = haveDown
	}
	return more, min(fewer, max(haveDown, leave))
}

// carry is the share of all traffic that a side can take: that of its weakest part.
func (m *machine) carry(side Side, count map[string]int) float64 {
	least := 1.0
	for part, instances := range side.Parts {
		if instances > 0 && !m.keeps(part) {
			least = min(least, float64(count[part])/float64(instances))
		}
	}
	return least
}

// carried is the share that new should have while instances are exchanged: what it can carry, and what old no longer can,
// but not more than its stage allows.
func (m *machine) carried() float64 {
	old, new := m.carry(m.Old, m.seen.Old.Healthy), m.carry(m.New, m.seen.New.Ready)
	limit := m.AskedShare()
	switch {
	case m.Phase == RollingBack && m.carry(m.New, m.seen.New.Healthy) > 0:
		return min(m.seen.Share, 1-m.carry(m.Old, m.seen.Old.Ready))
	case old == 0 && new == 0:
		return m.seen.Share
	case m.Phase == RollingBack || new == 0:
		return 0
	}
	return min(limit, max(new, 1-old))
}
