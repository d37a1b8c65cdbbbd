// Package disktest tells what may be left of files after a power cut, for tests. A Recorder does what it is asked and notes
// it; States replays that up to each moment, with what was not flushed by then missing, torn or in another order, as a file
// system may leave it (Pillai et al., "All File Systems Are Not Created Equal", OSDI 2014).
package disktest

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"aditus/internal/disk"
)

// Recorder is a disk on which all that happens beneath a folder is noted. It is safe for concurrent use.
type Recorder struct {
	root string

	mu    sync.Mutex
	now   tree // as it is
	next  int
	trace []change
	acked int
}

var _ disk.Disk = (*Recorder)(nil)

// Record begins to note what happens beneath a folder. What is there already counts as being on the disk.
func Record(root string) *Recorder {
	r := &Recorder{root: filepath.Clean(root), now: tree{top: {folder: true, entries: map[string]int{}}}, next: top + 1}
	r.catchUp(".")
	r.trace = append(r.trace, change{kind: flushAll})
	return r
}

// Unflushed is the machine's disk without the wait for it, for what is thrown away anyway.
type Unflushed struct{ disk.Disk }

// Flush implements disk.Disk.
func (Unflushed) Flush(string) error { return nil }

// FlushTree implements disk.Disk.
func (Unflushed) FlushTree(string) error { return nil }

// top is the number of the folder that is recorded.
const top = 0

// node is a file or a folder, whatever it is called.
type node struct {
	folder  bool
	link    string // of a symbolic link
	content []byte
	mode    fs.FileMode
	entries map[string]int
}

// tree is all nodes by their numbers.
type tree map[int]*node

// find gives the number of the node at a path.
func (t tree) find(path string) (int, bool) {
	at := top
	if path == "." {
		return at, true
	}
	for name := range strings.SplitSeq(path, "/") {
		next, ok := t[at].entries[name]
		if !ok {
			return 0, false
		}
		at = next
	}
	return at, true
}

// kind is what a change does.
type kind int

const (
	enter    kind = iota // name in folder becomes node
	leave                // name in folder goes
	move                 // node goes from folder and name to another folder and name
	write                // content at an offset
	truncate             // to a size
	flush                // a node's content or entries
	flushAll             // everything
	ack                  // something was answered for
)

type change struct {
	kind     kind
	node     int
	folder   int
	name     string
	from     int
	was      string
	offset   int64
	size     int64
	content  []byte
	made     node // of enter: what it is, without content
	answered int
}

func (r *Recorder) rel(name string) string {
	rel, err := filepath.Rel(r.root, name)
	if err != nil {
		return name
	}
	return filepath.ToSlash(rel)
}

// do applies a change to what is, and notes it.
func (r *Recorder) do(c change) {
	r.now.apply(c)
	r.trace = append(r.trace, c)
}

func (t tree) apply(c change) {
	switch c.kind {
	case enter:
		if t[c.node] == nil {
			made := c.made
			if made.folder {
				made.entries = map[string]int{}
			}
			t[c.node] = &made
		}
		if t[c.folder] != nil {
			t[c.folder].entries[c.name] = c.node
		}
	case leave:
		if t[c.folder] != nil {
			delete(t[c.folder].entries, c.name)
		}
	case move:
		if t[c.node] == nil {
			made := c.made
			if made.folder {
				made.entries = map[string]int{}
			}
			t[c.node] = &made
		}
		if t[c.from] != nil && t[c.from].entries[c.was] == c.node {
			delete(t[c.from].entries, c.was)
		}
		if t[c.folder] != nil {
			t[c.folder].entries[c.name] = c.node
		}
	case write:
		if n := t[c.node]; n != nil {
			if need := c.offset + int64(len(c.content)); need > int64(len(n.content)) {
				n.content = append(n.content, make([]byte, need-int64(len(n.content)))...)
			}
			copy(n.content[c.offset:], c.content)
		}
	case truncate:
		if n := t[c.node]; n != nil {
			if c.size < int64(len(n.content)) {
				n.content = n.content[:c.size]
			} else {
				n.content = append(n.content, make([]byte, c.size-int64(len(n.content)))...)
			}
		}
	}
}

// catchUp notes what was changed at a path, or beneath it, without telling the recorder: nothing of that was flushed.
func (r *Recorder) catchUp(path string) {
	real := filepath.Join(r.root, filepath.FromSlash(path))
	info, err := os.Lstat(real)
	number, known := r.now.find(path)
	folder, ok := r.now.find(filepath.ToSlash(filepath.Dir(path)))
	name := filepath.Base(path)
	switch {
	case err != nil && known && path != ".":
		r.do(change{kind: leave, folder: folder, name: name, node: number})
		return
	case err != nil:
		return
	case path != "." && !ok:
		r.catchUp(filepath.ToSlash(filepath.Dir(path)))
		return
	}
	if path != "." && (!known || r.now[number].folder != info.IsDir()) {
		number = r.next
		r.next++
		made := node{folder: info.IsDir(), mode: info.Mode().Perm()}
		if info.Mode()&fs.ModeSymlink != 0 {
			made.link, _ = os.Readlink(real)
		}
		r.do(change{kind: enter, node: number, folder: folder, name: name, made: made})
	}
	switch {
	case info.IsDir():
		entries, _ := os.ReadDir(real)
		for _, entry := range entries {
			r.catchUp(filepath.ToSlash(filepath.Join(path, entry.Name())))
		}
	case info.Mode().IsRegular():
		if text, err := os.ReadFile(real); err == nil && !bytes.Equal(text, r.now[number].content) {
			r.do(change{kind: truncate, node: number})
			r.do(change{kind: write, node: number, content: text})
		}
	}
}

// Ack notes that everything up to now was answered for. It gives the number of the answer, from 1.
func (r *Recorder) Ack() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.acked++
	r.trace = append(r.trace, change{kind: ack, answered: r.acked})
	return r.acked
}

// told has something done and noted, one at a time.
func (r *Recorder) told(name string, do func() error, note func(path string)) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	path := r.rel(name)
	if strings.HasPrefix(path, "..") {
		return do()
	}
	if err := do(); err != nil {
		return err
	}
	note(path)
	return nil
}

// Write implements disk.Disk.
func (r *Recorder) Write(name string, text []byte, mode fs.FileMode) error {
	return r.told(name, func() error { return disk.Machine.Write(name, text, mode) }, r.catchUp)
}

// Flush implements disk.Disk.
func (r *Recorder) Flush(name string) error {
	return r.told(name, func() error { return disk.Machine.Flush(name) }, func(path string) {
		if info, err := os.Stat(name); err == nil && !info.IsDir() {
			r.catchUp(path)
		}
		if n, ok := r.now.find(path); ok {
			r.do(change{kind: flush, node: n})
		}
	})
}

// FlushTree implements disk.Disk.
func (r *Recorder) FlushTree(folder string) error {
	return r.told(folder, func() error { return nil }, func(path string) {
		r.catchUp(path)
		var all func(n int)
		all = func(n int) {
			r.do(change{kind: flush, node: n})
			for _, below := range r.now[n].entries {
				all(below)
			}
		}
		if n, ok := r.now.find(path); ok {
			all(n)
		}
	})
}

// Rename implements disk.Disk.
func (r *Recorder) Rename(from, to string) error {
	r.mu.Lock()
	r.catchUp(r.rel(from))
	r.mu.Unlock()
	return r.told(to, func() error { return disk.Machine.Rename(from, to) }, func(path string) { r.moved(r.rel(from), path) })
}

func (r *Recorder) moved(was, path string) {
	n, ok := r.now.find(was)
	from, ok1 := r.now.find(filepath.ToSlash(filepath.Dir(was)))
	folder, ok2 := r.now.find(filepath.ToSlash(filepath.Dir(path)))
	if ok && ok1 && ok2 {
		own := r.now[n]
		r.do(change{kind: move, node: n, from: from, was: filepath.Base(was), folder: folder, name: filepath.Base(path), made: node{folder: own.folder, mode: own.mode, link: own.link}})
	}
}

// Link implements disk.Disk.
func (r *Recorder) Link(from, to string) error {
	return r.told(to, func() error { return disk.Machine.Link(from, to) }, func(path string) {
		n, ok := r.now.find(r.rel(from))
		folder, ok2 := r.now.find(filepath.ToSlash(filepath.Dir(path)))
		if ok && ok2 {
			r.do(change{kind: enter, node: n, folder: folder, name: filepath.Base(path), made: node{mode: r.now[n].mode}})
		}
	})
}

// Mkdir implements disk.Disk.
func (r *Recorder) Mkdir(name string, mode fs.FileMode) error {
	return r.told(name, func() error { return disk.Machine.Mkdir(name, mode) }, r.catchUp)
}

// Remove implements disk.Disk.
func (r *Recorder) Remove(name string) error {
	return r.told(name, func() error { return disk.Machine.Remove(name) }, r.catchUp)
}

// File notes what is done to an open file by other means than the Recorder's own, which a database does.
type File struct {
	r    *Recorder
	path string
}

// File gives the open file of a name, and notes that it was made where it is new.
func (r *Recorder) File(name string) *File {
	r.mu.Lock()
	defer r.mu.Unlock()
	path := r.rel(name)
	if _, ok := r.now.find(path); !ok {
		r.catchUp(path)
	}
	return &File{r, path}
}

func (f *File) note(c change) {
	f.r.mu.Lock()
	defer f.r.mu.Unlock()
	if n, ok := f.r.now.find(f.path); ok {
		c.node = n
		f.r.do(c)
	}
}

// Wrote notes what was written at an offset.
func (f *File) Wrote(offset int64, content []byte) {
	f.note(change{kind: write, offset: offset, content: slices.Clone(content)})
}

// Truncated notes a new size.
func (f *File) Truncated(size int64) { f.note(change{kind: truncate, size: size}) }

// Flushed notes that the content is on the disk.
func (f *File) Flushed() { f.note(change{kind: flush}) }

// FlushedFolder notes that the entries of the file's folder are on the disk.
func (f *File) FlushedFolder() {
	f.r.mu.Lock()
	defer f.r.mu.Unlock()
	if n, ok := f.r.now.find(filepath.ToSlash(filepath.Dir(f.path))); ok {
		f.r.do(change{kind: flush, node: n})
	}
}

// Removed notes that the file is gone.
func (f *File) Removed() {
	f.r.mu.Lock()
	defer f.r.mu.Unlock()
	f.r.catchUp(f.path)
}

// State is what a power cut may leave.
type State struct {
	Name  string // says when, and how it came about
	Acked int    // what was answered for by then; 0 for nothing
	files tree
}

// States gives what may be left at each moment, so many ways of each; the first of them loses all that was not flushed,
// and the second nothing.
func (r *Recorder) States(ways int, seed uint64) iter.Seq[State] {
	r.mu.Lock()
	trace := slices.Clone(r.trace)
	r.mu.Unlock()
	return func(yield func(State) bool) {
		random := rand.New(rand.NewPCG(seed, 1))
		acked := 0
		for cut := range len(trace) + 1 {
			if cut > 0 && trace[cut-1].kind == ack {
				acked = trace[cut-1].answered
			}
			if cut < len(trace) && (trace[cut].kind == ack) { // as after it, with less answered for
				continue
			}
			for way := range ways {
				s := State{Name: fmt.Sprintf("after %d of %d operations, way %d", cut, len(trace), way), Acked: acked, files: left(trace[:cut], way, random)}
				if !yield(s) {
					return
				}
			}
		}
	}
}

// sector is what a disk writes whole.
const sector = 512

// left is what is on the disk after some changes: all that was flushed, and some of the rest.
func left(done []change, way int, random *rand.Rand) tree {
	flushedAt := map[int]int{} // by node: the last time
	for i, c := range done {
		switch c.kind {
		case flush:
			flushedAt[c.node] = i
		case flushAll:
			for _, before := range done[:i] {
				flushedAt[before.node], flushedAt[before.folder] = i, i
			}
		}
	}
	safe := func(i, node int) bool { at, ok := flushedAt[node]; return ok && at > i }
	likely := []float64{0, 1, 0.5, 0.9, 0.1}[way%5]
	keep := func() bool { return random.Float64() < likely }
	t := tree{top: {folder: true, entries: map[string]int{}}}
	for i, c := range done {
		switch c.kind {
		case enter, leave:
			if safe(i, c.folder) || keep() {
				t.apply(c)
			}
		case move:
			if safe(i, c.folder) || safe(i, c.from) || keep() {
				t.apply(c)
			}
		case truncate, write:
			// The node exists whether its name came to the disk or not.
			if t[c.node] == nil {
				t[c.node] = &node{mode: 0o600}
			}
			switch {
			case safe(i, c.node):
				t.apply(c)
			case c.kind == truncate:
				if keep() {
					t.apply(c)
				}
			default:
				t.tear(c, keep, random)
			}
		}
	}
	return t
}

// tear writes some of the sectors of a content; of the others some are there empty, as the size came first.
func (t tree) tear(c change, keep func() bool, random *rand.Rand) {
	for from := 0; from < len(c.content); from += sector {
		to := min(from+sector, len(c.content))
		switch {
		case keep():
			t.apply(change{kind: write, node: c.node, offset: c.offset + int64(from), content: c.content[from:to]})
		case random.IntN(3) == 0 && c.offset+int64(to) > int64(len(t[c.node].content)):
			t.apply(change{kind: truncate, node: c.node, size: c.offset + int64(to)})
		}
	}
}

// Lay puts what is left into a folder that is empty.
func (s State) Lay(folder string) error { return s.files.lay(top, folder) }

func (t tree) lay(n int, at string) error {
	for name, number := range t[n].entries {
		own, path := t[number], filepath.Join(at, name)
		var err error
		switch {
		case own == nil:
		case own.folder:
			err = errors.Join(os.MkdirAll(path, 0o700), t.lay(number, path))
		case own.link != "":
			err = os.Symlink(own.link, path)
		default:
			err = os.WriteFile(path, own.content, own.mode|0o400)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Try lays every state out in a folder of its own and has check start anew there. check is told how much was answered for
// by then, and gives an error where not all of that is there. It gives the number of states.
func Try(t *testing.T, r *Recorder, ways int, check func(folder string, acked int) error) (tried int) {
	t.Helper()
	folder, bad := t.TempDir(), 0
	if at, err := os.MkdirTemp("/dev/shm", "disktest-"); err == nil { // in memory, where there is such a place
		folder = at
		t.Cleanup(func() { os.RemoveAll(at) })
	}
	for s := range r.States(ways, 1) {
		tried++
		at := filepath.Join(folder, fmt.Sprint(tried))
		err := os.Mkdir(at, 0o700)
		if err == nil {
			err = s.Lay(at)
		}
		if err != nil {
			t.Fatalf("lay out what is left %s: %v", s.Name, err)
		}
		if err := check(at, s.Acked); err != nil {
			if bad++; bad <= 5 {
				t.Errorf("a power cut %s, with %d answered for: %v; there is:%s", s.Name, s.Acked, err, s)
			}
		}
		os.RemoveAll(at)
	}
	if bad > 5 {
		t.Errorf("so are %d of %d states", bad, tried)
	}
	return tried
}

// Ways is how many ways of each moment are tried: few, and with ADITUS_LONG many times as many.
func Ways(few int) int {
	if os.Getenv("ADITUS_LONG") != "" {
		return 10 * few
	}
	return few
}

// Values tries a file, or some, whose value is a number: set makes it a number, from 1 to most, and read gives it, 0 where there
// is none. After a power cut it is the last one that was answered for, or the one that was being set.
func Values(t *testing.T, most int, set func(d disk.Disk, folder string, n int) error, read func(folder string) (int, error)) {
	t.Helper()
	folder := t.TempDir()
	r := Record(folder)
	for n := range most {
		if err := set(r, folder, n+1); err != nil {
			t.Fatal(err)
		}
		r.Ack()
	}
	tried := Try(t, r, Ways(6), func(folder string, acked int) error {
		n, err := read(folder)
		if err == nil && n != acked && n != acked+1 {
			err = fmt.Errorf("it is %d", n)
		}
		return err
	})
	t.Logf("%d states", tried)
}

// String lists what is left.
func (s State) String() string {
	var out strings.Builder
	var show func(n int, at string)
	show = func(n int, at string) {
		for _, name := range slices.Sorted(maps.Keys(s.files[n].entries)) {
			own := s.files[s.files[n].entries[name]]
			switch {
			case own == nil:
			case own.folder:
				show(s.files[n].entries[name], at+name+"/")
			default:
				fmt.Fprintf(&out, "\n  %s%s %d bytes", at, name, len(own.content))
			}
		}
	}
	show(top, "")
	return out.String()
}
