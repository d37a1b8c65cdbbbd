package demo

import (
	"context"
	"fmt"
	"os"
	"slices"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/rollout"
	"aditus/internal/disk"
	"aditus/internal/ledger"
	"aditus/internal/status"
	"aditus/internal/target/sim"
)

// siteNames are the line's sites in course order: trials, rehearsal, and three in service.
var siteNames = []string{"drydock", "slipway", "north", "south", "isles"}

// arrived tells how many sites the newest revision has reached when the story begins; a workload that is not here has
// it everywhere.
var arrived = map[string]int{"boarding": 2, "fares": 1, "lookout": 2, "notices": 4}

// trial is what is tried for a while, and then torn down.
var trial = berth.ID{Workload: "piers", Site: "isles"}

// offered is where the newest revision waits for the site's team.
var offered = berth.ID{Workload: "notices", Site: "isles"}

// act is something that happens from outside. It may be done twice.
type act struct {
	name string
	at   time.Duration // after the story's start
	do   func(w *World) error
}

var acts = []act{
	{"accounts 3.2.1", 15 * time.Second, func(w *World) error {
		return push(w.Repository, change{author: "Edda Marsh", subject: "Remember the card that paid last", workload: "accounts", version: "3.2.1"}, w.clock.Now())
	}},
	{"piers 2.9.1", 40 * time.Second, func(w *World) error {
		return push(w.Repository, change{author: "Tove Lind", subject: "Count the small berths too", workload: "piers", version: "2.9.1"}, w.clock.Now())
	}},
	{"tides by hand", 100 * time.Second, func(w *World) error {
		return w.sites["isles"].ChangeByHand(sim.Hand{Workload: "tides", Part: "gauge", Field: "instances", Value: "5"})
	}},
	{"crewing 1.19.0", 130 * time.Second, func(w *World) error {
		return push(w.Repository, change{author: "Sanna Brekk", subject: "Swap shifts without a phone call", workload: "crewing", version: "1.19.0"}, w.clock.Now())
	}},
}

// Part is one thing that the story must come to.
type Part struct {
	Name    string
	Reached bool
}

// Ending is what the story came to.
type Ending struct {
	Parts []Part
	After time.Duration // of the story's time
}

// Good tells whether everything came out as it should.
func (e Ending) Good() bool {
	return !slices.ContainsFunc(e.Parts, func(p Part) bool { return !p.Reached })
}

const (
	longest  = 15 * time.Minute // so long the story may take before it counts as gone wrong
	afterAct = 5 * time.Minute  // and so long after something happened late, as when it was killed time and again before
)

// tell runs the story: it does what is due and watches for the end.
func (w *World) tell(ctx context.Context, ended func(Ending)) error {
	told, acted := false, w.clock.Now() // what was done just before it was killed has as long after it goes on
	for {
		now := w.clock.Now()
		for _, a := range acts {
			if now.Sub(w.kept.Start) < a.at || slices.Contains(w.kept.Done, a.name) {
				continue
			}
			if err := a.do(w); err != nil {
				return fmt.Errorf("the demo's story, %s: %w", a.name, err)
			}
			acted = now
			k := w.kept
			k.Done = append(slices.Clone(k.Done), a.name)
			if err := w.keep(k); err != nil {
				return err
			}
		}
		if !told {
			ending := Ending{Parts: reached(w.Engine.Snapshot(), w.Ledger), After: now.Sub(w.kept.Start)}
			if ending.Good() || ending.After > longest && now.Sub(acted) > afterAct {
				told = true
				if ended != nil {
					ended(ending)
				}
			}
		}
		if err := w.clock.Wait(ctx, now.Add(beat), nil); err != nil {
			return err
		}
	}
}

// Breached is the berth whose rollout breaches a guard in the story.
var Breached = berth.ID{Workload: "boarding", Site: "north"}

// reached holds a snapshot against what the story should come to.
func reached(s status.Snapshot, book *ledger.Ledger) []Part {
	find := func(workload, site string) status.Berth {
		b, _ := s.Find(berth.ID{Workload: workload, Site: site})
		return b
	}
	barredFor := func(b status.Berth, kind rollout.CauseKind) bool {
		if b.Bar == nil || b.Rollout != nil {
			return false
		}
		roll, _, err := book.Rollout(b.Bar.Rollout)
		return err == nil && roll.Phase == rollout.RolledBack && len(roll.Causes) > 0 && roll.Causes[0].Kind == kind
	}
	lookout, fares := find("lookout", "north"), find("fares", "slipway")
	return []Part{
		{"lookout 5.0.2 passes all stages at north and is proven", lookout.Rollout == nil && lookout.Applied != nil && lookout.Applied.Version == "5.0.2"},
		{"boarding 4.13.0 breaches a guard at north and is rolled back", barredFor(find(Breached.Workload, Breached.Site), rollout.ByGuard)},
		{"fares 8.2.0 waits for a sign-off at slipway", fares.Rollout != nil && fares.Rollout.Phase == rollout.Waiting},
		{"crewing 1.19.0 cannot start at drydock and is rolled back", barredFor(find("crewing", "drydock"), rollout.ByArtifact)},
		{"tides was changed by hand at isles and shows as drifted", find("tides", "isles").SyncStatus == compare.Drifted},
		{"accounts 3.2.1 is tried and switched to at drydock, with the old set kept", find("accounts", "drydock").Applied != nil && find("accounts", "drydock").Applied.Version == "3.2.1"},
		{"piers 2.9.1 was pushed, and is proven at drydock", find("piers", "drydock").Applied != nil && find("piers", "drydock").Applied.Version == "2.9.1"},
	}
}

// rewrite gives the artifact of a declaration on disk another version.
func rewrite(file, version string) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	if text, err = setVersion(text, version); err != nil {
		return err
	}
	return disk.Keep(disk.Machine, file, text, 0o644)
}
