package control

import (
	"context"
	"errors"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/core/policy"
	"aditus/internal/ledger"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/view"
)

// Record is a Reader of a ledger that no engine here works on: it tells everything as it was left.
type Record struct {
	Ledger   *ledger.Ledger
	snapshot status.Snapshot
	missing  error // why what takes an engine is not to be had
}

var _ Reader = Record{}

// OpenRecord reads what an engine left in a ledger.
func OpenRecord(book *ledger.Ledger) (Record, error) {
	s, err := Recorded(book)
	s.Lost = &status.Lost{Since: s.Now, Why: ErrNotRunning.Error()}
	return Record{book, s, ErrNotRunning}, err
}

// Recorded gives the last snapshot that an engine kept in a ledger.
func Recorded(book *ledger.Ledger) (status.Snapshot, error) {
	var s status.Snapshot
	_, err := book.Picture(ledger.BoardPicture, &s)
	if errors.Is(err, fault.ErrNotFound) {
		err = errors.New("the ledger holds no picture of the berths yet: wait a second, or start Aditus on this folder")
	}
	return s, err
}

// Snapshot implements Reader.
func (r Record) Snapshot(context.Context) status.Snapshot { return r.snapshot }

// Policy implements Reader.
func (r Record) Policy(context.Context) policy.Policy {
	p := r.snapshot.Policy
	p.Sites = r.snapshot.Teams
	return p
}

// Changed implements Reader: nothing ever does.
func (r Record) Changed(context.Context) <-chan struct{} { return nil }

// Watch implements Reader.
func (r Record) Watch(_ context.Context, berth berth.ID, rollout int64) (view.Watch, error) {
	return view.NewWatch(r.Ledger, r.snapshot, berth, rollout)
}

// Compare implements Reader.
func (r Record) Compare(ctx context.Context, id berth.ID, against view.Against) (view.Comparison, error) {
	return view.Compare(ctx, r.Ledger, r.snapshot, id, against, nil)
}

// Declared implements Reader.
func (r Record) Declared(_ context.Context, id berth.ID) (*declare.Desired, error) {
	return view.Declared(r.Ledger, r.snapshot, id)
}

// Bench implements Reader.
func (r Record) Bench(_ context.Context, berth berth.ID, guard string) (view.Bench, error) {
	return view.NewBench(r.Ledger, r.snapshot, berth, guard)
}

// Log implements Reader: an instance is asked for it, which takes an engine.
func (r Record) Log(context.Context, berth.ID, string, time.Time, int) ([]target.LogLine, error) {
	return nil, r.missing
}

// Course implements Reader: rules are held by an engine.
func (r Record) Course(context.Context, string, string) (c status.Course, err error) {
	return c, r.missing
}

// Strays implements Reader: sites are asked by an engine.
func (r Record) Strays(context.Context, string) ([]status.Stray, error) { return nil, r.missing }

// Sites implements Reader: sites are asked by an engine.
func (r Record) Sites(context.Context) ([]status.Site, error) { return nil, r.missing }

// Calendar implements Reader: rules are held by an engine.
func (r Record) Calendar(context.Context, time.Time, time.Time) (c status.Calendar, err error) {
	return c, r.missing
}

// Review implements Reader: branches are read by an engine.
func (r Record) Review(context.Context, string) (told status.Review, err error) {
	return told, r.missing
}

// Tree implements Reader: a site is asked for it, which takes an engine.
func (r Record) Tree(context.Context, berth.ID) ([]status.Node, error) { return nil, r.missing }

// Sheet implements Reader.
func (r Record) Sheet(context.Context, berth.ID, string) (status.Sheet, error) {
	return status.Sheet{}, r.missing
}

// Facts implements Reader.
func (r Record) Facts(_ context.Context, q ledger.Query) ([]ledger.Fact, error) {
	return r.Ledger.Facts(q)
}
