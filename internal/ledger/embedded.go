package ledger

import (
	"context"
	"database/sql"
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
)

// FileName is the database within a data folder.
const FileName = "ledger.db"

// vfs is the database's way to its files; empty for its own.
var vfs string

// embedded is a database in a file of the data folder (SQLite), which one program writes to.
type embedded struct {
	path  string
	write *sql.DB // nil when opened for reading
	mu    sync.Mutex
	spare string

	spareAgain time.Time // when it is looked for next

	ships bool // its log goes into the database only once it was shipped
	begun bool // it does by itself
}

// logPages is how large the write-ahead log gets, in pages of the database, before it goes into the database.
const logPages = 1000

// spareName is the file of the spare room.
const spareName = "ledger.spare"

// spareSize is room kept aside for the day the disk is full, so that a rollback can still be recorded.
const (
	spareSize  = 4 << 20
	spareRoom  = 4 * spareSize    // there must be so much before it is taken again
	spareEvery = 10 * time.Second // it is looked whether it is there
)

// Open opens the ledger in a data folder for writing and makes it where there is none. Whoever calls must hold the
// folder's lock. told is called with every batch of facts once they are on disk; it may be nil.
func Open(folder string, told func([]Fact)) (*Ledger, error) {
	e, read, err := openEmbedded(folder, "rwc")
	if err != nil {
		return nil, err
	}
	l := newLedger(e, read, told)
	if err = e.migrate(); err == nil {
		err = l.begin()
	}
	if err != nil {
		l.Close()
		return nil, fmt.Errorf("open the ledger %s: %w", e.path, e.explain(err))
	}
	e.spare = filepath.Join(folder, spareName)
	e.spares(time.Now())
	return l, nil
}

// OpenToRead opens the ledger of a data folder that another program may be writing to.
func OpenToRead(folder string) (*Ledger, error) {
	if _, err := os.Stat(filepath.Join(folder, FileName)); errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("there is no ledger in %s: start Aditus there first, with aditus or aditus demo, or choose another folder with --data", folder)
	}
	e, read, err := openEmbedded(folder, "rw")
	if err != nil {
		return nil, err
	}
	e.write.Close()
	e.write = nil
	return newLedger(e, read, nil), nil
}

func openEmbedded(folder, mode string) (*embedded, *sql.DB, error) {
	path := filepath.Join(folder, FileName)
	write, err := openFile(path, mode, "journal_mode(WAL)", "synchronous(FULL)", "wal_autocheckpoint(0)")
	if err != nil {
		return nil, nil, fmt.Errorf("open the ledger %s: %w", path, err)
	}
	write.SetMaxOpenConns(1)
	read, err := openFile(path, mode, "query_only(1)")
	if err != nil {
		write.Close()
		return nil, nil, fmt.Errorf("open the ledger %s: %w", path, err)
	}
	read.SetMaxOpenConns(ReadersAtOnce)
	return &embedded{path: path, write: write}, read, nil
}

func openFile(path, mode string, pragmas ...string) (*sql.DB, error) {
	query := url.Values{"_pragma": append([]string{"busy_timeout(5000)"}, pragmas...), "mode": {mode}}
	if vfs != "" {
		query.Set("vfs", vfs)
	}
	return sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?"+query.Encode())
}

func (e *embedded) migrate() error {
	var have int
	if err := e.write.QueryRow("PRAGMA user_version").Scan(&have); err != nil {
		return err
	}
	switch {
	case have > version:
		return errNewer(have)
	case have < version:
		text := schema
		if have > 0 {
			text = strings.Join(upgrades[have-1:], "")
		}
		tx, err := e.write.Begin()
		if err != nil {
			return err
		}
		defer tx.Rollback()
		if _, err := tx.Exec(text + fmt.Sprintf("PRAGMA user_version = %d", version)); err != nil {
			return err
		}
		return tx.Commit()
	}
	return nil
}

func (e *embedded) place() string { return e.path }

// spares keeps some room aside, again as soon as there is enough after it was given up. Without it a full disk is met
// unprepared, no more.
func (e *embedded) spares(now time.Time) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if now.Before(e.spareAgain) {
		return
	}
	e.spareAgain = now.Add(spareEvery)
	if info, err := os.Stat(e.spare); err == nil && info.Size() >= spareSize {
		return
	}
	if usage, err := gopsdisk.Usage(filepath.Dir(e.spare)); err != nil || usage.Free < spareRoom {
		return
	}
	if err := os.WriteFile(e.spare, make([]byte, spareSize), 0o600); err != nil {
		os.Remove(e.spare)
	}
}

func (e *embedded) change(ctx context.Context, do func(*sql.Tx) error) error {
	err := e.changeOnce(ctx, do)
	if errors.Is(err, ErrFull) && e.spare != "" && os.Remove(e.spare) == nil {
		err = e.changeOnce(ctx, do)
	}
	if err == nil {
		e.spares(time.Now())
	}
	return err
}

func (e *embedded) changeOnce(ctx context.Context, do func(*sql.Tx) error) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if !e.ships && !e.begun {
		if _, err := e.write.Exec(fmt.Sprintf("PRAGMA wal_autocheckpoint = %d", logPages)); err != nil {
			return e.explain(err)
		}
		e.begun = true
	}
	tx, err := e.write.BeginTx(ctx, nil)
	if err != nil {
		return e.explain(err)
	}
	defer tx.Rollback()
	if err := do(tx); err != nil {
		return e.explain(err)
	}
	return e.explain(tx.Commit())
}

// lead implements store: whoever has the data folder's lock leads.
func (e *embedded) lead(ctx context.Context, _ Server, _ func(Lead) error) (context.Context, error) {
	return ctx, nil
}

// leads implements store.
func (e *embedded) leads(context.Context) error { return nil }

func (e *embedded) close() error {
	var err error
	if e.write != nil {
		err = e.write.Close()
	}
	if e.ships {
		err = errors.Join(err, e.shippedWhole())
	}
	return err
}

func (e *embedded) explain(err error) error { return explain(err) }

// again implements store: a file is as it is.
func (e *embedded) again(error) bool { return false }

// explain tells the errors of a database in a file that a person can mend in words of their own.
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
