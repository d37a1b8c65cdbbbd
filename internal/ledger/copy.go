package ledger

import (
	"fmt"
	"os"
	"path/filepath"
)

// Copy writes a consistent copy of a data folder's ledger to a file that is not there yet, also while a program writes to it.
func Copy(folder, to string) error {
	l, err := OpenToRead(folder)
	if err != nil {
		return err
	}
	l.Close()
	path := filepath.Join(folder, FileName)
	if err := os.WriteFile(to, nil, 0o600); err != nil { // so that it is the owner's alone from the start
		return fmt.Errorf("copy the ledger: %w", err)
	}
	db, err := openFile(path, "rw") // one that only reads may not
	if err != nil {
		return fmt.Errorf("copy the ledger: %w", err)
	}
	defer db.Close()
	if _, err := db.Exec("VACUUM INTO ?", to); err != nil {
		return fmt.Errorf("copy the ledger %s: %w", path, explain(err))
	}
	return nil
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
