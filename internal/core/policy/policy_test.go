package policy_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"aditus/internal/core/berth"
	"aditus/internal/core/policy"
)

// TestMay holds every order, given by everybody, everywhere, against a plain table of who may do what: teams by people, by groups and by
// everyone, rights for the line, a workload, a site and a team's sites; accounts, tokens of all scopes, narrowed ones, and ones with an
// owner.
func TestMay(t *testing.T) {
	teams := policy.Teams{
		"shore":   {People: []string{"Maren Oake"}, May: []policy.Right{{Do: policy.Scopes}}},
		"fares":   {People: []string{"fares-build"}, Groups: []string{"fares-crew"}, May: []policy.Right{{Do: []policy.Scope{policy.SignOff, policy.Sync}, Narrow: policy.Narrow{Workloads: []string{"fares*"}}}}},
		"isles":   {People: []string{"Edda Marsh"}, May: []policy.Right{{Do: []policy.Scope{policy.Override, policy.Lock, policy.Sync}, Narrow: policy.Narrow{Teams: []string{"isles"}}}, {Do: []policy.Scope{policy.Change}, Narrow: policy.Narrow{Sites: []string{"north"}, Workloads: []string{"tides"}}}}},
		"anybody": {People: []string{policy.Anyone}, May: []policy.Right{{Do: []policy.Scope{policy.Look}, Narrow: policy.Narrow{Sites: []string{"drydock"}}}}},
		"nobody":  {May: []policy.Right{{Do: policy.Scopes}}},
	}
	closed := policy.Policy{Teams: teams, Sites: map[string]string{"south": "isles"}}
	places := []berth.ID{{Workload: "fares", Site: "north"}, {Workload: "tides", Site: "north"}, {Workload: "tides", Site: "south"}, {Workload: "tides", Site: "drydock"}, {}}
	all := strings.Repeat("*", len(policy.Scopes))
	account := policy.Actor{Known: policy.ByAccount, Scopes: policy.Scopes}
	as := func(a policy.Actor, name string) policy.Actor { a.Name = name; return a }
	// For each place of places the scopes of policy.Scopes that are allowed: look, sync, sign off, lock, override, remove data, change.
	for _, c := range []struct {
		name string
		who  policy.Actor
		open bool // where there are no teams
		may  []string
	}{
		{"the owner of a line without teams", as(account, "you"), true, []string{all, all, all, all, all}},
		{"nobody", policy.Actor{}, true, []string{"*......", "*......", "*......", "*......", "*......"}},
		{"nobody, with teams", policy.Actor{}, false, []string{".......", ".......", ".......", ".......", "......."}},
		{"one of a team for all", as(account, "Maren Oake"), false, []string{all, all, all, all, all}},
		{"one of none", as(account, "Lars Moe"), false, []string{".......", ".......", ".......", "*......", "......."}},
		{"one of the isles", as(account, "Edda Marsh"), false, []string{".......", "*.....*", "**.**..", "*......", "......."}},
		{"by a group", policy.Actor{Name: "lars", Known: policy.ByLogin, Groups: []string{"others", "fares-crew"}, Scopes: policy.Scopes}, false, []string{"***....", ".......", ".......", "*......", "......."}},
		{"a program's token", policy.Actor{Name: "fares-build", Known: policy.ByToken, Scopes: []policy.Scope{policy.Sync}}, false, []string{"**.....", ".......", ".......", "*......", "......."}},
		{"a person's token", policy.Actor{Name: "phone", Owner: "Edda Marsh", Known: policy.ByToken, Scopes: []policy.Scope{policy.Sync}}, false, []string{".......", "*......", "**..*..", "*......", "......."}},
		{"a token with the name of a person, owned by another", policy.Actor{Name: "Maren Oake", Owner: "Lars Moe", Known: policy.ByToken, Scopes: policy.Scopes}, false, []string{".......", ".......", ".......", "*......", "......."}},
		{"a token for looking", policy.Actor{Name: "wall", Known: policy.ByToken, Scopes: []policy.Scope{policy.Look}}, true, []string{"*......", "*......", "*......", "*......", "*......"}},
		{"a token for changes", policy.Actor{Name: "x", Known: policy.ByToken, Scopes: []policy.Scope{policy.Change}}, true, []string{"*..*.**", "*..*.**", "*..*.**", "*..*.**", "*..*.**"}},
		{"a token for syncs has overrides", policy.Actor{Name: "x", Known: policy.ByToken, Scopes: []policy.Scope{policy.Sync}}, true, []string{"**..*..", "**..*..", "**..*..", "**..*..", "**..*.."}},
		{"narrowed to a workload", policy.Actor{Name: "x", Known: policy.ByToken, Scopes: policy.Scopes, Within: policy.Narrow{Workloads: []string{"far*"}}}, true, []string{all, ".......", ".......", ".......", "......."}},
		{"narrowed to a site", policy.Actor{Name: "x", Known: policy.ByToken, Scopes: []policy.Scope{policy.Sync}, Within: policy.Narrow{Sites: []string{"north"}}}, true, []string{"**..*..", "**..*..", ".......", ".......", "......."}},
		{"narrowed to sites of any name", policy.Actor{Name: "x", Known: policy.ByToken, Scopes: policy.Scopes, Within: policy.Narrow{Sites: []string{"*"}}}, true, []string{all, all, all, all, "......."}},
		{"narrowed, of one for all", policy.Actor{Name: "x", Owner: "Maren Oake", Known: policy.ByToken, Scopes: policy.Scopes, Within: policy.Narrow{Teams: []string{"isles"}}}, false, []string{".......", ".......", all, ".......", "......."}},
	} {
		p := closed
		if c.open {
			p = policy.Policy{Sites: closed.Sites}
		}
		for i, at := range places {
			got := ""
			for _, scope := range policy.Scopes {
				if p.May(c.who, at.Workload, at.Site, scope) == nil {
					got += "*"
				} else {
					got += "."
				}
			}
			if got != c.may[i] {
				t.Errorf("%s at %v: %s, want %s", c.name, at, got, c.may[i])
			}
			for _, verb := range append(berth.Verbs(), "anything") {
				for extras := range 4 {
					o := berth.Order{Verb: verb, Berth: at, Volumes: extras&1 != 0}
					if extras&2 != 0 {
						o.Override = "why"
					}
					want := true
					for _, needs := range o.Needs() {
						want = want && c.may[i][slices.Index(policy.Scopes, needs)] == '*'
					}
					if err := p.May(c.who, at.Workload, at.Site, o.Needs()...); (err == nil) != want {
						t.Errorf("%s: %s of %v, with %d: %v", c.name, verb, at, extras, err)
					}
				}
			}
		}
		for i, scope := range policy.Scopes { // where anything is allowed anywhere, and in MayNot, it is the same
			anywhere := false
			for j, at := range places {
				anywhere = anywhere || c.may[j][i] == '*'
				if not := p.MayNot(c.who, at.Workload, at.Site)[scope]; (not == "") != (c.may[j][i] == '*') {
					t.Errorf("%s: may not %s at %v: %q", c.name, scope, at, not)
				}
			}
			if anywhere && p.Somewhere(c.who, scope) != nil {
				t.Errorf("%s: %s is nowhere, and is somewhere", c.name, scope)
			}
		}
	}
	err := closed.May(as(account, "Lars Moe"), "fares", "north", policy.Sync)
	if text := fmt.Sprint(err); text != "Lars Moe may not sync fares at north: that is for fares (fares-build, fares-crew), nobody or shore (Maren Oake)" {
		t.Errorf("it says %q", text)
	}
}

// BenchmarkMay asks whether somebody may, in a line of many teams.
func BenchmarkMay(b *testing.B) {
	teams := policy.Teams{}
	for i := range 40 {
		team := policy.Team{May: []policy.Right{{Do: []policy.Scope{policy.Sync}, Narrow: policy.Narrow{Workloads: []string{fmt.Sprintf("w%d-*", i)}, Sites: []string{"north"}}}}}
		for j := range 25 {
			team.People = append(team.People, fmt.Sprintf("person %d of %d", j, i))
		}
		teams[fmt.Sprintf("team %d", i)] = team
	}
	p := policy.Policy{Teams: teams}
	who := policy.Actor{Name: "phone", Owner: "person 24 of 39", Known: policy.ByToken, Scopes: []policy.Scope{policy.Sync}, Within: policy.Narrow{Sites: []string{"n*"}}}
	for b.Loop() {
		if err := p.May(who, "w39-fares", "north", policy.Sync); err != nil {
			b.Fatal(err)
		}
	}
}
