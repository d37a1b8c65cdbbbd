package berth

import (
	"strings"
	"testing"
	"time"

	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/health"
	"aditus/internal/core/rollout"
)

var noon = time.Date(2026, 3, 12, 12, 0, 0, 0, time.UTC)

// TestAsked has a person sync while the site is being asked whether it can take what is declared: the order waits for the
// answer, and is refused with what the site says.
func TestAsked(t *testing.T) {
	desired := declare.Desired{Format: 1, Workload: "lantern", Parts: map[string]declare.Part{"all": {Kind: declare.Objects, Objects: map[string]declare.Object{"ConfigMap/hours": {"kind": "ConfigMap"}}}}}
	r := &Revision{Fingerprint: desired.Fingerprint(), Desired: &desired, Version: "1"}
	order := []Order{{Verb: Sync, By: "Maren Oake"}}
	for _, c := range []struct {
		world World
		again bool
		err   string
	}{
		{World{Cannot: "the site is being asked", Asked: true}, true, ""},
		{World{Cannot: "ConfigMap/hours: the account may not"}, false, "sync is not possible: ConfigMap/hours: the account may not"},
		{World{}, false, ""},
	} {
		c.world.Declared, c.world.Revisions = r, map[declare.Fingerprint]*Revision{r.Fingerprint: r}
		d := Decide(ID{Workload: "lantern", Site: "north"}, State{}, Seen{Reached: true}, c.world, order, noon)
		answer := d.Answers[0]
		if answer.Again != c.again || (answer.Err == nil) != (c.err == "") || answer.Err != nil && answer.Err.Error() != c.err || d.Begins() != (c.world.Cannot == "") {
			t.Errorf("%+v: %+v, begins %v", c.world.Cannot, answer, d.Begins())
		}
	}
}

// TestPlaced tells how far a part's objects are, and how a cohort of objects is doing: only what is as it has them counts.
func TestPlaced(t *testing.T) {
	waves := [][]string{{"ConfigMap/a", "ConfigMap/b"}, {"Deployment/web"}, {"Ingress/web"}}
	object := func(id string, there bool, s health.State) Object {
		return Object{Part: "all", ID: id, There: there, State: s}
	}
	well, moves, fails := health.State{Word: health.Healthy}, health.State{Word: health.Starting, Moves: true, Reason: "1 of 2"}, health.State{Word: health.Failing, Reason: "timed out"}
	for _, c := range []struct {
		name   string
		states []health.State
		there  []bool
		want   rollout.Placed
		word   health.Word
	}{
		{"all well", []health.State{well, well, well, well}, []bool{true, true, true, true}, rollout.Placed{Waves: 3}, health.Healthy},
		{"nothing yet", []health.State{moves, moves, moves, moves}, []bool{false, false, false, false}, rollout.Placed{Next: true, Lacks: true}, health.Healthy},
		{"one of the first is missing", []health.State{well, moves, well, well}, []bool{true, false, true, true}, rollout.Placed{Next: true, Lacks: true}, health.Healthy},
		{"the second is on its way", []health.State{well, well, moves, well}, []bool{true, true, true, false}, rollout.Placed{Waves: 1, Lacks: true, Moves: true}, health.Starting},
		{"the last is still to come", []health.State{well, well, well, moves}, []bool{true, true, true, false}, rollout.Placed{Waves: 2, Next: true, Lacks: true}, health.Healthy},
		{"one fails", []health.State{well, well, fails, well}, []bool{true, true, true, true}, rollout.Placed{Waves: 1}, health.Failing},
		{"another revision's fails", []health.State{well, well, fails, well}, []bool{true, true, false, true}, rollout.Placed{Waves: 1, Next: true, Lacks: true}, health.Healthy},
		{"a claim that waits for its pod", []health.State{{Word: health.Starting, Reason: "no volume"}, well, well, well}, []bool{true, true, true, true}, rollout.Placed{Waves: 3}, health.Healthy},
	} {
		seen := Cohort{Revision: "new"}
		i := 0
		for _, wave := range waves {
			for _, id := range wave {
				seen.Objects = append(seen.Objects, object(id, c.there[i], c.states[i]))
				i++
			}
		}
		if got := seen.placed("all", waves); got != c.want {
			t.Errorf("%s: %+v, want %+v", c.name, got, c.want)
		}
		if got := (Seen{Cohorts: []Cohort{seen}}).Health("new", 0); got.Word != c.word {
			t.Errorf("%s: it is %s: %s", c.name, got.Word, got.Reason)
		}
	}
}

// TestPruneObjects removes orphans among objects, those first that others are not made of, and leaves what is to be kept.
func TestPruneObjects(t *testing.T) {
	orphan := func(id, kind string, keep bool) compare.Difference {
		live := map[string]any{"apiVersion": "v1", "kind": kind, "metadata": map[string]any{"name": "x"}}
		if keep {
			live["keep"] = true
		}
		return compare.Difference{Pointer: "/parts/all/objects/" + declare.Escape(id), Kind: compare.Orphan, Live: live}
	}
	d := &decision{seen: Seen{Reached: true}}
	d.State.Change.Differences = []compare.Difference{orphan("ConfigMap/x", "ConfigMap", false), orphan("Deployment/x", "Deployment", false), orphan("PersistentVolumeClaim/x", "PersistentVolumeClaim", true)}
	if err := d.prune("Maren Oake"); err != nil {
		t.Fatal(err)
	}
	var did []string
	for _, i := range d.Intents {
		did = append(did, string(i.Do)+" "+i.Object)
	}
	if got := strings.Join(did, ", "); got != "remove object Deployment/x, remove object ConfigMap/x" {
		t.Errorf("it does %s", got)
	}
	d.State.Change.Differences = d.State.Change.Differences[2:]
	if err := d.prune("Maren Oake"); err == nil || !strings.Contains(err.Error(), "PersistentVolumeClaim/x stays") {
		t.Errorf("only what is kept: %v", err)
	}
}
