package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
)

// Cursor is how far somebody has read the facts.
type Cursor struct {
	Name  string // under which it is kept on disk; empty for a cursor that is not
	After int64  // the number of the last fact that was read, where nothing is on disk yet
}

// followPage is how many facts are given at once at most.
const followPage = 500

// Follow gives take the facts after a cursor, oldest first, in pages, and then those that come, until ctx ends or take
// gives an error. A cursor with a name is kept once take is through with a page: whoever follows it again, after a
// restart too, is given each fact at least once, and none twice but those of a page that was not finished.
func (l *Ledger) Follow(ctx context.Context, c Cursor, take func([]Fact) error) error {
	after, err := l.cursor(c)
	if err != nil {
		return err
	}
	for {
		l.hearing.Lock()
		grown := l.grown
		l.hearing.Unlock()
		facts, err := l.Facts(Query{After: after, Most: followPage})
		if err != nil {
			return err
		}
		if len(facts) == 0 {
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-grown:
			}
			continue
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := take(facts); err != nil {
			return err
		}
		after = facts[len(facts)-1].Seq
		if err := l.keepCursor(ctx, c.Name, after); err != nil {
			return err
		}
	}
}

// Where is how far a cursor is. One with a name that nobody kept yet is kept at its After, so that nothing of what comes is missed.
func (l *Ledger) Where(ctx context.Context, c Cursor) (after int64, err error) {
	if after, err = l.cursor(c); err == nil && after == c.After {
		err = l.keepCursor(ctx, c.Name, after)
	}
	return after, err
}

// Keep keeps how far a cursor is.
func (l *Ledger) Keep(ctx context.Context, c Cursor) error { return l.keepCursor(ctx, c.Name, c.After) }

// Grown gives a channel that is closed once there are more facts.
func (l *Ledger) Grown() <-chan struct{} {
	l.hearing.Lock()
	defer l.hearing.Unlock()
	return l.grown
}

// Last is the number of the last fact on record; 0 for none.
func (l *Ledger) Last() (int64, error) {
	facts, err := l.Facts(Query{Newest: 1})
	if err != nil || len(facts) == 0 {
		return 0, err
	}
	return facts[0].Seq, nil
}

// cursor is how far a cursor is.
func (l *Ledger) cursor(c Cursor) (after int64, err error) {
	if c.Name == "" {
		return c.After, nil
	}
	err = l.row([]any{&after}, `SELECT seq FROM cursors WHERE name = $1`, c.Name)
	if errors.Is(err, sql.ErrNoRows) {
		return c.After, nil
	}
	if err != nil {
		return 0, fmt.Errorf("read how far %s has read the ledger: %w", c.Name, err)
	}
	return after, nil
}

func (l *Ledger) keepCursor(ctx context.Context, name string, seq int64) error {
	if name == "" {
		return nil
	}
	err := l.change(context.WithoutCancel(ctx), func(tx *sql.Tx) error {
		_, err := tx.Exec(`INSERT INTO cursors VALUES ($1,$2) ON CONFLICT (name) DO UPDATE SET seq = excluded.seq`, name, seq)
		return err
	})
	if err != nil {
		return fmt.Errorf("keep how far %s has read the ledger %s: %w", name, l.place(), err)
	}
	return nil
}

// wake tells all who follow that there are more facts.
func (l *Ledger) wake() {
	l.hearing.Lock()
	defer l.hearing.Unlock()
	close(l.grown)
	l.grown = make(chan struct{})
}
