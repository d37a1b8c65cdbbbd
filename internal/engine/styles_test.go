package engine

import (
	"context"
	"io"
	"log"
	"math"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-git/go-git/v5/plumbing"
	"github.com/google/go-containerregistry/pkg/registry"

	"aditus/internal/config"
	"aditus/internal/core/berth"
	"aditus/internal/core/guard"
	"aditus/internal/core/rollout"
	"aditus/internal/ledger"
	"aditus/internal/source"
	"aditus/internal/status"
	"aditus/internal/target/sim"
)

// stagesOf and countsOf are what the declaration of the tests has, for others to be put in their place.
const (
	stagesOf = "  stages: [{share: 10 %, soak: 15s}, {share: 50 %, soak: 15s, sign-off: a lead}, {share: 100 %, soak: 10s}]\n"
	countsOf = "    breach: {intervals: 2, of: 3, samples: 5}\n"
)

// atFirst brings a first version to drydock, declared with changes, and waits until it is proven.
func atFirst(t *testing.T, change ...string) *rig {
	t.Helper()
	r := newRig(t)
	r.change = func(s *config.Settings) { s.Sites[1].Automatic, s.Links[0].Push = false, true }
	r.push("1", change...)
	r.run()
	r.until("1 is proven", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return version(b) == "1" && b.Rollout == nil })
	return r
}

// count is how many instances are there, and how many of them are healthy.
func (r *rig) count(site string) (instances, healthy int) {
	r.t.Helper()
	b := berthAt(r.engine.Snapshot(), site)
	for _, c := range b.Cohorts {
		for _, in := range c.Instances {
			instances++
			if in.Health.Word == "healthy" {
				healthy++
			}
		}
	}
	return instances, healthy
}

func TestRolling(t *testing.T) {
	change := []string{stagesOf, "  style: rolling\n  extra: 1\n  batch: 2\n  soak: 10s\n"}
	for _, test := range []struct{ version, ends string }{{"2", "2"}, {"hang", "1"}} {
		t.Run(test.version, func(t *testing.T) {
			r := atFirst(t, change...)
			r.push(test.version, change...)
			most, least := 0, math.MaxInt
			r.until("it is over", func(s status.Snapshot) bool {
				b := berthAt(s, "drydock")
				if b.Rollout != nil {
					n, healthy := r.count("drydock")
					most, least = max(most, n), min(least, healthy)
				}
				return b.Rollout == nil && version(b) == test.ends && (test.ends == "2" || b.Bar != nil)
			})
			if most > 5 || least < 4 {
				t.Errorf("there were up to %d instances, and as few as %d healthy; 5 and 4 are due", most, least)
			}
			n, healthy := r.count("drydock")
			if n != 4 || healthy != 4 || r.share("drydock", test.ends) != 1 {
				t.Errorf("in the end %d of %d instances are healthy, and %s has %v of the traffic", healthy, n, test.ends, r.share("drydock", test.ends))
			}
		})
	}
}

func TestBlueGreen(t *testing.T) {
	task := "  smoke: {kind: task, artifact: r.example/web:TASK}\nrollout:\n"
	change := []string{stagesOf, "  style: blue-green\n  try: {for: 10s, task: smoke}\n  keep: 2m\n", "rollout:\n", strings.Replace(task, "TASK", "1", 1)}
	r := atFirst(t, change...)
	r.push("2", change...)
	tried := false
	s := r.until("2 is proven, and the old set kept", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		if b.Rollout != nil && b.Rollout.Stage == 0 && r.share("drydock", "2") > 0 {
			t.Error("it had traffic before the switch")
		}
		tried = tried || b.Rollout != nil && b.Rollout.Stage == 0 && b.Rollout.Phase == rollout.Soaking
		return version(b) == "2" && b.Keeps()
	})
	if b := berthAt(s, "drydock"); !tried || b.Rollout.New.Set != "green" || b.Rollout.OldSide.Healthy != 4 {
		t.Errorf("tried %v, in the set %q, with %d old instances", tried, b.Rollout.New.Set, b.Rollout.OldSide.Healthy)
	}
	began := r.clock.Now()
	if err := r.order(berth.RollBack, "drydock"); err != nil {
		t.Fatal(err)
	}
	r.until("1 has all the traffic again", func(status.Snapshot) bool { return r.share("drydock", "1") == 1 })
	if took := r.clock.Now().Sub(began); took > 5*time.Second {
		t.Errorf("the way back took %s", took)
	}
	s = r.until("2 is gone and barred", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return b.Rollout == nil && b.Bar != nil })
	if b := berthAt(s, "drydock"); version(b) != "1" || !slices.Contains(r.kinds("drydock"), "barred") {
		t.Errorf("in the end: %s", describe(b))
	}
}

// TestSyncWhileKept sees that a person's sync takes the place of a kept old set, where nothing comes by itself.
func TestSyncWhileKept(t *testing.T) {
	change := []string{stagesOf, "  style: blue-green\n  try: {for: 5s}\n  keep: 1h\n"}
	r := newRig(t)
	r.change = func(s *config.Settings) { s.Sites[0].Automatic, s.Sites[1].Automatic = false, false }
	r.push("1", change...)
	r.run()
	for i, version := range []string{"1", "2", "later"} {
		if i > 0 {
			r.push(version, change...)
		}
		r.until(version+" is declared", func(s status.Snapshot) bool {
			b := berthAt(s, "drydock")
			return b.Declared != nil && b.Declared.Version == version
		})
		if err := r.order(berth.Sync, "drydock"); err != nil {
			t.Fatalf("%s: %v", version, err)
		}
		r.until(version+" is proven", func(s status.Snapshot) bool {
			return berthAt(s, "drydock").Applied != nil && berthAt(s, "drydock").Applied.Version == version
		})
	}
	if !slices.Contains(r.kinds("drydock"), "released") {
		t.Errorf("nobody says that the kept set went: %v", r.kinds("drydock"))
	}
}

// TestStandingGuard sees that a breach after the proof goes back to the revision before, once, and that a locked berth
// stays as it is.
func TestStandingGuard(t *testing.T) {
	change := []string{countsOf, "    standing: roll back\n", "cool-down: 1m", "cool-down: 10m", stagesOf, "  stages: [{share: 100 %}]\n"}
	for _, locks := range []bool{false, true} {
		r := atFirst(t, change...)
		r.push("later", change...)
		r.until("it is proven", func(s status.Snapshot) bool {
			b := berthAt(s, "drydock")
			return version(b) == "later" && b.Rollout == nil
		})
		if locks {
			if err := r.do(berth.Order{Verb: berth.LockIt, Berth: berth.ID{Workload: "web", Site: "drydock"}, By: "Sanna Brekk", From: "the socket", Note: "the regatta"}); err != nil {
				t.Fatal(err)
			}
		}
		if locks {
			s := r.until("a person is called", func(s status.Snapshot) bool { return berthAt(s, "drydock").Calls != "" })
			if b := berthAt(s, "drydock"); !strings.Contains(b.Calls, "locked by Sanna Brekk: the regatta") || b.Rollout != nil {
				t.Errorf("called for %q, rollout %v", b.Calls, b.Rollout)
			}
			if err := r.order(berth.Sync, "drydock"); err == nil || !strings.Contains(err.Error(), "locked by Sanna Brekk") {
				t.Errorf("a locked berth was synced: %v", err)
			}
			if err := r.do(berth.Order{Verb: berth.Sync, Berth: berthAt(s, "drydock").ID, By: "Tove Lind", From: "192.0.2.7"}); err == nil {
				t.Error("it was synced from elsewhere")
			}
			if asked := r.texts("drydock", berth.Asked); len(asked) != 1 || asked[0] != "lock, asked by Sanna Brekk from the socket" {
				t.Errorf("what was asked for and granted: %q", asked)
			}
			if err := r.order(berth.RollBack, "drydock"); err == nil || !strings.Contains(err.Error(), "unlock it first") {
				t.Errorf("a locked berth was rolled back: %v", err)
			}
			if err := r.order(berth.Unlock, "drydock"); err != nil {
				t.Error(err)
			}
			continue
		}
		s := r.until("it is back on 1", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return version(b) == "1" && b.Rollout == nil })
		if b := berthAt(s, "drydock"); b.Bar == nil || b.Bar.Version != "later" || r.share("drydock", "1") != 1 {
			t.Errorf("in the end: %s, barred %+v", describe(b), b.Bar)
		}
	}
}

func TestAbandon(t *testing.T) {
	r := atFirst(t)
	r.push("2")
	r.until("2 soaks", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return b.Rollout != nil && b.Rollout.Phase == rollout.Soaking
	})
	if err := r.order(berth.Abandon, "drydock"); err != nil {
		t.Fatal(err)
	}
	s := r.until("it is left", func(s status.Snapshot) bool { return berthAt(s, "drydock").Rollout == nil })
	r.wait(time.Minute)
	if b := berthAt(r.engine.Snapshot(), "drydock"); b.Left == nil || b.Left.Version != "2" || version(b) != "1" || b.Rollout != nil || r.share("drydock", "2") != 0.1 {
		t.Errorf("left as %+v with %v of the traffic: %s", berthAt(s, "drydock").Left, r.share("drydock", "2"), describe(b))
	}
	if err := r.order(berth.Sync, "drydock"); err != nil {
		t.Fatal(err)
	}
	r.until("it goes on where it was", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return b.Rollout != nil && b.Left == nil })
	r.push("1", "instances: 4", "instances: 3")
	r.until("a newer one comes in", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return b.Rollout != nil && b.Rollout.New.Alike["app"] == 3
	})
	r.until("it soaks", func(s status.Snapshot) bool { return berthAt(s, "drydock").Rollout.Phase == rollout.Soaking })
	for _, verb := range []berth.Verb{berth.Abandon, berth.RollBack} {
		if err := r.order(verb, "drydock"); err != nil {
			t.Fatal(err)
		}
	}
	s = r.until("what was left is gone", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return b.Rollout == nil && b.Bar != nil })
	if b := berthAt(s, "drydock"); b.Left != nil || len(b.Cohorts) != 1 || b.Applied.Fingerprint != b.Cohorts[0].Revision {
		t.Errorf("gone back from what was left: %+v, %s", b.Left, describe(b))
	}
}

// TestBackToAny goes back to a revision on record that was named, and offers the revert in Git.
func TestBackToAny(t *testing.T) {
	one := []string{stagesOf, "  stages: [{share: 100 %}]\n"}
	r := atFirst(t, one...)
	r.push("2", one...)
	r.until("2 is proven", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return version(b) == "2" && b.Rollout == nil })
	id := berth.ID{Workload: "web", Site: "drydock"}
	for to, why := range map[string]string{"2": "is what is applied", "7": "no revision 7 on record"} {
		if err := r.do(berth.Order{Verb: berth.RollBack, Berth: id, By: "Maren Oake", To: to}); err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("back to %s: %v", to, err)
		}
	}
	if err := r.do(berth.Order{Verb: berth.RollBack, Berth: id, By: "Maren Oake", To: "1", Note: "a customer called"}); err != nil {
		t.Fatal(err)
	}
	s := r.until("1 is back", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return version(b) == "1" && b.Rollout == nil })
	if b := berthAt(s, "drydock"); b.Bar == nil || !strings.Contains(b.Bar.Why, "a customer called") {
		t.Errorf("barred: %+v", b.Bar)
	}
	p, err := r.engine.OfferRevert(context.Background(), id, "Maren Oake")
	if err != nil {
		t.Fatal(err)
	}
	commit, err := r.repo.CommitObject(plumbing.NewHash(p.Commit))
	r.must(err)
	file, err := commit.File("workloads/web.yaml")
	r.must(err)
	text, err := file.Contents()
	r.must(err)
	if !strings.Contains(text, "web:1") || !strings.Contains(commit.Message, "a customer called") || p.Branch == "main" {
		t.Errorf("on %s:\n%s\n%s", p.Branch, commit.Message, text)
	}
	if _, err := r.engine.OfferRevert(context.Background(), id, "Maren Oake"); err == nil || !strings.Contains(err.Error(), source.ErrTaken.Error()) {
		t.Errorf("offered twice: %v", err)
	}
	if err := r.do(berth.Order{Verb: berth.RollBack, Berth: id, By: "Maren Oake", To: "2"}); err != nil {
		t.Error(err)
	}
	r.until("2 is back, and its bar gone", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return version(b) == "2" && b.Rollout == nil && b.Bar == nil
	})
	if _, err := r.engine.OfferLimit(context.Background(), id, "slow", "at-most", "8 %", "why", "Maren Oake"); err != nil {
		t.Error(err)
	}
}

// TestSequentialOverRestart sees that the evidence of a guard that decides sequentially is the same after a restart.
func TestSequentialOverRestart(t *testing.T) {
	r := atFirst(t, countsOf, "")
	r.push("slow", countsOf, "", "share: 10 %, soak: 15s", "share: 10 %, soak: 60s")
	var before guard.Verdict
	r.until("there is evidence", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		if b.Rollout == nil || len(b.Verdicts) == 0 {
			return false
		}
		before = b.Verdicts[0]
		return before.Judged >= 5
	})
	r.halt()
	r.run()
	s := r.until("it is judged again", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return b.Rollout != nil && len(b.Verdicts) > 0
	})
	after := berthAt(s, "drydock").Verdicts[0]
	if after.Judged != before.Judged || math.Abs(after.Evidence-before.Evidence) > 1e-9 || after.New.Count != before.New.Count {
		t.Errorf("before the restart %+v of %+v, after it %+v of %+v", before, before.New, after, after.New)
	}
	r.until("it breaches at the stage that shows it", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		if b.Rollout != nil && b.Rollout.Phase == rollout.Waiting {
			r.must(r.order(berth.SignOff, "drydock"))
		}
		return b.Bar != nil
	})
}

// TestByInstances sees that on a target that cannot split traffic a canary comes in by numbers of instances, with the
// share that is really there, and that what needs a switch is refused in words.
func TestByInstances(t *testing.T) {
	r := newRig(t)
	model, err := sim.ReadBehaviour("test", []byte(behaviour+"sites: {drydock: {whole: true}}\n"))
	r.must(err)
	r.sites["drydock"], err = sim.Open("drydock", "", model, r.clock.Now)
	r.must(err)
	t.Cleanup(r.sites["drydock"].Close)
	stages := []string{stagesOf, "  stages: [{share: 25 %, soak: 20s}, {share: 100 %}]\n"}
	r.push("1", stages...)
	r.run()
	r.until("1 is proven", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return version(b) == "1" && b.Rollout == nil })
	r.push("2", stages...)
	s := r.until("2 soaks", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return b.Rollout != nil && b.Rollout.Phase == rollout.Soaking
	})
	if b := berthAt(s, "drydock"); b.Rollout.NewSide.Healthy != 1 || b.Rollout.OldSide.Healthy != 3 || b.Rollout.Share != 0.25 {
		t.Errorf("%d new and %d old with %v of the traffic", b.Rollout.NewSide.Healthy, b.Rollout.OldSide.Healthy, b.Rollout.Share)
	}
	r.until("2 is proven", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return version(b) == "2" && b.Rollout == nil })
	r.push("1", stagesOf, "  style: blue-green\n")
	r.until("a switch is refused", func(s status.Snapshot) bool {
		return strings.Contains(berthAt(s, "drydock").Waits, "cannot switch traffic at once")
	})
}

// TestRoles sees that a sign-off is for those whom it is asked of.
func TestRoles(t *testing.T) {
	r := newRig(t)
	r.change = func(s *config.Settings) {
		s.Sites[1].Automatic, s.Roles = false, map[string][]string{"a lead": {"Edda Marsh"}}
	}
	r.push("1")
	r.run()
	r.until("1 is proven", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return version(b) == "1" && b.Rollout == nil })
	r.push("2")
	r.until("it waits", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return b.Rollout != nil && b.Rollout.Phase == rollout.Waiting
	})
	if err := r.order(berth.SignOff, "drydock"); err == nil || !strings.Contains(err.Error(), "it is for a lead, who are Edda Marsh, and you are Maren Oake") {
		t.Errorf("anyone may sign off: %v", err)
	}
	if err := r.do(berth.Order{Verb: berth.SignOff, Berth: berth.ID{Workload: "web", Site: "drydock"}, By: "Edda Marsh"}); err != nil {
		t.Error(err)
	}
}

// TestNotAlive sees that an instance whose process does not run any more, by its probe, is started anew.
func TestNotAlive(t *testing.T) {
	r := newRig(t)
	r.change = func(s *config.Settings) { s.Sites[1].Automatic = false }
	probes := []string{"grace: 10s}}", "grace: 10s}, pulse: {command: [check], tells: alive, every: 2s, grace: 5s}}"}
	r.push("stuck", probes...)
	r.run()
	r.until("it is started anew", func(status.Snapshot) bool { return len(r.texts("drydock", "restarted")) > 0 })
	if text := r.texts("drydock", "restarted")[0]; !strings.Contains(text, "is started anew: it does not run") {
		t.Errorf("told: %s", text)
	}
}

// TestAgainstItsPast holds a new revision against what the workload showed at that time of day on the days before.
func TestAgainstItsPast(t *testing.T) {
	change := []string{"    limit: {at-most: 10 %}\n" + countsOf, "    limit: {above-past-by: 5 points}\n"}
	for _, past := range []bool{false, true} {
		r := newRig(t)
		r.change = func(s *config.Settings) { s.Sites[1].Automatic = false }
		book, err := ledger.Open(r.folder, nil)
		r.must(err)
		var steady []ledger.Point
		for day := 1; past && day < 6; day++ {
			for _, off := range []time.Duration{-20 * time.Minute, 0, 20 * time.Minute} {
				steady = append(steady, ledger.Point{Guard: "slow", Revision: "before", At: start.AddDate(0, 0, -day).Add(off), Value: 0.02, Part: 20, Whole: 1000})
			}
		}
		r.must(book.Record(t.Context(), ledger.Entry{Berth: berth.ID{Workload: "web", Site: "drydock"}, Steady: steady}))
		book.Close()
		r.push("1", change...)
		r.run()
		r.until("1 is proven", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return version(b) == "1" && b.Rollout == nil })
		if !past {
			r.push("2", change...)
			r.until("the guard is silent without a past", func(s status.Snapshot) bool {
				b := berthAt(s, "drydock")
				return len(b.Verdicts) > 0 && b.Verdicts[0].Word == guard.Silent && b.Rollout != nil
			})
			continue
		}
		r.push("slow", append(change, stagesOf, "  stages: [{share: 10 %, soak: 15s}, {share: 50 %, soak: 5m}, {share: 100 %}]\n")...)
		s := r.until("it goes back", func(s status.Snapshot) bool { return berthAt(s, "drydock").Bar != nil })
		if why := berthAt(s, "drydock").Bar.Why; !strings.Contains(why, "5 points above its past is allowed") {
			t.Errorf("barred as %s", why)
		}
	}
}

// TestBundleBefore finds the bundle to go back to where the one that came was barred.
func TestBundleBefore(t *testing.T) {
	server := httptest.NewServer(registry.New(registry.Logger(log.New(io.Discard, "", 0))))
	t.Cleanup(server.Close)
	host := strings.TrimPrefix(server.URL, "http://")
	place := config.BundleScheme + host + "/line/web"
	registries := source.NewRegistries(map[string]config.Registry{host: {Plain: true}}, func(string) source.Credential { return source.Credential{} })
	r := newRig(t)
	push := func(version string) string {
		t.Helper()
		text := strings.NewReplacer(stagesOf, "  stages: [{share: 100 %}]\n", "VERSION", version).Replace(declared)
		digest, err := registries.Push(t.Context(), place, source.Bundle{Version: version + ".0.0", Title: "Gates", Files: []source.File{{Name: "web.yaml", Text: []byte(text)}}})
		r.must(err)
		return digest
	}
	r.change = func(s *config.Settings) {
		s.Links[0] = config.Link{Name: "base", Repository: place, Version: ">=1", Plain: true, Every: 5 * time.Second}
	}
	id := berth.ID{Workload: "web", Site: "drydock"}
	first := push("1")
	r.run()
	r.until("1 is there", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return version(b) == "1" && b.Rollout == nil && b.Bundle
	})
	if _, _, err := r.engine.BundleBefore(t.Context(), id); err == nil || !strings.Contains(err.Error(), "there is nothing to revert") {
		t.Errorf("before anything is barred: %v", err)
	}
	push("2")
	r.until("2 is there", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return version(b) == "2" && b.Rollout == nil })
	r.must(r.do(berth.Order{Verb: berth.RollBack, Berth: id, By: "Maren Oake", To: "1", Note: "a customer called"}))
	r.until("1 is back", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return version(b) == "1" && b.Rollout == nil })
	name, digest, err := r.engine.BundleBefore(t.Context(), id)
	if name != "base" || digest != first || err != nil {
		t.Errorf("it goes back to %s of %s (%v), want %s", digest, name, err, first)
	}
}
