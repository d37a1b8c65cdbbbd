package words_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/health"
	"aditus/internal/core/rollout"
	"aditus/internal/status"
	"aditus/internal/view/storytest"
	"aditus/internal/words"
)

// TestWords holds all that is said about the story's moment against a golden file: needs, every berth's cell and
// sentences, what can be done, and why the rest cannot.
func TestWords(t *testing.T) {
	story := storytest.Load(t)
	var out strings.Builder
	c := words.Count(story.Snapshot)
	fmt.Fprintf(&out, "%d need you, %d moving, %d steady\n\n", c.Need, c.Moving, c.Steady)
	for _, n := range words.Needs(story.Snapshot) {
		fmt.Fprintf(&out, "%s: %s %v\n", n.About, n.Text, n.Keys)
	}
	for _, b := range story.Snapshot.Berths {
		cell := words.CellOf(b)
		headline, _ := words.Headline(b, story.Snapshot.Now)
		if cell.Note == "" && cell.Coming == "" && b.Workload != "accounts" {
			continue
		}
		fmt.Fprintf(&out, "\n%s  [%s|%s|%s|%d/%d]  %s\n", b.ID, cell.Version, cell.Coming, cell.Note, cell.Stage, cell.Stages, headline)
		for _, line := range words.Describe(b, story.Snapshot.Now) {
			fmt.Fprintf(&out, "  %-9s %s\n", line.Label, line.Text)
		}
		for _, a := range words.Actions(b) {
			if a.Not == nil {
				fmt.Fprintf(&out, "  %s %s: %s\n", a.Key, a.Verb, a.Asks)
			}
		}
	}
	storytest.Golden(t, "words.txt", out.String())
}

// TestNeeds changes one steady berth in each way that needs a person.
func TestNeeds(t *testing.T) {
	now := time.Date(2026, 3, 12, 9, 0, 0, 0, time.UTC)
	ago := now.Add(-3 * time.Minute)
	limit := 0.05
	roll := func(phase rollout.Phase, change func(*status.Rollout)) *status.Rollout {
		s := rollout.Begin(rollout.Side{Revision: "a", Version: "1"}, rollout.Side{Revision: "b", Version: "2"}, story(t).Rules, "aditus", "", time.Time{}, ago)
		s.Phase, s.Since, s.Why = phase, ago, "held by Maren Oake"
		r := &status.Rollout{State: s}
		if change != nil {
			change(r)
		}
		return r
	}
	tests := []struct {
		name string
		b    status.Berth
		want string // empty for nothing
		key  words.Verb
	}{
		{"steady", status.Berth{SyncStatus: compare.Aligned, Health: health.Summary{Word: health.Healthy}}, "", ""},
		{"behind", status.Berth{SyncStatus: compare.Behind, Waits: "waits"}, "", ""},
		{"soaking", status.Berth{Rollout: roll(rollout.Soaking, nil)}, "", ""},
		{"trouble", status.Berth{Problem: &status.Problem{Text: "the metrics cannot be read", Since: ago}}, "The metrics cannot be read. Since 3 min.", words.WatchIt},
		{"held", status.Berth{Rollout: roll(rollout.Held, nil)}, "Held by Maren Oake, 3 min ago.", words.GoOn},
		{"the way back takes long", status.Berth{Rollout: roll(rollout.RollingBack, func(r *status.Rollout) { r.Calls = "the way back takes long" })}, "The way back takes long", words.WatchIt},
		{"a standing guard that cannot go back", status.Berth{Calls: "slow 9.0 %; nothing is rolled back: it is locked by Sanna Brekk: regatta"}, "nothing is rolled back: it is locked", words.SeeWhy},
		{"abandoned", status.Berth{Left: &berth.Left{Version: "2", Share: 0.25, Why: "left as it is by Maren Oake", At: ago}}, "2 was left halfway, with 25 % of the traffic", words.Sync},
		{"a silent guard", status.Berth{Rollout: roll(rollout.Soaking, nil), Verdicts: []guard.Verdict{{Guard: "slow", Word: guard.Silent, Missing: guard.MissingHolds, Since: ago, Limit: guard.Limit{Kind: guard.AtMost, Value: limit}}}}, "Nothing advances: slow is silent. Since 3 min.", words.WatchIt},
		{"one odd instance", status.Berth{Rollout: roll(rollout.Soaking, nil), Verdicts: []guard.Verdict{{Guard: "slow", Word: guard.Undecided, Why: "web-2 alone gives 3 times as many bad answers as the rest of new"}}}, "Nothing advances: slow is undecided, as web-2 alone gives 3 times as many bad answers as the rest of new.", words.WatchIt},
		{"a silent guard that may be", status.Berth{Rollout: roll(rollout.Soaking, nil), Verdicts: []guard.Verdict{{Guard: "slow", Word: guard.Silent, Missing: guard.MissingIgnored}}}, "", ""},
		{"a guard that tells", status.Berth{Rollout: roll(rollout.Soaking, nil), Verdicts: []guard.Verdict{{Guard: "slow", Word: guard.Breach, Then: guard.Tell, Beyond: 3, New: &guard.Estimate{Value: 0.09}, Limit: guard.Limit{Kind: guard.AtMost, Value: limit, Unit: guard.Share}}}}, "Slow 9.0 %, at most 5 % is allowed. The guard only tells; the rollout goes on.", words.WatchIt},
		{"beyond a limit in steady times", status.Berth{Verdicts: []guard.Verdict{{Guard: "slow", Word: guard.Breach, Beyond: 3, New: &guard.Estimate{Value: 0.09}, Limit: guard.Limit{Kind: guard.AtMost, Value: limit, Unit: guard.Share}}}}, "Slow 9.0 %, at most 5 % is allowed. The standing guard only tells", words.SeeWhy},
		{"rolled back by a person", status.Berth{Bar: &berth.Bar{Version: "2", Why: "rolled back by Maren Oake", By: "Maren Oake", At: ago}}, "Rolled back by Maren Oake 3 min ago, barred.", words.SeeWhy},
		{"failing", status.Berth{Health: health.Summary{Word: health.Failing, Failing: 2, Total: 3, Reason: "status 503"}, HealthSince: ago}, "2 of 3 instances failing: status 503. Since 3 min.", words.LookInside},
		{"gone", status.Berth{SyncStatus: compare.Absent, Applied: &berth.Revision{Version: "1"}, DriftSince: ago}, "All of it is gone from the site. Since 3 min.", words.Sync},
		{"drifted", status.Berth{SyncStatus: compare.Drifted, DriftSince: ago, Differences: []compare.Difference{{Pointer: "/parts/a/instances", Kind: compare.Drift, Applied: 3.0, Live: 5.0}}}, "Changed by hand at 08:57: a instances 3 → 5.", words.Sync},
		{"set again and again", status.Berth{SyncStatus: compare.Drifted, DriftSince: ago, Fights: "it was put back 3 times, and somebody sets it again each time", Differences: []compare.Difference{{Pointer: "/parts/a/instances", Kind: compare.Drift, Applied: 3.0, Live: 5.0}}},
			"Changed by hand: a instances 3 → 5; it was put back 3 times, and somebody sets it again each time. It is left now.", words.Compare},
	}
	for _, test := range tests {
		test.b.ID = berth.ID{Workload: "web", Site: "north"}
		needs := words.Needs(status.Snapshot{Now: now, Sites: []string{"north"}, Berths: []status.Berth{test.b}})
		switch {
		case test.want == "" && len(needs) > 0:
			t.Errorf("%s: needs nothing, and yet %q", test.name, needs[0].Text)
		case test.want != "" && (len(needs) != 1 || !strings.Contains(needs[0].Text, test.want) || needs[0].Keys[0] != test.key):
			t.Errorf("%s: %+v, want %q answered by %s", test.name, needs, test.want, test.key)
		}
	}
}

// TestNext sees that what comes next is never told as sure where a guard is in its way.
func TestNext(t *testing.T) {
	now := time.Date(2026, 3, 12, 9, 0, 0, 0, time.UTC)
	silent := guard.Verdict{Guard: "slow", Word: guard.Silent, Missing: guard.MissingHolds, Since: now.Add(-time.Minute)}
	for _, test := range []struct {
		phase    rollout.Phase
		over     bool
		verdicts []guard.Verdict
		next     string
	}{
		{rollout.Soaking, false, []guard.Verdict{silent}, "25 % of the traffic at 09:00:40 if all guards are clear"},
		{rollout.Soaking, true, []guard.Verdict{silent}, "25 % of the traffic as soon as all guards are clear; slow is silent since 08:59:00"},
		{rollout.Soaking, true, nil, "25 % of the traffic at 09:00:00 if all guards are clear"},
		{rollout.Proving, true, []guard.Verdict{silent}, "it goes on as soon as all guards are clear; slow is silent since 08:59:00"},
	} {
		s := rollout.Begin(rollout.Side{Version: "1"}, rollout.Side{Version: "2"}, story(t).Rules, "aditus", "", time.Time{}, now)
		s.Phase = test.phase
		s.Rules.Stages = []declare.Stage{{Share: 0.1, Soak: declare.Span{Duration: 40 * time.Second}}, {Share: 0.25}}
		if test.over {
			s.Soaked, s.Proved = time.Hour, time.Hour
		}
		if got := words.Next(status.Berth{Rollout: &status.Rollout{State: s}, Verdicts: test.verdicts}, now); got != test.next {
			t.Errorf("%s, over %v: %q, want %q", test.phase, test.over, got, test.next)
		}
	}
}

// TestVerdictWords sees what a verdict is called, short and long.
func TestVerdictWords(t *testing.T) {
	since := time.Date(2026, 3, 12, 8, 59, 0, 0, time.UTC)
	for _, test := range []struct {
		v                 guard.Verdict
		word, words, more string
	}{
		{guard.Verdict{Word: guard.Clear}, "clear", "clear", ""},
		{guard.Verdict{Word: guard.Undecided, Wait: time.Minute}, "undecided", "undecided, likely within 1 min", "likely decided within 1 min"},
		{guard.Verdict{Word: guard.Undecided, Wait: guard.Longest}, "undecided", "undecided, too close to tell", "too close to tell"},
		{guard.Verdict{Word: guard.Undecided, Warming: true, Wait: 40 * time.Second}, "warming up", "warming up", "not judged in the first 40 s"},
		{guard.Verdict{Word: guard.Undecided, Wait: time.Minute, Why: "web-2 alone is bad"}, "undecided", "undecided: web-2 alone is bad", "web-2 alone is bad"},
		{guard.Verdict{Word: guard.Silent, Since: since, Why: "web-1: no answer"}, "silent", "silent since 08:59:00", "web-1: no answer"},
		{guard.Verdict{Word: guard.Silent, Since: since, Why: "web-1: no answer", Bound: new(float64)}, "silent", "silent since 08:59:00", "web-1: no answer; limit now 0"},
	} {
		if word, all, more := words.VerdictWord(test.v), words.VerdictWords(test.v), words.VerdictMore(test.v); word != test.word || all != test.words || more != test.more {
			t.Errorf("%+v: %q, %q, %q", test.v, word, all, more)
		}
	}
}

func story(t *testing.T) rollout.State { return storytest.Load(t).Watches["fares/slipway"].Rollout }

// TestSilentSite sees that a site that is gone is one need, not one for each workload.
func TestSilentSite(t *testing.T) {
	now := time.Date(2026, 3, 12, 9, 0, 0, 0, time.UTC)
	s := status.Snapshot{Now: now, Sites: []string{"north"}}
	for i := range 8 {
		s.Berths = append(s.Berths, status.Berth{ID: berth.ID{Workload: fmt.Sprint("w", i), Site: "north"}, SyncStatus: compare.Unread, Problem: &status.Problem{Text: "north: the site cannot be reached", Since: now.Add(-time.Minute)}})
	}
	s.Problems = []status.Problem{{About: "ledger", Text: "the disk is full", Since: now}}
	s.Links = []status.Link{{Name: "repo", Rewritten: true, Problem: &status.Problem{Text: "the branch was rewritten", Since: now}}}
	needs := words.Needs(s)
	if len(needs) != 3 || needs[0].About != "ledger" || needs[1].Keys[0] != words.AcceptHistory || !strings.Contains(needs[2].Text, "8 workloads there cannot be seen") {
		t.Errorf("%+v", needs)
	}
}

// TestRelated sees that what is the same at many sites, or of many workloads, is told once, and nothing else is put together.
func TestRelated(t *testing.T) {
	now := time.Date(2026, 3, 12, 9, 0, 0, 0, time.UTC)
	s := status.Snapshot{Now: now, Sites: []string{"slipway", "north", "south", "isles", "drydock"}}
	add := func(workload, site, why string) {
		s.Berths = append(s.Berths, status.Berth{ID: berth.ID{Workload: workload, Site: site}, Applied: &berth.Revision{}, Looked: now, Problem: &status.Problem{Text: why, Since: now.Add(-time.Hour)}})
	}
	for i, site := range s.Sites {
		add("fares", site, fmt.Sprintf("no word from the registry for %d s at %s", i+3, site))
	}
	add("piers", "north", "the disk is full")
	add("tides", "north", "the disk is full")
	add("tides", "south", "the disk is not full")
	needs := words.Related(words.Needs(s))
	var told []string
	for _, n := range needs {
		told = append(told, fmt.Sprintf("%s %d: %s", n.About, len(n.Berths), n.Text))
	}
	want := []string{

		"fares · 5 sites 5: No word from the registry for 7 s at drydock. Since 1 h. The same for drydock, isles, north and 2 more.",
		"north · 2 workloads 2: The disk is full. Since 1 h. The same for piers and tides.",
		"tides · south 1: The disk is not full. Since 1 h.",
	}
	slices.Sort(told)
	if !slices.Equal(told, want) {
		t.Errorf("told is\n%s\nwant\n%s", strings.Join(told, "\n"), strings.Join(want, "\n"))
	}
	for _, site := range []string{"east", "west"} { // each is one line already, and stays one
		for _, workload := range []string{"fares", "piers"} {
			s.Berths = append(s.Berths, status.Berth{ID: berth.ID{Workload: workload, Site: site}, SyncStatus: compare.Unread, Problem: &status.Problem{Text: "the site does not answer", Since: now}})
		}
	}
	silent := 0
	for _, n := range words.Related(words.Needs(s)) {
		if n.About == "east" || n.About == "west" {
			silent += len(n.Berths)
		}
	}
	if silent != 4 {
		t.Errorf("of four berths at silent sites %d are told", silent)
	}
	s.Berths = s.Berths[:len(s.Berths)-4]
	if c := words.Count(s); c.Need != 8 || c.Steady != 0 {
		t.Errorf("counted are %+v", c)
	}
}

// TestLeaving sees what goes and what stays with each kind of part, with and without what volumes hold.
func TestLeaving(t *testing.T) {
	part := func(name string, kind declare.Kind, live map[string]any) status.Part {
		return status.Part{Name: name, Kind: kind, Live: live}
	}
	b := status.Berth{ID: berth.ID{Workload: "deck", Site: "north"}, Applied: &berth.Revision{Version: "1"}, Declared: &berth.Revision{Version: "2"}, Looked: time.Now(), Cohorts: []status.Cohort{{
		Version: "1", Parts: []status.Part{
			part("engine", declare.Service, nil), part("entry", declare.Route, map[string]any{"host": "deck.skerry.example"}), part("sum", declare.Task, nil), part("hold", declare.Volume, nil),
			part("keys", declare.Secret, nil), part("port", declare.Route, map[string]any{"tcp": 7000.0}), part("all", declare.Objects, nil),
		},
		Instances: []status.Instance{{ID: "a", Part: "engine"}, {ID: "b", Part: "engine"}}, Objects: []status.Object{{Part: "all", ID: "ConfigMap/tides"}},
	}}}
	other := status.Berth{ID: berth.ID{Workload: "gate", Site: "north"}, Applied: &berth.Revision{}, Needs: []string{"deck"}}
	far := other
	far.Site = "south"
	s := status.Snapshot{Berths: []status.Berth{b, other, far}}
	goes := []string{
		"engine: 2 instances, and what they wrote", "entry: nothing answers at deck.skerry.example any more", "sum: the task, with what came of it", "keys: secret", "port: nothing answers at port 7000 any more", "all: ConfigMap/tides",
	}
	stays := []string{"gate: declared to need deck; what runs of it goes on, and nothing newer of it comes meanwhile", "what Git declares, 2, which comes again when a person or a schedule syncs", "what is on record of it"}
	if l := words.LeavingOf(s, b, false); !slices.Equal(l.Goes, goes) || !slices.Equal(l.Stays, append([]string{"hold: the volume, with all that it holds, unless volumes are to go too"}, stays...)) || l.Not != "" {
		t.Errorf("without volumes %+v", l)
	}
	if l := words.LeavingOf(s, b, true); !slices.Equal(l.Goes, append(goes, "hold: the volume, with all that it holds; that does not come back")) || !slices.Equal(l.Stays, stays) {
		t.Errorf("with volumes %+v", l)
	}
	b.Cohorts[0].Parts[2].Needs = []string{"engine"}
	if l := words.LeavingOf(s, b, false, "engine"); !slices.Equal(l.Goes, goes[:1]) || !slices.Equal(l.Stays, []string{"sum: it needs engine, and runs on as it does", "the rest of deck, as it is", "what Git declares of it, 2, which comes again with the next sync"}) {
		t.Errorf("one part alone: %+v", l)
	}
	if made := words.OwnMade(b); made != "engine" {
		t.Errorf("of its own making is %q", made)
	}
	taken := b
	taken.Cohorts = []status.Cohort{{Version: "1", Parts: []status.Part{part("all", declare.Objects, nil)}, Objects: []status.Object{{Part: "all", ID: "ConfigMap/tides", Stays: true}, {Part: "all", ID: "Deployment/gate"}}}}
	if l := words.LeavingOf(s, taken, false); !slices.Equal(l.Goes, []string{"all: Deployment/gate"}) || !strings.HasPrefix(l.Stays[0], "all: ConfigMap/tides, which was there before") {
		t.Errorf("what was there before: %+v", l)
	}
	if l := words.LettingGoOf(taken); words.OwnMade(taken) != "" || !slices.Equal(l.Stays[:2], []string{"ConfigMap/tides, as it is", "Deployment/gate, as it is"}) || len(l.Goes) != 1 {
		t.Errorf("let go: %+v", l)
	}
	ran := b
	ran.Cohorts = []status.Cohort{{Parts: []status.Part{part("gate", declare.Service, nil)}, Instances: []status.Instance{{ID: "a", Part: "gate", Found: true}}}}
	if l := words.LettingGoOf(ran); words.OwnMade(ran) != "" || l.Stays[0] != "gate, which ran before: its process, as it is" {
		t.Errorf("a process that ran before: %q, %+v", words.OwnMade(ran), l)
	}
	ran.Cohorts[0].Instances = append(ran.Cohorts[0].Instances, status.Instance{ID: "b", Part: "gate"})
	if words.OwnMade(ran) != "gate" {
		t.Error("one that was started here runs on by itself")
	}
	b.Lock = &berth.Lock{By: "Maren Oake", Message: "a regatta"}
	if l := words.LeavingOf(s, b, false); len(l.Lines()) != 1 || !strings.Contains(l.Not, "locked by Maren Oake") {
		t.Errorf("locked: %+v", l)
	}
	for text, want := range map[string]string{"deck": "false  <nil>", "deck with volumes it goes": "true it goes <nil>", "deck within a day": "false within a day <nil>", "dec why": "false why that is not deck", "": "false  that is not deck"} {
		if o, err := words.ReadLeaving(text, "deck"); fmt.Sprint(o.Volumes, " ", o.Note, " ", err) != want {
			t.Errorf("%q is read as %v %q %v", text, o.Volumes, o.Note, err)
		}
	}
}
