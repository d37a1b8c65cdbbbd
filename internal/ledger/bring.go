package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"aditus/internal/disk"
)

// tables are all that a ledger is made of, with what their rows are in the order of.
var tables = []struct{ name, order string }{
	{"facts", "seq"}, {"marks", "seq"}, {"berths", "workload, site"}, {"rollouts", "id"}, {"revisions", "seq"}, {"points", "workload, site, at"},
	{"steady", "workload, site, guard, at"}, {"cursors", "name"}, {"looks", "rollout, at"}, {"pictures", "name"},
}

// movedEnd ends the name of a ledger that was brought elsewhere.
const movedEnd = ".moved"

// bring copies the ledger of the data folder into tables that were just made.
func (s *shared) bring(ctx context.Context, tx *sql.Tx) error {
	from, err := s.inFolder()
	if err != nil || from == nil {
		return err
	}
	defer from.Close()
	if err := copyTables(ctx, from.read.QueryContext, tx); err != nil {
		return err
	}
	// Files that servers had alike are of where it was before: whoever brings it here says what they are now.
	_, err = tx.ExecContext(ctx, `DELETE FROM pictures WHERE substr(name, 1, length($1)) = $1`, FilePicture)
	return err
}

// inFolder opens the ledger of the data folder; nil where there is none.
func (s *shared) inFolder() (*Ledger, error) {
	if s.folder == "" {
		return nil, nil
	}
	if _, err := os.Stat(filepath.Join(s.folder, FileName)); errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	l, err := Open(s.folder, nil) // which brings it to the schema of this version
	if err != nil {
		return nil, &mismatch{err.Error()}
	}
	return l, nil
}

// same sees that a ledger that lies in the data folder is on record in the database: two that differ are not led.
func (s *shared) same(ctx context.Context, tx *sql.Tx) error {
	from, err := s.inFolder()
	if err != nil || from == nil {
		return err
	}
	defer from.Close()
	last, err := from.Facts(Query{Newest: 1})
	if err != nil || len(last) == 0 {
		return err
	}
	var at int64
	var text string
	err = tx.QueryRowContext(ctx, `SELECT at, text FROM facts WHERE seq = $1`, last[0].Seq).Scan(&at, &text)
	if errors.Is(err, sql.ErrNoRows) || err == nil && (at != last[0].At.UnixMilli() || text != plain(last[0].Text)) {
		return &mismatch{fmt.Sprintf("there are two ledgers: %s, and %s in the data folder, which has facts that the other has not: move the one away that is not the line's", s.at, FileName)}
	}
	return err
}

// setAside names the ledger of the data folder anew, of which all is in the database.
func (s *shared) setAside() error {
	if s.folder == "" {
		return nil
	}
	at := filepath.Join(s.folder, FileName)
	for _, end := range []string{"-wal", "-shm", ""} {
		if err := disk.Machine.Rename(at+end, at+movedEnd+end); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return disk.Machine.Flush(s.folder)
}

// copyTables copies all rows of a ledger to another one.
func copyTables(ctx context.Context, from func(context.Context, string, ...any) (*sql.Rows, error), to *sql.Tx) error {
	for _, table := range tables {
		if err := copyTable(ctx, from, to, table.name, table.order); err != nil {
			return fmt.Errorf("copy %s of the ledger: %w", table.name, err)
		}
	}
	return nil
}

func copyTable(ctx context.Context, from func(context.Context, string, ...any) (*sql.Rows, error), to *sql.Tx, name, order string) error {
	// The columns of a table that was upgraded stand in another order.
	listed, err := to.QueryContext(ctx, "SELECT * FROM "+name+" LIMIT 0")
	if err != nil {
		return err
	}
	columns, err := listed.Columns()
	if err = errors.Join(err, listed.Close()); err != nil {
		return err
	}
	rows, err := from(ctx, "SELECT "+strings.Join(columns, ", ")+" FROM "+name+" ORDER BY "+order)
	if err != nil {
		return err
	}
	defer rows.Close()
	var waiting [][]any
	for rows.Next() {
		row, into := make([]any, len(columns)), make([]any, len(columns))
		for i := range row {
			into[i] = &row[i]
		}
		if err := rows.Scan(into...); err != nil {
			return err
		}
		for i, value := range row {
			if text, ok := value.(string); ok {
				row[i] = plain(text)
			}
		}
		if waiting = append(waiting, row); len(waiting) == insertMost {
			if err := insert(to, name, waiting); err != nil {
				return err
			}
			waiting = waiting[:0]
		}
	}
	return errors.Join(rows.Err(), insert(to, name, waiting))
}
