package ledger

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"aditus/internal/disk"
)

// Shipping keeps a second copy of the ledger in another folder, such as one of another machine, as it grows: a base, which is
// the database as it was, and what came into its write-ahead log since, one segment for each time that the log was begun
// anew. A folder holds a few such generations, each in a folder of its own, named by when it began. docs/backup.md describes it.
type Shipping struct {
	To    string        // the folder
	Every time.Duration // how often
}

// Files of a generation.
const (
	baseFile     = "base.db"
	segmentEnd   = ".wal"
	shippedState = "shipped.json" // in the data folder: how far it is
)

const (
	logBegins = 16 << 20 // the log is begun anew beyond it
	keepsLog  = 4        // a generation whose segments are so many times its base is followed by a new one
	leastLog  = 64 << 20 // but not before they are that large
	keepsOld  = 2        // so many generations stay
	logHeader = 32       // bytes that a log begins with; among them its salt, another one each time
	saltAt    = 16       // where that is
	saltSize  = 8
	halfBase  = ".unfinished-" // begins the name of a base that is being copied
)

// shipped is how far shipping is, as the data folder keeps it.
type shipped struct {
	Generation string `json:"generation"`
	Segment    int    `json:"segment"`
	Salt       string `json:"salt"`               // of the log that the segment is of; empty before there is one
	Size       int64  `json:"size"`               // of the segment
	Bytes      int64  `json:"bytes"`              // of all segments
	Base       int64  `json:"base"`               // bytes
	Closed     bool   `json:"closed"`             // all of the log was shipped when it was ended
	Database   string `json:"database,omitempty"` // once it was closed, by which another one in its place is known
	To         string `json:"to"`
}

// BeginShipping makes a ledger ready to be shipped. It is to be called before anything is recorded, and Ship after it.
func (l *Ledger) BeginShipping() error {
	e, ok := l.store.(*embedded)
	if !ok {
		return errNotShipped
	}
	return e.beginShipping()
}

// errNotShipped means that a ledger's database is not Aditus's own to be copied.
var errNotShipped = errors.New("only a ledger in the data folder is shipped: a database server has its own ways to keep a second copy; take ship out of the settings")

func (e *embedded) beginShipping() error {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.ships = true
	at, err := e.readShipped()
	if err != nil || !at.Closed {
		return nil // it is found out when it is shipped
	}
	salt, size, err := e.log()
	if err != nil {
		return fmt.Errorf("ship the ledger: %w", err)
	}
	if at.Database != e.database() { // another ledger, or a copy of it, was put in its place: a new generation
		return os.Remove(e.shippedFile())
	}
	at.Database = ""
	if at.Closed = false; (size == 0 || salt != at.Salt) && at.Size > 0 { // the log was begun anew after all of it was shipped
		at.Segment++
	}
	if size == 0 || salt != at.Salt {
		at.Salt, at.Size = salt, 0
	}
	return e.noteShipped(at)
}

// Ship ships the ledger until ctx ends. told is called with what keeps it from that, and with nil once it goes on. It is to
// have ended before the ledger is closed.
func (l *Ledger) Ship(ctx context.Context, s Shipping, told func(error)) {
	e, ok := l.store.(*embedded)
	if !ok {
		told(errNotShipped)
		return
	}
	ticker := time.NewTicker(s.Every)
	defer ticker.Stop()
	for {
		err := e.ship(s)
		if err != nil {
			err = fmt.Errorf("ship the ledger to %s: %w; nothing is lost here, and it is tried again", s.To, err)
		}
		told(err)
		select {
		case <-ctx.Done():
			ended := make(chan struct{})
			go func() {
				defer close(ended)
				e.endShipping(s) // what cannot be shipped now is the reason for a new generation later
			}()
			select {
			case <-ended:
			case <-time.After(shipEnd):
			}
			return
		case <-ticker.C:
		}
	}
}

// shipEnd is how long the folder may take at the end.
const shipEnd = 5 * time.Second

// ship brings what is new into the folder, and begins the log anew where it is large.
func (e *embedded) ship(s Shipping) error {
	at, err := e.shippedSoFar(s)
	if err != nil {
		return err
	}
	if err := e.shipLog(s, &at); err != nil {
		return err
	}
	switch {
	case at.Bytes > max(leastLog, keepsLog*at.Base):
		return e.generation(s)
	case at.Size > logBegins:
		return e.beginLog(at)
	}
	return nil
}

// database is what tells a database file from another one in its place.
func (e *embedded) database() string {
	info, err := os.Stat(e.path)
	if err != nil {
		return "none"
	}
	return fmt.Sprintf("%d bytes at %d", info.Size(), info.ModTime().UnixNano())
}

// shippedWhole notes which database it is of that all was shipped, once that was closed.
func (e *embedded) shippedWhole() error {
	at, err := e.readShipped()
	if err != nil || !at.Closed {
		return nil
	}
	at.Database = e.database()
	return e.noteShipped(at)
}

func (e *embedded) readShipped() (at shipped, err error) {
	text, err := os.ReadFile(e.shippedFile())
	if err == nil {
		err = json.Unmarshal(text, &at)
	}
	return at, err
}

func (e *embedded) shippedFile() string { return filepath.Join(filepath.Dir(e.path), shippedState) }

// shippedSoFar tells how far it is, and begins a new generation where nothing that was shipped can be gone on from.
func (e *embedded) shippedSoFar(s Shipping) (shipped, error) {
	at, err := e.readShipped()
	salt, size, logErr := e.log()
	if logErr != nil {
		return at, logErr
	}
	_, gone := os.Stat(filepath.Join(s.To, at.Generation, baseFile))
	if err == nil && gone == nil && at.Generation != "" && at.To == s.To && segmentIs(s, at) {
		if at.Salt == "" && at.Size == 0 {
			at.Salt = salt
		}
		if salt == at.Salt && size >= at.Size {
			return at, nil
		}
	}
	if err := e.generation(s); err != nil {
		return at, err
	}
	return e.readShipped()
}

// segmentIs tells whether the segment has as much as was noted.
func segmentIs(s Shipping, at shipped) bool {
	info, err := os.Stat(segment(s, at))
	return err == nil && info.Size() >= at.Size || at.Size == 0 && errors.Is(err, fs.ErrNotExist)
}

func segment(s Shipping, at shipped) string {
	return filepath.Join(s.To, at.Generation, fmt.Sprintf("%08d%s", at.Segment, segmentEnd))
}

// log gives what tells the present log from others, and its size; nothing where there is none.
func (e *embedded) log() (salt string, size int64, err error) {
	file, err := os.Open(e.path + "-wal")
	if errors.Is(err, fs.ErrNotExist) {
		return "", 0, nil
	}
	if err != nil {
		return "", 0, err
	}
	defer file.Close()
	head := make([]byte, logHeader)
	if _, err := io.ReadFull(file, head); errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return "", 0, nil
	} else if err != nil {
		return "", 0, err
	}
	info, err := file.Stat()
	if err != nil {
		return "", 0, err
	}
	return hex.EncodeToString(head[saltAt : saltAt+saltSize]), info.Size(), nil
}

// shipLog appends to the segment what the log has more. The database itself knows where the last whole transaction ends.
func (e *embedded) shipLog(s Shipping, at *shipped) error {
	salt, size, err := e.log()
	if err != nil || size == 0 || size == at.Size && salt == at.Salt {
		return err
	}
	if at.Salt == "" {
		at.Salt = salt
	}
	if salt != at.Salt {
		return nil // it is begun anew just now: the next look goes on with it
	}
	from, err := os.Open(e.path + "-wal")
	if err != nil {
		return err
	}
	defer from.Close()
	if err := disk.MakeFolder(disk.Machine, filepath.Join(s.To, at.Generation), 0o700); err != nil {
		return err
	}
	name := segment(s, *at)
	to, err := os.OpenFile(name, os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(io.NewOffsetWriter(to, at.Size), io.NewSectionReader(from, at.Size, size-at.Size))
	err = errors.Join(err, to.Sync(), to.Close())
	if err == nil && at.Size == 0 {
		err = disk.Machine.Flush(filepath.Dir(name))
	}
	if err != nil {
		return err
	}
	at.Bytes += size - at.Size
	at.Size, at.Closed = size, false
	return e.noteShipped(*at)
}

func (e *embedded) noteShipped(at shipped) error {
	text, err := json.Marshal(at)
	if err != nil {
		return err
	}
	return disk.Keep(disk.Machine, e.shippedFile(), text, 0o600)
}

// beginLog brings the log into the database and begins it anew, if all of it was shipped. The folder is not asked for
// anything meanwhile: one that hangs must not keep anything from being recorded.
func (e *embedded) beginLog(at shipped) error {
	e.mu.Lock() // nothing is recorded meanwhile
	defer e.mu.Unlock()
	if _, size, err := e.log(); err != nil || size != at.Size {
		return err // more came in between: another time
	}
	at.Closed = true
	if err := e.noteShipped(at); err != nil {
		return err
	}
	var busy, frames, moved int
	if err := e.write.QueryRow("PRAGMA wal_checkpoint(TRUNCATE)").Scan(&busy, &frames, &moved); err != nil {
		return explain(err)
	}
	at.Closed = false
	if busy == 0 { // nobody reads of it any more
		at.Segment, at.Salt, at.Size = at.Segment+1, "", 0
	}
	return e.noteShipped(at)
}

// endShipping ships the rest before the ledger is closed, which brings the log into the database.
func (e *embedded) endShipping(s Shipping) error {
	at, err := e.shippedSoFar(s)
	if err == nil {
		err = e.shipLog(s, &at)
	}
	if err != nil {
		return err
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if _, size, err := e.log(); err != nil || size != at.Size {
		return err
	}
	at.Closed = true
	return e.noteShipped(at)
}

// generation begins a new generation with the database as it is, and lets old ones go.
func (e *embedded) generation(s Shipping) error {
	at := shipped{Generation: time.Now().UTC().Format("20060102T150405.000000000Z"), To: s.To, Segment: 1}
	folder := filepath.Join(s.To, at.Generation)
	if err := disk.MakeFolder(disk.Machine, folder, 0o700); err != nil {
		return err
	}
	half := filepath.Join(folder, halfBase+baseFile)
	size, err := e.copyBase(half)
	if err == nil {
		err = disk.Machine.Rename(half, filepath.Join(folder, baseFile))
	}
	if err == nil {
		err = disk.Machine.Flush(folder)
	}
	if err != nil {
		os.RemoveAll(folder)
		return err
	}
	at.Base = size
	if err := e.noteShipped(at); err != nil {
		return err
	}
	return e.forgetOld(s)
}

// copyBase copies the database without its log. It changes only when the log is brought into it, which nobody but shipping does.
func (e *embedded) copyBase(to string) (int64, error) {
	from, err := os.Open(e.path)
	if err != nil {
		return 0, err
	}
	defer from.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return 0, err
	}
	size, err := io.Copy(out, from)
	return size, errors.Join(err, out.Sync(), out.Close())
}

// generations are the folders of whole generations, oldest first.
func generations(folder string) (all []string, err error) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, err
	}
	for _, entry := range entries {
		if _, err := os.Stat(filepath.Join(folder, entry.Name(), baseFile)); err == nil {
			all = append(all, entry.Name())
		}
	}
	slices.Sort(all)
	return all, nil
}

func (e *embedded) forgetOld(s Shipping) error {
	all, err := generations(s.To)
	if err != nil {
		return err
	}
	var failed []error
	for _, old := range all[:max(0, len(all)-keepsOld)] {
		failed = append(failed, os.RemoveAll(filepath.Join(s.To, old)))
	}
	return errors.Join(failed...)
}

// Rebuild makes a ledger of what was shipped to a folder, as it was when something was shipped last, in a file that is not
// there yet.
func Rebuild(folder, to string) (facts int64, err error) {
	all, err := generations(folder)
	if err == nil && len(all) == 0 {
		err = errors.New("there is no whole generation in it")
	}
	if err != nil {
		return 0, fmt.Errorf("rebuild the ledger from %s: %w", folder, err)
	}
	newest := filepath.Join(folder, all[len(all)-1])
	if err := copyTo(filepath.Join(newest, baseFile), to); err != nil {
		return 0, fmt.Errorf("rebuild the ledger: %w", err)
	}
	segments, err := filepath.Glob(filepath.Join(newest, "*"+segmentEnd))
	if err != nil {
		return 0, err
	}
	slices.Sort(segments)
	for i, name := range segments {
		if base := filepath.Base(name); base != fmt.Sprintf("%08d%s", i+1, segmentEnd) {
			return 0, fmt.Errorf("rebuild the ledger from %s: the segment %08d is missing before %s", newest, i+1, strings.TrimSuffix(base, segmentEnd))
		}
		if err := replay(name, to); err != nil {
			return 0, fmt.Errorf("rebuild the ledger: %s: %w", filepath.Base(name), err)
		}
	}
	return Check(to)
}

// replay brings a segment of the log into a database.
func replay(segment, to string) error {
	if err := copyTo(segment, to+"-wal"); err != nil {
		return err
	}
	db, err := openFile(to, "rw")
	if err != nil {
		return err
	}
	db.SetMaxOpenConns(1)
	var busy, frames, moved int
	err = db.QueryRow("PRAGMA wal_checkpoint(TRUNCATE)").Scan(&busy, &frames, &moved)
	if err == nil && busy != 0 {
		err = errors.New("somebody else has it open")
	}
	return errors.Join(err, db.Close())
}

func copyTo(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrExist) && strings.HasSuffix(to, "-wal") {
		out, err = os.OpenFile(to, os.O_TRUNC|os.O_WRONLY, 0o600)
	}
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Sync(), out.Close())
}
