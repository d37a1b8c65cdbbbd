// Package control is what a face may ask of the engine, and the words in which every face says the same things: what
// needs a person, how a berth stands, what can be done now. It is served in-process, and from the ledger alone where
// no engine runs.
package control

import (
	"context"
	"fmt"
	"time"

	"aditus/internal/config"
	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/core/say"
	"aditus/internal/engine"
	"aditus/internal/ledger"
	"aditus/internal/source"
	"aditus/internal/status"
	"aditus/internal/target"
)

// Control is all that a face may ask.
type Control interface {
	Snapshot() status.Snapshot
	Changed() <-chan struct{} // has something when a snapshot would be new
	Do(ctx context.Context, order berth.Order) error
	LookNow(links ...string) // at all of them where none is named
	Accept(link string) error
	// Watch gives the picture of a rollout; 0 is the berth's newest.
	Watch(berth berth.ID, rollout int64) (Watch, error)
	// Compare compares a berth, field by field.
	Compare(ctx context.Context, berth berth.ID, against Against) (Comparison, error)
	// Declared gives what Git declares for a berth, as it was read last.
	Declared(ctx context.Context, berth berth.ID) (*declare.Desired, error)
	// OfferRevert offers the way back in Git of a barred revision, on a branch of its own.
	OfferRevert(ctx context.Context, berth berth.ID, by string) (source.Proposal, error)
	// Bench gives a guard's signal over the berth's history; the first guard where none is named.
	Bench(berth berth.ID, guard string) (Bench, error)
	// OfferLimit offers another limit for a guard, on a branch of its own.
	OfferLimit(ctx context.Context, bench Bench, limit float64, by string) (source.Proposal, error)
	// Log gives the newest lines that an instance wrote since a moment.
	Log(ctx context.Context, berth berth.ID, instance string, since time.Time, most int) ([]target.LogLine, error)
	// Try asks a link whether it answers, and tells what it said.
	Try(ctx context.Context, link string) (string, error)
	// SetEvery changes how often a link is polled.
	SetEvery(link string, every time.Duration) error
	// Facts gives what is on record, oldest first.
	Facts(ctx context.Context, q ledger.Query) ([]ledger.Fact, error)
	// Lost tells since when the engine has not been heard of, and why; the zero time while it is. What is known is as old
	// as that then.
	Lost() (since time.Time, why string)
}

// ErrNotRunning means that what was asked for needs an Aditus that runs.
var ErrNotRunning = fault.New(fault.ErrUnavailable, "no Aditus runs")

// Live is a Control over an engine in the same process.
type Live struct {
	*engine.Engine
	Ledger *ledger.Ledger
	Folder string // the data folder, with the settings
}

var _ Control = Live{}

// Facts implements Control.
func (l Live) Facts(_ context.Context, q ledger.Query) ([]ledger.Fact, error) {
	return l.Ledger.Facts(q)
}

// Lost implements Control: an engine in the same process is never lost.
func (l Live) Lost() (time.Time, string) { return time.Time{}, "" }

// Watch implements Control.
func (l Live) Watch(berth berth.ID, rollout int64) (Watch, error) {
	return NewWatch(l.Ledger, l.Snapshot(), berth, rollout)
}

// Compare implements Control.
func (l Live) Compare(ctx context.Context, id berth.ID, against Against) (Comparison, error) {
	return compareSeen(ctx, l.Ledger, l.Snapshot(), id, against, l.Preview)
}

// Declared implements Control.
func (l Live) Declared(_ context.Context, id berth.ID) (*declare.Desired, error) {
	return declared(l.Ledger, l.Snapshot(), id)
}

// Bench implements Control.
func (l Live) Bench(berth berth.ID, guard string) (Bench, error) {
	return NewBench(l.Ledger, l.Snapshot(), berth, guard)
}

// OfferLimit implements Control.
func (l Live) OfferLimit(ctx context.Context, b Bench, limit float64, by string) (source.Proposal, error) {
	kind, text := b.Declared(limit)
	return l.Engine.OfferLimit(ctx, b.Berth, b.Rule.Name, kind, text, b.Try(limit).Summary(b), by)
}

// Try implements Control.
func (l Live) Try(ctx context.Context, link string) (string, error) {
	trial, err := l.Engine.Try(ctx, link)
	if err != nil {
		return "", fmt.Errorf("%w (asked for %s)", err, say.Took(trial.Took))
	}
	news := "as it was taken"
	if trial.Fresh {
		news = "which is new, and taken at the next look"
	}
	return fmt.Sprintf("The link %s answers in %s: %s is at %.7s, %s.", link, say.Took(trial.Took), trial.Ref, trial.Commit.Hash, news), nil
}

// SetEvery implements Control.
func (l Live) SetEvery(link string, every time.Duration) error {
	return config.SetEvery(l.Folder, link, every)
}
