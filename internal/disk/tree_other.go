//go:build !linux

package disk

import (
	"io/fs"
	"path/filepath"
)

func flushTree(folder string) error {
	return filepath.WalkDir(folder, func(name string, entry fs.DirEntry, err error) error {
		if err != nil || !entry.IsDir() && !entry.Type().IsRegular() {
			return err
		}
		return Machine.Flush(name)
	})
}
