package berth

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/robfig/cron/v3"

	"aditus/internal/core/compare"
	"aditus/internal/core/rollout"
)

// defaultNotice is how long a correction is announced where the settings do not say.
const defaultNotice = 10 * time.Minute

// Contest is what somebody else changes again and again after it was put back.
type Contest struct {
	Places string    `json:"places"` // JSON Pointers, whatever values they had
	Rounds int       `json:"rounds"`
	Last   time.Time `json:"last"`
}

// What was put back by itself mostRounds times, each changed again within contestFor of being put back, is left: whoever
// changes it does not stop, and neither would we.
const (
	mostRounds = 3
	contestFor = 30 * time.Minute
)

// contest is how often what is drifted now was put back lately; nil for not.
func (d *decision) contest() *Contest {
	if c := d.State.Contested; c != nil && c.Places == d.driftPlaces() && d.now.Sub(c.Last) < contestFor+d.notice() {
		return c
	}
	return nil
}

// Fights tells what somebody else sets again and again, so that it was left after some rounds; empty for nothing.
func (s State) Fights() string {
	if c := s.Contested; c != nil && c.Rounds >= mostRounds && s.DriftLeft != "" && !s.DriftSince.IsZero() {
		return fmt.Sprintf("it was put back %d times, and somebody sets it again each time", c.Rounds)
	}
	return ""
}

// driftPlaces are where it drifted, whatever the values.
func (d *decision) driftPlaces() string {
	var places []string
	for _, difference := range d.State.Change.Differences {
		if difference.Kind == compare.Drift {
			places = append(places, difference.Pointer)
		}
	}
	return strings.Join(places, " ")
}

// notice is how long a correction is announced.
func (d *decision) notice() time.Duration { return cmp.Or(d.world.Drift.Notice, defaultNotice) }

// noteDrift records once that someone changed the site by hand, and once that it is as applied again. Where the site's
// settings have a schedule it is only looked for then.
func (d *decision) noteDrift() {
	asked := false
	d.each(LookForDrift, func(*order) error {
		if !d.seen.Reached {
			return fmt.Errorf("%s is not possible: there is no fresh look at %s: %s", LookForDrift, d.id, d.seen.Stale)
		}
		asked, d.State.DriftLooked, d.Durable = true, d.now, true
		return nil
	})
	if !d.seen.Reached || d.resizes() {
		return
	}
	drifted := (d.State.Change.SyncStatus == compare.Drifted || d.State.Change.SyncStatus == compare.Diverged || d.lost()) && d.State.Left == nil // what was left halfway is no one's drift
	switch {
	case drifted && (asked || d.driftDue()):
		d.foundDrift()
	case !drifted && !d.State.DriftSince.IsZero():
		d.State.DriftSince, d.State.Corrects, d.State.DriftLeft, d.State.Announced = time.Time{}, time.Time{}, "", ""
		d.fact(AsApplied, rollout.Automatic, d.State.Applied, "the site is as applied again", nil)
	}
}

// driftDue tells whether drift is looked for now.
func (d *decision) driftDue() bool {
	look := d.world.Drift.Look
	if look == "" {
		return true
	}
	if last := d.State.DriftLooked; !last.IsZero() {
		schedule, err := cron.ParseStandard(look)
		if err != nil || d.now.Before(schedule.Next(last)) {
			return false
		}
	}
	d.State.DriftLooked = d.now
	return true
}

// foundDrift tells of drift once, and announces its correction where the site wants it. Where Git moved on as well a
// person decides.
func (d *decision) foundDrift() {
	if d.State.DriftSince.IsZero() {
		d.State.DriftSince = d.now
		d.fact(Drifted, "someone at the site", d.State.Applied, "changed by hand: "+driftText(d.State.Change.Differences), d.State.Change.Differences)
	}
	if d.world.Drift.Correct && d.State.Change.SyncStatus == compare.Drifted && d.State.Lock == nil && d.State.Corrects.IsZero() && d.State.DriftLeft != d.driftName() {
		d.announce()
	}
}

// announce tells that what was changed by hand is put back, and when.
func (d *decision) announce() {
	if c := d.contest(); c != nil && c.Rounds >= mostRounds {
		told := d.State.DriftLeft != ""
		if d.State.DriftLeft, d.Durable = d.driftName(), true; told {
			return // only the value is another one
		}
		d.fact(Fight, rollout.Automatic, d.State.Applied, fmt.Sprintf("%s, so it is left now: take it out there, or leave it to whoever sets it with leave: [%s]; %s", d.State.Fights(), strings.ReplaceAll(d.driftPlaces(), " ", ", "), driftText(d.State.Change.Differences)), nil)
		return
	}
	d.State.Corrects, d.State.Announced = d.now.Add(d.notice()), d.driftName()
	d.fact(Announced, rollout.Automatic, d.State.Applied, fmt.Sprintf("it is put back at %s unless a person says to leave it: %s", d.State.Corrects.Format(time.TimeOnly), driftText(d.State.Change.Differences)), nil)
}

// driftName tells one drift from another.
func (d *decision) driftName() string {
	var changed []compare.Difference
	for _, d := range d.State.Change.Differences {
		if d.Kind == compare.Drift {
			changed = append(changed, d)
		}
	}
	text, _ := json.Marshal(changed) // differences are plain values
	return string(text)
}

// drift tells of changes made by hand and puts back what was announced, and does what a person asked about them and
// about orphans. It also has the target take over marks that it does not know yet.
func (d *decision) drift() {
	d.noteDrift()
	if d.seen.Unmarked {
		d.Intents = append(d.Intents, remark(d.State.MarkedFrom, d.State.Applied)...)
	}
	d.each(RemoveOrphans, func(o *order) error { return d.prune(o.By) })
	d.each(LeaveIt, func(o *order) error {
		if d.State.Corrects.IsZero() {
			return fmt.Errorf("%s is not possible: nothing is about to be put back at %s", o.Verb, d.id)
		}
		d.State.Corrects, d.State.DriftLeft = time.Time{}, d.driftName()
		d.fact(DriftLeft, o.By, d.State.Applied, fmt.Sprintf("%s leaves what was changed by hand as it is: %s", o.By, driftText(d.State.Change.Differences)), nil)
		return nil
	})
	d.correct()
}

// correct puts back what was announced, once its notice is over. Something else that was changed meanwhile is announced
// anew, and nothing is put back where Git moved on as well.
func (d *decision) correct() {
	due := d.State.Corrects
	switch {
	case due.IsZero() || d.State.Change.SyncStatus == compare.Unread:
	case d.State.Change.SyncStatus != compare.Drifted || d.State.Lock != nil: // a locked berth stays as it is
		d.State.Corrects, d.Durable = time.Time{}, true
	case d.State.Announced != d.driftName():
		d.announce()
	case !d.now.Before(due) && d.opens().After(d.now):
		d.State.Corrects, d.Durable = d.opens(), true // nothing moves by itself until then
	case !d.now.Before(due):
		d.State.Corrects = time.Time{}
		next := Contest{Places: d.driftPlaces(), Rounds: 1, Last: d.now}
		if c := d.contest(); c != nil {
			next.Rounds += c.Rounds
		}
		d.State.Contested = &next
		d.putBack(rollout.Automatic)
	}
}

// prune takes away what is live and ours and no longer declared.
func (d *decision) prune(by string) error {
	if !d.seen.Reached { // what was there when it was seen last need not be there now, nor be all
		return fmt.Errorf("%s is not possible: there is no fresh look at %s: %s", RemoveOrphans, d.id, d.seen.Stale)
	}
	var wanted []rollout.Intent
	removed, kept := 0, ""
	for _, found := range slices.Backward(compare.ByWave(d.State.Change.Differences)) {
		if found.Kind != compare.Orphan {
			continue
		}
		intent, name := rollout.Intent{Do: rollout.RemovePart, Revision: d.State.Applied, Part: found.Part()}, found.Part()
		if id, _ := found.Object(); id != "" {
			intent.Do, intent.Object, name = rollout.RemoveObject, id, id
			if live, _ := found.Live.(map[string]any); live["keep"] == true {
				kept = "; " + id + " stays, as it is marked to be kept, was there before, or would take what it holds with it"
				continue
			}
		}
		wanted = append(wanted, intent)
		d.fact(OrphanGone, by, d.State.Applied, fmt.Sprintf("%s removes %s, which is not declared", by, name), found)
		removed++
	}
	d.Intents = append(d.Intents, wanted...)
	if removed == 0 {
		return fmt.Errorf("%s is not possible: nothing at %s is an orphan that may go%s", RemoveOrphans, d.id, kept)
	}
	return nil
}
