package view

import (
	"fmt"
	"testing"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/course"
	"aditus/internal/core/rollout"
	"aditus/internal/status"
)

func TestSpread(t *testing.T) {
	now := time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)
	at := func(days int) time.Time { return now.AddDate(0, 0, -days) }
	one := func(site, version string, days int, set func(*status.Berth)) status.Berth {
		b := status.Berth{ID: berth.ID{Workload: "boarding", Site: site}, AppliedAt: at(days), Declared: &berth.Revision{Version: "4.13.0"}, SyncStatus: compare.Behind, Waits: "waits until north has proven it"}
		if version != "" {
			b.Applied = &berth.Revision{Version: version}
		}
		if set != nil {
			set(&b)
		}
		return b
	}
	s := status.Snapshot{Now: now, Berths: []status.Berth{
		one("drydock", "4.13.0", 0, func(b *status.Berth) { b.SyncStatus = compare.Aligned }),
		one("a", "4.12.2", 5, nil), one("b", "4.12.2", 3, nil),
		one("c", "4.12.2", 4, func(b *status.Berth) { b.Asks = &berth.Ask{Kind: course.Consent, Why: "is offered"} }),
		one("d", "4.11.0", 60, func(b *status.Berth) {
			b.Asks, b.Offer = &berth.Ask{Kind: course.Consent, Why: "put off by Joren Falk: after the season"}, &berth.Offer{Offer: course.Offer{Answer: course.PutsOff}}
		}),
		one("e", "4.11.0", 20, func(b *status.Berth) { b.Lock = &berth.Lock{By: "Edda Marsh", Message: "gates"} }),
		one("f", "4.9.0", 2, func(b *status.Berth) { b.Follows = "quiet-hours"; b.Declared = &berth.Revision{Version: "4.9.0"} }),
		one("g", "", 0, func(b *status.Berth) { b.Rollout = &status.Rollout{State: rollout.State{}} }),
		{ID: berth.ID{Workload: "fares", Site: "north"}, Applied: &berth.Revision{Version: "1"}},
	}}
	told := NewSpread(s, "boarding")
	var got string
	for _, v := range told.Versions {
		got += fmt.Sprintf("%s: %d since %s, %v\n", v.Version, len(v.Sites), v.First.Format("2 Jan"), v.Why)
	}
	want := `4.13.0: 1 since 26 Nov, []
4.12.2: 3 since 21 Nov, [{wait behind north 2} {offered 1}]
4.11.0: 2 since 27 Sep, [{locked 1} {put off by their team 1}]
4.9.0: 1 since 24 Nov, [{follow another branch 1}]
: 1 since 26 Nov, [{on the way 1}]
`
	if got != want || told.Newest != "4.13.0" || told.Sites != 8 || told.Versions[2].Sites[0].Why != "put off by Joren Falk: after the season" {
		t.Errorf("%+v\n%s\nwant\n%s", told, got, want)
	}
	if none := NewSpread(s, "tides"); none.Sites != 0 || none.Versions == nil {
		t.Errorf("nobody's: %+v", none)
	}
}
