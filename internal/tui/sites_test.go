package tui

import (
	"errors"
	"slices"
	"strings"
	"testing"
)

// TestSites asks sites, goes to the berths of one, and has one take revisions otherwise.
func TestSites(t *testing.T) {
	for keys, test := range map[string]struct{ changed, says string }{
		"M":                   {"", "this machine, traffic on 8080"},
		"M v":                 {"", "The sites are asked."},
		"M end":               {"", "no route to host. Since"},
		"M end enter":         {"", "only “site:isles”"},
		"M a":                 {"", "Have drydock take revisions by itself?"},
		"M end a":             {"", "That stands in line.yaml of the link skerry-line, for isles: change it there."},
		"M end d enter":       {"", "only “site:isles”"}, // nothing is asked, and enter goes to its berths
		"M a esc":             {"", "Nothing was changed."},
		"M a enter":           {"sites drydock map[automatic:true target:map[kind:local listen:127.0.0.1:8080]]", "at the site drydock"},
		"M d enter":           {"sites drydock map[automatic:true drift:map[then:correct] target:map[kind:local listen:127.0.0.1:8080]]", "It is written in the settings"},
		"M down a":            {"", "Have slipway take revisions by hand?"},
		"M I":                 {"", "sites"},
		"M f":                 {"", "A branch of skerry-line that drydock follows, and until when"},
		"M f t r i a l enter": {"", "it takes a branch, and a day or a moment"},
		"M f t r i a l space 2 0 3 0 - 0 1 - 0 2 enter":       {"", "Have drydock follow the branch trial of skerry-line until Wed 2 Jan"},
		"M f t r i a l space 2 0 3 0 - 0 1 - 0 2 enter enter": {"follow drydock map[branch:trial link:skerry-line until:2030-01-02T00:00:00Z]", "It is written in the settings."},
		"M down a enter": {"", "The site slipway does not stand in the settings"},
	} {
		a, f := app(t)
		press(a, keys)
		if text := frame(a, 158, 47); strings.Join(f.settings.changes, " ") != test.changed || !strings.Contains(text, test.says) {
			t.Errorf("%s: changed %q, want %q; it should say %q:\n%s", keys, f.settings.changes, test.changed, test.says, text)
		}
	}
	a, f := app(t)
	f.settings.refuse = errors.New("policy: automatic of sites stands in line.yaml of the link line now")
	press(a, "M a enter")
	if text := frame(a, 158, 47); !strings.Contains(text, "stands in line.yaml of the link line") {
		t.Errorf("where it is to be written is not told:\n%s", text)
	}
	a, _ = app(t)
	a.desk.Settings = nil
	press(a, "M a")
	if text := frame(a, 158, 47); !strings.Contains(text, "Settings are changed at the server") || slices.ContainsFunc(strings.Split(text, "\n"), func(line string) bool { return strings.Contains(line, "a by itself") }) {
		t.Errorf("where settings are changed is not told:\n%s", text)
	}
}
