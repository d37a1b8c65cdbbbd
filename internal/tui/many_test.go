package tui

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"aditus/internal/status"
)

// TestMarks marks berths, and acts on all of them after one question.
func TestMarks(t *testing.T) {
	for keys, test := range map[string]struct {
		orders string // berths, sorted; empty for none
		says   string
	}{
		"* f w a y enter":                 {"", "Lock at 36 berths, “way”?"},
		"* f w a y esc":                   {"", "Nothing was changed."},
		"4 m f r enter enter":             {"lock tides/isles", "Done: lock at 1 berth."},
		"4 m left m f r enter":            {"", "tides at south and isles"},
		"4 = f r enter enter":             {"lock tides/drydock lock tides/isles lock tides/north lock tides/slipway lock tides/south", "Done: lock at 5 berths."},
		"4 = = f r enter":                 {"lock tides/isles", "Done: lock at tides · isles."}, // nothing is marked any more: it is the one under the cursor
		"4 = esc f r enter":               {"lock tides/isles", "Done: lock at tides · isles."},
		"4 = m f r enter enter":           {"lock tides/drydock lock tides/north lock tides/slipway lock tides/south", "Done: lock at 4 berths."},
		"4 | f r enter":                   {"", "Lock at 7 berths, “r”?"},
		"3 m 2 m u enter":                 {"lift the bar boarding/north", "Done: lift the bar at 1 berth."},
		"4 m y":                           {"", "tides at isles: This undoes: gauge instances 3 → 5."},
		"3 m 2 m u":                       {"", "Not at 1:"},
		"/ t i d e s enter * | f r enter": {"", "Lock at 4 berths"},
	} {
		a, f := app(t)
		press(a, keys)
		var all []string
		for _, o := range f.orders {
			if all = append(all, string(o.Verb)+" "+o.Berth.String()); o.By != "Maren Oake" {
				t.Errorf("%s: in the name of %q", keys, o.By)
			}
		}
		slices.Sort(all)
		if text := frame(a, 158, 47); strings.Join(all, " ") != test.orders || !strings.Contains(text, test.says) {
			t.Errorf("%s: ordered %q, want %q; it should say %q:\n%s", keys, all, test.orders, test.says, text)
		}
	}
	a, f := app(t)
	f.refuse = errors.New("the site is frozen")
	press(a, "4 = f r enter enter")
	if text := frame(a, 158, 47); !strings.Contains(text, "Done: lock at 0 of 5 berths. Not at tides · drydock: the site is frozen; tides · slipway: the site is frozen; and at 3 more") || strings.Contains(text, "unmark") {
		t.Errorf("all were refused, and it says\n%s", text)
	}
	a, f = app(t)
	press(a, "4 m")
	f.Story.Snapshot.Berths = slices.DeleteFunc(slices.Clone(f.Story.Snapshot.Berths), func(b status.Berth) bool { return b.Site == "isles" && b.Workload == "tides" })
	a.snap()
	if text := frame(a, 158, 47); strings.Contains(text, "unmark") {
		t.Errorf("what was marked is gone, and it says\n%s", text)
	}
}
