package disk

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// flushTree flushes the whole file system at once, as a tree may have very many files.
func flushTree(folder string) error {
	file, err := os.Open(folder)
	if err != nil {
		return err
	}
	return errors.Join(unix.Syncfs(int(file.Fd())), file.Close())
}
