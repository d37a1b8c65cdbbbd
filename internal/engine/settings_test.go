package engine

import (
	"reflect"
	"strings"
	"testing"
)

const settings = `line: Skerry Line
beat: 1s
links: [{name: repo, repository: /srv/repo, branch: main, folder: workloads, every: 30s}]
sites: [{name: drydock, automatic: true}, {name: north, automatic: true, after: drydock}]
`

func TestReadSettings(t *testing.T) {
	s, err := ReadSettings("settings.yaml", []byte(settings))
	if err != nil {
		t.Fatal(err)
	}
	text, err := s.Text()
	if err != nil {
		t.Fatal(err)
	}
	if again, err := ReadSettings("again", text); err != nil || !reflect.DeepEqual(again, s) {
		t.Errorf("%+v was written and read back as %+v (%v)", s, again, err)
	}
	for _, test := range []struct{ from, to, want string }{
		{"every: 30s", "every: 30ms", "1s is the least"}, {"line:", "lnie:", "lnie"}, {"after: drydock", "after: south", `north comes after "south", which does not stand before it`},
		{"name: north", "name: drydock", "drydock stands there twice"}, {"sites: [", "sites: []\nbeats: [", "beats"}, {"beat: 1s", "beat: 1ms", "100ms is the least"}, {"branch: main, ", "", "needs a name, a repository and a branch"},
		{"links: [{", "links: [{name: b, repository: b, branch: b, every: 1s}, {", "exactly one"}, {"beat: 1s", "beat: often", "often"},
	} {
		if !strings.Contains(settings, test.from) {
			t.Fatalf("%q is not in the settings", test.from)
		}
		if _, err := ReadSettings("settings.yaml", []byte(strings.Replace(settings, test.from, test.to, 1))); err == nil || !strings.Contains(err.Error(), test.want) || !strings.Contains(err.Error(), "settings.yaml") {
			t.Errorf("%q: %v, want %q", test.to, err, test.want)
		}
	}
}
