package engine

import (
	"encoding/json"
	"fmt"
	"time"

	"github.com/robfig/cron/v3"

	"aditus/internal/core/compare"
	"aditus/internal/core/rollout"
)

// defaultNotice is how long a correction is announced where the settings do not say.
const defaultNotice = 10 * time.Minute

// noteDrift records once that someone changed the site by hand, and once that it is as applied again. Where the site's
// settings have a schedule it is only looked for then.
func (b *berth) noteDrift(next *decision, seen *evidence, now time.Time) {
	if !seen.reached {
		return
	}
	drifted := (b.changes.stand == compare.Drifted || b.changes.stand == compare.Diverged || b.lost()) && b.state.Left == nil // what was left halfway is no one's drift
	switch {
	case drifted && b.driftDue(now):
		b.foundDrift(next, now)
	case !drifted && !b.state.DriftSince.IsZero():
		next.state.DriftSince, next.state.Corrects, next.state.DriftLeft, next.state.Announced = time.Time{}, time.Time{}, "", ""
		next.fact(b, now, "as applied", rollout.Itself, b.state.Applied, "the site is as applied again", nil)
	}
}

// driftDue tells whether drift is looked for now.
func (b *berth) driftDue(now time.Time) bool {
	look := b.e.site(b.id.Site).Drift.Look
	if look == "" {
		return true
	}
	if !b.drift.IsZero() {
		schedule, err := cron.ParseStandard(look)
		if err != nil || now.Before(schedule.Next(b.drift)) {
			return false
		}
	}
	b.drift = now
	return true
}

// foundDrift tells of drift once, and announces its correction where the site wants it. Where Git moved on as well a
// person decides.
func (b *berth) foundDrift(next *decision, now time.Time) {
	if b.state.DriftSince.IsZero() {
		next.state.DriftSince = now
		next.fact(b, now, "drifted", "someone at the site", b.state.Applied, "changed by hand: "+driftText(b.changes.differences), b.changes.differences)
	}
	if b.e.site(b.id.Site).Drift.Then == CorrectDrift && b.changes.stand == compare.Drifted && b.state.Lock == nil && b.state.Corrects.IsZero() && b.state.DriftLeft != b.driftName() {
		b.announce(next, now)
	}
}

// announce tells that what was changed by hand is put back, and when.
func (b *berth) announce(next *decision, now time.Time) {
	notice := b.e.site(b.id.Site).Drift.Notice
	if notice == 0 {
		notice = defaultNotice
	}
	next.state.Corrects, next.state.Announced = now.Add(notice), b.driftName()
	next.fact(b, now, "announced", rollout.Itself, b.state.Applied, fmt.Sprintf("it is put back at %s unless a person says to leave it: %s", next.state.Corrects.Format(time.TimeOnly), driftText(b.changes.differences)), nil)
}

// driftName tells one drift from another.
func (b *berth) driftName() string {
	var changed []compare.Difference
	for _, d := range b.changes.differences {
		if d.Kind == compare.Drift {
			changed = append(changed, d)
		}
	}
	text, _ := json.Marshal(changed) // differences are plain values
	return string(text)
}

// tidy does what needs no rollout: marks that the target does not know yet, corrections that were announced, and what
// a person asked about drift and orphans.
func (b *berth) tidy(next *decision, seen *evidence, orders []*order, now time.Time) {
	if seen.unmarked {
		next.intents = append(next.intents, b.remark(b.state.MarkedFrom, b.state.Applied)...)
	}
	for _, o := range orders {
		switch {
		case o.taken:
		case o.Verb == Remove:
			o.taken = true
			o.err = b.prune(next, o.By, now)
		case o.Verb == LeaveIt:
			o.taken = true
			if b.state.Corrects.IsZero() {
				o.err = fmt.Errorf("%s is not possible: nothing is about to be put back at %s", o.Verb, b.id)
				continue
			}
			next.state.Corrects, next.state.DriftLeft = time.Time{}, b.driftName()
			next.fact(b, now, "left", o.By, b.state.Applied, fmt.Sprintf("%s leaves what was changed by hand as it is: %s", o.By, driftText(b.changes.differences)), nil)
		}
	}
	b.correct(next, now)
}

// correct puts back what was announced, once its notice is over. Something else that was changed meanwhile is announced
// anew, and nothing is put back where Git moved on as well.
func (b *berth) correct(next *decision, now time.Time) {
	due := next.state.Corrects
	switch {
	case due.IsZero() || b.changes.stand == compare.Unread:
	case b.changes.stand != compare.Drifted || next.state.Lock != nil: // a locked berth stays as it is
		next.state.Corrects, next.durable = time.Time{}, true
	case next.state.Announced != b.driftName():
		b.announce(next, now)
	case !now.Before(due):
		next.state.Corrects = time.Time{}
		b.putBack(next, rollout.Itself, now)
	}
}

// prune takes away what is live and ours and no longer declared.
func (b *berth) prune(next *decision, by string, now time.Time) error {
	removed := 0
	for _, d := range b.changes.differences {
		if d.Kind == compare.Orphan {
			next.intents = append(next.intents, rollout.Intent{Do: rollout.Prune, Revision: b.state.Applied, Part: d.Part()})
			next.fact(b, now, "removed", by, b.state.Applied, fmt.Sprintf("%s removes %s, which is not declared", by, d.Part()), d)
			removed++
		}
	}
	if removed == 0 {
		return fmt.Errorf("%s is not possible: nothing at %s is an orphan", Remove, b.id)
	}
	return nil
}
