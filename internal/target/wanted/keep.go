package wanted

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/disk"
)

// A book is a folder with a page for each workload, and the page as it was before that, for the day on which the disk has
// spoilt the newer one.
const (
	pageFormat = 2
	pageSuffix = ".json"
	before     = ".before"
)

// kept is a page as it is on disk.
type kept struct {
	Format int `json:"format"`
	*page
}

// Open reads the book of a site from a folder, which is made where it is not there yet. Without a folder nothing is kept.
// whole is the file that had all of the book in the first format, and is made pages of.
func Open(site, folder, whole string, d disk.Disk) (*Book, error) {
	b := &Book{site: site, disk: d, pages: map[string]*page{}, unkept: map[string]bool{}, spoilt: map[string]error{}}
	if folder == "" {
		return b, nil
	}
	b.folder = folder
	if err := disk.MakeFolder(d, b.folder, 0o700); err != nil {
		return nil, fmt.Errorf("open what the site %s is asked to run: %w", site, err)
	}
	disk.Tidy(d, b.folder)
	entries, err := os.ReadDir(b.folder)
	if err != nil {
		return nil, fmt.Errorf("open what the site %s is asked to run: %w", site, err)
	}
	names := map[string]bool{}
	for _, entry := range entries {
		if name, ok := strings.CutSuffix(strings.TrimSuffix(entry.Name(), before), pageSuffix); ok && !strings.HasPrefix(name, ".") {
			names[name] = true
		} else if name, _, ok := strings.Cut(entry.Name(), pageSuffix+".damaged-"); ok {
			names[name] = true
		}
	}
	for name := range names {
		b.open(name)
	}
	if err := b.upgrade(whole); err != nil {
		return nil, fmt.Errorf("open what the site %s is asked to run: %w", site, err)
	}
	return b, nil
}

// open reads a page: as it is, else as it was before. A page of which neither can be read is set aside, and nothing is
// done with its workload until somebody has seen to it.
func (b *Book) open(name string) {
	at := filepath.Join(b.folder, name+pageSuffix)
	p, err := b.read(at)
	if errors.Is(err, fs.ErrNotExist) {
		if aside, _ := filepath.Glob(at + ".damaged-*"); len(aside) == 0 {
			b.disk.Remove(at + before) // it was taken away, and that had not come to an end
			return
		}
	} else if err != nil {
		older, err2 := b.read(at + before)
		if p = older; err2 != nil {
			disk.SetAside(b.disk, at, time.Now())
			b.disk.Remove(at + before)
		} else if b.disk.Rename(at+before, at) != nil {
			b.unkept[p.Workload] = true
		}
	}
	if p != nil {
		p.site = b.site
		b.pages[p.Workload] = p
		return
	}
	workload, _ := url.PathUnescape(name)
	b.spoilt[workload] = fmt.Errorf("what %s is asked to run at %s is damaged on disk, and so is the copy before it; what runs there goes on, and nothing of it is changed: put %s back from a backup, or remove %s.damaged-* to have it asked for anew, and start again",
		workload, b.site, at, at)
}

func (b *Book) read(file string) (*page, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	k := kept{page: &page{}}
	if err := json.Unmarshal(text, &k); err != nil {
		return nil, fmt.Errorf("read %s: %w", file, err)
	}
	switch {
	case k.Format > pageFormat:
		return nil, fmt.Errorf("read %s: it was written by a newer Aditus (format %d, this one knows %d): use that one", file, k.Format, pageFormat)
	case k.Format != pageFormat || k.Workload == "" || k.Cohorts == nil:
		return nil, fmt.Errorf("read %s: it is not whole", file)
	}
	return k.page, nil
}

// upgrade makes pages of a book that is one file.
func (b *Book) upgrade(file string) error {
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	var whole map[string]map[declare.Fingerprint]*Cohort
	if err == nil {
		err = json.Unmarshal(text, &whole)
	}
	if err != nil {
		return fmt.Errorf("read %s: %w; put it back from a backup", file, err)
	}
	for workload, cohorts := range whole {
		if b.pages[workload] == nil {
			b.pages[workload], b.unkept[workload] = &page{Workload: workload, Cohorts: cohorts, site: b.site}, true
		}
	}
	if err := b.keep(); err != nil {
		return err
	}
	if err := b.disk.Remove(file); err != nil {
		return err
	}
	return b.disk.Flush(filepath.Dir(file))
}

// keep writes what is not on disk yet. It is called with the lock held.
func (b *Book) keep() error {
	if b.folder == "" || b.together {
		return nil
	}
	for workload := range b.unkept {
		if err := b.keepPage(workload); err != nil {
			return fmt.Errorf("keep what the site %s is asked to run: %w", b.site, err)
		}
		delete(b.unkept, workload)
	}
	return nil
}

func (b *Book) keepPage(workload string) error {
	file, p := filepath.Join(b.folder, url.PathEscape(workload)+pageSuffix), b.pages[workload]
	_, missing := os.Lstat(file)
	if p == nil || len(p.Cohorts) == 0 {
		delete(b.pages, workload)
		if missing != nil {
			return nil
		}
		if err := b.disk.Remove(file); err != nil {
			return err
		}
		b.disk.Remove(file + before)
		return b.disk.Flush(b.folder)
	}
	text, err := json.Marshal(kept{pageFormat, p})
	if err != nil {
		return err
	}
	if missing == nil { // what is lost of this at a power cut is only the copy
		b.disk.Remove(file + before)
		b.disk.Link(file, file+before) // where that cannot be there is none
	}
	return disk.Keep(b.disk, file, text, 0o600)
}
