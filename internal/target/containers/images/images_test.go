package images

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/random"

	"aditus/internal/target/containers/host"
	"aditus/internal/target/local/store"
)

// engine is an engine of images alone.
type engine struct {
	mu      sync.Mutex
	has     map[string]string // IDs by tag
	loads   func() string     // what it says to one that is loaded
	removed []string
}

func (e *engine) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	e.mu.Lock()
	defer e.mu.Unlock()
	path := strings.TrimPrefix(r.URL.Path, "/v1.41")
	switch {
	case path == "/version":
		fmt.Fprint(w, `{"ApiVersion":"1.41"}`)
	case path == "/images/load":
		io.Copy(io.Discard, r.Body)
		fmt.Fprint(w, e.loads())
	case path == "/images/json":
		var all []string
		for tag, id := range e.has {
			all = append(all, fmt.Sprintf(`{"Id":%q,"RepoTags":[%q],"Size":600,"Created":%d}`, id, tag, len(id)))
		}
		fmt.Fprintf(w, "[%s]", strings.Join(all, ","))
	case r.Method == http.MethodDelete:
		tag := strings.TrimPrefix(path, "/images/")
		e.removed = append(e.removed, tag)
		delete(e.has, tag)
	default:
		tag := strings.TrimSuffix(strings.TrimPrefix(path, "/images/"), "/json")
		if e.has[tag] == "" {
			w.WriteHeader(http.StatusNotFound)
			return
		}
		fmt.Fprintf(w, `{"Id":%q}`, e.has[tag])
	}
}

// TestBring brings artifacts to an engine that takes them, has no room, or has something else.
func TestBring(t *testing.T) {
	socket := filepath.Join(t.TempDir(), "engine.sock")
	listener, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	e := &engine{has: map[string]string{Repository + ":old": "1"}, loads: func() string { return `{"stream":"Loaded"}` }}
	server := &http.Server{Handler: e}
	go server.Serve(listener)
	t.Cleanup(func() { server.Close() })
	image, err := random.Image(100, 1)
	if err != nil {
		t.Fatal(err)
	}
	config, _ := image.ConfigName()
	digest, _ := image.Digest()
	tag := Repository + ":" + digest.Hex
	hangs := make(chan struct{})
	t.Cleanup(func() { close(hangs) })
	fetch := func(_ context.Context, reference string) (v1.Image, error) {
		switch reference {
		case "missing":
			return nil, fmt.Errorf("%w: missing", store.ErrNone)
		case "never ends":
			<-hangs
			return nil, errors.New("it ended")
		}
		return image, nil
	}
	ready := make(chan struct{}, 16)
	open := func() *Images {
		i := Open(host.New(host.Scheme+socket), 500, t.TempDir(), fetch)
		i.Use("site", func() []string { return []string{"web"} }, func() { ready <- struct{}{} })
		return i
	}
	get := func(i *Images, reference string) (string, error) {
		if got, err := i.Get(reference); !errors.Is(err, store.ErrWorking) {
			return got, err
		}
		<-ready
		return i.Get(reference)
	}
	e.loads = func() string { return `{"error":"no space left on device"}` }
	if _, err := get(open(), "web"); err == nil || !strings.Contains(err.Error(), "no space left") || store.Final(err) {
		t.Errorf("without room: %v", err)
	}
	e.loads = func() string { e.has[tag] = "sha256:" + strings.Repeat("0", 64); return "" }
	if _, err := get(open(), "web"); !errors.Is(err, store.ErrBad) {
		t.Errorf("what is not what was brought: %v", err)
	}
	delete(e.has, tag)
	e.loads = func() string { e.has[tag] = "sha256:" + config.Hex; return "" }
	i := open()
	if got, err := get(i, "web"); got != tag || err != nil {
		t.Errorf("it is called %q (%v)", got, err)
	}
	e.mu.Lock()
	if e.has[Repository+":old"] != "" || e.has[tag] == "" {
		t.Errorf("to keep to its size it removed %q", e.removed)
	}
	e.mu.Unlock()
	e.loads = func() string { t.Error("what is there is brought again"); return "" }
	if got, err := get(open(), "web"); got != tag || err != nil {
		t.Errorf("what is there is called %q (%v)", got, err)
	}
	if _, err := get(i, "missing"); !errors.Is(err, store.ErrNone) || !store.Final(err) {
		t.Errorf("what is nowhere: %v", err)
	}
	for range 3 {
		if _, err := i.Get("never ends"); !errors.Is(err, store.ErrWorking) {
			t.Errorf("while it is brought: %v", err)
		}
	}
	if got, err := i.Get("web"); got != tag || err != nil {
		t.Errorf("beside one that never ends: %q (%v)", got, err)
	}
}

// TestAgain tries again what failed for a while, and not at once.
func TestAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		tried := 0
		i := Open(host.New(host.Scheme+"/nowhere.sock"), 0, "", func(context.Context, string) (v1.Image, error) {
			tried++
			return nil, errors.New("the registry is away")
		})
		for _, want := range []int{1, 1, 2} {
			i.Get("web")
			synctest.Wait()
			if _, err := i.Get("web"); tried != want || err == nil {
				t.Errorf("tried %d times, want %d (%v)", tried, want, err)
			}
			time.Sleep(tryAgain/2 + time.Second)
		}
	})
	synctest.Test(t, func(t *testing.T) { // whoever asks only when he is told that it is time to
		tried := 0
		i := Open(host.New(host.Scheme+"/nowhere.sock"), 0, "", func(context.Context, string) (v1.Image, error) {
			if tried++; tried == 3 {
				return nil, fmt.Errorf("%w: it was removed", store.ErrNone)
			}
			return nil, errors.New("the registry is away")
		})
		i.Use("site", func() []string { return nil }, func() { i.Get("web") })
		i.Get("web")
		time.Sleep(10 * tryAgain)
		if _, err := i.Get("web"); tried != 3 || !store.Final(err) {
			t.Errorf("tried %d times: %v", tried, err)
		}
	})
}
