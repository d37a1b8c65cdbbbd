package cluster

import (
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"testing"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"sigs.k8s.io/yaml"

	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/target/cluster/clustertest"
)

// manifest is a workload of objects, from YAML documents.
func manifest(documents string) declare.Desired {
	part := declare.Part{Kind: declare.Objects, Objects: map[string]declare.Object{}}
	for _, text := range strings.Split(documents, "---\n") {
		var o declare.Object
		if err := yaml.Unmarshal([]byte(text), &o); err != nil {
			panic(err)
		}
		part.Objects[declare.ObjectID(o)] = o
	}
	return declare.Desired{Format: 1, Workload: "fares", Parts: map[string]declare.Part{"all": part}}
}

const gate = `{apiVersion: apps/v1, kind: Deployment, metadata: {name: gate}, spec: {replicas: 2, template: {metadata: {labels: {app: gate}}, spec: {containers: [{name: gate, image: "r.example/gate:1", ports: [{name: http, containerPort: 8080}]}]}}}}
---
{apiVersion: v1, kind: ConfigMap, metadata: {name: hours}, data: {opens: "06:30"}}
---
{apiVersion: v1, kind: Service, metadata: {name: gate}, spec: {selector: {app: gate}}}
`

// shown tells what there is of a revision: its objects, its pods, what differs from what it declares, and its share.
func shown(t *testing.T, site *Site, revision declare.Fingerprint, desired declare.Desired) string {
	t.Helper()
	o, err := site.Observe(t.Context(), "fares")
	if err != nil {
		t.Fatal(err)
	}
	c, _ := o.Cohort(revision)
	var told []string
	for _, one := range c.Objects {
		if !one.There {
			told = append(told, "no "+one.ID)
		} else if one.Word != "healthy" {
			told = append(told, fmt.Sprintf("%s is %s: %s", one.ID, one.Word, one.Reason))
		}
	}
	for _, d := range compare.Three(&desired, &desired, c.Live) {
		told = append(told, string(d.Kind)+" "+d.String())
	}
	told = append(told, fmt.Sprintf("%d pods, %.0f %%", len(c.Instances), c.Share*100))
	if o.Trouble != "" {
		told = append(told, o.Trouble)
	}
	return strings.Join(told, "; ")
}

var suffix = regexp.MustCompile(`gate-[0-9a-f]{8}`)

// branches tells the tree of a workload in one line.
func branches(t *testing.T, site *Site) string {
	t.Helper()
	nodes, err := site.Tree(t.Context(), "fares")
	if err != nil {
		t.Fatal(err)
	}
	var tell func(nodes []status.Node) string
	tell = func(nodes []status.Node) string {
		var told []string
		for _, n := range nodes {
			text := n.Kind + " " + suffix.ReplaceAllString(n.Name, "gate-?")
			if len(n.Below) > 0 {
				text += " (" + tell(n.Below) + ")"
			}
			told = append(told, text)
		}
		return strings.Join(told, ", ")
	}
	return tell(nodes)
}

// TestPlaced takes objects as they are through a first sync, a change, a hand that changes them, a way back and orphans.
func TestPlaced(t *testing.T) {
	api, site := standIn(t)
	const list = "/apis/apps/v1/namespaces/trial/deployments/gate"
	first, next := manifest(gate), manifest(strings.Replace(gate, "gate:1", "gate:2", 1)+"---\n{apiVersion: v1, kind: ConfigMap, metadata: {name: extra}}\n---\n{apiVersion: v1, kind: ConfigMap, metadata: {name: dear, annotations: {aditus/keep: \"true\"}}}\n")
	do := func(wants ...target.Want) {
		t.Helper()
		if err := site.Apply(t.Context(), "fares", wants); err != nil {
			t.Fatal(err)
		}
	}
	is := func(revision declare.Fingerprint, desired declare.Desired, want string) {
		t.Helper()
		last := ""
		t.Cleanup(func() {
			if last != want {
				t.Errorf("got  %s\nwant %s", last, want)
			}
		})
		settles(t, site, want, func() bool { last = shown(t, site, revision, desired); return last == want })
	}
	do(target.Prepare(one, first), target.Place(one, "all", 1, nil))
	is(one, first, "no Deployment/gate; no Service/gate; drift Deployment/gate is gone; drift Service/gate is gone; 0 pods, 0 %")
	do(target.Place(one, "all", 2, nil))
	is(one, first, "2 pods, 100 %")
	api.Requests()
	do(target.Place(one, "all", 2, nil))
	for what, n := range api.Requests() {
		t.Errorf("what is so already costs %d %s", n, what)
	}
	if o := api.Get(list); o["spec"].(clustertest.Object)["template"].(clustertest.Object)["metadata"].(clustertest.Object)["labels"].(clustertest.Object)["aditus/workload"] != nil {
		t.Error("the pods are marked, so that taking over would exchange them")
	}

	if got, want := branches(t, site), "ConfigMap hours, Deployment gate (ReplicaSet gate-? (Pod gate-?-0 (container gate), Pod gate-?-1 (container gate))), Service gate"; got != want {
		t.Errorf("the tree is %s\nwant        %s", got, want)
	}
	api.Change(list, func(o clustertest.Object) { o["spec"].(clustertest.Object)["replicas"] = int64(3) })
	is(one, first, "drift spec/replicas of Deployment/gate 2 → 3; 3 pods, 100 %")
	sheet, err := site.Sheet(t.Context(), "fares", "apps/v1 Deployment gate")
	if err != nil || len(sheet.Differences) != 1 || !strings.Contains(sheet.Live, "replicas: 3") || !strings.Contains(sheet.Declared, "replicas: 2") {
		t.Errorf("the sheet: %+v, %v", sheet, err)
	}
	if _, err := site.Sheet(t.Context(), "tides", "apps/v1 Deployment gate"); err == nil {
		t.Error("another workload sees it too")
	}
	do(target.Place(one, "all", 2, nil))
	is(one, first, "2 pods, 100 %")

	do(target.Prepare(two, next), target.Place(two, "all", 2, nil))
	is(two, next, "2 pods, 100 %")
	is(one, first, "no Deployment/gate; drift spec/template/spec/containers/0/image of Deployment/gate gate:1 → gate:2; 0 pods, 0 %")
	do(target.Place(one, "all", 2, nil), target.Withdraw(two, one, "all"), target.Delete(two))
	is(one, first, "orphan ConfigMap/dear is live, but not declared; 2 pods, 100 %")
	if api.Get("/api/v1/namespaces/trial/configmaps/extra") != nil {
		t.Error("what only the other revision had is there still")
	}
	if err := site.Apply(t.Context(), "fares", []target.Want{target.RemoveObject(one, "all", "ConfigMap/dear")}); err == nil || !strings.Contains(err.Error(), "to be kept") {
		t.Errorf("what is to be kept: %v", err)
	}

	fewer := manifest(gate[:strings.LastIndex(gate, "---")])
	do(target.Prepare(two, fewer), target.Place(two, "all", 2, nil), target.Delete(one))
	is(two, fewer, "orphan ConfigMap/dear is live, but not declared; orphan Service/gate is live, but not declared; 2 pods, 100 %")
	do(target.RemoveObject(two, "all", "Service/gate"))
	is(two, fewer, "orphan ConfigMap/dear is live, but not declared; 2 pods, 100 %")
	do(target.RemovePart(two, "all"))
	if left := api.Paths("deployments"); len(left) > 0 || api.Get("/api/v1/namespaces/trial/configmaps/dear") == nil {
		t.Errorf("left are %v", left)
	}
}

// TestPlacedTaken takes over what was there before: its pods stay, and it is never taken away, neither on a way back nor as an orphan.
func TestPlacedTaken(t *testing.T) {
	api, site := standIn(t)
	api.Put("/api/v1/namespaces/trial/configmaps/found", "{data: {a: b}}")
	first := manifest(gate)
	next := manifest(gate + "---\n{apiVersion: v1, kind: ConfigMap, metadata: {name: found}, data: {a: b}}\n---\n{apiVersion: v1, kind: ConfigMap, metadata: {name: ours}}\n")
	wants := []target.Want{
		target.Prepare(one, first), target.Place(one, "all", 2, nil), target.Prepare(two, next), target.Place(two, "all", 2, nil),
		target.Place(one, "all", 2, nil), target.Withdraw(two, one, "all"), target.Delete(two),
	}
	if err := site.Apply(t.Context(), "fares", wants); err != nil {
		t.Fatal(err)
	}
	if api.Get("/api/v1/namespaces/trial/configmaps/found") == nil || api.Get("/api/v1/namespaces/trial/configmaps/ours") != nil {
		t.Errorf("after the way back there are %v", api.Paths("configmaps"))
	}
	if err := site.Apply(t.Context(), "fares", []target.Want{target.RemoveObject(one, "all", "ConfigMap/found")}); err == nil || !strings.Contains(err.Error(), "was there before") {
		t.Errorf("as an orphan: %v", err)
	}
}

// TestPlacedSpoilt has others write into our records, and discovery fail: nothing falls over, nothing is forgotten, and it is told.
func TestPlacedSpoilt(t *testing.T) {
	api, site := standIn(t)
	api.Defined = true
	desired := manifest("{apiVersion: skerry.example/v1, kind: Boat, metadata: {name: auk}}\n")
	if err := site.Apply(t.Context(), "fares", []target.Want{target.Prepare(one, desired), target.Place(one, "all", 1, nil)}); err != nil {
		t.Fatal(err)
	}
	site.connection.known.kinds = nil // as after a start
	fails := func(on bool) {
		api.Refuse = func(r *http.Request) *metav1.Status {
			if s := clustertest.Status(503, metav1.StatusReasonServiceUnavailable, "no leader"); on && strings.HasSuffix(r.URL.Path, "/skerry.example/v1") {
				return &s
			}
			return nil
		}
	}
	fails(true)
	site.connection.known.asked = nil
	if _, err := site.Observe(t.Context(), "fares"); err == nil || !strings.Contains(err.Error(), "no leader") {
		t.Errorf("what cannot be asked for: %v", err)
	}
	if err := site.Apply(t.Context(), "fares", []target.Want{target.RemovePart(one, "all")}); err == nil {
		t.Error("a part was taken away whose objects cannot be looked for")
	}
	if len(site.inventory("fares", "all").objects) != 1 {
		t.Error("it was forgotten")
	}
	fails(false)
	record := recordName("fares", string(one[:7]))
	api.Change("/api/v1/namespaces/trial/configmaps/"+record, func(o clustertest.Object) {
		text, _ := packed(map[string]placed{"all": {Part: declare.Part{Objects: map[string]declare.Object{"Boat.skerry.example/auk": nil}}}})
		o["binaryData"].(clustertest.Object)[objectsKey] = text
	})
	settles(t, site, "a spoilt record is told", func() bool {
		_, err := site.Observe(t.Context(), "fares")
		return err != nil && strings.Contains(err.Error(), "was changed by hand and cannot be read")
	})
	api.Change("/api/v1/namespaces/trial/configmaps/"+inventoryName("fares", "all"), func(o clustertest.Object) { o["data"].(clustertest.Object)[inventoryKey] = "null" })
	settles(t, site, "an empty account is taken as one", func() bool { return len(site.inventory("fares", "all").objects) == 0 })
	site.inventory("fares", "all").objects["x"] = reference{}
}

// TestPlacedUndefined takes the definition of a kind away: its objects are gone with it, that is told, and comes to an end with the
// definition back.
func TestPlacedUndefined(t *testing.T) {
	api, site := standIn(t)
	api.Defined = true
	desired := manifest("{apiVersion: skerry.example/v1, kind: Boat, metadata: {name: auk}}\n")
	put := func() error {
		return site.Apply(t.Context(), "fares", []target.Want{target.Prepare(one, desired), target.Place(one, "all", 1, nil)})
	}
	if err := put(); err != nil {
		t.Fatal(err)
	}
	settles(t, site, "it is there", func() bool { return strings.HasPrefix(shown(t, site, one, desired), "0 pods") })
	api.Defined = false
	api.Refuse = func(r *http.Request) *metav1.Status {
		if s := clustertest.Status(404, metav1.StatusReasonNotFound, "the server could not find the requested resource"); strings.HasSuffix(r.URL.Path, "/boats") {
			return &s
		}
		return nil
	}
	api.Change("/apis/skerry.example/v1/namespaces/trial/boats/auk", nil)
	api.CloseClientConnections()
	settles(t, site, "it is gone", func() bool {
		o, err := site.Observe(t.Context(), "fares")
		return err == nil && len(o.Cohorts) == 1 && !o.Cohorts[0].Objects[0].There && strings.Contains(o.Cohorts[0].Objects[0].Reason, "install its definition")
	})
	if err := put(); err == nil || !strings.Contains(err.Error(), "the cluster has no Boat of skerry.example/v1") {
		t.Errorf("without a definition: %v", err)
	}
	api.Defined, api.Refuse = true, nil
	settles(t, site, "it is there again", func() bool {
		put()
		o, err := site.Observe(t.Context(), "fares")
		return err == nil && o.Cohorts[0].Objects[0].There
	})
}

// TestPlacedTold sees that what a cluster would not take is told before anything is done, by object and with what to do.
func TestPlacedTold(t *testing.T) {
	api, site := standIn(t)
	api.Put("/api/v1/namespaces/trial/configmaps/theirs", "{metadata: {labels: {aditus/workload: tides, aditus/part: all}}}")
	api.Put("/api/v1/namespaces/trial/configmaps/found", "{data: {a: b}}")
	api.Put("/api/v1/namespaces/trial/configmaps/other", "{data: {a: c}}")
	api.Refuse = func(r *http.Request) *metav1.Status {
		if r.Method == http.MethodPatch && strings.HasSuffix(r.URL.Path, "/services/bad") {
			s := clustertest.Status(422, metav1.StatusReasonInvalid, "bad is invalid")
			s.Details.Causes = []metav1.StatusCause{{Field: "spec.clusterIP", Message: "field is immutable"}}
			return &s
		}
		return nil
	}
	all := manifest(`{apiVersion: v1, kind: ConfigMap, metadata: {name: theirs}}
---
{apiVersion: v1, kind: ConfigMap, metadata: {name: found}, data: {a: b}}
---
{apiVersion: v1, kind: ConfigMap, metadata: {name: other}, data: {a: b}}
---
{apiVersion: v1, kind: ConfigMap, metadata: {name: away, namespace: elsewhere}}
---
{apiVersion: skerry.example/v1, kind: Boat, metadata: {name: auk}}
---
{apiVersion: v1, kind: Service, metadata: {name: bad}}
---
{apiVersion: v1, kind: Service, metadata: {name: good}}
`)
	tried, err := site.Try(t.Context(), "fares", all)
	if err != nil {
		t.Fatal(err)
	}
	told := map[string]string{}
	for _, one := range tried {
		told[one.ID] = one.Refused + strings.Join(one.Told, "; ")
	}
	for id, want := range map[string]string{
		"ConfigMap/theirs":         "it is the workload tides's (its part all) already",
		"ConfigMap/found":          "it is there already, and is taken over as it is",
		"ConfigMap/other":          "it is there already, and taking it over changes data.a, which is c, put there as b",
		"ConfigMap/elsewhere/away": "is for the namespace elsewhere, and the site north is trial",
		"Boat.skerry.example/auk":  "the cluster has no Boat of skerry.example/v1: install its definition first",
		"Service/bad":              "spec.clusterIP: field is immutable",
	} {
		if !strings.Contains(told[id], want) {
			t.Errorf("%s: %q, want %q", id, told[id], want)
		}
	}
	if told["Service/good"] != "" || len(api.Paths("services")) > 0 {
		t.Errorf("good: %q; trying made %v", told["Service/good"], api.Paths("services"))
	}
	with := manifest("{apiVersion: apiextensions.k8s.io/v1, kind: CustomResourceDefinition, metadata: {name: boats.skerry.example}, spec: {group: skerry.example, names: {kind: Boat}}}\n---\n{apiVersion: skerry.example/v1, kind: Boat, metadata: {name: auk}}\n")
	tried, _ = site.Try(t.Context(), "fares", with)
	if last := tried[len(tried)-1]; last.ID != "Boat.skerry.example/auk" || last.Refused != "" {
		t.Errorf("a kind that its own part defines: %+v", last)
	}
}

// TestPlacedAlone sees that trouble with the kinds of one workload's objects is that workload's alone.
func TestPlacedAlone(t *testing.T) {
	api, site := standIn(t)
	api.Defined = true
	api.Refuse = func(r *http.Request) *metav1.Status {
		if r.Method == http.MethodGet && strings.HasSuffix(r.URL.Path, "/boats") && strings.Contains(r.URL.RawQuery, "labelSelector") {
			s := clustertest.Status(403, metav1.StatusReasonForbidden, `boats is forbidden: User "maren" cannot watch resource "boats"`)
			return &s
		}
		return nil
	}
	desired := manifest("{apiVersion: skerry.example/v1, kind: Boat, metadata: {name: auk}}\n")
	if err := site.Apply(t.Context(), "fares", []target.Want{target.Prepare(one, desired), target.Place(one, "all", 1, nil)}); err != nil {
		t.Fatal(err)
	}
	settles(t, site, "it is told", func() bool {
		_, err := site.Observe(t.Context(), "fares")
		return err != nil && strings.Contains(err.Error(), `the account may not: User "maren" cannot watch resource "boats"`)
	})
	if o, err := site.Observe(t.Context(), "tides"); err != nil || o.Trouble != "" {
		t.Errorf("another workload: %q, %v", o.Trouble, err)
	}
}

// TestPlacedTwice has two sites of a cluster declare an object of the whole cluster: that is told, and it stays while one of them
// has it.
func TestPlacedTwice(t *testing.T) {
	api := clustertest.Serve()
	t.Cleanup(api.Close)
	api.Defined = true
	c, err := Connect(configOf(api), "test")
	if err != nil {
		t.Fatal(err)
	}
	north, south := c.Open(Options{Name: "north", Namespace: "trial"}), c.Open(Options{Name: "south", Namespace: "other"})
	go c.Run(t.Context())
	desired := manifest("{apiVersion: skerry.example/v1, kind: Chart, metadata: {name: firth}}\n")
	put := func(site *Site) {
		t.Helper()
		if err := site.Apply(t.Context(), "fares", []target.Want{target.Prepare(one, desired), target.Place(one, "all", 9, nil)}); err != nil {
			t.Fatal(err)
		}
	}
	there := func() bool { return api.Get("/apis/skerry.example/v1/charts/firth") != nil }
	put(north)
	tried, err := south.Try(t.Context(), "fares", desired)
	if told := fmt.Sprint(tried); err != nil || !strings.Contains(told, "it is of the whole cluster, and north has it too") {
		t.Errorf("%s (%v)", told, err)
	}
	put(south)
	for _, site := range []*Site{north, south} {
		if !there() {
			t.Errorf("it is gone before %s gave it up", site.Name)
		}
		if err := site.Apply(t.Context(), "fares", []target.Want{target.RemovePart(one, "all")}); err != nil {
			t.Fatal(err)
		}
	}
	if there() {
		t.Error("it is there still, and nobody has it")
	}
}

// TestJudged tells how objects are doing by the line's own rule, but for those that their controller has not seen.
func TestJudged(t *testing.T) {
	part := declare.Part{Rules: map[string]declare.Rule{"Boat.skerry.example": {Healthy: "object.status.phase == 'Afloat'", Failing: "object.status.leaks > 2", Say: "it leaks"}, "Bad": {Healthy: "object.spec.size / 0 == 1"}}}
	for text, want := range map[string]string{
		"status: {phase: Afloat}":           "healthy ",
		"status: {phase: Docked}":           "starting it is not healthy yet by the line's rule",
		"status: {phase: Afloat, leaks: 3}": "failing it leaks",
		"metadata: {generation: 2}\nstatus: {phase: Afloat, observedGeneration: 1}": "starting its controller has not seen its newest form yet",
	} {
		var o map[string]any
		if err := yaml.Unmarshal([]byte("apiVersion: skerry.example/v1\nkind: Boat\n"+text), &o); err != nil {
			t.Fatal(err)
		}
		state := judged(t.Context(), part, "Boat.skerry.example/auk", o)
		if got := string(state.Word) + " " + state.Reason; got != want {
			t.Errorf("%s: %s, want %s", text, got, want)
		}
	}
	if state := judged(t.Context(), part, "Bad/x", map[string]any{"spec": map[string]any{"size": int64(1)}}); state.Word != "starting" || !strings.Contains(state.Reason, "division by zero") {
		t.Errorf("a rule that cannot be asked: %+v", state)
	}
}

// TestTryNowhere tries a revision at a site that is only looked at, and whose namespace is not there yet: nothing is refused, and none is made.
func TestTryNowhere(t *testing.T) {
	api := clustertest.Serve()
	t.Cleanup(api.Close)
	c, err := Connect(configOf(api), "test")
	if err != nil {
		t.Fatal(err)
	}
	west := c.Open(Options{Name: "west", Namespace: "nowhere", ReadOnly: true})
	go c.Run(t.Context())
	tried, err := west.Try(t.Context(), "fares", manifest("{apiVersion: skerry.example/v1, kind: Chart, metadata: {name: firth}}\n"))
	if told := fmt.Sprint(tried); err != nil || len(tried) != 1 || tried[0].Refused != "" || !strings.Contains(told, "the namespace nowhere is not there yet") {
		t.Errorf("%s (%v)", told, err)
	}
	if api.Get("/api/v1/namespaces/nowhere") != nil {
		t.Error("it was made")
	}
}
