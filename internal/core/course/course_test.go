package course

import (
	"fmt"
	"maps"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/calendar"
	"aditus/internal/core/declare"
)

func at(t testing.TB, text string) time.Time {
	t.Helper()
	moment, err := time.Parse(time.RFC3339, text)
	if err != nil {
		t.Fatal(err)
	}
	return moment
}

func hours(n int) declare.Span { return declare.Span{Duration: time.Duration(n) * time.Hour} }

// skerry is a line with something of everything.
var skerry = declare.Line{
	Roles: map[string][]string{"a release lead": {"Edda Marsh", "Joren Falk"}, "islanders": {"Ilse Varga"}, "harbour": {"Maren Oake"}},
	Sites: map[string]declare.LineSite{"isles": {Team: "islanders"}},
	Courses: []declare.Course{
		{Name: "line", On: true, Override: []string{"harbour"}, Steps: []declare.Step{
			{Sites: []string{"drydock"}},
			{Sites: []string{"slipway"}, After: []string{"drydock"}, For: hours(12), SignOff: &declare.SignOff{By: []string{"a release lead"}, Count: 2, Others: true}},
			{Sites: []string{"north", "south"}, After: []string{"slipway"}, AtOnce: 1, Back: declare.BackStops},
			{Sites: []string{"isles"}, After: []string{"north", "south"}, Any: true, Consent: &declare.Consent{LastDay: hours(120), Notice: hours(24)}},
		}},
		{Name: "quick", On: true, Workloads: []string{"tide*"}, Steps: []declare.Step{{Sites: []string{"drydock"}}, {Sites: []string{"north"}, Off: true}, {Sites: []string{"south", "slipway"}, Back: declare.BackAll}}},
		{Name: "outer", On: true, Workloads: []string{"buoys"}, Steps: []declare.Step{{Sites: []string{"drydock", "slipway"}}, {Sites: []string{"isles"}, After: []string{"drydock", "slipway"}, Any: true, For: hours(5)}, {Sites: []string{"south"}, After: []string{"drydock", "slipway"}, For: hours(5)}}},
		{Name: "off", Workloads: []string{"lantern"}, Steps: []declare.Step{{Sites: []string{"drydock"}}}},
	},
	Trains: map[string][]string{"harbour": {"boarding", "gates"}},
	Windows: []declare.Window{
		{Name: "weekdays", Selector: declare.Selector{Sites: []string{"north"}}, Times: calendar.Times{Starts: "2026-01-05T09:00", Rule: "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR", Lasts: "2h30m"}, Caught: declare.CaughtHolds, Override: []string{"a release lead"}},
	},
	Freezes: []declare.Window{{Name: "harbour festival", Times: calendar.Times{From: "2026-12-01T06:00", Until: "2026-12-03T20:00"}, Caught: declare.CaughtFinishes}},
}

// TestJudge asks for what may be in the way of a revision, one after the other.
func TestJudge(t *testing.T) {
	r, err := New(skerry, at(t, "2026-11-26T10:00:00Z"))
	if err != nil {
		t.Fatal(err)
	}
	now := at(t, "2026-11-26T10:00:00Z") // a Thursday
	proven := func(ago time.Duration) Berth { return Berth{Declared: true, Proven: now.Add(-ago)} }
	there := Berth{Declared: true}
	signed := func(names ...string) (b Berth) {
		b.Declared = true
		for _, name := range names {
			b.Signs = append(b.Signs, Sign{By: name, At: now})
		}
		return b
	}
	for _, test := range []struct {
		name string
		q    Query
		kind Kind
		want string // of why
	}{
		{"the first step", Query{Site: "drydock"}, Free, ""},
		{"not proven before", Query{Site: "slipway", Elsewhere: map[string]Berth{"drydock": there}}, Before, "waits until drydock has proven it"},
		{"proven too lately", Query{Site: "slipway", Elsewhere: map[string]Berth{"drydock": proven(11 * time.Hour)}}, Soak, "for 12 h, in 1 h"},
		{"nobody signed", Query{Site: "slipway", Elsewhere: map[string]Berth{"drydock": proven(13 * time.Hour)}}, Signing, "waits for 2 sign-offs by a release lead"},
		{"the author does not count", Query{Site: "slipway", Author: "Joren Falk", Here: signed("Joren Falk", "Edda Marsh", "Siv Brekke"), Elsewhere: map[string]Berth{"drydock": proven(13 * time.Hour)}}, Signing, "beside Edda Marsh; Joren Falk made the change"},
		{"one signs twice", Query{Site: "slipway", Here: signed("Edda Marsh", "Edda Marsh"), Elsewhere: map[string]Berth{"drydock": proven(13 * time.Hour)}}, Signing, "waits for a sign-off by"},
		{"both signed", Query{Site: "slipway", Here: signed("Edda Marsh", "Joren Falk"), Elsewhere: map[string]Berth{"drydock": proven(13 * time.Hour)}}, Free, ""},
		{"by hand, still signed off", Query{Site: "slipway", By: "Maren Oake", Elsewhere: map[string]Berth{"drydock": there}}, Signing, "waits for 2 sign-offs"},
		{"by hand, with a reason", Query{Site: "slipway", By: "Maren Oake", Override: "the old one leaks", Elsewhere: map[string]Berth{"drydock": there}}, Free, ""},
		{"a reason of somebody's", Query{Site: "slipway", By: "Siv Brekke", Override: "I want it", Elsewhere: map[string]Berth{"drydock": there}}, Signing, "waits for 2"},
		{"in its window", Query{Site: "north", Takes: time.Hour, Elsewhere: map[string]Berth{"slipway": proven(0), "south": there}}, Free, ""},
		{"its window ends before", Query{Site: "north", Takes: 2 * time.Hour, Elsewhere: map[string]Berth{"slipway": proven(0)}}, Window, "it takes 2 h at least, and the window weekdays ends Thu 26 Nov 11:30 UTC; it may begin Fri 27 Nov 09:00 UTC"},
		{"no window is so long", Query{Site: "north", Takes: 3 * time.Hour, Elsewhere: map[string]Berth{"slipway": proven(0)}}, Window, "none of the next openings is as long as that takes"},
		{"a release lead passes over the window", Query{Site: "north", Takes: 3 * time.Hour, By: "Edda Marsh", Override: "a leak", Elsewhere: map[string]Berth{"slipway": proven(0)}}, Free, ""},
		{"another site has its turn", Query{Site: "north", Elsewhere: map[string]Berth{"slipway": proven(0), "south": {Declared: true, Rolling: true}}}, Others, "waits until south has it: one site"},
		{"it was rolled back beside", Query{Site: "north", Elsewhere: map[string]Berth{"slipway": proven(0), "south": {Declared: true, Turned: "slow 9 %"}}}, Stopped, "rolled back at south, a site of the same step: slow 9 %"},
		{"passed over where it is not declared", Query{Site: "south", Elsewhere: map[string]Berth{"drydock": there}}, Before, "waits until drydock has proven it"},
		{"none of several", Query{Site: "isles", Elsewhere: map[string]Berth{"north": there, "south": there}}, Before, "waits until one of north and south has proven it"},
		{"any of several for long enough", Query{Workload: "buoys", Site: "isles", Elsewhere: map[string]Berth{"drydock": proven(6 * time.Hour), "slipway": proven(time.Hour)}}, Free, ""},
		{"all of several, one too lately", Query{Workload: "buoys", Site: "south", Elsewhere: map[string]Berth{"drydock": proven(6 * time.Hour), "slipway": proven(time.Hour)}}, Soak, "for 5 h, in 4 h"},
		{"offered", Query{Site: "isles", Elsewhere: map[string]Berth{"north": there, "south": proven(0)}}, Consent, "is offered to islanders"},
		{"no answer", Query{Site: "isles", Offer: &Offer{Since: now.Add(-time.Hour)}, Elsewhere: map[string]Berth{"south": proven(0)}}, Consent, "is offered to islanders, and taken on Tue 1 Dec 09:00 UTC at the latest"},
		{"taken", Query{Site: "isles", Offer: &Offer{Since: now, Answer: Takes, By: "Ilse Varga"}, Elsewhere: map[string]Berth{"south": proven(0)}}, Free, ""},
		{"put off", Query{Site: "isles", Offer: &Offer{Since: now, Answer: PutsOff, By: "Ilse Varga", Why: "after the regatta", Until: now.Add(time.Hour)}, Elsewhere: map[string]Berth{"south": proven(0)}}, Consent, "put off until Thu 26 Nov 11:00 UTC by Ilse Varga: after the regatta"},
		{"put off until now", Query{Site: "isles", Offer: &Offer{Since: now, Answer: PutsOff, By: "Ilse Varga", Until: now}, Elsewhere: map[string]Berth{"south": proven(0)}}, Consent, "is offered to islanders"},
		{"the last day, not announced", Query{Site: "isles", Offer: &Offer{Since: now.Add(-121 * time.Hour)}, Elsewhere: map[string]Berth{"south": proven(0)}}, Consent, "offered to"},
		{"the last day, announced", Query{Site: "isles", Offer: &Offer{Since: now.Add(-121 * time.Hour), Announce: now.Add(-25 * time.Hour)}, Elsewhere: map[string]Berth{"south": proven(0)}}, Free, ""},
		{"the team syncs", Query{Site: "isles", By: "Ilse Varga"}, Free, ""},
		{"somebody else syncs", Query{Site: "isles", By: "Siv Brekke"}, Consent, "is offered to islanders"},
		{"before the freeze ends it", Query{Site: "drydock", Now: at(t, "2026-12-01T05:30:00Z"), Takes: time.Hour}, Window, "it takes 1 h at least, and harbour festival begins Tue 1 Dec 06:00 UTC; it may begin Thu 3 Dec 20:00 UTC"},
		{"in the freeze", Query{Site: "drydock", Now: at(t, "2026-12-02T05:30:00Z")}, Window, "harbour festival: nothing moves until Thu 3 Dec 20:00 UTC"},
		{"nobody passes over the freeze", Query{Site: "drydock", Now: at(t, "2026-12-02T05:30:00Z"), By: "Maren Oake", Override: "now"}, Window, "harbour festival"},
		{"by the freeze's end", Query{Site: "drydock", Now: at(t, "2026-12-03T20:00:00Z")}, Free, ""},
		{"its step is off", Query{Workload: "tides", Site: "north"}, Hand, "north is off in the course quick"},
		{"its course is off", Query{Workload: "lantern", Site: "drydock"}, Hand, "the course off is off"},
		{"a site of no step", Query{Workload: "lantern", Site: "north"}, Hand, "no step of the course off has north"},
		{"by hand there", Query{Workload: "lantern", Site: "drydock", By: "Siv Brekke"}, Free, ""},
		{"the train waits", Query{Site: "drydock", Train: []Rider{{Workload: "gates", Pending: true, Waits: "is changed by hand there"}}}, Train, "waits for gates, which rides in the train harbour with it: that is changed by hand there"},
		{"one of the train was rolled back", Query{Site: "drydock", Train: []Rider{{Workload: "gates", Turned: "errors 4 %"}}}, Stopped, "gates, which rides in the train harbour with it, was rolled back: errors 4 %"},
		{"another branch waits for no course", Query{Site: "slipway", Follows: true, Elsewhere: map[string]Berth{"drydock": there}}, Free, ""},
		{"another branch waits for windows", Query{Site: "north", Follows: true, Takes: 2 * time.Hour}, Window, "the window weekdays ends"},
		{"the train has nothing to wait for", Query{Site: "drydock", Train: []Rider{{Workload: "gates", Waits: "is aligned"}}}, Free, ""},
	} {
		q := test.q
		if q.Now.IsZero() {
			q.Now = now
		}
		if q.Workload == "" {
			q.Workload = "boarding"
		}
		if got := r.Judge(q); got.Kind != test.kind || !strings.Contains(got.Why, test.want) || got.May() != (got.Why == "") {
			t.Errorf("%s: %q %q, want %q %q", test.name, got.Kind, got.Why, test.kind, test.want)
		}
	}
	if got := r.Judge(Query{Now: now, Workload: "boarding", Site: "north", Takes: 3 * time.Hour, By: "Edda Marsh", Override: "a leak"}); got.Over == "" {
		t.Error("what was passed over is not told")
	}
	if why := r.Holds(at(t, "2026-11-26T11:30:00Z"), "boarding", "north"); !strings.Contains(why, "weekdays") {
		t.Errorf("caught by the end of its window: %q", why)
	}
	if why := r.Holds(at(t, "2026-12-02T09:30:00Z"), "boarding", "north"); why != "" {
		t.Errorf("caught by a freeze that lets it finish: %q", why)
	}
	if why := r.GoesBack(Query{Workload: "tides", Site: "south", Here: Berth{Has: true}, Elsewhere: map[string]Berth{"slipway": {Declared: true, Turned: "errors 4 %"}}}); !strings.Contains(why, "rolled back at slipway") {
		t.Errorf("all go back: %q", why)
	}
	if why := r.GoesBack(Query{Workload: "boarding", Site: "south", Here: Berth{Has: true}, Train: []Rider{{Workload: "gates", Turned: "errors 4 %"}}}); !strings.Contains(why, "the train harbour goes back together") {
		t.Errorf("the train goes back: %q", why)
	}
}

// TestPlan foresees a course.
func TestPlan(t *testing.T) {
	r, err := New(skerry, at(t, "2026-11-26T10:00:00Z"))
	if err != nil {
		t.Fatal(err)
	}
	now := at(t, "2026-11-26T10:00:00Z")
	var got []string
	for _, leg := range r.Plan("boarding", now, func(site string) (Query, bool) {
		return Query{Now: now, Workload: "boarding", Site: site, Takes: time.Hour, Elsewhere: map[string]Berth{"drydock": {Declared: true}, "slipway": {Declared: true}, "north": {Declared: true}, "south": {Declared: true}}}, true
	}) {
		got = append(got, fmt.Sprintf("%s %s %d", leg.Site, leg.Begins.Format("02 15:04"), len(leg.Asks)))
	}
	if want := "drydock 26 10:00 0, slipway 26 23:00 1, north 27 09:00 0, south 27 10:00 0, isles 27 10:00 1"; strings.Join(got, ", ") != want {
		t.Errorf("got  %s\nwant %s", strings.Join(got, ", "), want)
	}
}

// BenchmarkJudge asks for a site of a course with windows: one that may take it, one that waits for its window, and one whose rollout no
// window is long enough for.
func BenchmarkJudge(b *testing.B) {
	r, err := New(skerry, at(b, "2026-11-26T10:00:00Z"))
	if err != nil {
		b.Fatal(err)
	}
	for name, takes := range map[string]time.Duration{"may": time.Hour, "waits": 2 * time.Hour, "never": 3 * time.Hour} {
		q := Query{Now: at(b, "2026-11-26T10:00:00Z"), Workload: "boarding", Site: "north", Takes: takes, Elsewhere: map[string]Berth{"slipway": {Declared: true, Proven: at(b, "2026-11-25T10:00:00Z")}}}
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				if r.Judge(q).May() != (name == "may") {
					b.Fatal("it is judged otherwise")
				}
			}
		})
	}
}

// TestCalendar tells windows, freezes and schedules of two weeks, and what a plan puts into them.
func TestCalendar(t *testing.T) {
	line, two := skerry, 2
	line.Sites = map[string]declare.LineSite{"isles": {Team: "islanders"}}
	line.Schedules = []declare.Schedule{
		{Name: "night", Do: declare.ActScale, To: &two, Selector: declare.Selector{Sites: []string{"n*"}, Workloads: []string{"boarding"}}, Cron: "0 22 * * 5"},
		{Name: "look", Do: declare.ActLook, At: "2026-11-30T06:00:00Z"},
		{Name: "often", Do: declare.ActRestart, Selector: declare.Selector{Teams: []string{"islanders"}}, Cron: "* * * * *"},
	}
	r, err := New(line, at(t, "2026-11-26T10:00:00Z"))
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]int{}
	for _, e := range r.Calendar([]string{"drydock", "north", "isles"}, at(t, "2026-11-26T00:00:00Z"), at(t, "2026-12-10T00:00:00Z")) {
		if seen[string(e.Sort)+" "+e.Site+": "+e.Text]++; e.From.IsZero() || e.Sort != SortSchedule && !e.Until.After(e.From) {
			t.Errorf("%+v", e)
		}
	}
	want := map[string]int{
		"freeze : harbour festival: nothing moves": 1, "window north: weekdays: something may begin": 10, "schedule north: night: scale all services to 2, for boarding": 2,
		"schedule : look: look": 1, "schedule isles: often: restart": mostTicks,
	}
	if !maps.Equal(seen, want) {
		t.Errorf("in two weeks there are %v, want %v", seen, want)
	}
	now := at(t, "2026-11-26T10:00:00Z")
	for _, c := range []struct {
		leg  Leg
		want string
	}{
		{Leg{Proven: now}, ""},
		{Leg{Rolling: true, Ends: now}, "move: fares 2 is under way"},
		{Leg{Begins: now.Add(time.Hour), Waits: "waits until north has proven it", Asks: []string{"is offered to islanders"}}, "move: fares 2 comes Thu 26 Nov 11:00 UTC at the earliest: waits until north has proven it; then is offered to islanders"},
		{Leg{Begins: now, Waits: "waits for a sign-off by leads", Asks: []string{"waits for a sign-off by leads"}}, "wait: fares 2 waits for a sign-off by leads"},
		{Leg{Begins: now, Waits: "is offered", Asks: []string{"is offered"}, LastDay: now.Add(time.Hour)}, "offer: fares 2 is offered"},
		{Leg{Never: true, Waits: "was rolled back: slow"}, "blocked: fares 2: was rolled back: slow"},
		{Leg{Never: true}, ""},
	} {
		got := ""
		for _, e := range c.leg.Entries("fares", "2", now) {
			got += string(e.Sort) + ": " + e.Text
		}
		if got != c.want {
			t.Errorf("%+v: %q, want %q", c.leg, got, c.want)
		}
	}
	turned := r.Plan("buoys", now, func(site string) (Query, bool) {
		q := Query{Now: now, Workload: "buoys", Site: site, Here: Berth{Declared: true}, Elsewhere: map[string]Berth{"drydock": {Declared: true}}}
		if site == "drydock" {
			q.Here.Turned = "slow"
		}
		return q, site == "drydock" || site == "south"
	})
	for _, leg := range turned {
		if !leg.Never {
			t.Errorf("after it was rolled back it comes to %s: %+v", leg.Site, leg)
		}
	}
}
