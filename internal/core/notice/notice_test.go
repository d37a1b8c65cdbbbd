package notice

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/calendar"
	"aditus/internal/core/declare"
)

var noon = time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)

func TestTells(t *testing.T) {
	line := &declare.Line{Sites: map[string]declare.LineSite{"south": {Team: "isles"}}}
	north := Item{Workload: "fares", Site: "north", Kind: "rolled back"}
	south := Item{Workload: "tides", Site: "south", Kind: Needs}
	whole := Item{Kind: "asked"}
	for name, test := range map[string]struct {
		notice declare.Notice
		want   string // of north, south, the line, and south as seen to
	}{
		"what needs a person": {declare.Notice{}, ".*.*"},
		"all":                 {declare.Notice{About: []string{"*"}}, "****"},
		"a pattern":           {declare.Notice{About: []string{"roll*"}}, "*..."},
		"only what is over":   {declare.Notice{About: []string{SeenTo}}, "...*"},
		"of a site":           {declare.Notice{About: []string{"*"}, Selector: declare.Selector{Sites: []string{"n*"}}}, "*..."},
		"of a team's sites":   {declare.Notice{About: []string{"*"}, Selector: declare.Selector{Teams: []string{"isles"}}}, ".*.*"},
		"of a workload":       {declare.Notice{About: []string{"*"}, Selector: declare.Selector{Workloads: []string{"fares"}}}, "*..."},
	} {
		r, err := New(test.notice, line, noon)
		if err != nil {
			t.Fatal(err)
		}
		over, got := south, ""
		over.Kind = SeenTo
		for _, i := range []Item{north, south, whole, over} {
			if r.Tells(i) {
				got += "*"
			} else {
				got += "."
			}
		}
		if got != test.want {
			t.Errorf("%s: %s, want %s", name, got, test.want)
		}
	}
	for _, bad := range []declare.Notice{{About: []string{"["}}, {Digest: "often"}, {Digest: "0 8 * * *", Zone: "Nowhere/At all"}, {Quiet: &calendar.Times{Rule: "FREQ=NEVER"}}} {
		if _, err := New(bad, nil, noon); err == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
}

func TestDue(t *testing.T) {
	night := &calendar.Times{Starts: "2026-01-01T22:00", Rule: "FREQ=DAILY", Lasts: "8h"}
	for name, test := range map[string]struct {
		notice declare.Notice
		came   string
		want   string
		digest bool
	}{
		"at once":                        {declare.Notice{}, "12:00", "26 12:00", false},
		"by day":                         {declare.Notice{Quiet: night}, "12:00", "26 12:00", false},
		"at night":                       {declare.Notice{Quiet: night}, "23:30", "27 06:00", true},
		"early":                          {declare.Notice{Quiet: night}, "05:59", "26 06:00", true},
		"a digest":                       {declare.Notice{Digest: "0 16 * * *"}, "12:00", "26 16:00", true},
		"a digest, after today's":        {declare.Notice{Digest: "0 16 * * *"}, "16:00", "27 16:00", true},
		"a digest that falls into quiet": {declare.Notice{Digest: "0 23 * * *", Quiet: night}, "12:00", "27 06:00", true},
		"in a zone":                      {declare.Notice{Digest: "0 16 * * *", Zone: "America/New_York"}, "12:00", "26 21:00", true},
		"quiet in a zone":                {declare.Notice{Quiet: night, Zone: "America/New_York"}, "04:00", "26 11:00", true},
	} {
		r, err := New(test.notice, nil, noon)
		if err != nil {
			t.Fatal(err)
		}
		came, _ := time.Parse("15:04", test.came)
		at, digest := r.Due(time.Date(2026, 11, 26, came.Hour(), came.Minute(), 0, 0, time.UTC))
		if got := at.UTC().Format("2 15:04"); got != test.want || digest != test.digest {
			t.Errorf("%s: %s, digest %v, want %s", name, got, digest, test.want)
		}
	}
}

func TestGroup(t *testing.T) {
	item := func(seq int64, workload, site, kind, revision string) Item {
		return Item{Seq: seq, At: noon, Workload: workload, Site: site, Kind: kind, Revision: declare.Fingerprint(revision), Text: fmt.Sprint("it ", kind)}
	}
	messages := Group([]Item{
		item(1, "fares", "north", "rolled back", "a"), item(2, "tides", "north", "proven", "b"), item(3, "fares", "south", "barred", "a"), item(4, "", "", "asked", ""), item(5, "fares", "north", Needs, ""),
		item(6, "fares", "isle", "rolled back", "a"), item(7, "fares", "drydock", "rolled back", "a"), item(8, "fares", "south", Needs, ""),
	})
	var got []string
	for _, m := range messages {
		got = append(got, fmt.Sprintf("%s|%s|%d", m.ID, m.Subject, len(m.Lines)))
	}
	want := []string{"1-7|fares at 4 sites: rolled back, barred|4", "2|tides at north: proven|1", "4|asked|1", "5-8|fares at north and south: needs you|2"}
	if !slices.Equal(got, want) {
		t.Errorf("messages are %q, want %q", got, want)
	}
	if line := messages[0].Lines[1]; line != "12:00:00 UTC  fares at south: it barred" {
		t.Errorf("a line is %q", line)
	}
	var tally Tally
	for n := range 1000 {
		tally.Add(item(int64(n+1), "fares", "north", []string{"proven", "told"}[n%2], "a"))
	}
	m := tally.Message()
	if m.Subject != "Thu 26 Nov 12:00 UTC to Thu 26 Nov 12:00 UTC: 500 proven and 500 told" || len(m.Lines) != mostLines+1 || m.Lines[mostLines] != "and 960 more" || m.ID != "1-1000" {
		t.Errorf("a digest is %q with %d lines, %s", m.Subject, len(m.Lines), m.ID)
	}
	if many := Of(slices.Repeat([]Item{item(1, "fares", "north", "told", "a")}, 100)); len(many.Lines) != mostLines+1 || !strings.Contains(many.Lines[mostLines], "60 more") {
		t.Errorf("a long message has %d lines", len(many.Lines))
	}
}

// TestTracker has needs come, flicker, last and go: each is told once, and once when it is over.
func TestTracker(t *testing.T) {
	const whole = "a lasts, b flickers, c goes and comes back within the time, d is not told as the ledger fails"
	present := map[string]func(s int) bool{
		"a": func(s int) bool { return s >= 10 && s < 60 }, "b": func(s int) bool { return s%8 == 0 },
		"c": func(s int) bool { return s < 20 || s >= 40 && s < 50 }, "d": func(s int) bool { return s >= 5 },
	}
	var tracker Tracker
	var told []string
	for s := range 120 {
		var needs []Need
		for _, id := range []string{"a", "b", "c", "d"} {
			if present[id](s) {
				needs = append(needs, Need{ID: id, Text: fmt.Sprint(id, " for ", s)})
			}
		}
		began, ended := tracker.Step(noon.Add(time.Duration(s)*time.Second), needs)
		began = slices.DeleteFunc(began, func(o Open) bool { return o.ID == "d" && s < 30 })
		for _, o := range began {
			told = append(told, fmt.Sprintf("%d %s", s, o.ID))
		}
		for _, o := range ended {
			told = append(told, fmt.Sprintf("%d no %s", s, o.ID))
		}
		tracker.Told(began, ended)
	}
	if got, want := strings.Join(told, ", "), "5 c, 15 a, 30 d, 79 no c, 89 no a"; got != want {
		t.Errorf("%s: told %s, want %s", whole, got, want)
	}
	if len(tracker.Needs) != 1 {
		t.Errorf("left are %v", tracker.Needs)
	}
}

func TestWait(t *testing.T) {
	sum := time.Duration(0)
	for tries := 1; tries < 100; tries++ {
		wait := Wait(tries)
		if wait > longestWait || tries > 1 && wait < Wait(tries-1) {
			t.Errorf("after %d tries %s", tries, wait)
		}
		sum += wait
	}
	if Wait(1) != firstWait || sum < 10*time.Hour {
		t.Errorf("a hundred tries take %s, the first waits %s", sum, Wait(1))
	}
}
