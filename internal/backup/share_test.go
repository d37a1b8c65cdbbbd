package backup

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"aditus/internal/ledger"
)

// TestShare changes a file at two servers of a ledger, in turns and at once: what the one that leads has goes on record, the other has it
// then, and nothing that somebody wrote is lost.
func TestShare(t *testing.T) {
	book, err := ledger.Open(t.TempDir(), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer book.Close()
	one, two := t.TempDir(), t.TempDir()
	now := time.Date(2026, 3, 12, 9, 0, 0, 0, time.UTC)
	write := func(folder, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(folder, "settings.yaml"), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	share := func(folder string, leads bool) (aside string) {
		t.Helper()
		now = now.Add(time.Second)
		files, err := Share(t.Context(), folder, book, leads, now)
		if err != nil {
			t.Fatal(err)
		}
		for _, name := range files {
			text, err := os.ReadFile(name)
			if err != nil {
				t.Fatal(err)
			}
			aside += string(text)
		}
		return aside
	}
	for _, step := range []struct {
		what            string
		one, two        string // written before; empty for nothing
		leads           bool   // the second does, else the first
		want, asideOnes string // at both then, and what was put aside
	}{
		{"the first has settings, the second a line", "a: 1\n", "ledger: x\n", false, "a: 1\n", "ledger: x\n"},
		{"the one that leads changes them", "a: 2\n", "", false, "a: 2\n", ""},
		{"nothing happens", "", "", false, "a: 2\n", ""},
		{"the other one does", "", "a: 3\n", false, "a: 2\n", "a: 3\n"},
		{"it leads now", "", "", true, "a: 2\n", ""},
		{"it changed them before it led", "", "a: 4\n", true, "a: 4\n", ""},
		{"both do", "a: 5\n", "a: 6\n", true, "a: 6\n", "a: 5\n"},
		{"both do the same", "a: 7\n", "a: 7\n", true, "a: 7\n", ""},
	} {
		for folder, text := range map[string]string{one: step.one, two: step.two} {
			if text != "" {
				write(folder, text)
			}
		}
		first, second := one, two
		if step.leads {
			first, second = two, one
		}
		aside := share(first, true) + share(second, false)
		for _, folder := range []string{one, two} {
			if text, err := os.ReadFile(filepath.Join(folder, "settings.yaml")); err != nil || string(text) != step.want {
				t.Errorf("%s: there is %q (%v), want %q", step.what, text, err, step.want)
			}
		}
		if aside != step.asideOnes {
			t.Errorf("%s: %q is put aside, want %q", step.what, aside, step.asideOnes)
		}
	}
	if err := book.KeepPicture(t.Context(), ledger.FilePicture+"settings.yaml", now, onRecord{Sum: strings.Repeat("0", 64), Content: []byte("not that")}); err != nil {
		t.Fatal(err)
	}
	if _, err := Share(t.Context(), one, book, false, now); err == nil || !strings.Contains(err.Error(), "damaged") {
		t.Errorf("what does not fit its sum is taken: %v", err)
	}
}
