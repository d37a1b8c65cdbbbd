package engine

import (
	"context"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"

	"aditus/internal/config"
	"aditus/internal/core/berth"
	"aditus/internal/core/course"
	"aditus/internal/core/rollout"
	"aditus/internal/ledger"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/target/sim"
)

const lineRules = `aditus: 1
roles: {a lead: [Edda Marsh], leads: [Edda Marsh, Joren Falk], islanders: [Ilse Varga]}
sites: {north: {team: islanders}}
courses:
  line:
    on: true
    override: [Maren Oake]
    steps:
      - {sites: [drydock]}
      - sites: [north]
        after: drydock
        for: 2m
        sign-off: {by: [leads], author: false}
        consent: {last-day: 8m, notice: 1m}
`

// plain is the workload without a sign-off of its own.
var plain = strings.NewReplacer(", sign-off: a lead", "")

func ruledRig(t *testing.T) *rig {
	r := newRig(t)
	r.change = func(s *config.Settings) {
		s.Policy, s.Roles = "repo", nil
		s.Sites = []config.Site{{Name: "drydock"}, {Name: "north"}}
	}
	return r
}

// commit writes the workload at a version, and perhaps other rules, in one commit.
func (r *rig) both(version, rules string) {
	r.t.Helper()
	write(r.t, r.folder+"/repo/workloads/line.yaml", rules)
	tree, err := r.repo.Worktree()
	r.must(err)
	_, err = tree.Add("workloads/line.yaml")
	r.must(err)
	r.write("workloads/web.yaml", plain.Replace(strings.ReplaceAll(declared, "VERSION", version)), "Version "+version)
}

// TestLine takes revisions through a course by the rules of a line: proven for long enough, signed off by somebody else, taken by the
// site's team, put off, and taken on the last day; over a restart; and past it with a reason.
func TestLine(t *testing.T) {
	r := ruledRig(t)
	r.both("1", lineRules)
	r.run()
	north := func(want string) func(status.Snapshot) bool {
		return func(s status.Snapshot) bool { return strings.Contains(berthAt(s, "north").Waits, want) }
	}
	r.until("drydock takes it by itself", func(s status.Snapshot) bool { return version(berthAt(s, "drydock")) == "1" })
	r.until("north waits two minutes", north("waits until it is proven at drydock for 2 min"))
	s := r.until("north waits for a sign-off", north("waits for a sign-off by leads"))
	if a := berthAt(s, "north").Asks; a == nil || a.Kind != course.Signing || a.Who[0] != "leads" {
		t.Errorf("whom it asks: %+v", a)
	}
	order := func(verb berth.Verb, by, note string) error {
		return r.do(berth.Order{Verb: verb, Berth: berth.ID{Workload: "web", Site: "north"}, By: by, Note: note})
	}
	for by, want := range map[string]string{"Siv Brekke": "it is for leads", "Tove Lind": "it is for leads"} {
		if err := order(berth.SignOff, by, ""); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s signs off: %v", by, err)
		}
	}
	r.must(order(berth.SignOff, "Joren Falk", "looked at it"))
	r.until("it is offered", north("is offered to islanders, and taken on"))
	r.halt()
	r.run() // an offer outlives a restart, and so does a go-ahead
	r.until("it is still offered", north("is offered to islanders, and taken on"))
	if err := order(berth.Decline, "Ilse Varga", "no"); err == nil || !strings.Contains(err.Error(), "at the latest; put it off") {
		t.Errorf("declined: %v", err)
	}
	if err := order(berth.PutOff, "Ilse Varga", ""); err == nil || !strings.Contains(err.Error(), "not possible without a reason") {
		t.Errorf("put off without a reason: %v", err)
	}
	r.must(order(berth.PutOff, "Ilse Varga", "after the regatta"))
	r.until("it is put off", north("put off by Ilse Varga: after the regatta, and taken on"))
	if err := order(berth.Sync, "Siv Brekke", ""); err == nil || !strings.Contains(err.Error(), "put off by Ilse Varga") {
		t.Errorf("somebody else syncs: %v", err)
	}
	began := r.clock.Now()
	s = r.until("it comes on its last day", func(s status.Snapshot) bool { return version(berthAt(s, "north")) == "1" })
	if took := s.Now.Sub(began); took < 6*time.Minute || took > 10*time.Minute {
		t.Errorf("it came after %s", took)
	}
	if kinds := strings.Join(r.kinds("north"), " "); !strings.Contains(kinds, "signed off") || !strings.Contains(kinds, "offer offer answered offer announced taken") {
		t.Errorf("on record is %s", kinds)
	}

	r.both("2", lineRules)
	r.until("north waits", north("waits until drydock has proven it"))
	if err := r.do(berth.Order{Verb: berth.Sync, Berth: berth.ID{Workload: "web", Site: "north"}, By: "Siv Brekke", Override: "now"}); err == nil || !strings.Contains(err.Error(), "Siv Brekke may not pass over that") {
		t.Errorf("anybody passes over it: %v", err)
	}
	r.must(r.do(berth.Order{Verb: berth.Sync, Berth: berth.ID{Workload: "web", Site: "north"}, By: "Maren Oake", Override: "the old one leaks"}))
	r.until("it came all the same", func(s status.Snapshot) bool { return version(berthAt(s, "north")) == "2" })
	if texts := strings.Join(r.texts("north", berth.Taken), "\n"); !strings.Contains(texts, "passing over what is in its way (waits for a sign-off by leads") || !strings.Contains(texts, "the old one leaks") {
		t.Errorf("on record is %s", texts)
	}
}

// TestSites tells of each site what comes to it and when, what runs there, and what does not answer.
func TestSites(t *testing.T) {
	r := ruledRig(t)
	r.both("1", lineRules+"windows: [{name: mornings, sites: [north], starts: \"2026-01-01T08:00\", rule: FREQ=DAILY, lasts: 1m}, {name: evenings, workloads: [other], starts: \"2026-01-01T18:00\", rule: FREQ=DAILY, lasts: 1m}]\n")
	r.run()
	r.until("drydock takes it by itself", func(s status.Snapshot) bool { return version(berthAt(s, "drydock")) == "1" })
	r.sites["drydock"].SetReachable(false)
	s := r.until("drydock is silent", func(s status.Snapshot) bool { return berthAt(s, "drydock").Problem != nil })
	all, err := r.engine.Sites(t.Context())
	if err != nil || len(all) != 2 {
		t.Fatalf("%+v (%v)", all, err)
	}
	first, second := all[0], all[1]
	if first.Answers || !strings.Contains(first.Trouble, "answer") || !first.Since.Equal(berthAt(s, "drydock").Problem.Since) || !first.Automatic || first.Berths != 1 || first.Absent != 0 || first.Windowed || len(first.Times) < 7 || !first.Times[0].Some {
		t.Errorf("drydock is %+v", first)
	}
	if !second.Answers || second.Ground.On == "" || second.Took == 0 || !second.Automatic || !slices.Equal(second.After, []string{"drydock"}) || !slices.Equal(second.SignOff, []string{"leads"}) || second.Team != "islanders" || second.Rules != "repo" ||
		second.Berths != 1 || second.Absent != 1 || second.Instances != 0 || !second.Windowed || len(second.Times) < 7 {
		t.Errorf("north is %+v", second)
	}
}

// hanging is a site that does not say what it stands on until it may.
type hanging struct {
	*sim.Site
	asked *atomic.Int32
	may   chan struct{}
}

// Ground implements target.Grounded.
func (h hanging) Ground(ctx context.Context) (status.Ground, error) {
	h.asked.Add(1)
	<-h.may // whatever ends
	g, err := h.Site.Ground(ctx)
	g.Wrong = "it has no room"
	return g, err
}

// TestSiteHangs has one site hang, and another one that is of another machine: that is told in time, the hanging one is asked once, and what it
// says in the end is told.
func TestSiteHangs(t *testing.T) {
	r := settled(t)
	h := hanging{r.sites["drydock"], &atomic.Int32{}, make(chan struct{})}
	r.engine.drivers["drydock"], r.engine.drivers["north"] = h, target.Elsewhere{Machine: "harbor-2"}
	for range 3 {
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
		all, err := r.engine.Sites(ctx)
		if cancel(); err != nil || all[0].Answers || !strings.Contains(all[0].Trouble, "does not say within 5 s") || all[0].Instances == 0 {
			t.Errorf("it hangs: %+v (%v)", all, err)
		}
		if away := all[1]; away.Answers || away.Machine != "harbor-2" || away.Ground.On != "the machine harbor-2" || !strings.Contains(away.Trouble, "whose server does not lead") {
			t.Errorf("the other machine's is %+v", away)
		}
	}
	if n := h.asked.Load(); n != 1 {
		t.Errorf("it hangs, and was asked %d times", n)
	}
	close(h.may)
	all, err := r.engine.Sites(t.Context())
	if err != nil || !all[0].Answers || all[0].Trouble != "it has no room" || all[0].Ground.On == "" {
		t.Errorf("it answers in the end: %+v (%v)", all[0], err)
	}
}

// TestLoosened has a commit that takes a sign-off out of the rules, and brings a revision with it: that does not help it, but the next
// one; and rules that are wrong are not taken.
func TestLoosened(t *testing.T) {
	r := ruledRig(t)
	rules := strings.Replace(strings.Replace(strings.Replace(lineRules, "sites: {north: {team: islanders}}\n", "", 1), "        for: 2m\n", "", 1), "        consent: {last-day: 8m, notice: 1m}\n", "", 1)
	r.both("1", rules)
	r.run()
	r.until("north asks", func(s status.Snapshot) bool {
		return strings.Contains(berthAt(s, "north").Waits, "waits for a sign-off")
	})
	r.must(r.do(berth.Order{Verb: berth.SignOff, Berth: berth.ID{Workload: "web", Site: "north"}, By: "Joren Falk"}))
	r.until("north has 1", func(s status.Snapshot) bool { return version(berthAt(s, "north")) == "1" })
	loose := strings.Replace(rules, "        sign-off: {by: [leads], author: false}\n", "", 1)
	r.both("2", loose)
	s := r.until("north still asks", func(s status.Snapshot) bool {
		return strings.Contains(berthAt(s, "north").Waits, "waits for a sign-off by leads") && version(berthAt(s, "drydock")) == "2"
	})
	if text := berthAt(s, "north").Waits; !strings.Contains(text, "by the rules from before its own commit") {
		t.Errorf("it waits: %s", text)
	}
	r.halt()
	r.run()
	r.wait(3 * time.Minute)
	if got := version(berthAt(r.engine.Snapshot(), "north")); got != "1" {
		t.Errorf("after a restart it helped itself to %s", got)
	}
	for i := range linesKept + 2 { // however often the rules change meanwhile
		r.write("workloads/line.yaml", loose+strings.Repeat("#", i)+"\nsites: {drydock: {team: crew"+strings.Repeat("s", i)+"}}\n", "Another team")
		r.wait(7 * time.Second)
	}
	if s := r.engine.Snapshot(); version(berthAt(s, "north")) != "1" || !strings.Contains(berthAt(s, "north").Waits, "from before its own commit") {
		t.Errorf("after many changes of the rules it has %s: %s (%+v)", version(berthAt(s, "north")), berthAt(s, "north").Waits, s.Links[0].Problem)
	}
	r.must(r.do(berth.Order{Verb: berth.SignOff, Berth: berth.ID{Workload: "web", Site: "north"}, By: "Joren Falk"}))
	r.until("signed off by those rules it comes", func(s status.Snapshot) bool { return version(berthAt(s, "north")) == "2" })
	r.both("1", loose)
	r.until("what came later needs none", func(s status.Snapshot) bool {
		return berthAt(s, "north").Declared.Version == "1" && version(berthAt(s, "north")) == "1" && berthAt(s, "drydock").Applied.Version == "1"
	})
	r.both("2", strings.Replace(loose, "on: true", "on: sometimes", 1))
	s = r.until("wrong rules are told", func(s status.Snapshot) bool { return s.Links[0].Problem != nil })
	if text := s.Links[0].Problem.Text; !strings.Contains(text, "workloads/line.yaml:") || !strings.Contains(text, "on must be true or false") {
		t.Errorf("it says %s", text)
	}
	if got := berthAt(s, "north").Declared.Version; got != "1" {
		t.Errorf("a commit with wrong rules was taken: %s", got)
	}
}

// TestCaught has a freeze begin while a rollout is under way: it is held, and goes on by itself afterwards; and what would not end
// before a freeze does not begin.
func TestCaught(t *testing.T) {
	r := ruledRig(t)
	rules := `aditus: 1
roles: {a lead: ["*"]}
courses: {line: {on: true, steps: [{sites: [drydock, north]}]}}
windows: [{name: mornings, starts: "2026-01-01T08:00", rule: FREQ=DAILY, lasts: 6h, caught: hold}]
freezes:
  - {name: the festival, from: "2026-03-12T09:04:15", until: "2026-03-12T09:08:00", caught: hold}
  - {name: the regatta, from: "2026-03-12T09:20:00", until: "2026-03-12T09:25:00", caught: hold}
`
	r.both("1", rules)
	r.run()
	r.until("1 is there", func(s status.Snapshot) bool { return version(berthAt(s, "north")) == "1" })
	r.wait(start.Add(3 * time.Minute).Sub(r.clock.Now()))
	r.both("2", rules)
	s := r.until("it is held", func(s status.Snapshot) bool {
		roll := berthAt(s, "north").Rollout
		return roll != nil && roll.Phase == rollout.Held
	})
	if roll := berthAt(s, "north").Rollout; s.Now.Before(start.Add(4*time.Minute+15*time.Second)) || !strings.Contains(roll.Why, "the festival: nothing moves until Thu 12 Mar 09:08 UTC") {
		t.Errorf("at %s: %s", s.Now, roll.Why)
	}
	r.halt()
	r.run()
	s = r.until("it goes on by itself", func(s status.Snapshot) bool {
		return version(berthAt(s, "north")) == "2" && berthAt(s, "north").Rollout == nil
	})
	if s.Now.Before(start.Add(8 * time.Minute)) {
		t.Errorf("it went on in the freeze, at %s", s.Now)
	}
	r.wait(start.Add(19*time.Minute + 30*time.Second).Sub(s.Now))
	r.both("1", rules)
	s = r.until("it would not end before the freeze", func(s status.Snapshot) bool { return strings.Contains(berthAt(s, "north").Waits, "the regatta begins") })
	if text := berthAt(s, "north").Waits; !strings.Contains(text, "it may begin Thu 12 Mar 09:25 UTC") {
		t.Errorf("it waits: %s", text)
	}
	r.wait(start.Add(20*time.Minute + 20*time.Second).Sub(r.clock.Now()))
	r.must(r.order(berth.RollBack, "drydock"))
	s = r.until("going back needs no window", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return b.Rollout == nil && !slices.ContainsFunc(b.Cohorts, func(c status.Cohort) bool { return c.Share > 0 && c.Version == "2" })
	})
	if s.Now.After(start.Add(24 * time.Minute)) {
		t.Errorf("it was back only at %s", s.Now)
	}
	s = r.until("it comes after it", func(s status.Snapshot) bool { return version(berthAt(s, "north")) == "1" })
	if s.Now.Before(start.Add(25 * time.Minute)) {
		t.Errorf("it came in the freeze, at %s", s.Now)
	}
}

const lifeRules = `aditus: 1
courses:
  line: {on: true, steps: [{sites: [drydock]}, {sites: [north], on: false}]}
schedules:
  - {name: night, do: scale, sites: [drydock], part: app, to: 1, cron: "5 9 * * *"}
  - {name: morning, do: scale, sites: [drydock], to: declared, at: "2026-03-12T09:07:00Z"}
  - {name: fresh, do: restart, sites: [drydock], at: "2026-03-12T09:08:00Z"}
  - {name: late, do: preview, sites: [drydock], at: "2026-03-12T09:10:00Z"}
  - {name: northwards, do: sync, sites: [north], at: "2026-03-12T09:05:00Z"}
ends:
  - {name: the trial, sites: [drydock], after: 16m, notice: 2m}
`

// TestLife has schedules scale, restart and sync, one of them missed while no program ran, and a berth's life end: told, extended, and
// torn down with nothing left at the site, until it is extended and synced again.
func TestLife(t *testing.T) {
	r := ruledRig(t)
	r.both("1", lifeRules)
	r.run()
	apps := func(want int) func(status.Snapshot) bool {
		return func(s status.Snapshot) bool {
			b := berthAt(s, "drydock")
			return b.Rollout == nil && len(b.Cohorts) == 1 && len(b.Cohorts[0].Instances) == want && b.Health.Word == "healthy" && b.Health.Healthy == want && b.SyncStatus == "aligned"
		}
	}
	r.until("drydock has it", apps(4))
	s := r.until("there is one by night", apps(1))
	if at := s.Now.Sub(start); at < 5*time.Minute || at > 5*time.Minute+30*time.Second {
		t.Errorf("it was scaled after %s", at)
	}
	r.until("north took it on its schedule", func(s status.Snapshot) bool { return version(berthAt(s, "north")) == "1" })
	r.until("there are as many as declared by day", apps(4))
	r.until("all were started anew", func(status.Snapshot) bool { return len(r.texts("drydock", berth.RestartEnds)) >= 1 })
	for range 4 { // what is asked for is no crash loop
		r.must(r.order(berth.Restart, "drydock"))
		r.until("all were started anew, and are well", func(s status.Snapshot) bool { return berthAt(s, "drydock").Restarting == nil && apps(4)(s) })
	}
	r.halt()
	r.wait(4 * time.Minute) // one is missed
	r.run()
	r.until("it is caught up with", func(status.Snapshot) bool { return len(r.texts("drydock", berth.PreviewKept)) == 1 })
	if kinds := r.kinds("drydock"); slices.Contains(kinds, "drifted") || !slices.Contains(kinds, "caught up") {
		t.Errorf("on record is %v", kinds)
	}
	s = r.until("its end is told", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return b.Life != nil && !b.Life.Announced.IsZero()
	})
	if left := berthAt(s, "drydock").Life.Ends.Sub(s.Now); left > 2*time.Minute || left < time.Minute {
		t.Errorf("it was told %s before", left)
	}
	r.until("it is gone", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return b.Gone != nil && b.Applied == nil && b.SyncStatus == "absent"
	})
	if seen, err := r.sites["drydock"].Observe(t.Context(), "web"); err != nil || len(seen.Cohorts) > 0 {
		t.Errorf("at the site is still %+v (%v)", seen, err)
	}
	r.wait(2 * time.Minute)
	if b := berthAt(r.engine.Snapshot(), "drydock"); b.Rollout != nil || b.Applied != nil || !strings.Contains(b.Waits, "its life ended: the trial; it comes again when a person syncs") {
		t.Errorf("it came by itself: %s", describe(b))
	}
	r.must(r.order(berth.Sync, "drydock"))
	r.until("it is back for another life", apps(4))
}

// TestReview tells what a branch would do at every site: what it changes, whom it meets by the rules there, and what cannot be undone;
// and puts that on record.
func TestReview(t *testing.T) {
	r := ruledRig(t)
	r.both("1", lineRules)
	r.run()
	r.until("drydock has 1", func(s status.Snapshot) bool { return version(berthAt(s, "drydock")) == "1" })
	tree, err := r.repo.Worktree()
	r.must(err)
	r.must(tree.Checkout(&git.CheckoutOptions{Branch: plumbing.NewBranchReferenceName("feature"), Create: true}))
	changed := strings.Replace(plain.Replace(strings.ReplaceAll(declared, "VERSION", "2")), "rollout:\n", "  ledger:\n    kind: task\n    artifact: r.example/web:2\n    undoable: false\nrollout:\n", 1)
	write(t, r.folder+"/repo/workloads/line.yaml", strings.Replace(lineRules, "for: 2m", "for: 4m", 1))
	_, err = tree.Add("workloads/line.yaml")
	r.must(err)
	r.write("workloads/web.yaml", changed, "Version 2")
	r.must(tree.Checkout(&git.CheckoutOptions{Branch: plumbing.NewBranchReferenceName("main")}))
	r.write("workloads/tides.yaml", strings.ReplaceAll(plain.Replace(strings.ReplaceAll(declared, "VERSION", "1")), "workload: web", "workload: tides"), "Tides, which the branch knows nothing of")
	r.until("tides are declared", func(s status.Snapshot) bool {
		_, ok := s.Find(berth.ID{Workload: "tides", Site: "north"})
		return ok
	})
	told, err := r.engine.KeepReview(t.Context(), "feature", "Maren Oake")
	r.must(err)
	if told.Changes() != 2 || told.Berths != 4 || !told.Rules || !told.Behind || len(told.Conflicts) > 0 || len(told.Workloads) != 1 || told.Kept == 0 {
		t.Fatalf("it would change %+v", told)
	}
	w := told.Workloads[0]
	north := w.Sites[1]
	if w.Course != "line" || w.Author != "Tove Lind" || north.Site != "north" || north.From != "1" || north.To != "2" || !slices.Equal(north.Lasting, []string{"ledger"}) {
		t.Errorf("at north: %+v", w)
	}
	if text := strings.Join(north.Does, "; "); !strings.Contains(text, "change app: app/artifact") || !strings.Contains(text, "add ledger") {
		t.Errorf("it does %s", text)
	}
	if leg := north.Leg; leg == nil || len(leg.Asks) != 2 || leg.Begins.Sub(told.Now) < 4*time.Minute || leg.Begins.Sub(told.Now) > 7*time.Minute {
		t.Errorf("its way is %+v", leg)
	}
	if same, err := r.engine.Review(t.Context(), "main"); err != nil || same.Changes() != 0 || same.Rules {
		t.Errorf("main would change %+v (%v)", same, err)
	}
	if _, err := r.engine.Review(t.Context(), "nowhere"); err == nil || !strings.Contains(err.Error(), `no branch "nowhere"`) {
		t.Errorf("a branch that is not there: %v", err)
	}
	facts, err := r.book.Facts(ledger.Query{After: told.Kept - 1, Most: 1})
	if err != nil || len(facts) != 1 || !strings.Contains(facts[0].Text, "Maren Oake previews feature: it would change 2 of 4 berths") {
		t.Errorf("on record is %+v (%v)", facts, err)
	}
}

const branchRules = `aditus: 1
courses:
  line: {on: true, steps: [{sites: [drydock]}, {sites: [north], on: false}]}
branches:
  - {name: trials, branches: preview/*, site: drydock, workloads: [w*], host: "{branch}.web.example", variables: {size: 2}, after: 8m, notice: 2m}
`

// TestBranches has berths come and go with branches: with variables and a name of their own, an end that is announced, and nothing left
// at the site once the branch is gone; over a restart, and again when it comes back.
func TestBranches(t *testing.T) {
	r := ruledRig(t)
	sized := strings.Replace(plain.Replace(strings.ReplaceAll(declared, "VERSION", "1")), "instances: 4", "instances: ${size}", 1)
	sized = strings.Replace(sized, "rollout:\n", "  entry: {kind: route, host: web.example, to: {service: app, port: http}}\nrollout:\n", 1)
	write(t, r.folder+"/repo/workloads/line.yaml", branchRules)
	write(t, r.folder+"/repo/workloads/variables.yaml", "aditus: 1\nvariables: {size: 3, branch: main}\n")
	tree, err := r.repo.Worktree()
	r.must(err)
	for _, name := range []string{"workloads/line.yaml", "workloads/variables.yaml"} {
		_, err = tree.Add(name)
		r.must(err)
	}
	r.write("workloads/web.yaml", sized, "Version 1")
	name := plumbing.NewBranchReferenceName("preview/Quiet_Hours")
	branch := func() {
		r.must(tree.Checkout(&git.CheckoutOptions{Branch: name, Create: true}))
		r.write("workloads/web.yaml", strings.Replace(sized, "web:1", "web:2", 1), "Version 2")
		r.must(tree.Checkout(&git.CheckoutOptions{Branch: plumbing.NewBranchReferenceName("main")}))
	}
	branch()
	r.run()
	id := berth.ID{Workload: "web-quiet-hours", Site: "drydock"}
	there := func(s status.Snapshot) bool {
		b, ok := s.Find(id)
		return ok && version(b) == "2" && b.Rollout == nil && b.Health.Healthy == 2
	}
	s := r.until("the branch has its own", func(s status.Snapshot) bool { return there(s) && version(berthAt(s, "drydock")) == "1" })
	b, _ := s.Find(id)
	if b.Branch == nil || b.Branch.Branch != "preview/Quiet_Hours" {
		t.Errorf("for the branch %+v", b.Branch)
	}
	if host := r.desired(b.Applied).Parts["entry"].Host; host != "quiet-hours.web.example" {
		t.Errorf("its route is for %s", host)
	}
	if _, ok := s.Find(berth.ID{Workload: "web-quiet-hours", Site: "north"}); ok {
		t.Error("it is at another site too")
	}
	r.halt()
	r.run()
	r.until("it is there after a restart", there)
	r.until("its end is told", func(s status.Snapshot) bool {
		b, ok := s.Find(id)
		return ok && b.Life != nil && b.Life.Name == "trials" && !b.Life.Announced.IsZero()
	})
	r.must(r.repo.Storer.RemoveReference(name))
	gone := func(s status.Snapshot) bool { _, ok := s.Find(id); return !ok }
	r.until("it is gone with its branch", gone)
	if seen, err := r.sites["drydock"].Observe(t.Context(), id.Workload); err != nil || len(seen.Cohorts) > 0 {
		t.Errorf("at the site is still %+v (%v)", seen, err)
	}
	branch()
	r.until("it comes back with its branch", there)
	r.must(r.repo.Storer.RemoveReference(name))
	r.until("it is gone again", gone)
	r.halt()
	r.run()
	r.wait(20 * time.Second)
	if s := r.engine.Snapshot(); !gone(s) || version(berthAt(s, "drydock")) != "1" || len(s.Problems) > 0 {
		t.Errorf("after a restart: %+v", s.Problems)
	}
}

// TestHeld has commits loosen a sign-off and a guard together with what they bring, and while that waits for the sign-off: it comes by the
// rules from before each time. Loosened by itself, it holds for the next revision.
func TestHeld(t *testing.T) {
	r := atFirst(t)
	signed := strings.ReplaceAll(declared, "VERSION", "2")
	loose := strings.Replace(signed, ", sign-off: a lead", "", 1)
	loose = strings.Replace(loose, "at-most: 10 %", "at-most: 90 %", 1)
	r.write("workloads/web.yaml", loose, "Version 2, and no sign-off")
	s := r.until("it waits all the same", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return b.Rollout != nil && b.Rollout.Phase == rollout.Waiting && b.Rollout.New.Version == "2"
	})
	if w := strings.Join(s.Links[0].Warnings, "; "); !strings.Contains(w, "web/drydock: what the commit brings comes by the rules from before it, which it loosens: the sign-off by a lead and the guard slow as it was") {
		t.Errorf("told is %q", w)
	}
	if limit := r.desired(berthAt(s, "drydock").Declared).Guards[0].Limit.Value; limit != 0.1 {
		t.Errorf("the guard's limit is %v", limit)
	}
	r.write("workloads/web.yaml", strings.Replace(loose, "deadline: 30s", "deadline: 31s", 1), "And no sign-off again")
	r.write("README.md", "words", "Something else")
	r.wait(time.Minute)
	s = r.until("it waits still", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return b.Rollout != nil && b.Rollout.Phase == rollout.Waiting
	})
	if got := version(berthAt(s, "drydock")); got != "1" {
		t.Errorf("it helped itself to %s", got)
	}
	r.halt()
	r.run()
	r.until("it waits after a restart", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return b.Rollout != nil && b.Rollout.Phase == rollout.Waiting
	})
	r.must(r.order(berth.SignOff, "drydock"))
	r.until("2 is proven", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return version(b) == "2" && b.Rollout == nil })
	r.write("workloads/web.yaml", strings.Replace(strings.Replace(loose, "deadline: 30s", "deadline: 31s", 1), "web:2", "web:1", 1), "The next one, by the rules that were looked at")
	s = r.until("1 comes without a sign-off", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return version(b) == "1" && b.Rollout == nil
	})
	if told := strings.Join(s.Links[0].Warnings, "; "); strings.Contains(told, "drydock") || !strings.Contains(told, "web/north") { // which never had it
		t.Errorf("told is %q", told)
	}
}

// TestTrain has two workloads ride together: neither comes to a site before the other may, and where one is rolled back the other, which
// came by the same commit and is proven, goes back with it.
func TestTrain(t *testing.T) {
	rules := `aditus: 1
roles: {leads: [Edda Marsh]}
courses: {line: {on: true, steps: [{sites: [drydock]}, {sites: [north], after: drydock}]}}
trains: {harbour: [web, tides]}
`
	r := ruledRig(t)
	tides := func(version string) string {
		text := strings.ReplaceAll(plain.Replace(strings.ReplaceAll(declared, "VERSION", version)), "workload: web", "workload: tides")
		stages, _, _ := strings.Cut(text, "guards:\n")
		return stages
	}
	both := func(version, bad string) {
		write(t, r.folder+"/repo/workloads/tides.yaml", tides(version))
		tree, err := r.repo.Worktree()
		r.must(err)
		_, err = tree.Add("workloads/tides.yaml")
		r.must(err)
		r.both(bad, rules)
	}
	both("1", "1")
	r.run()
	at := func(s status.Snapshot, workload, site string) status.Berth {
		b, _ := s.Find(berth.ID{Workload: workload, Site: site})
		return b
	}
	r.until("both are at north", func(s status.Snapshot) bool {
		web, tides := at(s, "web", "north"), at(s, "tides", "north")
		return version(web) == "1" && version(tides) == "1" && web.Rollout == nil && tides.Rollout == nil
	})
	both("2", "slow")
	s := r.until("web is rolled back at drydock, and tides with it", func(s status.Snapshot) bool {
		web, tides := at(s, "web", "drydock"), at(s, "tides", "drydock")
		return web.Bar != nil && web.Rollout == nil && tides.Bar != nil && tides.Rollout == nil
	})
	if tides := at(s, "tides", "drydock"); version(tides) != "1" || !strings.Contains(tides.Bar.Why, "web was rolled back, and the train harbour goes back together") {
		t.Errorf("tides at drydock: %s, %+v", describe(tides), tides.Bar)
	}
	r.wait(2 * time.Minute)
	s = r.engine.Snapshot()
	for _, workload := range []string{"web", "tides"} {
		if b := at(s, workload, "north"); version(b) != "1" || b.Rollout != nil {
			t.Errorf("%s at north: %s", workload, describe(b))
		}
	}
}

// TestScheduledLook has Git looked at, and drift looked for, when schedules say so, and not before.
func TestScheduledLook(t *testing.T) {
	r := newRig(t)
	r.change = func(s *config.Settings) {
		s.Policy, s.Roles = "repo", nil
		s.Sites = []config.Site{{Name: "drydock"}, {Name: "north"}}
		s.Links[0].Every = 10 * time.Hour
	}
	rules := `aditus: 1
sites: {drydock: {drift: {look: "0 3 * * *"}}}
courses: {line: {on: true, steps: [{sites: [drydock]}]}}
schedules:
  - {name: read, do: look, at: "2026-03-12T09:06:00Z"}
  - {name: hands, do: look for drift, sites: [drydock], at: "2026-03-12T09:04:00Z"}
`
	r.both("1", rules)
	r.run()
	r.until("drydock has 1", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return version(b) == "1" && b.Rollout == nil })
	r.hand("drydock", "app", "instances", "3") // the first that it sees is told; what comes after waits for its time
	s := r.until("it was changed by hand", func(s status.Snapshot) bool { return berthAt(s, "drydock").SyncStatus == "drifted" })
	r.must(r.order(berth.Sync, "drydock"))
	r.until("it is put back", func(s status.Snapshot) bool { return berthAt(s, "drydock").SyncStatus == "aligned" })
	told := len(r.texts("drydock", berth.Drifted))
	r.hand("drydock", "app", "instances", "2")
	r.wait(30 * time.Second)
	if now := len(r.texts("drydock", berth.Drifted)); now != told || s.Now.Sub(start) > 4*time.Minute {
		t.Errorf("drift was told %d times before its time, at %s", now, s.Now)
	}
	s = r.until("it is told", func(status.Snapshot) bool { return len(r.texts("drydock", berth.Drifted)) == told+1 })
	if at := s.Now.Sub(start); at < 4*time.Minute || at > 4*time.Minute+20*time.Second {
		t.Errorf("it was told after %s", at)
	}
	r.both("2", rules)
	s = r.until("Git is read", func(s status.Snapshot) bool { d := berthAt(s, "drydock").Declared; return d != nil && d.Version == "2" })
	if at := s.Now.Sub(start); at < 6*time.Minute || at > 6*time.Minute+20*time.Second {
		t.Errorf("it was read after %s", at)
	}
}
