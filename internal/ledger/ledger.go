// Package ledger keeps what happened: facts, the states to resume from, revisions and the history of signals, in one database.
// That is a file of the data folder (SQLite), or lies in PostgreSQL, where several servers share it and one of them leads. It is
// append-only for facts; it takes no decisions.
package ledger

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/fault"
	"aditus/internal/core/guard/panel"
	"aditus/internal/core/rollout"
)

// ReadersAtOnce is how many may read at the same time.
const ReadersAtOnce = 4

// ErrFull means that there is no room to write. Nothing of the entry was recorded.
var ErrFull = fault.New(fault.ErrUnavailable, "the disk is full")

// ErrNone means that there is nothing of the kind asked for.
var ErrNone = fault.New(fault.ErrNotFound, "nothing on record")

// Point is a guard's signal over one evaluation interval.
type Point = panel.Point

// Traffic is what a rollout's traffic and instances were at one moment.
type Traffic struct {
	At       time.Time
	Asked    float64 // share asked for
	Share    float64 // share the target has
	Requests [2]float64
	Old, New int // instances
}

// SteadyKept is for how long the signals of a revision that serves alone are kept.
const SteadyKept = 28 * 24 * time.Hour

// Entry is all that one step writes; it is recorded whole or not at all.
type Entry struct {
	Berth    berth.ID
	Facts    []Fact
	State    *berth.State
	Rollout  *rollout.State
	Points   []Point
	Steady   []Point // of a revision that serves alone, each over panel.SteadyEvery
	Traffic  *Traffic
	Revision *berth.Revision
}

// Ledger is an open ledger. It is safe for concurrent use.
type Ledger struct {
	store
	read     *sql.DB
	patience time.Duration // for how long a reading may take; 0 for as long as it takes
	rollout  atomic.Int64
	notify   func([]Fact)

	hearing sync.Mutex
	grown   chan struct{} // closed when there are more facts; guarded by hearing
}

// store is the database that a ledger lies in: all in which one differs from another.
type store interface {
	// place is where it is, for people.
	place() string
	// change changes something in one transaction, and returns once that is safely kept, whatever becomes of the machine. After
	// an error nothing was changed, or whoever changed it leads no more.
	change(ctx context.Context, do func(*sql.Tx) error) error
	// explain tells the errors that a person can mend in words of their own.
	explain(error) error
	// again tells whether a reading that failed with an error may be tried again at once.
	again(error) bool
	// lead waits until nobody else changes anything, and gives what ends once somebody else may.
	lead(ctx context.Context, me Server, told func(Lead) error) (context.Context, error)
	// leads tells why nothing may be done any more; nil while nobody else can have changed anything.
	leads(ctx context.Context) error
	close() error
}

func newLedger(s store, read *sql.DB, told func([]Fact)) *Ledger {
	return &Ledger{store: s, read: read, notify: told, grown: make(chan struct{})}
}

// begin learns what goes on from what is there.
func (l *Ledger) begin() error {
	var last int64
	if err := l.row([]any{&last}, "SELECT coalesce(max(id), 0) FROM rollouts"); err != nil {
		return err
	}
	l.rollout.Store(last)
	return nil
}

// Place is where the ledger is, for people.
func (l *Ledger) Place() string { return l.place() }

// Shared tells whether other servers may read what this one keeps.
func (l *Ledger) Shared() bool {
	_, is := l.store.(*shared)
	return is
}

// Close closes the ledger. Where it leads, it leads no more.
func (l *Ledger) Close() error { return errors.Join(l.read.Close(), l.close()) }

// NextRollout gives a number that no rollout has.
func (l *Ledger) NextRollout() int64 { return l.rollout.Add(1) }

// Record writes entries, all or none of them, and returns once they are safely kept.
func (l *Ledger) Record(ctx context.Context, entries ...Entry) error {
	err := l.change(ctx, func(tx *sql.Tx) error {
		for i := range entries {
			if err := l.writeEntry(tx, &entries[i]); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("record in the ledger %s: %w", l.place(), err)
	}
	for _, e := range entries {
		if len(e.Facts) == 0 {
			continue
		}
		if l.notify != nil {
			l.notify(e.Facts)
		}
		l.wake()
	}
	return nil
}

func (l *Ledger) writeEntry(tx *sql.Tx, e *Entry) error {
	put := func(query string, args ...any) error {
		_, err := tx.Exec(query, args...)
		return err
	}
	if r := e.Revision; r != nil {
		if err := put(`INSERT INTO revisions (seq, fingerprint, workload, version, commit_hash, subject, author, at, desired, signed)
			VALUES ((SELECT coalesce(max(seq), 0) + 1 FROM revisions),$1,$2,$3,$4,$5,$6,$7,$8,$9) ON CONFLICT DO NOTHING`,
			string(r.Fingerprint), r.Workload, plain(r.Version), plain(r.Commit), plain(r.Subject), plain(r.Author), r.At.UnixMilli(), string(r.Desired.Canonical()), plain(r.Signed)); err != nil {
			return err
		}
	}
	for i := range e.Facts {
		if err := writeFact(tx, &e.Facts[i]); err != nil {
			return err
		}
	}
	if e.State != nil {
		text, err := json.Marshal(e.State)
		if err != nil {
			return err
		}
		if err := put(`INSERT INTO berths (workload, site, state) VALUES ($1,$2,$3) ON CONFLICT (workload, site) DO UPDATE SET state = excluded.state`, e.Berth.Workload, e.Berth.Site, string(text)); err != nil {
			return err
		}
	}
	if e.Rollout != nil {
		text, err := json.Marshal(e.Rollout)
		if err != nil {
			return err
		}
		if err := put(`INSERT INTO rollouts (id, workload, site, state) VALUES ($1,$2,$3,$4) ON CONFLICT (id) DO UPDATE SET state = excluded.state`,
			e.Rollout.ID, e.Berth.Workload, e.Berth.Site, string(text)); err != nil {
			return err
		}
	}
	if err := e.writePoints(tx); err != nil {
		return err
	}
	if k := e.Traffic; k != nil && e.Rollout != nil {
		return put(`INSERT INTO looks VALUES ($1,$2,$3,$4,$5,$6,$7,$8) ON CONFLICT DO NOTHING`,
			e.Rollout.ID, k.At.UnixMilli(), k.Asked, k.Share, k.Requests[0], k.Requests[1], k.Old, k.New)
	}
	return nil
}

// writeFact writes a fact under the number after the last one, chained to it, and a mark where one is due.
func writeFact(tx *sql.Tx, f *Fact) error {
	var last link
	err := tx.QueryRow(`SELECT seq, chain FROM facts ORDER BY seq DESC LIMIT 1`).Scan(&last.Seq, &last.Chain)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	f.Seq = last.Seq + 1
	own := linkOf(*f, last.Chain)
	if _, err := tx.Exec(`INSERT INTO facts (seq, at, workload, site, rollout, kind, actor, revision, text, data, chain) VALUES ($1,$2,$3,$4,$5,$6,$7,$8,$9,$10,$11)`,
		own.Seq, own.At, own.Workload, own.Site, own.Rollout, own.Kind, own.By, own.Revision, own.Text, nullable(f.Data), own.Chain); err != nil || f.Seq%markEvery != 0 {
		return err
	}
	_, err = tx.Exec(`INSERT INTO marks SELECT CAST($1 AS BIGINT), max(at) FROM (SELECT at FROM marks UNION ALL SELECT max(at) FROM facts WHERE seq > $2) AS latest`, f.Seq, f.Seq-markEvery)
	return err
}

// plain leaves out of a text what not every database takes: what is no UTF-8, and the character of number 0.
func plain(text string) string {
	return strings.ToValidUTF8(strings.ReplaceAll(text, "\x00", "\uFFFD"), "\uFFFD")
}

// writePoints writes the entry's signals.
func (e *Entry) writePoints(tx *sql.Tx) error {
	values := func(p Point, also ...any) []any {
		return append([]any{e.Berth.Workload, e.Berth.Site, p.Guard, string(p.Revision), p.At.UnixMilli(), p.Value, p.Part, p.Whole}, also...)
	}
	var points, steady [][]any
	newest := map[string]time.Time{}
	for _, p := range e.Points {
		points = append(points, values(p, p.Stage))
	}
	for _, p := range e.Steady {
		steady = append(steady, values(p))
		if p.At.After(newest[p.Guard]) {
			newest[p.Guard] = p.At
		}
	}
	if err := errors.Join(insert(tx, "points", points), insert(tx, "steady", steady)); err != nil {
		return err
	}
	for guard, at := range newest {
		if _, err := tx.Exec(`DELETE FROM steady WHERE workload = $1 AND site = $2 AND guard = $3 AND at < $4`, e.Berth.Workload, e.Berth.Site, guard, at.Add(-SteadyKept).UnixMilli()); err != nil {
			return err
		}
	}
	return nil
}

// insertMost is how many rows one statement inserts at most.
const insertMost = 128

// insert inserts rows that are not there yet, of which there may be thousands, with few statements, of few texts.
func insert(tx *sql.Tx, table string, rows [][]any) error {
	for size := insertMost; size > 0; size /= 2 {
		for ; len(rows) >= size; rows = rows[size:] {
			var tuples []string
			var args []any
			for _, row := range rows[:size] {
				var names []string
				for _, value := range row {
					args = append(args, value)
					names = append(names, fmt.Sprintf("$%d", len(args)))
				}
				tuples = append(tuples, "("+strings.Join(names, ",")+")")
			}
			if _, err := tx.Exec("INSERT INTO "+table+" VALUES "+strings.Join(tuples, ",")+" ON CONFLICT DO NOTHING", args...); err != nil {
				return err
			}
		}
	}
	return nil
}

func nullable(data json.RawMessage) any {
	if len(data) == 0 {
		return nil
	}
	return string(data)
}

// BoardPicture is the name of the last snapshot, for faces without a running engine.
const BoardPicture = "board"

// FilePicture begins the names of files that the servers of a ledger have alike.
const FilePicture = "file "

// KeepPicture keeps a named JSON value: what faces read that are not connected to a running engine.
func (l *Ledger) KeepPicture(ctx context.Context, name string, at time.Time, value any) error {
	text, err := json.Marshal(value)
	if err != nil {
		return err
	}
	err = l.change(ctx, func(tx *sql.Tx) error {
		_, err := tx.Exec(`INSERT INTO pictures VALUES ($1,$2,$3) ON CONFLICT (name) DO UPDATE SET at = excluded.at, json = excluded.json`, name, at.UnixMilli(), string(text))
		return err
	})
	if err != nil {
		return fmt.Errorf("keep %s in the ledger %s: %w", name, l.place(), err)
	}
	return nil
}
