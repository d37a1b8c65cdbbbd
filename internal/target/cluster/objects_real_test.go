package cluster

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/types"
	"sigs.k8s.io/yaml"

	"aditus/internal/status"
	"aditus/internal/target/cluster/clustertest"
)

const manifests = `apiVersion: v1
kind: ConfigMap
metadata: {name: web-hours}
data: {opens: "06:30", script: 'echo ${HOME}', place: "${place}"}
---
apiVersion: v1
kind: ConfigMap
metadata: {name: web-old}
data: {a: "1"}
---
apiVersion: v1
kind: Secret
metadata: {name: web-key}
stringData:
  token: |
%s
---
apiVersion: apps/v1
kind: Deployment
metadata: {name: web, labels: {app: web}}
spec:
  replicas: 3
  minReadySeconds: 3
  selector: {matchLabels: {app: web}}
  template:
    metadata: {labels: {app: web}}
    spec:
      containers:
        - name: web
          image: %s/fares:1.0.0
          env: [{name: PORT, value: "8080"}, {name: PORT_HTTP, value: "8080"}]
          ports: [{name: http, containerPort: 8080}]
          readinessProbe: {httpGet: {path: /ready, port: http}, periodSeconds: 1}
          resources: {requests: {cpu: "0.01", memory: 16Mi}, limits: {memory: 0.125Gi}}
---
apiVersion: v1
kind: Service
metadata: {name: web}
spec: {selector: {app: web}, ports: [{name: http, port: 80, targetPort: http}]}
`

const manifestWorkload = `aditus: 1
workload: fares
sites: [quay]
parts:
  web:
    kind: objects
    files: [manifests/*.yaml]
    objects: {Deployment/web: {spec: {revisionHistoryLimit: 5}}}
    metrics: {port: http, requests: http_requests_total}
rollout: {deadline: 40s, proving: 3s, interval: 1s, cool-down: 1s}
guards:
  - name: errors
    signal: {ratio: {of: {counter: http_requests_total, where: {code: "5*"}}, to: {counter: http_requests_total}}}
    limit: {at-most: 5 %}
    breach: {intervals: 2, of: 3, samples: 20}
`

// sealed is a secret as it stands in Git.
func (q *quay) sealed(plain string) string {
	q.t.Helper()
	cmd := exec.Command(q.program, "secret", "seal", "--data", q.folder)
	cmd.Stdin = strings.NewReader(plain)
	out, err := cmd.Output()
	if err != nil {
		q.t.Fatal(err)
	}
	return "    " + strings.ReplaceAll(strings.TrimSpace(string(out)), "\n", "\n    ")
}

// edit changes the manifests, and commits that.
func (q *quay) edit(from, to string) {
	q.t.Helper()
	name := filepath.Join(q.source, "deploy", "manifests", "web.yaml")
	text, err := os.ReadFile(name)
	if err != nil || !strings.Contains(string(text), from) {
		q.t.Fatal(from, err)
	}
	q.write(name, strings.Replace(string(text), from, to, 1))
	q.git("commit", "-q", "-a", "-m", "without "+from[:min(20, len(from))])
}

// made are the pods that the objects have made, and are not ending, with their images.
func (q *quay) made() (found []string) {
	for _, pod := range list[*corev1.Pod](q.site.connection.mirror, otherPods, q.namespace, "") {
		if pod.DeletionTimestamp == nil {
			image := pod.Spec.Containers[0].Image
			found = append(found, image[strings.LastIndex(image, ":")+1:])
		}
	}
	slices.Sort(found)
	return slices.Compact(found)
}

// travel sends requests to the pods of the Service until the test ends.
func (q *quay) travel(ctx context.Context) {
	client := &http.Client{Timeout: 300 * time.Millisecond} // pods come and go
	for ctx.Err() == nil {
		for _, pod := range list[*corev1.Pod](q.site.connection.mirror, otherPods, q.namespace, "") {
			if pod.Status.PodIP == "" {
				continue
			}
			q.sent.Add(1)
			if response, err := client.Get("http://" + pod.Status.PodIP + ":8080/crossing"); err == nil {
				io.Copy(io.Discard, response.Body)
				response.Body.Close()
				if response.StatusCode != http.StatusOK {
					q.failed.Add(1)
				}
			} else {
				q.lost.Add(1)
			}
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// TestRealObjects takes a workload of manifests through what a release engineer sees, on a real cluster, with an account that may
// do no more than the Role in the docs.
func TestRealObjects(t *testing.T) {
	t.Parallel()
	q := openQuay(t)
	if err := os.MkdirAll(filepath.Join(q.source, "deploy", "manifests"), 0o700); err != nil {
		t.Fatal(err)
	}
	q.write(filepath.Join(q.source, "deploy", "fares.yaml"), manifestWorkload)
	q.write(filepath.Join(q.source, "deploy", "variables.yaml"), "aditus: 1\nvariables: {place: quay}\n")
	q.write(filepath.Join(q.source, "deploy", "manifests", "web.yaml"), fmt.Sprintf(manifests, q.sealed("open-sesame"), clustertest.Registry))
	q.git("add", "-A")
	q.git("commit", "-q", "-m", "manifests")
	for _, k := range otherKinds {
		q.site.connection.follow(k, q.namespace)
	}
	q.serve()
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() { defer close(done); q.travel(ctx) }()
	defer func() { stop(); <-done }()
	q.await("1.0.0 is there", q.proven("1.0.0"))
	q.await("nothing differs", func(status string) bool { return strings.Contains(status, `"aligned"`) })
	var secret struct{ Data map[string][]byte }
	var hours struct{ Data map[string]string }
	for name, into := range map[string]any{"secrets/web-key": &secret, "configmaps/web-hours": &hours} {
		if err := q.site.connection.read(t.Context(), "/api/v1/namespaces/"+q.namespace+"/"+name, into); err != nil {
			t.Fatal(err)
		}
	}
	if string(secret.Data["token"]) != "open-sesame" || hours.Data["place"] != "quay" || hours.Data["script"] != "echo ${HOME}" {
		t.Errorf("it put there %q and %q", secret.Data, hours.Data)
	}
	if status, _ := q.shell("status", "--json"); strings.Contains(status, "open-sesame") {
		t.Error("the status tells a secret")
	}

	q.edit("fares:1.0.0", "fares:1.2.0") // it answers with errors
	q.told("back to 1.0.0")
	if out, _ := q.shell("ledger", "fares/quay"); !strings.Contains(out, "at most 5 % is allowed (in ") {
		t.Errorf("the ledger does not say why 1.2.0 went back: %s", out)
	}
	q.told("rolled back")
	q.await("1.0.0 is back", q.proven("1.0.0"))
	if images := q.made(); !slices.Equal(images, []string{"1.0.0"}) {
		t.Errorf("there runs %v", images)
	}
	q.edit("fares:1.2.0", "fares:9.9.9")
	q.stop(syscall.SIGTERM)
	q.settings("skip: true")
	q.serve()
	q.told("cannot pull its image: " + clustertest.Registry + "/fares:9.9.9: not found")
	q.await("1.0.0 is back", q.proven("1.0.0"))

	q.edit("fares:9.9.9", "fares:1.1.0")
	q.told("1.1.0 (") // it is taken
	q.stop(syscall.SIGKILL)
	q.serve()
	q.await("1.1.0 is proven", q.proven("1.1.0"))
	if images := q.made(); !slices.Equal(images, []string{"1.1.0"}) {
		t.Errorf("there runs %v", images)
	}

	for _, change := range []struct{ what, patch, told string }{
		{"instances", `{"spec":{"replicas":2}}`, "spec/replicas of Deployment/web 3 → 2, set by somebody at "},
		{"a variable", `{"spec":{"template":{"spec":{"containers":[{"name":"web","env":[{"name":"PORT","value":"9"}]}]}}}}`, "spec/template/spec/containers/0/env/0/value of Deployment/web 8080 → 9, set by somebody"},
	} {
		if _, err := q.site.connection.client.Resource(deployments.GroupVersionResource).Namespace(q.namespace).Patch(t.Context(), "web", types.StrategicMergePatchType, []byte(change.patch), metav1.PatchOptions{FieldManager: "somebody"}); err != nil {
			t.Fatal(err)
		}
		q.told(change.told)
		if out, err := q.shell("sync", "fares/quay"); err != nil {
			t.Fatal(out, err)
		}
		q.await(change.what+" is put back", func(status string) bool { return strings.Contains(status, `"aligned"`) && q.proven("1.1.0")(status) })
	}
	if _, err := q.site.connection.client.Resource(secrets.GroupVersionResource).Namespace(q.namespace).Patch(t.Context(), "web-key", types.MergePatchType, []byte(`{"data":{"token":"c3dhcHBlZA=="},"metadata":{"annotations":{"skerry.example/noted":"open-sesame"}}}`), metav1.PatchOptions{FieldManager: "somebody"}); err != nil {
		t.Fatal(err)
	}
	q.told("stringData/token of Secret/web-key")
	if out, err := q.shell("sync", "fares/quay"); err != nil {
		t.Fatal(out, err)
	}
	q.await("the secret is put back", func(status string) bool { return strings.Contains(status, `"aligned"`) && q.proven("1.1.0")(status) })
	if err := q.site.connection.read(t.Context(), "/api/v1/namespaces/"+q.namespace+"/secrets/web-key", &secret); err != nil || string(secret.Data["token"]) != "open-sesame" {
		t.Errorf("the secret is %q, %v", secret.Data, err)
	}
	q.site.Line = "Skerry Line" // only that one's is shown
	if sheet, err := q.site.Sheet(t.Context(), "fares", "v1 Secret web-key"); err != nil || strings.Contains(sheet.Live, "sesame") || !strings.Contains(sheet.Live, "token: not shown") {
		t.Errorf("the page of a Secret: %v\n%s", err, sheet.Live)
	}
	// What others add beside ours is theirs.
	if _, err := q.site.connection.client.Resource(deployments.GroupVersionResource).Namespace(q.namespace).Patch(t.Context(), "web", types.MergePatchType, []byte(`{"metadata":{"annotations":{"skerry.example/seen":"yes"}}}`), metav1.PatchOptions{FieldManager: "somebody"}); err != nil {
		t.Fatal(err)
	}
	var sheet status.Sheet
	q.await("who else looks after fields, and what its pods use, is told", func(string) bool {
		var err error
		sheet, err = q.site.Sheet(t.Context(), "fares", "apps/v1 Deployment web")
		return err == nil && sheet.Memory > 0 && strings.Contains(fmt.Sprint(sheet.Others), "metadata.annotations.skerry.example/seen")
	})
	if held := fmt.Sprint(sheet.Others); !strings.Contains(held, "somebody") {
		t.Errorf("who looks after fields: %s", held)
	}

	q.edit("selector: {matchLabels: {app: web}}", "selector: {matchLabels: {app: web, tier: front}}")
	q.edit("metadata: {labels: {app: web}}\n    spec", "metadata: {labels: {app: web, tier: front}}\n    spec")
	q.await("it is told that the selector cannot be changed", func(status string) bool {
		return strings.Contains(status, "field is immutable") && strings.Contains(status, "aditus/replace") && strings.Contains(status, "Deployment/web (deploy/manifests/web.yaml:")
	})
	q.stop(syscall.SIGTERM)
	q.serve()
	q.await("and where that stands, also after a start", func(status string) bool {
		return strings.Contains(status, "Deployment/web (deploy/manifests/web.yaml:")
	})
	q.edit("app: web, tier: front}}\n  template", "app: web}}\n  template")
	q.edit("metadata: {labels: {app: web, tier: front}}\n    spec", "metadata: {labels: {app: web}}\n    spec")

	q.edit("apiVersion: v1\nkind: ConfigMap\nmetadata: {name: web-old}\ndata: {a: \"1\"}\n---\n", "")
	q.await("what is declared no longer is an orphan", func(status string) bool {
		return strings.Contains(status, `"orphan"`) && strings.Contains(status, "ConfigMap~1web-old") && q.proven("1.1.0")(status)
	})
	if out, err := q.shell("sync", "fares/quay", "--remove-orphans"); err != nil {
		t.Fatal(out, err)
	}
	q.told("removes ConfigMap/web-old")
	q.await("it is gone", func(status string) bool { return !strings.Contains(status, "web-old") })
	if err := q.site.connection.read(t.Context(), "/api/v1/namespaces/"+q.namespace+"/configmaps/web-old", &json.RawMessage{}); err == nil {
		t.Error("the orphan is there still")
	}
}

const atWork = `apiVersion: apps/v1
kind: Deployment
metadata: {name: buoys, labels: {app: buoys}}
spec:
  replicas: 2
  selector: {matchLabels: {app: buoys}}
  template:
    metadata: {labels: {app: buoys}}
    spec: {containers: [{name: buoys, image: "%s/fares:1.0.0", env: [{name: PORT, value: "8080"}, {name: PORT_HTTP, value: "8080"}], ports: [{name: http, containerPort: 8080}]}]}
---
apiVersion: v1
kind: Service
metadata: {name: buoys, labels: {app: buoys}}
spec: {selector: {app: buoys}, ports: [{name: http, port: 80, targetPort: http}]}
---
apiVersion: v1
kind: ConfigMap
metadata: {name: buoys-lamps, labels: {app: buoys}}
data: {red: "1"}
`

// TestRealTakeOver takes over what runs in a namespace of a real cluster already, by the shell alone: what is offered is merged and synced, and
// the same objects, replica sets, pods and containers are there, none started anew.
func TestRealTakeOver(t *testing.T) {
	t.Parallel()
	q := openQuay(t)
	q.patience = 40 * time.Second
	settings := filepath.Join(q.folder, "settings.yaml")
	text, err := os.ReadFile(settings)
	if err != nil {
		t.Fatal(err)
	}
	q.write(settings, strings.NewReplacer("every: 1s", "every: 1s, push: true", "automatic: true", "automatic: false").Replace(string(text)))
	for document := range strings.SplitSeq(fmt.Sprintf(atWork, clustertest.Registry), "---\n") {
		var o unstructured.Unstructured
		if err := yaml.Unmarshal([]byte(document), &o.Object); err != nil {
			t.Fatal(err)
		}
		if _, err := q.site.connection.of(kindOf(o.GetKind())).Namespace(q.namespace).Create(t.Context(), &o, metav1.CreateOptions{FieldManager: "somebody"}); err != nil {
			t.Fatal(err)
		}
	}
	identities := func() (told []string) {
		for _, path := range []string{"/apis/apps/v1/namespaces/%s/deployments", "/apis/apps/v1/namespaces/%s/replicasets", "/api/v1/namespaces/%s/pods", "/api/v1/namespaces/%s/services", "/api/v1/namespaces/%s/configmaps"} {
			var all struct {
				Items []struct {
					Metadata struct{ Name, UID string }
					Status   struct {
						Phase             string
						ContainerStatuses []struct{ ContainerID string }
					}
				}
			}
			if err := q.site.connection.read(t.Context(), fmt.Sprintf(path, q.namespace), &all); err != nil {
				t.Fatal(err)
			}
			for _, one := range all.Items {
				if strings.HasPrefix(one.Metadata.Name, "buoys") {
					told = append(told, fmt.Sprint(one.Metadata, one.Status))
				}
			}
		}
		slices.Sort(told)
		return told
	}
	q.serve()
	q.await("two pods run", func(string) bool { return strings.Count(strings.Join(identities(), " "), "Running") == 2 })
	before := identities()
	out, err := q.shell("take-over", "quay")
	if err != nil || !strings.Contains(out, "Deployment/buoys") || !strings.Contains(out, "ConfigMap/buoys-lamps") || strings.Contains(out, "kube-root") {
		t.Fatalf("found is %s (%v)", out, err)
	}
	out, err = q.shell("take-over", "quay", "Deployment/buoys", "Service/buoys", "ConfigMap/buoys-lamps", "--as", "buoys", "-o", "json")
	var offered struct{ Branch string }
	if err != nil || json.Unmarshal([]byte(out), &offered) != nil {
		t.Fatal(out, err)
	}
	q.git("checkout", "-q", offered.Branch)
	declaration := filepath.Join(q.source, "deploy", "buoys.yaml")
	text, err = os.ReadFile(declaration)
	if err != nil {
		t.Fatal(err)
	}
	q.write(declaration, string(text)+"rollout: {deadline: 40s, proving: 2s, interval: 1s, cool-down: 1s}\n")
	q.git("commit", "-q", "-a", "-m", "prove it soon")
	q.git("checkout", "-q", "main")
	q.git("merge", "-q", offered.Branch)
	q.await("it is declared", func(status string) bool { return strings.Contains(status, `"workload": "buoys"`) })
	q.await("what would be done is told", func(string) bool {
		out, _ = q.shell("compare", "buoys/quay")
		return strings.Count(out, "taken over as it is") == 3 && strings.Contains(out, "what is declared is there already (3 found), and nobody's")
	})
	if strings.Contains(out, "taking it over changes") || strings.Contains(out, "would make") {
		t.Errorf("the comparison says %s", out)
	}
	if out, err := q.shell("sync", "buoys/quay"); err != nil {
		t.Fatal(out, err)
	}
	if after := identities(); !slices.Equal(after, before) {
		t.Errorf("before there were\n%s\nafter\n%s", strings.Join(before, "\n"), strings.Join(after, "\n"))
	}
	if out, err := q.shell("take-over", "quay"); err != nil || strings.Contains(out, "buoys") {
		t.Errorf("after that there are still %s (%v)", out, err)
	}
	if out, err := q.shell("let-go", "buoys/quay", "-m", "it goes its own way"); err != nil {
		t.Fatal(out, err)
	}
	q.await("it is let go", func(string) bool {
		out, _ := q.shell("take-over", "quay")
		return strings.Contains(out, "Deployment/buoys") && strings.Contains(out, "ConfigMap/buoys-lamps")
	})
	q.await("it is told", func(string) bool {
		out, _ := q.shell("status")
		return strings.Contains(out, "let go ") && strings.Contains(out, "it goes its own way")
	})
	if after := identities(); !slices.Equal(after, before) {
		t.Errorf("letting go changed\n%s\nto\n%s", strings.Join(before, "\n"), strings.Join(after, "\n"))
	}
}
