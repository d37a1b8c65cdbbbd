// Package ledger keeps what happened, on disk: facts, the states to resume from, revisions and the history of signals,
// in one SQLite database. It is append-only for facts; it takes no decisions.
package ledger

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	gopsdisk "github.com/shirou/gopsutil/v4/disk"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"aditus/internal/core/berth"
	"aditus/internal/core/fault"
	"aditus/internal/core/guard/panel"
	"aditus/internal/core/rollout"
)

// ReadersAtOnce is how many may read at the same time.
const ReadersAtOnce = 4

// FileName is the database within a data folder.
const FileName = "ledger.db"

// version is the schema's version, kept in the database's user_version.
const version = 4

// vfs is the database's way to its files; empty for its own.
var vfs string

// ErrFull means that there is no room to write. Nothing of the entry was recorded.
var ErrFull = fault.New(fault.ErrUnavailable, "the disk is full")

// ErrNone means that there is nothing of the kind asked for.
var ErrNone = fault.New(fault.ErrNotFound, "nothing on record")

var schema = `
CREATE TABLE facts (
  seq INTEGER PRIMARY KEY, at INTEGER NOT NULL, workload TEXT NOT NULL, site TEXT NOT NULL, rollout INTEGER NOT NULL,
  kind TEXT NOT NULL, actor TEXT NOT NULL, revision TEXT NOT NULL, text TEXT NOT NULL, data TEXT
) STRICT;
` + factIndexes + `
CREATE TABLE berths (workload TEXT NOT NULL, site TEXT NOT NULL, state TEXT NOT NULL, PRIMARY KEY (workload, site)) STRICT;
CREATE TABLE rollouts (id INTEGER PRIMARY KEY, workload TEXT NOT NULL, site TEXT NOT NULL, state TEXT NOT NULL) STRICT;
CREATE INDEX rollouts_berth ON rollouts (workload, site, id);
CREATE TABLE revisions (
  fingerprint TEXT NOT NULL, workload TEXT NOT NULL, seq INTEGER PRIMARY KEY, version TEXT NOT NULL, commit_hash TEXT NOT NULL,
  subject TEXT NOT NULL, author TEXT NOT NULL, at INTEGER NOT NULL, desired TEXT NOT NULL, UNIQUE (workload, fingerprint)
) STRICT;
` + pointsSchema + steadySchema + cursorSchema + `
CREATE TABLE looks (
  rollout INTEGER NOT NULL, at INTEGER NOT NULL, asked REAL NOT NULL, share REAL NOT NULL, requests_old REAL NOT NULL, requests_new REAL NOT NULL,
  old INTEGER NOT NULL, new INTEGER NOT NULL, PRIMARY KEY (rollout, at)
) STRICT, WITHOUT ROWID;
` + looksIndex + `
CREATE TABLE pictures (name TEXT PRIMARY KEY, at INTEGER NOT NULL, json TEXT NOT NULL) STRICT;
`

// Facts are found by berth and by rollout, in order. Every markEvery there is a mark, with the latest moment so far: facts since a moment come
// after the last mark before it, also where a clock went back.
const factIndexes = `CREATE INDEX facts_of ON facts (workload, site, seq);
CREATE INDEX facts_rollout ON facts (rollout, seq);
CREATE TABLE marks (seq INTEGER PRIMARY KEY, at INTEGER NOT NULL) STRICT;
CREATE INDEX marks_at ON marks (at, seq);`

const markEvery = 256

// markAll makes the marks of facts that have none.
const markAll = `INSERT INTO marks SELECT seq, latest FROM (SELECT seq, max(at) OVER (ORDER BY seq) AS latest FROM facts) WHERE seq % 256 = 0;`

// Points lie by berth and time, as they are asked for.
const pointsSchema = `CREATE TABLE points (
  workload TEXT NOT NULL, site TEXT NOT NULL, guard TEXT NOT NULL, revision TEXT NOT NULL, at INTEGER NOT NULL,
  value REAL NOT NULL, part REAL NOT NULL, whole REAL NOT NULL, stage INTEGER NOT NULL DEFAULT -1, PRIMARY KEY (workload, site, at, guard, revision)
) STRICT, WITHOUT ROWID;`

const looksIndex = `CREATE INDEX looks_at ON looks (at);`

const steadySchema = `CREATE TABLE steady (
  workload TEXT NOT NULL, site TEXT NOT NULL, guard TEXT NOT NULL, revision TEXT NOT NULL, at INTEGER NOT NULL,
  value REAL NOT NULL, part REAL NOT NULL, whole REAL NOT NULL, PRIMARY KEY (workload, site, guard, at, revision)
) STRICT, WITHOUT ROWID;`

const cursorSchema = `CREATE TABLE cursors (name TEXT PRIMARY KEY, seq INTEGER NOT NULL) STRICT;`

// upgrades bring a ledger from each version to the next, from the first.
var upgrades = []string{
	"ALTER TABLE points ADD COLUMN stage INTEGER NOT NULL DEFAULT -1;" + steadySchema,
	cursorSchema,
	"DROP INDEX facts_berth;" + factIndexes + markAll + looksIndex + "ALTER TABLE points RENAME TO points_before;" + pointsSchema +
		"INSERT INTO points (workload, site, guard, revision, at, value, part, whole, stage) SELECT workload, site, guard, revision, at, value, part, whole, stage FROM points_before ORDER BY workload, site, at; DROP TABLE points_before;",
}

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

// Ledger is an open database. It is safe for concurrent use.
type Ledger struct {
	path    string
	write   *sql.DB // nil when opened for reading
	read    *sql.DB
	mu      sync.Mutex
	rollout int64
	spare   string
	notify  func([]Fact)

	spareAgain time.Time // when it is looked for next

	ships bool // its log goes into the database only once it was shipped
	begun bool // it does by itself

	hearing sync.Mutex
	grown   chan struct{} // closed when there are more facts; guarded by hearing
}

// logPages is how large the write-ahead log gets, in pages of the database, before it goes into the database.
const logPages = 1000

// spareSize is room kept aside for the day the disk is full, so that a rollback can still be recorded.
const (
	spareSize  = 4 << 20
	spareRoom  = 4 * spareSize    // there must be so much before it is taken again
	spareEvery = 10 * time.Second // it is looked whether it is there
)

// Open opens the ledger in a data folder for writing and makes it where there is none. Whoever calls must hold the
// folder's lock. told is called with every batch of facts once they are on disk; it may be nil.
func Open(folder string, told func([]Fact)) (*Ledger, error) {
	l, err := open(folder, "rwc")
	if err != nil {
		return nil, err
	}
	l.notify = told
	if err := l.migrate(); err != nil {
		l.Close()
		return nil, fmt.Errorf("open the ledger %s: %w", l.path, explain(err))
	}
	l.spare = filepath.Join(folder, "ledger.spare")
	l.spares(time.Now())
	return l, nil
}

// spares keeps some room aside, again as soon as there is enough after it was given up. Without it a full disk is met
// unprepared, no more.
func (l *Ledger) spares(now time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if now.Before(l.spareAgain) {
		return
	}
	l.spareAgain = now.Add(spareEvery)
	if info, err := os.Stat(l.spare); err == nil && info.Size() >= spareSize {
		return
	}
	if usage, err := gopsdisk.Usage(filepath.Dir(l.spare)); err != nil || usage.Free < spareRoom {
		return
	}
	if err := os.WriteFile(l.spare, make([]byte, spareSize), 0o600); err != nil {
		os.Remove(l.spare)
	}
}

// OpenToRead opens the ledger of a data folder that another program may be writing to.
func OpenToRead(folder string) (*Ledger, error) {
	if _, err := os.Stat(filepath.Join(folder, FileName)); errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("there is no ledger in %s: start Aditus there first, with aditus or aditus demo, or choose another folder with --data", folder)
	}
	l, err := open(folder, "rw")
	if err != nil {
		return nil, err
	}
	l.write.Close()
	l.write = nil
	return l, nil
}

func open(folder, mode string) (*Ledger, error) {
	path := filepath.Join(folder, FileName)
	write, err := openFile(path, mode, "journal_mode(WAL)", "synchronous(FULL)", "wal_autocheckpoint(0)")
	if err != nil {
		return nil, fmt.Errorf("open the ledger %s: %w", path, err)
	}
	write.SetMaxOpenConns(1)
	read, err := openFile(path, mode, "query_only(1)")
	if err != nil {
		write.Close()
		return nil, fmt.Errorf("open the ledger %s: %w", path, err)
	}
	read.SetMaxOpenConns(ReadersAtOnce)
	return &Ledger{path: path, write: write, read: read, grown: make(chan struct{})}, nil
}

func openFile(path, mode string, pragmas ...string) (*sql.DB, error) {
	query := url.Values{"_pragma": append([]string{"busy_timeout(5000)"}, pragmas...), "mode": {mode}}
	if vfs != "" {
		query.Set("vfs", vfs)
	}
	return sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?"+query.Encode())
}

func (l *Ledger) migrate() error {
	var have int
	if err := l.write.QueryRow("PRAGMA user_version").Scan(&have); err != nil {
		return err
	}
	switch {
	case have > version:
		return fmt.Errorf("it was written by a newer Aditus (schema %d, this one knows %d): use that one", have, version)
	case have < version:
		text := schema
		if have > 0 {
			text = strings.Join(upgrades[have-1:], "")
		}
		tx, err := l.write.Begin()
		if err != nil {
			return err
		}
		defer tx.Rollback()
		if _, err := tx.Exec(text + fmt.Sprintf("PRAGMA user_version = %d", version)); err != nil {
			return err
		}
		if err := tx.Commit(); err != nil {
			return err
		}
	}
	return l.write.QueryRow("SELECT coalesce(max(id), 0) FROM rollouts").Scan(&l.rollout)
}

// Close closes the database.
func (l *Ledger) Close() error {
	err := l.read.Close()
	if l.write != nil {
		err = errors.Join(err, l.write.Close())
	}
	if l.ships {
		err = errors.Join(err, l.shippedWhole())
	}
	return err
}

// NextRollout gives a number that no rollout has.
func (l *Ledger) NextRollout() int64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.rollout++
	return l.rollout
}

// Record writes entries, all or none of them, and returns once they are safely on disk.
func (l *Ledger) Record(ctx context.Context, entries ...Entry) error {
	err := l.record(ctx, entries)
	if errors.Is(err, ErrFull) && l.spare != "" && os.Remove(l.spare) == nil {
		err = l.record(ctx, entries)
	}
	if err != nil {
		return fmt.Errorf("record in the ledger %s: %w", l.path, err)
	}
	l.spares(time.Now())
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

func (l *Ledger) record(ctx context.Context, entries []Entry) error {
	return l.change(ctx, func(tx *sql.Tx) error {
		for i := range entries {
			if err := l.writeEntry(tx, &entries[i]); err != nil {
				return err
			}
		}
		return nil
	})
}

// change changes something in one transaction.
func (l *Ledger) change(ctx context.Context, do func(*sql.Tx) error) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if !l.ships && !l.begun {
		if _, err := l.write.Exec(fmt.Sprintf("PRAGMA wal_autocheckpoint = %d", logPages)); err != nil {
			return explain(err)
		}
		l.begun = true
	}
	tx, err := l.write.BeginTx(ctx, nil)
	if err != nil {
		return explain(err)
	}
	defer tx.Rollback()
	if err := do(tx); err != nil {
		return explain(err)
	}
	return explain(tx.Commit())
}

func (l *Ledger) writeEntry(tx *sql.Tx, e *Entry) error {
	put := func(query string, args ...any) error {
		_, err := tx.Exec(query, args...)
		return err
	}
	if r := e.Revision; r != nil {
		if err := put(`INSERT INTO revisions (fingerprint, workload, version, commit_hash, subject, author, at, desired) VALUES (?,?,?,?,?,?,?,?)
			ON CONFLICT DO NOTHING`, string(r.Fingerprint), r.Workload, r.Version, r.Commit, r.Subject, r.Author, r.At.UnixMilli(), string(r.Desired.Canonical())); err != nil {
			return err
		}
	}
	for i := range e.Facts {
		f := &e.Facts[i]
		row := tx.QueryRow(`INSERT INTO facts (at, workload, site, rollout, kind, actor, revision, text, data) VALUES (?,?,?,?,?,?,?,?,?) RETURNING seq`,
			f.At.UnixMilli(), f.Workload, f.Site, f.Rollout, f.Kind, f.By, string(f.Revision), f.Text, nullable(f.Data))
		if err := row.Scan(&f.Seq); err != nil {
			return err
		}
		if f.Seq%markEvery == 0 {
			if err := put(`INSERT INTO marks SELECT ?1, max(at) FROM (SELECT at FROM marks UNION ALL SELECT max(at) FROM facts WHERE seq > ?1 - ?2)`, f.Seq, markEvery); err != nil {
				return err
			}
		}
	}
	if e.State != nil {
		text, err := json.Marshal(e.State)
		if err != nil {
			return err
		}
		if err := put(`INSERT INTO berths (workload, site, state) VALUES (?,?,?) ON CONFLICT DO UPDATE SET state = excluded.state`, e.Berth.Workload, e.Berth.Site, string(text)); err != nil {
			return err
		}
	}
	if e.Rollout != nil {
		text, err := json.Marshal(e.Rollout)
		if err != nil {
			return err
		}
		if err := put(`INSERT INTO rollouts (id, workload, site, state) VALUES (?,?,?,?) ON CONFLICT DO UPDATE SET state = excluded.state`,
			e.Rollout.ID, e.Berth.Workload, e.Berth.Site, string(text)); err != nil {
			return err
		}
	}
	if err := e.writePoints(tx); err != nil {
		return err
	}
	if k := e.Traffic; k != nil && e.Rollout != nil {
		return put(`INSERT INTO looks VALUES (?,?,?,?,?,?,?,?) ON CONFLICT DO NOTHING`,
			e.Rollout.ID, k.At.UnixMilli(), k.Asked, k.Share, k.Requests[0], k.Requests[1], k.Old, k.New)
	}
	return nil
}

// writePoints writes the entry's signals, of which there may be thousands: each statement is read once for all of them.
func (e *Entry) writePoints(tx *sql.Tx) error {
	write := func(points []Point, query string, values func(Point) []any) error {
		if len(points) == 0 {
			return nil
		}
		insert, err := tx.Prepare(query)
		if err != nil {
			return err
		}
		defer insert.Close()
		for _, p := range points {
			if _, err := insert.Exec(append([]any{e.Berth.Workload, e.Berth.Site, p.Guard, string(p.Revision), p.At.UnixMilli(), p.Value, p.Part, p.Whole}, values(p)...)...); err != nil {
				return err
			}
		}
		return nil
	}
	if err := write(e.Points, `INSERT INTO points VALUES (?,?,?,?,?,?,?,?,?) ON CONFLICT DO NOTHING`, func(p Point) []any { return []any{p.Stage} }); err != nil {
		return err
	}
	if err := write(e.Steady, `INSERT INTO steady VALUES (?,?,?,?,?,?,?,?) ON CONFLICT DO NOTHING`, func(Point) []any { return nil }); err != nil {
		return err
	}
	newest := map[string]time.Time{}
	for _, p := range e.Steady {
		if p.At.After(newest[p.Guard]) {
			newest[p.Guard] = p.At
		}
	}
	for guard, at := range newest {
		if _, err := tx.Exec(`DELETE FROM steady WHERE workload = ? AND site = ? AND guard = ? AND at < ?`, e.Berth.Workload, e.Berth.Site, guard, at.Add(-SteadyKept).UnixMilli()); err != nil {
			return err
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

// KeepPicture keeps a named JSON value: what faces read that are not connected to a running engine.
func (l *Ledger) KeepPicture(ctx context.Context, name string, at time.Time, value any) error {
	text, err := json.Marshal(value)
	if err != nil {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	_, err = l.write.ExecContext(ctx, `INSERT INTO pictures VALUES (?,?,?) ON CONFLICT DO UPDATE SET at = excluded.at, json = excluded.json`, name, at.UnixMilli(), string(text))
	if err != nil {
		return fmt.Errorf("keep %s in the ledger %s: %w", name, l.path, explain(err))
	}
	return nil
}

// explain gives the errors that a person can mend a name of their own.
func explain(err error) error {
	var coded *sqlite.Error
	if errors.As(err, &coded) {
		switch coded.Code() & 0xff {
		case sqlite3.SQLITE_FULL:
			return fmt.Errorf("%w: free some space; nothing changes at the sites until then (%v)", ErrFull, err)
		case sqlite3.SQLITE_IOERR:
			return fmt.Errorf("%w, or it cannot be written to: free some space; nothing changes at the sites until then (%v)", ErrFull, err)
		case sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB:
			return fmt.Errorf("the file is damaged: put a copy back, or move it away to start a new ledger (%w)", err)
		case sqlite3.SQLITE_READONLY, sqlite3.SQLITE_CANTOPEN, sqlite3.SQLITE_PERM:
			return fmt.Errorf("it cannot be written to: check who owns the folder (%w)", err)
		}
	}
	return err
}
