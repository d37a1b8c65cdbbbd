package cli

import (
	"os"
	"slices"
	"strings"
	"testing"

	"aditus/internal/config"
	"aditus/internal/core/declare"
	"aditus/internal/source"
	"aditus/internal/target"
)

// TestTargets holds the table of what each kind of target can against what the drivers claim.
func TestTargets(t *testing.T) {
	text, err := os.ReadFile("../../docs/targets.md")
	if err != nil {
		t.Fatal(err)
	}
	if table := target.Table(kinds); !strings.Contains(string(text), table) {
		t.Errorf("docs/targets.md has not this table:\n%s", table)
	}
	for _, k := range kinds {
		for name := range k.Can {
			if !slices.ContainsFunc(target.Features, func(f target.Feature) bool { return f.Name == name }) {
				t.Errorf("%s claims %q, which is no feature", k.Name, name)
			}
		}
	}
}

// TestLacks tells what a part asks for that its site cannot do.
func TestLacks(t *testing.T) {
	settings := config.Settings{}
	for _, k := range kinds {
		settings.Sites = append(settings.Sites, config.Site{Name: k.Name, Target: config.Target{Kind: k.Name}})
	}
	user := 1000
	for name, test := range map[string]struct {
		part declare.Part
		want map[string]string // by kind
	}{
		"a program":       {declare.Part{Kind: declare.Service, Command: []string{"/usr/bin/env"}}, map[string]string{"containers": target.CanPrograms, "cluster": target.CanPrograms}},
		"a file":          {declare.Part{Kind: declare.Service, Artifact: "file:/srv/web.tar"}, map[string]string{"cluster": target.CanFiles}},
		"an image":        {declare.Part{Kind: declare.Service, Artifact: "r.example/web:1", User: &user}, nil},
		"umask":           {declare.Part{Kind: declare.Service, Artifact: "r.example/web:1", Umask: "0027"}, map[string]string{"containers": target.CanUmask, "cluster": target.CanUmask}},
		"objects":         {declare.Part{Kind: declare.Objects}, map[string]string{"local": target.CanObjects, "containers": target.CanObjects, "stand-in": target.CanObjects}},
		"another's place": {declare.Part{Kind: declare.Service, Artifact: "r.example/web:1", Environment: map[string]string{"AT": "${ledger.db.port}"}}, map[string]string{"containers": target.CanOutside, "cluster": target.CanOutside}},
		"its own":         {declare.Part{Kind: declare.Service, Artifact: "r.example/web:1", Environment: map[string]string{"AT": "${db.port}"}}, map[string]string{"cluster": target.CanName}},
		"processes":       {declare.Part{Kind: declare.Service, Artifact: "r.example/web:1", Resources: &declare.Resources{Limits: declare.Amounts{Processes: 9}}}, map[string]string{"cluster": target.CanProcesses}},
	} {
		for _, k := range kinds {
			got := strings.Join(lacks(settings)(source.Declaration{Site: k.Name}, test.part), ", ")
			if got != test.want[k.Name] {
				t.Errorf("%s at %s lacks %q, want %q", name, k.Name, got, test.want[k.Name])
			}
		}
	}
	if got := lacks(settings)(source.Declaration{Site: "nowhere"}, declare.Part{Kind: declare.Objects}); got != nil {
		t.Errorf("a site that nobody knows lacks %v", got)
	}
}
