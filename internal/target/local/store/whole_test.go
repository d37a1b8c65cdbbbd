package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"

	v1 "github.com/google/go-containerregistry/pkg/v1"

	"aditus/internal/disk"
	"aditus/internal/disk/disktest"
)

// TestPowerCut replays what is left of a store at each moment: it opens, and never gives an artifact that is not whole.
func TestPowerCut(t *testing.T) {
	made := map[string]v1.Image{}
	for n := range 2 {
		made[fmt.Sprintf("r.example/web:%d", n)] = image(t, v1.Config{Entrypoint: []string{"/bin/web"}}, file("bin/web", 2000+int64(n)), file("srv/page", 1))
	}
	fetch := func(_ context.Context, reference string) (v1.Image, error) { return made[reference], nil }
	folder := t.TempDir()
	r := disktest.Record(folder)
	s, err := Open(filepath.Join(folder, "store"), 1<<20, fetch, r)
	if err != nil {
		t.Fatal(err)
	}
	for reference := range made {
		if _, err := got(t, s, reference); err != nil {
			t.Fatal(err)
		}
		r.Ack()
	}
	tried := disktest.Try(t, r, disktest.Ways(4), func(folder string, _ int) error {
		s, err := Open(filepath.Join(folder, "store"), 1<<20, fetch, disktest.Unflushed{Disk: disk.Machine})
		if err != nil {
			return err
		}
		for n := range 2 {
			u, err := got(t, s, fmt.Sprintf("r.example/web:%d", n))
			if err != nil {
				return err
			}
			text, _ := os.ReadFile(filepath.Join(u.Root, "bin/web"))
			if info, err := os.Stat(filepath.Join(u.Root, "bin/web")); err != nil || len(text) != 2000+n || !bytes.Equal(text, bytes.Repeat([]byte("x"), 2000+n)) || info.Mode()&0o100 == 0 {
				return fmt.Errorf("the artifact has %d bytes (%v)", len(text), err)
			}
		}
		return nil
	})
	t.Logf("%d states", tried)
}

// TestSpoilt changes what is unpacked: it is had again; where it cannot be, that is told, and for good only while it is so.
func TestSpoilt(t *testing.T) {
	var away error
	fetch := func(context.Context, string) (v1.Image, error) {
		return image(t, v1.Config{Cmd: []string{"web"}}, file("web", 100)), away
	}
	folder := t.TempDir()
	for name, spoil := range map[string]func(at string) error{
		"emptied":         func(at string) error { return os.Truncate(at, 0) },
		"another mode":    func(at string) error { return os.Chmod(at, 0o600) },
		"gone":            os.Remove,
		"something added": func(at string) error { return os.WriteFile(at+"2", nil, 0o700) },
		"nothing noted": func(at string) error {
			return os.Truncate(filepath.Join(filepath.Dir(filepath.Dir(at)), unpackedFile), 0)
		},
		"no references": func(string) error { return os.Truncate(filepath.Join(folder, refsFile), 0) },
	} {
		for _, away = range []error{nil, errors.New("the registry is away")} {
			s, err := Open(folder, 1<<20, fetch, disk.Machine)
			if err != nil {
				t.Fatal(err)
			}
			if away == nil {
				if u, err := got(t, s, "r.example/web:1"); err != nil || u.Size != 100 {
					t.Fatalf("%s: %+v %v", name, u, err)
				} else if err := spoil(filepath.Join(u.Root, "web")); err != nil {
					t.Fatal(err)
				}
				continue
			}
			if _, err := got(t, s, "r.example/web:1"); (err == nil) != (name == "something added") || Final(err) {
				t.Errorf("%s, and the registry away: %v", name, err)
			}
		}
	}
}

// TestChangedUnderneath sees what somebody changes of an artifact while it is used, and has it unpacked anew when it is asked to.
func TestChangedUnderneath(t *testing.T) {
	s, err := Open(t.TempDir(), 1<<20, func(context.Context, string) (v1.Image, error) {
		return image(t, v1.Config{Cmd: []string{"web"}}, file("web", 100)), nil
	}, disk.Machine)
	if err != nil {
		t.Fatal(err)
	}
	const reference = "r.example/web:1"
	u, err := got(t, s, reference)
	if err != nil {
		t.Fatal(err)
	}
	spoilt := func() bool {
		t.Helper()
		name := filepath.Base(filepath.Dir(u.Root))
		s.mu.Lock()
		l := s.looked[name]
		s.mu.Unlock()
		s.look(name, l)
		return s.Spoilt(reference)
	}
	if s.Spoilt("r.example/other:1") || spoilt() || spoilt() {
		t.Error("nobody changed it")
	}
	if err := os.WriteFile(filepath.Join(u.Root, "web.cache"), nil, 0o600); err != nil || spoilt() {
		t.Errorf("what was put beside it counts: %v", err)
	}
	if err := os.WriteFile(filepath.Join(u.Root, "web"), bytes.Repeat([]byte("y"), 100), 0o700); err != nil || !spoilt() {
		t.Errorf("what was written over is not seen: %v", err)
	}
	s.Renew(reference)
	if again, err := got(t, s, reference); err != nil || spoilt() {
		t.Errorf("put back it is %+v (%v)", again, err)
	} else if text, _ := os.ReadFile(filepath.Join(again.Root, "web")); !bytes.Equal(text, bytes.Repeat([]byte("x"), 100)) {
		t.Errorf("it is %q", text)
	}
}

// TestSame brings one artifact by many references at once: it is unpacked where it stays, and never moves again.
func TestSame(t *testing.T) {
	made := image(t, v1.Config{Cmd: []string{"web"}}, file("web", 1000))
	s, err := Open(t.TempDir(), 1<<20, func(context.Context, string) (v1.Image, error) { return made, nil }, disk.Machine)
	if err != nil {
		t.Fatal(err)
	}
	reference := func(n int) string { return fmt.Sprintf("r.example/web:%d", n) }
	for n := range 20 {
		s.Get(reference(n))
	}
	var first os.FileInfo
	for n := range 20 {
		u, err := got(t, s, reference(n))
		if err != nil {
			t.Fatal(err)
		}
		info, err := os.Stat(filepath.Join(u.Root, "web"))
		if first == nil {
			first = info
		}
		if err != nil || !os.SameFile(first, info) {
			t.Fatalf("it moved: %v", err)
		}
	}
}

// cut is an image whose layer ends before it should.
type cut struct{ v1.Image }

type cutLayer struct{ v1.Layer }

func (c cut) Layers() ([]v1.Layer, error) {
	layers, err := c.Image.Layers()
	for i := range layers {
		layers[i] = cutLayer{layers[i]}
	}
	return layers, err
}

func (c cut) LayerByDigest(h v1.Hash) (v1.Layer, error) {
	layer, err := c.Image.LayerByDigest(h)
	return cutLayer{layer}, err
}

func (c cutLayer) Compressed() (io.ReadCloser, error) {
	all, err := c.Layer.Compressed()
	return io.NopCloser(io.LimitReader(all, 40)), err
}

// TestCut sees that what is cut short on its way is tried again and not taken for bad.
func TestCut(t *testing.T) {
	whole := image(t, v1.Config{Cmd: []string{"web"}}, file("web", 1000))
	s, err := Open(t.TempDir(), 1<<20, func(context.Context, string) (v1.Image, error) { return cut{whole}, nil }, disk.Machine)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := got(t, s, "r.example/web:1"); err == nil || Final(err) {
		t.Errorf("a layer that was cut: %v", err)
	}
}
