// Package disk keeps files so that what was answered for is there after a power cut: a file is written beside the one it
// replaces, flushed, put in its place, and the folder flushed too. It is written by hand, as the libraries for it do not
// flush the folder, and none lets a test replay what would be left at each moment.
package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// Disk is what changes files. Nothing of it has to be on the disk before it was flushed, nor in the order it was asked for.
type Disk interface {
	// Write makes a file hold text; one that is there is emptied first.
	Write(name string, text []byte, mode fs.FileMode) error
	// Flush returns once a file's content, or the entries of a folder, are on the disk.
	Flush(name string) error
	// FlushTree returns once a folder and all that is beneath it are on the disk.
	FlushTree(folder string) error
	// Rename gives a file or a folder another name, in the place of a file that has it.
	Rename(from, to string) error
	// Link gives a file another name, which nothing has yet.
	Link(from, to string) error
	Mkdir(name string, mode fs.FileMode) error
	Remove(name string) error
}

// Machine is the machine's own disk.
var Machine Disk = machine{}

type machine struct{}

func (machine) Write(name string, text []byte, mode fs.FileMode) error {
	return os.WriteFile(name, text, mode)
}

func (machine) Flush(name string) error {
	file, err := os.Open(name)
	if err != nil {
		return err
	}
	err = file.Sync()
	if errors.Is(err, syscall.EINVAL) || errors.Is(err, errors.ErrUnsupported) {
		err = nil // not every file system knows how to flush a folder
	}
	return errors.Join(err, file.Close())
}

func (machine) FlushTree(folder string) error             { return flushTree(folder) }
func (machine) Rename(from, to string) error              { return os.Rename(from, to) }
func (machine) Link(from, to string) error                { return os.Link(from, to) }
func (machine) Mkdir(name string, mode fs.FileMode) error { return os.Mkdir(name, mode) }
func (machine) Remove(name string) error                  { return os.Remove(name) }

// Unless gives an error, but for one that is no trouble here.
func Unless(no, err error) error {
	if errors.Is(err, no) {
		return nil
	}
	return err
}

// Keep makes a file hold text, whole or not at all, and returns once that is on the disk.
func Keep(d Disk, name string, text []byte, mode fs.FileMode) error {
	return beside(d, name, text, mode, d.Rename)
}

// KeepNew makes a file that is not there yet, or fails with fs.ErrExist.
func KeepNew(d Disk, name string, text []byte, mode fs.FileMode) error {
	return beside(d, name, text, mode, func(from, to string) error {
		return errors.Join(d.Link(from, to), d.Remove(from))
	})
}

// beside writes a file beside the one that is meant, and has put put it there.
func beside(d Disk, name string, text []byte, mode fs.FileMode, put func(from, to string) error) error {
	folder := filepath.Dir(name)
	made := filepath.Join(folder, fmt.Sprintf("%s%s%s%08x", unfinished, filepath.Base(name), dash, rand.Uint32()))
	err := d.Write(made, text, mode)
	if err == nil {
		err = d.Flush(made)
	}
	if err == nil {
		err = put(made, name)
	}
	if err != nil {
		d.Remove(made)
		return err
	}
	return d.Flush(folder)
}

// MakeFolder makes a folder, and those that it lies in, where they are not there yet, and returns once they are on the disk.
func MakeFolder(d Disk, name string, mode fs.FileMode) error {
	if info, err := os.Stat(name); err == nil && info.IsDir() {
		return nil
	}
	above := filepath.Dir(name)
	if above != name {
		if err := MakeFolder(d, above, mode); err != nil {
			return err
		}
	}
	if err := d.Mkdir(name, mode); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return d.Flush(above)
}

const (
	unfinished = ".unfinished-" // begins the names of files that were not put in their place yet
	dash       = "-"
	staleAfter = time.Hour // nobody writes a file for that long
)

// Finished is the name that a file is to have which was being written when a program or the machine ended; any other name is given as it is.
func Finished(name string) string {
	rest, is := strings.CutPrefix(name, unfinished)
	if at := strings.LastIndex(rest, dash); is && at >= 0 {
		return rest[:at]
	}
	return name
}

// Tidy removes what was being written in a folder when a program or the machine ended.
func Tidy(d Disk, folder string) {
	entries, _ := os.ReadDir(folder) // what cannot be read is left
	for _, entry := range entries {
		if info, err := entry.Info(); err == nil && strings.HasPrefix(entry.Name(), unfinished) && time.Since(info.ModTime()) > staleAfter {
			d.Remove(filepath.Join(folder, entry.Name()))
		}
	}
}

// SetAside gives a damaged file another name, so that a new one can take its place and it can still be looked at.
func SetAside(d Disk, name string, now time.Time) (aside string, err error) {
	aside = name + ".damaged-" + now.UTC().Format("20060102T150405Z")
	if err := d.Rename(name, aside); err != nil {
		return "", err
	}
	return aside, d.Flush(filepath.Dir(name))
}
