package control

import (
	"context"
	"errors"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/engine"
	"aditus/internal/ledger"
	"aditus/internal/source"
	"aditus/internal/status"
	"aditus/internal/target"
)

// Record is a Control over a ledger that no engine works on: it tells everything as it was left, and does nothing.
type Record struct {
	Ledger   *ledger.Ledger
	snapshot status.Snapshot
}

var _ Control = Record{}

// OpenRecord reads what an engine left in a ledger.
func OpenRecord(book *ledger.Ledger) (Record, error) {
	s, err := Recorded(book)
	return Record{book, s}, err
}

// Recorded gives the last snapshot that an engine kept in a ledger.
func Recorded(book *ledger.Ledger) (status.Snapshot, error) {
	var s status.Snapshot
	_, err := book.Picture(engine.BoardPicture, &s)
	if errors.Is(err, fault.ErrNotFound) {
		err = errors.New("the ledger holds no picture of the berths yet: wait a second, or start Aditus on this folder")
	}
	return s, err
}

// Snapshot implements Control.
func (r Record) Snapshot() status.Snapshot { return r.snapshot }

// Changed implements Control: nothing ever does.
func (r Record) Changed() <-chan struct{} { return nil }

// Lost implements Control.
func (r Record) Lost() (time.Time, string) { return r.snapshot.Now, ErrNotRunning.Error() }

// Watch implements Control.
func (r Record) Watch(berth berth.ID, rollout int64) (Watch, error) {
	return NewWatch(r.Ledger, r.snapshot, berth, rollout)
}

// Compare implements Control.
func (r Record) Compare(ctx context.Context, id berth.ID, against Against) (Comparison, error) {
	return compareSeen(ctx, r.Ledger, r.snapshot, id, against, nil)
}

// Declared implements Control.
func (r Record) Declared(_ context.Context, id berth.ID) (*declare.Desired, error) {
	return declared(r.Ledger, r.snapshot, id)
}

// Bench implements Control.
func (r Record) Bench(berth berth.ID, guard string) (Bench, error) {
	return NewBench(r.Ledger, r.snapshot, berth, guard)
}

// Facts implements Control.
func (r Record) Facts(_ context.Context, q ledger.Query) ([]ledger.Fact, error) {
	return r.Ledger.Facts(q)
}

// Do implements Control.
func (r Record) Do(context.Context, berth.Order) error { return ErrNotRunning }

// LookNow implements Control.
func (r Record) LookNow(...string) {}

// Accept implements Control.
func (r Record) Accept(string) error { return ErrNotRunning }

// OfferRevert implements Control.
func (r Record) OfferRevert(context.Context, berth.ID, string) (source.Proposal, error) {
	return source.Proposal{}, ErrNotRunning
}

// OfferLimit implements Control.
func (r Record) OfferLimit(context.Context, Bench, float64, string) (source.Proposal, error) {
	return source.Proposal{}, ErrNotRunning
}

// Log implements Control.
func (r Record) Log(context.Context, berth.ID, string, time.Time, int) ([]target.LogLine, error) {
	return nil, ErrNotRunning
}

// Try implements Control.
func (r Record) Try(context.Context, string) (string, error) { return "", ErrNotRunning }

// SetEvery implements Control.
func (r Record) SetEvery(string, time.Duration) error { return ErrNotRunning }
