package engine

import (
	"testing"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/status"
)

// TestShared sees which other breaches speak for a revision whose own standing guard breaches.
func TestShared(t *testing.T) {
	const early, late, long = 10000, 10200, 1 // seconds; breaches that are far apart are not one trouble
	for _, test := range []struct {
		name                string
		workload, site      string // of the other berth
		needs, needed       bool   // the other one needs this one, and this one needs it
		same                bool   // revision
		breached, otherwise int64
		want                string
	}{
		{name: "what it needs", workload: "ledger", site: "pier", needed: true, breached: early, otherwise: late, want: "ledger, which it needs, breaches too"},
		{name: "what it needs is well", workload: "ledger", site: "pier", needed: true, breached: early},
		{name: "what it needs, elsewhere", workload: "ledger", site: "dock", needed: true, breached: late, otherwise: early},
		{name: "another revision elsewhere", workload: "berthing", site: "dock", breached: early, otherwise: late, want: "it breaches at dock too, on v2"},
		{name: "the same revision elsewhere", workload: "berthing", site: "dock", same: true, breached: late, otherwise: early},
		{name: "another one here, before", workload: "fares", site: "pier", breached: late, otherwise: early, want: "fares breached before, and does not need it"},
		{name: "another one here, before this was recorded", workload: "fares", site: "pier", otherwise: early, want: "fares breached before, and does not need it"},
		{name: "another one here, after", workload: "fares", site: "pier", breached: early, otherwise: late},
		{name: "what it needs, for long", workload: "ledger", site: "pier", needed: true, breached: late, otherwise: long},
		{name: "another revision elsewhere, for long", workload: "berthing", site: "dock", breached: late, otherwise: long},
		{name: "another one here, for long", workload: "fares", site: "pier", breached: late, otherwise: long},
		{name: "one that needs it", workload: "fares", site: "pier", needs: true, breached: late, otherwise: early},
	} {
		t.Run(test.name, func(t *testing.T) {
			at := func(n int64) time.Time {
				if n == 0 {
					return time.Time{}
				}
				return time.Unix(n, 0)
			}
			this := &loop{id: berth.ID{Workload: "berthing", Site: "pier"}}
			this.state.Applied, this.state.BreachSince = "1", at(test.breached)
			other := &loop{id: berth.ID{Workload: test.workload, Site: test.site}, breached: at(test.otherwise)}
			revision := &berth.Revision{Fingerprint: "2", Version: "v2"}
			if test.same {
				revision.Fingerprint = "1"
			}
			other.shown = status.Berth{Applied: revision}
			e := &Engine{berths: map[berth.ID]*loop{this.id: this, other.id: other}}
			if test.needs {
				other.needs = []string{this.id.Workload}
			}
			if test.needed { // over one more
				between := &loop{id: berth.ID{Workload: "sheets", Site: "pier"}, needs: []string{test.workload}}
				e.berths[between.id], this.needs = between, []string{"sheets"}
			}
			if got := e.shared(this, at(late)); got != test.want {
				t.Errorf("it is told %q, not %q", got, test.want)
			}
		})
	}
}
