package source

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/go-git/go-git/v5/plumbing"

	"aditus/internal/config"
)

// packOf makes a pack of one object, whatever it says of itself.
func packOf(kind plumbing.ObjectType, size uint64, content []byte) []byte {
	out := []byte("PACK\x00\x00\x00\x02\x00\x00\x00\x01")
	first := byte(kind)<<4 | byte(size&15)
	for size >>= 4; size > 0; size >>= 7 {
		out = append(out, first|0x80)
		first = byte(size & 0x7f)
	}
	out = append(out, first)
	if kind == plumbing.REFDeltaObject {
		out = append(out, make([]byte, 20)...)
	}
	var packed bytes.Buffer
	w := zlib.NewWriter(&packed)
	w.Write(content)
	w.Close()
	return append(append(out, packed.Bytes()...), make([]byte, 20)...)
}

// TestLookThrough refuses packs of which a few bytes stand for a great many.
func TestLookThrough(t *testing.T) {
	delta := func(target uint64) []byte {
		return binary.AppendUvarint(binary.AppendUvarint(nil, 1), target)
	}
	for name, test := range map[string]struct {
		pack []byte
		fits bool
	}{
		"small":             {packOf(plumbing.BlobObject, 3, []byte("abc")), true},
		"large":             {packOf(plumbing.BlobObject, uint64(maxReceived)+1, []byte("abc")), false},
		"a small delta":     {packOf(plumbing.REFDeltaObject, uint64(len(delta(100))), delta(100)), true},
		"a large delta":     {packOf(plumbing.REFDeltaObject, uint64(len(delta(1<<40))), delta(1<<40)), false},
		"beyond all bounds": {packOf(plumbing.REFDeltaObject, uint64(len(delta(1<<63))), delta(1<<63)), false},
	} {
		if err := lookThrough(bytes.NewReader(test.pack)); test.fits && err != nil || !test.fits && !errors.Is(err, errTooLarge) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestLargeObjects reads repositories into which somebody pushed a little that stands for a lot: they are refused, without the memory
// that it would take.
func TestLargeObjects(t *testing.T) {
	before := maxReceived
	maxReceived = 80 << 20
	defer func() { maxReceived = before }()
	r := newRepo(t)
	r.commit("First", map[string]string{"workloads/a.yaml": "a: 1\n"})
	push := func(size int64) {
		t.Helper()
		large := filepath.Join(r.folder, "workloads", "b.yaml")
		file, err := os.Create(large)
		if err == nil {
			err = errors.Join(file.Truncate(size), file.Close())
		}
		if err != nil {
			t.Fatal(err)
		}
		for _, args := range [][]string{{"add", "."}, {"-c", "user.name=x", "-c", "user.email=x@skerry.example", "commit", "-qm", "Large"}} {
			cmd := exec.Command("git", args...)
			cmd.Dir = r.folder
			cmd.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_SYSTEM=/dev/null", "GIT_CONFIG_NOSYSTEM=1") // no filters
			if out, err := cmd.CombinedOutput(); err != nil {
				t.Skipf("git: %v %s", err, out)
			}
		}
		os.Remove(large)
	}
	read := func(what string, link config.Link) {
		t.Helper()
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		_, err := Ask(t.Context(), link, Access{Cache: filepath.Join(t.TempDir(), "copy")}, Seen{}, false)
		runtime.ReadMemStats(&after)
		if took := (after.TotalAlloc - before.TotalAlloc) >> 20; !errors.Is(err, errTooLarge) || took > 200 {
			t.Errorf("%s: it took %d MB: %v", what, took, err)
		}
		if err != nil && strings.Contains(err.Error(), "damaged") {
			t.Errorf("%s: what is large is taken for damaged: %v", what, err)
		}
	}
	server := httptest.NewServer(gitBackend(t, filepath.Dir(r.folder)))
	defer server.Close()
	here := config.Link{Name: "test", Repository: r.folder, Branch: "main", Folder: "workloads", Every: time.Minute}
	away := here
	away.Repository = server.URL + "/" + filepath.Base(r.folder) + "/.git"
	push(maxObject + 1)
	read("a large declaration here", here)
	read("a large declaration elsewhere", away)
	push(maxReceived + 1)
	read("a larger one here", here)
	read("a larger one elsewhere", away)
}
