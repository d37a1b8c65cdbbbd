// Package store keeps artifacts unpacked on disk, each by its digest, verified, several versions side by side, up to a
// size. What comes out of an archive can't leave its folder.
package store

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"

	"aditus/internal/core/declare"
	"aditus/internal/disk"
)

var (
	// ErrNone means that there is no such artifact, so that asking again changes nothing.
	ErrNone = errors.New("there is no such artifact")
	// ErrBad means that an artifact is not fit to be run: it is not what its digest says, or leads out of its folder.
	ErrBad = errors.New("the artifact is not taken")
	// ErrProgram means that there is no program of the name, or that it may not be run.
	ErrProgram = errors.New("the program cannot be run")
	// ErrWorking means that an artifact is being fetched and unpacked.
	ErrWorking = errors.New("the artifact is being fetched")
)

// Fetch gives an image by its reference, or ErrNone.
type Fetch func(ctx context.Context, reference string) (v1.Image, error)

// Unpacked is an artifact that is ready to be run.
type Unpacked struct {
	Root   string    `json:"-"`                // the folder that has what was in it
	Config v1.Config `json:"config,omitzero"`  // of an image: entry point, command, environment, working folder
	Alone  string    `json:"alone,omitempty"`  // of an archive: the one executable at its top
	Size   int64     `json:"size"`             // bytes
	Digest string    `json:"digest,omitempty"` // of what it was unpacked from
	Sum    string    `json:"sum,omitempty"`    // of all that was in it
}

// Store is a folder of artifacts. Make it with Open; it is safe for concurrent use.
type Store struct {
	folder string
	most   int64
	fetch  Fetch
	disk   disk.Disk
	shared bool   // all users of the machine may read what is unpacked
	ready  func() // is called when something that was asked for came or failed

	mu   sync.Mutex
	refs map[string]string // digests by reference
	jobs map[string]*job   // by reference
	used map[string]func() []string

	checked map[string]bool // by folder: it is whole
	looked  map[string]look // by folder: how it was when it was looked at last
}

type job struct {
	working bool
	err     error
	again   time.Time
}

const (
	refsFile     = "references.json"
	unpackedFile = "unpacked.json"
	rootFolder   = "root"
	newPrefix    = "new-" // begins the names of folders that are being unpacked into
	fetchTimeout = 10 * time.Minute
	tryAgain     = 15 * time.Second
)

// Open opens a store that keeps at most so many bytes of artifacts that nobody uses. All that is in it can be fetched again,
// so that what is damaged is left away.
func Open(folder string, most int64, fetch Fetch, d disk.Disk) (*Store, error) {
	if err := disk.MakeFolder(d, folder, 0o700); err != nil {
		return nil, fmt.Errorf("open the store of artifacts: %w", err)
	}
	s := &Store{folder: folder, most: most, fetch: fetch, disk: d, refs: map[string]string{}, jobs: map[string]*job{}, used: map[string]func() []string{}, checked: map[string]bool{}, looked: map[string]look{}}
	text, err := os.ReadFile(filepath.Join(folder, refsFile))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("open the store of artifacts %s: %w", folder, err)
	}
	if json.Unmarshal(text, &s.refs) != nil || s.refs == nil {
		s.refs = map[string]string{} // they are found again
	}
	disk.Tidy(d, folder)
	half, err := filepath.Glob(filepath.Join(folder, newPrefix+"*")) // what was being unpacked when the program ended
	for _, name := range half {
		err = errors.Join(err, os.RemoveAll(name))
	}
	return s, err
}

// Share lets all users of the machine read what is unpacked from now on, whom the machine lets come as far as the store's folder.
// It is called before anything is asked for.
func (s *Store) Share() error {
	s.shared = true
	return os.Chmod(s.folder, 0o711)
}

// share lets all users read what lies in a folder, and run what its owner may run.
func share(folder string) error {
	return filepath.WalkDir(folder, func(name string, entry fs.DirEntry, err error) error {
		if err != nil || entry.Type()&fs.ModeSymlink != 0 {
			return err
		}
		info, err := entry.Info()
		if err != nil {
			return err
		}
		owner := info.Mode().Perm() & 0o500
		return os.Chmod(name, info.Mode().Perm()|owner>>3|owner>>6)
	})
}

// Use has the store keep what a user names for as long as it names it, and tell it when something that it asked for is
// there or failed.
func (s *Store) Use(user string, references func() []string, ready func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.used[user] = references
	before := s.ready
	s.ready = func() {
		if before != nil {
			before()
		}
		ready()
	}
}

// Get gives an artifact that is unpacked already, and otherwise begins to fetch it: ErrWorking, or why it failed. ErrNone
// and ErrBad are for good; what else went wrong is tried again.
func (s *Store) Get(reference string) (Unpacked, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if name, ok := s.refs[reference]; ok && s.checked[name] {
		if u, err := s.read(name); err == nil {
			now := time.Now()
			os.Chtimes(filepath.Join(s.folder, name, unpackedFile), now, now) // what was used last goes last
			return u, nil
		}
		delete(s.checked, name)
	}
	j := s.jobs[reference]
	switch {
	case j == nil:
		j = &job{}
		s.jobs[reference] = j
	case j.working:
		return Unpacked{}, ErrWorking
	case j.err != nil && (Final(j.err) || time.Now().Before(j.again)):
		return Unpacked{}, j.err
	}
	j.working = true
	go s.work(reference, j)
	return Unpacked{}, cmp.Or(j.err, ErrWorking)
}

// Final tells whether an error of Get is for good.
func Final(err error) bool {
	return errors.Is(err, ErrNone) || errors.Is(err, ErrBad) || errors.Is(err, ErrProgram)
}

// read gives what is noted of an unpacked artifact.
func (s *Store) read(name string) (Unpacked, error) {
	folder := filepath.Join(s.folder, name)
	text, err := os.ReadFile(filepath.Join(folder, unpackedFile))
	if err != nil {
		return Unpacked{}, err
	}
	var u Unpacked
	if err := json.Unmarshal(text, &u); err != nil {
		return Unpacked{}, err
	}
	u.Root = filepath.Join(folder, rootFolder)
	return u, nil
}

// work fetches and unpacks an artifact.
func (s *Store) work(reference string, j *job) {
	ctx, cancel := context.WithTimeout(context.Background(), fetchTimeout)
	defer cancel()
	name, err := s.bring(ctx, reference)
	if errors.Is(err, syscall.ENOSPC) {
		err = fmt.Errorf("the disk is full: there is no room to unpack %s; it is tried again", short(reference))
	}
	s.mu.Lock()
	j.working, j.err, j.again = false, err, time.Now().Add(tryAgain)
	fresh := err == nil && s.refs[reference] != name
	if fresh {
		s.refs[reference] = name
		s.keepRefs()
	}
	if err == nil {
		s.checked[name] = true
	}
	ready := s.ready
	s.mu.Unlock()
	if fresh {
		s.clean()
	}
	if ready == nil {
		return
	}
	ready()
	if err != nil && !Final(err) { // whoever still asks for it asks again then
		time.AfterFunc(tryAgain, ready)
	}
}

// keepRefs writes down what references stand for. What is not written is only fetched again.
func (s *Store) keepRefs() {
	text, _ := json.Marshal(s.refs) // texts always marshal
	_ = disk.Keep(s.disk, filepath.Join(s.folder, refsFile), text, 0o600)
}

// bring sees to it that an artifact's folder is there and whole, and gives its name.
func (s *Store) bring(ctx context.Context, reference string) (string, error) {
	s.mu.Lock()
	known := s.refs[reference]
	s.mu.Unlock()
	spoilt := fs.ErrNotExist
	if known != "" {
		if spoilt = s.check(known); spoilt == nil {
			return known, nil
		}
	}
	a, err := s.source(ctx, reference)
	if err != nil {
		if errors.Is(spoilt, errSpoilt) {
			return "", fmt.Errorf("%s was changed or damaged where it is unpacked, and cannot be had again: %w", short(reference), err)
		}
		return "", err
	}
	name := strings.Replace(a.digest, ":", "-", 1)
	if name != known && s.check(name) == nil {
		return name, nil
	}
	half, err := os.MkdirTemp(s.folder, newPrefix)
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(half)
	u, err := a.unpack(filepath.Join(half, rootFolder))
	if err != nil {
		return "", err
	}
	u.Digest = a.digest
	if s.shared {
		if err := share(half); err != nil {
			return "", err
		}
	}
	names, err := namesIn(filepath.Join(half, rootFolder))
	if err != nil {
		return "", err
	}
	if u.Sum, err = sumTree(filepath.Join(half, rootFolder), names); err != nil {
		return "", err
	}
	text, err := json.Marshal(names)
	if err == nil {
		err = s.disk.Write(filepath.Join(half, namesFile), text, 0o600)
	}
	if err == nil {
		text, err = json.Marshal(u)
	}
	if err == nil {
		err = s.disk.Write(filepath.Join(half, unpackedFile), text, 0o600)
	}
	if err == nil && !s.shared {
		err = os.Chmod(half, 0o700)
	}
	if err == nil {
		err = s.disk.FlushTree(half)
	}
	if err != nil {
		return "", err
	}
	return name, s.place(half, name)
}

// place puts an unpacked artifact where it belongs. What is there already, as another reference has brought the same, stays
// where it is whole; what is spoilt gives way, and what runs from it finds the same files again.
func (s *Store) place(half, name string) error {
	at := filepath.Join(s.folder, name)
	err := s.disk.Rename(half, at)
	if (errors.Is(err, fs.ErrExist) || errors.Is(err, syscall.ENOTEMPTY)) && s.check(name) == nil {
		return nil
	}
	if errors.Is(err, fs.ErrExist) || errors.Is(err, syscall.ENOTEMPTY) {
		old := half + "-old"
		defer os.RemoveAll(old)
		if err = s.disk.Rename(at, old); err == nil {
			err = s.disk.Rename(half, at)
		}
	}
	return errors.Join(err, s.disk.Flush(s.folder))
}

// clean takes away what nobody uses, the longest unused first, until what is left of it is small enough.
func (s *Store) clean() {
	s.mu.Lock()
	defer s.mu.Unlock()
	inUse := map[string]bool{}
	for _, references := range s.used {
		for _, reference := range references() {
			inUse[s.refs[reference]] = true
		}
	}
	for reference, j := range s.jobs {
		if j.working {
			inUse[s.refs[reference]] = true
		}
	}
	type idle struct {
		name string
		size int64
		at   time.Time
	}
	var unused []idle
	var sum int64
	entries, _ := os.ReadDir(s.folder)
	for _, entry := range entries {
		info, err := os.Stat(filepath.Join(s.folder, entry.Name(), unpackedFile))
		if err != nil || inUse[entry.Name()] {
			continue
		}
		if u, err := s.read(entry.Name()); err == nil {
			unused = append(unused, idle{entry.Name(), u.Size, info.ModTime()})
			sum += u.Size
		}
	}
	slices.SortFunc(unused, func(a, b idle) int { return a.at.Compare(b.at) })
	for _, old := range unused {
		if sum <= s.most {
			return
		}
		delete(s.checked, old.name)
		os.RemoveAll(filepath.Join(s.folder, old.name))
		sum -= old.size
	}
}

// short is a reference as people call it: without its digest.
func short(reference string) string {
	name, _, _ := strings.Cut(strings.TrimPrefix(reference, declare.FileScheme), "@")
	return name
}
