package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-git/go-git/v5/plumbing"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/guard"
	"aditus/internal/core/rollout"
	"aditus/internal/core/signal"
	"aditus/internal/ledger"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/target/sim"
)

// settled gives a rig on which version 1 is proven at both sites.
func settled(t testing.TB) *rig {
	t.Helper()
	r := newRig(t)
	r.push("1")
	r.run()
	r.until("version 1 is proven at both sites", func(s status.Snapshot) bool {
		return version(berthAt(s, "drydock")) == "1" && version(berthAt(s, "north")) == "1" && berthAt(s, "north").Rollout == nil
	})
	return r
}

func inPhase(site string, phase rollout.Phase, stage int) func(status.Snapshot) bool {
	return func(s status.Snapshot) bool {
		b := berthAt(s, site)
		return b.Rollout != nil && b.Rollout.Phase == phase && b.Rollout.Stage == stage
	}
}

// TestPush follows a push through all stages at the first site and on to the second.
func TestPush(t *testing.T) {
	r := settled(t)
	r.push("2")
	r.until("soaking at 10 %", inPhase("drydock", rollout.Soaking, 0))
	if share := r.share("drydock", "2"); share != 0.1 {
		t.Errorf("the new cohort has %v of the traffic", share)
	}
	s := r.until("waiting", inPhase("drydock", rollout.Waiting, 1))
	if b := berthAt(s, "north"); b.SyncStatus != compare.Behind || b.BehindBy != 1 || b.Waits != "waits until drydock has proven it" {
		t.Errorf("north: %s", describe(b))
	}
	if o := berthAt(s, "drydock").Rollout.Observed; o == nil || o.Low > 0.5 || o.High < 0.5 {
		t.Errorf("the observed split is %+v, asked is 0.5", o)
	}
	if err := r.order(berth.Advance, "drydock"); err == nil || !strings.Contains(err.Error(), "sign off instead") {
		t.Errorf("an order that is not possible: %v", err)
	}
	if err := r.order(berth.SignOff, "drydock"); err != nil {
		t.Error(err)
	}
	r.until("proven and taken over at north", func(s status.Snapshot) bool {
		return version(berthAt(s, "drydock")) == "2" && berthAt(s, "drydock").Rollout == nil && berthAt(s, "north").Rollout != nil
	})
	want := "taken stage stage waiting signed off stage proving stage proven"
	kinds := strings.Join(r.kinds("drydock"), " ")
	if !strings.HasSuffix(kinds, want) {
		t.Errorf("the facts are %s, want … %s", kinds, want)
	}
	seen, _ := r.sites["drydock"].Observe(t.Context(), "web")
	if len(seen.Cohorts) != 1 || seen.Cohorts[0].Share != 1 || len(seen.Cohorts[0].Instances) != 4 {
		t.Errorf("the site is left with %+v", seen.Cohorts)
	}
}

// breach pushes a version that gets slow at drydock and tells how long it took from the scrape that proves the breach
// until it had no traffic any more, as far as can be seen from looking once a second.
func (r *rig) breach() time.Duration {
	r.t.Helper()
	r.push("slow")
	r.until("soaking at 50 %", inPhase("drydock", rollout.Soaking, 1))
	r.until("share is nought", func(status.Snapshot) bool { return r.share("drydock", "slow") == 0 })
	back := r.clock.Now()
	facts, err := r.book.Facts(ledger.Query{})
	r.must(err)
	proof := slices.IndexFunc(facts, func(f ledger.Fact) bool { return f.Kind == "breach" })
	if proof < 0 {
		r.t.Fatal("no breach is on record")
	}
	return back.Sub(facts[proof].At)
}

// TestBreach sees that the share is back to nought within one evaluation of the scrape that proves the breach, that the
// revision is barred, and that lifting the bar lets it come again once the cool-down is over.
func TestBreach(t *testing.T) {
	r := settled(t)
	if took := r.breach(); took > 5*time.Second {
		t.Errorf("from the breach to no traffic it took %s, more than one evaluation", took)
	}
	s := r.until("rolled back", func(s status.Snapshot) bool {
		return berthAt(s, "drydock").Bar != nil && berthAt(s, "drydock").Rollout == nil
	})
	b := berthAt(s, "drydock")
	if version(b) != "1" || !strings.Contains(b.Bar.Why, "slow") || b.SyncStatus != compare.Behind {
		t.Errorf("after the rollback: %s, barred because %q", describe(b), b.Bar.Why)
	}
	r.wait(2 * time.Minute)
	if b := berthAt(r.engine.Snapshot(), "drydock"); b.Rollout != nil {
		t.Errorf("a barred revision came again: %s", describe(b))
	}
	r.must(r.order(berth.LiftBar, "drydock"))
	r.until("it comes again", inPhase("drydock", rollout.Soaking, 0))
	r.must(r.order(berth.RollBack, "drydock"))
	r.until("rolled back by a person", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return b.Rollout == nil && b.Bar != nil && b.Bar.By == "Maren Oake"
	})
	r.must(r.order(berth.LiftBar, "drydock"))
	r.wait(5 * time.Second)
	if b := berthAt(r.engine.Snapshot(), "drydock"); b.Rollout != nil || !strings.Contains(b.Waits, "cools down") {
		t.Errorf("within the cool-down: %s", describe(b))
	}
}

// TestNewerRevision sees that a push during a rollout turns it round, without a bar, and comes in its place.
func TestNewerRevision(t *testing.T) {
	r := settled(t)
	r.push("slow")
	r.until("soaking", inPhase("drydock", rollout.Soaking, 0))
	r.push("2")
	r.until("the newer one soaks", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return inPhase("drydock", rollout.Soaking, 0)(s) && b.Rollout.New.Version == "2"
	})
	kinds := strings.Join(r.kinds("drydock"), " ")
	if !strings.HasSuffix(kinds, "taken stage rollback traffic back stopped rolled back taken stage") {
		t.Errorf("the facts are %s", kinds)
	}
}

// TestRestart ends the engine in the middle of a stage: the next one goes on from the same stage with the soak it had
// left, and the evidence it had.
func TestRestart(t *testing.T) {
	r := settled(t)
	r.push("2")
	r.until("half soaked", func(s status.Snapshot) bool {
		return inPhase("drydock", rollout.Soaking, 1)(s) && berthAt(s, "drydock").Rollout.Soaked >= 8*time.Second
	})
	before := berthAt(r.engine.Snapshot(), "drydock").Rollout
	r.halt()
	r.wait(10 * time.Minute) // nobody watches meanwhile
	r.run()
	after := berthAt(r.engine.Snapshot(), "drydock").Rollout
	if after == nil || after.Stage != before.Stage || after.Phase != before.Phase {
		t.Fatalf("it went on as %+v", after)
	}
	if lost := before.Soaked - after.Soaked; lost < 0 || lost > 5*time.Second {
		t.Errorf("%s of soak became %s: more than one evaluation was lost, or made up", before.Soaked, after.Soaked)
	}
	r.until("waiting for the sign-off", inPhase("drydock", rollout.Waiting, 1))
	if !slices.Contains(r.kinds("drydock"), "goes on after a restart") {
		t.Errorf("the restart is not on record: %s", r.kinds("drydock"))
	}
}

// TestNothingUnrecorded takes the ledger away in the middle of a rollout: nothing moves at the site any more, and the
// berth says why.
func TestNothingUnrecorded(t *testing.T) {
	r := settled(t)
	r.push("2")
	r.until("soaking", inPhase("drydock", rollout.Soaking, 0))
	r.book.Close()
	r.wait(2 * time.Minute)
	b := berthAt(r.engine.Snapshot(), "drydock")
	if r.share("drydock", "2") != 0.1 || b.Rollout == nil || b.Rollout.Stage != 0 {
		t.Errorf("it went on without a record: share %v, %s", r.share("drydock", "2"), describe(b))
	}
	if b.Problem == nil || !strings.Contains(b.Problem.Text, "record in the ledger") {
		t.Errorf("the berth does not say why: %s", describe(b))
	}
}

// TestTrafficFirst takes the ledger away before a version breaches: its traffic goes back all the same, nothing else is
// done, and once there is a ledger again all of it is on record.
func TestTrafficFirst(t *testing.T) {
	r := settled(t)
	r.push("slow")
	r.until("soaking at 50 %", inPhase("drydock", rollout.Soaking, 1))
	r.book.Close()
	r.until("its traffic is gone", func(status.Snapshot) bool { return r.share("drydock", "slow") == 0 })
	r.wait(time.Minute)
	b := berthAt(r.engine.Snapshot(), "drydock")
	if r.share("drydock", "slow") != 0 || r.share("drydock", "1") != 1 || b.Rollout == nil || b.Rollout.Phase != rollout.RollingBack || b.Bar != nil {
		t.Errorf("without a record: share %v, %s", r.share("drydock", "slow"), describe(b))
	}
	if b.Problem == nil || !strings.Contains(b.Problem.Text, "record in the ledger") {
		t.Errorf("the berth does not say that it has no record: %s", describe(b))
	}
	seen, err := r.sites["drydock"].Observe(t.Context(), "web")
	if r.must(err); len(seen.Cohorts) != 2 || len(seen.Cohorts[1].Instances) == 0 || len(seen.Cohorts[0].Instances) == 0 {
		t.Errorf("more than the traffic moved: %+v", seen.Cohorts)
	}
	r.halt()
	r.run()
	r.until("rolled back and barred", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return b.Rollout == nil && b.Bar != nil
	})
	if kinds := r.kinds("drydock"); !slices.Contains(kinds, "breach") || !slices.Contains(kinds, "rolled back") {
		t.Errorf("on record: %s", kinds)
	}
}

// TestOneTrouble sees that trouble which comes and goes is one trouble, since it began, and that another one is not.
func TestOneTrouble(t *testing.T) {
	r := settled(t)
	away := func(is bool) {
		r.sites["drydock"].SetReachable(!is)
		r.until("it is noticed", func(s status.Snapshot) bool {
			problem := berthAt(s, "drydock").Problem
			if problem == nil {
				return !is
			}
			return is && strings.Contains(problem.Text, "nothing advances until it answers") // not that it went away in the midst of a look
		})
	}
	away(true)
	began := berthAt(r.engine.Snapshot(), "drydock").Problem.Since
	for range 3 {
		away(false)
		r.wait(5 * time.Second)
		away(true)
	}
	if since := berthAt(r.engine.Snapshot(), "drydock").Problem.Since; !since.Equal(began) {
		t.Errorf("it began at %s and is told since %s", began, since)
	}
	away(false)
	r.wait(time.Minute)
	away(true)
	if since := berthAt(r.engine.Snapshot(), "drydock").Problem.Since; !since.After(began.Add(time.Minute)) {
		t.Errorf("it came again after a minute and is told since %s", since)
	}
	b := &loop{e: r.engine, troubles: map[string]lately{}}
	for i := range 4 {
		b.trouble(began.Add(time.Duration(i)*10*time.Second), fmt.Errorf("read tcp 127.0.0.1:%d: no answer", 41000+i))
	}
	if !b.problem.Since.Equal(began) || !strings.Contains(b.problem.Text, "41003") {
		t.Errorf("trouble from one port after the other: %+v", b.problem)
	}
}

// TestDrift changes a site by hand: it is told, nothing is overwritten, and a person has it put back.
func TestDrift(t *testing.T) {
	r := settled(t)
	r.hand("north", "app", "instances", "6")
	r.hand("north", "app", "environment.DEBUG", "1")
	s := r.until("drifted", func(s status.Snapshot) bool { return berthAt(s, "north").SyncStatus == compare.Drifted })
	if n := len(berthAt(s, "north").Differences); n != 2 {
		t.Errorf("%d differences: %+v", n, berthAt(s, "north").Differences)
	}
	r.push("2")
	r.until("version 2 soaks at drydock", inPhase("drydock", rollout.Waiting, 1))
	r.must(r.order(berth.SignOff, "drydock"))
	s = r.until("proven at drydock", func(s status.Snapshot) bool {
		return version(berthAt(s, "drydock")) == "2" && strings.Contains(berthAt(s, "north").Waits, "by hand")
	})
	if b := berthAt(s, "north"); b.SyncStatus != compare.Diverged || b.Rollout != nil {
		t.Errorf("a drifted site was overwritten: %s", describe(b))
	}
	r.must(r.order(berth.Sync, "north"))
	r.until("version 2 comes", func(s status.Snapshot) bool { return berthAt(s, "north").Rollout != nil })
	if taken := r.texts("north", "taken"); !strings.Contains(taken[len(taken)-1], "what was changed by hand is overwritten: app/environment") {
		t.Errorf("it does not say what is overwritten: %s", taken)
	}
}

// TestPutBack has a person undo what was changed by hand.
func TestPutBack(t *testing.T) {
	r := settled(t)
	r.hand("north", "app", "instances", "6")
	r.until("drifted", func(s status.Snapshot) bool { return berthAt(s, "north").SyncStatus == compare.Drifted })
	r.must(r.order(berth.Sync, "north"))
	r.until("aligned", func(s status.Snapshot) bool { return berthAt(s, "north").SyncStatus == compare.Aligned })
	if kinds := strings.Join(r.kinds("north"), " "); !strings.HasSuffix(kinds, "drifted put back as applied") {
		t.Errorf("on record is %s", kinds)
	}
}

// TestUnwatched makes a site unreachable while new instances come up, for longer than their deadline: once it can be
// seen again the rollout goes on, as nobody can say that they were late.
func TestUnwatched(t *testing.T) {
	r := settled(t)
	r.push("2")
	r.until("settling", inPhase("drydock", rollout.Settling, 0))
	r.sites["drydock"].SetReachable(false)
	r.wait(2 * time.Minute)
	if b := berthAt(r.engine.Snapshot(), "drydock"); b.SyncStatus != compare.Unread || b.Problem == nil {
		t.Errorf("nobody says that it cannot be seen: %s", describe(b))
	}
	r.sites["drydock"].SetReachable(true)
	r.until("soaking", inPhase("drydock", rollout.Soaking, 0))
	if slices.Contains(r.kinds("drydock"), "rollback") {
		t.Errorf("it was rolled back: %s", r.kinds("drydock"))
	}
}

// TestSettingsOnly sees that a change of a variable alone rolls out as any other, and that it has a name of its own.
func TestSettingsOnly(t *testing.T) {
	r := settled(t)
	r.push("1", "instances: 4", "instances: 4\n    environment: {LEVEL: debug}")
	s := r.until("soaking", inPhase("drydock", rollout.Soaking, 0))
	if n := berthAt(s, "drydock").Rollout.New; n.Version != "1 "+n.Revision.Short() {
		t.Errorf("it is called %q beside version 1", n.Version)
	}
}

// TestGone takes everything from a site and what is declared from Git: both are told, nothing is done unasked, and a
// person has the site put back.
func TestGone(t *testing.T) {
	r := settled(t)
	applied := berthAt(r.engine.Snapshot(), "north").Applied.Fingerprint
	r.must(r.sites["north"].Apply(t.Context(), "web", []target.Want{target.SetShare(applied, 0, "")}))
	r.must(r.sites["north"].Apply(t.Context(), "web", []target.Want{target.Delete(applied)}))
	r.until("gone", func(s status.Snapshot) bool { return berthAt(s, "north").SyncStatus == compare.Absent })
	r.wait(time.Minute)
	if b := berthAt(r.engine.Snapshot(), "north"); b.Rollout != nil || r.share("north", "1") != 0 {
		t.Errorf("it was put back unasked: %s", describe(b))
	}
	r.must(r.order(berth.Sync, "north"))
	r.until("back", func(s status.Snapshot) bool {
		return berthAt(s, "north").SyncStatus == compare.Aligned && berthAt(s, "north").Health.Healthy == 4 && r.share("north", "1") == 1
	})
	r.push("1", "[drydock, north]", "[drydock]")
	r.until("no longer declared at north", func(s status.Snapshot) bool { return berthAt(s, "north").Declared == nil })
	r.wait(time.Minute)
	if r.share("north", "1") != 1 {
		t.Error("what is no longer declared was removed unasked")
	}
}

// TestBadInput gives the engine what happens to engines. Each is told in a sentence; what is live stays live, and the
// last good revision stays declared.
func TestBadInput(t *testing.T) {
	mend := func(all ...string) func(status.Snapshot) bool {
		return func(s status.Snapshot) bool { return slices.Equal(s.Links[0].Wrong, all) }
	}
	linkSays := func(words string) func(status.Snapshot) bool {
		return func(s status.Snapshot) bool {
			return s.Links[0].Problem != nil && strings.Contains(s.Links[0].Problem.Text, words)
		}
	}
	berthSays := func(words string) func(status.Snapshot) bool {
		return func(s status.Snapshot) bool {
			b := berthAt(s, "drydock")
			return b.Problem != nil && strings.Contains(b.Problem.Text, words)
		}
	}
	barred := func(words string) func(status.Snapshot) bool {
		return func(s status.Snapshot) bool {
			b := berthAt(s, "drydock")
			return b.Bar != nil && strings.Contains(b.Bar.Why, words) && b.Rollout == nil
		}
	}
	tests := []struct {
		name string
		do   func(*rig)
		says func(status.Snapshot) bool
		mend func(*rig) // after which all is well again; nil where nothing is to be mended
	}{
		{"a broken file", func(r *rig) { r.push("2", "kind: service", "kind: servce") }, linkSays(`is not taken: workloads/web.yaml:6:11: there is no kind of part "servce"; did you mean "service"?`), func(r *rig) { r.push("1") }},
		{"several mistakes", func(r *rig) { r.push("2", "kind: service", "kind: servce", "instances: 4", "instances: four") }, mend(`workloads/web.yaml:6:11: there is no kind of part "servce"; did you mean "service"?`, `workloads/web.yaml:8:16: instances must be a whole number from 0 to 10000`), func(r *rig) { r.push("1") }},
		{"as many mistakes as it likes", func(r *rig) {
			many := "kind: service"
			for i := range mostWrong + 9 {
				many += fmt.Sprintf("\n    key-%d: x", i)
			}
			r.push("2", "kind: service", many)
		}, func(s status.Snapshot) bool {
			all := s.Links[0].Wrong
			return len(all) == mostWrong+1 && all[mostWrong] == "and 9 more"
		}, func(r *rig) { r.push("1") }},
		{"a site that does not exist", func(r *rig) { r.push("2", "[drydock, north]", "[drydock, nroth]") }, linkSays(`there is no site "nroth"`), func(r *rig) { r.push("1") }},
		{"a missing folder", func(r *rig) { r.write("workloads/web.yaml", "", "Remove it") }, linkSays("the folder is missing"), func(r *rig) { r.push("1") }},
		{"an unreachable repository", func(r *rig) {
			r.must(os.Rename(filepath.Join(r.folder, "repo"), filepath.Join(r.folder, "away")))
		}, linkSays("cannot be reached"), func(r *rig) {
			r.must(os.Rename(filepath.Join(r.folder, "away"), filepath.Join(r.folder, "repo")))
		}},
		{"a rewritten branch", func(r *rig) {
			r.must(r.repo.Storer.RemoveReference(plumbing.NewBranchReferenceName("main")))
			r.write("README.md", "new", "Another history")
		}, linkSays("the branch was rewritten"), func(r *rig) { r.must(r.engine.Accept("repo")) }},
		{"an unreachable site", func(r *rig) { r.sites["drydock"].SetReachable(false) }, berthSays("nothing advances until it answers"), func(r *rig) { r.sites["drydock"].SetReachable(true) }},
		{"a probe that never answers", func(r *rig) { r.push("hang") }, barred("not healthy within 30 s: GET /ready: no answer within 250ms"), nil},
		{"an artifact that does not exist", func(r *rig) { r.push("99") }, barred("there is no artifact web:99"), nil},
		{"a crash loop", func(r *rig) { r.push("crash") }, barred("healthy"), nil},
		{"a metrics page that is not metrics", func(r *rig) { r.push("garbage") }, berthSays("the page is no metrics page"), func(r *rig) { r.push("1") }},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			t.Parallel()
			r := settled(t)
			test.do(r)
			s := r.until("it is told", test.says)
			if b := berthAt(s, "drydock"); version(b) != "1" || b.Declared == nil {
				t.Errorf("what was live or declared is lost: %s", describe(b))
			}
			r.wait(time.Minute)
			if test.name != "an unreachable site" {
				if share := r.share("drydock", "1"); share < 0.9-1e-9 {
					t.Errorf("version 1 has only %v of the traffic", share)
				}
			}
			if b := berthAt(r.engine.Snapshot(), "drydock"); b.Rollout != nil && b.Rollout.Stage > 0 {
				t.Errorf("it advanced all the same: %s", describe(b))
			}
			if test.mend == nil {
				return
			}
			test.mend(r)
			r.until("it is well again", func(s status.Snapshot) bool {
				b := berthAt(s, "drydock")
				return s.Links[0].Problem == nil && b.Problem == nil && b.Rollout == nil && b.SyncStatus == compare.Aligned
			})
		})
	}
}

// BenchmarkBreachToNoTraffic reports how many evaluation intervals lie between the scrape that proves a breach and the
// target's share being nought.
func BenchmarkBreachToNoTraffic(b *testing.B) {
	most := 0.0
	for b.Loop() {
		r := settled(b)
		most = max(most, r.breach().Seconds()/5)
		r.halt()
	}
	b.ReportMetric(most, "intervals")
}

// liar is a site that measures what is no number of whatever runs there.
type liar struct {
	*sim.Site
	value *atomic.Uint64 // the bits of what it says; 0 for the truth
}

// Measure implements target.Driver.
func (l liar) Measure(ctx context.Context, workload string) (map[string]signal.Page, error) {
	pages, err := l.Site.Measure(ctx, workload)
	if l.value.Load() == 0 {
		return pages, err
	}
	for _, page := range pages {
		for _, metric := range []string{target.RequestsMetric, target.TookMetric + "_count", target.TookMetric + "_sum", target.TookMetric + "_bucket", target.MemoryMetric} {
			value := math.Float64frombits(l.value.Load())
			page[metric] = []signal.Sample{signal.NewSample(map[string]string{"code": "500", "le": "0.25"}, value), signal.NewSample(map[string]string{"code": "200", "le": "+Inf"}, value)}
		}
	}
	return pages, err
}

// TestLies sees that no number from outside blocks a record, an order, a rollback or a face, and that none of them is taken
// for a good one: guards on them are silent, and nothing advances.
func TestLies(t *testing.T) {
	for _, value := range []float64{math.Inf(1), math.Inf(-1), math.NaN(), -5, 1e308} {
		t.Run(fmt.Sprint(value), func(t *testing.T) {
			r := newRig(t)
			said := &atomic.Uint64{}
			said.Store(math.Float64bits(value))
			r.wrap = func(s *sim.Site) target.Driver { return liar{s, said} }
			lying := []string{"    limit: {at-most: 10 %}", "    limit: {at-most: 10 %}\n    standing: tell\n  - name: errors\n    signal: {ratio: {of: {counter: route_requests_total, where: {code: 5*}}, to: {counter: route_requests_total}}}\n    limit: {at-most: 10 %}\n  - name: memory\n    signal: {gauge: {metric: process_resident_memory_bytes}}\n    limit: {at-most: 900 MB}\n    missing: ignore\n  - name: took\n    signal: {mean: {histogram: route_request_duration_seconds}}\n    limit: {at-most: 1s}\n    missing: ignore"}
			r.push("1", lying...)
			r.run()
			r.until("it holds in its first rollout", func(s status.Snapshot) bool {
				b := berthAt(s, "drydock")
				return b.Rollout != nil && slices.ContainsFunc(b.Verdicts, func(v guard.Verdict) bool { return v.Guard == "errors" && v.Word == guard.Silent && v.Why != "" })
			})
			text, err := json.Marshal(r.engine.Snapshot())
			if err != nil || len(text) == 0 {
				t.Fatalf("the snapshot cannot be written: %v", err)
			}
			said.Store(0)
			r.until("it is proven once numbers come", func(s status.Snapshot) bool {
				return version(berthAt(s, "drydock")) == "1" && berthAt(s, "drydock").Rollout == nil
			})
			said.Store(math.Float64bits(value))
			r.push("2", lying...)
			r.until("2 comes in", inPhase("drydock", rollout.Soaking, 0))
			r.wait(time.Minute)
			if b := berthAt(r.engine.Snapshot(), "drydock"); b.Rollout == nil || b.Rollout.Stage != 0 || b.Problem != nil {
				t.Errorf("on lies alone: %s", describe(b))
			}
			r.must(r.order(berth.RollBack, "drydock"))
			r.until("a person turns it round", func(s status.Snapshot) bool { b := berthAt(s, "drydock"); return b.Rollout == nil && b.Bar != nil })
			if _, err := json.Marshal(r.engine.Snapshot()); err != nil {
				t.Error(err)
			}
		})
	}
}

// ailing is a site that says something against revisions that it did not know before, beside all probes.
type ailing struct {
	*sim.Site
	why   *atomic.Pointer[string]
	known *sync.Map
}

// Observe implements target.Driver.
func (a ailing) Observe(ctx context.Context, workload string) (target.Observation, error) {
	seen, err := a.Site.Observe(ctx, workload)
	why := a.why.Load()
	for _, c := range seen.Cohorts {
		if why == nil {
			a.known.Store(c.Revision, true)
		}
		if _, known := a.known.Load(c.Revision); known {
			continue
		}
		for i := range c.Instances {
			c.Instances[i].Ails = *why
		}
	}
	return seen, err
}

// TestAiling has a site say that new instances are not well whose probes pass: they are failing for that reason, and it is rolled back.
func TestAiling(t *testing.T) {
	r := newRig(t)
	why, known := &atomic.Pointer[string]{}, &sync.Map{}
	r.wrap = func(s *sim.Site) target.Driver { return ailing{s, why, known} }
	r.push("1")
	r.run()
	r.until("1 is proven", func(s status.Snapshot) bool {
		return version(berthAt(s, "drydock")) == "1" && berthAt(s, "drydock").Rollout == nil
	})
	why.Store(new("its image's own check: it is sick"))
	r.push("2")
	r.until("it is rolled back for that", func(s status.Snapshot) bool {
		b := berthAt(s, "drydock")
		return b.Rollout == nil && b.Bar != nil && strings.Contains(b.Waits, *why.Load())
	})
	if b := berthAt(r.engine.Snapshot(), "drydock"); version(b) != "1" {
		t.Errorf("it has %s", describe(b))
	}
}
