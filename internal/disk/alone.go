package disk

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/gofrs/flock"
)

// changing is the file of a folder by which its small files are changed by one program at a time.
const changing = "changing.lock"

// Alone does something to small files of a folder while no other program does.
func Alone(folder string, do func() error) error {
	lock := flock.New(filepath.Join(folder, changing), flock.SetPermissions(0o600))
	if err := lock.Lock(); err != nil {
		return fmt.Errorf("change what is in %s: %w", folder, err)
	}
	defer lock.Unlock()
	return do()
}

// Own sees that a folder is its owner's alone: one that others may read is closed to them, and one that others may write to is
// refused, as nobody knows what they wrote.
func Own(folder string) error {
	info, err := os.Stat(folder)
	if err != nil {
		return err
	}
	switch mode := info.Mode().Perm(); {
	case mode&0o022 != 0:
		return fmt.Errorf("others may write to %s (mode %04o), and what is in it says what runs and who may do what: look at what is there, and chmod 700 it", folder, mode)
	case mode&0o077 != 0:
		return os.Chmod(folder, 0o700)
	}
	return nil
}
