// Package control is what a face may ask of the engine, and the words in which every face says the same things: what
// needs a person, how a berth stands, what can be done now. It is served in-process, and from the ledger alone where
// no engine runs.
package control

import (
	"context"
	"errors"

	"aditus/internal/engine"
	"aditus/internal/ledger"
)

// Control is all that a face may ask.
type Control interface {
	Snapshot() engine.Snapshot
	Changed() <-chan struct{} // has something when a snapshot would be new
	Do(ctx context.Context, order engine.Order) error
	LookNow()
	Accept(link string) error
	// Watch gives the picture of a rollout; 0 is the berth's newest.
	Watch(berth ledger.Berth, rollout int64) (Watch, error)
}

// Live is a Control over an engine in the same process.
type Live struct {
	*engine.Engine
	Ledger *ledger.Ledger
}

var _ Control = Live{}

// Watch implements Control.
func (l Live) Watch(berth ledger.Berth, rollout int64) (Watch, error) {
	return NewWatch(l.Ledger, l.Snapshot(), berth, rollout)
}

// Recorded gives the last snapshot that an engine kept in a ledger.
func Recorded(book *ledger.Ledger) (engine.Snapshot, error) {
	var s engine.Snapshot
	_, err := book.Picture(engine.BoardPicture, &s)
	if errors.Is(err, ledger.ErrNone) {
		err = errors.New("the ledger holds no picture of the berths yet: wait a second, or start Aditus on this folder")
	}
	return s, err
}
