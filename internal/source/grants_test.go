package source

import (
	"strings"
	"testing"

	"aditus/internal/core/declare"
)

// TestGrants sees that what a repository may not declare is told at its line, and that a host name or port belongs to one workload at a
// site, however it is written.
func TestGrants(t *testing.T) {
	web := func(workload, entry string) []byte {
		return []byte("aditus: 1\nworkload: " + workload + "\nsites: [north]\nparts:\n  web: {kind: service, artifact: r.example/web:1, instances: 1, ports: {http: 8080}}\n  entry:\n    kind: route\n" + entry + "    to: {service: web, port: http}\n")
	}
	for name, test := range map[string]struct {
		grant *declare.Grant
		taken map[string]string
		one   string
		two   string // of a second workload; empty for none
		want  string // FILE:LINE MESSAGE; empty for nothing
	}{
		"no grant is asked for":    {one: "    host: fares.example\n"},
		"granted":                  {grant: &declare.Grant{Workloads: []string{"fares"}, Sites: []string{"north"}, Hosts: []string{"fares.example"}, Registries: []string{"r.example"}}, one: "    host: fares.example\n"},
		"nothing is granted":       {grant: &declare.Grant{}, one: "    host: fares.example\n", want: "fares.yaml:2: do not say what this repository may declare"},
		"another's name":           {grant: &declare.Grant{Workloads: []string{"fares"}, Sites: []string{"north"}, Hosts: []string{"fares.example"}, Registries: []string{"r.example"}}, one: "    host: tides.example\n", want: "fares.yaml:8: may not take the host name tides.example"},
		"the same host":            {one: "    host: fares.example\n", two: "    host: Fares.Example.\n", want: "tides.yaml:8: tides claims the host name fares.example at north, which fares by entry has"},
		"a preview of it":          {one: "    host: fares.example\n", two: "    host: tides.example\n    preview: FARES.example\n", want: "tides.yaml:9: claims the host name fares.example"},
		"the same port":            {one: "    tcp: 7000\n", two: "    tcp: 7000\n", want: "tides.yaml:8: claims TCP port 7000"},
		"all the rest":             {one: "", two: "", want: ""},
		"all the rest twice":       {one: "", two: "    preview: x.example\n", want: "tides.yaml:7: claims all that comes under no other"},
		"what another link has":    {taken: map[string]string{"north the host name fares.example": "notices by door"}, one: "    host: FARES.example\n", want: "fares.yaml:8: which notices by door has"},
		"what another has as well": {taken: map[string]string{"south the host name fares.example": "notices by door"}, one: "    host: FARES.example\n"},
	} {
		files := []File{{Name: "fares.yaml", Text: web("fares", test.one)}}
		if test.two != "" {
			files = append(files, File{Name: "tides.yaml", Text: web("tides", test.two)})
		}
		_, problems := Load(t.Context(), files, Options{Grant: test.grant, Taken: func(site, claim string) string { return test.taken[site+" "+claim] }})
		var told []string
		for _, p := range problems.Wrong() {
			told = append(told, p.Error())
		}
		text := strings.Join(told, "\n")
		place, message, _ := strings.Cut(test.want, " ")
		if test.want == "" && text != "" || test.want != "" && (len(told) != 1 || !strings.HasPrefix(text, place) || !strings.Contains(text, message)) {
			t.Errorf("%s: %q, want %q", name, text, test.want)
		}
	}
}
