package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestShelf leaves what screens want to be left for their next start, beside what those of another Aditus left, and nothing of what is forgotten.
func TestShelf(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	open := func(of string) *shelf {
		t.Helper()
		s, err := openShelf(of)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	north, south := open("/srv/north"), open("https://south.skerry.example")
	north.Remember("board", map[string]string{"filter": "site:north"})
	north.Remember("connect", 1)
	north.Close()
	south.Remember("board", map[string]string{"filter": "site:south"})
	south.Close()
	north.Remember("connect", nil)
	north.Close()
	for of, want := range map[string]string{"/srv/north": "site:north", "https://south.skerry.example": "site:south", "elsewhere": ""} {
		var got map[string]string
		connect, s := 0, open(of)
		s.Recall("board", &got)
		s.Recall("connect", &connect)
		if got["filter"] != want || connect != 0 {
			t.Errorf("%s is left with %v, %d", of, got, connect)
		}
	}
	file := filepath.Join(os.Getenv("XDG_STATE_HOME"), "aditus", shelfFile)
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("it is kept as %v, %v", info, err)
	}
	if err := os.WriteFile(file, []byte("[torn"), 0o600); err != nil {
		t.Fatal(err)
	}
	damaged := open("/srv/north")
	damaged.Remember("board", "anew")
	damaged.Close()
	if text, err := os.ReadFile(file); err != nil || !strings.Contains(string(text), "anew") {
		t.Errorf("after damage it has %q, %v", text, err)
	}
}
