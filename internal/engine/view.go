package engine

import (
	"maps"
	"reflect"
	"slices"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/health"
	"aditus/internal/core/rollout"
	"aditus/internal/status"
)

// view is the berth as faces see it.
func (b *loop) view() status.Berth {
	fingerprint, behind := b.e.behind(b.id, b.state.Applied)
	if err := b.hold(b.last, fingerprint, nil); err != nil {
		b.trouble(b.e.clock.Now(), err)
	}
	applied, declared := b.held[b.state.Applied], b.held[fingerprint]
	v := status.Berth{
		ID: b.id, Applied: shown(applied), AppliedAt: b.state.AppliedAt, ProvenAt: b.state.ProvenAt,
		Declared: shown(declared), SyncStatus: syncStatusOf(b.state.Change.SyncStatus, applied, fingerprint), BehindBy: behind, Differences: b.state.Change.Differences, DriftSince: b.state.DriftSince,
		Live: b.state.Change.Live, InPart: declared != nil && b.state.InPart == declared.Fingerprint, Corrects: b.state.Corrects, Fights: b.state.Fights(),
		Waits: b.state.Waits, Asks: b.state.Asks, Offer: b.state.Offer, Problem: b.problem, LastRollout: b.state.LastRollout,
		Life: b.state.Life, Ending: b.state.Ending, Gone: b.state.Gone, Sized: b.state.Sized, Restarting: b.state.Restarting, Branch: b.state.Trial,
		Lock: b.state.Lock, Left: b.state.Left, Found: b.state.Found, Calls: b.state.Calls,
		Health: health.Summary{Word: health.Silent, Reason: "not looked at yet"},
	}
	if text := numbers.ReplaceAllString(v.Waits, "0"); text != b.waitsFor {
		b.waitsFor, b.waitsSince = text, b.e.clock.Now()
	}
	if v.Waits != "" {
		v.WaitsSince = b.waitsSince
	}
	for _, wave := range b.state.Change.Plan.Waves {
		for _, step := range wave {
			v.Changes = append(v.Changes, step.String())
		}
	}
	v.Trial = b.told(fingerprint)
	for _, bar := range b.state.Bars {
		if declared != nil && bar.Revision == declared.Fingerprint {
			v.Bar = &bar
		}
	}
	if applied != nil {
		v.Needs = applied.Desired.Needs
		v.Guards, v.Lasting = len(applied.Desired.Guards), berth.Lasting(applied.Desired)
	}
	if declared != nil {
		v.Style = declared.Desired.Rollout.Style
		if last := b.state.LastRollback; !last.IsZero() && v.Bar == nil {
			if until := last.Add(declared.Desired.Rollout.CoolDown.Duration); until.After(b.e.clock.Now()) {
				v.Cools = until
			}
		}
	}
	v.Back = shown(b.state.Back(b.held))
	v.Link, v.Bundle, v.Follows, v.Until = b.e.linkOf(b.id)
	seen := b.last
	if seen != nil {
		v.Trial = append(slices.Clone(v.Trial), seen.target.Told...)
		v.Cohorts = b.cohorts(seen)
		if c, ok := seen.target.Cohort(b.state.Applied); ok && seen.reached {
			v.Live = c.Live
		}
		if b.state.Roll == nil || !b.state.Roll.Shared.IsZero() { // before that they are of what was there
			v.Verdicts = seen.judged.Verdicts
		}
		v.Health, v.HealthSince = b.health(seen), b.since
		if seen.reached {
			v.Looked = b.looked
		}
	}
	if b.state.Roll != nil {
		if b.state.Roll.Phase != rollout.Proven {
			v.SyncStatus = compare.Behind
		}
		if seen != nil && !seen.reached {
			v.SyncStatus = compare.Unread
		}
		v.Rollout = &status.Rollout{
			State: *b.state.Roll, From: shown(b.held[b.state.Roll.Old.Revision]), To: shown(b.held[b.state.Roll.New.Revision]),
		}
		if seen != nil {
			v.Rollout.OldSide, v.Rollout.NewSide = seen.sum(b.state.Roll.Old.Revision, 0), seen.sum(b.state.Roll.New.Revision, 0)
			v.Rollout.Observed, v.Rollout.Stale = seen.judged.Observed, seen.stale
		}
	}
	return v
}

// cohorts are all that is there, down to the instance.
func (b *loop) cohorts(seen *evidence) []status.Cohort {
	var all []status.Cohort
	for _, c := range seen.target.Cohorts {
		cohort := status.Cohort{Revision: c.Revision, Share: c.Share, Preview: c.Preview}
		r := b.held[c.Revision]
		if r != nil {
			cohort.Version = r.Version
		}
		for _, name := range slices.Sorted(maps.Keys(c.Live)) {
			fields, _ := c.Live[name].(map[string]any)
			kind, _ := fields["kind"].(string)
			if kind == string(declare.Objects) { // they are told one by one
				fields = map[string]any{"kind": kind, "instances": 0.0}
			}
			part := status.Part{Name: name, Kind: declare.Kind(kind), Live: fields}
			if r != nil {
				declared, ok := berth.Resize(r.Desired, b.state.Sized).Parts[name]
				part.Orphan, part.Needs, part.Wanted, part.Environment = !ok, declared.Needs, declared.Instances, declared.Environment
			}
			cohort.Parts = append(cohort.Parts, part)
		}
		for _, o := range c.Objects {
			cohort.Objects = append(cohort.Objects, status.Object(o))
		}
		for _, in := range c.Instances {
			one := status.Instance{ID: in.ID, Part: in.Part, Address: in.Address, Health: seen.health[in.ID], Done: in.Done, Environment: in.Environment, Events: in.Events, Ports: in.Ports, Cores: in.Cores, Memory: in.Memory, Found: in.Found}
			switch {
			case in.Done:
				one.Health = health.Instance{Word: health.Stopped, Reason: "ran to its end", Started: in.Started}
			case in.Failed != "":
				one.Health = health.Instance{Word: health.Failing, Reason: in.Failed, Started: in.Started}
			case one.Health.Word == "":
				one.Health = health.Instance{Word: health.Starting, Reason: "runs", Started: in.Started}
			}
			if s := b.instances[in.ID]; s != nil && r != nil {
				one.Probes = probesOf(r.Desired.Parts[in.Part], s)
			}
			cohort.Instances = append(cohort.Instances, one)
		}
		all = append(all, cohort)
	}
	return all
}

// probesOf gives a part's probes with their last answers.
func probesOf(part declare.Part, s *probed) []status.Probe {
	var probes []status.Probe
	for _, name := range slices.Sorted(maps.Keys(part.Probes)) {
		p, track := part.Probes[name], s.tracks[name]
		probes = append(probes, status.Probe{Name: name, Asks: p.Asks(), At: track.Last.At, Passed: track.Last.Passed, Reason: track.Last.Reason, Passes: track.Passes, Fails: track.Fails})
	}
	return probes
}

// health is how what is applied is doing.
func (b *loop) health(seen *evidence) health.Summary {
	if !seen.reached {
		return health.Summary{Word: health.Silent, Reason: seen.stale}
	}
	wanted, core := b.state.Wanted(b.held[b.state.Applied]), seen.core()
	if roll := b.state.Roll; roll != nil {
		core = core.Shared(roll.Old.Revision, roll.New.Revision, roll.New.Alike)
	} else if left := b.state.Left; left != nil && seen.target.TakesOver && b.desired(b.state.Applied) != nil && b.desired(left.Revision) != nil {
		alike := map[string]int{}
		for _, part := range b.desired(b.state.Applied).Alike(*b.desired(left.Revision)) {
			alike[part] = 1
		}
		core = core.Shared(b.state.Applied, left.Revision, alike)
	}
	return core.Health(b.state.Applied, wanted)
}

// publish shows a view to the faces.
func (b *loop) publish(v status.Berth) {
	b.e.mu.Lock()
	before := b.course
	b.show(v)
	b.proven, b.course = b.state.Proven, b.seenOnCourse()
	if b.course.of != before.of || b.course.Has != before.Has || b.course.Rolling != before.Rolling || b.course.Turned != before.Turned || !b.course.Proven.Equal(before.Proven) || len(b.course.Signs) != len(before.Signs) {
		b.e.wakeOthers(b)
	}
	if b.breached = b.state.BreachSince; v.SyncStatus == compare.Unread || v.Rollout != nil { // what is not seen, or on its way, speaks for nobody
		b.breached = time.Time{}
	}
	b.stands = 0
	if b.needs = nil; b.held[b.state.Applied] != nil {
		applied := b.held[b.state.Applied].Desired
		b.needs, b.stands = applied.Needs, applied.Standing()
	}
	b.e.mu.Unlock()
	b.e.signal()
}

// show puts out a view, with a number of its own where anything but when it was looked at changed. It is called with the lock held.
func (b *loop) show(v status.Berth) {
	same := b.shown
	same.Looked = v.Looked
	if v.Rev = b.shown.Rev; !reflect.DeepEqual(same, v) {
		b.e.views++
		v.Rev = b.e.views
	}
	b.shown = v
}

// wakeOthers has those look again that may wait for what a berth came to: its workload at other sites, and what rides with it at its
// own. It is called with the lock held.
func (e *Engine) wakeOthers(b *loop) {
	line, _ := e.line()
	if line == nil {
		return
	}
	_, with := line.TrainOf(b.id.Workload)
	for id, other := range e.berths {
		if other != b && (id.Workload == b.id.Workload || id.Site == b.id.Site && slices.Contains(with, id.Workload)) {
			other.nudge()
		}
	}
}
