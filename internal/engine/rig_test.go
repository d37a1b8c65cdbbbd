package engine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/object"

	"aditus/internal/clock"
	"aditus/internal/config"
	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/ledger"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/target/sim"
)

const behaviour = `
seed: 3
workloads: {"*": {requests: 100}}
artifacts:
  r.example/web:1: {starts-in: 3s, slow: 0.02, memory: 100}
  r.example/web:2: {starts-in: 3s, slow: 0.02, memory: 100}
  r.example/web:slow: {starts-in: 3s, slow: 0.02, memory: 100, faults: [{kind: slow, above: 0.2, amount: 0.3}]}
  r.example/web:later: {starts-in: 3s, slow: 0.02, memory: 100, faults: [{kind: slow, after: 2m, amount: 0.3}]}
  r.example/web:stuck: {starts-in: 1s, faults: [{kind: unready, after: 70s}]}
  r.example/web:hang: {starts-in: 3s, faults: [{kind: hang}]}
  r.example/web:garbage: {starts-in: 3s, slow: 0.02, faults: [{kind: garbage}]}
  r.example/smoke:good: {takes: 5s}
  r.example/smoke:bad: {takes: 5s, fails: "GET /book answers 500"}
  r.example/web:crash: {starts-in: 1s, faults: [{kind: crash, after: 20s}]}
`

const declared = `aditus: 1
workload: web
sites: [drydock, north]
parts:
  app:
    kind: service
    artifact: r.example/web:VERSION
    instances: 4
    ports: {http: 80}
    probes: {ready: {http: {port: http, path: /ready}, every: 2s, timeout: 250ms, grace: 10s}}
    metrics: {port: http, requests: http_requests_total}
rollout:
  stages: [{share: 10 %, soak: 15s}, {share: 50 %, soak: 15s, sign-off: a lead}, {share: 100 %, soak: 10s}]
  deadline: 30s
  proving: 20s
  cool-down: 1m
  interval: 5s
guards:
  - name: slow
    signal: {share-above: {histogram: http_request_duration_seconds, bound: 250ms}}
    limit: {at-most: 10 %}
    breach: {intervals: 2, of: 3, samples: 5}
`

var start = time.Date(2026, 3, 12, 9, 0, 0, 0, time.UTC)

// rig is an engine on stand-in sites, a repository of its own and a clock that only the test moves on.
type rig struct {
	t      testing.TB
	folder string
	repo   *git.Repository
	book   *ledger.Ledger
	clock  clock.Clock
	sites  map[string]*sim.Site
	engine *Engine
	change func(*config.Settings) // what differs in the settings; nil for nothing
	access Access
	wrap   func(*sim.Site) target.Driver // what stands before a site; nil for nothing
	shared string                        // where the ledger is in PostgreSQL; empty for in the folder
	stop   func()
	leads  context.Context // ends when the engine may do nothing any more
	facts  *[]ledger.Fact
	mu     *sync.Mutex
}

func newRig(t testing.TB) *rig {
	t.Helper()
	r := &rig{t: t, folder: t.TempDir(), sites: map[string]*sim.Site{}, facts: &[]ledger.Fact{}, mu: &sync.Mutex{}}
	var err error
	r.repo, err = git.PlainInitWithOptions(filepath.Join(r.folder, "repo"), &git.PlainInitOptions{InitOptions: git.InitOptions{DefaultBranch: plumbing.NewBranchReferenceName("main")}})
	r.must(err)
	r.clock = clock.NewLockstep(start)
	r.clock.Join()
	model, err := sim.ReadBehaviour("test", []byte(behaviour))
	r.must(err)
	for _, name := range []string{"drydock", "north"} {
		r.sites[name], err = sim.Open(name, "", model, r.clock.Now)
		r.must(err)
		t.Cleanup(r.sites[name].Close)
	}
	t.Cleanup(func() { r.halt() })
	return r
}

// write makes a file with the folders above it.
func write(t testing.TB, file, text string) {
	t.Helper()
	if err := errors.Join(os.MkdirAll(filepath.Dir(file), 0o755), os.WriteFile(file, []byte(text), 0o644)); err != nil {
		t.Fatal(err)
	}
}

func (r *rig) must(err error) {
	r.t.Helper()
	if err != nil {
		r.t.Fatal(err)
	}
}

// run starts an engine on what the ledger holds.
func (r *rig) run() {
	r.t.Helper()
	told := func(facts []ledger.Fact) {
		r.mu.Lock()
		defer r.mu.Unlock()
		*r.facts = append(*r.facts, facts...)
	}
	var err error
	if r.shared == "" {
		r.book, err = ledger.Open(r.folder, told)
	} else {
		r.book, err = ledger.Connect(r.shared, "", told)
	}
	r.must(err)
	leads, err := r.book.Lead(context.Background(), ledger.Server{Name: "harbor"}, nil)
	r.must(err)
	settings := config.Settings{
		Line: "Test Line", Beat: time.Second, Registries: map[string]config.Registry{"*": {Skip: true}},
		Links: []config.Link{{Name: "repo", Repository: filepath.Join(r.folder, "repo"), Branch: "main", Folder: "workloads", Every: 5 * time.Second}},
		Roles: map[string][]string{"a lead": {"*"}, "a captain": {"*"}},
		Sites: []config.Site{{Name: "drydock", Automatic: true}, {Name: "north", Automatic: true, After: "drydock"}},
	}
	if r.change != nil {
		r.change(&settings)
	}
	r.engine, err = New(settings, r.book, map[string]target.Driver{"drydock": r.driver("drydock"), "north": r.driver("north")}, r.clock, r.access)
	r.must(err)
	ctx, cancel := context.WithCancel(leads)
	ended := make(chan error, 1)
	go func() { ended <- r.engine.Run(ctx) }()
	r.leads = leads
	r.stop = func() {
		cancel()
		if err := <-ended; err != nil {
			r.t.Errorf("the engine ended with %v", err)
		}
		r.book.Close()
		r.stop = nil
	}
}

func (r *rig) driver(site string) target.Driver {
	if r.wrap != nil {
		return r.wrap(r.sites[site])
	}
	return r.sites[site]
}

// halt ends the engine as suddenly as a test can: nothing is told to anyone.
func (r *rig) halt() {
	if r.stop != nil {
		r.stop()
	}
}

// push commits the declaration with a version, changed in pairs of old and new text.
func (r *rig) push(version string, change ...string) {
	r.t.Helper()
	text := strings.NewReplacer(append(change, "VERSION", version)...).Replace(declared)
	r.write("workloads/web.yaml", text, "Version "+version)
}

func (r *rig) write(name, text, subject string) {
	r.t.Helper()
	file := filepath.Join(r.folder, "repo", name)
	tree, err := r.repo.Worktree()
	r.must(err)
	if text == "" {
		_, err = tree.Remove(name)
	} else {
		write(r.t, file, text)
		_, err = tree.Add(name)
	}
	r.must(err)
	by := &object.Signature{Name: "Tove Lind", Email: "tove@skerry.example", When: r.clock.Now()}
	_, err = tree.Commit(subject, &git.CommitOptions{Author: by, Committer: by})
	r.must(err)
}

// longest is the made-up time that a test waits for something at most.
const longest = 10 * time.Minute

// until moves the time on until a condition holds.
func (r *rig) until(what string, holds func(status.Snapshot) bool) status.Snapshot {
	r.t.Helper()
	for end := r.clock.Now().Add(longest); r.clock.Now().Before(end); r.wait(time.Second) {
		if s := r.engine.Snapshot(); holds(s) {
			return s
		}
	}
	s := r.engine.Snapshot()
	r.t.Fatalf("never: %s; drydock %s; %v", what, describe(berthAt(s, "drydock")), troubles(s))
	return s
}

// troubles are what is wrong with no berth in particular.
func troubles(s status.Snapshot) (all []string) {
	for _, l := range s.Links {
		if l.Problem != nil {
			all = append(all, l.Name+": "+l.Problem.Text)
		}
	}
	for _, p := range s.Problems {
		all = append(all, p.About+": "+p.Text)
	}
	return all
}

// hand changes a part of the workload at a site as a person there would.
func (r *rig) hand(site, part, field, value string) {
	r.t.Helper()
	r.must(r.sites[site].ChangeByHand(sim.Hand{Workload: "web", Part: part, Field: field, Value: value}))
}

func (r *rig) wait(d time.Duration) {
	r.must(r.clock.Wait(context.Background(), r.clock.Now().Add(d), nil))
}

// order gives an order while the time stands still for all but the berth's loop.
// desired is what a revision that a snapshot shows declares.
func (r *rig) desired(shown *berth.Revision) *declare.Desired {
	r.t.Helper()
	if shown == nil {
		return &declare.Desired{Guards: make([]guard.Rule, 1)}
	}
	kept, err := r.engine.revision(shown.Workload, shown.Fingerprint)
	r.must(err)
	return kept.Desired
}

func (r *rig) order(verb berth.Verb, site string) error {
	r.t.Helper()
	return r.do(berth.Order{Verb: verb, Berth: berth.ID{Workload: "web", Site: site}, By: "Maren Oake"})
}

func (r *rig) do(o berth.Order) error {
	r.t.Helper()
	answer := make(chan error, 1)
	go func() { answer <- r.engine.Do(context.Background(), o) }()
	for range 50 {
		select {
		case err := <-answer:
			return err
		default:
			r.wait(time.Second)
		}
	}
	r.t.Fatalf("%s was never answered", o.Verb)
	return nil
}

func berthAt(s status.Snapshot, site string) status.Berth {
	b, _ := s.Find(berth.ID{Workload: "web", Site: site})
	return b
}

func version(b status.Berth) string {
	if b.Applied == nil {
		return ""
	}
	return b.Applied.Version
}

func describe(b status.Berth) string {
	text := fmt.Sprintf("%s, %s, %s, waits %q", version(b), b.SyncStatus, b.Health.Word, b.Waits)
	if b.Problem != nil {
		text += ", problem " + b.Problem.Text
	}
	if r := b.Rollout; r != nil {
		text += fmt.Sprintf(", %s in stage %d because %s, %+v", r.Phase, r.Stage+1, r.Why, b.Verdicts)
	}
	return text
}

// share is the part of the traffic that a version has at a site.
func (r *rig) share(site, wanted string) float64 {
	r.t.Helper()
	seen, err := r.sites[site].Observe(r.t.Context(), "web")
	r.must(err)
	for _, c := range seen.Cohorts {
		app, _ := c.Live["app"].(map[string]any)
		if app["artifact"] == "r.example/web:"+wanted {
			return c.Share
		}
	}
	return 0
}

// texts are what the facts of a kind say at a berth.
func (r *rig) texts(site string, kind berth.Kind) (texts []string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, f := range *r.facts {
		if f.Site == site && f.Kind == kind {
			texts = append(texts, f.Text)
		}
	}
	return texts
}

// kinds are the kinds of facts of a berth, in order.
func (r *rig) kinds(site string) []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	var kinds []string
	for _, f := range *r.facts {
		if f.Site == site {
			kinds = append(kinds, string(f.Kind))
		}
	}
	return kinds
}
