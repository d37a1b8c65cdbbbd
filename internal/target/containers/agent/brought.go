package agent

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"aditus/internal/disk"
	"aditus/internal/target/local/store"
)

// Brought is what the server brings to an agent as it is asked for: images, and the values of secrets, opened. Images are remembered on disk and
// values in memory, so that an agent that begins anew goes on without the server. It is safe for concurrent use.
type Brought struct {
	images string // the file of images
	values string // the file of values, on a file system in memory

	mu     sync.Mutex
	server int // how many servers listen
	has    map[string]Artifact
	asked  map[string]bool // artifacts
	gone   map[string]bool // artifacts that nobody was told of yet
	opened map[string]Opened
	sealed map[string]bool // values that are asked for
	users  map[string]func() []string
	ready  map[string]func()
	news   func() // tells whoever listens that more is asked for
	salt   []byte // of fingerprints of what nobody brought
}

// file modes
const own = 0o600

// OpenBrought reads what was brought before: images from a folder, and values from one on a file system in memory.
func OpenBrought(folder, memory string) *Brought {
	b := &Brought{
		images: filepath.Join(folder, "images.json"), values: filepath.Join(memory, "opened.json"), news: func() {}, salt: make([]byte, 32),
		has: map[string]Artifact{}, asked: map[string]bool{}, gone: map[string]bool{}, opened: map[string]Opened{}, sealed: map[string]bool{}, users: map[string]func() []string{}, ready: map[string]func(){},
	}
	rand.Read(b.salt)
	for file, into := range map[string]any{b.images: &b.has, b.values: &b.opened} {
		if text, err := os.ReadFile(file); err == nil && json.Unmarshal(text, into) != nil {
			os.Remove(file) // it is brought anew
		}
	}
	return b
}

// Use implements local.Images.
func (b *Brought) Use(user string, references func() []string, ready func()) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.users[user], b.ready[user] = references, ready
}

// forget forgets users that are no more.
func (b *Brought) forget(user string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.users, user)
	delete(b.ready, user)
}

// Get implements local.Images.
func (b *Brought) Get(reference string) (image string, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	a := b.has[reference]
	if a.Image != "" {
		return a.Image, nil
	}
	if !b.asked[reference] {
		b.asked[reference] = true
		defer b.news()
	}
	switch {
	case a.Why != "" && (b.server > 0 || a.Final):
		return "", a.err()
	case b.server > 0:
		return "", store.ErrWorking
	}
	return "", &told{"its image is brought by the Aditus that leads, which does not reach this machine now", store.ErrWorking}
}

// Gone implements local.Images.
func (b *Brought) Gone(reference string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.has[reference].Image != "" {
		delete(b.has, reference)
		b.asked[reference], b.gone[reference] = true, true
		b.news()
	}
}

// take takes what became of artifacts.
func (b *Brought) take(all map[string]Artifact) error {
	b.mu.Lock()
	came := false
	for reference, a := range all {
		b.has[reference] = a
		if a.Image != "" {
			delete(b.asked, reference)
		}
		came = came || !a.Working
	}
	kept := maps.Clone(b.has)
	b.mu.Unlock()
	if !came {
		return nil
	}
	maps.DeleteFunc(kept, func(_ string, a Artifact) bool { return a.Image == "" })
	err := keepJSON(b.images, kept)
	b.again()
	return err
}

// Open opens a value of a secret.
func (b *Brought) Open(sealed string) (string, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	o, is := b.opened[sealed]
	switch {
	case is && o.Why != "":
		return "", &told{o.Why, nil}
	case is:
		return o.Plain, nil
	}
	if !b.sealed[sealed] {
		b.sealed[sealed] = true
		b.news()
	}
	return "", &told{"it is opened by the Aditus that leads, which does not reach this machine now", nil}
}

// Mark gives the fingerprint of a value: the server's of one that it opened, and one that is nobody's else.
func (b *Brought) Mark(plain string) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	word := ""
	for _, o := range b.opened {
		if o.Plain == plain && o.Mark != "" {
			return o.Mark
		}
		if first, _, is := strings.Cut(o.Mark, " "); is {
			word = first + " "
		}
	}
	sum := hmac.New(sha256.New, b.salt)
	sum.Write([]byte(plain))
	return word + hex.EncodeToString(sum.Sum(nil)[:6])
}

// unseal takes values that were opened.
func (b *Brought) unseal(all map[string]Opened) error {
	if len(all) == 0 {
		return nil
	}
	b.mu.Lock()
	fresh := false
	for sealed, o := range all {
		fresh = fresh || b.opened[sealed] != o
		b.opened[sealed] = o
		delete(b.sealed, sealed)
	}
	kept := maps.Clone(b.opened)
	b.mu.Unlock()
	if !fresh {
		return nil
	}
	maps.DeleteFunc(kept, func(_ string, o Opened) bool { return o.Why != "" })
	return keepJSON(b.values, kept)
}

// again has all who ask for something try whether they have it now.
func (b *Brought) again() {
	b.mu.Lock()
	ready := slices.Collect(maps.Values(b.ready))
	b.mu.Unlock()
	for _, tell := range ready {
		tell()
	}
}

// wishes is all that is asked for. What is gone is told once.
func (b *Brought) wishes() (n News) {
	b.mu.Lock()
	users := slices.Collect(maps.Values(b.users))
	n.Asked, n.Sealed = slices.Sorted(maps.Keys(b.asked)), slices.Sorted(maps.Keys(b.sealed))
	n.Gone = slices.Sorted(maps.Keys(b.gone))
	clear(b.gone)
	b.mu.Unlock()
	used := map[string]bool{}
	for _, references := range users {
		for _, reference := range references() {
			used[reference] = true
		}
	}
	n.Used = slices.Sorted(maps.Keys(used))
	return n
}

// listen notes that a server listens, and how it is told that more is asked for, until done is called.
func (b *Brought) listen(news func()) (done func()) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.server++
	b.news = news
	return func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		b.server--
	}
}

// keepJSON keeps a value on disk, or in memory, for its owner alone.
func keepJSON(file string, value any) error {
	text, err := json.Marshal(value)
	if err == nil {
		err = disk.Keep(disk.Machine, file, text, own)
	}
	if err != nil {
		return fmt.Errorf("keep %s: %w", filepath.Base(file), err)
	}
	return nil
}
