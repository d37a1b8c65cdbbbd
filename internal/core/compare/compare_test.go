package compare

import (
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/declare"
)

func desired(change func(*declare.Desired)) *declare.Desired {
	d := &declare.Desired{Format: 1, Workload: "tides", Parts: map[string]declare.Part{
		"gauge": {Kind: declare.Service, Artifact: "r.example/gauge:1", Instances: 3, Environment: map[string]string{"A": "1"}},
		"texts": {Kind: declare.Settings, Values: map[string]string{"x": "y"}},
	}}
	if change != nil {
		change(d)
	}
	return d
}

func live(change func(Live)) Live {
	l := Live{
		"gauge": map[string]any{"kind": "service", "artifact": "r.example/gauge:1", "instances": 3.0, "environment": map[string]any{"A": "1"}},
		"texts": map[string]any{"kind": "settings", "instances": 0.0, "values": map[string]any{"x": "y"}},
	}
	if change != nil {
		change(l)
	}
	return l
}

func setPart(name string, change func(*declare.Part)) func(*declare.Desired) {
	return func(d *declare.Desired) {
		p := d.Parts[name]
		change(&p)
		d.Parts[name] = p
	}
}

func deployed(replicas float64, image string) declare.Object {
	return declare.Object{"apiVersion": "apps/v1", "kind": "Deployment", "spec": map[string]any{"replicas": replicas, "containers": []any{map[string]any{"name": "gate", "image": image}}}}
}

// objects is a workload of objects.
func objects(change func(map[string]declare.Object)) *declare.Desired {
	all := map[string]declare.Object{"Deployment/gate": deployed(2, "gate:1"), "Service/gate": {"kind": "Service"}}
	if change != nil {
		change(all)
	}
	return &declare.Desired{Format: 1, Workload: "tides", Parts: map[string]declare.Part{"gate": {Kind: declare.Objects, Objects: all}}}
}

func objectsLive(change func(map[string]any)) Live {
	live := LiveOf(objects(nil))
	if change != nil {
		change(live["gate"].(map[string]any)["objects"].(map[string]any))
	}
	return live
}

func TestThree(t *testing.T) {
	five := setPart("gauge", func(p *declare.Part) { p.Instances = 5 })
	liveFive := func(l Live) { l["gauge"].(map[string]any)["instances"] = 5.0 }
	tests := []struct {
		name              string
		applied, declared *declare.Desired
		live              Live
		want              []string
		stand             SyncStatus
	}{
		{"all agree", desired(nil), desired(nil), live(nil), nil, Aligned},
		{"Git moved on", desired(nil), desired(five), live(nil), []string{"pending /parts/gauge/instances"}, Behind},
		{"changed at the site", desired(nil), desired(nil), live(liveFive), []string{"drift /parts/gauge/instances"}, Drifted},
		{"both, to the same", desired(nil), desired(five), live(liveFive), []string{"mark /parts/gauge/instances"}, Behind},
		{"both, to another", desired(nil), desired(setPart("gauge", func(p *declare.Part) { p.Instances = 4 })), live(liveFive), []string{"conflict /parts/gauge/instances"}, Diverged},
		{"a variable added by hand", desired(nil), desired(nil), live(func(l Live) {
			l["gauge"].(map[string]any)["environment"] = map[string]any{"A": "1", "DEBUG": "yes"}
		}), []string{"drift /parts/gauge/environment/DEBUG"}, Drifted},
		{"a part that is not ours to keep", desired(nil), desired(nil), live(func(l Live) { l["old/one"] = map[string]any{"kind": "service"} }), []string{"orphan /parts/old~1one"}, Aligned},
		{"a part gone at the site", desired(nil), desired(nil), live(func(l Live) { delete(l, "texts") }), []string{"drift /parts/texts"}, Drifted},
		{"a part that Git dropped", desired(nil), desired(func(d *declare.Desired) { delete(d.Parts, "texts") }), live(nil), []string{"pending /parts/texts"}, Behind},
		{"only a probe, which sites do not show", desired(nil), desired(setPart("gauge", func(p *declare.Part) { p.Probes = map[string]declare.Probe{"ready": {}} })), live(nil), []string{"pending /parts/gauge/probes"}, Behind},
		{"only its port, machine or end", desired(nil), desired(setPart("gauge", func(p *declare.Part) {
			p.TCP, p.Resources, p.Stop = 7000, &declare.Resources{}, &declare.DefaultStop
		})), live(nil), []string{"pending /parts/gauge/resources", "pending /parts/gauge/stop", "pending /parts/gauge/tcp"}, Behind},
		{"an object changed by hand", objects(nil), objects(nil), objectsLive(func(o map[string]any) {
			o["Deployment/gate"].(map[string]any)["spec"].(map[string]any)["replicas"] = 5.0
		}), []string{"drift /parts/gate/objects/Deployment~1gate/spec/replicas"}, Drifted},
		{"an item of a list in an object", objects(nil), objects(func(o map[string]declare.Object) {
			o["Deployment/gate"] = deployed(2, "gate:2")
		}), objectsLive(nil), []string{"pending /parts/gate/objects/Deployment~1gate/spec/containers/0/image"}, Behind},
		{"an object gone", objects(nil), objects(nil), objectsLive(func(o map[string]any) { delete(o, "Deployment/gate") }), []string{"drift /parts/gate/objects/Deployment~1gate"}, Drifted},
		{"an object declared no longer", objects(nil), objects(func(o map[string]declare.Object) { delete(o, "Deployment/gate") }), objectsLive(nil), []string{"pending /parts/gate/objects/Deployment~1gate"}, Behind},
		{"an object that nobody declares", objects(nil), objects(nil), objectsLive(func(o map[string]any) { o["Job/old"] = map[string]any{"kind": "Job"} }), []string{"orphan /parts/gate/objects/Job~1old"}, Aligned},
		{"nothing there yet", nil, desired(nil), nil, []string{"pending /aditus", "pending /parts/gauge", "pending /parts/texts", "pending /rollout", "pending /workload"}, Absent},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			found := Three(test.applied, test.declared, test.live)
			var got []string
			for _, d := range found {
				got = append(got, fmt.Sprintf("%s %s", d.Kind, d.Pointer))
			}
			if !reflect.DeepEqual(got, test.want) {
				t.Errorf("got  %s\nwant %s", strings.Join(got, ", "), strings.Join(test.want, ", "))
			}
			if stand := SyncStatusOf(found, test.live != nil); stand != test.stand {
				t.Errorf("stands %s, want %s", stand, test.stand)
			}
		})
	}
}

// TestTree holds the trees that are built by hand against what JSON makes of the same state.
func TestTree(t *testing.T) {
	d := desired(setPart("gauge", func(p *declare.Part) {
		p.Ports = map[string]int{"http": 80}
		p.Needs, p.Command, p.Volumes = []string{"texts"}, []string{"run"}, map[string]string{"data": "/data"}
		p.Sealed, p.NotUndoable, p.Size, p.Service, p.Host, p.Preview = map[string]string{"k": "x"}, true, 5, "web", "h.example", "p.example"
		p.To = &declare.Endpoint{Port: "http", Path: "/"}
		p.TCP, p.Sticky, p.Stop = 7000, &declare.Sticky{Cookie: "seat"}, &declare.DefaultStop
		p.PreviewBy, p.GRPC = &declare.Header{Name: "X-Crew", Value: "trial"}, true
		p.Objects = map[string]declare.Object{"Deployment/gate": deployed(2, "gate:1")}
		p.Rules = map[string]declare.Rule{"Boat.skerry.example": {Healthy: "true", Say: "x"}}
		p.Template = declare.Object{"spec": map[string]any{}}
		p.Resources, p.User = &declare.Resources{Limits: declare.Amounts{CPU: 0.5, Memory: 64 << 20}}, new(int)
		p.Files, p.Folder, p.Umask, p.Fixed = map[string]declare.File{"etc/gate.conf": {Text: "port ${PORT}", Mode: "0640"}}, "www", "0027", true
		p.Metrics = &declare.Metrics{Endpoint: declare.Endpoint{Port: "http", Path: "/m"}, Requests: "requests_total"}
		p.Probes = map[string]declare.Probe{
			"ready": {HTTP: &declare.Endpoint{Port: "http", Path: "/"}, Every: declare.Span{Duration: time.Minute}, Passes: 1, Fails: 2},
			"alive": {TCP: &declare.Endpoint{Port: "http"}, Tells: declare.TellsAlive},
			"rpc":   {GRPC: &declare.Endpoint{Port: "http", Path: "gauge"}},
			"run":   {Command: []string{"check"}},
		}
	}))
	if got, want := tree(d), viaJSON(d); !reflect.DeepEqual(got, want) {
		t.Errorf("got  %v\nwant %v", got, want)
	}
	fields := reflect.TypeFor[declare.Part]().NumField() + reflect.TypeFor[declare.Probe]().NumField()
	if fields != 43 {
		t.Errorf("parts and probes have %d fields now: see that the trees have them all, and this test too", fields)
	}
}

func TestDifferenceInWords(t *testing.T) {
	for want, d := range map[string]Difference{
		"gauge/instances 3 → 5": {Pointer: "/parts/gauge/instances", Kind: Drift, Applied: 3.0, Live: 5.0},
		"gauge/instances 3 → 4": {Pointer: "/parts/gauge/instances", Kind: Pending, Applied: 3.0, Declared: 4.0, Live: 3.0},
		"gauge: spec.template.spec.hostNetwork of Deployment gauge-1 is true, put there as false": {Pointer: "/parts/gauge/objects", Kind: Drift, Live: map[string]any{"Deployment gauge-1": map[string]any{"spec.template.spec.hostNetwork": "true, put there as false"}}},
		"spec/replicas of Deployment/gate 2 → 5, set by somebody-else":                            {Pointer: "/parts/gate/objects/Deployment~1gate/spec/replicas", Kind: Drift, Applied: 2.0, Live: 5.0, Owner: "somebody-else"},
		"Deployment/gate is declared no longer":                                                   {Pointer: "/parts/gate/objects/Deployment~1gate", Kind: Pending, Applied: map[string]any{}},
		"Deployment/gate is new":                                                                  {Pointer: "/parts/gate/objects/Deployment~1gate", Kind: Pending, Declared: map[string]any{}},
		"texts is gone":                                                                           {Pointer: "/parts/texts", Kind: Drift, Applied: map[string]any{}},
		"old/one is live, but not declared":                                                       {Pointer: "/parts/old/one", Kind: Orphan, Live: map[string]any{}},
	} {
		if got := d.String(); got != want {
			t.Errorf("got %q, want %q", got, want)
		}
	}
}

// many makes a workload of n parts of which every third changed in Git.
func many(n int) (applied, declared *declare.Desired, there Live) {
	parts := func(changed bool) map[string]declare.Part {
		m := make(map[string]declare.Part, n)
		for i := range n {
			p := declare.Part{Kind: declare.Service, Artifact: "r.example/a/b:1.0.0", Instances: 3, Environment: map[string]string{"LINE": "skerry", "LEVEL": "info"}}
			if changed && i%3 == 0 {
				p.Artifact = "r.example/a/b:1.0.1"
			}
			m[fmt.Sprintf("part-%05d", i)] = p
		}
		return m
	}
	there = Live{}
	for name, p := range parts(false) {
		there[name] = map[string]any{"kind": "service", "artifact": p.Artifact, "instances": 3.0, "environment": map[string]any{"LINE": "skerry", "LEVEL": "info"}}
	}
	return &declare.Desired{Parts: parts(false)}, &declare.Desired{Parts: parts(true)}, there
}

func BenchmarkThree(b *testing.B) {
	for _, n := range []int{1000, 10000} {
		applied, declared, there := many(n)
		b.Run(fmt.Sprintf("parts=%d", n), func(b *testing.B) {
			for b.Loop() {
				if found := Three(applied, declared, there); len(found) != (n+2)/3 {
					b.Fatalf("%d differences", len(found))
				}
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(n), "ns/part")
		})
	}
}
