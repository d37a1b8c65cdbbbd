package sim

import (
	"errors"
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/signal"
	"aditus/internal/probe"
	"aditus/internal/scrape"
	"aditus/internal/target"
	"aditus/internal/target/targettest"
)

const file = `
seed: 7
sites: {north: {traffic: 2}}
workloads: {conformance: {requests: 100}}
artifacts:
  r.example/web:1: {starts-in: 10s, slow: 0.03, errors: 0.01, memory: 200}
  r.example/web:2:
    starts-in: 10s
    slow: 0.03
    memory: 200
    faults: [{kind: slow, site: north, above: 0.2, ramp: 10s, amount: 0.2}]
  r.example/crash:1: {starts-in: 1s, faults: [{kind: crash, after: 20s}]}
  r.example/hang:1: {starts-in: 1s, faults: [{kind: hang, after: 5s}]}
  r.example/garbage:1: {starts-in: 1s, faults: [{kind: garbage}]}
  r.example/unready:1: {starts-in: 1s, faults: [{kind: unready}]}
`

// world is a site with a clock of its own.
type world struct {
	*Site
	at time.Time
}

func open(t *testing.T, folder string) *world {
	t.Helper()
	behaviour, err := ReadBehaviour("test.yaml", []byte(file))
	if err != nil {
		t.Fatal(err)
	}
	w := &world{at: time.Date(2026, 3, 12, 9, 0, 0, 0, time.UTC)}
	if w.Site, err = Open("north", folder, behaviour, func() time.Time { return w.at }); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(w.Close)
	return w
}

func TestConformance(t *testing.T) {
	targettest.Run(t, func(t *testing.T) target.Driver { return open(t, "") }, targettest.Options{
		Artifact: func(version int) string { return fmt.Sprintf("r.example/web:%d", version) }, Missing: "r.example/web:99",
	})
}

const revision = declare.Fingerprint("1111111111")

// serve puts instances of an artifact there with all the traffic.
func (w *world) serve(t *testing.T, artifact string, instances int) {
	t.Helper()
	d := declare.Desired{Parts: map[string]declare.Part{"web": {Kind: declare.Service, Artifact: artifact, Ports: map[string]int{"http": 80}}}}
	for _, err := range []error{
		w.Apply(t.Context(), "conformance", []target.Want{target.Prepare(revision, d)}), w.Apply(t.Context(), "conformance", []target.Want{target.Scale(revision, "web", instances)}), w.Apply(t.Context(), "conformance", []target.Want{target.SetShare(revision, 1, "")}),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
}

func (w *world) instances(t *testing.T) []target.Instance {
	t.Helper()
	seen, err := w.Observe(t.Context(), "conformance")
	if err != nil {
		t.Fatal(err)
	}
	return seen.Cohorts[0].Instances
}

var ready = declare.Probe{HTTP: &declare.Endpoint{Port: "http", Path: "/ready"}, Timeout: declare.Span{Duration: 50 * time.Millisecond}}

// TestLife follows one instance of each kind of artifact over the network alone, as the engine does.
func TestLife(t *testing.T) {
	s := probe.New()
	defer s.Close()
	for _, test := range []struct {
		artifact string
		after    time.Duration
		probe    string
		restarts int
	}{
		{"web:1", 5 * time.Second, "GET /ready: status 503", 0}, {"web:1", 12 * time.Second, "", 0}, {"unready:1", time.Minute, "GET /ready: status 503", 0},
		{"hang:1", 4 * time.Second, "", 0}, {"hang:1", 6 * time.Second, "GET /ready: no answer within 50ms", 0},
		{"crash:1", 10 * time.Second, "", 0}, {"crash:1", 21 * time.Second, "GET /ready: EOF", 0}, {"crash:1", 25 * time.Second, "", 1}, {"crash:1", 100 * time.Second, "", 4},
	} {
		w := open(t, "")
		w.serve(t, "r.example/"+test.artifact, 1)
		w.at = w.at.Add(test.after)
		in := w.instances(t)[0]
		if got := s.Ask(t.Context(), in.Address, in.Ports, ready); got != test.probe || len(in.Restarts) != test.restarts {
			t.Errorf("%s after %s: %q and %d restarts, want %q and %d", test.artifact, test.after, got, len(in.Restarts), test.probe, test.restarts)
		}
	}
}

// TestTraffic sees that the numbers on the metrics pages are those of the model: so many requests a second, so many of
// them slow, and twice the same with the same seed.
func TestTraffic(t *testing.T) {
	s := scrape.New()
	defer s.Close()
	slow := signal.Source{Kind: signal.ShareAbove, Of: signal.Series{Metric: "http_request_duration_seconds"}, Bound: 0.25}
	measure := func(artifact string) (share, requests float64) {
		w := open(t, "")
		w.serve(t, artifact, 4)
		var before, after signal.Tally
		var tracker signal.Tracker
		for i, span := range []time.Duration{time.Minute, 2 * time.Minute} {
			w.at = w.at.Add(span)
			for _, in := range w.instances(t) {
				page, err := s.Fetch(t.Context(), in.Address, in.Ports, declare.Metrics{Endpoint: declare.Endpoint{Port: "http", Path: "/metrics"}}, nil, time.Time{})
				if err != nil {
					t.Fatal(err)
				}
				tally, _, _ := tracker.Take(slow, in.ID, page, w.at)
				if i == 0 {
					before = before.Add(tally)
				} else {
					after = after.Add(tally)
				}
			}
		}
		share, _ = slow.Value(after)
		return share, after.Whole / 120
	}
	share, requests := measure("r.example/web:1")
	if math.Abs(share-0.03) > 0.005 || math.Abs(requests-200) > 20 {
		t.Errorf("%.3f of %.1f requests a second are slow, want 0.03 of about 200", share, requests)
	}
	if again, same := measure("r.example/web:1"); again != share || same != requests {
		t.Errorf("the same seed gave %v of %v first and %v of %v then", share, requests, again, same)
	}
	if share, _ := measure("r.example/web:2"); share < 0.15 {
		t.Errorf("with the fault only %.3f are slow", share)
	}
}

func TestGarbage(t *testing.T) {
	w, s := open(t, ""), scrape.New()
	defer s.Close()
	w.serve(t, "r.example/garbage:1", 1)
	in := w.instances(t)[0]
	if _, err := s.Fetch(t.Context(), in.Address, in.Ports, declare.Metrics{Endpoint: declare.Endpoint{Port: "http", Path: "/metrics"}}, nil, time.Time{}); !errors.Is(err, scrape.ErrNoMetrics) {
		t.Errorf("got %v", err)
	}
}

// TestRestart sees that the site outlives the program: the same instances with the same age and traffic.
func TestRestart(t *testing.T) {
	folder := t.TempDir()
	w := open(t, folder)
	w.serve(t, "r.example/web:1", 3)
	if err := w.ChangeByHand(Hand{"conformance", "web", "instances", "5"}); err != nil {
		t.Fatal(err)
	}
	before := w.instances(t)
	w.Close()
	w = open(t, folder)
	after := w.instances(t)
	if len(after) != 5 || len(before) != 5 {
		t.Fatalf("%d instances became %d", len(before), len(after))
	}
	for i := range after {
		if after[i].ID != before[i].ID || !after[i].Started.Equal(before[i].Started) {
			t.Errorf("%s since %s became %s since %s", before[i].ID, before[i].Started, after[i].ID, after[i].Started)
		}
	}
}

func TestUnreachable(t *testing.T) {
	w := open(t, "")
	w.SetReachable(false)
	if _, err := w.Observe(t.Context(), "conformance"); !errors.Is(err, target.ErrUnreachable) {
		t.Errorf("got %v", err)
	}
	w.SetReachable(true)
	if _, err := w.Observe(t.Context(), "conformance"); err != nil {
		t.Error(err)
	}
	if err := w.ChangeByHand(Hand{"nothing", "web", "instances", "1"}); err == nil {
		t.Error("what is not there was changed by hand")
	}
}

// TestHands leaves changes in a file, as the shell does while another program has the site.
func TestHands(t *testing.T) {
	folder := t.TempDir()
	w := open(t, folder)
	w.serve(t, "r.example/web:1", 2)
	for _, h := range []Hand{{"conformance", "web", "instances", "3"}, {"conformance", "web", "environment.LEVEL", "trace"}, {"conformance", "extra", "values.a", "b"}, {"nothing", "web", "instances", "1"}} {
		if err := LeaveHand(folder, "north", h); err != nil {
			t.Fatal(err)
		}
	}
	seen, err := w.Observe(t.Context(), "conformance")
	if err != nil {
		t.Fatal(err)
	}
	web, _ := seen.Cohorts[0].Live["web"].(map[string]any)
	if len(seen.Cohorts[0].Instances) != 3 || fmt.Sprint(web["environment"]) != "map[LEVEL:trace]" || seen.Cohorts[0].Live["extra"] == nil {
		t.Errorf("live is %v", seen.Cohorts[0].Live)
	}
	for i, in := range seen.Cohorts[0].Instances {
		if in.Environment["LEVEL"] != "" {
			t.Errorf("instance %d has a variable that it was not started with", i)
		}
	}
	if err := w.ChangeByHand(Hand{"conformance", "web", "gone", ""}); err != nil || len(w.instances(t)) != 0 {
		t.Errorf("gone: %v", err)
	}
	for field, value := range map[string]string{"instances": "many", "size": "1", "artifact": "", "environment.": "x"} {
		if err := LeaveHand(folder, "north", Hand{"conformance", "web", field, value}); err == nil {
			t.Errorf("%s=%s was left", field, value)
		}
	}
}

// TestTask runs tasks to their end: one that does well and one that fails.
func TestTask(t *testing.T) {
	behaviour, err := ReadBehaviour("test.yaml", []byte("artifacts: {r.example/ok:1: {takes: 4s}, r.example/bad:1: {takes: 4s, fails: no room left}}\nunlisted: {starts-in: 1s}"))
	if err != nil {
		t.Fatal(err)
	}
	w := &world{at: time.Date(2026, 3, 12, 9, 0, 0, 0, time.UTC)}
	if w.Site, err = Open("north", "", behaviour, func() time.Time { return w.at }); err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	parts := map[string]declare.Part{}
	for _, name := range []string{"ok", "bad"} {
		parts[name] = declare.Part{Kind: declare.Task, Artifact: "r.example/" + name + ":1"}
	}
	if err := w.Apply(t.Context(), "conformance", []target.Want{target.Prepare(revision, declare.Desired{Parts: parts})}); err != nil {
		t.Fatal(err)
	}
	for name := range parts {
		if err := w.Apply(t.Context(), "conformance", []target.Want{target.Run(revision, name)}); err != nil {
			t.Fatal(err)
		}
	}
	for _, in := range w.instances(t) {
		if in.Done || in.Failed != "" {
			t.Errorf("at its end already: %+v", in)
		}
	}
	w.at = w.at.Add(5 * time.Second)
	for _, in := range w.instances(t) {
		lines, err := w.Log(t.Context(), "conformance", in.ID, time.Time{}, 10)
		if in.Done != (in.Part == "ok") || (in.Failed == "no room left") != (in.Part == "bad") || err != nil || len(lines) != 2 || len(in.Events) != 2 {
			t.Errorf("%+v, log %v (%v)", in, lines, err)
		}
	}
}

// TestLog sees that the same moment always has the same line, and that only the lines asked for come.
func TestLog(t *testing.T) {
	w := open(t, "")
	w.serve(t, "r.example/web:1", 1)
	w.at = w.at.Add(time.Minute)
	id := w.instances(t)[0].ID
	all, err := w.Log(t.Context(), "conformance", id, time.Time{}, 1000)
	if err != nil || len(all) < 20 || !strings.Contains(all[0].Text, "starting web:1") {
		t.Fatalf("%d lines (%v)", len(all), err)
	}
	last, _ := w.Log(t.Context(), "conformance", id, time.Time{}, 5)
	since, _ := w.Log(t.Context(), "conformance", id, w.at.Add(-10*time.Second), 1000)
	if fmt.Sprint(last) != fmt.Sprint(all[len(all)-5:]) || len(since) < 4 || len(since) > 6 {
		t.Errorf("the last are %v, since then %v", last, since)
	}
}

func TestReadBehaviour(t *testing.T) {
	for text, want := range map[string]string{
		"artifacts: {a: {faults: [{kind: explode}]}}": `unknown kind "explode"`, "artifacts: {a: {faults: [{kind: crash}]}}": "needs after", "artfacts: {}": "artfacts", "[": "test.yaml",
	} {
		if _, err := ReadBehaviour("test.yaml", []byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
	if _, err := ReadBehaviour("empty", nil); err != nil {
		t.Errorf("an empty file: %v", err)
	}
}
