package plan

import (
	"fmt"
	"strings"
	"testing"

	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
)

func TestNew(t *testing.T) {
	service, settings := declare.Part{Kind: declare.Service, Artifact: "r.example/a:1", Instances: 2}, declare.Part{Kind: declare.Settings, Values: map[string]string{"a": "b"}}
	declared := &declare.Desired{Parts: map[string]declare.Part{"web": service, "worker": service, "texts": settings}}
	applied := &declare.Desired{Parts: map[string]declare.Part{"web": {Kind: declare.Service, Artifact: "r.example/a:0", Instances: 2}, "gone": service}}
	live := compare.Live{
		"web":   map[string]any{"kind": "service", "artifact": "r.example/a:0", "instances": 2.0},
		"gone":  map[string]any{"kind": "service", "artifact": "r.example/a:1", "instances": 2.0},
		"extra": map[string]any{"kind": "service"},
	}
	p := New(declared, compare.Three(applied, declared, live))
	var got []string
	for i, wave := range p.Waves {
		for _, step := range wave {
			got = append(got, fmt.Sprintf("%d %s %s", i+1, step.Act, step.Part))
		}
	}
	want := "1 add texts, 2 change web, 2 add worker, 3 orphan gone"
	if text := strings.Join(got, ", "); text != want {
		t.Errorf("got  %s\nwant %s", text, want)
	}
	if text := p.Waves[1][0].String(); text != "change web: web/artifact a:0 → a:1" {
		t.Errorf("the step says %q", text)
	}
	if p := New(declared, nil); p.Steps() != 0 || len(p.Rules) != 0 {
		t.Errorf("nothing differs, and yet: %+v", p)
	}
	rules := compare.Three(&declare.Desired{}, &declare.Desired{About: "new words"}, compare.Live{})
	if p := New(declared, rules); p.Steps() != 0 || len(p.Rules) != 1 {
		t.Errorf("a change outside of parts is no step: %+v", p)
	}
}

// BenchmarkPlan is compare and plan together, as a sync does them.
func BenchmarkPlan(b *testing.B) {
	for _, n := range []int{1000, 10000} {
		applied, declared := &declare.Desired{Parts: map[string]declare.Part{}}, &declare.Desired{Parts: map[string]declare.Part{}}
		live := compare.Live{}
		for i := range n {
			part := declare.Part{Kind: declare.Service, Artifact: "r.example/a/b:1.0.0", Instances: 3, Environment: map[string]string{"LINE": "skerry"}}
			name := fmt.Sprintf("part-%05d", i)
			applied.Parts[name] = part
			live[name] = map[string]any{"kind": "service", "artifact": part.Artifact, "instances": 3.0, "environment": map[string]any{"LINE": "skerry"}}
			if i%3 == 0 {
				part.Artifact = "r.example/a/b:1.0.1"
			}
			declared.Parts[name] = part
		}
		b.Run(fmt.Sprintf("parts=%d", n), func(b *testing.B) {
			for b.Loop() {
				if p := New(declared, compare.Three(applied, declared, live)); p.Steps() != (n+2)/3 {
					b.Fatalf("%d steps", p.Steps())
				}
			}
		})
	}
}
