package source

import (
	"io/fs"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"aditus/internal/config"
)

// TestSpoiltCopy damages each file of the copy of a repository in turn, and leaves what an unfinished fetch leaves: the
// next look has what the repository has, whatever it takes.
func TestSpoiltCopy(t *testing.T) {
	r := newRepo(t)
	server := httptest.NewServer(gitBackend(t, filepath.Dir(r.folder)))
	defer server.Close()
	link := config.Link{Name: "test", Repository: server.URL + "/" + filepath.Base(r.folder) + "/.git", Branch: "main", Folder: "workloads", Every: time.Minute}
	for n := range 3 {
		r.commit("Some", map[string]string{"workloads/a.yaml": "a: " + string(rune('1'+n)) + "\n"})
	}
	access := Access{Cache: filepath.Join(t.TempDir(), "copy")}
	seen, err := Ask(t.Context(), link, access, Seen{}, false)
	if err != nil {
		t.Fatal(err)
	}
	var files []string
	filepath.WalkDir(access.Cache, func(name string, entry fs.DirEntry, _ error) error {
		if rel, err := filepath.Rel(access.Cache, name); err == nil && entry.Type().IsRegular() {
			files = append(files, rel)
		}
		return nil
	})
	last, tried := seen.Seen, 0
	for i, name := range files {
		for way, spoil := range []func(string) error{os.Remove, func(at string) error { return os.Truncate(at, 0) }, func(at string) error { return os.Truncate(at, 25) }} {
			at := filepath.Join(access.Cache, name)
			if _, err := os.Stat(at); err != nil {
				continue // its copy was made anew, with packs of other names
			}
			os.Chmod(at, 0o600)
			left := filepath.Join(access.Cache, "objects", "pack", "tmp_pack_1")
			if err := spoil(at); err != nil || os.WriteFile(left, []byte("half"), 0o600) != nil {
				t.Fatal(err)
			}
			want := r.commit("Next", map[string]string{"workloads/a.yaml": "a: x" + string(rune('a'+i)) + string(rune('0'+way)) + "\n"})
			next, err := Ask(t.Context(), link, access, last, false)
			if err != nil || next.Commit != want || len(next.Files) != 1 {
				t.Errorf("%s damaged, way %d: %+v (%v)", name, way, next, err)
				continue
			}
			if _, err := os.Stat(left); err == nil {
				t.Errorf("%s damaged, way %d: an unfinished fetch is still there", name, way)
			}
			last = next.Seen
			tried++
		}
	}
	if tried < 5 {
		t.Errorf("only %d were tried, of %v", tried, files)
	}
}
