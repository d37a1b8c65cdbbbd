package source

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"aditus/internal/config"
)

// TestInside sees which addresses are of the open network.
func TestInside(t *testing.T) {
	for text, want := range map[string]bool{
		"127.0.0.1": true, "::1": true, "0.0.0.0": true, "10.1.2.3": true, "172.16.0.1": true, "192.168.1.1": true, "169.254.169.254": true, "fe80::1": true,
		"fd00::1": true, "::ffff:127.0.0.1": true, "::ffff:10.0.0.1": true, "100.64.0.1": true, "64:ff9b::7f00:1": true, "224.0.0.1": true, "255.255.255.255": true,
		"203.0.113.7": false, "2001:db8::1": false, "8.8.8.8": false,
	} {
		if got := inside(netip.MustParseAddr(text)); got != want {
			t.Errorf("%s: %v", text, got)
		}
	}
}

// TestOutward sees that no declaration, and no registry that sends us on, has this machine ask a service of its own.
func TestOutward(t *testing.T) {
	asked := 0
	within := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked++ }))
	defer within.Close()
	host := strings.TrimPrefix(within.URL, "http://")
	r := NewRegistries(nil, nil)
	_, port, _ := strings.Cut(host, ":")
	for _, named := range []string{host, "localhost:" + port, "127.1:" + port} {
		found := r.Resolve(t.Context(), []string{named + "/web:1"})
		if err := found.Problems[named+"/web:1"]; err == nil || asked > 0 {
			t.Errorf("%s: %v, asked %d times", named, err, asked)
		}
	}
	if err := r.Resolve(t.Context(), []string{host + "/web:1"}).Problems[host+"/web:1"]; !errors.As(err, new(*insideError)) || !strings.Contains(err.Error(), "under registries") {
		t.Errorf("it is told as %v", err)
	}
	away := httptest.NewServer(http.RedirectHandler(within.URL+"/v2/", http.StatusTemporaryRedirect))
	defer away.Close()
	listed := strings.TrimPrefix(away.URL, "http://")
	known := NewRegistries(map[string]config.Registry{listed: {Plain: true}}, nil)
	if found := known.Resolve(t.Context(), []string{listed + "/web:1"}); len(found.Problems) == 0 || asked > 0 {
		t.Errorf("sent on: %v, asked %d times", found.Problems, asked)
	}
}

// TestFileArtifacts sees that only ordinary files are read as artifacts, and that nothing is waited for.
func TestFileArtifacts(t *testing.T) {
	folder := t.TempDir()
	pipe := filepath.Join(folder, "pipe")
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	r := NewRegistries(nil, nil)
	for _, name := range []string{pipe, "/dev/zero", "/dev/random", "/proc/self/mem"} {
		found := r.Resolve(ctx, []string{"file:" + name})
		if err := found.Problems["file:"+name]; err == nil || ctx.Err() != nil {
			t.Errorf("%s: %v (%v)", name, err, ctx.Err())
		}
	}
}
