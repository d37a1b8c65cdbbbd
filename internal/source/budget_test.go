package source

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"aditus/internal/core/declare"
)

// TestBudget reads folders that ask for more than a commit may take: each is told once, in little time.
func TestBudget(t *testing.T) {
	defer func(parsed, read int, asked uint64) { mostParsed, mostRead, mostAsked = parsed, read, asked }(mostParsed, mostRead, mostAsked)
	mostParsed, mostRead, mostAsked = mostParsed/20, mostRead/20, mostAsked/20
	many := "aditus: 1\nworkload: web\nsites: [SITES]\nparts:\n  conf: {kind: settings, values: {VALUES}}\n"
	values := func(n int) string {
		var all []string
		for i := range n {
			all = append(all, fmt.Sprintf("k%d: v", i))
		}
		return strings.Join(all, ", ")
	}
	var sites, files []string
	for i := range 200 {
		sites = append(sites, fmt.Sprintf("site-%d", i))
		files = append(files, fmt.Sprintf("site-%d", i))
	}
	wide := []File{{Name: "web.yaml", Text: []byte(strings.NewReplacer("SITES", strings.Join(sites, ", "), "VALUES", values(1000)).Replace(many))}}
	for _, site := range files {
		wide = append(wide, File{Name: "web/" + site + ".yaml", Text: []byte("about: here\n")})
	}
	var deep []File
	for i := range 30 {
		deep = append(deep, File{Name: fmt.Sprintf("w%d.yaml", i), Text: []byte(strings.NewReplacer("SITES", "north", "VALUES", values(2000), "web", fmt.Sprintf("w%d", i)).Replace(many))})
	}
	var costly []File
	costly = append(costly, File{Name: "rules.yaml", Text: []byte("aditus: 1\nrules:\n  - {name: all, must: 'parts.conf.values.all(a, parts.conf.values.all(b, a != b || a == b))', say: all}\n")})
	for i := range 150 {
		costly = append(costly, File{Name: fmt.Sprintf("w%d.yaml", i), Text: []byte(strings.NewReplacer("SITES", "north", "VALUES", values(300), "web", fmt.Sprintf("w%d", i)).Replace(many))})
	}
	for name, test := range map[string]struct {
		files []File
		want  string
	}{"wide": {wide, "values for all workloads at all sites"}, "deep": {deep, "values in its files"}, "costly": {costly, "units of cost for all rules"}} {
		_, problems := Load(t.Context(), test.files, Options{})
		told := 0
		for _, p := range problems.Wrong() {
			if strings.Contains(p.Message, test.want) {
				told++
			}
		}
		if told != 1 {
			t.Errorf("%s: told %d times: %.300v", name, told, problems.Wrong())
		}
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, problems := Load(ctx, wide, Options{}); !strings.Contains(problems.Wrong().Error(), "could not be read in time") {
		t.Errorf("out of time: %.300v", problems)
	}
}

// TestFloors holds declarations to what holds whatever is declared: rules refuse, the rest is added and told.
func TestFloors(t *testing.T) {
	const web = "aditus: 1\nworkload: web\nsites: [north, south]\nparts:\n  web: {kind: service, artifact: r.example/web:1, instances: 1, ports: {http: 8080}}\nrollout:\n  proving: 10s\n"
	line := func(floors string) File {
		return File{Name: "line.yaml", Text: []byte("aditus: 1\nsites: {south: {team: harbour}}\nroles: {harbour: [maren]}\nfloors:\n" + floors)}
	}
	for name, test := range map[string]struct {
		floors string
		given  []declare.Floor
		want   []string // parts of what is told, in order
		south  string   // how long proving takes there
	}{
		"none":              {"", nil, nil, "10s"},
		"of a team":         {"  - {name: harbours, teams: [harbour], proving: 5m}\n", nil, []string{"web.yaml:7:3: web at south"}, "5m0s"},
		"given":             {"", []declare.Floor{{Name: "machine", Proving: declare.Span{Duration: 60e9}}}, []string{"web at north is less than what holds whatever is declared: machine asks for 1m0s of proving", "web at south"}, "1m0s"},
		"a rule":            {"  - {name: harbours, sites: [south], rules: [{name: about, must: has(desired.about), say: Say what it is for.}]}\n", nil, []string{"Say what it is for. (rule about, web at south)"}, "10s"},
		"a rule that is no": {"  - {name: harbours, rules: [{name: about, must: has(, say: No.}]}\n", nil, []string{"the rule about is not understood"}, ""},
		"no such key":       {"  - {name: harbours, prooving: 5m}\n", nil, []string{"prooving"}, ""},
	} {
		files := []File{{Name: "web.yaml", Text: []byte(web)}}
		if test.floors != "" {
			files = append(files, line(test.floors))
		}
		loaded, problems := Load(t.Context(), files, Options{Floors: func(_, _ string) []declare.Floor { return test.given }})
		var told []string
		for _, p := range problems {
			told = append(told, p.Error())
		}
		matched := len(told) == len(test.want)
		for i := 0; matched && i < len(told); i++ {
			place, message, _ := strings.Cut(test.want[i], " ")
			matched = strings.Contains(told[i], test.want[i]) || strings.HasPrefix(told[i], place) && strings.Contains(told[i], message)
		}
		if !matched {
			t.Errorf("%s: told %q, want %q", name, told, test.want)
		}
		for _, d := range loaded.Declarations {
			if d.Site == "south" && test.south != "" && d.Rollout.Proving.Duration.String() != test.south {
				t.Errorf("%s: proving takes %s at south, want %s", name, d.Rollout.Proving.Duration, test.south)
			}
		}
	}
}
