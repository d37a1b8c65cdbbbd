package view_test

import (
	"strings"
	"testing"
	"time"

	"aditus/internal/core/course"
	"aditus/internal/status"
	"aditus/internal/view"
	"aditus/internal/view/storytest"
)

// TestReview tells a change as Markdown: alike sites in one row, and nothing in it that means something by itself.
func TestReview(t *testing.T) {
	leg := func(site, waits string, asks ...string) *course.Leg {
		return &course.Leg{Site: site, Begins: time.Date(2026, 12, 4, 9, 0, 0, 0, time.UTC), Waits: waits, Asks: asks}
	}
	does := []string{"change engine: engine/artifact engine:8.1.4 → engine:8.2.0"}
	r := status.Review{Ref: "new`tariff", Berths: 9, Rules: true, Kept: 412, Workloads: []status.ReviewWorkload{
		{Workload: "fares", Course: "line", Subject: "Day tickets", Author: "Joren Falk", Sites: []status.ReviewSite{
			{Site: "drydock", From: "8.1.4", To: "8.2.0", Does: does, Lasting: []string{"ledger"}, Leg: leg("drydock", "")},
			{Site: "north", From: "8.1.4", To: "8.2.0", Does: does, Leg: leg("north", "waits until drydock has proven it", "waits for a sign-off by leads")},
			{Site: "south", From: "8.1.4", To: "8.2.0", Does: does, Leg: leg("south", "waits until drydock has proven it", "waits for a sign-off by leads")},
			{Site: "isles", To: "8.2.0|<b>@everyone</b>\n# no", Does: []string{"a", "b", "c", "d", "e", "f"}, Leg: &course.Leg{Never: true}},
		}},
		{Workload: "tides", Off: true, Course: "quick", Sites: []status.ReviewSite{{Site: "north", From: "1.30.1", Does: []string{"nothing of it is declared any more"}}}},
	}}
	var out strings.Builder
	if err := view.WriteReview(&out, r, time.UTC); err != nil {
		t.Fatal(err)
	}
	storytest.Golden(t, "review.md", out.String())
	out.Reset()
	if err := view.WriteReview(&out, status.Review{Ref: "main", Berths: 3}, time.UTC); err != nil || !strings.Contains(out.String(), "Nothing: all 3 berths stay as they are declared.") {
		t.Errorf("what changes nothing: %s (%v)", out.String(), err)
	}
}
