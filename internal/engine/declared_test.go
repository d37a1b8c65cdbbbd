package engine

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-git/go-git/v5/plumbing"

	"aditus/internal/config"
	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/core/rollout"
	"aditus/internal/ledger"
	"aditus/internal/status"
	"aditus/internal/target"
)

// byHand lets no site take anything by itself.
func byHand(s *config.Settings) {
	for i := range s.Sites {
		s.Sites[i].Automatic = false
	}
}

// TestAbsentAfterRestart sees that a berth which is declared and has nothing on it yet is still known after a restart.
func TestAbsentAfterRestart(t *testing.T) {
	r := newRig(t)
	r.change = byHand
	r.push("1")
	r.run()
	absent := func(s status.Snapshot) bool { return berthAt(s, "north").SyncStatus == compare.Absent }
	r.until("absent", absent)
	r.halt()
	r.run()
	r.until("absent after a restart", absent)
	r.must(r.order(berth.Sync, "north"))
	r.until("there", func(s status.Snapshot) bool { return version(berthAt(s, "north")) == "1" })
}

// TestSiteFile sees that what differs at one site makes a revision of its own there, and that a change of it moves that
// site alone.
func TestSiteFile(t *testing.T) {
	r := settled(t)
	r.write("workloads/web/north.yaml", "parts: {app: {instances: 6}}\n", "More at north")
	s := r.until("north takes it", func(s status.Snapshot) bool { return berthAt(s, "north").Rollout != nil })
	if d := berthAt(s, "drydock"); d.Rollout != nil || d.SyncStatus != compare.Aligned {
		t.Errorf("drydock: %s", describe(d))
	}
	r.until("six", func(s status.Snapshot) bool {
		b := berthAt(s, "north")
		return b.Rollout != nil && b.Rollout.Phase == rollout.Waiting
	})
	r.must(r.order(berth.SignOff, "north"))
	r.until("six serve", func(s status.Snapshot) bool {
		return berthAt(s, "north").SyncStatus == compare.Aligned && berthAt(s, "north").Health.Healthy == 6
	})
}

// TestMarked sees that a change of what does not run, such as a guard or a probe, starts nothing anew.
func TestMarked(t *testing.T) {
	r := settled(t)
	before := instances(r, "drydock")
	r.push("1", "at-most: 10 %", "at-most: 12 %", "grace: 10s", "grace: 12s")
	r.until("marked", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return b.SyncStatus == compare.Aligned && b.Rollout == nil && len(r.desired(b.Applied).Guards) == 1 && r.desired(b.Applied).Guards[0].Limit.Value == 0.12
	})
	if after := instances(r, "drydock"); after != before {
		t.Errorf("instances %s became %s", before, after)
	}
	if texts := r.texts("drydock", "marked"); len(texts) != 1 || !strings.Contains(texts[0], "nothing that runs changes") {
		t.Errorf("on record: %q", texts)
	}
	r.until("north follows, since drydock's is proven", func(s status.Snapshot) bool { return berthAt(s, "north").SyncStatus == compare.Aligned })
	r.halt()
	r.run()
	r.wait(3 * time.Second)
	if b := berthAt(r.engine.Snapshot(), "drydock"); b.SyncStatus != compare.Aligned || instances(r, "drydock") != before {
		t.Errorf("after a restart: %s", describe(b))
	}
}

func instances(r *rig, site string) string {
	seen, err := r.sites[site].Observe(r.t.Context(), "web")
	r.must(err)
	var ids []string
	for _, c := range seen.Cohorts {
		for _, in := range c.Instances {
			ids = append(ids, in.ID)
		}
	}
	return strings.Join(ids, " ")
}

// TestOrphan drops a part from Git: it lives on through the rollout, is told, and goes only when a person says so.
func TestOrphan(t *testing.T) {
	r := newRig(t)
	extra := "  side:\n    kind: service\n    artifact: r.example/web:1\nrollout:"
	r.push("1", "rollout:", extra)
	r.run()
	r.until("there", func(s status.Snapshot) bool {
		return version(berthAt(s, "drydock")) == "1" && berthAt(s, "drydock").Rollout == nil
	})
	r.push("2")
	r.until("waiting", inPhase("drydock", rollout.Waiting, 1))
	r.must(r.order(berth.SignOff, "drydock"))
	s := r.until("proven", func(s status.Snapshot) bool {
		return version(berthAt(s, "drydock")) == "2" && berthAt(s, "drydock").Rollout == nil
	})
	b := berthAt(s, "drydock")
	if b.SyncStatus != compare.Aligned || len(b.Differences) != 1 || b.Differences[0].Kind != compare.Orphan || !strings.Contains(instances(r, "drydock"), "side") {
		t.Fatalf("%s: %+v, live %s", describe(b), b.Differences, instances(r, "drydock"))
	}
	r.wait(time.Minute)
	if !strings.Contains(instances(r, "drydock"), "side") {
		t.Error("the orphan was removed unasked")
	}
	r.must(r.order(berth.RemoveOrphans, "drydock"))
	r.until("gone", func(s status.Snapshot) bool { return len(berthAt(s, "drydock").Differences) == 0 })
	if strings.Contains(instances(r, "drydock"), "side") {
		t.Error("the orphan still runs")
	}
	if err := r.order(berth.RemoveOrphans, "drydock"); err == nil || !strings.Contains(err.Error(), "nothing at web/drydock is an orphan") {
		t.Errorf("nothing to remove: %v", err)
	}
}

// TestLeave lets a scaler look after the number of instances: what it does is no drift, and a rollout keeps it.
func TestLeave(t *testing.T) {
	r := newRig(t)
	r.push("1", "parts:", "leave: [/parts/app/instances]\nparts:")
	r.run()
	r.until("there", func(s status.Snapshot) bool {
		return version(berthAt(s, "drydock")) == "1" && berthAt(s, "drydock").Rollout == nil
	})
	r.hand("drydock", "app", "instances", "6")
	s := r.until("left", func(s status.Snapshot) bool { return len(berthAt(s, "drydock").Differences) == 1 })
	if b := berthAt(s, "drydock"); b.SyncStatus != compare.Aligned || b.Differences[0].Kind != compare.Left {
		t.Errorf("%s: %+v", describe(b), b.Differences)
	}
	r.push("2", "parts:", "leave: [/parts/app/instances]\nparts:")
	r.until("waiting", inPhase("drydock", rollout.Waiting, 1))
	r.must(r.order(berth.SignOff, "drydock"))
	r.until("as many as the scaler wants", func(s status.Snapshot) bool {
		return version(berthAt(s, "drydock")) == "2" && berthAt(s, "drydock").Rollout == nil && berthAt(s, "drydock").Health.Healthy == 6
	})
}

// TestInPart takes one part of what is declared: the rest waits for a person, and is taken with Git's next step.
func TestInPart(t *testing.T) {
	r := newRig(t)
	r.change = func(s *config.Settings) { s.Sites[1].Automatic = false }
	side := func(v string) []string {
		return []string{"rollout:", "  side:\n    kind: service\n    artifact: r.example/web:" + v + "\nrollout:", "share: 10 %, soak: 15s", "share: 100 %", "}, {share: 50 %, soak: 15s, sign-off: a lead}, {share: 100 %, soak: 10s}", "}"}
	}
	r.push("1", side("1")...)
	r.run()
	r.until("declared", func(s status.Snapshot) bool {
		return berthAt(s, "north").Declared != nil && berthAt(s, "north").SyncStatus == compare.Absent
	})
	r.must(r.order(berth.Sync, "north"))
	r.until("there", func(s status.Snapshot) bool {
		return version(berthAt(s, "north")) == "1" && berthAt(s, "north").Rollout == nil
	})
	r.push("2", side("2")...)
	r.until("behind", func(s status.Snapshot) bool { return berthAt(s, "north").SyncStatus == compare.Behind })
	part := func(names ...string) error {
		return r.do(berth.Order{Verb: berth.Sync, Berth: berth.ID{Workload: "web", Site: "north"}, By: "Maren Oake", Parts: names})
	}
	if err := part("engine"); err == nil || !strings.Contains(err.Error(), `has no part "engine"; it has app and side`) {
		t.Errorf("a part that is not there: %v", err)
	}
	r.must(part("side"))
	s := r.until("taken", func(s status.Snapshot) bool { b := berthAt(s, "north"); return b.Rollout == nil && b.InPart })
	live := berthAt(s, "north").Live
	if app, side := live["app"].(map[string]any)["artifact"], live["side"].(map[string]any)["artifact"]; app != "r.example/web:1" || side != "r.example/web:2" {
		t.Errorf("live is %v and %v; on record %v", app, side, r.texts("north", "rolled back"))
	}
	if b := berthAt(s, "north"); b.SyncStatus != compare.Behind {
		t.Errorf("the rest: %s", describe(b))
	}
	r.must(r.order(berth.Sync, "north"))
	r.until("all of it", func(s status.Snapshot) bool {
		b := berthAt(s, "north")
		return b.SyncStatus == compare.Aligned && !b.InPart
	})
}

// TestStopped scales a workload to none and back: ordinary changes, without guards to wait for.
func TestStopped(t *testing.T) {
	r := settled(t)
	r.push("1", "instances: 4", "instances: 0")
	r.until("stopped", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return b.SyncStatus == compare.Aligned && b.Health.Word == "stopped"
	})
	r.push("1")
	r.until("back", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return b.SyncStatus == compare.Aligned && b.Health.Healthy == 4
	})
}

// TestTask runs a task before the service that needs it, once, and asks before one that cannot be undone.
func TestTask(t *testing.T) {
	r := settled(t)
	task := []string{"    kind: service\n", "    kind: service\n    needs: [prepare]\n", "rollout:", "  prepare: {kind: task, artifact: r.example/web:1, undoable: false}\nrollout:"}
	r.push("2", task...)
	s := r.until("it asks", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return b.Rollout != nil && b.Rollout.Task == "prepare"
	})
	if b := berthAt(s, "drydock"); b.Rollout.Phase != rollout.Waiting || strings.Contains(instances(r, "drydock"), "prepare") {
		t.Fatalf("%s: %s", describe(b), instances(r, "drydock"))
	}
	r.must(r.order(berth.SignOff, "drydock"))
	r.until("soaking", inPhase("drydock", rollout.Soaking, 0))
	if n := strings.Count(instances(r, "drydock"), "prepare"); n != 1 {
		t.Errorf("the task ran %d times", n)
	}
	r.must(r.order(berth.RollBack, "drydock"))
	r.until("back", func(s status.Snapshot) bool { return berthAt(s, "drydock").Rollout == nil })
	if texts := r.texts("drydock", "rollback"); len(texts) != 1 || !strings.Contains(texts[0], "what the task prepare did stays, as it cannot be undone") {
		t.Errorf("the rollback says %q", texts)
	}
}

// TestNeedsWorkload sees that a workload waits for the one that it needs at the site.
func TestNeedsWorkload(t *testing.T) {
	r := newRig(t)
	other := strings.NewReplacer("workload: web", "workload: base", "VERSION", "hang", "ports: {http: 80}", "ports: {http: 80}").Replace(declared)
	r.write("workloads/base.yaml", other, "The base")
	r.push("1", "parts:", "needs: [base]\nparts:")
	r.run()
	s := r.until("it waits", func(s status.Snapshot) bool {
		return strings.Contains(berthAt(s, "drydock").Waits, "waits for base, which it needs")
	})
	if b := berthAt(s, "drydock"); b.Rollout != nil {
		t.Errorf("%s", describe(b))
	}
	r.write("workloads/base.yaml", strings.Replace(other, "web:hang", "web:1", 1), "A base that works")
	if err := r.do(berth.Order{Verb: berth.RollBack, Berth: berth.ID{Workload: "base", Site: "drydock"}, By: "Maren Oake"}); err == nil {
		t.Error("there is nothing to go back to, and yet it went")
	}
	r.until("it comes", func(s status.Snapshot) bool {
		base, _ := s.Find(berth.ID{Workload: "base", Site: "drydock"})
		return berthAt(s, "drydock").Rollout != nil && base.Health.Word == "healthy"
	})
}

// TestDriftSchedule looks for drift on a schedule, announces its correction, and makes it; and leaves what a person
// says to leave.
func TestDriftSchedule(t *testing.T) {
	r := newRig(t)
	r.change = func(s *config.Settings) {
		s.Sites[0].Drift = config.Drift{Look: "*/5 * * * *", Then: config.CorrectDrift, Notice: time.Minute}
	}
	r.push("1")
	r.run()
	r.until("there", func(s status.Snapshot) bool {
		return version(berthAt(s, "drydock")) == "1" && berthAt(s, "drydock").Rollout == nil
	})
	r.wait(time.Second)
	r.hand("drydock", "app", "instances", "6") // the first look after the change falls on a full five minutes
	s := r.until("announced", func(s status.Snapshot) bool { return !berthAt(s, "drydock").Corrects.IsZero() })
	if b := berthAt(s, "drydock"); b.Corrects.Sub(s.Now) > time.Minute || r.clock.Now().Minute()%5 != 0 && r.clock.Now().Second() > 5 {
		t.Errorf("announced at %s for %s", s.Now, b.Corrects)
	}
	r.until("put back", func(s status.Snapshot) bool { return berthAt(s, "drydock").SyncStatus == compare.Aligned })
	r.hand("drydock", "app", "instances", "7")
	s = r.until("announced again", func(s status.Snapshot) bool { return !berthAt(s, "drydock").Corrects.IsZero() })
	first := berthAt(s, "drydock").Corrects
	r.wait(20 * time.Second)
	r.hand("drydock", "app", "instances", "8") // what was announced is not this
	r.until("announced anew", func(s status.Snapshot) bool { return berthAt(s, "drydock").Corrects.After(first) })
	r.must(r.order(berth.LeaveIt, "drydock"))
	r.wait(8 * time.Minute)
	if b := berthAt(r.engine.Snapshot(), "drydock"); b.SyncStatus != compare.Drifted || !b.Corrects.IsZero() {
		t.Errorf("left as it is: %s", describe(b))
	}
	if kinds := strings.Join(r.kinds("drydock"), " "); !strings.HasSuffix(kinds, "drifted announced put back as applied drifted announced announced left") {
		t.Errorf("on record is %s", kinds)
	}
}

// TestFollow lets one site follow another branch until its date: it takes what that branch says differently, out of the
// course, and goes back to what all follow.
func TestFollow(t *testing.T) {
	r := newRig(t)
	until := start.Add(4 * time.Minute)
	r.change = func(s *config.Settings) {
		s.Follow = []config.Follow{{Site: "north", Link: "repo", Branch: "preview", Until: until}}
	}
	r.push("1")
	main, err := r.repo.Reference(plumbing.NewBranchReferenceName("main"), true)
	r.must(err)
	r.push("2", "share: 10 %, soak: 15s", "share: 100 %", "}, {share: 50 %, soak: 15s, sign-off: a lead}, {share: 100 %, soak: 10s}", "}")
	head, err := r.repo.Reference(plumbing.NewBranchReferenceName("main"), true)
	r.must(err)
	r.must(r.repo.Storer.SetReference(plumbing.NewHashReference(plumbing.NewBranchReferenceName("preview"), head.Hash())))
	r.must(r.repo.Storer.SetReference(plumbing.NewHashReference(plumbing.NewBranchReferenceName("main"), main.Hash())))
	r.run()
	s := r.until("north is on the preview", func(s status.Snapshot) bool {
		return version(berthAt(s, "north")) == "2" && version(berthAt(s, "drydock")) == "1"
	})
	if b := berthAt(s, "north"); b.Follows != "preview" || !b.Until.Equal(until) || b.Link != "repo" || len(s.Links) != 2 {
		t.Errorf("follows %q of %s until %s; links %+v", b.Follows, b.Link, b.Until, s.Links)
	}
	s = r.until("north follows main again", func(s status.Snapshot) bool {
		b := berthAt(s, "north")
		return b.Follows == "" && version(b) == "2" && b.SyncStatus == compare.Behind
	})
	if len(s.Links) != 1 || s.Now.Before(until) {
		t.Errorf("at %s: %+v", s.Now, s.Links)
	}
}

// TestClaimed sees that a host name stays with the workload that has it, whatever another link declares, and however it writes it.
func TestClaimed(t *testing.T) {
	door := func(host string) []string {
		return []string{"    metrics:", "    stop: {within: 1s}\n    metrics:", "rollout:\n", "  door: {kind: route, " + host + ", to: {service: app, port: http}}\nrollout:\n"}
	}
	r := newRig(t)
	r.change = func(s *config.Settings) {
		s.Listen, s.Links[0].May = "127.0.0.1:7001", &config.May{Everything: true}
		second := s.Links[0]
		second.Name, second.Folder = "second", "more"
		s.Links = append(s.Links, second)
	}
	r.push("1", door("host: fares.example")...)
	r.write("more/other.yaml", strings.NewReplacer("workload: web", "workload: other", "VERSION", "1").Replace(declared), "Other")
	r.run()
	r.until("both are declared", func(s status.Snapshot) bool { return len(s.Berths) == 4 })
	for n, host := range []string{"host: FARES.example.", "host: tides.example, preview: Fares.example"} {
		r.write("more/tides.yaml", strings.NewReplacer(append(door(host), "workload: web", "workload: tides", "VERSION", fmt.Sprint(n))...).Replace(declared), "Tides")
		s := r.until("the later one is refused", func(s status.Snapshot) bool {
			return s.Links[1].Problem != nil && strings.Contains(s.Links[1].Problem.Text, "which web by door has")
		})
		if s.Links[0].Problem != nil || len(s.Berths) != 4 || !strings.Contains(s.Links[1].Problem.Text, "more/tides.yaml:") {
			t.Errorf("%s: %v", host, troubles(s))
		}
	}
	r.write("more/tides.yaml", strings.NewReplacer(append(door("host: tides.example"), "workload: web", "workload: tides", "VERSION", "1")...).Replace(declared), "Tides")
	r.until("with a name of its own it is taken", func(s status.Snapshot) bool { return len(s.Berths) == 6 })
	r.write("more/tides.yaml", strings.NewReplacer(append(door("tcp: 7001"), "workload: web", "workload: tides", "VERSION", "2")...).Replace(declared), "Tides")
	r.until("a port of Aditus itself is refused", func(s status.Snapshot) bool {
		return s.Links[1].Problem != nil && strings.Contains(s.Links[1].Problem.Text, "claims TCP port 7001 at drydock, which Aditus itself has")
	})
}

// TestTwoLinks sees that a second link adds its workloads, and is refused one that the first declares already.
func TestTwoLinks(t *testing.T) {
	r := newRig(t)
	r.change = func(s *config.Settings) {
		s.Links[0].May = &config.May{Everything: true}
		second := s.Links[0]
		second.Name, second.Folder = "second", "more"
		s.Links = append(s.Links, second)
	}
	r.push("1")
	r.write("more/tides.yaml", strings.NewReplacer("workload: web", "workload: tides", "VERSION", "1").Replace(declared), "Tides")
	r.run()
	r.until("both are there", func(s status.Snapshot) bool { return len(s.Berths) == 4 })
	r.write("more/web.yaml", strings.NewReplacer("VERSION", "2").Replace(declared), "Web again")
	s := r.until("refused", func(s status.Snapshot) bool { return s.Links[1].Problem != nil })
	if text := s.Links[1].Problem.Text; !strings.Contains(text, `the workload "web" is declared by the link repo already`) {
		t.Errorf("the link says %q", text)
	}
}

// TestReload changes the settings' file while the engine runs: the interval counts at once, links come and go.
func TestReload(t *testing.T) {
	r := newRig(t)
	r.change = func(s *config.Settings) {
		s.Links[0].Every = 5 * time.Minute
		text, err := s.Text()
		r.must(err)
		r.must(os.WriteFile(filepath.Join(r.folder, config.FileName), text, 0o600))
	}
	r.push("1")
	r.run()
	r.until("there", func(s status.Snapshot) bool {
		return version(berthAt(s, "drydock")) == "1" && berthAt(s, "drydock").Rollout == nil
	})
	apply := func() error {
		text, err := os.ReadFile(filepath.Join(r.folder, config.FileName))
		r.must(err)
		s, err := config.Read(config.FileName, text)
		r.must(err)
		return r.engine.Apply(s)
	}
	r.push("2")
	r.must(config.SetEvery(r.folder, "repo", 2*time.Second))
	r.must(apply())
	s := r.until("it is seen", func(s status.Snapshot) bool {
		return berthAt(s, "drydock").Rollout != nil && s.Links[0].Every == 2*time.Second
	})
	looked := s.Links[0].Looked
	r.wait(5 * time.Second)
	if now := r.engine.Snapshot().Links[0].Looked; now.Sub(looked) < 3*time.Second {
		t.Errorf("every 2 s, and yet it was looked at %s and %s", looked, now)
	}
	turn := func(off bool) {
		t.Helper()
		entry := map[string]any{"repository": filepath.Join(r.folder, "repo"), "branch": "main", "folder": "workloads", "every": "2s", "off": off}
		_, err := config.Put(r.folder, config.Settings{}, []config.Entry{{Section: "links", Name: "repo", Value: entry}}, false, nil)
		r.must(err)
		r.must(apply())
	}
	turn(true)
	r.push("3")
	r.wait(10 * time.Second)
	if s := r.engine.Snapshot(); !s.Links[0].Off || berthAt(s, "drydock").Declared.Version != "2" {
		t.Errorf("switched off it is read: %+v", s.Links[0])
	}
	turn(false)
	r.until("switched on it is read", func(s status.Snapshot) bool { return berthAt(s, "drydock").Declared.Version == "3" })
	_, err := config.AddLink(r.folder, config.Settings{}, config.Link{Name: "second", Repository: filepath.Join(r.folder, "repo"), Branch: "main", Folder: "more", Every: time.Second, May: &config.May{Workloads: []string{"tides"}, Sites: []string{"*"}, Registries: []string{"r.example"}, Hosts: []string{"*"}}}, nil, nil)
	r.must(err)
	r.write("more/tides.yaml", strings.NewReplacer("workload: web", "workload: tides", "VERSION", "1").Replace(declared), "Tides")
	r.must(apply())
	r.until("the second link is read", func(s status.Snapshot) bool { return len(s.Links) == 2 && len(s.Berths) == 4 })
	r.must(config.RemoveLink(r.folder, "second"))
	r.must(apply())
	s = r.until("it is gone, and what it declared is undeclared", func(s status.Snapshot) bool {
		b, _ := s.Find(berth.ID{Workload: "tides", Site: "drydock"})
		return len(s.Links) == 1 && b.Declared == nil
	})
	if len(s.Berths) != 4 {
		t.Errorf("what is live is forgotten: %d berths", len(s.Berths))
	}
	_, err = config.AddLink(r.folder, config.Settings{}, config.Link{Name: "third", Repository: "/nowhere", Branch: "main", Every: time.Second}, []config.Site{{Name: "west"}}, nil)
	r.must(err)
	if err := apply(); err == nil || !strings.Contains(err.Error(), "the site west is new: start Aditus again") {
		t.Errorf("a new site: %v", err)
	}
}

// TestPreview reads what another branch would bring, and takes nothing of it.
func TestPreview(t *testing.T) {
	r := settled(t)
	head, err := r.repo.Reference(plumbing.NewBranchReferenceName("main"), true)
	r.must(err)
	r.push("2")
	next, err := r.repo.Reference(plumbing.NewBranchReferenceName("main"), true)
	r.must(err)
	r.must(r.repo.Storer.SetReference(plumbing.NewHashReference(plumbing.NewBranchReferenceName("feature"), next.Hash())))
	r.must(r.repo.Storer.SetReference(plumbing.NewHashReference(plumbing.NewBranchReferenceName("main"), head.Hash())))
	id := berth.ID{Workload: "web", Site: "north"}
	for _, ref := range []string{"feature", next.Hash().String()} {
		desired, commit, err := r.engine.Preview(t.Context(), id, ref)
		if err != nil || desired.Version() != "2" || commit.Hash != next.Hash().String() {
			t.Errorf("%s: %+v from %+v (%v)", ref, desired, commit, err)
		}
	}
	if _, _, err := r.engine.Preview(t.Context(), id, "nowhere"); err == nil || !strings.Contains(err.Error(), `no branch "nowhere"`) {
		t.Errorf("a branch that is not there: %v", err)
	}
	r.wait(30 * time.Second)
	if b := berthAt(r.engine.Snapshot(), "north"); version(b) != "1" || b.SyncStatus != compare.Aligned {
		t.Errorf("a preview was taken: %s", describe(b))
	}
	if trial, err := r.engine.Try(t.Context(), "repo"); err != nil || trial.Fresh || trial.Commit.Hash != head.Hash().String() {
		t.Errorf("the trial: %+v (%v)", trial, err)
	}
}

// TestPushed wakes a link only for its branch and folder.
func TestPushed(t *testing.T) {
	r := settled(t)
	for _, test := range []struct {
		link, branch string
		files        []string
		known, looks bool
	}{
		{"repo", "main", []string{"workloads/web.yaml"}, true, true}, {"repo", "main", nil, true, true}, {"repo", "", nil, true, true},
		{"repo", "other", nil, true, false}, {"repo", "main", []string{"README.md", "workloads.txt"}, true, false}, {"other", "main", nil, false, false},
	} {
		if known, looks := r.engine.Pushed(test.link, test.branch, test.files); known != test.known || looks != test.looks {
			t.Errorf("%+v: known %v, looks %v", test, known, looks)
		}
	}
}

// TestPutBackUnderBar changes a site by hand whose declared revision is barred: what a person can have is the site as it
// was applied.
func TestPutBackUnderBar(t *testing.T) {
	r := settled(t)
	r.breach()
	r.until("barred", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return b.Bar != nil && b.Rollout == nil })
	r.hand("drydock", "app", "instances", "6")
	r.until("diverged", func(s status.Snapshot) bool { return berthAt(s, "drydock").SyncStatus == compare.Diverged })
	r.must(r.order(berth.Sync, "drydock"))
	s := r.until("put back", func(s status.Snapshot) bool { return berthAt(s, "drydock").SyncStatus == compare.Behind })
	if b := berthAt(s, "drydock"); b.Rollout != nil || b.Bar == nil || version(b) != "1" {
		t.Errorf("%s", describe(b))
	}
}

// TestOlderLinkState goes on from what an older version kept of a link, by workload: the link is read anew.
func TestOlderLinkState(t *testing.T) {
	r := newRig(t)
	r.push("1")
	head, err := r.repo.Reference(plumbing.NewBranchReferenceName("main"), true)
	r.must(err)
	book, err := ledger.Open(r.folder, nil)
	r.must(err)
	r.must(book.KeepPicture(t.Context(), "link repo", start, map[string]any{"commit": head.Hash().String(), "tree": "x", "declared": map[string]string{"web": "1234"}}))
	r.must(book.Close())
	r.run()
	r.until("it is declared", func(s status.Snapshot) bool { return version(berthAt(s, "drydock")) == "1" })
}

// TestPinned sees that what a tag, or a file, was found to be stays what is declared, after a restart too: that it holds
// something else by then changes nothing by itself.
func TestPinned(t *testing.T) {
	r := newRig(t)
	file := filepath.Join(r.folder, "web.tar")
	write(t, file, "one")
	r.push("1", "r.example/web:VERSION", declare.FileScheme+file)
	r.run()
	before := r.until("it is declared", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return b.Declared != nil })
	was := r.desired(berthAt(before, "drydock").Declared).Parts["app"].Artifact
	if !strings.Contains(was, "@sha256:") {
		t.Fatalf("%s is not pinned", was)
	}
	r.halt()
	write(t, file, "another one by now")
	r.push("1", "r.example/web:VERSION", declare.FileScheme+file, "at-most: 10 %", "at-most: 8 %")
	r.run()
	now := r.until("the limit is declared", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return b.Declared != nil && r.desired(b.Declared).Guards[0].Limit.Value == 0.08
	})
	if artifact := r.desired(berthAt(now, "drydock").Declared).Parts["app"].Artifact; artifact != was {
		t.Errorf("what was declared as %s is %s after a restart", was, artifact)
	}
}

// TestRevisionsInMemory sees that a revision which no berth is about any more is in the ledger alone, and comes back from
// there when somebody goes back to it; and that faces are shown no revision of the engine's own.
func TestRevisionsInMemory(t *testing.T) {
	r := settled(t)
	first := berthAt(r.engine.Snapshot(), "drydock").Applied.Fingerprint
	const more = 16
	for i := range more {
		about := fmt.Sprintf("the %dth", i)
		r.push("1", "at-most: 10 %", fmt.Sprintf("at-most: %d %%", 11+i), "workload: web", "workload: web\nabout: "+about)
		r.until("it is taken everywhere", func(s status.Snapshot) bool {
			return r.desired(berthAt(s, "drydock").Applied).About == about && r.desired(berthAt(s, "north").Applied).About == about
		})
	}
	r.wait(3 * time.Second)
	runtime.GC()
	r.engine.mu.Lock()
	all, whole := r.engine.revisions["web"].all, 0
	for _, k := range all {
		if k.whole.Value() != nil {
			whole++
		}
	}
	r.engine.mu.Unlock()
	if len(all) != more+1 || whole > more*3/4 {
		t.Errorf("of %d revisions %d are in memory", len(all), whole)
	}
	if kept, err := r.engine.revision("web", first); err != nil || kept == nil || kept.Desired == nil || kept.Version != "1" {
		t.Errorf("the first came back as %+v (%v)", kept, err)
	}
	for _, b := range r.engine.Snapshot().Berths {
		if b.Applied.Desired != nil || b.Declared.Desired != nil {
			t.Errorf("%s: a face is shown what the engine holds", b.ID)
		}
	}
}

// TestGlance sees that an engine which does not run can tell how a berth stands, from the site as it is and what was
// declared when it ran last, and that this changes nothing.
func TestGlance(t *testing.T) {
	r := settled(t)
	r.halt()
	r.hand("drydock", "app", "instances", "7")
	r.push("2")
	facts := len(*r.facts)
	r.book = must(ledger.Open(r.folder, nil))
	defer r.book.Close()
	idle, err := New(r.engine.settings, r.book, map[string]target.Driver{"drydock": r.sites["drydock"], "north": r.sites["north"]}, r.clock, Access{})
	r.must(err)
	b, err := idle.Glance(t.Context(), berth.ID{Workload: "web", Site: "drydock"})
	r.must(err)
	if b.SyncStatus != compare.Drifted || len(b.Differences) != 1 || b.Differences[0].Pointer != "/parts/app/instances" || version(b) != "1" || b.Looked.IsZero() {
		t.Errorf("at a glance: %s, %+v", describe(b), b.Differences)
	}
	if len(*r.facts) != facts || instances(r, "drydock") == "" {
		t.Errorf("a glance put %d facts on record", len(*r.facts)-facts)
	}
	if _, err := idle.Glance(t.Context(), berth.ID{Workload: "web", Site: "nowhere"}); !errors.Is(err, fault.ErrNotFound) {
		t.Errorf("a berth that is not there: %v", err)
	}
}

func must[T any](value T, err error) T {
	if err != nil {
		panic(err)
	}
	return value
}

// TestDeclaredAtOnce sees that once a link was read nothing that it declares anew is shown as aligned, before the berth was
// looked at as well.
func TestDeclaredAtOnce(t *testing.T) {
	r := settled(t)
	for _, version := range []string{"2", "1", "2"} {
		before := r.engine.Snapshot().Links[0].Commit
		r.push(version)
		for r.engine.Snapshot().Links[0].Commit == before {
			r.wait(time.Second)
		}
		r.engine.mu.Lock()
		for id, b := range r.engine.berths {
			if d := r.engine.declared[id]; b.shown.SyncStatus == compare.Aligned && b.shown.Applied.Fingerprint != d.fingerprint {
				t.Errorf("%s is shown as aligned with what is not applied", id)
			}
		}
		r.engine.mu.Unlock()
	}
}

// TestFloorsOfOthers has what holds whatever is declared change in a file of the machine and in the line's rules, which another link has:
// what is declared is read again by each.
func TestFloorsOfOthers(t *testing.T) {
	r := newRig(t)
	must := filepath.Join(t.TempDir(), "floors.yaml")
	r.must(os.WriteFile(must, []byte("aditus: 1\nfloors: [{name: machine, proving: 40s}]\n"), 0o600))
	r.change = func(s *config.Settings) {
		s.Links[0].May, s.Links[0].Must = &config.May{Everything: true}, must
		line := s.Links[0]
		line.Name, line.Folder, line.Must = "line", "line", ""
		s.Links = append(s.Links, line)
		s.Policy = "line"
		for i := range s.Sites {
			s.Sites[i].Automatic, s.Sites[i].After, s.Sites[i].Drift = false, "", config.Drift{}
		}
		s.Roles = nil
	}
	r.push("1")
	r.write("line/line.yaml", "aditus: 1\nroles: {a lead: [mara]}\nfloors: [{name: all, soak: 2m}]\n", "Rules")
	r.run()
	r.until("held to both", func(s status.Snapshot) bool {
		warned := strings.Join(s.Links[0].Warnings, "\n")
		return strings.Contains(warned, "machine asks for 40s of proving") && strings.Contains(warned, "all asks for 1m20s of soak")
	})
	r.write("line/line.yaml", "aditus: 1\nroles: {a lead: [mara]}\nfloors: [{name: all, soak: 3m}]\n", "More")
	r.until("held to more", func(s status.Snapshot) bool {
		return strings.Contains(strings.Join(s.Links[0].Warnings, "\n"), "all asks for 2m20s of soak")
	})
	r.must(os.WriteFile(must, []byte("aditus: 1\nfloors: [{name: machine, rules: [{name: about, must: has(desired.about), say: Say what it is for.}]}]\n"), 0o600))
	r.until("refused by a rule", func(s status.Snapshot) bool {
		return s.Links[0].Problem != nil && strings.Contains(s.Links[0].Problem.Text, "Say what it is for. (rule about")
	})
}

// TestOfferLive offers to declare what was changed by hand: at one site of two in a small file of its own, which is then aligned and nothing
// starts anew. What cannot be declared, or was not changed, is not offered.
func TestOfferLive(t *testing.T) {
	r := newRig(t)
	r.change = func(s *config.Settings) { s.Links[0].Push = true }
	r.push("1")
	r.run()
	r.until("version 1 is proven at both sites", func(s status.Snapshot) bool {
		return version(berthAt(s, "drydock")) == "1" && version(berthAt(s, "north")) == "1" && berthAt(s, "north").Rollout == nil
	})
	id := berth.ID{Workload: "web", Site: "north"}
	if _, err := r.engine.OfferLive(t.Context(), id, nil, "Maren Oake"); err == nil || !strings.Contains(err.Error(), "nothing was changed by hand") {
		t.Errorf("without a change: %v", err)
	}
	r.hand("north", "app", "instances", "6")
	s := r.until("it is drifted", func(s status.Snapshot) bool { return berthAt(s, "north").SyncStatus == compare.Drifted })
	rollouts := berthAt(s, "north").LastRollout
	if _, err := r.engine.OfferLive(t.Context(), id, []string{"/parts/app/command"}, "Maren Oake"); err == nil || !strings.Contains(err.Error(), "nothing was changed by hand in /parts/app/command") {
		t.Errorf("a field that was not changed: %v", err)
	}
	p, err := r.engine.OfferLive(t.Context(), id, []string{"/parts/app"}, "Maren Oake")
	if err != nil {
		t.Fatal(err)
	}
	commit, err := r.repo.CommitObject(plumbing.NewHash(p.Commit))
	r.must(err)
	file, err := commit.File("workloads/web/north.yaml")
	r.must(err)
	text, err := file.Contents()
	r.must(err)
	if text != "# What differs at north.\nparts:\n  app:\n    instances: 6\n" || !slices.Equal(p.Files, []string{"workloads/web/north.yaml"}) || !strings.Contains(commit.Message, "app/instances 4 → 6") {
		t.Errorf("offered is %v %q: %s", p.Files, text, commit.Message)
	}
	r.write("workloads/web/north.yaml", text, "Merge what is there")
	r.until("it waits for a sign-off", func(s status.Snapshot) bool {
		b := berthAt(s, "north")
		return b.Rollout != nil && b.Rollout.Phase == rollout.Waiting
	})
	r.must(r.order(berth.SignOff, "north"))
	s = r.until("north is aligned", func(s status.Snapshot) bool {
		b := berthAt(s, "north")
		return b.SyncStatus == compare.Aligned && b.Rollout == nil && b.Applied.Fingerprint == b.Declared.Fingerprint
	})
	if b := berthAt(s, "drydock"); b.SyncStatus != compare.Aligned || len(b.Cohorts[0].Instances) != 4 {
		t.Errorf("drydock is %s", describe(b))
	}
	if b := berthAt(s, "north"); b.LastRollout > rollouts+1 || len(b.Cohorts) != 1 || len(b.Cohorts[0].Instances) != 6 {
		t.Errorf("north is %s, rolled out as %d after %d", describe(b), b.LastRollout, rollouts)
	}
	r.hand("north", "app", "artifact", "r.example/web:9")
	r.until("it is drifted again", func(s status.Snapshot) bool { return berthAt(s, "north").SyncStatus == compare.Drifted })
	p, err = r.engine.OfferLive(t.Context(), id, nil, "Maren Oake")
	if err == nil {
		commit, _ = r.repo.CommitObject(plumbing.NewHash(p.Commit))
		file, _ = commit.File("workloads/web/north.yaml")
		text, err = file.Contents()
	}
	if want := "# What differs at north.\nparts:\n  app:\n    instances: 6\n    artifact: r.example/web:9\n"; err != nil || text != want {
		t.Errorf("the second offer is %q, %v", text, err)
	}
}

// TestAmended sees which fields of a site can be declared, at which place, and with which value; what is in a list is told with all of that.
func TestAmended(t *testing.T) {
	b := status.Berth{Live: compare.Live{
		"app": map[string]any{"kind": "service", "instances": 5.0, "process": "stopped", "command": []any{"run", "--fast"}, "environment": map[string]any{"A/B": "1"}},
		"key": map[string]any{"kind": "secret", "values": map[string]any{"k": "v"}},
		"all": map[string]any{"kind": "objects", "objects": map[string]any{"Deployment/gate": map[string]any{"spec": map[string]any{"containers": []any{map[string]any{"image": "gate:2", "args": []any{"a"}}}}}}},
	}}
	for pointer, want := range map[string]string{
		"/parts/app/instances":                "[parts app instances] = 5",
		"/parts/app/environment/A~1B":         "[parts app environment A/B] = 1",
		"/parts/app/command/1":                "[parts app command 1] = --fast, or [parts app command] = [run --fast]",
		"/parts/app/command/2":                "[parts app command] = [run --fast]",
		"/parts/app/user":                     "[parts app user] = <nil>",
		"/parts/gone":                         "[parts gone] = <nil>",
		"/parts/app/process":                  "app/process is nothing that is declared: a sync puts it back",
		"/parts/key/values/k":                 "key/values/k is secret: declare it by hand",
		"/rollout/style":                      "/rollout/style is of no part: declare it by hand",
		"/parts/all/objects/Deployment~1gate": "all/objects/Deployment~1gate is a whole object: put it into the declaration, or take it out, by hand",
		"/parts/all/objects/Deployment~1gate/spec/containers/0/image":  "Deployment gate [spec containers 0 image] = gate:2, or [spec containers] = [map[args:[a] image:gate:2]]",
		"/parts/all/objects/Deployment~1gate/spec/containers/0/args/1": "Deployment gate [spec containers 0 args] = [a]",
	} {
		f, err := amended(b, compare.Difference{Pointer: pointer})
		told := strings.TrimSpace(fmt.Sprintf("%s %s %v = %v", f.Kind, f.Name, f.Path, f.Value))
		if f.List != nil {
			told += fmt.Sprintf(", or %v = %v", f.List, f.Whole)
		}
		if err != nil {
			told = err.Error()
		}
		if told != want {
			t.Errorf("%s is %s\nwant %s", pointer, told, want)
		}
	}
}

// TestShow sees that a berth gets another number whenever anything of it changed but when it was looked at.
func TestShow(t *testing.T) {
	b := &loop{e: &Engine{}}
	v := status.Berth{Waits: "for the tide", Looked: start}
	b.show(v)
	first := b.shown.Rev
	v.Looked = start.Add(time.Second)
	b.show(v)
	if b.shown.Rev != first || first == 0 || !b.shown.Looked.Equal(v.Looked) {
		t.Errorf("after a look it is %d instead of %d, looked at %s", b.shown.Rev, first, b.shown.Looked)
	}
	v.Waits = "for the ebb"
	b.show(v)
	if b.shown.Rev == first {
		t.Error("a change gets no number of its own")
	}
}
