package view_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/health"
	"aditus/internal/ledger"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/view"
	"aditus/internal/view/storytest"
)

// compared is a berth with a revision applied, another declared, and a site as the test says.
func compared(applied, declared *declare.Desired, live compare.Live) status.Berth {
	b := status.Berth{ID: berth.ID{Workload: "web", Site: "north"}, Live: live, Looked: time.Unix(1, 0)}
	revision := func(d *declare.Desired) *berth.Revision {
		if d == nil {
			return nil
		}
		return &berth.Revision{Workload: "web", Version: d.Version(), Fingerprint: d.Fingerprint(), Desired: d}
	}
	b.Applied, b.Declared = revision(applied), revision(declared)
	b.SyncStatus = compare.SyncStatusOf(compare.Three(applied, declared, live), live != nil)
	return b
}

func web(version string, instances int, change func(*declare.Desired)) *declare.Desired {
	d := &declare.Desired{Format: 1, Workload: "web", Parts: map[string]declare.Part{
		"app": {Kind: declare.Service, Artifact: "r.example/web:" + version, Instances: instances}, "texts": {Kind: declare.Settings, Values: map[string]string{"a": "b"}},
	}}
	if change != nil {
		change(d)
	}
	return d
}

// TestComparison wants the right sentence for each way in which a berth can stand.
func TestComparison(t *testing.T) {
	one, two := web("1", 3, nil), web("2", 3, nil)
	guards := web("1", 3, func(d *declare.Desired) { d.About = "more words" })
	for _, test := range []struct {
		name              string
		applied, declared *declare.Desired
		live              compare.Live
		does, undoes      string
	}{
		{"aligned", one, one, compare.LiveOf(one), "Nothing: applied, declared and live agree", ""},
		{"Git moved on", one, two, compare.LiveOf(one), "It rolls out in its stages: change app artifact from web:1 to web:2", ""},
		{"drift", one, one, compare.LiveOf(web("1", 5, nil)), "It puts back what was changed by hand, at once and without a rollout", "app instances was set to 5 by hand and becomes 3"},
		{"both", one, two, compare.LiveOf(web("1", 5, nil)), "It rolls out in its stages: change app in 2 fields", "app instances was set to 5 by hand and becomes 3"},
		{"only words", one, guards, compare.LiveOf(one), "It only marks: nothing that runs changes", ""},
		{"live is so already", one, two, compare.LiveOf(two), "It only marks: nothing that runs changes", ""},
		{"nothing there", nil, one, nil, "First add texts|Then, once that is healthy, add app", ""},
		{"not declared", one, nil, compare.LiveOf(one), "Nothing is declared here, so a sync does nothing; nothing is removed either", ""},
		{"a part goes from Git", one, web("1", 3, func(d *declare.Desired) { delete(d.Parts, "texts") }), compare.LiveOf(one), "It rolls out in its stages: texts becomes an orphan: it stays live", ""},
		{"an orphan", one, one, func() compare.Live { l := compare.LiveOf(one); l["old"] = map[string]any{"kind": "service"}; return l }(), "old is live and not declared: it stays unless you remove it", ""},
		{"removed by hand", one, one, func() compare.Live { l := compare.LiveOf(one); delete(l, "texts"); return l }(), "It puts back what was changed by hand, at once and without a rollout", "texts was removed by hand and comes back"},
	} {
		c, err := view.NewComparison(nil, compared(test.applied, test.declared, test.live), nil)
		if err != nil {
			t.Fatal(err)
		}
		if does, undoes := strings.Join(c.Does, "|"), strings.Join(c.Undoes, "|"); does != test.does || undoes != test.undoes {
			t.Errorf("%s: does %q and undoes %q, want %q and %q", test.name, does, undoes, test.does, test.undoes)
		}
		if c.Differs() != (test.name != "aligned") {
			t.Errorf("%s: differs is %v", test.name, c.Differs())
		}
	}
	preview, err := view.NewComparison(nil, compared(one, one, compare.LiveOf(one)), &berth.Revision{Workload: "web", Version: "2", Fingerprint: two.Fingerprint(), Desired: two})
	if err != nil || !preview.Preview || preview.SyncStatus != compare.Behind || len(preview.Patch) != 1 {
		t.Errorf("a preview: %+v (%v)", preview, err)
	}
	between := view.CompareTwo(berth.ID{}, "1", "2", one, two)
	if len(between.Fields) != 1 || !between.Two || between.Patch[0].Path != "/parts/app/artifact" {
		t.Errorf("two revisions: %+v", between)
	}
}

func TestFindRevision(t *testing.T) {
	revisions := []berth.Revision{{Workload: "web", Fingerprint: "aaaa111", Version: "1"}, {Workload: "web", Fingerprint: "aaaa222", Version: "2"}, {Workload: "web", Fingerprint: "bbbb111", Version: "2"}, {Workload: "tides", Fingerprint: "cccc", Version: "3"}}
	book, err := ledger.Open(t.TempDir(), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer book.Close()
	for _, r := range revisions {
		r.Desired = &declare.Desired{Workload: r.Workload}
		if err := book.Record(t.Context(), ledger.Entry{Revision: &r}); err != nil {
			t.Fatal(err)
		}
	}
	for wanted, want := range map[string]string{"bbbb": "bbbb111", "1": "aaaa111", "aaaa": `"aaaa" could be`, "2": `"2" could be`, "3": `web has no revision "3"`, "b": `web has no revision "b"`} {
		r, err := view.FindRevision(book, "web", wanted)
		if got := fmt.Sprint(err); err == nil && string(r.Fingerprint) != want || err != nil && !strings.Contains(got, want) {
			t.Errorf("%s: %+v (%v), want %s", wanted, r, err, want)
		}
	}
}

// TestAnatomy tells parts of every kind, and what is wrong with an instance.
func TestAnatomy(t *testing.T) {
	now := time.Unix(1000, 0)
	in := func(part, id string, word health.Word, reason string) status.Instance {
		return status.Instance{ID: id, Part: part, Health: health.Instance{Word: word, Reason: reason, Started: now.Add(-time.Minute)}}
	}
	done := in("setup", "setup-1", health.Stopped, "ran to its end")
	done.Done = true
	b := status.Berth{Cohorts: []status.Cohort{{Revision: "1234567890", Version: "1", Share: 1, Parts: []status.Part{
		{Name: "app", Kind: declare.Service, Wanted: 2}, {Name: "data", Kind: declare.Volume, Live: map[string]any{"size": float64(3 << 29)}},
		{Name: "entry", Kind: declare.Route, Live: map[string]any{"host": "web.example", "service": "app", "to": map[string]any{"path": "/", "port": "http"}}},
		{Name: "idle", Kind: declare.Service}, {Name: "old", Kind: declare.Service, Wanted: 0, Orphan: true}, {Name: "setup", Kind: declare.Task}, {Name: "texts", Kind: declare.Settings, Live: map[string]any{"values": map[string]any{"a": "b"}}},
	}, Instances: []status.Instance{in("app", "app-1", health.Healthy, ""), in("app", "app-2", health.Failing, "status 503"), done}}}}
	var got []string
	for _, r := range view.Anatomy(b, nil, now) {
		got = append(got, strings.TrimSpace(fmt.Sprintf("%d %s %s: %s %s", r.Depth, r.Name, r.Kind, r.Words, r.Why)))
	}
	want := []string{
		"0 1 1234567 applied: 100 % of the traffic, 1 of 2 healthy, 1 failing", "1 app service: 1 of 2 healthy, 1 failing status 503", "2 app-1 : healthy for 1 min", "2 app-2 : failing for 1 min status 503",
		"1 data volume: 1.5 GiB", "1 entry route: web.example to app:http", "1 idle service: stopped on purpose", "1 old service: stopped on purpose, not declared: an orphan",
		"1 setup task: ran to its end", "2 setup-1 : ran to its end ran to its end", "1 texts settings: 1 value",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	var env []string
	for _, v := range view.Environment(&status.Instance{Environment: map[string]string{"A": "1", "B": "2", "X": "9"}}, &status.Part{Environment: map[string]string{"A": "1", "B": "3", "C": "4"}}) {
		env = append(env, strings.TrimSpace(v.Name+" "+v.Note))
	}
	if text := strings.Join(env, "; "); text != "A; B the instance was started with another value; C declared, and the instance does not have it; X the instance has it, and it is not declared" {
		t.Errorf("the environment is %s", text)
	}
}

// TestStoryComparisons holds the demo's comparisons against golden words.
func TestStoryComparisons(t *testing.T) {
	story := storytest.Load(t)
	var out strings.Builder
	for _, id := range []string{"accounts/north", "boarding/isles", "boarding/north", "fares/south", "lookout/south", "piers/slipway", "tides/isles"} {
		c, ok := story.Comparisons[id]
		if !ok {
			t.Fatalf("%s is not in the story", id)
		}
		fmt.Fprintf(&out, "%s: %s\n", id, c.SyncStatus)
		for _, text := range append(c.Does, c.Undoes...) {
			fmt.Fprintf(&out, "  %s\n", text)
		}
		for _, d := range c.Fields {
			if d.Kind != compare.Same {
				fmt.Fprintf(&out, "  %-8s %s\n", d.Kind, d.Pointer)
			}
		}
	}
	storytest.Golden(t, "comparisons.txt", out.String())
	var _ []target.LogLine = story.Lines
}
