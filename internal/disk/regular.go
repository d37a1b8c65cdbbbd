package disk

import (
	"context"
	"fmt"
	"io"
	"os"

	"aditus/internal/system"
)

// OpenRegular opens an ordinary file of so many bytes at most to read it, where somebody else says which: it waits for nothing, and
// nothing else is opened.
func OpenRegular(name string, most int64) (*os.File, os.FileInfo, error) {
	check := func(info os.FileInfo) error {
		switch {
		case !info.Mode().IsRegular():
			return fmt.Errorf("%s is no ordinary file", name)
		case info.Size() > most:
			return fmt.Errorf("%s has %d MB, and %d are read at most", name, info.Size()>>20, most>>20)
		}
		return nil
	}
	info, err := os.Stat(name) // opening a device may do something already
	if err == nil {
		err = check(info)
	}
	if err != nil {
		return nil, nil, err
	}
	file, err := os.OpenFile(name, os.O_RDONLY|system.NoWait, 0)
	if err != nil {
		return nil, nil, err
	}
	if info, err = file.Stat(); err == nil { // it may be another one by now
		err = check(info)
	}
	if err != nil {
		file.Close()
		return nil, nil, err
	}
	return file, info, nil
}

// Copy copies until ctx ends.
func Copy(ctx context.Context, to io.Writer, from io.Reader) (int64, error) {
	return io.Copy(to, &within{ctx, from})
}

type within struct {
	ctx  context.Context
	from io.Reader
}

// Read implements io.Reader.
func (w *within) Read(p []byte) (int, error) {
	if err := w.ctx.Err(); err != nil {
		return 0, err
	}
	return w.from.Read(p)
}
