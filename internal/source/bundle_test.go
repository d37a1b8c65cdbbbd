package source

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/registry"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/static"

	"aditus/internal/config"
)

// registryAt serves a registry and gives it with its address. lies may change answers; nil for an honest one.
func registryAt(t testing.TB, lies func(http.Handler) http.Handler) (*Registries, string) {
	t.Helper()
	handler := http.Handler(registry.New(registry.Logger(log.New(io.Discard, "", 0))))
	if lies != nil {
		handler = lies(handler)
	}
	server := httptest.NewServer(handler)
	t.Cleanup(server.Close)
	host := strings.TrimPrefix(server.URL, "http://")
	return NewRegistries(map[string]config.Registry{host: {Plain: true}, "127.0.0.1:1": {}, "skipped.example": {Skip: true}}, nil), host
}

func (b Bundle) with(version string, files map[string]string) Bundle {
	b.Version, b.Files = version, nil
	for name, text := range files {
		b.Files = append(b.Files, File{Name: name, Text: []byte(text)})
	}
	return b
}

var madeUp = Bundle{Title: "Gates by day", Author: "Maren Oake", Created: time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)}

func TestBundle(t *testing.T) {
	r, host := registryAt(t, nil)
	place := "oci://" + host + "/line/base"
	for _, version := range []string{"1.3.0", "1.4.0", "1.10.1", "2.0.0-rc.1", "2.0.0"} {
		if _, err := r.Push(t.Context(), place, madeUp.with(version, map[string]string{"web.yaml": "version: " + version, "web/north.yaml": "x: 1"})); err != nil {
			t.Fatal(err)
		}
	}
	versions, err := r.Versions(t.Context(), place)
	if text := strings.Join(versions, " "); err != nil || text != "2.0.0 2.0.0-rc.1 1.10.1 1.4.0 1.3.0" {
		t.Errorf("versions are %s (%v)", text, err)
	}
	for wish, want := range map[string]string{"^1.3": "1.10.1", "1.4.0": "1.4.0", "~1.4": "1.4.0", ">=1, <1.10": "1.4.0", "*": "2.0.0", ">=2.0.0-0 <2.0.0": "2.0.0-rc.1", "2.0.0-rc.1": "2.0.0-rc.1"} {
		if got, err := Choose(wish, versions); err != nil || got != want {
			t.Errorf("%s takes %q, want %q (%v)", wish, got, want, err)
		}
	}
	for wish, want := range map[string]string{"^3": "there are 2.0.0, 2.0.0-rc.1", "1.5.0": "there is no 1.5.0", "newest": "is no version and no range"} {
		if _, err := Choose(wish, versions); !errors.Is(err, ErrNoVersion) || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", wish, err, want)
		}
	}
	b, err := r.Pull(t.Context(), place, "1.4.0")
	if err != nil || len(b.Files) != 2 || b.Title != "Gates by day" || !b.Created.Equal(madeUp.Created) || b.Files[0].Commit.Author != "Maren Oake" {
		t.Fatalf("%+v (%v)", b, err)
	}
	if same, err := r.Pull(t.Context(), place, b.Digest); err != nil || same.Version != "1.4.0" {
		t.Errorf("by digest: %+v (%v)", same, err)
	}
	if digest, err := r.Push(t.Context(), place, madeUp.with("1.4.0", map[string]string{"web.yaml": "version: 1.4.0", "web/north.yaml": "x: 1"})); err != nil || digest != b.Digest {
		t.Errorf("the same again: %s, want %s (%v)", digest, b.Digest, err)
	}
	if _, err := r.Push(t.Context(), place, madeUp.with("1.4.0", map[string]string{"web.yaml": "other"})); err == nil || !strings.Contains(err.Error(), "a version never changes") {
		t.Errorf("another content under a version: %v", err)
	}
	if _, err := r.Push(t.Context(), place, madeUp.with("latest", nil)); err == nil || !strings.Contains(err.Error(), "write it like 1.4.2") {
		t.Errorf("no version: %v", err)
	}

	link := config.Link{Name: "base", Repository: place, Version: "^1.3", Every: time.Minute, Plain: true}
	look, err := Ask(t.Context(), link, Access{}, Seen{}, false)
	if err != nil || !look.Changed || look.Ref != "1.10.1" || string(look.Files[0].Text) != "version: 1.10.1" {
		t.Fatalf("%+v (%v)", look, err)
	}
	if again, err := Ask(t.Context(), link, Access{}, look.Seen, false); err != nil || again.Changed {
		t.Errorf("nothing happened, and yet: %+v (%v)", again, err)
	}
	if _, err := r.Push(t.Context(), place, madeUp.with("1.11.0", map[string]string{"web.yaml": "version: 1.11.0"})); err != nil {
		t.Fatal(err)
	}
	if next, err := Ask(t.Context(), link, Access{}, look.Seen, false); err != nil || next.Ref != "1.11.0" {
		t.Errorf("a newer one: %+v (%v)", next, err)
	}
	for want, change := range map[string]func(*config.Link){
		"no version fits ^9": func(l *config.Link) { l.Version = "^9" }, "there is no artifact": func(l *config.Link) { l.Repository += "-gone" },
		"has no declarations in": func(l *config.Link) { l.Folder = "deep" }, "cannot be asked": func(l *config.Link) { l.Repository = "oci://127.0.0.1:1/x" },
	} {
		l := link
		change(&l)
		if _, err := Ask(t.Context(), l, Access{}, Seen{}, false); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
	image := mutate.MediaType(empty.Image, "application/vnd.oci.image.manifest.v1+json")
	image, _ = mutate.AppendLayers(image, static.NewLayer([]byte("hello"), "text/plain"))
	tag, _ := name.NewTag(host+"/line/image:1.0.0", name.Insecure)
	if err := remote.Write(tag, image); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Pull(t.Context(), "oci://"+host+"/line/image", "1.0.0"); err == nil || !strings.Contains(err.Error(), "is no bundle of declarations") {
		t.Errorf("an image: %v", err)
	}
}

// TestUnpack gives what must not be taken from an archive.
func TestUnpack(t *testing.T) {
	archive := func(headers ...tar.Header) []byte {
		var out bytes.Buffer
		zip := gzip.NewWriter(&out)
		w := tar.NewWriter(zip)
		for _, h := range headers {
			if h.Typeflag == 0 {
				h.Typeflag = tar.TypeReg
			}
			w.WriteHeader(&h)
			w.Write(make([]byte, h.Size))
		}
		w.Close()
		zip.Close()
		return out.Bytes()
	}
	for want, packed := range map[string][]byte{
		"../x.yaml": archive(tar.Header{Name: "../x.yaml"}), "/etc/x.yaml": archive(tar.Header{Name: "/etc/x.yaml"}), "leads out": archive(tar.Header{Name: "a/../../x.yaml"}), `a\\x`: archive(tar.Header{Name: `a\x.yaml`}),
		"is no plain file": archive(tar.Header{Name: "x.yaml", Typeflag: tar.TypeSymlink, Linkname: "/etc/passwd"}), "is damaged": []byte("not a gzip"),
		"unpacks to more": archive(tar.Header{Name: "x.yaml", Size: 1 << 20}, tar.Header{Name: "y.yaml", Size: 300 << 20}),
	} {
		if files, err := unpack(packed); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%d files (%v), want %q", len(files), err, want)
		}
	}
	if files, err := unpack(archive(tar.Header{Name: "b/", Typeflag: tar.TypeDir}, tar.Header{Name: "b/a.yaml"}, tar.Header{Name: "notes.md"})); err != nil || len(files) != 1 {
		t.Errorf("%+v (%v)", files, err)
	}
	if _, err := pack([]File{{Name: "../x"}}); err == nil {
		t.Error("a name that leads out was packed")
	}
}

// FuzzUnpack feeds archives: whatever comes, no name that leads out is given.
func FuzzUnpack(f *testing.F) {
	packed, _ := pack([]File{{Name: "a.yaml", Text: []byte("a: 1")}})
	f.Add(packed)
	f.Fuzz(func(t *testing.T, packed []byte) {
		files, err := unpack(packed)
		for _, file := range files {
			if err != nil || strings.HasPrefix(file.Name, "/") || strings.Contains(file.Name, "..") && !strings.Contains(file.Name, "...") && strings.HasPrefix(file.Name, "../") {
				t.Fatalf("%q (%v)", file.Name, err)
			}
		}
	})
}

// TestResolve pins artifacts to digests, keeps what it pinned, and says what is wrong with others.
func TestResolve(t *testing.T) {
	r, host := registryAt(t, nil)
	push := func(content string) string {
		image, _ := mutate.AppendLayers(empty.Image, static.NewLayer([]byte(content), "text/plain"))
		tag, _ := name.NewTag(host+"/line/web:1", name.Insecure)
		if err := remote.Write(tag, image); err != nil {
			t.Fatal(err)
		}
		digest, _ := image.Digest()
		return digest.String()
	}
	first := push("one")
	web := host + "/line/web:1"
	found := r.Resolve(t.Context(), []string{web, web + "@" + first, host + "/line/gone:1", "skipped.example/x:1", "127.0.0.1:1/x:1", host + "/line/web@sha256:" + strings.Repeat("0", 64)})
	if found.Pinned[web] != web+"@"+first || found.Pinned[web+"@"+first] != web+"@"+first || found.Pinned["skipped.example/x:1"] != "skipped.example/x:1" {
		t.Errorf("pinned is %v", found.Pinned)
	}
	for reference, want := range map[string]string{host + "/line/gone:1": "there is no artifact", "127.0.0.1:1/x:1": "cannot be asked", host + "/line/web@sha256:" + strings.Repeat("0", 64): "there is no artifact"} {
		if err := found.Problems[reference]; err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", reference, err, want)
		}
	}
	push("two")
	if again := r.Resolve(t.Context(), []string{web}); again.Pinned[web] != web+"@"+first {
		t.Errorf("a tag that moved changed what was pinned: %v", again.Pinned)
	}
	later := NewRegistries(map[string]config.Registry{host: {Plain: true}}, nil) // as after a restart
	later.Pin(web + "@" + first)
	later.Pin(host + "/line/other@" + first)
	if again := later.Resolve(t.Context(), []string{web}); again.Pinned[web] != web+"@"+first {
		t.Errorf("a tag that moved changed what was pinned before: %v", again.Pinned)
	}
	text := strings.ReplaceAll("--- web.yaml\naditus: 1\nworkload: web\nsites: [north]\nparts: {app: {kind: service, artifact: \"HOST/line/gone:1\"}}\n", "HOST", host)
	if _, problems := Load(t.Context(), tree(text), Options{Resolve: r.Resolve}); len(problems) != 1 || !strings.HasPrefix(problems[0].Error(), "web.yaml:4:40: there is no artifact "+host+"/line/gone:1") {
		t.Errorf("a missing artifact at check time: %v", problems)
	}
	loaded, problems := Load(t.Context(), tree(strings.Replace(text, "gone", "web", 1)), Options{Resolve: r.Resolve})
	if len(problems) > 0 || loaded.Declarations[0].Parts["app"].Artifact != web+"@"+first || loaded.Declarations[0].Version() != "1" {
		t.Errorf("%+v (%v)", loaded.Declarations, problems)
	}
}

// TestLies asks registries that tell another digest than what they give.
func TestLies(t *testing.T) {
	lie := false
	r, host := registryAt(t, func(honest http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, request *http.Request) {
			if lie && strings.Contains(request.URL.Path, "/manifests/") && request.Method == http.MethodGet {
				request.URL.Path = strings.Replace(request.URL.Path, "sha256:"+strings.Repeat("1", 64), "1.0.0", 1)
				recorded := httptest.NewRecorder()
				honest.ServeHTTP(recorded, request)
				w.Header().Set("Content-Type", recorded.Header().Get("Content-Type"))
				w.Header().Set("Docker-Content-Digest", fmt.Sprintf("sha256:%x", sha256.Sum256([]byte("something else"))))
				w.Write(recorded.Body.Bytes())
				return
			}
			if lie && strings.Contains(request.URL.Path, "/blobs/") {
				io.WriteString(w, "something else")
				return
			}
			honest.ServeHTTP(w, request)
		})
	})
	place := "oci://" + host + "/line/base"
	digest, err := r.Push(t.Context(), place, madeUp.with("1.0.0", map[string]string{"web.yaml": "x: 1"}))
	if err != nil {
		t.Fatal(err)
	}
	lie = true
	for _, version := range []string{"1.0.0", digest} { // the layer is another one than its digest says
		if b, err := r.Pull(t.Context(), place, version); err == nil {
			t.Errorf("%s was believed: %+v", version, b.Files)
		}
	}
	tag := host + "/line/base:1.0.0"
	if found := r.Resolve(t.Context(), []string{tag}); found.Pinned[tag] != tag+"@"+digest {
		t.Errorf("the digest that was told was believed, not the one of what came: %+v", found)
	}
	wrong := host + "/line/base@sha256:" + strings.Repeat("1", 64)
	if found := r.Resolve(t.Context(), []string{wrong}); !errors.Is(found.Problems[wrong], errLies) {
		t.Errorf("asked for a digest, given something else: %+v", found)
	}
}

// TestVariablesOf tells the variables of a bundle with the values that they have by themselves, at whatever site.
func TestVariablesOf(t *testing.T) {
	files := []File{
		{Name: "lanterns.yaml", Text: []byte("aditus: 1\nworkload: lanterns\nsites: [north, south]\nparts:\n  app: {kind: service, artifact: \"r.example/lanterns:${version}\", environment: {LOG: \"${log-level:-info}\"}}\n")},
		{Name: "buoys.yaml", Text: []byte("aditus: 1\nworkload: buoys\nsites: [north]\nparts:\n  app: {kind: service, artifact: \"r.example/buoys:${version}\"}\n")},
		{Name: "variables.yaml", Text: []byte("aditus: 1\nvariables: {version: 2.1}\nsites:\n  south: {version: 2.0}\n")},
	}
	var told []string
	for _, v := range variablesOf(t.Context(), files) {
		told = append(told, fmt.Sprint(v.Name, v.Values, v.Workloads))
	}
	if want := []string{"log-level[info] [lanterns]", "version[2.1 2.0] [buoys lanterns]"}; !slices.Equal(told, want) {
		t.Errorf("told is %q, want %q", told, want)
	}
}
