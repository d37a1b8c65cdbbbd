// Package backup makes one file of all that a data folder needs to go on elsewhere, checked, and puts it back. What can be had
// again is not in it: artifacts, copies of repositories, logs; nor what volumes hold, which is a workload's own.
package backup

import (
	"archive/tar"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"aditus/internal/config"
	"aditus/internal/disk"
	"aditus/internal/ledger"
)

// Format is the version of what a backup has in it.
const Format = 1

// manifestName is the first entry of a backup: what it holds. docs/backup.md describes it.
const manifestName = "backup.json"

// Manifest says what a backup holds.
type Manifest struct {
	Format int       `json:"format"`
	Made   time.Time `json:"made"`
	Line   string    `json:"line"`
	Facts  int64     `json:"facts"` // in the ledger
	Files  []File    `json:"files"`
}

// File is one file of a backup.
type File struct {
	Name   string `json:"name"` // in the data folder, with slashes
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}

// kept are the files of a data folder that are in a backup, beside the ledger, where they are there; asked are those that say
// what sites were asked to run, which are only put back where the site does not know better.
var (
	kept  = []string{config.FileName, "key.txt", "credentials.age", "tokens.json"}
	asked = []string{"local/*/asked/*.json", "sites/*/*.json", "sites/*.yaml"}
)

// mostBytes bounds what one file of a backup may hold.
const mostBytes = 1 << 40

// Write writes a backup of a data folder, also while a program works on it. What sites were asked to run is read before the
// ledger, so that the ledger is never older than that.
func Write(folder string, out io.Writer, now time.Time) (Manifest, error) {
	m := Manifest{Format: Format, Made: now.UTC()}
	half, err := os.MkdirTemp(folder, ".backup-")
	if err != nil {
		return m, fmt.Errorf("make a backup: %w", err)
	}
	defer os.RemoveAll(half)
	var settings config.Settings
	if text, err := os.ReadFile(filepath.Join(folder, config.FileName)); err == nil {
		if settings, err = config.Read(config.FileName, text); err != nil {
			return m, fmt.Errorf("make a backup: %w", err)
		}
		m.Line = settings.Line
	}
	names, err := named(folder)
	if err != nil {
		return m, fmt.Errorf("make a backup: %w", err)
	}
	at := map[string]string{}
	for _, name := range names {
		copied := filepath.Join(half, fmt.Sprint(len(at)))
		err := copyFile(filepath.Join(folder, filepath.FromSlash(name)), copied)
		if errors.Is(err, fs.ErrNotExist) {
			continue // it has just gone
		} else if err != nil {
			return m, fmt.Errorf("make a backup: %w", err)
		}
		at[name] = copied
	}
	at[ledger.FileName] = filepath.Join(half, ledger.FileName)
	book, err := ledger.OpenRecord(settings.Ledger, folder)
	if err != nil {
		return m, fmt.Errorf("make a backup: %w", err)
	}
	err = book.Copy(at[ledger.FileName])
	if err = errors.Join(err, book.Close()); err != nil {
		return m, fmt.Errorf("make a backup: %w", err)
	}
	if m.Facts, err = ledger.Check(at[ledger.FileName]); err != nil {
		return m, fmt.Errorf("make a backup: %w", err)
	}
	for name, copied := range at {
		file, err := summed(copied)
		if err != nil {
			return m, fmt.Errorf("make a backup: %w", err)
		}
		file.Name = name
		m.Files = append(m.Files, file)
	}
	slices.SortFunc(m.Files, func(a, b File) int { return strings.Compare(a.Name, b.Name) })
	return m, m.write(out, at)
}

// named are the files that are there.
func named(folder string) ([]string, error) {
	names := slices.Clone(kept)
	for _, pattern := range asked {
		found, err := filepath.Glob(filepath.Join(folder, filepath.FromSlash(pattern)))
		if err != nil {
			return nil, err
		}
		for _, name := range found {
			rel, err := filepath.Rel(folder, name)
			if err != nil {
				return nil, err
			}
			names = append(names, filepath.ToSlash(rel))
		}
	}
	return names, nil
}

func (m Manifest) write(out io.Writer, at map[string]string) error {
	zipped := gzip.NewWriter(out)
	archive := tar.NewWriter(zipped)
	text, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	header := func(name string, size int64) error {
		return archive.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: size, ModTime: m.Made, Format: tar.FormatPAX})
	}
	if err = header(manifestName, int64(len(text))); err == nil {
		_, err = archive.Write(text)
	}
	for _, file := range m.Files {
		if err == nil {
			err = header(file.Name, file.Size)
		}
		if err == nil {
			err = copyInto(archive, at[file.Name])
		}
	}
	if err = errors.Join(err, archive.Close(), zipped.Close()); err != nil {
		return fmt.Errorf("write the backup: %w", err)
	}
	return nil
}

func copyInto(out io.Writer, name string) error {
	in, err := os.Open(name)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, in.Close())
}

func copyFile(from, to string) error {
	text, err := os.ReadFile(from) // none of them is large
	if err != nil {
		return err
	}
	return os.WriteFile(to, text, 0o600)
}

func summed(name string) (File, error) {
	in, err := os.Open(name)
	if err != nil {
		return File{}, err
	}
	sum := sha256.New()
	size, err := io.Copy(sum, in)
	return File{Size: size, SHA256: hex.EncodeToString(sum.Sum(nil))}, errors.Join(err, in.Close())
}

// Unpack reads a backup into a folder that is empty, and holds all of it against its checksums: a backup that is not whole is
// not used in part. Without a folder it is only checked.
func Unpack(in io.Reader, folder string) (m Manifest, err error) {
	if folder == "" {
		if folder, err = os.MkdirTemp("", "aditus-backup-"); err != nil {
			return m, err
		}
		defer os.RemoveAll(folder)
	}
	unzipped, err := gzip.NewReader(in)
	if err != nil {
		return m, fmt.Errorf("this is no backup: %w", err)
	}
	archive := tar.NewReader(unzipped)
	first, err := archive.Next()
	if err != nil || first.Name != manifestName {
		return m, errors.New("this is no backup of Aditus: it does not begin with " + manifestName)
	}
	if err := json.NewDecoder(io.LimitReader(archive, 64<<20)).Decode(&m); err != nil {
		return m, fmt.Errorf("the backup is damaged: %w", err)
	}
	if m.Format > Format {
		return m, fmt.Errorf("the backup was made by a newer Aditus (format %d, this one knows %d): use that one", m.Format, Format)
	}
	for _, file := range m.Files {
		header, err := archive.Next()
		switch {
		case err != nil:
			return m, fmt.Errorf("the backup is not whole, %s is missing: %w", file.Name, err)
		case header.Name != file.Name || !filepath.IsLocal(filepath.FromSlash(file.Name)) || path.Clean(file.Name) != file.Name || file.Size > mostBytes:
			return m, fmt.Errorf("the backup is damaged at %q", header.Name)
		}
		if err := unpackFile(archive, filepath.Join(folder, filepath.FromSlash(file.Name)), file); err != nil {
			return m, err
		}
	}
	facts, err := ledger.Check(filepath.Join(folder, ledger.FileName))
	if err == nil && facts != m.Facts {
		err = fmt.Errorf("its ledger has %d facts, and should have %d", facts, m.Facts)
	}
	if err != nil {
		return m, fmt.Errorf("the backup is damaged: %w", err)
	}
	return m, nil
}

func unpackFile(in io.Reader, to string, file File) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	sum := sha256.New()
	size, err := io.Copy(io.MultiWriter(out, sum), io.LimitReader(in, file.Size+1))
	if err = errors.Join(err, out.Sync(), out.Close()); err != nil {
		return fmt.Errorf("read %s of the backup: %w", file.Name, err)
	}
	if size != file.Size || hex.EncodeToString(sum.Sum(nil)) != file.SHA256 {
		return fmt.Errorf("the backup is damaged: %s is not what was put into it", file.Name)
	}
	return nil
}

// Restore puts a backup into a data folder on which nothing works. What is there already stays beside it, with a name that
// says when; what sites on this machine were asked to run is never put back over what they know.
func Restore(in io.Reader, folder string, now time.Time) (m Manifest, aside []string, err error) {
	if err := disk.MakeFolder(disk.Machine, folder, 0o700); err != nil {
		return m, nil, fmt.Errorf("restore: %w", err)
	}
	half, err := os.MkdirTemp(folder, ".restore-")
	if err != nil {
		return m, nil, fmt.Errorf("restore: %w", err)
	}
	defer os.RemoveAll(half)
	if m, err = Unpack(in, half); err != nil {
		return m, nil, err
	}
	aside, err = place(half, folder, m.Files, now)
	if err != nil {
		return m, aside, fmt.Errorf("restore: %w; the folder may be half restored: mend that, and restore again", err)
	}
	return m, aside, nil
}

// RestoreShipped puts the ledger that was shipped to a folder into a data folder on which nothing works.
func RestoreShipped(from, folder string, now time.Time) (m Manifest, aside []string, err error) {
	half, err := os.MkdirTemp(folder, ".restore-")
	if err != nil {
		return m, nil, fmt.Errorf("restore: %w", err)
	}
	defer os.RemoveAll(half)
	if m.Facts, err = ledger.Rebuild(from, filepath.Join(half, ledger.FileName)); err != nil {
		return m, nil, err
	}
	m.Files = []File{{Name: ledger.FileName}}
	aside, err = place(half, folder, m.Files, now)
	return m, aside, err
}

// place moves unpacked files to where they belong, the ledger last.
func place(half, folder string, files []File, now time.Time) (aside []string, err error) {
	slices.SortStableFunc(files, func(a, b File) int { // false first
		return btoi(a.Name == ledger.FileName) - btoi(b.Name == ledger.FileName)
	})
	setAside := func(name string) error {
		if _, err := os.Lstat(name); errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		to := name + ".before-" + now.UTC().Format("20060102T150405Z")
		aside = append(aside, to)
		return disk.Machine.Rename(name, to)
	}
	for _, file := range files {
		to := filepath.Join(folder, filepath.FromSlash(file.Name))
		if _, err := os.Lstat(to); err == nil && strings.Contains(file.Name, "/") {
			continue // the site knows better
		}
		if err := disk.MakeFolder(disk.Machine, filepath.Dir(to), 0o700); err != nil {
			return aside, err
		}
		err := setAside(to)
		if file.Name == ledger.FileName {
			err = errors.Join(err, setAside(to+"-wal"), setAside(to+"-shm"))
		}
		if err == nil {
			err = disk.Machine.Rename(filepath.Join(half, filepath.FromSlash(file.Name)), to)
		}
		if err = errors.Join(err, disk.Machine.Flush(filepath.Dir(to))); err != nil {
			return aside, err
		}
	}
	return aside, nil
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}
