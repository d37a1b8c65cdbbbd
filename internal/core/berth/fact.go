package berth

import (
	"aditus/internal/core/declare"
	"aditus/internal/core/rollout"
)

// Kind is what sort of thing a fact tells.
type Kind = rollout.FactKind

// Kinds of fact of a berth, beside those of its rollouts, with what their data is.
const (
	Asked              Kind = "asked"      // a person's or program's order; Origin
	Alerted            Kind = "alert"      // something elsewhere says that an alert fires, or does not any more; alert.Known
	AsApplied          Kind = "as applied" // the site is as applied again
	Announced          Kind = "announced"  // drift will be put back
	Barred             Kind = rollout.FactBarred
	BarLifted          Kind = "bar lifted"
	Breached           Kind = rollout.FactTold // a standing guard breaches; guard.Verdict
	Called             Kind = rollout.FactCalls
	Declared           Kind = "declared" // Git declares a revision that was not known
	DriftLeft          Kind = "left"     // a person lets drift stand
	Drifted            Kind = "drifted"  // []compare.Difference
	Fight              Kind = "fight"    // what was put back is changed again and again: it is left
	Locked             Kind = "locked"
	Marked             Kind = "marked"   // taken without touching what runs; []compare.Difference
	Offered            Kind = "offered"  // a commit on a branch
	OrphanGone         Kind = "removed"  // compare.Difference
	PutBack            Kind = "put back" // []compare.Difference
	Restarted          Kind = "restarted"
	Rollback           Kind = rollout.FactRollback // []guard.Verdict
	GoesOnAfterRestart Kind = "goes on after a restart"
	Taken              Kind = "taken" // a rollout begins
	Unlocked           Kind = "unlocked"
	OfferMade          Kind = "offer"               // what is declared is offered to the site's team
	OfferAnswered      Kind = "offer answered"      // Offer
	OfferAnnounced     Kind = "offer announced"     // it is taken without an answer soon
	Skipped            Kind = "skipped"             // what a schedule had to do and was missed
	CaughtUp           Kind = "caught up"           // it is done after all
	NotDone            Kind = "not done"            // what a schedule had to do was not possible
	Needed             Kind = "needs"               // something came to need a person
	SeenTo             Kind = "seen to"             // and does not any more
	Undelivered        Kind = "not delivered"       // what a sink was to be told
	Refused            Kind = "refused"             // what somebody asked for who may not; Origin
	Resized            Kind = "resized"             // a number of instances was set
	RestartBegins      Kind = "restart"             // of all instances
	RestartEnds        Kind = "run anew"            // they do
	PreviewKept        Kind = "preview"             // Previewed
	EndAnnounced       Kind = "end announced"       // of its life
	LifeExtended       Kind = "extended"            // its life
	TearsDown          Kind = "tears down"          // all of it is taken away
	WasTornDown        Kind = "torn down"           // nothing of it is there any more
	LetsGo             Kind = "lets go"             // the marks come off
	WasLetGo           Kind = "let go"              // it runs on, and is nobody's
	FoundThere         Kind = "found"               // what serves and is not on record; Found
	Vouched            Kind = "vouched"             // what was found counts as proven
	SignedOff          Kind = rollout.FactSignedOff // a go-ahead for a step of the course
)

// Fact is one thing that happened, and why. Its data is of the type that its kind names, or nil.
type Fact struct {
	Kind     Kind
	By       string
	Revision declare.Fingerprint
	Rollout  int64 // under way meanwhile; 0 for none
	Text     string
	Data     any
}

// Origin is the data of a fact of the kind Asked.
type Origin struct {
	From string `json:"from"` // where an order was given
}
