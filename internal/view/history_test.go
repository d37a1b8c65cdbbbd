package view

import (
	"slices"
	"testing"
	"time"

	"aditus/internal/ledger"
)

// TestRefine selects facts by what people type.
func TestRefine(t *testing.T) {
	now := time.Date(2026, 11, 26, 8, 4, 32, 0, time.UTC) // a Thursday
	facts := []ledger.Fact{
		{Seq: 1, At: now.AddDate(0, 0, -10), Workload: "fares", Site: "north", Kind: "locked", By: "Edda Marsh", Text: "the gate printers are being exchanged"},
		{Seq: 2, At: now.AddDate(0, 0, -2), Workload: "boarding", Site: "north", Rollout: 6, Kind: "taken", By: "aditus", Revision: "7941b4ab7000", Text: "4.13.0, “Read tickets offline”"},
		{Seq: 3, At: now.AddDate(0, 0, -2).Add(time.Minute), Workload: "boarding", Site: "north", Rollout: 6, Kind: "rolled back", By: "aditus", Text: "4.12.2 serves alone again; slow share"},
		{Seq: 4, At: now.Add(-time.Hour), Workload: "boarding", Site: "south-pier", Rollout: 6, Kind: "signed off", By: "Maren Oake", Text: "stage 2 of 3"},
		{Seq: 5, At: now.Add(-time.Minute), Kind: "asked", By: "edda.bot", Text: "Boarding is looked at"},
	}
	for text, want := range map[string][]int64{
		"": {1, 2, 3, 4, 5}, "site:north": {1, 2, 3}, "site:south": {4}, "site:*pier site:nowhere": {4}, "by:edda": {1, 5}, "by:marsh": {1}, "by:marsh by:aditus": {1, 2, 3}, "kind:rolled": {3}, "workload:boarding site:north": {2, 3},
		"BOARDING": {2, 3, 4, 5}, "slow share": {3}, `"share slow"`: {}, `"tickets offline" site:north`: {2}, "7941b4a": {2}, "since:tue": {2, 3, 4, 5}, "since:today": {4, 5}, "since:2h": {4, 5}, "since:3d until:today": {2, 3},
		"on:tue": {2, 3}, "on:today": {4, 5}, "on:2026-11-24": {2, 3}, "since:2026-11-24 until:2026-11-25": {2, 3}, "since:yesterday": {4, 5}, "site: by:": {1, 2, 3, 4, 5}, "since:2026-11-26T08:03:00Z": {5}, "until:7d": {1}, "odd:one": {}, "site:[": {},
	} {
		r, err := ReadRefine(text, now)
		if err != nil {
			t.Fatal(err)
		}
		got := []int64{}
		for _, f := range facts {
			if r.Has(f) {
				got = append(got, f.Seq)
			}
		}
		if !slices.Equal(got, want) {
			t.Errorf("%s selects %v, want %v", text, got, want)
		}
	}
	for _, text := range []string{"on:soon", "since:soon", "until:mo", "since:-2h"} {
		if _, err := ReadRefine(text, now); err == nil {
			t.Errorf("%s is taken", text)
		}
	}
	events := Happenings(facts, Refine{}, true)
	if len(events) != 4 || events[1].Last().Seq != 4 || events[2].Rollout != 6 || len(events[2].Facts) != 2 || events[2].Last().Seq != 3 || !events[2].Began.Equal(facts[1].At) {
		t.Errorf("by rollout: %+v", events)
	}
	if out := events[2].Outcome(); out.Kind != "rolled back" || events[1].Outcome().Seq != 4 {
		t.Errorf("it came to %+v", out)
	}
	if events := Happenings(facts, Refine{Words: []string{"tickets"}}, true); len(events) != 1 || len(events[0].Facts) != 2 {
		t.Errorf("a rollout of which one fact is found: %+v", events)
	}
	if events := Happenings(facts, Refine{}, false); len(events) != 5 || events[4].Last().Seq != 1 {
		t.Errorf("each for itself: %+v", events)
	}
}
