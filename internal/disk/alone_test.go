package disk

import (
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"testing"
)

// TestAlone has many change one file at once: none of the changes is lost.
func TestAlone(t *testing.T) {
	folder := t.TempDir()
	file := filepath.Join(folder, "count")
	var group sync.WaitGroup
	for range 50 {
		group.Go(func() {
			err := Alone(folder, func() error {
				text, _ := os.ReadFile(file)
				n, _ := strconv.Atoi(string(text))
				return os.WriteFile(file, []byte(strconv.Itoa(n+1)), 0o600)
			})
			if err != nil {
				t.Error(err)
			}
		})
	}
	group.Wait()
	if text, _ := os.ReadFile(file); string(text) != "50" {
		t.Errorf("%s of 50 changes are there", text)
	}
}

// TestOwn closes a folder that others may read, and refuses one that they may write to.
func TestOwn(t *testing.T) {
	folder := t.TempDir()
	for mode, refused := range map[os.FileMode]bool{0o700: false, 0o755: false, 0o750: false, 0o777: true, 0o770: true, 0o702: true} {
		if err := os.Chmod(folder, mode); err != nil {
			t.Fatal(err)
		}
		err := Own(folder)
		info, _ := os.Stat(folder)
		if refused != (err != nil) || !refused && info.Mode().Perm() != 0o700 {
			t.Errorf("%04o: %v, and then %04o", mode, err, info.Mode().Perm())
		}
	}
}
