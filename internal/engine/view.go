package engine

import (
	"aditus/internal/core/compare"
	"aditus/internal/core/health"
)

// view is the berth as faces see it.
func (b *berth) view() Berth {
	declared, behind := b.e.declaredFor(b.id, b.state.Applied)
	v := Berth{
		Berth: b.id, Applied: b.e.revision(b.id.Workload, b.state.Applied), AppliedAt: b.state.AppliedAt, ProvenAt: b.state.ProvenAt,
		Declared: declared, Stand: b.changes.stand, BehindBy: behind, Differences: b.changes.differences, DriftSince: b.state.DriftSince,
		Waits: b.waits, Problem: b.problem, LastRollout: b.state.LastRollout,
		Health: health.Summary{Word: health.Silent, Reason: "not looked at yet"},
	}
	for _, wave := range b.changes.plan.Waves {
		for _, step := range wave {
			v.Changes = append(v.Changes, step.String())
		}
	}
	for _, bar := range b.state.Bars {
		if declared != nil && bar.Revision == declared.Fingerprint {
			v.Bar = &bar
		}
	}
	seen := b.senses.last
	if seen != nil {
		v.Verdicts = seen.verdicts
		v.Health, v.HealthSince = b.health(seen), b.since
		if seen.reached {
			v.Looked = b.looked
		}
	}
	if b.roll != nil {
		v.Stand = compare.Behind
		if seen != nil && !seen.reached {
			v.Stand = compare.Unread
		}
		v.Rollout = &Rollout{
			State: *b.roll, From: b.e.revision(b.id.Workload, b.roll.Old.Revision), To: b.e.revision(b.id.Workload, b.roll.New.Revision),
		}
		if seen != nil {
			v.Rollout.OldSide, v.Rollout.NewSide = seen.sum(b.roll.Old.Revision, 0), seen.sum(b.roll.New.Revision, 0)
			v.Rollout.Observed, v.Rollout.Stale = seen.observed, seen.stale
		}
	}
	return v
}

// health is how what is applied is doing.
func (b *berth) health(seen *evidence) health.Summary {
	if !seen.reached {
		return health.Summary{Word: health.Silent, Reason: seen.stale}
	}
	wanted := 0
	for _, count := range b.side(b.state.Applied).Parts {
		wanted += count
	}
	return seen.sum(b.state.Applied, wanted)
}

// publish shows a view to the faces.
func (b *berth) publish(v Berth) {
	b.e.mu.Lock()
	b.shown, b.proven = v, b.state.Proven
	b.e.mu.Unlock()
	b.e.signal()
}
