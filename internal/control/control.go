// Package control is what a face may ask of the engine. It is served in-process, and from the ledger alone where no engine
// runs.
package control

import (
	"context"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/core/policy"
	"aditus/internal/ledger"
	"aditus/internal/source"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/view"
)

// Control is all that a face may ask.
type Control interface {
	Reader
	Writer
}

// Reader tells what there is.
type Reader interface {
	Snapshot(ctx context.Context) status.Snapshot
	// Policy says who may do what.
	Policy(ctx context.Context) policy.Policy
	// Changed gives a channel of one's own, until ctx ends, that has something when a snapshot would be new.
	Changed(ctx context.Context) <-chan struct{}
	// Watch gives the picture of a rollout; 0 is the berth's newest.
	Watch(ctx context.Context, berth berth.ID, rollout int64) (view.Watch, error)
	// Compare compares a berth, field by field.
	Compare(ctx context.Context, berth berth.ID, against view.Against) (view.Comparison, error)
	// Declared gives what Git declares for a berth, as it was read last.
	Declared(ctx context.Context, berth berth.ID) (*declare.Desired, error)
	// Bench gives a guard's signal over the berth's history; the first guard where none is named.
	Bench(ctx context.Context, berth berth.ID, guard string) (view.Bench, error)
	// Log gives the newest lines that an instance wrote since a moment.
	Log(ctx context.Context, berth berth.ID, instance string, since time.Time, most int) ([]target.LogLine, error)
	// Tree gives what is at a berth's site of it, and what belongs to what; nothing where the site knows no more than its
	// instances.
	Tree(ctx context.Context, berth berth.ID) ([]status.Node, error)
	// Course foresees when a workload's declared revision comes to the sites of its course; with a ref, what that would declare.
	Course(ctx context.Context, workload, ref string) (status.Course, error)
	// Sites asks all sites what they stand on, and tells what runs there and how revisions come to each.
	Sites(ctx context.Context) ([]status.Site, error)
	// Strays tells what is at a site and nobody put there through Aditus.
	Strays(ctx context.Context, site string) ([]status.Stray, error)
	// Calendar tells what happens between two moments, as far as it is known.
	Calendar(ctx context.Context, from, until time.Time) (status.Calendar, error)
	// Review tells what a branch, tag or commit would change at every site.
	Review(ctx context.Context, ref string) (status.Review, error)
	// Sheet gives all that a site knows of one node of the tree.
	Sheet(ctx context.Context, berth berth.ID, node string) (status.Sheet, error)
	// Facts gives what is on record, oldest first.
	Facts(ctx context.Context, q ledger.Query) ([]ledger.Fact, error)
}

// Writer changes something, in the name of whoever asks. Over a connection the other side knows who that is, whatever
// it is told.
type Writer interface {
	Do(ctx context.Context, who policy.Actor, order berth.Order) error
	// OfferRevert offers the way back in Git of a barred revision, on a branch of its own.
	OfferRevert(ctx context.Context, who policy.Actor, berth berth.ID) (source.Proposal, error)
	// OfferLive offers to declare what was changed by hand at a berth's site: some fields, by JSON Pointer, or all of it.
	OfferLive(ctx context.Context, who policy.Actor, berth berth.ID, pointers []string) (source.Proposal, error)
	// OfferLimit offers another limit for a guard, on a branch of its own.
	OfferLimit(ctx context.Context, who policy.Actor, bench view.Bench, limit float64) (source.Proposal, error)
	// TakeOver offers a workload that is what some strays of a site are, as a declaration on a branch of its own.
	TakeOver(ctx context.Context, who policy.Actor, what status.TakeOver) (source.Proposal, error)
	// KeepReview puts a review on record.
	KeepReview(ctx context.Context, who policy.Actor, ref string) (status.Review, error)
	// LookNow has links read: all of them where none is named.
	LookNow(ctx context.Context, who policy.Actor, links ...string) error
	// Try asks a link whether it answers, and tells what it said.
	Try(ctx context.Context, who policy.Actor, link string) (string, error)
	// TestSink tells a sink of the settings that this is a test.
	TestSink(ctx context.Context, who policy.Actor, sink string) error
	// Accept takes a link's rewritten history.
	Accept(ctx context.Context, who policy.Actor, link string) error
	// SetEvery changes how often a link is polled.
	SetEvery(ctx context.Context, who policy.Actor, link string, every time.Duration) error
}

// ErrNotRunning means that what was asked for needs an Aditus that runs.
var ErrNotRunning = fault.New(fault.ErrUnavailable, "no Aditus runs")
