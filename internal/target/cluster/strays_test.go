package cluster

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"aditus/internal/core/declare"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/target/cluster/clustertest"
)

// TestStrays finds what nobody put there through us, declares it as it is found, and takes it over: the same objects and the same pods are
// there, unchanged but for our marks, and nothing is a stray any more but what cannot be taken over.
func TestStrays(t *testing.T) {
	api, site := standIn(t)
	const namespace = "/api/v1/namespaces/trial/"
	api.Put("/apis/apps/v1/namespaces/trial/deployments/buoys", `{apiVersion: apps/v1, kind: Deployment, metadata: {name: buoys, labels: {app.kubernetes.io/part-of: Harbour Lights, app: buoys}, annotations: {deployment.kubernetes.io/revision: "7", somebody.example/last-applied-configuration: "{}"}}, spec: {replicas: 2, selector: {matchLabels: {app: buoys}}, template: {metadata: {labels: {app: buoys}}, spec: {containers: [{name: buoys, image: "r.example/buoys:2.1"}]}}}}`)
	api.Put(namespace+"services/buoys", `{apiVersion: v1, kind: Service, metadata: {name: buoys, labels: {app: buoys}}, spec: {selector: {app: buoys}, clusterIP: 10.0.0.7, clusterIPs: [10.0.0.7], ports: [{port: 80}]}}`)
	api.Put(namespace+"configmaps/lamps", `{apiVersion: v1, kind: ConfigMap, metadata: {name: lamps}, data: {red: "1", green: "2"}}`)
	api.Put(namespace+"configmaps/kube-root-ca.crt", `{apiVersion: v1, kind: ConfigMap, metadata: {name: kube-root-ca.crt}, data: {ca.crt: x}}`)
	api.Put(namespace+"configmaps/child", `{apiVersion: v1, kind: ConfigMap, metadata: {name: child, ownerReferences: [{kind: Deployment, name: buoys, uid: x}]}}`)
	api.Put(namespace+"secrets/keys", `{apiVersion: v1, kind: Secret, metadata: {name: keys}, data: {key: aGVsbG8=}}`)
	if err := site.Apply(t.Context(), "fares", []target.Want{target.Prepare(one, manifest(gate)), target.Place(one, "all", 2, nil)}); err != nil {
		t.Fatal(err)
	}
	strays := func() string {
		t.Helper()
		all, err := site.Strays(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		var told []string
		for _, s := range all {
			told = append(told, strings.TrimSuffix(fmt.Sprintf("%s of %s: %s", s.ID, s.With, s.Not), ": "))
		}
		return strings.Join(told, "; ")
	}
	const secret = "Secret/keys of keys: what it holds is secret and is not written down: seal it, and declare it by hand"
	settles(t, site, "the deployment has its pods", func() bool { return len(api.Paths("pods")) == 4 })
	if got, want := strays(), "Service/buoys of buoys; Deployment/buoys of harbour-lights; "+secret+"; ConfigMap/lamps of lamps"; got != want {
		t.Fatalf("found are %s\nwant %s", got, want)
	}
	all, _ := site.Strays(t.Context())
	desired := declare.Desired{Format: 1, Workload: "lights", Parts: map[string]declare.Part{"all": {Kind: declare.Objects, Objects: map[string]declare.Object{}}}}
	for _, s := range all {
		if s.Object == nil {
			continue
		}
		text, err := json.Marshal(s.Object)
		if err != nil || strings.Contains(string(text), "uid") || strings.Contains(string(text), "10.0.0.7") || strings.Contains(string(text), "resourceVersion") || strings.Contains(string(text), "kubernetes.io/revision") || strings.Contains(string(text), "last-applied") {
			t.Errorf("declared would be %s (%v)", text, err)
		}
		desired.Parts["all"].Objects[s.ID] = s.Object
	}
	tried, err := site.Try(t.Context(), "lights", desired)
	if err != nil {
		t.Fatal(err)
	}
	for _, one := range tried {
		if one.ID != "" && (one.Refused != "" || len(one.Told) != 1 || one.Told[0] != status.TakenAsItIs) {
			t.Errorf("%s would be refused for %q, and told is %v", one.ID, one.Refused, one.Told)
		}
	}
	identity := func() string {
		var told []string
		for _, at := range append(api.Paths("pods"), "/apis/apps/v1/namespaces/trial/deployments/buoys", namespace+"services/buoys", namespace+"configmaps/lamps") {
			o := api.Get(at)
			m := o["metadata"].(clustertest.Object)
			spec, _ := json.Marshal([]any{o["spec"], o["data"]})
			told = append(told, fmt.Sprintf("%s %v %s", at, m["uid"], spec))
		}
		return strings.Join(told, "\n")
	}
	before := identity()
	if err := site.Apply(t.Context(), "lights", []target.Want{target.Prepare(two, desired), target.Place(two, "all", 2, nil)}); err != nil {
		t.Fatal(err)
	}
	if after := identity(); after != before {
		t.Errorf("taking over changed\n%s\nto\n%s", before, after)
	}
	if m := api.Get(namespace + "configmaps/lamps")["metadata"].(clustertest.Object); m["labels"].(clustertest.Object)[labelWorkload] != "lights" {
		t.Errorf("it is not marked: %v", m)
	}
	if got := strays(); got != secret {
		t.Errorf("after that there is still %s", got)
	}
	if err := site.Apply(t.Context(), "fares", []target.Want{target.LetGo(one, "all")}); err != nil {
		t.Fatal(err)
	}
	if err := site.Apply(t.Context(), "lights", []target.Want{target.LetGo(two, "all"), target.Delete(two)}); err != nil {
		t.Fatal(err)
	}
	if after := identity(); after != before {
		t.Errorf("letting go changed\n%s\nto\n%s", before, after)
	}
	for _, text := range []string{"Deployment/buoys", "ConfigMap/lamps", "Deployment/gate", "ConfigMap/hours"} {
		if got := strays(); !strings.Contains(got, text) {
			t.Errorf("what was let go is %s, without %s", got, text)
		}
	}
	if left := api.Paths("configmaps"); strings.Contains(strings.Join(left, " "), "aditus-lights") {
		t.Errorf("an account of it is kept: %v", left)
	}
}
