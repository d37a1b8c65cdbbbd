package disk

import (
	"path/filepath"
	"testing"
)

// TestFinished finds out what a file was to be that was being written when it was killed.
func TestFinished(t *testing.T) {
	folder := t.TempDir()
	left := ""
	err := beside(Machine, filepath.Join(folder, "key-1.txt"), []byte("a"), 0o600, func(from, _ string) error {
		left = filepath.Base(from)
		return nil
	})
	if err != nil || Finished(left) != "key-1.txt" || Finished("key-1.txt") != "key-1.txt" || Finished(".hidden") != ".hidden" {
		t.Errorf("%s is to be %s (%v)", left, Finished(left), err)
	}
}
