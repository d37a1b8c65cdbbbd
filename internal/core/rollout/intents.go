package rollout

import (
	"maps"
	"slices"
)

// intents is what is still to be done at the target to be where the state wants to be. Asking twice does no harm.
func (m *machine) intents() []Intent {
	var out []Intent
	if !m.seen.Reached || (m.Phase.Forward() && !m.seen.Fresh) {
		return nil // nothing is asked for on what is not known
	}
	scale := func(side Side, seen Cohort, share float64) {
		for _, part := range slices.Sorted(maps.Keys(side.Parts)) {
			if want := size(share, side.Parts[part]); seen.Parts[part] != want {
				out = append(out, Intent{Do: Scale, Revision: side.Revision, Part: part, Count: want})
			}
		}
	}
	share := func(want float64) {
		if !near(m.seen.Share, want) {
			out = append(out, Intent{Do: SetShare, Revision: m.New.Revision, Share: want})
		}
	}
	switch m.Phase {
	case Held:
		return nil
	case Settling, Soaking, Waiting, Proving:
		if !m.Old.None() {
			scale(m.Old, m.seen.Old, 1)
		}
		if !m.seen.New.Laid {
			return append(out, Intent{Do: Lay, Revision: m.New.Revision})
		}
		scale(m.New, m.seen.New, m.AskedShare())
		if m.settled(m.AskedShare()) {
			share(m.AskedShare())
		}
	case RollingBack:
		scale(m.Old, m.seen.Old, 1)
		if m.oldCanServe() {
			share(0)
		}
		if !m.Traffic.IsZero() {
			out = append(out, Intent{Do: Drop, Revision: m.New.Revision})
		}
	case Proven:
		if !m.Old.None() && (m.seen.Old.instances() > 0 || m.seen.Old.Laid) {
			out = append(out, Intent{Do: Drop, Revision: m.Old.Revision})
		}
	}
	return out
}

// oldCanServe tells whether taking the traffic back helps: the old cohort has something healthy everywhere, or the new
// one has nothing either.
func (m *machine) oldCanServe() bool {
	for part, instances := range m.Old.Parts {
		if instances > 0 && m.seen.Old.Healthy[part] == 0 {
			return m.seen.New.Health.Healthy == 0
		}
	}
	return true
}

func (m *machine) done() bool {
	switch m.Phase {
	case RolledBack:
		return true
	case Proven:
		return m.seen.Reached && m.seen.Old.instances() == 0 && !m.seen.Old.Laid || m.Old.None()
	}
	return false
}
