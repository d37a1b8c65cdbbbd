package ledger

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"aditus/internal/disk"
)

// ErrInUse means that another program works on the data folder.
var ErrInUse = errors.New("the data folder is in use")

// InUse tells whether a program works on a data folder now, and when it last wrote to the ledger.
func InUse(folder string) (bool, time.Time) {
	lock := flock.New(filepath.Join(folder, "lock"))
	got, err := lock.TryLock()
	if got {
		lock.Unlock()
	}
	var wrote time.Time
	for _, name := range []string{FileName, FileName + "-wal"} {
		if info, err := os.Stat(filepath.Join(folder, name)); err == nil && info.ModTime().After(wrote) {
			wrote = info.ModTime()
		}
	}
	return !got && err == nil, wrote
}

// LockFolder takes a data folder for this program alone, and makes it where there is none. The lock ends with release
// or with the program, however it ends.
func LockFolder(folder string) (release func(), err error) {
	if err := disk.MakeFolder(disk.Machine, folder, 0o700); err != nil {
		return nil, fmt.Errorf("make the data folder: %w; choose another with --data", err)
	}
	if err := disk.Own(folder); err != nil {
		return nil, err
	}
	path := filepath.Join(folder, "lock")
	lock := flock.New(path)
	got, err := lock.TryLock()
	if err != nil {
		return nil, fmt.Errorf("lock the data folder %s: %w", folder, err)
	}
	if !got {
		who := "another program"
		if text, err := os.ReadFile(path); err == nil && len(text) > 0 {
			who = "process " + strings.TrimSpace(string(text))
		}
		return nil, fmt.Errorf("%w: %s works on %s; stop it first, or choose another folder with --data", ErrInUse, who, folder)
	}
	_ = os.WriteFile(path, fmt.Appendf(nil, "%d\n", os.Getpid()), 0o600) // only a help for the message above
	return func() { lock.Unlock() }, nil
}
