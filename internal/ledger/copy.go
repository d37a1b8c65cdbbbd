package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
)

// Copy writes a consistent copy of a ledger to a file that is not there yet, named FileName, also while a program writes to it.
func (l *Ledger) Copy(to string) error {
	if err := os.WriteFile(to, nil, 0o600); err != nil { // so that it is the owner's alone from the start
		return fmt.Errorf("copy the ledger: %w", err)
	}
	var err error
	if e, ok := l.store.(*embedded); ok {
		err = e.copy(to)
	} else {
		err = l.copy(filepath.Dir(to))
	}
	if err != nil {
		return fmt.Errorf("copy the ledger %s: %w", l.place(), l.explain(err))
	}
	return nil
}

func (e *embedded) copy(to string) error {
	db, err := openFile(e.path, "rw") // one that only reads may not
	if err != nil {
		return err
	}
	_, err = db.Exec("VACUUM INTO ?", to)
	return errors.Join(err, db.Close())
}

// copy copies what there is at one moment into a ledger in a folder.
func (l *Ledger) copy(folder string) error {
	ctx := context.Background()
	at, err := l.read.BeginTx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err != nil {
		return err
	}
	defer at.Rollback()
	into, err := Open(folder, nil)
	if err != nil {
		return err
	}
	err = into.change(ctx, func(tx *sql.Tx) error { return copyTables(ctx, at.QueryContext, tx) })
	return errors.Join(err, into.Close(), os.Remove(filepath.Join(folder, spareName)))
}

// Check tells why a file is no whole ledger that can be opened here; nil where it is one. What is in its log counts as well.
func Check(file string) (facts int64, err error) {
	db, err := openFile(file, "rw")
	if err != nil {
		return 0, err
	}
	defer db.Close()
	var have int
	var whole string
	if err = db.QueryRow("PRAGMA user_version").Scan(&have); err == nil {
		err = db.QueryRow("PRAGMA integrity_check(1)").Scan(&whole)
	}
	switch {
	case err != nil:
		return 0, fmt.Errorf("the ledger %s: %w", filepath.Base(file), explain(err))
	case whole != "ok":
		return 0, fmt.Errorf("the ledger %s is damaged: %s", filepath.Base(file), whole)
	case have < 1 || have > version:
		return 0, fmt.Errorf("the ledger %s has the schema %d, and this Aditus knows %d: use one that fits", filepath.Base(file), have, version)
	}
	return facts, db.QueryRow("SELECT count(*) FROM facts").Scan(&facts)
}
