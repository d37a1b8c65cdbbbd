package engine

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/ledger"
	"aditus/internal/status"
	"aditus/internal/target"
)

// ledgerFiles are what a ledger has on disk.
var ledgerFiles = []string{ledger.FileName, ledger.FileName + "-wal", ledger.FileName + "-shm"}

// copyLedger copies or, without a folder to copy to, removes the ledger of an engine that is halted.
func (r *rig) copyLedger(from, to string) {
	r.t.Helper()
	for _, name := range ledgerFiles {
		text, err := os.ReadFile(filepath.Join(from, name))
		if os.IsNotExist(err) {
			continue
		}
		r.must(err)
		if to == "" {
			r.must(os.Remove(filepath.Join(from, name)))
		} else {
			write(r.t, filepath.Join(to, name), string(text))
		}
	}
}

// TestLedgerGone loses the ledger while a proven revision serves and Git declares a bad one: what serves is told, kept and
// watched; only once its guards have proven it the declared one comes, and comes to nothing beside it.
func TestLedgerGone(t *testing.T) {
	r := newRig(t)
	one := []string{"share: 10 %, soak: 15s}, {share: 50 %, soak: 15s, sign-off: a lead}, {", ""}
	r.push("1", one...)
	r.run()
	r.until("1 is proven", func(s status.Snapshot) bool {
		return version(berthAt(s, "north")) == "1" && berthAt(s, "north").Rollout == nil
	})
	r.halt()
	r.copyLedger(r.folder, "")
	r.push("slow", one...)
	r.run()
	s := r.until("what serves is told", func(s status.Snapshot) bool { return berthAt(s, "drydock").Found != nil })
	if b := berthAt(s, "drydock"); version(b) != "1" || b.Found.Why != "the ledger knows nothing of it" || !strings.Contains(b.Waits, "to vouch for it") || b.Rollout != nil {
		t.Errorf("found: %s", describe(b))
	}
	if err := r.order(berth.Sync, "drydock"); err == nil || !strings.Contains(err.Error(), "vouch") {
		t.Errorf("a sync: %v", err)
	}
	for r.share("drydock", "1") == 1 && berthAt(r.engine.Snapshot(), "drydock").Found != nil {
		r.wait(time.Second)
	}
	if took := r.clock.Now().Sub(berthAt(s, "drydock").Found.At); took < 20*time.Second || r.share("drydock", "1") != 1 {
		t.Errorf("after %s, 1 has %v of the traffic", took, r.share("drydock", "1"))
	}
	r.until("slow is rolled back", func(s status.Snapshot) bool { return berthAt(s, "drydock").Bar != nil })
	if r.share("drydock", "1") != 1 {
		t.Error("1 does not serve alone")
	}
}

// TestLedgerOlder puts back a copy of the ledger from before a release: the released revision, which it does not know, stays,
// until a person vouches for it. With a rollout on record that is long over the same is so.
func TestLedgerOlder(t *testing.T) {
	for name, when := range map[string]func(status.Snapshot) bool{
		"before the release": func(s status.Snapshot) bool {
			return version(berthAt(s, "north")) == "1" && berthAt(s, "north").Rollout == nil
		},
		"in the midst of it": func(s status.Snapshot) bool {
			return berthAt(s, "drydock").Rollout != nil && berthAt(s, "drydock").Rollout.Stage == 1
		},
	} {
		t.Run(name, func(t *testing.T) {
			r := newRig(t)
			r.push("1")
			r.run()
			copied := t.TempDir()
			pushed, taken := false, false
			r.until("2 is proven", func(s status.Snapshot) bool {
				if !taken && (pushed || name == "before the release") && when(s) {
					r.halt()
					r.copyLedger(r.folder, copied)
					r.run()
					taken = true
				}
				if !pushed && version(berthAt(s, "north")) == "1" && berthAt(s, "north").Rollout == nil {
					r.push("2")
					pushed = true
				}
				if b := berthAt(s, "drydock"); b.Rollout != nil && b.Rollout.Phase == "waiting" {
					r.must(r.order(berth.SignOff, "drydock"))
				}
				return version(berthAt(s, "drydock")) == "2" && berthAt(s, "drydock").Rollout == nil
			})
			r.halt()
			r.copyLedger(r.folder, "")
			r.copyLedger(copied, r.folder)
			r.run()
			s := r.until("it is told", func(s status.Snapshot) bool { return berthAt(s, "drydock").Found != nil })
			b := berthAt(s, "drydock")
			if version(b) != "2" || b.Rollout != nil || r.share("drydock", "2") != 1 || !strings.Contains(b.Found.Why, "older than the site") {
				t.Errorf("%s, with %v of the traffic", describe(b), r.share("drydock", "2"))
			}
			if err := r.order(berth.Vouch, "drydock"); err != nil {
				t.Fatal(err)
			}
			s = r.until("it is proven", func(s status.Snapshot) bool { return berthAt(s, "drydock").Found == nil })
			if b := berthAt(s, "drydock"); b.SyncStatus != compare.Aligned || r.share("drydock", "2") != 1 {
				t.Error(describe(b))
			}
			if facts := r.texts("drydock", berth.Vouched); len(facts) != 1 || !strings.Contains(facts[0], "Maren Oake vouches for 2") {
				t.Error(facts)
			}
		})
	}
}

func fp(text string) declare.Fingerprint { return declare.Fingerprint(text) }

// TestBeside gives traffic and instances to a barred revision behind the engine's back: that is told like any drift, and put
// back when a person says so, through the revision that is applied.
func TestBeside(t *testing.T) {
	for name, spoil := range map[string]func(r *rig, one, bad string) []target.Want{
		"half of the traffic": func(r *rig, one, bad string) []target.Want {
			return []target.Want{target.SetShare(fp(bad), 0.5, fp(one))}
		},
		"all of it": func(r *rig, one, bad string) []target.Want { return []target.Want{target.SetShare(fp(bad), 1, "")} },
		"all, and nothing left": func(r *rig, one, bad string) []target.Want {
			return []target.Want{target.SetShare(fp(bad), 1, ""), target.Scale(fp(one), "app", 0)}
		},
		"a set without any": func(r *rig, one, bad string) []target.Want { return nil },
	} {
		t.Run(name, func(t *testing.T) {
			r := newRig(t)
			r.push("1")
			r.run()
			s := r.until("1 is proven", func(s status.Snapshot) bool {
				return version(berthAt(s, "drydock")) == "1" && berthAt(s, "drydock").Rollout == nil
			})
			one := string(berthAt(s, "drydock").Applied.Fingerprint)
			r.push("slow")
			s = r.until("slow is barred", func(s status.Snapshot) bool {
				return berthAt(s, "drydock").Bar != nil && berthAt(s, "drydock").Rollout == nil
			})
			bad := berthAt(s, "drydock").Bar.Revision
			kept, err := r.engine.revision("web", bad)
			r.must(err)
			wants := append([]target.Want{target.Prepare(bad, *kept.Desired), target.Scale(bad, "app", 2)}, spoil(r, one, string(bad))...)
			r.must(r.sites["drydock"].Apply(t.Context(), "web", wants))
			r.until("it is told", func(s status.Snapshot) bool { return berthAt(s, "drydock").SyncStatus == compare.Diverged })
			if facts := r.texts("drydock", berth.Drifted); len(facts) != 1 || !strings.Contains(facts[0], "slow (") || !strings.Contains(facts[0], "is there too, with") {
				t.Error(facts)
			}
			r.must(r.order(berth.Sync, "drydock"))
			r.until("1 serves alone", func(s status.Snapshot) bool {
				seen, _ := r.sites["drydock"].Observe(t.Context(), "web")
				return len(seen.Cohorts) == 1 && r.share("drydock", "1") == 1 && berthAt(s, "drydock").Rollout == nil && len(seen.Cohorts[0].Instances) == 4
			})
			if b := berthAt(r.engine.Snapshot(), "drydock"); version(b) != "1" || b.Bar == nil {
				t.Error(describe(b))
			}
		})
	}
}
