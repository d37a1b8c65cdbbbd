// Package storytest gives tests of the faces a moment of the demo's story at which all is to be seen at once: a rollout
// rolled back, one waiting, two under way, a site changed by hand. The demo's own test writes it.
package storytest

import (
	_ "embed"
	"encoding/json"
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/view"
)

//go:embed story.json
var text []byte

// Story is what the faces see at the moment.
type Story struct {
	Snapshot status.Snapshot
	Watches  map[string]view.Watch // newest rollout, by WORKLOAD/SITE

	Comparisons map[string]view.Comparison // by WORKLOAD/SITE
	Lines       []target.LogLine           // of an instance
	Benches     map[string]view.Bench      // by WORKLOAD/SITE GUARD
	Calendar    status.Calendar            // of the next two weeks
}

// All times are in UTC, whatever the machine's zone.
func init() { time.Local = time.UTC }

// Load gives the story.
func Load(t testing.TB) Story {
	t.Helper()
	var s Story
	if err := json.Unmarshal(text, &s); err != nil {
		t.Fatal(err)
	}
	return s
}

var update = flag.Bool("update", false, "write the golden files anew")

// Golden holds text against a file under testdata; with -update it writes the file.
func Golden(t testing.TB, name, got string) {
	t.Helper()
	file := filepath.Join("testdata", name)
	if *update {
		if err := os.MkdirAll("testdata", 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	want, err := os.ReadFile(file)
	if err != nil {
		t.Fatalf("%v; write it with -update", err)
	}
	if got == string(want) {
		return
	}
	gotLines, wantLines := strings.Split(got, "\n"), strings.Split(string(want), "\n")
	for i := range max(len(gotLines), len(wantLines)) {
		g, w := "", ""
		if i < len(gotLines) {
			g = gotLines[i]
		}
		if i < len(wantLines) {
			w = wantLines[i]
		}
		if g != w {
			t.Errorf("%s differs, first in line %d (write it anew with -update):\ngot  %s\nwant %s", file, i+1, g, w)
			return
		}
	}
}
