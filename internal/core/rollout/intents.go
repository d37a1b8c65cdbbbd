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
		out = append(out, m.inOrder()...)
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
			orphans := m.orphans()
			for _, part := range orphans {
				out = append(out, Intent{Do: Keep, Revision: m.New.Revision, From: m.Old.Revision, Part: part})
			}
			if len(orphans) == 0 {
				out = append(out, Intent{Do: Drop, Revision: m.Old.Revision})
			}
		}
	}
	return out
}

// inOrder asks for the new cohort's instances and tasks, each once all that it needs is healthy or done.
func (m *machine) inOrder() []Intent {
	var out []Intent
	share := m.AskedShare()
	for _, part := range slices.Sorted(maps.Keys(m.New.Parts)) {
		if want := size(share, m.New.Parts[part]); m.seen.New.Parts[part] != want && m.ready(part, share) {
			out = append(out, Intent{Do: Scale, Revision: m.New.Revision, Part: part, Count: want})
		}
	}
	for _, task := range slices.Sorted(maps.Keys(m.New.Tasks)) {
		if !m.begun(task) && m.ready(task, share) && (!m.New.Tasks[task].NotUndoable || slices.Contains(m.Passed, task)) {
			out = append(out, Intent{Do: Run, Revision: m.New.Revision, Part: task})
		}
	}
	return out
}

// ready tells whether all that a part needs is healthy at a share, or done.
func (m *machine) ready(part string, share float64) bool {
	for _, need := range m.New.Needs[part] {
		if _, task := m.New.Tasks[need]; task && !m.seen.New.Done[need] {
			return false
		}
		if m.seen.New.Healthy[need] < size(share, m.New.Parts[need]) {
			return false
		}
	}
	return true
}

// begun tells whether a task runs, or has run.
func (m *machine) begun(task string) bool {
	return m.seen.New.Parts[task] > 0 || m.seen.New.Done[task] || m.seen.New.Failed[task] != ""
}

// asksFor gives the task that may run now but for a person's go-ahead, as it cannot be undone; empty for none.
func (m *machine) asksFor() string {
	for _, task := range slices.Sorted(maps.Keys(m.New.Tasks)) {
		if m.New.Tasks[task].NotUndoable && !slices.Contains(m.Passed, task) && !m.begun(task) && m.ready(task, m.AskedShare()) {
			return task
		}
	}
	return ""
}

// orphans are the parts of the old cohort that the new revision does not declare. They live on until a person removes
// them.
func (m *machine) orphans() []string {
	var left []string
	for _, part := range m.seen.Old.All {
		if !slices.Contains(m.New.Declared, part) {
			left = append(left, part)
		}
	}
	return left
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
	case RolledBack, Abandoned:
		return true
	case Proven:
		return m.seen.Reached && m.seen.Old.instances() == 0 && !m.seen.Old.Laid || m.Old.None()
	}
	return false
}
