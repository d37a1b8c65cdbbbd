package ledger

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"unsafe"

	"modernc.org/libc"
	sqlite3 "modernc.org/sqlite/lib"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/disk/disktest"
)

// recordingVFS is the database's way to its files, on which all that it writes and flushes is noted: the functions of the one
// that it has on this machine, with those that change something in between.
type recordingVFS struct {
	recorder *disktest.Recorder
	base     *sqlite3.Tsqlite3_vfs
	own      [4]uintptr // write, truncate, sync, close

	mu    sync.Mutex
	files map[uintptr]*recordedFile
}

type recordedFile struct {
	file    *disktest.File
	base    *sqlite3.Tsqlite3_io_methods
	journal bool // new, so that its folder is flushed with it
}

// pointer is a Go function as the database calls it.
func pointer(f any) uintptr {
	kept = append(kept, f)
	return (*[2]uintptr)(unsafe.Pointer(&f))[1]
}

var kept []any // what the database points to, so that it stays where it is

// function is one of the database's functions, to be called from Go.
func function[F any](at uintptr) F {
	return *(*F)(unsafe.Pointer(&at))
}

func memory[T any](at uintptr) *T { return *(**T)(unsafe.Pointer(&at)) }

const recordingName = "recording"

// recordDatabase has all databases that are opened by its name noted by a recorder.
func recordDatabase(t *testing.T, r *disktest.Recorder) {
	tls := libc.NewTLS()
	base := sqlite3.Xsqlite3_vfs_find(tls, 0)
	own := libc.Xmalloc(tls, libc.Tsize_t(unsafe.Sizeof(sqlite3.Tsqlite3_vfs{})))
	v := &recordingVFS{recorder: r, base: memory[sqlite3.Tsqlite3_vfs](base), files: map[uintptr]*recordedFile{}}
	v.own = [4]uintptr{pointer(v.write), pointer(v.truncate), pointer(v.sync), pointer(v.close)}
	copied := memory[sqlite3.Tsqlite3_vfs](own)
	*copied = *v.base
	copied.FzName, _ = libc.CString(recordingName)
	copied.FpNext = 0
	copied.FxOpen = pointer(v.open)
	copied.FxDelete = pointer(v.remove)
	if code := sqlite3.Xsqlite3_vfs_register(tls, own, 0); code != 0 {
		t.Fatalf("register: %d", code)
	}
	vfs = recordingName
	t.Cleanup(func() { vfs = ""; sqlite3.Xsqlite3_vfs_unregister(tls, own) })
}

func (v *recordingVFS) open(tls *libc.TLS, at, name, file uintptr, flags int32, out uintptr) int32 {
	code := function[func(*libc.TLS, uintptr, uintptr, uintptr, int32, uintptr) int32](v.base.FxOpen)(tls, at, name, file, flags, out)
	if code != 0 || name == 0 {
		return code
	}
	f := memory[sqlite3.Tsqlite3_file](file)
	one := &recordedFile{file: v.recorder.File(libc.GoString(name)), base: memory[sqlite3.Tsqlite3_io_methods](f.FpMethods)}
	one.journal = flags&sqlite3.SQLITE_OPEN_CREATE != 0 && flags&(sqlite3.SQLITE_OPEN_WAL|sqlite3.SQLITE_OPEN_MAIN_JOURNAL) != 0
	own := libc.Xmalloc(tls, libc.Tsize_t(unsafe.Sizeof(sqlite3.Tsqlite3_io_methods{})))
	methods := memory[sqlite3.Tsqlite3_io_methods](own)
	*methods = *one.base
	methods.FxWrite, methods.FxTruncate, methods.FxSync, methods.FxClose = v.own[0], v.own[1], v.own[2], v.own[3]
	f.FpMethods = own
	v.mu.Lock()
	v.files[file] = one
	v.mu.Unlock()
	return code
}

func (v *recordingVFS) of(file uintptr) *recordedFile {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.files[file]
}

func (v *recordingVFS) write(tls *libc.TLS, file, content uintptr, size int32, offset int64) int32 {
	one := v.of(file)
	code := function[func(*libc.TLS, uintptr, uintptr, int32, int64) int32](one.base.FxWrite)(tls, file, content, size, offset)
	if code == 0 {
		one.file.Wrote(offset, unsafe.Slice(memory[byte](content), size))
	}
	return code
}

func (v *recordingVFS) truncate(tls *libc.TLS, file uintptr, size int64) int32 {
	one := v.of(file)
	code := function[func(*libc.TLS, uintptr, int64) int32](one.base.FxTruncate)(tls, file, size)
	if code == 0 {
		one.file.Truncated(size)
	}
	return code
}

func (v *recordingVFS) sync(tls *libc.TLS, file uintptr, flags int32) int32 {
	one := v.of(file)
	code := function[func(*libc.TLS, uintptr, int32) int32](one.base.FxSync)(tls, file, flags)
	if code == 0 {
		one.file.Flushed()
		if one.journal {
			one.journal = false
			one.file.FlushedFolder()
		}
	}
	return code
}

func (v *recordingVFS) close(tls *libc.TLS, file uintptr) int32 {
	v.mu.Lock()
	one := v.files[file]
	delete(v.files, file)
	v.mu.Unlock()
	memory[sqlite3.Tsqlite3_file](file).FpMethods = uintptr(unsafe.Pointer(one.base))
	return function[func(*libc.TLS, uintptr) int32](one.base.FxClose)(tls, file)
}

func (v *recordingVFS) remove(tls *libc.TLS, at, name uintptr, flush int32) int32 {
	code := function[func(*libc.TLS, uintptr, uintptr, int32) int32](v.base.FxDelete)(tls, at, name, flush)
	if code == 0 {
		f := v.recorder.File(libc.GoString(name))
		f.Removed()
		if flush != 0 {
			f.FlushedFolder()
		}
	}
	return code
}

// TestPowerCut replays what is left of a ledger at each moment: it opens, is whole, and has all that was recorded, each entry
// with its facts and state or not at all.
func TestPowerCut(t *testing.T) {
	folder := t.TempDir()
	r := disktest.Record(folder)
	recordDatabase(t, r)
	l, err := Open(folder, nil)
	if err != nil {
		t.Fatal(err)
	}
	const entries = 12
	for n := range entries {
		record(t, l, Entry{
			Berth: boardingNorth, State: &berth.State{Applied: declare.Fingerprint(fmt.Sprint(n + 1))},
			Facts: []Fact{{At: at, Kind: "stage", Text: strings.Repeat("x", 2000)}, {At: at, Kind: "stage", Text: "2"}},
		})
		r.Ack()
		if n == entries/2 { // what is in the log goes into the database
			if _, err := file(l).write.Exec("PRAGMA wal_checkpoint(TRUNCATE)"); err != nil {
				t.Fatal(err)
			}
		}
	}
	l.Close()
	vfs = ""
	tried := disktest.Try(t, r, disktest.Ways(2), func(folder string, acked int) error {
		l, err := Open(folder, nil)
		if err != nil {
			return err
		}
		defer l.Close()
		var whole string
		if err := l.read.QueryRow("PRAGMA integrity_check").Scan(&whole); err != nil || whole != "ok" {
			return fmt.Errorf("it is not whole: %s (%v)", whole, err)
		}
		facts, err := l.Facts(Query{})
		if err != nil {
			return err
		}
		states, err := l.Berths()
		if err != nil {
			return err
		}
		has := len(facts) / 2
		if len(facts)%2 != 0 || has < acked || has > acked+1 || has > 0 && states[boardingNorth].Applied != declare.Fingerprint(fmt.Sprint(has)) {
			return fmt.Errorf("it has %d facts and the state %s", len(facts), states[boardingNorth].Applied)
		}
		return nil
	})
	t.Logf("%d states", tried)
}
