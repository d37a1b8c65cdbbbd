package words

import (
	"strings"
	"testing"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/course"
	"aditus/internal/core/health"
	"aditus/internal/status"
)

// TestAsked sees that what a course asks for is a need, with the actions that answer it.
func TestAsked(t *testing.T) {
	now := time.Date(2026, 11, 26, 10, 0, 0, 0, time.UTC)
	b := status.Berth{ID: berth.ID{Workload: "fares", Site: "isles"}, SyncStatus: compare.Behind, Declared: &berth.Revision{Version: "8.2.0"}, Changes: []string{"change app"}, Waits: "it waits"}
	possible := func(b status.Berth) (verbs []string) {
		for _, a := range Actions(b) {
			if a.Not == nil && (a.Verb == SignOff || a.Verb == TakeOffer || a.Verb == PutOff || a.Verb == Decline) {
				verbs = append(verbs, a.Key+" "+a.Asks+a.Says)
			}
		}
		return verbs
	}
	for want, asks := range map[string]*berth.Ask{
		"":  nil,
		"s": {Kind: course.Signing, Who: []string{"leads"}, Why: "waits for a sign-off by leads", Since: now.Add(-time.Minute)},
		"T": {Kind: course.Consent, Who: []string{"islanders"}, Why: "is offered to islanders", Since: now.Add(-time.Minute), Last: now.Add(time.Hour)},
	} {
		if b.Asks = asks; want == "T" {
			b.Offer = &berth.Offer{}
		}
		need, is := needOf(b, now)
		if is != (want != "") {
			t.Fatalf("%q: a need is %t", want, is)
		}
		if is && (Keys[need.Keys[0]] != want || need.Text != "8.2.0 "+asks.Why+": change app. Since 1 min.") {
			t.Errorf("%s: %+v", want, need)
		}
		got := strings.Join(possible(b), "; ")
		if want == "T" && got != "T Take fares 8.2.0 at isles? It comes in its stages as soon as it may: change app.; P Put fares 8.2.0 off at isles. Why? Who made it will read it:" {
			t.Errorf("an offer with a last day: %s", got)
		}
		if want == "s" && got != "s Sign off that fares 8.2.0 comes to isles: change app?" || want == "" && got != "" {
			t.Errorf("%s: %s", want, got)
		}
		b.Offer = nil
	}
}

// TestEnds tells ends of lives that come together once for a site, and never hides what else is wrong there.
func TestEnds(t *testing.T) {
	now := time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)
	life := &berth.Life{Name: "the trial", Ends: now.Add(50 * time.Hour), Announced: now.Add(-time.Hour)}
	s := status.Snapshot{Now: now}
	for _, workload := range []string{"boarding", "fares", "tides"} {
		s.Berths = append(s.Berths, status.Berth{ID: berth.ID{Workload: workload, Site: "quay"}, Life: life, SyncStatus: "aligned", Health: health.Summary{Word: health.Healthy}, Applied: &berth.Revision{Version: "1"}})
	}
	s.Berths[1].Health = health.Summary{Word: health.Failing, Failing: 1, Total: 2, Reason: "does not answer"}
	needs := Needs(s)
	if len(needs) != 2 || needs[0].Berth.Workload != "fares" || needs[1].About != "quay" || needs[1].Text != "2 berths at quay: of each its life ends in 2 d 2 h, on Thu 3 Dec 14:00 UTC (the trial); it is torn down then." {
		t.Errorf("%+v", needs)
	}
	s.Berths = s.Berths[:1]
	if needs := Needs(s); len(needs) != 1 || needs[0].About != "boarding · quay" || needs[0].Keys[0] != Extend {
		t.Errorf("of one: %+v", needs)
	}
	over := *life
	over.Ends, over.Waits = now.Add(-time.Minute), "boarding/quay is locked by Maren Oake"
	s.Berths[0].Life = &over
	if text := Needs(s)[0].Text; !strings.Contains(text, "ended on Tue 1 Dec 11:59 UTC (the trial), and it is not torn down yet: boarding/quay is locked") {
		t.Errorf("over and locked: %s", text)
	}
}
