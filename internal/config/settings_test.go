package config

import (
	"reflect"
	"strings"
	"testing"
	"time"
)

const settings = `line: Skerry Line
beat: 1s
keep: {points: 1 day, minutes: 90 days, facts: for ever}
links: [{name: repo, repository: /srv/repo, branch: main, folder: workloads, every: 30s}]
sites: [{name: drydock, automatic: true}, {name: north, automatic: true, after: drydock}]
`

func TestReadSettings(t *testing.T) {
	s, err := Read("settings.yaml", []byte(settings))
	if err != nil {
		t.Fatal(err)
	}
	text, err := s.Text()
	if err != nil {
		t.Fatal(err)
	}
	if again, err := Read("again", text); err != nil || !reflect.DeepEqual(again, s) {
		t.Errorf("%+v was written and read back as %+v (%v)", s, again, err)
	}
	if told, err := Read("settings.yaml", []byte("$schema: settings.json\n"+settings)); err != nil || told.Schema != "settings.json" {
		t.Errorf("where the schema is: %q, %v", told.Schema, err)
	}
	if k := s.Keep; k.Points.Or(14) != 24*time.Hour || k.Facts.Or(3) != 0 || k.Traffic.Or(2) != 48*time.Hour {
		t.Errorf("what is kept: %+v", k)
	}
	for _, test := range []struct{ from, to, want string }{
		{"every: 30s", "every: 30ms", "1s is the least"}, {"line:", "lnie:", "lnie"}, {"after: drydock", "after: south", `north comes after "south", which does not stand before it`},
		{"name: north", "name: drydock", "drydock stands there twice"}, {"sites: [", "sites: []\nbeats: [", "beats"}, {"beat: 1s", "beat: 1ms", "100ms is the least"}, {"branch: main, ", "", "name one of branch, tag and commit"},
		{"links: [{", "links: [{name: repo, repository: b, branch: b, every: 1s}, {", "repo stands there twice"}, {"beat: 1s", "beat: often", "often"}, {"folder: workloads", "folder: ../up", "must be written plainly"}, {"folder: workloads", "tag: v1", "one of branch, tag and commit"},
		{"repository: /srv/repo", "repository: oci://r.example/x", "a bundle has a version"}, {"name: repo", "name: my repo", "one word"},
		{"sites:", "follow: [{site: west, link: repo, branch: b, until: 2026-01-01}]\nsites:", `no site "west"`}, {"sites:", "follow: [{site: north, link: repo, branch: b}]\nsites:", "without an end"},
		{"sites:", "follow: [{site: north, link: other, branch: b}]\nsites:", `no link "other"`}, {"sites:", "listen: here\nsites:", "is no address"},
		{"sites:", "instances: {users: none, folder: /srv/aditus}\nsites:", "say nothing without users"}, {"sites:", "instances: {users: 0-999, folder: /srv/aditus}\nsites:", "no numbers of users"}, {"sites:", "instances: {users: 700000-700999}\nsites:", "no folder by its whole path"},
		{"1 day", "14", "write it like 14 days, or for ever"}, {"90 days", "0 days", "is no number of days"}, {"for ever", "-1 days", "is no number of days"},
		{"after: drydock", "drift: {look: often}", "is no cron schedule"}, {"after: drydock", "drift: {then: shout}", "told or corrected"}, {"after: drydock", "drift: {notice: -1s}", "notice"},
	} {
		if !strings.Contains(settings, test.from) {
			t.Fatalf("%q is not in the settings", test.from)
		}
		if _, err := Read("settings.yaml", []byte(strings.Replace(settings, test.from, test.to, 1))); err == nil || !strings.Contains(err.Error(), test.want) || !strings.Contains(err.Error(), "settings.yaml") {
			t.Errorf("%q: %v, want %q", test.to, err, test.want)
		}
	}
}

// FuzzReadSettings feeds the settings' reader anything: what it takes can be written and read back.
func FuzzReadSettings(f *testing.F) {
	f.Add([]byte(settings))
	f.Add([]byte("links: [{name: a, repository: 'oci://h/x', version: ^1, every: 1m}]\nsites: []\nfollow: [{site: a, link: a, branch: b, until: 2026-01-01}]"))
	f.Add([]byte("sites: [{name: a, drift: {look: '* * * * *', then: correct, notice: 5m}}]\nregistries: {'*': {skip: true}}"))
	f.Fuzz(func(t *testing.T, text []byte) {
		s, err := Read("settings.yaml", text)
		if err != nil {
			return
		}
		out, err := s.Text()
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Read("again", out); err != nil {
			t.Fatalf("%s cannot be read back: %v", out, err)
		}
	})
}
