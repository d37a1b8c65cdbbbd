// Package targettest is the conformance test of target drivers: what the engine may rely on, whatever a site runs on.
package targettest

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"testing"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/rollout"
	"aditus/internal/target"
)

// Options tell the test about a driver.
type Options struct {
	// Artifact gives an OCI reference that exists, with another one for another version.
	Artifact func(version int) string
	// Missing is a reference that does not exist; empty where the driver cannot tell.
	Missing string
	// Settles is how long instances may take to come and go, where that is the target's own doing; the driver follows it then.
	Settles time.Duration
}

// eventually waits until something is so at a site, looking again whenever something changed there; in a driver that does all
// at once it is so now or never. It tells whether it is.
func (o Options) eventually(t *testing.T, d target.Driver, so func() bool) bool {
	if o.Settles == 0 {
		return so()
	}
	ctx, cancel := context.WithTimeout(t.Context(), o.Settles)
	defer cancel()
	changed := make(chan struct{}, 1)
	go d.(target.Follower).Follow(ctx, func(target.Berth) {
		select {
		case changed <- struct{}{}:
		default:
		}
	})
	for !so() {
		select {
		case <-changed:
		case <-ctx.Done():
			return so()
		}
	}
	return true
}

const workload = "conformance"

func desired(artifact string) declare.Desired {
	return declare.Desired{Format: 1, Workload: workload, Parts: map[string]declare.Part{
		"web":   {Kind: declare.Service, Artifact: artifact, Instances: 3, Ports: map[string]int{"http": 8080}, Environment: map[string]string{"A": "1"}},
		"texts": {Kind: declare.Settings, Values: map[string]string{"a": "b"}},
		"setup": {Kind: declare.Task, Artifact: artifact},
		"entry": {Kind: declare.Route, Service: "web", To: &declare.Endpoint{Port: "http", Path: "/"}},
	}}
}

// Run holds a driver against the contract of target.Driver. open gives an empty site.
func Run(t *testing.T, open func(t *testing.T) target.Driver, o Options) {
	type step struct {
		name  string
		do    func(target.Driver) error
		wrong bool   // it must be refused
		want  string // what Observe says then
	}
	one, two := declare.Fingerprint("1111111111"), declare.Fingerprint("2222222222")
	prepare := func(f declare.Fingerprint, version int) func(target.Driver) error {
		return func(d target.Driver) error {
			return d.Apply(t.Context(), workload, []target.Want{target.Prepare(f, desired(o.Artifact(version)))})
		}
	}
	scale := func(f declare.Fingerprint, n int) func(target.Driver) error {
		return func(d target.Driver) error {
			return d.Apply(t.Context(), workload, []target.Want{target.Scale(f, "web", n)})
		}
	}
	share := func(f declare.Fingerprint, s float64, rest declare.Fingerprint) func(target.Driver) error {
		return func(d target.Driver) error {
			return d.Apply(t.Context(), workload, []target.Want{target.SetShare(f, s, rest)})
		}
	}
	remove := func(f declare.Fingerprint) func(target.Driver) error {
		return func(d target.Driver) error { return d.Apply(t.Context(), workload, []target.Want{target.Delete(f)}) }
	}
	steps := []step{
		{name: "nothing is there", do: func(target.Driver) error { return nil }, want: ""},
		{name: "what was not prepared cannot be scaled", do: scale(one, 2), wrong: true, want: ""},
		{name: "preparing starts nothing", do: prepare(one, 1), want: "1111111:0@0"},
		{name: "preparing twice does no harm", do: prepare(one, 1), want: "1111111:0@0"},
		{name: "scaling starts instances", do: scale(one, 2), want: "1111111:2@0"},
		{name: "scaling twice does no harm", do: scale(one, 2), want: "1111111:2@0"},
		{name: "all traffic", do: share(one, 1, ""), want: "1111111:2@100"},
		{name: "preparing again keeps instances and traffic", do: prepare(one, 1), want: "1111111:2@100"},
		{name: "a part that is not there", do: func(d target.Driver) error {
			return d.Apply(t.Context(), workload, []target.Want{target.Scale(one, "nothing", 1)})
		}, wrong: true, want: "1111111:2@100"},
		{name: "a second revision beside it", do: prepare(two, 2), want: "1111111:2@100 2222222:0@0"},
		{name: "its instances", do: scale(two, 1), want: "1111111:2@100 2222222:1@0"},
		{name: "its share", do: share(two, 0.25, one), want: "1111111:2@75 2222222:1@25"},
		{name: "the share again", do: share(two, 0.25, one), want: "1111111:2@75 2222222:1@25"},
		{name: "no share beyond the whole", do: share(two, 1.5, one), wrong: true, want: "1111111:2@75 2222222:1@25"},
		{name: "no share to what is not there", do: share("3333333333", 0.5, one), wrong: true, want: "1111111:2@75 2222222:1@25"},
		{name: "what has traffic is not deleted", do: remove(two), wrong: true, want: "1111111:2@75 2222222:1@25"},
		{name: "what cannot be does not keep the rest up", do: func(d target.Driver) error {
			return d.Apply(t.Context(), workload, []target.Want{target.Scale(two, "nothing", 1), target.Scale(two, "web", 3), target.SetShare(two, 0.5, one), target.MovePart(one, two, "nothing")})
		}, wrong: true, want: "1111111:2@50 2222222:3@50"},
		{name: "what nobody knows is refused", do: func(d target.Driver) error {
			return d.Apply(t.Context(), workload, []target.Want{{Intent: rollout.Intent{Do: "dance"}}})
		}, wrong: true, want: "1111111:2@50 2222222:3@50"},
		{name: "several things at once", do: func(d target.Driver) error {
			return d.Apply(t.Context(), workload, []target.Want{target.Scale(two, "web", 1), target.SetShare(two, 0.25, one)})
		}, want: "1111111:2@75 2222222:1@25"},
		{name: "the way back", do: share(two, 0, one), want: "1111111:2@100 2222222:1@0"},
		{name: "deleting stops instances", do: remove(two), want: "1111111:2@100"},
		{name: "deleting twice does no harm", do: remove(two), want: "1111111:2@100"},
		{name: "scaled to none, on purpose", do: scale(one, 0), want: "1111111:0@100"},
		{name: "the end: up again, first", do: scale(one, 1), want: "1111111:1@100"},
		{name: "the end: no traffic to anybody", do: share(one, 0, ""), want: "1111111:1@0"},
		{name: "the end: nothing runs", do: scale(one, 0), want: "1111111:0@0"},
		{name: "the end: nothing is left", do: remove(one), want: ""},
	}
	t.Run("steps", func(t *testing.T) {
		d := open(t)
		for _, s := range steps {
			if err := s.do(d); (err != nil) != s.wrong {
				t.Fatalf("%s: %v", s.name, err)
			}
			if !o.eventually(t, d, func() bool { return told(t, d) == s.want }) {
				t.Fatalf("%s: the site has %q, want %q", s.name, told(t, d), s.want)
			}
		}
	})
	t.Run("what it was told last, and of what", func(t *testing.T) {
		d := open(t)
		wanted := desired(o.Artifact(1))
		r := &berth.Revision{Fingerprint: wanted.Fingerprint(), Workload: workload, Version: "1", Author: "Ilse Varga", Desired: &wanted}
		whole := target.Prepare(r.Fingerprint, wanted)
		whole.Remember = target.Remember(r)
		if err := d.Apply(t.Context(), workload, []target.Want{whole, target.Scale(r.Fingerprint, "web", 1), target.Noted(7)}); err != nil {
			t.Fatal(err)
		}
		if !o.eventually(t, d, func() bool { seen, err := d.Observe(t.Context(), workload); return err == nil && seen.Step == 7 }) {
			t.Error("the site does not know what it was told last")
		}
		again := d.(target.Rememberer).Remembered(workload, r.Fingerprint)
		if again == nil || again.Version != "1" || again.Author != r.Author || again.Desired.Fingerprint() != r.Fingerprint || d.(target.Rememberer).Remembered(workload, two) != nil {
			t.Errorf("it remembers %+v", again)
		}
		if err := d.Apply(t.Context(), workload, []target.Want{target.Delete(r.Fingerprint)}); err != nil {
			t.Error(err)
		}
	})
	t.Run("live shows what was prepared", func(t *testing.T) {
		d := open(t)
		for _, do := range []func(target.Driver) error{prepare(one, 1), scale(one, 3)} {
			if err := do(d); err != nil {
				t.Fatal(err)
			}
		}
		var seen target.Observation
		var err error
		if !o.eventually(t, d, func() bool {
			seen, err = d.Observe(t.Context(), workload)
			return err == nil && len(seen.Cohorts) == 1 && len(seen.Cohorts[0].Instances) == 3
		}) {
			t.Fatalf("%+v (%v)", seen, err)
		}
		web, _ := seen.Cohorts[0].Live["web"].(map[string]any)
		if fmt.Sprint(web) != fmt.Sprint(map[string]any{"kind": "service", "artifact": o.Artifact(1), "instances": 3.0, "environment": map[string]any{"A": "1"}}) {
			t.Errorf("live shows %v", web)
		}
		ids := map[string]bool{}
		for _, in := range seen.Cohorts[0].Instances {
			if ids[in.ID] = true; in.Part != "web" || in.Started.IsZero() || in.CannotStart != "" {
				t.Errorf("instance %+v", in)
			}
		}
		if len(ids) != 3 {
			t.Errorf("the instances' names are not their own: %v", ids)
		}
	})
	t.Run("parts", func(t *testing.T) { parts(t, open(t), o) })
	t.Run("an artifact that does not exist", func(t *testing.T) {
		if o.Missing == "" {
			t.Skip("the driver cannot tell")
		}
		d := open(t)
		if err := d.Apply(t.Context(), workload, []target.Want{target.Prepare(one, desired(o.Missing))}); err != nil {
			t.Fatal(err)
		}
		if err := scale(one, 1)(d); err != nil {
			t.Fatal(err)
		}
		if !o.eventually(t, d, func() bool {
			seen, err := d.Observe(t.Context(), workload)
			return err == nil && len(seen.Cohorts) == 1 && len(seen.Cohorts[0].Instances) == 1 && seen.Cohorts[0].Instances[0].CannotStart != ""
		}) {
			seen, err := d.Observe(t.Context(), workload)
			t.Errorf("nobody says why it cannot start: %+v (%v)", seen, err)
		}
	})
}

// parts runs a task, moves a part from one cohort to another, marks a cohort, takes a part away, and reads a log.
func parts(t *testing.T, d target.Driver, o Options) {
	one, two, three := declare.Fingerprint("1111111111"), declare.Fingerprint("2222222222"), declare.Fingerprint("3333333333")
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	find := func(revision declare.Fingerprint) target.Cohort {
		seen, err := d.Observe(t.Context(), workload)
		must(err)
		c, _ := seen.Cohort(revision)
		return c
	}
	count := func(c target.Cohort, part string) (n int) {
		for _, in := range c.Instances {
			if in.Part == part {
				n++
			}
		}
		return n
	}
	if err := d.Apply(t.Context(), workload, []target.Want{target.Run(one, "setup")}); err == nil {
		t.Error("a task of what was not prepared ran")
	}
	must(d.Apply(t.Context(), workload, []target.Want{target.Prepare(one, desired(o.Artifact(1)))}))
	for range 2 {
		must(d.Apply(t.Context(), workload, []target.Want{target.Run(one, "setup")}))
	}
	must(d.Apply(t.Context(), workload, []target.Want{target.Scale(one, "web", 2)}))
	must(d.Apply(t.Context(), workload, []target.Want{target.SetShare(one, 1, "")}))
	eventually := func(what string, so func() bool) {
		t.Helper()
		if !o.eventually(t, d, so) {
			t.Errorf("%s: %+v", what, find(one).Instances)
		}
	}
	eventually("a task that was asked for twice", func() bool { c := find(one); return count(c, "setup") == 1 && count(c, "web") == 2 })
	must(d.Apply(t.Context(), workload, []target.Want{target.Preview(one)}))
	if !find(one).Preview {
		t.Error("the preview route does not lead where it was led")
	}
	if err := d.Apply(t.Context(), workload, []target.Want{target.Preview("4444444444")}); err == nil {
		t.Error("the preview route leads to what is not there")
	}
	if _, err := d.Exec(t.Context(), workload, "nobody", []string{"true"}); !errors.Is(err, target.ErrNoInstance) {
		t.Errorf("checking nobody: %v", err)
	}
	if err := d.Restart(t.Context(), workload, "nobody"); !errors.Is(err, target.ErrNoInstance) {
		t.Errorf("restarting nobody: %v", err)
	}
	first := func() (ids []string) {
		for _, in := range find(one).Instances {
			if in.Part == "web" {
				ids = append(ids, in.ID)
			}
		}
		return ids
	}
	must(d.Apply(t.Context(), workload, []target.Want{target.Scale(one, "web", 3)}))
	eventually("one more", func() bool { return len(first()) == 3 })
	gone := first()[0]
	must(d.Apply(t.Context(), workload, []target.Want{target.Scale(one, "web", 2, gone)}))
	eventually(gone+" was to go first", func() bool { return len(first()) == 2 && !slices.Contains(first(), gone) })
	again := first()[0]
	must(d.Restart(t.Context(), workload, again))
	eventually("nobody sees that "+again+" was restarted, or exchanged", func() bool {
		i := slices.IndexFunc(find(one).Instances, func(in target.Instance) bool { return in.ID == again })
		return len(first()) == 2 && (i < 0 || len(find(one).Instances[i].Restarts) > 0)
	})
	instance := first()[0]
	if _, err := d.Log(t.Context(), workload, instance, time.Time{}, 10); err != nil {
		t.Errorf("the log of %s: %v", instance, err)
	}
	if _, err := d.Measure(t.Context(), workload); err != nil {
		t.Errorf("what the site measures: %v", err)
	}
	if _, err := d.Log(t.Context(), workload, "nobody", time.Time{}, 10); !errors.Is(err, target.ErrNoInstance) {
		t.Errorf("the log of nobody: %v", err)
	}
	must(d.Apply(t.Context(), workload, []target.Want{target.Prepare(two, declare.Desired{Format: 1, Workload: workload, Parts: map[string]declare.Part{"texts": {Kind: declare.Settings}}})}))
	for range 2 {
		must(d.Apply(t.Context(), workload, []target.Want{target.MovePart(one, two, "web")}))
		if count(find(one), "web") == 0 {
			break // once it is there, keeping again must do no harm once the old cohort is gone
		}
	}
	if a, b := find(one), find(two); count(a, "web") != 0 || count(b, "web") != 2 || a.Live["web"] != nil || b.Live["web"] == nil {
		t.Errorf("kept: %v and %v", a.Live, b.Live)
	}
	must(d.Apply(t.Context(), workload, []target.Want{target.SetShare(two, 1, "")}))
	must(d.Apply(t.Context(), workload, []target.Want{target.Delete(one)}))
	must(d.Apply(t.Context(), workload, []target.Want{target.MovePart(one, two, "web")}))
	for range 2 {
		must(d.Apply(t.Context(), workload, []target.Want{target.Relabel(two, three)}))
	}
	eventually("the traffic of what was marked", func() bool { return find(three).Share == 1 })
	if c := find(three); c.Share != 1 || count(c, "web") != 2 || len(find(two).Instances) != 0 {
		t.Errorf("marked: %+v", c)
	}
	if err := d.Apply(t.Context(), workload, []target.Want{target.Relabel("4444444444", "5555555555")}); err == nil {
		t.Error("what is not there was marked")
	}
	for range 2 {
		must(d.Apply(t.Context(), workload, []target.Want{target.RemovePart(three, "web")}))
	}
	eventually("what was removed", func() bool { return count(find(three), "web") == 0 })
	if c := find(three); count(c, "web") != 0 || c.Live["web"] != nil || c.Live["texts"] == nil {
		t.Errorf("removed: %v", c.Live)
	}
}

// told writes what a site has: revision, instances, share of the traffic.
func told(t *testing.T, d target.Driver) (text string) {
	t.Helper()
	seen, err := d.Observe(t.Context(), workload)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range seen.Cohorts {
		if text != "" {
			text += " "
		}
		text += fmt.Sprintf("%s:%d@%.0f", c.Revision.Short(), len(c.Instances), c.Share*100)
	}
	return text
}
