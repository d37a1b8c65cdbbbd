package view_test

import (
	"slices"
	"strings"
	"testing"

	"aditus/internal/view"
	"aditus/internal/view/storytest"
)

// TestFind finds berths of the story by words and fields.
func TestFind(t *testing.T) {
	s := storytest.Load(t).Snapshot
	found := func(text string) string {
		f := view.ReadFind(text)
		var all []string
		for i := range s.Berths {
			b := &s.Berths[i]
			if f.Site(b.Site, s.Teams[b.Site]) && f.Berth(b, b.Workload == "crewing") {
				all = append(all, b.Workload+"/"+b.Site)
			}
		}
		return strings.Join(all, " ")
	}
	for text, want := range map[string]func(workload, site string) bool{
		"":                                  func(string, string) bool { return true },
		"site:":                             func(string, string) bool { return true },
		"site:nor,SOU":                      func(_, site string) bool { return site == "north" || site == "south" },
		"team:islanders":                    func(_, site string) bool { return s.Teams[site] == "islanders" },
		"workload:fare site:isles":          func(workload, site string) bool { return workload == "fares" && site == "isles" },
		"only:needs site:north":             func(workload, site string) bool { return workload == "crewing" && site == "north" },
		"piers site:isles":                  func(workload, site string) bool { return workload == "piers" && site == "isles" },
		"site:nowhere":                      func(string, string) bool { return false },
		"piers boarding":                    func(string, string) bool { return false },
		"other:field":                       func(string, string) bool { return false },
		"only:absent,needs workload:nobody": func(string, string) bool { return false },
	} {
		var all []string
		for _, b := range s.Berths {
			if want(b.Workload, b.Site) {
				all = append(all, b.Workload+"/"+b.Site)
			}
		}
		if got := found(text); got != strings.Join(all, " ") {
			t.Errorf("%q finds %q, want %q", text, got, all)
		}
	}
	for _, only := range view.Only {
		every := strings.Fields(found(only))
		if of := strings.Fields(found("only:" + only)); !slices.Equal(every, of) && len(of) > len(every) {
			t.Errorf("the word %s finds %q, only:%s %q", only, every, only, of)
		}
	}
	if moving := found("only:moving"); !strings.Contains(moving, "fares/slipway") || strings.Contains(moving, "accounts/isles") {
		t.Errorf("%s move", moving)
	}
}

// TestComplete completes fields, and values among those that there are.
func TestComplete(t *testing.T) {
	values := func(field string) []string {
		return map[string][]string{"kind": {"proven", "rolled back", "rollback", "rolled back"}, "site": {"north", "north-isles", "south"}, "by": {"Ærlend Oake", "Ærna Voss", "aditus"}}[field]
	}
	for typed, want := range map[string]string{
		"":                     "",
		"sit":                  "site:",
		"s":                    "si", // site: and since:
		"x":                    "x",
		"late ki":              "late kind:",
		"site:":                "site:",
		"site:n":               "site:north",
		"site:north-":          "site:north-isles ",
		"site:s":               "site:south ",
		"site:south,n":         "site:south,north",
		"kind:p":               "kind:proven ",
		"kind:r":               "kind:roll",
		"kind:rolled":          `kind:"rolled back" `,
		`kind:"rolled b`:       `kind:"rolled back" `,
		`kind:"rolled back" k`: `kind:"rolled back" kind:`,
		"kind:nowhere":         "kind:nowhere",
		"by:Æ":                 "by:Ær",
		"by:æRl":               `by:"Ærlend Oake" `,
		"nothing:a":            "nothing:a",
	} {
		if got := view.Complete(typed, []string{"site:", "kind:", "since:"}, values); got != want {
			t.Errorf("%q is completed to %q, want %q", typed, got, want)
		}
	}
}
