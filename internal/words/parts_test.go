package words

import (
	"slices"
	"testing"

	"aditus/internal/core/declare"
)

// TestParts tells what a revision is made of, what comes first first.
func TestParts(t *testing.T) {
	d := declare.Desired{Parts: map[string]declare.Part{
		"app":     {Kind: declare.Service, Artifact: "registry.skerry.example/line/gate:4.13.0@sha256:0123", Instances: 6, Needs: []string{"tables", "data", "texts"}},
		"tables":  {Kind: declare.Task, Artifact: "file:/srv/artifacts/tables-2.tar"},
		"texts":   {Kind: declare.Settings, Values: map[string]string{"a": "1", "b": "2"}},
		"token":   {Kind: declare.Secret, Sealed: map[string]string{"a": "x"}},
		"data":    {Kind: declare.Volume, Size: 2 << 30},
		"entry":   {Kind: declare.Route, Service: "app", Host: "gate.skerry.example", Needs: []string{"app"}},
		"rest":    {Kind: declare.Route, Service: "app", Needs: []string{"app"}},
		"lines":   {Kind: declare.Route, Service: "app", TCP: 5432, Needs: []string{"app"}},
		"objects": {Kind: declare.Objects, Objects: map[string]declare.Object{"Service/a": nil, "Deployment/a": nil, "Deployment/b": nil, "Chart.skerry.example/c": nil, "Role/r": nil, "Secret/s": nil}},
	}}
	got := Parts(d)
	want := []string{"the volume data of 2 GiB", "texts (2 values)", "token (1 value)", "objects: Deployment × 2, Chart, Role, Secret and 1 more", "the task tables of tables-2.tar", "app × 6 of gate:4.13.0", "gate.skerry.example to app", "TCP port 5432 to app", "any host to app"}
	if !slices.Equal(got, want) {
		t.Errorf("it is made of\n%q, want\n%q", got, want)
	}
}
