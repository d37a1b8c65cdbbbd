package store

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/layout"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/tarball"

	"aditus/internal/disk"
)

func tarOf(t testing.TB, headers ...tar.Header) []byte {
	t.Helper()
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, h := range headers {
		text := strings.Repeat("x", int(h.Size))
		if err := w.WriteHeader(&h); err != nil {
			t.Fatal(err)
		}
		io.WriteString(w, text)
	}
	w.Close()
	return out.Bytes()
}

func file(name string, size int64) tar.Header {
	return tar.Header{Name: name, Mode: 0o4755, Size: size, Typeflag: tar.TypeReg}
}

func image(t testing.TB, config v1.Config, headers ...tar.Header) v1.Image {
	t.Helper()
	content := tarOf(t, headers...)
	layer, err := tarball.LayerFromOpener(func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(content)), nil })
	if err != nil {
		t.Fatal(err)
	}
	made, err := mutate.AppendLayers(empty.Image, layer)
	if err == nil {
		made, err = mutate.Config(made, config)
	}
	if err != nil {
		t.Fatal(err)
	}
	return made
}

// got waits for what becomes of a reference.
func got(t testing.TB, s *Store, reference string) (Unpacked, error) {
	t.Helper()
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(time.Millisecond) {
		if u, err := s.Get(reference); !errors.Is(err, ErrWorking) {
			return u, err
		}
	}
	t.Fatalf("nothing becomes of %s", reference)
	return Unpacked{}, nil
}

// TestExtract sees that nothing in an archive leads out of its folder.
func TestExtract(t *testing.T) {
	link := func(name, to string) tar.Header {
		return tar.Header{Name: name, Linkname: to, Typeflag: tar.TypeSymlink}
	}
	for name, test := range map[string]struct {
		headers []tar.Header
		bad     bool
	}{
		"files":                        {[]tar.Header{file("bin/web", 3), file("/etc/web", 3), link("web", "/bin/web"), link("a/b/up", "../../bin/web")}, false},
		"a later file takes the place": {[]tar.Header{file("web", 3), link("web", "etc"), file("web", 5)}, false},
		"devices are left out":         {[]tar.Header{file("web", 3), {Name: "null", Typeflag: tar.TypeChar}}, false},
		"a name that leads out":        {[]tar.Header{file("../web", 3)}, true},
		"deeper":                       {[]tar.Header{file("a/../../web", 3)}, true},
		"a link that leads out":        {[]tar.Header{link("web", "../../etc/passwd")}, true},
		"a hard link that leads out":   {[]tar.Header{{Name: "web", Linkname: "../other", Typeflag: tar.TypeLink}}, true},
		"nothing":                      {nil, true},
	} {
		folder := t.TempDir()
		outside := filepath.Join(folder, "outside")
		os.WriteFile(outside, []byte("untouched"), 0o600)
		_, err := extract(bytes.NewReader(tarOf(t, test.headers...)), filepath.Join(folder, "root"))
		if (err != nil) != test.bad || test.bad && !errors.Is(err, ErrBad) {
			t.Errorf("%s: %v", name, err)
		}
		if text, _ := os.ReadFile(outside); string(text) != "untouched" {
			t.Errorf("%s: a file outside was written", name)
		}
		if entries, _ := os.ReadDir(folder); len(entries) > 2 {
			t.Errorf("%s: there are %v", name, entries)
		}
	}
	folder := filepath.Join(t.TempDir(), "root")
	if _, err := extract(bytes.NewReader(tarOf(t, file("web", 3))), folder); err != nil {
		t.Fatal(err)
	}
	if info, _ := os.Stat(filepath.Join(folder, "web")); info.Mode() != 0o755 {
		t.Errorf("the mode is %v: special bits are not taken over", info.Mode())
	}
}

// TestStore fetches, keeps side by side, cleans, and finds again what it had.
func TestStore(t *testing.T) {
	images := map[string]v1.Image{}
	for n := range 4 {
		images[fmt.Sprintf("r.example/web:%d", n)] = image(t, v1.Config{Entrypoint: []string{"/bin/web"}, Env: []string{"A=b"}, WorkingDir: "/srv"}, file("bin/web", 1000+int64(n)), file("srv/page", 1))
	}
	fetched := 0
	fetch := func(_ context.Context, reference string) (v1.Image, error) {
		fetched++
		if reference == "r.example/away:1" {
			return nil, errors.New("the registry cannot be asked")
		}
		if found := images[reference]; found != nil {
			return found, nil
		}
		return nil, fmt.Errorf("%w: %s", ErrNone, reference)
	}
	folder := t.TempDir()
	s, err := Open(folder, 2500, fetch, disk.Machine)
	if err != nil {
		t.Fatal(err)
	}
	used := []string{"r.example/web:0"}
	s.Use("test", func() []string { return used }, func() {})
	for n := range 4 {
		u, err := got(t, s, fmt.Sprintf("r.example/web:%d", n))
		if err != nil || u.Size < 1000 {
			t.Fatalf("%+v %v", u, err)
		}
		args, err := u.Command(nil, Machine{})
		if err != nil || args[0] != filepath.Join(u.Root, "bin/web") || u.Folder() != filepath.Join(u.Root, "srv") {
			t.Errorf("%v %v in %s", args, err, u.Folder())
		}
		time.Sleep(2 * time.Millisecond) // so that one is older than the next
	}
	left, _ := filepath.Glob(filepath.Join(folder, "sha256-*"))
	if len(left) != 3 {
		t.Errorf("%d are left: the one in use, and two of 2500 bytes", len(left))
	}
	before := fetched
	if s, err = Open(folder, 2500, fetch, disk.Machine); err != nil {
		t.Fatal(err)
	}
	if _, err := got(t, s, "r.example/web:0"); err != nil || fetched != before {
		t.Errorf("what was there is fetched again: %v", err)
	}
	if _, err := got(t, s, "r.example/web:9"); !errors.Is(err, ErrNone) || !Final(err) {
		t.Errorf("what does not exist: %v", err)
	}
	if _, err := got(t, s, "r.example/away:1"); err == nil || Final(err) {
		t.Errorf("a registry that is away: %v", err)
	}
}

// TestLayout takes images from a layout in a folder, and in an archive, and refuses one that was changed.
func TestLayout(t *testing.T) {
	folder := t.TempDir()
	path, err := layout.Write(folder, empty.Index)
	if err != nil {
		t.Fatal(err)
	}
	for _, tag := range []string{"1.0.0", "1.1.0"} {
		if err := path.AppendImage(image(t, v1.Config{Cmd: []string{"web"}}, file("web", int64(len(tag))), file(tag, 1)), layout.WithAnnotations(map[string]string{"org.opencontainers.image.ref.name": tag})); err != nil {
			t.Fatal(err)
		}
	}
	open := func() *Store {
		s, err := Open(t.TempDir(), 1<<20, func(context.Context, string) (v1.Image, error) { return nil, ErrNone }, disk.Machine)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	s := open()
	u, err := got(t, s, "file:"+folder+":1.1.0")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(u.Root, "1.1.0")); err != nil {
		t.Error("another version came")
	}
	if _, err := got(t, s, "file:"+folder); !errors.Is(err, ErrNone) {
		t.Errorf("two may be meant: %v", err)
	}
	if _, err := got(t, s, "file:"+folder+":9"); !errors.Is(err, ErrNone) {
		t.Errorf("a tag that is not there: %v", err)
	}
	manifest, _ := mustIndex(t, folder)
	blob := filepath.Join(folder, "blobs", "sha256", manifest.Manifests[0].Digest.Hex)
	text, _ := os.ReadFile(blob)
	if err := os.WriteFile(blob, append(text, ' '), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := got(t, open(), "file:"+folder+":1.0.0"); !errors.Is(err, ErrBad) {
		t.Errorf("a manifest that was changed: %v", err)
	}
}

func mustIndex(t *testing.T, folder string) (*v1.IndexManifest, error) {
	t.Helper()
	index, err := layout.ImageIndexFromPath(folder)
	if err != nil {
		t.Fatal(err)
	}
	return index.IndexManifest()
}
