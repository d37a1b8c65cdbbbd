package rollout

import (
	"maps"
	"slices"

	"aditus/internal/core/declare"
)

// intents is what is still to be done at the target to be where the state wants to be. Asking twice does no harm.
func (m *machine) intents() []Intent {
	if !m.seen.Reached || (m.Phase.Forward() && !m.seen.Fresh) {
		return nil // nothing is asked for on what is not known
	}
	switch m.Phase {
	case Settling, Soaking, Waiting, Proving:
		m.forward()
	case RollingBack:
		m.backward()
	case Proven:
		if m.Old.None() || !m.seen.Fresh {
			break
		}
		for _, part := range slices.Sorted(maps.Keys(m.New.Parts)) {
			m.scale(m.New, m.seen.New, part, m.New.Parts[part])
		}
		for _, part := range slices.Sorted(maps.Keys(m.New.Alike)) {
			m.scale(m.New, m.seen.New, part, m.New.Alike[part])
		}
		if m.mayTidy() {
			m.tidy()
		}
	}
	return m.wishes
}

func (m *machine) want(i Intent) { m.wishes = append(m.wishes, i) }

func (m *machine) scale(side Side, seen Cohort, part string, count int) {
	if seen.Parts[part] != count {
		m.want(Intent{Do: Scale, Revision: side.Revision, Part: part, Count: count})
	}
}

func (m *machine) share(want float64) {
	if m.exchanges() && !m.seen.Splits {
		return // the instances are the split
	}
	if !near(m.seen.Share, want) || m.seen.Astray > shareTolerance {
		m.want(Intent{Do: SetShare, Revision: m.New.Revision, Share: want})
	}
}

// forward brings the new cohort in.
func (m *machine) forward() {
	for _, part := range slices.Sorted(maps.Keys(m.Old.Parts)) {
		if !m.swaps(part) {
			m.scale(m.Old, m.seen.Old, part, m.Old.Parts[part])
		}
	}
	for _, idle := range m.seen.Idle {
		m.want(Intent{Do: Delete, Revision: idle})
	}
	if !m.seen.New.Laid {
		m.want(Intent{Do: Prepare, Revision: m.New.Revision})
		return
	}
	if m.Rules.Style == declare.BlueGreen && m.AskedShare() == 0 && !m.seen.New.Preview {
		m.want(Intent{Do: Preview, Revision: m.New.Revision})
	}
	for _, part := range slices.Sorted(maps.Keys(m.New.Alike)) {
		m.take(part, m.Old, m.New, m.seen.Old, m.seen.New, max(m.Old.Alike[part], m.New.Alike[part]))
	}
	m.inOrder()
	switch {
	case m.exchanges():
		m.share(m.carried())
	case m.settled(m.AskedShare()) || m.Return && m.rescues():
		m.share(m.AskedShare())
	case m.seen.Astray > shareTolerance && m.carry(m.Old, m.seen.Old.Healthy) > 0:
		m.share(m.seen.Share)
	}
}

// take has a side take over the instances of a part that is the same on both, as they are; what is missing of them comes up
// there.
func (m *machine) take(part string, from, to Side, there, here Cohort, count int) {
	switch {
	case there.Parts[part] > 0:
		m.want(Intent{Do: Take, Revision: to.Revision, From: from.Revision, Part: part})
	case here.Parts[part] < count:
		m.scale(to, here, part, count)
	}
}

// rescues tells, on a way back, whether what comes up is already better than what is there.
func (m *machine) rescues() bool {
	return m.carry(m.Old, m.seen.Old.Healthy) == 0 && m.carry(m.New, m.seen.New.Healthy) > 0
}

// inOrder asks for the new cohort's instances and tasks, each once all that it needs is healthy or done, and for old to
// give way where the two are exchanged.
func (m *machine) inOrder() {
	share := m.AskedShare()
	for _, part := range slices.Sorted(maps.Keys(m.New.Parts)) {
		want := m.wanted(part, share)
		if m.swaps(part) {
			more, fewer := m.swap(part, m.seen.New, m.seen.Old, want, m.leaves(part, share), 1-m.seen.Share)
			if more < m.seen.New.Parts[part] || m.ready(part, share) {
				m.scale(m.New, m.seen.New, part, more)
				m.scale(m.Old, m.seen.Old, part, fewer)
			}
			continue
		}
		if m.ready(part, share) {
			m.scale(m.New, m.seen.New, part, want)
		}
	}
	for _, part := range slices.Sorted(maps.Keys(m.New.Objects)) {
		if seen, waves := m.seen.New.Objects[part], m.New.Objects[part]; m.Return {
			m.placeAll(m.New, seen, part)
		} else if seen.Waves < waves && seen.Next && m.ready(part, share) {
			m.want(Intent{Do: Place, Revision: m.New.Revision, Part: part, Count: seen.Waves + 1})
		}
	}
	for _, task := range slices.Sorted(maps.Keys(m.New.Tasks)) {
		if !m.begun(task) && m.mayRun(task, share) && (!m.New.Tasks[task].NotUndoable || slices.Contains(m.Passed, task)) {
			m.want(Intent{Do: Run, Revision: m.New.Revision, Part: task})
		}
	}
}

// placeAll has all objects of a part be as a side has them, at once: on a way back nothing is waited for.
func (m *machine) placeAll(side Side, seen Placed, part string) {
	if seen.Lacks {
		m.want(Intent{Do: Place, Revision: side.Revision, Part: part, Count: side.Objects[part]})
	}
}

// mayRun tells whether a task's time has come. One that tries the new cohort comes once the share of its stage is reached.
func (m *machine) mayRun(task string, share float64) bool {
	if stage, checks := m.checkedIn(task); checks && (m.Stage < stage || m.Stage == stage && m.Phase == Settling) {
		return false
	}
	return m.ready(task, share)
}

// ready tells whether all that a part needs is healthy at a share, or done. What keeps state is the old cohort's until it
// is wanted of the new one.
func (m *machine) ready(part string, share float64) bool {
	for _, need := range m.New.Needs[part] {
		if _, task := m.New.Tasks[need]; task && !m.seen.New.Done[need] {
			return false
		}
		if waves, objects := m.New.Objects[need]; objects && m.seen.New.Objects[need].Waves < waves {
			return false
		}
		if m.seen.New.Healthy[need] < min(m.Old.Alike[need], m.New.Alike[need]) {
			return false
		}
		wanted := m.wanted(need, share)
		if m.seen.New.Healthy[need] < wanted || wanted == 0 && m.swaps(need) && m.seen.Old.Healthy[need] == 0 {
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
		if m.New.Tasks[task].NotUndoable && !slices.Contains(m.Passed, task) && !m.begun(task) && m.mayRun(task, m.AskedShare()) {
			return task
		}
	}
	return ""
}

// backward brings the old cohort back and takes the new one away, traffic first.
func (m *machine) backward() {
	switch {
	case m.exchanges():
		m.share(m.carried())
	case m.oldCanServe():
		m.share(0)
	}
	for _, part := range slices.Sorted(maps.Keys(m.Old.Parts)) {
		if !m.swaps(part) {
			m.scale(m.Old, m.seen.Old, part, m.Old.Parts[part])
			continue
		}
		more, fewer := m.swap(part, m.seen.Old, m.seen.New, m.Old.Parts[part], 0, m.seen.Share)
		m.scale(m.Old, m.seen.Old, part, more)
		m.scale(m.New, m.seen.New, part, fewer)
	}
	for _, part := range slices.Sorted(maps.Keys(m.New.Alike)) {
		m.take(part, m.New, m.Old, m.seen.New, m.seen.Old, m.Old.Alike[part])
		if m.seen.New.Parts[part] == 0 && m.seen.Old.Parts[part] > m.Old.Alike[part] {
			m.scale(m.Old, m.seen.Old, part, m.Old.Alike[part])
		}
	}
	for _, part := range slices.Sorted(maps.Keys(m.Old.Objects)) {
		m.placeAll(m.Old, m.seen.Old.Objects[part], part)
	}
	if m.placedBack() {
		for _, part := range slices.Sorted(maps.Keys(m.New.Objects)) {
			m.want(Intent{Do: Withdraw, Revision: m.New.Revision, From: m.Old.Revision, Part: part})
		}
	}
	if !m.Traffic.IsZero() && m.whole() && (m.seen.New.instances() > 0 || m.seen.New.Laid) {
		m.want(Intent{Do: Delete, Revision: m.New.Revision})
	}
}

// placedBack tells whether all objects are as the old revision has them.
func (m *machine) placedBack() bool {
	for part := range m.Old.Objects {
		if m.seen.Old.Objects[part].Lacks {
			return false
		}
	}
	return true
}

// whole tells whether the old cohort is all there again, so that nothing more is asked of the new one's instances.
func (m *machine) whole() bool {
	for part, instances := range m.Old.Parts {
		if m.swaps(part) && m.seen.Old.Healthy[part] < instances && m.seen.New.Healthy[part] > 0 {
			return false
		}
	}
	for part := range m.New.Alike {
		if m.seen.New.Parts[part] > 0 {
			return false // they are taken back first
		}
	}
	for _, seen := range m.seen.Old.Objects {
		if seen.Moves && m.now.Sub(later(m.Since, m.Resumed)) <= m.Rules.Deadline.Duration { // the cluster still exchanges instances
			return false
		}
	}
	return m.placedBack()
}

// mayTidy tells whether the old cohort may go once the new one is proven.
func (m *machine) mayTidy() bool {
	for part, instances := range m.New.Parts {
		if m.seen.New.Ready[part] < instances {
			return false // it would be missed
		}
	}
	for part, instances := range m.New.Alike {
		if m.seen.Old.Parts[part] > 0 || m.seen.New.Ready[part] < instances {
			return false
		}
	}
	return (m.seen.Old.instances() > 0 || m.seen.Old.Laid) && m.KeptFor(m.now) <= 0
}

// tidy takes the old cohort away, but for what is not declared any more.
func (m *machine) tidy() {
	orphans := m.orphans()
	for _, part := range orphans {
		m.want(Intent{Do: MovePart, Revision: m.New.Revision, From: m.Old.Revision, Part: part})
	}
	if len(orphans) == 0 {
		m.want(Intent{Do: Delete, Revision: m.Old.Revision})
	}
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
		if instances > 0 && !m.keeps(part) && m.seen.Old.Healthy[part] == 0 {
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
		return m.Old.None() || m.seen.Reached && m.seen.Old.instances() == 0 && !m.seen.Old.Laid
	}
	return false
}
