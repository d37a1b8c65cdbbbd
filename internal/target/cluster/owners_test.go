package cluster

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"sigs.k8s.io/yaml"

	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
)

const owned = `{apiVersion: apps/v1, kind: Deployment, metadata: {name: web, labels: {app: web}}, spec: {replicas: 3, paused: false, selector: {matchLabels: {app: web}}, template: {spec: {
  containers: [{name: web, image: "web:1", args: [a, b], ports: [{name: http, containerPort: 8080}], env: [{name: A, value: "1000m"}], resources: {requests: {cpu: "0.5", memory: 0.125Gi}}}]}}}}`

// ours is what an API server notes of who looks after fields when that was applied.
const ours = `{"f:metadata":{"f:labels":{"f:app":{}}},"f:spec":{"f:replicas":{},"f:paused":{},"f:selector":{},"f:template":{"f:spec":{"f:containers":{"k:{\"name\":\"web\"}":{".":{},"f:name":{},"f:image":{},"f:args":{},
  "f:ports":{"k:{\"containerPort\":8080,\"protocol\":\"TCP\"}":{".":{},"f:name":{},"f:containerPort":{}}},"f:env":{"k:{\"name\":\"A\"}":{".":{},"f:name":{},"f:value":{}}},"f:resources":{"f:requests":{"f:cpu":{},"f:memory":{}}}}}}}}}`

// TestProject tells what others took over from what a server keeps in its own way, fills in, or lets others add.
func TestProject(t *testing.T) {
	at := metav1.NewTime(time.Date(2026, 3, 2, 10, 0, 0, 0, time.UTC))
	for _, c := range []struct {
		name   string
		change func(o map[string]any) // of the live object
		taken  string                 // of ours, by another manager, as a set of fields
		want   string                 // what differs, and who set it
	}{
		{name: "as it was put there"},
		{name: "kept in the server's own way", change: func(o map[string]any) {
			requests := container(o)["resources"].(map[string]any)["requests"].(map[string]any)
			requests["cpu"], requests["memory"] = "500m", "128Mi"
			delete(o["spec"].(map[string]any), "paused") // false is left out
		}},
		{name: "filled in, and added by others", change: func(o map[string]any) {
			container(o)["imagePullPolicy"] = "Always"
			container(o)["ports"].([]any)[0].(map[string]any)["protocol"] = "TCP"
			container(o)["env"] = append(container(o)["env"].([]any), map[string]any{"name": "B", "value": "2"})
			o["metadata"].(map[string]any)["labels"].(map[string]any)["seen"] = "yes"
		}},
		{name: "changed on its way in, by admission", change: func(o map[string]any) { container(o)["image"] = "mirror.example/web:1" }},
		{name: "scaled", change: func(o map[string]any) { o["spec"].(map[string]any)["replicas"] = int64(5) }, taken: `{"f:spec":{"f:replicas":{}}}`,
			want: "drift /spec/replicas 5 set by somebody at 10:00:00 UTC on 2 March"},
		{name: "another image", change: func(o map[string]any) { container(o)["image"] = "web:2" }, taken: `{"f:spec":{"f:template":{"f:spec":{"f:containers":{"k:{\"name\":\"web\"}":{"f:image":{}}}}}}}`,
			want: "drift /spec/template/spec/containers/0/image web:2 set by somebody at 10:00:00 UTC on 2 March"},
		{name: "a text that looks like a quantity", change: func(o map[string]any) { container(o)["env"].([]any)[0].(map[string]any)["value"] = "1" }, taken: `{"f:spec":{"f:template":{"f:spec":{"f:containers":{"k:{\"name\":\"web\"}":{"f:env":{"k:{\"name\":\"A\"}":{"f:value":{}}}}}}}}}`,
			want: "drift /spec/template/spec/containers/0/env/0/value 1 set by somebody at 10:00:00 UTC on 2 March"},
		{name: "a variable taken out", change: func(o map[string]any) { delete(container(o), "env") }, taken: `{"f:spec":{"f:template":{"f:spec":{"f:containers":{"k:{\"name\":\"web\"}":{"f:env":{"k:{\"name\":\"A\"}":{"f:value":{}}}}}}}}}`,
			want: "drift /spec/template/spec/containers/0/env <nil> set by somebody at 10:00:00 UTC on 2 March"},
		{name: "other arguments", change: func(o map[string]any) { container(o)["args"] = []any{"c"} }, taken: `{"f:spec":{"f:template":{"f:spec":{"f:containers":{"k:{\"name\":\"web\"}":{"f:args":{}}}}}}}`,
			want: "drift /spec/template/spec/containers/0/args [c] set by somebody at 10:00:00 UTC on 2 March"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var declared, live map[string]any
			if err := yaml.Unmarshal([]byte(owned), &declared); err != nil {
				t.Fatal(err)
			}
			yaml.Unmarshal([]byte(owned), &live)
			if c.change != nil {
				c.change(live)
			}
			mine := ours
			fields := []metav1.ManagedFieldsEntry{}
			if c.taken != "" {
				fields = append(fields, metav1.ManagedFieldsEntry{Manager: "somebody", Operation: metav1.ManagedFieldsOperationUpdate, Time: &at, FieldsV1: metav1.NewFieldsV1(c.taken)})
				mine = without(t, ours, c.taken)
			}
			fields = append(fields, metav1.ManagedFieldsEntry{Manager: manager, Operation: metav1.ManagedFieldsOperationApply, FieldsV1: metav1.NewFieldsV1(mine)})
			shown, owners := project(declared, live, fields, func(at time.Time) time.Time { return at })
			desired := func(o declare.Object) *declare.Desired {
				return &declare.Desired{Parts: map[string]declare.Part{"p": {Kind: declare.Objects, Objects: map[string]declare.Object{"o": o}}}}
			}
			var got []string
			for _, d := range compare.Three(desired(declared), desired(declared), compare.LiveOf(desired(shown))) {
				_, place := d.Object()
				got = append(got, strings.TrimSuffix(fmt.Sprintf("%s /%s %v set by %s", d.Kind, place, d.Live, owners["/"+place]), " set by "))
			}
			if text := strings.Join(got, "\n"); text != c.want {
				t.Errorf("got  %s\nwant %s", text, c.want)
			}
			if (owners == nil) != (c.want == "") {
				t.Errorf("it stands as declared: %v", owners == nil)
			}
		})
	}
}

func podSpec(o map[string]any) map[string]any {
	return declare.PodTemplate(o)["spec"].(map[string]any)
}

func container(o map[string]any) map[string]any {
	return podSpec(o)["containers"].([]any)[0].(map[string]any)
}

// without takes fields out of a set of them, as a server does when another manager takes them over.
func without(t *testing.T, set, taken string) string {
	t.Helper()
	var a, b map[string]any
	for text, into := range map[string]*map[string]any{set: &a, taken: &b} {
		if err := json.Unmarshal([]byte(text), into); err != nil {
			t.Fatal(err)
		}
	}
	var cut func(a, b map[string]any)
	cut = func(a, b map[string]any) {
		for key, value := range b {
			below, _ := value.(map[string]any)
			if of, ok := a[key].(map[string]any); ok && len(below) > 0 {
				cut(of, below)
			} else {
				delete(a, key)
			}
		}
	}
	cut(a, b)
	text, _ := json.Marshal(a)
	return string(text)
}
