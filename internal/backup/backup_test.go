package backup

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"aditus/internal/config"
	"aditus/internal/ledger"
)

var morning = time.Date(2026, 3, 12, 9, 30, 0, 0, time.UTC)

// line is a data folder with something of everything.
func line(t *testing.T, facts int) (string, *ledger.Ledger) {
	t.Helper()
	folder := t.TempDir()
	for name, text := range map[string]string{
		config.FileName: "line: Skerry Line\nlinks: []\nsites: []\n", "key.txt": "key", "tokens.json": "[]", "keeper.log": "left out",
		"local/dock/asked/tides.json": "asked", "local/dock/instances/tides-1/process.json": "left out", "sites/north/tides.json": "asked", "sites/behaviour.yaml": "seed: 1",
	} {
		at := filepath.Join(folder, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(at, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	l, err := ledger.Open(folder, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	for range facts {
		if err := l.Record(t.Context(), ledger.Entry{Facts: []ledger.Fact{{At: morning, Kind: "stage", Text: "x"}}}); err != nil {
			t.Fatal(err)
		}
	}
	return folder, l
}

// TestBackup makes a backup while a ledger is open and written to, and puts it back: into an empty folder, and into one where
// there is something, which stays beside it; what a site there knows is left as it is.
func TestBackup(t *testing.T) {
	folder, _ := line(t, 7)
	var out bytes.Buffer
	m, err := Write(folder, &out, morning)
	if err != nil || m.Facts != 7 || m.Line != "Skerry Line" || len(m.Files) != 7 {
		t.Fatalf("%+v (%v)", m, err)
	}
	fresh := filepath.Join(t.TempDir(), "new", "line")
	if _, aside, err := Restore(bytes.NewReader(out.Bytes()), fresh, morning); err != nil || len(aside) > 0 {
		t.Fatalf("%v (%v)", aside, err)
	}
	if text, _ := os.ReadFile(filepath.Join(fresh, "local", "dock", "asked", "tides.json")); string(text) != "asked" {
		t.Errorf("what a site was asked for is %q", text)
	}
	info, err := os.Stat(filepath.Join(fresh, "key.txt"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key: %v (%v)", info, err)
	}
	there, other := line(t, 20)
	other.Close()
	asked := filepath.Join(there, "local", "dock", "asked", "tides.json")
	os.WriteFile(asked, []byte("newer"), 0o600)
	m, aside, err := Restore(bytes.NewReader(out.Bytes()), there, morning)
	if err != nil || m.Facts != 7 || len(aside) < 4 {
		t.Fatalf("%+v, %v (%v)", m, aside, err)
	}
	if text, _ := os.ReadFile(asked); string(text) != "newer" {
		t.Errorf("what the site knew became %q", text)
	}
	if facts, err := ledger.Check(filepath.Join(there, ledger.FileName)); err != nil || facts != 7 {
		t.Errorf("%d facts (%v)", facts, err)
	}
	for _, name := range aside {
		if strings.HasSuffix(name, ledger.FileName+".before-20260312T093000Z") {
			if facts, err := ledger.Check(name); err != nil || facts != 20 {
				t.Errorf("what was there has %d facts (%v)", facts, err)
			}
		}
	}
	if left, _ := filepath.Glob(filepath.Join(there, ".restore-*")); len(left) > 0 {
		t.Errorf("there is still %v", left)
	}
}

// TestDamaged cuts and changes a backup at many places: it is never put back in part, and the reason is told.
func TestDamaged(t *testing.T) {
	folder, _ := line(t, 3)
	var out bytes.Buffer
	if _, err := Write(folder, &out, morning); err != nil {
		t.Fatal(err)
	}
	tarred, err := gzip.NewReader(bytes.NewReader(out.Bytes()))
	if err != nil {
		t.Fatal(err)
	}
	whole, err := io.ReadAll(tarred)
	if err != nil {
		t.Fatal(err)
	}
	refused := func(name string, text []byte) {
		t.Helper()
		fresh := filepath.Join(t.TempDir(), "line")
		if _, _, err := Restore(bytes.NewReader(text), fresh, morning); err == nil {
			t.Errorf("%s: it is put back", name)
		}
		if _, err := os.Stat(filepath.Join(fresh, config.FileName)); err == nil {
			t.Errorf("%s: half of it is there", name)
		}
	}
	zip := func(text []byte) []byte {
		var out bytes.Buffer
		w := gzip.NewWriter(&out)
		w.Write(text)
		w.Close()
		return out.Bytes()
	}
	for cut := 0; cut < out.Len()-1; cut += out.Len()/20 + 1 {
		refused("cut", out.Bytes()[:cut])
	}
	for at := 600; at < len(whole)-2048; at += len(whole)/40 + 1 {
		changed := bytes.Clone(whole)
		changed[at] ^= 0x55
		if _, err := tar.NewReader(bytes.NewReader(changed)).Next(); err == nil && !padding(whole, at) {
			refused("changed", zip(changed))
		}
	}
	refused("another file", zip([]byte("no tar")))
	refused("a newer one", zip(bytes.Replace(whole, []byte(`"format": 1`), []byte(`"format": 9`), 1)))
}

// padding tells whether a byte of a tar stands between what is in it.
func padding(whole []byte, at int) bool {
	in := bytes.NewReader(whole)
	archive := tar.NewReader(in)
	for {
		header, err := archive.Next()
		if err != nil {
			return true
		}
		begins := len(whole) - in.Len()
		if at >= begins && at < begins+int(header.Size) {
			return false
		}
		if at < begins {
			return true // in a header: some of its fields do not matter
		}
	}
}
