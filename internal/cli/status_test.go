package cli

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/status"
)

// TestStatusTold tells of a berth where nothing is that it has no health, all that is to be mended in what a link declares, and what a mistyped berth
// may mean.
func TestStatusTold(t *testing.T) {
	at := func(workload, site string) status.Berth {
		return status.Berth{ID: berth.ID{Workload: workload, Site: site}, SyncStatus: compare.Absent}
	}
	s := status.Snapshot{Line: "Skerry Line", Now: time.Now(), Berths: []status.Berth{at("tides", "north"), at("tides", "south"), at("buoys", "isles")},
		Links: []status.Link{{Name: "line", Wrong: []string{"tides.yaml:4:1: one", "tides.yaml:9:3: two"}}}}
	for _, wide := range []bool{false, true} {
		var out bytes.Buffer
		if err := printStatus(&out, s, wide); err != nil {
			t.Fatal(err)
		}
		for _, want := range []string{"  tides.yaml:4:1: one\n  tides.yaml:9:3: two\n", "absent"} {
			if !strings.Contains(out.String(), want) {
				t.Errorf("%q is not told:\n%s", want, out.String())
			}
		}
		for line := range strings.Lines(out.String()) {
			if fields := strings.Fields(line); strings.HasPrefix(line, "tides/north") && !strings.Contains(strings.Join(fields, " "), "absent none") {
				t.Errorf("what is not there has a health: %s", line)
			}
		}
	}
	for typed, want := range map[string]string{"tidse/north": "do you mean tides/north?", "cranes/harbour-side": "aditus status lists them"} {
		id, _ := berth.ParseID(typed)
		if got := nearBerths(s, id); got != want {
			t.Errorf("%s: %q, want %q", typed, got, want)
		}
	}
}
