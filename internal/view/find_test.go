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
