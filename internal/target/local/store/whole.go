package store

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// errSpoilt means that an unpacked artifact is not what it was when it was unpacked.
var errSpoilt = errors.New("it is not what was unpacked")

// sumTree is a checksum of what was unpacked into a folder: names, modes, contents, and where links lead.
func sumTree(folder string, names []string) (string, error) {
	return sumOf(folder, names, func(name string, info fs.FileInfo, sum io.Writer) error {
		switch {
		case info.Mode()&fs.ModeSymlink != 0:
			to, err := os.Readlink(name)
			fmt.Fprintf(sum, "%q\n", to)
			return err
		case info.Mode().IsRegular():
			file, err := os.Open(name)
			if err != nil {
				return err
			}
			_, err = io.Copy(sum, file)
			return errors.Join(err, file.Close())
		}
		return nil
	})
}

// sumOf is a checksum of names, modes and sizes, and of what add adds of each.
func sumOf(folder string, names []string, add func(name string, info fs.FileInfo, sum io.Writer) error) (string, error) {
	sum := sha256.New()
	for _, name := range names {
		at := filepath.Join(folder, filepath.FromSlash(name))
		info, err := os.Lstat(at)
		if err != nil {
			return "", err
		}
		size := info.Size()
		if info.IsDir() {
			size = 0
		}
		fmt.Fprintf(sum, "%q %v %d\n", name, info.Mode(), size)
		if err := add(at, info, sum); err != nil {
			return "", err
		}
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// namesIn are the names of all that is in a folder, itself first.
func namesIn(folder string) (names []string, err error) {
	err = filepath.WalkDir(folder, func(name string, _ fs.DirEntry, err error) error {
		rel, err2 := filepath.Rel(folder, name)
		names = append(names, filepath.ToSlash(rel))
		return errors.Join(err, err2)
	})
	return names, err
}

// names are the names of all that was unpacked. What was put beside it later, such as what an interpreter has compiled, does no harm.
// Of one of an earlier Aditus, which did not note them, they are those that are there.
func (s *Store) names(name string) (names []string, err error) {
	text, err := os.ReadFile(filepath.Join(s.folder, name, namesFile))
	if errors.Is(err, fs.ErrNotExist) {
		return namesIn(filepath.Join(s.folder, name, rootFolder))
	}
	if err == nil {
		err = json.Unmarshal(text, &names)
	}
	return names, err
}

// namesFile has the names of all that was unpacked.
const namesFile = "names.json"

// check holds an unpacked artifact against what it was when it was unpacked, once in the life of a store: a power cut or
// somebody's hand may have changed it. One of an earlier Aditus, which did not note that, is taken as it is.
func (s *Store) check(name string) error {
	u, err := s.read(name)
	if err != nil || u.Sum == "" {
		return err
	}
	names, err := s.names(name)
	if err != nil {
		return err
	}
	sum, err := sumTree(u.Root, names)
	if errors.Is(err, fs.ErrNotExist) || err == nil && sum != u.Sum {
		err = errSpoilt
	}
	if err == nil {
		s.mu.Lock()
		s.checked[name] = true
		s.mu.Unlock()
	}
	return err
}

// look is how an unpacked artifact was when it was looked at last.
type look struct {
	at      time.Time
	working bool
	sizes   string // a checksum of names, modes, sizes and times
	spoilt  bool
}

// lookEvery is how often it is looked whether somebody changed what is unpacked.
const lookEvery = 15 * time.Second

// Spoilt tells whether what is unpacked of an artifact is not what was unpacked, as it was when it was looked at last. Only where a size
// or a time changed is all of it read.
func (s *Store) Spoilt(reference string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	name, ok := s.refs[reference]
	if !ok || !s.checked[name] {
		return false
	}
	l := s.looked[name]
	if !l.working && time.Since(l.at) > lookEvery {
		l.working = true
		s.looked[name] = l
		go s.look(name, l)
	}
	return l.spoilt
}

func (s *Store) look(name string, l look) {
	u, err := s.read(name)
	sizes, sum := "", ""
	var names []string
	if err == nil {
		names, err = s.names(name)
	}
	if err == nil {
		sizes, err = sumOf(u.Root, names, func(_ string, info fs.FileInfo, sum io.Writer) error {
			if !info.IsDir() { // whose time changes with what is put beside
				fmt.Fprintf(sum, "%d\n", info.ModTime().UnixNano())
			}
			return nil
		})
	}
	if err == nil && sizes != l.sizes && u.Sum != "" {
		sum, err = sumTree(u.Root, names)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case err != nil:
		l.spoilt = true
	case sizes != l.sizes && u.Sum != "":
		l.spoilt = sum != u.Sum
	}
	l.at, l.working, l.sizes = time.Now(), false, sizes
	s.looked[name] = l
	if l.spoilt && s.ready != nil {
		go s.ready()
	}
}

// Renew has an artifact unpacked anew with the next Get, where it is not what was unpacked.
func (s *Store) Renew(reference string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if name, ok := s.refs[reference]; ok && s.looked[name].spoilt {
		delete(s.checked, name)
		delete(s.looked, name)
	}
}
