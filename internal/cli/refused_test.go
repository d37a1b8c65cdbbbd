package cli

import (
	"os"
	"path/filepath"
	"testing"

	"aditus/internal/config"
)

// TestLastGood puts back the settings from before a change with which a folder could not be opened, once, and only those of a change of this program's own.
func TestLastGood(t *testing.T) {
	folder := t.TempDir()
	name := filepath.Join(folder, config.FileName)
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	has := func(file, want string) {
		t.Helper()
		if text, err := os.ReadFile(file); err != nil || string(text) != want {
			t.Errorf("%s has %q (%v), want %q", filepath.Base(file), text, err, want)
		}
	}
	var g lastGood
	if g.anew = true; g.restore(folder) {
		t.Error("there were none before")
	}
	write("good")
	g.keep(folder)
	write("changed by hand")
	if g.restore(folder) {
		t.Error("a person's own change is taken back")
	}
	if g.anew = true; !g.restore(folder) {
		t.Error("those from before are not put back")
	}
	has(name, "good")
	has(filepath.Join(folder, refusedName), "changed by hand")
	if g.restore(folder) {
		t.Error("they are put back twice")
	}
}
