package tui

import (
	"fmt"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/tui/anatomy"
	"aditus/internal/tui/comparison"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/links"
	"aditus/internal/tui/screen"
	"aditus/internal/tui/spread"
	"aditus/internal/view"
)

func drawn(view func(*kit.Page), w, h int) string {
	p := kit.NewPage(w, h, kit.None)
	view(p)
	return ansi.Strip(p.Render())
}

// TestComparisonTexts shows long texts line by line, and keeps what comes from outside from the terminal.
func TestComparisonTexts(t *testing.T) {
	c := view.Comparison{Berth: berth.ID{Workload: "web", Site: "north"}, Applied: "1", Declared: "2", SyncStatus: compare.Behind, Fields: []compare.Difference{
		{Pointer: "/parts/texts/values/note", Kind: compare.Pending, Applied: "one\ntwo\nthree\n", Declared: "one\n2\nthree\nfour\n", Live: "one\ntwo\nthree\n"},
		{Pointer: "/parts/texts/values/odd", Kind: compare.Drift, Applied: "a", Declared: "a", Live: "\x1b[31mred\x1b[0m\a"},
		{Pointer: "/guards", Applied: []any{}, Declared: []any{}},
	}}
	m := comparison.New(&screen.Desk{}, c, "")
	text := drawn(m.View, 140, 44)
	for _, want := range []string{"- two", "+ 2", "+ four", "  three", "/parts/texts/values/note", "Git moved on", "changed at the site"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not on the screen:\n%s", want, text)
		}
	}
	if strings.Contains(text, "[31m") || strings.Contains(text, "\a") {
		t.Error("a control sequence from outside is on the screen")
	}
	screen.Press(m, "f")
	screen.Press(m, "end")
	if text := drawn(m.View, 140, 44); !strings.Contains(text, "no site shows it") {
		t.Errorf("a field that no site shows:\n%s", text)
	}
	screen.Press(m, "home")
	screen.Press(m, "m")
	if marked := m.Chosen(); len(marked) != 1 || marked[0] != "texts" {
		t.Errorf("marked is %v", marked)
	}
	screen.Press(m, "m")
	screen.Press(m, "z")
	if rows := strings.Count(drawn(m.View, 140, 44), "values"); rows != 0 || len(m.Chosen()) != 0 {
		t.Errorf("folded, and %d fields are shown; marked %v", rows, m.Chosen())
	}
	screen.Press(m, "z")
	screen.Press(m, "Z")
	if text := drawn(m.View, 140, 44); strings.Contains(text, "cool") || !strings.Contains(text, "▸ rollout and guards") {
		t.Errorf("only one part:\n%s", text)
	}
	screen.Press(m, "Z")
	m.Update(tea.MouseClickMsg{X: 5, Y: 9})
	if m.Patch() != "[]" {
		t.Errorf("the patch is %s", m.Patch())
	}
}

// TestComparisonMany keeps the cursor on screen among 10 000 parts.
func TestComparisonMany(t *testing.T) {
	c := view.Comparison{}
	for i := range 10_000 {
		c.Fields = append(c.Fields, compare.Difference{Pointer: "/parts/p" + strings.Repeat("x", i%40) + string(rune('a'+i%26)) + time.Duration(i).String() + "/instances", Kind: compare.Pending, Applied: 1.0, Declared: 2.0, Live: 1.0})
	}
	m := comparison.New(&screen.Desk{}, c, "")
	screen.Press(m, "end")
	if text := drawn(m.View, 80, 24); !strings.Contains(text, "of 20000") {
		t.Errorf("the end of a long list:\n%s", text)
	}
}

// TestAnatomyLog follows, pauses and searches a log.
func TestAnatomyLog(t *testing.T) {
	a, f := app(t)
	b, _ := f.Story.Snapshot.Find(berth.ID{Workload: "fares", Site: "north"})
	m := anatomy.New(&screen.Desk{}, b, f.Story.Snapshot.Now)
	screen.Press(m, "2")
	id := m.Instance()
	var lines []target.LogLine
	for i := range 100 {
		lines = append(lines, target.LogLine{At: time.Unix(int64(i), 0), Text: "line " + time.Duration(i).String() + map[bool]string{true: " ERROR disk"}[i == 10]})
	}
	m.SetLog(id, lines, nil)
	if text := drawn(m.View, 140, 44); !strings.Contains(text, "line 99ns") || !strings.Contains(text, "followed") {
		t.Errorf("the newest line:\n%s", text)
	}
	screen.Press(m, "[")
	if text := drawn(m.View, 140, 44); strings.Contains(text, "line 99ns") || !strings.Contains(text, "paused") || m.Instance() != "" {
		t.Errorf("scrolled back:\n%s", text)
	}
	screen.Press(m, "f")
	m.SetFilter("error")
	if text := drawn(m.View, 140, 44); !strings.Contains(text, "ERROR disk") || strings.Contains(text, "line 99ns") {
		t.Errorf("only what was looked for:\n%s", text)
	}
	m.SetLog(id, nil, target.ErrNoInstance)
	if text := drawn(m.View, 140, 44); !strings.Contains(text, "There is no such instance.") {
		t.Errorf("a log that is gone:\n%s", text)
	}
	press(a, "3 i 2 / e r r enter")
	if text := frame(a, 158, 47); !strings.Contains(text, "only lines with “err”") {
		t.Errorf("looked for in the log:\n%s", text)
	}
	if empty := drawn(anatomy.New(&screen.Desk{}, status.Berth{}, time.Now()).View, 100, 30); !strings.Contains(empty, "Nothing of it is at the site.") {
		t.Errorf("an empty berth:\n%s", empty)
	}
}

// TestAnatomyBad opens on the instance that is not well, with the reason in sight.
func TestAnatomyBad(t *testing.T) {
	_, f := app(t)
	b, _ := f.Story.Snapshot.Find(berth.ID{Workload: "fares", Site: "north"})
	b.Cohorts[0].Instances[2].Health.Word, b.Cohorts[0].Instances[2].Health.Reason = "failing", "no space left on device"
	text := drawn(anatomy.New(&screen.Desk{}, b, f.Story.Snapshot.Now).View, 158, 47)
	if strings.Count(text, "no space") < 2 || !strings.Contains(text, "No space left on device.") { // the part, the instance, the inspector
		t.Errorf("the reason is not in sight:\n%s", text)
	}
}

// TestLinks tells a link that does not answer, and one that nobody has.
func TestLinks(t *testing.T) {
	_, f := app(t)
	s := f.Story.Snapshot
	s.Links[0].Problem = &status.Problem{Text: "the repository cannot be reached: check the network", Since: s.Now}
	s.Links[0].Warnings = []string{"a.yaml:1:1: warning: mind the gap"}
	text := drawn(links.New(&screen.Desk{}, s).View, 158, 47)
	for _, want := range []string{"no answer", "The repository cannot be reached: check the network.", "mind the gap", "only for south"} {
		if want == "only for south" {
			m := links.New(&screen.Desk{}, s)
			screen.Press(m, "end")
			text = drawn(m.View, 158, 47)
		}
		if !strings.Contains(text, want) {
			t.Errorf("%q is not on the screen:\n%s", want, text)
		}
	}
	if text := drawn(links.New(&screen.Desk{}, status.Snapshot{}).View, 100, 30); !strings.Contains(text, "aditus link add") {
		t.Errorf("without a link:\n%s", text)
	}
	for every, want := range map[time.Duration][2]time.Duration{time.Minute: {30 * time.Second, 5 * time.Minute}, time.Second: {time.Second, 5 * time.Second}, 2 * time.Hour: {time.Hour, 2 * time.Hour}, 7 * time.Second: {5 * time.Second, 10 * time.Second}} {
		if f, s := links.Faster(every), links.Slower(every); f != want[0] || s != want[1] {
			t.Errorf("%s: faster %s, slower %s, want %v", every, f, s, want)
		}
	}
}

// TestMouse clicks on every new screen, and turns the wheel.
func TestMouse(t *testing.T) {
	for _, keys := range []string{"4 c f", "3 i", "K", "L"} {
		a, _ := app(t)
		press(a, keys)
		before := frame(a, 158, 47)
		update(a, tea.MouseWheelMsg{Button: tea.MouseWheelDown})
		down := frame(a, 158, 47)
		update(a, tea.MouseClickMsg{X: 10, Y: 12, Button: tea.MouseLeft})
		if after := frame(a, 158, 47); len(after) == 0 || before == "" || strings.Count(down, "\n") != strings.Count(before, "\n") {
			t.Errorf("%s: the screen is gone", keys)
		}
	}
}

// TestAnatomyNames tells instances apart at every width.
func TestAnatomyNames(t *testing.T) {
	_, f := app(t)
	b, _ := f.Story.Snapshot.Find(berth.ID{Workload: "fares", Site: "north"})
	for i := range b.Cohorts[0].Instances {
		b.Cohorts[0].Instances[i].ID = strings.Replace(b.Cohorts[0].Instances[i].ID, "fares-", "fares-with-a-name-as-long-as-names-may-be-", 1)
	}
	for _, w := range []int{158, 140, 120, 100, 80} {
		text := drawn(anatomy.New(&screen.Desk{}, b, f.Story.Snapshot.Now).View, w, 40)
		for _, end := range []string{"-1 ", "-2 ", "-3 ", "-4 "} {
			if !strings.Contains(text, end) {
				t.Errorf("at %d columns no instance ends in %q:\n%s", w, end, text)
			}
		}
	}
}

// TestKeys sees that on no screen a key means two things, and that whatever stands in the bar is bound.
func TestKeys(t *testing.T) {
	for _, opens := range []string{"2", "2 enter", "4 c", "K", "3 i", "3 i 2", "2 b", "2 b up", "L"} {
		a, _ := app(t)
		press(a, opens)
		bound := map[string]string{}
		for _, k := range a.shown().Keys() {
			if len(k.Keys()) == 0 || k.Do == nil {
				t.Errorf("after %q: %q is bound to nothing", opens, k.Help().Desc)
			}
			for _, name := range k.Keys() {
				if other, twice := bound[name]; twice {
					t.Errorf("after %q: %q is bound to %q and to %q", opens, name, other, k.Help().Desc+k.Means)
				}
				bound[name] = k.Help().Desc + k.Means
			}
		}
		if len(bound) < 8 {
			t.Errorf("after %q only %d keys are bound", opens, len(bound))
		}
	}
}

// TestSpreadMany shows one workload over hundreds of sites, with a cursor that stays on its site while others come and go.
func TestSpreadMany(t *testing.T) {
	now := time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)
	s := status.Snapshot{Now: now}
	for i := range 214 {
		version, day := "4.12.2", 20+i%6
		if i%70 == 0 {
			version, day = "4.13.0", 26
		}
		s.Berths = append(s.Berths, status.Berth{
			ID: berth.ID{Workload: "boarding", Site: fmt.Sprintf("quay-%03d", i)}, Applied: &berth.Revision{Version: version}, AppliedAt: time.Date(2026, 11, day, 7, 0, 0, 0, time.UTC),
			Declared: &berth.Revision{Version: "4.13.0"}, SyncStatus: compare.Behind, Waits: "waits until north has proven it\x1b[31m", BehindBy: 1,
		})
	}
	opened, _ := spread.Open(&screen.Desk{Say: func(string, bool) {}}, s, berth.ID{Workload: "boarding", Site: "quay-150"})
	m := opened.(*spread.Model)
	screen.Press(m, "enter")
	text := drawn(m.View, 158, 47)
	for _, want := range []string{"over 214 sites, Git declares 4.13.0", "4.12.2            210", "20 Nov to 25 Nov", "210 ", "4.12.2 at 210 sites", "of 210", "quay-150"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not on the screen:\n%s", want, text)
		}
	}
	if strings.Contains(text, "[31m") {
		t.Error("a control sequence from outside is on the screen")
	}
	s.Berths = append(s.Berths[:20], s.Berths[60:]...)
	m.Update(s)
	if at := m.Berth(); at.Site != "quay-150" {
		t.Errorf("the cursor went to %s", at)
	}
	s.Berths = nil
	m.Update(s)
	if text := drawn(m.View, 80, 24); !strings.Contains(text, "No site has it") || m.Berth().Workload != "" {
		t.Errorf("all are gone:\n%s", text)
	}
	if none, _ := spread.Open(&screen.Desk{Say: func(string, bool) {}}, s, berth.ID{}); none != nil {
		t.Error("the spread of nothing was opened")
	}
}

// TestAbsent tells berths of which nothing is at their sites yet apart from those that are steady, quietly, and gives many workloads the room that
// there is.
func TestAbsent(t *testing.T) {
	a, f := app(t)
	s := status.Snapshot{Line: "Skerry Line", Now: f.Story.Snapshot.Now, Sites: []string{"north", "south"}}
	for i := range 60 {
		for _, site := range s.Sites {
			s.Berths = append(s.Berths, status.Berth{ID: berth.ID{Workload: fmt.Sprintf("boarding-gates-%02d", i), Site: site}, SyncStatus: compare.Absent})
		}
	}
	f.Story.Snapshot = s
	run(a, a.snap())
	text := frame(a, 158, 47)
	if !strings.Contains(text, "0 steady   120 absent") || strings.Count(text, "◌") < 44 || strings.Contains(text, "none  absent") || !strings.Contains(text, "of 60") {
		t.Errorf("what is absent:\n%s", text)
	}
	if narrow := frame(a, 80, 24); !strings.Contains(narrow, "boarding-gates-03") && !strings.Contains(narrow, "es-03") {
		t.Errorf("names that begin alike:\n%s", narrow)
	}
}

// TestHelpWhole goes through the help to its end, on a terminal that has not room for all of it at once.
func TestHelpWhole(t *testing.T) {
	a, _ := app(t)
	a.Update(tea.WindowSizeMsg{Width: 80, Height: 24})
	press(a, "?")
	all := ""
	for range 10 {
		text := frame(a, 80, 24)
		if all += text; !strings.Contains(text, "↓ more") {
			break
		}
		press(a, "down")
	}
	for _, want := range []string{"KEYS OF THIS SCREEN", "another theme", "tear down", "vouch", "WORDS", "barred", "orphan", "any key goes back"} {
		if !strings.Contains(all, want) {
			t.Errorf("%q is not in the help:\n%s", want, all)
		}
	}
	press(a, "x")
	if text := frame(a, 80, 24); strings.Contains(text, "KEYS OF") {
		t.Errorf("it is still there:\n%s", text)
	}
}
