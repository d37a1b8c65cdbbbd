package source

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"aditus/internal/disk"
	"aditus/internal/disk/disktest"
)

// TestPowerCut replays what is left of the key and the credentials at each moment: what was kept opens.
func TestPowerCut(t *testing.T) {
	t.Cleanup(func() { keyDisk = disk.Machine })
	disktest.Values(t, 4, func(d disk.Disk, folder string, n int) error {
		keyDisk = d
		o, err := OpenKey(folder)
		if err != nil {
			return err
		}
		return o.KeepCredential(folder, "line", &Credential{User: strconv.Itoa(n)})
	}, func(folder string) (int, error) {
		keyDisk = disktest.Unflushed{Disk: disk.Machine}
		o, err := OpenKey(folder)
		if err != nil {
			return 0, err
		}
		if _, err := os.Stat(filepath.Join(folder, credentialsFile)); errors.Is(err, fs.ErrNotExist) {
			return 0, nil
		}
		kept, err := o.Credentials(folder)
		if err != nil {
			return 0, err
		}
		return strconv.Atoi(kept["line"].User)
	})
}
