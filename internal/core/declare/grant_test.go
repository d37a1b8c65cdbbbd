package declare

import (
	"strings"
	"testing"

	"aditus/internal/core/guard"
	"aditus/internal/core/signal"
)

// TestHostName sees that one host is one name, however it is written, and that what is none is refused.
func TestHostName(t *testing.T) {
	for text, want := range map[string]string{
		"fares.skerry.example": "fares.skerry.example", "Fares.Skerry.Example.": "fares.skerry.example", "FARES": "fares", "fähre.example": "xn--fhre-loa.example",
		"ＦＡＲＥＳ.example": "fares.example", "127.0.0.1": "127.0.0.1", "[::1]": "::1", "a_b.example": "a_b.example",
		"": "", ".": "", "a..b": "", "fares.example:8080": "", "http://fares": "", "a b": "", "fares\x00": "", "-a.example": "", "*.example": "", strings.Repeat("a.", 130): "",
	} {
		if got, ok := HostName(text); got != want || ok != (want != "") {
			t.Errorf("%q is %q (%v), want %q", text, got, ok, want)
		}
	}
}

func granted() Desired {
	return Desired{Workload: "fares", Parts: map[string]Part{
		"web":   {Kind: Service, Artifact: "r.example/fares:1", Instances: 3, Resources: &Resources{Limits: Amounts{Memory: 100 << 20}}},
		"batch": {Kind: Task, Artifact: "file:/srv/artifacts/batch.tar@sha256:abc", Instances: 1, Resources: &Resources{Limits: Amounts{Memory: 100 << 20}}},
		"entry": {Kind: Route, Host: "fares.skerry.example", Preview: "next.skerry.example", Service: "web"},
		"wire":  {Kind: Route, TCP: 5432, Service: "web"},
		"data":  {Kind: Volume, Size: 1 << 30},
	}, Guards: []guard.Rule{{Name: "slow", Signal: signal.Source{Store: "harbour"}}, {Name: "behind", Signal: signal.Source{Workload: "tides"}}}}
}

// TestRefuse takes something away from what lets a declaration be, and sees that just that is refused, at its place.
func TestRefuse(t *testing.T) {
	declared := map[string][]Desired{"north": {granted()}}
	if refused := GrantOf(declared).Refuse(granted(), "north"); len(refused) > 0 {
		t.Fatalf("what lets it be declared refuses %+v", refused)
	}
	if refused := (Grant{}).Refuse(granted(), "north"); len(refused) < 6 {
		t.Errorf("nothing is granted, and refused is only %+v", refused)
	}
	for name, test := range map[string]struct {
		change func(*Grant)
		want   string // PART/FIELD MESSAGE; empty for nothing
	}{
		"everything": {func(g *Grant) { *g = Grant{Everything: true} }, ""},
		"globs": {func(g *Grant) {
			g.Workloads, g.Sites, g.Hosts = []string{"fa*"}, []string{"*"}, []string{"*.skerry.example"}
		}, ""},
		"any kind":              {func(g *Grant) { g.Kinds = nil }, ""},
		"a range":               {func(g *Grant) { g.Ports = []string{"5000-6000"} }, ""},
		"a folder above":        {func(g *Grant) { g.Files = []string{"/srv/"} }, ""},
		"enough":                {func(g *Grant) { g.Instances, g.Memory, g.Volumes = 4, 400<<20, 1<<30 }, ""},
		"another workload":      {func(g *Grant) { g.Workloads = []string{"tides"} }, "/workload may not declare the workload fares"},
		"another store":         {func(g *Grant) { g.Stores = []string{"pier"} }, "/guards may not ask the metrics store harbour, as the guard slow does"},
		"another's signal":      {func(g *Grant) { g.Reads = []string{"lookout"} }, "/guards may not read what tides shows, as the guard behind does"},
		"its own other one's":   {func(g *Grant) { g.Reads, g.Workloads = nil, []string{"fares", "tides"} }, ""},
		"another site":          {func(g *Grant) { g.Sites = []string{"south"} }, "/sites may not declare anything for north"},
		"no tasks":              {func(g *Grant) { g.Kinds = []Kind{Service, Route, Volume} }, "batch/kind may not declare a part of kind task"},
		"another host":          {func(g *Grant) { g.Hosts = []string{"next.skerry.example"} }, "entry/host may not take the host name fares.skerry.example"},
		"no preview":            {func(g *Grant) { g.Hosts = []string{"fares.skerry.example"} }, "entry/preview may not take the host name next.skerry.example"},
		"another port":          {func(g *Grant) { g.Ports = []string{"5433", "1-5431"} }, "wire/tcp may not take the TCP port 5432"},
		"another registry":      {func(g *Grant) { g.Registries = []string{"r.example.evil.example"} }, "web/artifact from r.example"},
		"another folder":        {func(g *Grant) { g.Files = []string{"/srv/art"} }, "batch/artifact may not have the file"},
		"too many":              {func(g *Grant) { g.Instances = 3 }, "/parts 3 instances of fares at a site, not 4"},
		"too much memory":       {func(g *Grant) { g.Memory = 399 << 20 }, "/parts 399 MB of memory"},
		"too much in volumes":   {func(g *Grant) { g.Volumes = 1<<30 - 1 }, "/parts of volumes"},
		"a host that is a glob": {func(g *Grant) { g.Hosts = []string{"*.skerry.example.evil"} }, "entry/host may not take"},
	} {
		g := GrantOf(declared)
		test.change(&g)
		var told []string
		for _, r := range g.Refuse(granted(), "north") {
			told = append(told, r.Part+"/"+r.Field+" "+r.Message)
		}
		all := strings.Join(told, "\n")
		place, message, _ := strings.Cut(test.want, " ")
		if test.want == "" && all != "" || test.want != "" && (!strings.HasPrefix(all, place+" ") || !strings.Contains(all, message)) {
			t.Errorf("%s: %s, want %q", name, all, test.want)
		}
	}
	open := granted()
	open.Parts["web"] = Part{Kind: Service, Artifact: "r.example/fares:1", Instances: 1}
	open.Parts["entry"] = Part{Kind: Route, Service: "web"}
	g := GrantOf(declared)
	g.Memory = 1 << 40
	text := ""
	for _, r := range g.Refuse(open, "north") {
		text += r.Message + "\n"
	}
	if !strings.Contains(text, "web has no limit of memory") || !strings.Contains(text, "all that comes under no other host name") {
		t.Errorf("without a limit, and without a host: %s", text)
	}
	for _, file := range []string{"/srv/artifacts/../secret.tar", "/srv/artifacts2/x.tar", "srv/artifacts/x.tar"} {
		if within("/srv/artifacts", file) {
			t.Errorf("%s lies within /srv/artifacts", file)
		}
	}
}

// TestObjectHosts sees which host names objects of a cluster's API claim, and that they are granted like a route's.
func TestObjectHosts(t *testing.T) {
	route := func(kind string, names ...any) Object {
		return Object{"apiVersion": "gateway.networking.k8s.io/v1", "kind": kind, "spec": map[string]any{"hostnames": names}}
	}
	for name, test := range map[string]struct {
		object Object
		hosts  string
		grant  []string
		fine   bool
	}{
		"a route":               {route("HTTPRoute", "Fares.Example.", "tides.example"), "fares.example tides.example", []string{"*.example"}, true},
		"another's":             {route("GRPCRoute", "fares.example"), "fares.example", []string{"tides.example"}, false},
		"a pattern":             {route("TLSRoute", "*.example"), "*.example", []string{"*"}, true},
		"a pattern, and names":  {route("HTTPRoute", "*.example"), "*.example", []string{"fares.example", "*.other"}, false},
		"a pattern, as granted": {route("HTTPRoute", "*.example"), "*.example", []string{"*.example"}, true},
		"every name":            {route("HTTPRoute"), "*", []string{"*.example"}, false},
		"every name, granted":   {route("HTTPRoute"), "*", []string{"*"}, true},
		"an ingress":            {Object{"apiVersion": "networking.k8s.io/v1", "kind": "Ingress", "spec": map[string]any{"rules": []any{map[string]any{"host": "fares.example"}, map[string]any{}}}}, "fares.example *", []string{"fares.example"}, false},
		"an ingress for all":    {Object{"apiVersion": "networking.k8s.io/v1", "kind": "Ingress", "spec": map[string]any{"defaultBackend": map[string]any{}}}, "*", nil, false},
		"another kind":          {Object{"apiVersion": "v1", "kind": "ConfigMap", "spec": map[string]any{"hostnames": []any{"fares.example"}}}, "", nil, true},
		"what is no list":       {Object{"apiVersion": "gateway.networking.k8s.io/v1", "kind": "HTTPRoute", "spec": "x"}, "*", nil, false},
	} {
		d := Desired{Workload: "fares", Parts: map[string]Part{"all": {Kind: Objects, Objects: map[string]Object{"x": test.object}}}}
		if got := strings.Join(d.Parts["all"].objectHosts(), " "); got != test.hosts {
			t.Errorf("%s: %q, want %q", name, got, test.hosts)
		}
		g := Grant{Workloads: []string{"*"}, Sites: []string{"*"}, Hosts: test.grant}
		if refused := g.Refuse(d, "north"); (len(refused) == 0) != test.fine {
			t.Errorf("%s: refused is %+v", name, refused)
		}
		least := GrantOf(map[string][]Desired{"north": {d}})
		if refused := least.Refuse(d, "north"); len(refused) > 0 {
			t.Errorf("%s: by the least grant, %v: %+v", name, least.Hosts, refused)
		}
	}
}
