package declare

import (
	"fmt"
	"reflect"
	"slices"

	"aditus/internal/core/guard"
)

// Tighten gives a desired state with rules for its rollout that are no looser than others, which were declared before it: no sign-off, soak,
// check or guard of them is missing. A commit that loosens them does not help what it brings with it. held names what was kept of them,
// in words; it is empty where nothing had to be.
func Tighten(d, before Desired) (own Desired, held []string) {
	return tighten(d, before, " as before", false)
}

// tighten does so; what stands under the name of another guard is named with beside, and silence counts as it is declared where loud.
func tighten(d, before Desired, beside string, loud bool) (own Desired, held []string) {
	own = d
	own.Rollout.Stages = slices.Clone(d.Rollout.Stages)
	own.Guards = slices.Clone(d.Guards)
	for i := range own.Rollout.Stages {
		own.Rollout.Stages[i].Guards = slices.Clone(own.Rollout.Stages[i].Guards)
		own.Rollout.Stages[i].Checks = slices.Clone(own.Rollout.Stages[i].Checks)
	}
	held = append(own.holdSignOffs(before), own.holdTimes(before)...)
	held = append(held, own.holdChecks(before)...)
	held = append(held, own.holdGuards(before, beside, loud)...)
	if len(held) == 0 {
		return d, nil
	}
	return own, held
}

// holdSignOffs keeps the sign-offs that stages asked for: each at the last stage with no more traffic that asks for none, or else at the
// first such one, or else at one more before all others.
func (d *Desired) holdSignOffs(before Desired) (held []string) {
	asked := map[string]int{}
	for _, stage := range d.Rollout.Stages {
		asked[stage.SignOff]++
	}
	for _, stage := range before.Rollout.Stages {
		if stage.SignOff == "" {
			continue
		}
		if asked[stage.SignOff] > 0 {
			asked[stage.SignOff]--
			continue
		}
		at := -1
		for i, own := range d.Rollout.Stages {
			if own.SignOff == "" && (at < 0 || own.Share <= stage.Share) {
				at = i
			}
		}
		if at < 0 && len(d.Rollout.Stages) > 0 {
			d.Rollout.Stages = slices.Insert(d.Rollout.Stages, 0, Stage{Share: d.Rollout.Stages[0].Share / 2})
			at = 0
		}
		if at >= 0 {
			d.Rollout.Stages[at].SignOff = stage.SignOff
			held = append(held, "the sign-off by "+stage.SignOff)
		}
	}
	return held
}

// holdTimes keeps the time that a rollout takes at least, and the share that old keeps through proving.
func (d *Desired) holdTimes(before Desired) (held []string) {
	soaks := func(stages []Stage) (sum Span) {
		for _, stage := range stages {
			sum.Duration += stage.Soak.Duration
		}
		return sum
	}
	if less := soaks(before.Rollout.Stages).Duration - soaks(d.Rollout.Stages).Duration; less > 0 && len(d.Rollout.Stages) > 0 {
		d.Rollout.Stages[0].Soak.Duration += less
		held = append(held, fmt.Sprintf("%s of soak", Span{less}.Duration))
	}
	if less := before.Rollout.Proving.Duration - d.Rollout.Proving.Duration; less > 0 {
		d.Rollout.Proving = before.Rollout.Proving
		held = append(held, fmt.Sprintf("%s of proving", before.Rollout.Proving.Duration))
	}
	if d.Rollout.Style == before.Rollout.Style && d.Rollout.Controls() < before.Rollout.Controls() {
		d.Rollout.Control = before.Rollout.Control
		held = append(held, "what old keeps through proving")
	}
	return held
}

// holdChecks keeps the tasks that try what comes in, in the first stage, where they are declared still.
func (d *Desired) holdChecks(before Desired) (held []string) {
	own := d.Rollout.checks()
	for _, task := range before.Rollout.checks() {
		if part, there := d.Parts[task]; !there || part.Kind != Task || slices.Contains(own, task) || len(d.Rollout.Stages) == 0 {
			continue
		}
		if d.Rollout.Style == BlueGreen && d.Rollout.Try == "" {
			d.Rollout.Try = task
		} else {
			d.Rollout.Stages[0].Checks = append(d.Rollout.Stages[0].Checks, task)
		}
		held = append(held, "the check "+task)
	}
	return held
}

// checks are the tasks that try what comes in, in any stage.
func (r Rollout) checks() (tasks []string) {
	if r.Try != "" {
		tasks = []string{r.Try}
	}
	for _, stage := range r.Stages {
		tasks = append(tasks, stage.Checks...)
	}
	return tasks
}

// holdGuards keeps the guards. One that is gone, or is another one under its name, is kept beside: what it measured may not be there any
// more, so that its silence holds nothing, unless it is to be loud.
func (d *Desired) holdGuards(before Desired, beside string, loud bool) (held []string) {
	kept := func(g guard.Rule, name string) guard.Rule {
		if g.Name = name; !loud {
			g.Missing = guard.MissingIgnored
		}
		return g
	}
	for _, was := range before.Guards {
		at := slices.IndexFunc(d.Guards, func(g guard.Rule) bool { return g.Name == was.Name })
		if at < 0 {
			d.Guards = append(d.Guards, kept(was, was.Name))
			held = append(held, "the guard "+was.Name)
			continue
		}
		is := &d.Guards[at]
		asBefore := *is
		asBefore.Limit.Value, asBefore.Then, asBefore.Standing, asBefore.Missing = was.Limit.Value, was.Then, was.Standing, was.Missing
		if !reflect.DeepEqual(asBefore, was) {
			name := was.Name + beside
			if slices.ContainsFunc(d.Guards, func(g guard.Rule) bool { return g.Name == name }) {
				continue
			}
			d.Guards = append(d.Guards, kept(was, name))
			held = append(held, "the guard "+was.Name)
			continue
		}
		changed := false
		if is.Limit.Looser(was.Limit) {
			is.Limit.Value, changed = was.Limit.Value, true
		}
		if was.Then == guard.RollBack && is.Then != guard.RollBack {
			is.Then, changed = was.Then, true
		}
		if was.Standing == guard.RollBack && is.Standing != guard.RollBack {
			is.Standing, changed = was.Standing, true
		}
		if was.Missing != guard.MissingIgnored && is.Missing == guard.MissingIgnored {
			is.Missing, changed = was.Missing, true
		}
		if changed {
			held = append(held, "the guard "+was.Name+" as it was")
		}
	}
	for _, was := range before.Guards {
		if before.Rollout.counts(was.Name) && !d.Rollout.counts(was.Name) {
			for i := range d.Rollout.Stages {
				d.Rollout.Stages[i].Guards = nil // all count
			}
			held = append(held, "the guard "+was.Name+" in the stages")
		}
	}
	return held
}

// counts tells whether a guard counts in any stage.
func (r Rollout) counts(name string) bool {
	return len(r.Stages) == 0 || slices.ContainsFunc(r.Stages, func(s Stage) bool { return len(s.Guards) == 0 || slices.Contains(s.Guards, name) })
}
