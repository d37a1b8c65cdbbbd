package internal_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// tiers are the rooms of the house from the ground up. A package imports only packages of lower tiers, or of its own
// where that is listed.
var tiers = [][]string{
	{"core", "confine", "signature", "system"},
	{"socket", "dial", "clock", "expression", "disk", "limit"},
	{"config", "status", "login"},
	{"words"},
	{"ledger", "source", "target", "probe", "scrape"},
	{"view", "notify"},
	{"engine"},
	{"control", "demo", "backup"},
	{"draw", "simulate"},
	{"tui"},
	{"cli"},
}

// faces are the rooms that see what control and view show, and never the engine behind them.
var faces = []string{"tui", "draw", "view", "words", "status"}

// computation are the packages of others that the core may use: they know the outside as little as it does.
var computation = []string{"gonum.org/v1/gonum", "github.com/robfig/cron", "github.com/teambition/rrule-go", "golang.org/x/net/idna"}

// TestImports keeps the house: imports run one way, and the core imports nothing but the standard library, a few
// packages of pure computation and itself, and of the standard library nothing that knows the outside.
func TestImports(t *testing.T) {
	tier := map[string]int{}
	for i, rooms := range tiers {
		for _, room := range rooms {
			tier[room] = i
		}
	}
	outside := []string{"os", "net", "net/http", "log", "log/slog", "io/fs", "database/sql", "sync", "context", "os/exec", "math/rand", "math/rand/v2"}
	seen := 0
	err := filepath.WalkDir(".", func(name string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return err
		}
		name = filepath.ToSlash(name)
		room, _, _ := strings.Cut(name, "/")
		own, known := tier[room]
		if !known {
			t.Errorf("%s: the room %s has no place in the house", name, room)
			return nil
		}
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, spec := range file.Imports {
			imported, _ := strconv.Unquote(spec.Path.Value)
			seen++
			inside, ours := strings.CutPrefix(imported, "aditus/internal/")
			other, _, _ := strings.Cut(inside, "/")
			switch {
			case ours && tier[other] > own:
				t.Errorf("%s imports %s, which stands above it", name, imported)
			case ours && tier[other] == own && other != room:
				t.Errorf("%s imports %s, its neighbour", name, imported)
			case slices.Contains(faces, room) && other == "engine":
				t.Errorf("%s imports %s: a face asks control", name, imported)
			case room != "core" || ours:
			case slices.Contains(outside, imported):
				t.Errorf("%s imports %s: the core knows nothing of the outside", name, imported)
			case strings.Contains(strings.Split(imported, "/")[0], ".") && !slices.ContainsFunc(computation, func(pure string) bool { return strings.HasPrefix(imported, pure) }):
				t.Errorf("%s imports %s: of what others made the core has only %s", path.Base(name), imported, computation)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if seen < 100 {
		t.Fatalf("only %d imports were read: the test looks in the wrong place", seen)
	}
}
