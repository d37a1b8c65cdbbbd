package source

import (
	"slices"
	"strings"
	"testing"

	"aditus/internal/core/declare"
)

const manifests = `--- k8s/web.yaml
apiVersion: apps/v1
kind: Deployment
metadata: {name: web, creationTimestamp: null, labels: {app: web}}
spec:
  replicas: 2
  template:
    spec:
      containers: [{name: web, image: "r.example/web:${tag}", args: ["${HOME}", "$${tag}", "${level:-x}"]}]
      volumes: [{name: keys, secret: {secretName: k, defaultMode: 0400}}]
status: {}
---
apiVersion: v1
kind: List
items:
  - {apiVersion: v1, kind: ConfigMap, metadata: {name: hours}, data: {opens: "06:30"}}
  - {apiVersion: skerry.example/v1, kind: Boat, metadata: {name: auk}}
  - {apiVersion: v1, kind: Service, metadata: {name: web}}
`

func objectsOf(t *testing.T, files string, o Options) (map[string]declare.Part, string) {
	t.Helper()
	loaded, problems := Load(t.Context(), tree(files), o)
	var told []string
	for _, p := range problems {
		told = append(told, p.Error())
	}
	if len(loaded.Declarations) == 0 {
		return nil, strings.Join(told, "\n")
	}
	return loaded.Declarations[len(loaded.Declarations)-1].Parts, strings.Join(told, "\n")
}

// TestObjects reads parts of objects from files, with what a site differs in over them.
func TestObjects(t *testing.T) {
	parts, told := objectsOf(t, manifests+`--- web.yaml
aditus: 1
workload: web
sites: [north, south]
leave: [/parts/all/objects/Deployment~1web/spec/replicas]
parts: {all: {kind: objects, files: ["k8s/*.yaml"], objects: {ConfigMap/hours: {data: {opens: null, shuts: "22:00"}}}}}
--- web/south.yaml
parts: {all: {objects: {ConfigMap/hours: {data: {shuts: "23:00"}}}}}
--- variables.yaml
aditus: 1
variables: {tag: 1.4.0}
--- rules.yaml
aditus: 1
health: {Boat.skerry.example: {healthy: object.status.phase == 'Afloat', failing: "has(object.status.leak)", say: it leaks}, Other: {healthy: "true"}}
`, Options{})
	if rules := parts["all"].Rules; len(rules) != 1 || rules["Boat.skerry.example"].Say != "it leaks" {
		t.Errorf("rules are %v", rules)
	}
	if told != "" {
		t.Fatal(told)
	}
	part := parts["all"]
	if got := strings.Join(slices.Sorted(func(yield func(string) bool) {
		for id := range part.Objects {
			yield(id)
		}
	}), " "); got != "Boat.skerry.example/auk ConfigMap/hours Deployment/web Service/web" {
		t.Errorf("it has %s", got)
	}
	var waves []string
	for _, wave := range part.ObjectWaves() {
		waves = append(waves, strings.Join(wave, " "))
	}
	if got := strings.Join(waves, ", "); got != "ConfigMap/hours, Deployment/web Service/web, Boat.skerry.example/auk" {
		t.Errorf("they come as %s", got)
	}
	desired := declare.Desired{Parts: parts}
	text := string(desired.Canonical())
	for _, want := range []string{`"data":{"shuts":"23:00"}`, `"image":"r.example/web:1.4.0"`, `"args":["${HOME}","${tag}","${level:-x}"]`, `"defaultMode":256`, `"metadata":{"labels":{"app":"web"},"name":"web"}`} {
		if !strings.Contains(text, want) {
			t.Errorf("there is no %s in %s", want, text)
		}
	}
	if strings.Contains(text, "replicas") || strings.Contains(text, `"status":`) || desired.Version() != "1.4.0" {
		t.Errorf("version %s of %s", desired.Version(), text)
	}
}

// TestObjectsBare takes a folder that has only objects as the workload that it is said to be.
func TestObjectsBare(t *testing.T) {
	parts, told := objectsOf(t, manifests, Options{Bare: Bare{"lantern", []string{"north"}}})
	if told != "" || len(parts["objects"].Objects) != 4 {
		t.Errorf("%v: %s", parts, told)
	}
	if _, told := objectsOf(t, manifests, Options{}); !strings.Contains(told, "nothing says which workload they are") {
		t.Error(told)
	}
	found := group(tree(strings.ReplaceAll(manifests, "k8s/", "deploy/k8s/") + twoWorkloads))
	if len(found) != 2 || found[0].Folder != "." || len(found[0].Workloads) != 2 || found[1].Folder != "deploy/k8s" || len(found[1].Objects) != 4 {
		t.Errorf("found %+v", found)
	}
}

// TestObjectsWrong sees that each mistake is told at its place, with what to do.
func TestObjectsWrong(t *testing.T) {
	const head = "--- web.yaml\naditus: 1\nworkload: web\nsites: [north]\n"
	const base = head + "parts: {all: {kind: objects, files: [k.yaml]}}\n--- k.yaml\n"
	for _, c := range []struct{ name, files, want string }{
		{"no such file", head + "parts: {all: {kind: objects, files: [gone.yaml]}}\n", "web.yaml:4:38: no file of objects is named gone.yaml; the folder's files of objects are none"},
		{"no name", base + "apiVersion: v1\nkind: Pod\nmetadata: {generateName: x-}\n", "k.yaml:3:11: the object Pod/ has no name of its own"},
		{"twice", base + "apiVersion: v1\nkind: Pod\nmetadata: {name: a}\n---\napiVersion: v1\nkind: Pod\nmetadata: {name: a}\n", "k.yaml:5:1: Pod/a stands here again, first in k.yaml:1"},
		{"no object", base + "apiVersion: v1\nkind: Pod\nmetadata: {name: a}\n---\nname: b\n", "k.yaml:5:1: this is no object of a cluster's API"},
		{"a secret in the open", base + "apiVersion: v1\nkind: Secret\nmetadata: {name: a}\nstringData: {token: sesame}\n", "k.yaml:4:21: the value token of Secret/a stands in Git for everybody to read; seal it"},
		{"a secret in base64", base + "apiVersion: v1\nkind: Secret\nmetadata: {name: a}\ndata: {token: c2VzYW1l}\n", "k.yaml:4:15: the value token of Secret/a stands in Git"},
		{"a mark of ours", base + "apiVersion: v1\nkind: Pod\nmetadata: {name: a, labels: {aditus/workload: other}}\n", "k.yaml:3:47: the mark aditus/workload is written by Aditus itself"},
		{"a mark of ours on pods", base + "apiVersion: apps/v1\nkind: Deployment\nmetadata: {name: a}\nspec: {template: {metadata: {labels: {aditus/cohort: x}}}}\n", "the mark aditus/cohort is written by Aditus itself"},
		{"a label that is none", base + "apiVersion: v1\nkind: Pod\nmetadata: {name: a, labels: {tier: 1}}\n", "k.yaml:3:36: the value of tier among the labels must be text"},
		{"a change of nothing", head + "parts: {all: {kind: objects, files: [k.yaml], objects: {Pod/b: {spec: {}}}}}\n--- k.yaml\napiVersion: v1\nkind: Pod\nmetadata: {name: a}\n", "the object Pod/b does not say what it is"},
		{"shares", head + "rollout: {style: canary}\nparts: {all: {kind: objects, files: [k.yaml]}}\n--- k.yaml\napiVersion: v1\nkind: Pod\nmetadata: {name: a}\n", "what stands in objects is rolled by the cluster"},
		{"in two parts", head + "parts:\n  a: {kind: objects, files: [k.yaml]}\n  b: {kind: objects, files: [k.yaml]}\n--- k.yaml\napiVersion: v1\nkind: Pod\nmetadata: {name: a}\n", "web.yaml:6:6: Pod/a is in the parts a and b"},
		{"in two workloads", base + "apiVersion: v1\nkind: Pod\nmetadata: {name: a}\n--- other.yaml\naditus: 1\nworkload: other\nsites: [south, north]\nparts: {all: {kind: objects, files: [k.yaml]}}\n", "Pod/a is other's at north already"},
		{"a rule of health", base + "apiVersion: v1\nkind: Pod\nmetadata: {name: a}\n--- rules.yaml\naditus: 1\nhealth: {Pod: {healthy: object.status. == 1}}\n", "rules.yaml:2:25: when a Pod is healthy is not understood"},
		{"not used", base + "apiVersion: v1\nkind: Pod\nmetadata: {name: a}\n--- other.yaml\napiVersion: v1\nkind: Pod\nmetadata: {name: b}\n", "other.yaml:1:1: warning: no part names this file of objects"},
	} {
		if _, told := objectsOf(t, c.files, Options{}); !strings.Contains(told, c.want) || strings.Contains(told, "sesame") {
			t.Errorf("%s: %s\nwant %s", c.name, told, c.want)
		}
	}
}

// TestFrom takes the pods of a service from a file of objects: what a declaration has words for in these, the rest as it is.
func TestFrom(t *testing.T) {
	const files = `--- k8s/web.yaml
apiVersion: apps/v1
kind: Deployment
metadata: {name: web}
spec:
  replicas: 3
  selector: {matchLabels: {app: web}}
  template:
    metadata: {labels: {app: web}, annotations: {skerry.example/scrape: "yes"}}
    spec:
      serviceAccountName: web
      containers:
        - {name: web, image: "r.example/web:1.4.0", args: [serve], ports: [{name: http, containerPort: 8080}], env: [{name: LEVEL, value: info}, {name: HOST, valueFrom: {fieldRef: {fieldPath: status.hostIP}}}]}
        - {name: proxy, image: "r.example/proxy:2"}
--- web.yaml
aditus: 1
workload: web
sites: [north]
parts:
  app:
    kind: service
    from: %s
    environment: {LEVEL: debug, PLACE: north}
    template: {spec: {priorityClassName: high}}
  entry: {kind: route, host: web.example, to: {service: app, port: http}}
`
	parts, told := objectsOf(t, strings.Replace(files, "%s", "k8s/web.yaml#Deployment/web", 1), Options{})
	app := parts["app"]
	if told != "" || app.Artifact != "r.example/web:1.4.0" || app.Instances != 3 || app.Ports["http"] != 8080 || app.Environment["LEVEL"] != "debug" || len(app.Environment) != 2 {
		t.Fatalf("%s: %+v", told, app)
	}
	d := declare.Desired{Parts: map[string]declare.Part{"app": app}}
	want := `"template":{"metadata":{"annotations":{"skerry.example/scrape":"yes"},"labels":{"app":"web"}},"spec":{"containers":[{"args":["serve"],"env":[{"name":"HOST","valueFrom":{"fieldRef":{"fieldPath":"status.hostIP"}}}],"name":"main"},{"image":"r.example/proxy:2","name":"proxy"}],"priorityClassName":"high","serviceAccountName":"web"}}`
	if text := string(d.Canonical()); !strings.Contains(text, want) {
		t.Errorf("got %s\nwant %s", text, want)
	}
	for from, want := range map[string]string{
		"k8s/web.yaml":                "names no object in a file; write from: FILE#KIND/NAME",
		"k8s/web.yaml#Deployment/app": "there is no Deployment/app in k8s/web.yaml; it has Deployment/web",
		"web.yaml#Deployment/web":     "no file of objects is named web.yaml",
	} {
		if _, told := objectsOf(t, strings.Replace(files, "%s", from, 1), Options{}); !strings.Contains(told, want) {
			t.Errorf("%s: %s", from, told)
		}
	}
}
