package rollout

import (
	"fmt"
	"time"

	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/say"
)

// Question is what is to be known before a declared revision may come to a berth by itself.
type Question struct {
	SyncStatus   compare.SyncStatus
	Declared     declare.Fingerprint
	Applied      declare.Fingerprint
	ByHand       bool // a person asked; a site's course is not waited for
	Scheduled    bool // a schedule asked: also where a site takes revisions by hand
	Reason       bool // and said why, so that a cool-down is not waited for either: what was rolled back is barred
	Fresh        bool
	Stale        string
	Barred       bool
	BarredWhy    string
	After        string // the site whose proof is waited for, "" for none
	AfterProven  bool   // that site has proven the declared revision
	LastRollback time.Time
	CoolDown     time.Duration
	Automatic    bool   // the site takes revisions by itself
	InPart       bool   // a person took some of its parts; the rest waits for a person too
	Needs        string // why a workload that it needs is not ready for it; empty where all are
	Overwrite    bool   // a person said that what was changed by hand may be overwritten
	Locked       string // who locked the berth, and why; empty where nobody did
	CannotSwitch bool   // it comes in blue-green, and the target can only share traffic by instances
	Cannot       string // why the site cannot run it at all; empty where it can
	Course       string // why the line's rules keep it away, also from who asks for it by hand; empty where they do not, or there are none
	Gone         string // why all of it was torn down; empty where it was not
	Ended        string // why nothing comes any more at all; empty where something may
	Left         string // why this revision was left as it is, halfway; empty where it was not
}

// MayStart tells whether a rollout may start now, and in a few words why not where it may not.
func MayStart(q Question, now time.Time) (bool, string) {
	switch {
	case q.Declared == "" || q.Declared == q.Applied:
		return false, ""
	case q.Locked != "":
		return false, "locked by " + q.Locked
	case !q.Fresh:
		return false, "waits for a fresh look: " + q.Stale
	case q.Ended != "":
		return false, q.Ended
	case q.Barred:
		return false, "barred here: " + q.BarredWhy
	case q.Cannot != "":
		return false, q.Cannot
	case q.CannotSwitch:
		return false, "the site cannot switch traffic at once, which blue-green needs: declare another style for it"
	case q.Overwrite:
	case q.SyncStatus == compare.Drifted || q.SyncStatus == compare.Diverged || (q.SyncStatus == compare.Absent && q.Applied != ""):
		return false, "changed by hand at the site; nothing is overwritten until a person says so"
	}
	if left := q.CoolDown - now.Sub(q.LastRollback); !q.LastRollback.IsZero() && left > 0 && !(q.ByHand && q.Reason) {
		text := fmt.Sprintf("cools down for %s after the last rollback", say.Span(left))
		if q.ByHand {
			text += "; what is newer than what was rolled back may come before that, with a reason"
		}
		return false, text
	}
	switch {
	case q.Needs != "":
		return false, q.Needs
	case q.Course != "":
		return false, q.Course
	case q.ByHand:
		return true, ""
	case q.Left != "":
		return false, q.Left + "; it goes on when a person syncs, or with a newer commit"
	case q.InPart:
		return false, "some of its parts were taken by hand; the rest waits for a person or a newer commit"
	case q.Gone != "" && !q.Scheduled:
		return false, q.Gone + "; it comes again when a person syncs"
	case !q.Automatic && !q.Scheduled:
		return false, "this site takes revisions by hand"
	case q.After != "" && !q.AfterProven:
		return false, fmt.Sprintf("waits until %s has proven it", q.After)
	}
	return true, ""
}

// Least is how long a rollout takes at least, until its revision is proven.
func Least(rules declare.Rollout) time.Duration {
	least := rules.Proving.Duration
	for _, stage := range rules.Stages {
		least += stage.Soak.Duration
	}
	return least
}
