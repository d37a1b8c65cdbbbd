package engine

import (
	"fmt"
	"reflect"
	"slices"
	"time"

	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/plan"
	"aditus/internal/core/rollout"
	"aditus/internal/ledger"
)

// compare holds applied, declared and live against each other.
func (b *berth) compare(seen *evidence, declared *ledger.Revision) change {
	if !seen.reached {
		return change{stand: compare.Unread, differences: b.changes.differences, plan: b.changes.plan}
	}
	cohort, there := seen.target.Cohort(b.state.Applied)
	next := change{applied: b.state.Applied}
	if there {
		next.live = cohort.Live
	}
	if declared != nil {
		next.declared = declared.Fingerprint
	}
	if last := b.changes; last.stand != compare.Unread && last.applied == next.applied && last.declared == next.declared && reflect.DeepEqual(last.live, next.live) {
		return last
	}
	var applied, wanted *declare.Desired
	if r := b.e.revision(b.id.Workload, b.state.Applied); r != nil {
		applied = r.Desired
	}
	if declared != nil {
		wanted = declared.Desired
	}
	next.differences = compare.Three(applied, wanted, next.live)
	next.stand, next.plan = compare.StandOf(next.differences, there), plan.New(wanted, next.differences)
	return next
}

// noteDrift records once that someone changed the site by hand, and once that it is as applied again.
func (b *berth) noteDrift(next *decision, seen *evidence, now time.Time) {
	if !seen.reached {
		return
	}
	drifted := b.changes.stand == compare.Drifted || b.changes.stand == compare.Diverged || b.lost()
	switch {
	case drifted && b.state.DriftSince.IsZero():
		next.state.DriftSince = now
		next.fact(b, now, "drifted", "someone at the site", b.state.Applied, "changed by hand: "+driftText(b.changes.differences), b.changes.differences)
	case !drifted && !b.state.DriftSince.IsZero():
		next.state.DriftSince = time.Time{}
		next.fact(b, now, "as applied", rollout.Itself, b.state.Applied, "the site is as applied again", nil)
	}
}

// lost tells whether all that was applied is gone from the site.
func (b *berth) lost() bool {
	return b.changes.stand == compare.Absent && b.state.Applied != ""
}

func driftText(differences []compare.Difference) string {
	for _, d := range differences {
		if d.Kind != compare.Pending && d.Kind != compare.MarkOnly {
			return d.String()
		}
	}
	return "nothing"
}

// liftBars carries out the orders to lift the bar of the declared revision.
func (b *berth) liftBars(next *decision, orders []*order, declared *ledger.Revision, now time.Time) {
	for _, o := range orders {
		if o.Verb != LiftBar {
			continue
		}
		o.taken = true
		barred := -1
		if declared != nil {
			barred = slices.IndexFunc(next.state.Bars, func(bar ledger.Bar) bool { return bar.Revision == declared.Fingerprint })
		}
		if barred < 0 {
			o.err = fmt.Errorf("%s is not possible: no bar stands between %s and what Git declares", o.Verb, b.id)
			continue
		}
		bar := next.state.Bars[barred]
		next.state.Bars = slices.Delete(next.state.Bars, barred, barred+1)
		next.fact(b, now, "bar lifted", o.By, bar.Revision, fmt.Sprintf("%s lifted the bar on %s (%s)", o.By, bar.Version, bar.Revision.Short()), nil)
	}
}

// sync starts a rollout of the declared revision where that may be, or puts a drifted site back where that was asked.
func (b *berth) sync(next *decision, seen *evidence, orders []*order, declared *ledger.Revision, now time.Time) {
	byHand := ""
	for _, o := range orders {
		if o.Verb != Sync {
			continue
		}
		o.taken = true
		if b.changes.stand == compare.Drifted || b.changes.stand == compare.Diverged || b.lost() {
			b.putBack(next, o.By, now)
			return
		}
		byHand = o.By
	}
	if declared == nil {
		return
	}
	question := rollout.Question{
		Stand: b.changes.stand, Declared: declared.Fingerprint, Applied: b.state.Applied, ByHand: byHand != "",
		Fresh: seen.reached, Stale: seen.stale, LastRollback: b.state.LastRollback, CoolDown: declared.Desired.Rollout.CoolDown.Duration,
		Automatic: b.e.site(b.id.Site).Automatic,
	}
	for _, bar := range next.state.Bars {
		if bar.Revision == declared.Fingerprint {
			question.Barred, question.BarredWhy = true, bar.Why
		}
	}
	question.After, question.AfterProven = b.e.waitsFor(b.id, declared)
	may, why := rollout.MayStart(question, now)
	b.waits = why
	if !may {
		for _, o := range orders {
			if o.Verb == Sync {
				o.err = fmt.Errorf("sync is not possible: %s", or(why, "live is as declared already"))
			}
		}
		return
	}
	by, how := rollout.Itself, "taken automatically"
	if question.After != "" {
		how += " after " + question.After + " had proven it"
	}
	if byHand != "" {
		by, how = byHand, "taken by "+byHand
	}
	old, coming := b.side(b.state.Applied), b.side(declared.Fingerprint)
	if coming.Version == old.Version {
		coming.Version += " " + coming.Revision.Short() // the artifact is the same; only the revision tells them apart
	}
	s := rollout.Begin(old, coming, declared.Desired.Rollout, by, how, b.state.LastRollback, now)
	s.ID = b.e.ledger.NextRollout()
	next.roll, next.state.Rollout = &s, s.ID
	next.fact(b, now, "taken", by, declared.Fingerprint, fmt.Sprintf("%s (%s), “%s” by %s, %s: %s", declared.Version, declared.Fingerprint.Short(), declared.Subject, declared.Author, how, stepsText(b.changes.plan)), nil)
}

func stepsText(p plan.Plan) string {
	if p.Steps() == 0 {
		return "only rules change"
	}
	text := ""
	for _, wave := range p.Waves {
		for _, step := range wave {
			if text != "" {
				text += ", "
			}
			text += string(step.Act) + " " + step.Part
		}
	}
	return text
}

func or(text, instead string) string {
	if text == "" {
		return instead
	}
	return text
}

// side is a revision as one side of a rollout.
func (b *berth) side(fingerprint declare.Fingerprint) rollout.Side {
	r := b.e.revision(b.id.Workload, fingerprint)
	if r == nil {
		return rollout.Side{}
	}
	side := rollout.Side{Revision: fingerprint, Version: r.Version, Parts: map[string]int{}}
	for _, name := range r.Desired.ServiceParts() {
		side.Parts[name] = r.Desired.Parts[name].Instances
	}
	return side
}

// putBack makes the site as it was applied.
func (b *berth) putBack(next *decision, by string, now time.Time) {
	next.intents = append(next.intents, rollout.Intent{Do: rollout.Lay, Revision: b.state.Applied})
	side := b.side(b.state.Applied)
	for part, count := range side.Parts {
		next.intents = append(next.intents, rollout.Intent{Do: rollout.Scale, Revision: side.Revision, Part: part, Count: count})
	}
	next.intents = append(next.intents, rollout.Intent{Do: rollout.SetShare, Revision: side.Revision, Share: 1})
	next.fact(b, now, "put back", by, b.state.Applied, fmt.Sprintf("%s puts the site back as applied: %s", by, driftText(b.changes.differences)), b.changes.differences)
}
