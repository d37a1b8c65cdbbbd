package tui

import (
	"testing"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/policy"
	"aditus/internal/status"
)

// TestRing rings once for what newly needs whoever looks, and for nothing that only others may do something about.
func TestRing(t *testing.T) {
	barred := func(site string, not map[policy.Scope]string) status.Berth {
		return status.Berth{ID: berth.ID{Workload: "fares", Site: site}, Bar: &berth.Bar{Version: "2", By: "x"}, Declared: &berth.Revision{}, MayNot: not}
	}
	now := time.Now()
	mine, theirs := barred("north", nil), barred("south", map[policy.Scope]string{policy.Sync: "no", policy.Change: "no", policy.SignOff: "no"})
	for name, test := range map[string]struct {
		off           bool
		before, after status.Snapshot
		rings         bool
	}{
		"the first look": {false, status.Snapshot{}, status.Snapshot{Now: now, Berths: []status.Berth{mine}}, false},
		"one more":       {false, status.Snapshot{Now: now}, status.Snapshot{Now: now, Berths: []status.Berth{mine}}, true},
		"the same":       {false, status.Snapshot{Now: now, Berths: []status.Berth{mine}}, status.Snapshot{Now: now.Add(time.Minute), Berths: []status.Berth{mine}}, false},
		"one less":       {false, status.Snapshot{Now: now, Berths: []status.Berth{mine}}, status.Snapshot{Now: now}, false},
		"for others":     {false, status.Snapshot{Now: now}, status.Snapshot{Now: now, Berths: []status.Berth{theirs}}, false},
		"not asked for":  {true, status.Snapshot{Now: now}, status.Snapshot{Now: now, Berths: []status.Berth{mine}}, false},
		"of the line":    {false, status.Snapshot{Now: now}, status.Snapshot{Now: now, Problems: []status.Problem{{About: "ledger", Text: "full"}}}, true},
	} {
		a := App{options: Options{Ring: !test.off}, snapshot: test.after}
		if rings := a.ring(test.before) != nil; rings != test.rings {
			t.Errorf("%s: it rings is %v", name, rings)
		}
	}
}
