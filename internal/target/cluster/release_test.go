package cluster

import (
	"bytes"
	"cmp"
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
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"k8s.io/apimachinery/pkg/types"

	"aditus/internal/core/declare"
	"aditus/internal/probe"
	"aditus/internal/target/cluster/clustertest"

	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
)

// quay is a line of one's own with a namespace of a real cluster as its site: a repository, images, a server, and
// traffic through a gateway that is counted.
type quay struct {
	t          *testing.T
	program    string
	folder     string // the data folder
	source     string // the repository
	namespace  string
	workload   string
	kubeconfig string // of an account that may do there what is needed, and nothing else
	site       *Site
	server     *exec.Cmd
	log        bytes.Buffer
	patience   time.Duration // how long something that is waited for may take; 0 for a usual time

	sent, lost, failed atomic.Int64
	steady             atomic.Bool // no request may be lost any more
}

const quayWorkload = `aditus: 1
workload: fares
sites: [quay]
parts:
  app:
    kind: service
    artifact: %s/fares:1.0.0
    instances: 4
    environment: {SEASON: summer}
    ports: {http: 8080}
    probes: {ready: {http: {port: http, path: /ready}, every: 1s, grace: 20s}}
    metrics: {port: http, requests: http_requests_total}
    resources: {requests: {cpu: 0.01, memory: 16 MiB}, limits: {memory: 128 MiB}}
    stop: {drain: 2s, within: 5s}
  hours: {kind: settings, values: {opens.at: "06:30"}}
  entry: {kind: route, host: fares.example, preview: trial-fares.example, to: {service: app, port: http}}
rollout: {style: canary, stages: [{share: 25 %%, soak: 4s}, {share: 100 %%, soak: 2s}], control: 0 %%, deadline: 40s, proving: 3s, interval: 1s, cool-down: 1s}
guards:
  - name: errors
    signal: {ratio: {of: {counter: http_requests_total, where: {code: "5*"}}, to: {counter: http_requests_total}}}
    limit: {at-most: 5 %%}
    breach: {intervals: 2, of: 3, samples: 20}
`

func openQuay(t *testing.T) *quay {
	config := realCluster(t)
	q := &quay{t: t, program: filepath.Join(filepath.Dir(clustertest.Kubeconfig(t)), "bin", "aditus"), namespace: namespace(t), workload: "fares"}
	folder, err := os.MkdirTemp("", "aditus")
	if err != nil {
		t.Fatal(err)
	}
	q.folder, q.source = filepath.Join(folder, "d"), filepath.Join(folder, "source")
	for _, name := range []string{filepath.Join(q.source, "deploy"), q.folder} {
		if err := os.MkdirAll(name, 0o700); err != nil {
			t.Fatal(err)
		}
	}
	q.kubeconfig = account(t, config, q.namespace)
	q.settings("plain: true")
	q.write(filepath.Join(q.source, "deploy", "fares.yaml"), fmt.Sprintf(quayWorkload, clustertest.Registry))
	q.git("init", "-q")
	q.git("add", "-A")
	q.git("commit", "-q", "-m", "fares 1.0.0")
	for version, behaviour := range map[string]string{"1.0.0": "{}", "1.1.0": "{}", "1.2.0": "errors: 0.4", "1.3.0": "{}"} {
		image, err := clustertest.Service(q.program, []byte(behaviour))
		if err == nil {
			err = clustertest.Push(clustertest.Registry+"/fares:"+version, image)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	q.site = openSite(t, config, q.namespace)
	t.Cleanup(func() {
		q.stop(syscall.SIGTERM)
		if t.Failed() {
			t.Logf("server:\n%s", q.log.String())
			status, _ := exec.Command(q.program, "status", "--data", q.folder).CombinedOutput()
			told, _ := exec.Command(q.program, "ledger", "--data", q.folder).CombinedOutput()
			t.Logf("%s\n%s", status, told)
		}
		q.site.connection.ask(context.Background(), http.MethodDelete, "/api/v1/namespaces/"+q.namespace, nil, nil)
		os.RemoveAll(folder)
	})
	return q
}

func (q *quay) write(file, text string) {
	q.t.Helper()
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		q.t.Fatal(err)
	}
}

func (q *quay) git(args ...string) {
	q.t.Helper()
	cmd := exec.Command("git", append([]string{"-C", q.source, "-c", "user.name=Maren Oake", "-c", "user.email=maren@skerry.example", "-c", "init.defaultBranch=main"}, args...)...)
	if out, err := cmd.CombinedOutput(); err != nil {
		q.t.Fatalf("git %v: %v\n%s", args, err, out)
	}
}

// release commits that the workload is at a version.
func (q *quay) release(from, to string) {
	q.t.Helper()
	q.change("/fares:"+from, "/fares:"+to)
}

func (q *quay) change(from, to string) {
	q.t.Helper()
	name := filepath.Join(q.source, "deploy", "fares.yaml")
	text, err := os.ReadFile(name)
	if err != nil || !strings.Contains(string(text), from) {
		q.t.Fatal(from, err)
	}
	q.write(name, strings.Replace(string(text), from, to, 1))
	q.git("commit", "-q", "-a", "-m", to)
}

func (q *quay) serve() {
	q.t.Helper()
	q.server = exec.Command(q.program, "serve", "--log-text", "--data", q.folder)
	q.server.Stderr = &q.log
	if err := q.server.Start(); err != nil {
		q.t.Fatal(err)
	}
}

func (q *quay) stop(how os.Signal) {
	if q.server != nil {
		q.server.Process.Signal(how)
		q.server.Wait()
		q.server = nil
	}
}

// shell runs the program, and gives what it says.
func (q *quay) shell(args ...string) (string, error) {
	out, err := exec.Command(q.program, append(args, "--data", q.folder)...).CombinedOutput()
	return string(out), err
}

// await waits until the status says so.
func (q *quay) await(what string, is func(status string) bool) {
	q.t.Helper()
	var last string
	for end := time.Now().Add(cmp.Or(q.patience, 150*time.Second)); ; time.Sleep(100 * time.Millisecond) {
		if out, err := q.shell("status", "--json"); err == nil {
			if last = out; is(out) {
				return
			}
		}
		if time.Now().After(end) {
			q.t.Fatalf("it does not come to this: %s: %s", what, last)
		}
	}
}

// load sends requests through the gateway until the test ends.
func (q *quay) load(ctx context.Context) *sync.WaitGroup {
	group := &sync.WaitGroup{}
	client := &http.Client{Timeout: 20 * time.Second}
	for range 4 {
		group.Go(func() {
			for ctx.Err() == nil {
				request, _ := http.NewRequest(http.MethodGet, "http://"+clustertest.Gateway+"/crossing", nil)
				request.Host = "fares.example"
				response, err := client.Do(request)
				q.sent.Add(1)
				status := 0
				if err == nil {
					_, err = io.Copy(io.Discard, response.Body)
					response.Body.Close()
					status = response.StatusCode
				}
				switch {
				case err == nil && status == http.StatusOK:
				case err == nil && status == http.StatusInternalServerError:
					q.failed.Add(1)
				case q.steady.Load():
					q.lost.Add(1)
					q.t.Logf("%s: a request was lost: status %d, %v", time.Now().Format("15:04:05.000"), status, err)
				}
				time.Sleep(5 * time.Millisecond)
			}
		})
	}
	return group
}

// ended tells what became of the newest rollout, by the shell.
func (q *quay) proven(version string) func(string) bool {
	return func(status string) bool {
		var all struct {
			Berths []struct {
				Applied *struct{ Version string }
				Proven  bool
				Rollout *json.RawMessage
				Sync    string `json:"sync_status"`
				Health  struct{ Word string }
			}
		}
		if json.Unmarshal([]byte(status), &all) != nil || len(all.Berths) != 1 {
			return false
		}
		b := all.Berths[0]
		return b.Applied != nil && b.Applied.Version == version && b.Rollout == nil && b.Health.Word == "healthy"
	}
}

// told waits until the ledger has a text.
func (q *quay) told(text string) {
	q.t.Helper()
	var last string
	for end := time.Now().Add(cmp.Or(q.patience, 150*time.Second)); ; time.Sleep(100 * time.Millisecond) {
		if last, _ = q.shell("ledger", "fares/quay"); strings.Contains(last, text) {
			return
		}
		if time.Now().After(end) {
			status, _ := q.shell("status")
			q.t.Fatalf("the ledger does not come to tell %q:\n%s\n%s", text, last, status)
		}
	}
}

// names are the pods of the workload that are not ending.
func (q *quay) names() (names []string) {
	for _, pod := range list[*corev1.Pod](q.site.connection.mirror, pods, q.namespace, q.workload) {
		if pod.DeletionTimestamp == nil {
			names = append(names, pod.Name)
		}
	}
	return names
}

// settings writes the machine's settings, with a way to ask the registry.
func (q *quay) settings(registry string) {
	q.t.Helper()
	q.write(filepath.Join(q.folder, "settings.yaml"), fmt.Sprintf(`line: Skerry Line
beat: 200ms
registries: {"%s": {%s}}
links: [{name: quay, repository: %s, branch: main, folder: deploy, every: 1s}]
sites: [{name: quay, automatic: true, target: {kind: cluster, kubeconfig: %s, namespace: %s, gateway: gateways/shore}}]
`, clustertest.Registry, registry, q.source, q.kubeconfig, q.namespace))
}

// byHand changes what runs by hand, sees that it is told, and has it put back.
func (q *quay) byHand() {
	q.t.Helper()
	all := list[*unstructured.Unstructured](q.site.connection.mirror, deployments, q.namespace, "fares")
	if len(all) != 1 {
		q.t.Fatalf("there are %d Deployments", len(all))
	}
	for _, change := range []struct{ what, patch, told string }{
		{"the number of instances", `{"spec":{"replicas":2}}`, "app/instances 4 → 2"},
		{"a variable", `{"spec":{"template":{"spec":{"containers":[{"name":"main","env":[{"name":"SEASON","value":"winter"}]}]}}}}`, "app/environment/SEASON summer → winter"},
		{"what no declaration has a word for", `{"spec":{"template":{"spec":{"terminationGracePeriodSeconds":99}}}}`, "99, put there as 7"},
	} {
		_, err := q.site.connection.client.Resource(deployments.GroupVersionResource).Namespace(q.namespace).Patch(q.t.Context(), all[0].GetName(), types.StrategicMergePatchType, []byte(change.patch), metav1.PatchOptions{FieldManager: "somebody"})
		if err != nil {
			q.t.Fatal(err)
		}
		q.await(change.what+" is told", func(status string) bool { return strings.Contains(status, change.told) })
		if out, err := q.shell("sync", "fares/quay"); err != nil {
			q.t.Fatal(out, err)
		}
		q.await(change.what+" is put back", func(status string) bool {
			return strings.Contains(status, `"aligned"`) && q.proven("1.1.0")(status)
		})
	}
}

// recordGone deletes by hand what says of which revision the instances are, and has it written anew, restarting nothing.
func (q *quay) recordGone() {
	q.t.Helper()
	before := q.names()
	for _, o := range list[*unstructured.Unstructured](q.site.connection.mirror, configMaps, q.namespace, "fares") {
		if o.GetLabels()[labelRecord] != "" {
			if err := q.site.connection.remove(q.t.Context(), configMaps, o); err != nil {
				q.t.Fatal(err)
			}
		}
	}
	q.await("it is told that the record is gone", func(status string) bool { return strings.Contains(status, "that said of which revision is gone") })
	if out, err := q.shell("sync", "fares/quay"); err != nil {
		q.t.Fatal(out, err)
	}
	q.await("it is known again", q.proven("1.1.0"))
	if after := q.names(); !slices.Equal(before, after) {
		q.t.Errorf("pods were exchanged: %v, then %v", before, after)
	}
}

// TestRealRelease takes a workload through what a release engineer sees in a week, on a real cluster under load.
func TestRealRelease(t *testing.T) {
	t.Parallel()
	q := openQuay(t)
	if out, err := q.shell("link", "test"); err != nil || !strings.Contains(out, "the account may do in the namespace "+q.namespace+" what is needed") {
		t.Errorf("the trial: %s (%v)", out, err)
	}
	q.serve()
	ctx, stop := context.WithCancel(t.Context())
	group := q.load(ctx)
	defer func() { stop(); group.Wait() }()
	q.await("1.0.0 is there", q.proven("1.0.0"))
	q.steady.Store(true)

	q.release("1.0.0", "1.1.0")
	q.told("25 % of the traffic is on 1.1.0")
	q.stop(syscall.SIGKILL) // in the midst of it
	q.serve()
	q.await("1.1.0 is proven", q.proven("1.1.0"))

	q.await("old is gone", func(string) bool { return len(q.names()) == 4 })
	before := q.names()
	q.change("soak: 4s", "soak: 5s") // nothing that runs
	q.told("so it is only marked")
	if after := q.names(); !slices.Equal(before, after) {
		t.Errorf("what only changes on record exchanged pods: %v, then %v", before, after)
	}

	q.release("1.1.0", "1.2.0")
	q.told("rolled back")
	if out, _ := q.shell("ledger", "fares/quay"); !strings.Contains(out, "errors") {
		t.Errorf("the ledger does not say why 1.2.0 went back: %s", out)
	}
	q.await("1.1.0 is back", q.proven("1.1.0"))

	q.stop(syscall.SIGTERM)
	q.settings("skip: true") // whether an image is there only the node finds out now
	q.serve()
	q.release("1.2.0", "1.9.9")
	q.told("cannot pull its image: " + clustertest.Registry + "/fares:1.9.9: not found")
	q.await("1.1.0 is back", q.proven("1.1.0"))
	q.stop(syscall.SIGTERM)
	q.settings("plain: true")
	q.serve()

	q.change("style: canary, stages: [{share: 25 %, soak: 5s}, {share: 100 %, soak: 2s}], control: 0 %", "style: blue-green, try: {for: 2s}, keep: 1s")
	q.release("1.9.9", "1.3.0")
	q.await("1.3.0 is proven", q.proven("1.3.0"))
	q.change("style: blue-green, try: {for: 2s}, keep: 1s", "style: rolling, steady: 1s")
	q.release("1.3.0", "1.1.0")
	q.await("1.1.0 is proven again", q.proven("1.1.0"))

	q.byHand()
	q.recordGone()
	if n := q.lost.Load(); n > 0 {
		t.Errorf("%d of %d requests were lost", n, q.sent.Load())
	}
	t.Logf("%d requests, %d failed by the service", q.sent.Load(), q.failed.Load())
}

const quayStateful = `aditus: 1
workload: tides
sites: [quay]
parts:
  tables: {kind: task, artifact: "%[1]s/tides-task:1.0.0"}
  store:
    kind: service
    needs: [tables]
    artifact: %[1]s/fares:1.0.0
    instances: 1
    ports: {http: 8080}
    volumes: {readings: /var/readings}
    probes: {ready: {http: {port: http, path: /ready}, every: 1s, grace: 20s}, alive: {tcp: {port: http}, tells: alive, grace: 5s}}
    user: 1234
  front:
    kind: service
    needs: [store]
    artifact: %[1]s/fares:1.0.0
    instances: 2
    ports: {http: 8080}
    probes: {ready: {command: [/aditus, version], every: 1s, grace: 20s}}
  readings: {kind: volume, size: 64 MiB}
  entry: {kind: route, tcp: 7000, to: {service: front, port: http}}
rollout: {stages: [{share: 50 %%, soak: 1s}, {share: 100 %%}], deadline: 40s, proving: 2s, interval: 1s, cool-down: 1s}
`

// TestRealParts takes a workload through two rollouts that has what the other does not: a task, a volume with a service that
// keeps its state there, what the others need, connections, and no routes, so that instances are the split.
func TestRealParts(t *testing.T) {
	t.Parallel()
	q := openQuay(t)
	q.workload = "tides"
	q.git("mv", "deploy/fares.yaml", "deploy/tides.yaml")
	q.write(filepath.Join(q.source, "deploy", "tides.yaml"), fmt.Sprintf(quayStateful, clustertest.Registry))
	q.git("add", "-A")
	q.git("commit", "-q", "-m", "tides")
	image, err := clustertest.Service(q.program, []byte("takes: 300ms"))
	if err == nil {
		err = clustertest.Push(clustertest.Registry+"/tides-task:1.0.0", image)
	}
	if err != nil {
		t.Fatal(err)
	}
	q.site.connection.ask(t.Context(), http.MethodPost, "/api/v1/persistentvolumes", object{"metadata": object{"name": q.namespace}, "spec": object{
		"capacity": object{"storage": "1Gi"}, "accessModes": []any{"ReadWriteOnce"}, "hostPath": object{"path": t.TempDir()},
		"claimRef": object{"name": "tides-readings", "namespace": q.namespace},
	}}, nil)
	q.serve()
	q.await("1.0.0 is there", q.proven("1.0.0"))
	claim := func() types.UID { return q.site.connection.mirror.get(claims, q.namespace, "tides-readings").GetUID() }
	before := claim()
	name := filepath.Join(q.source, "deploy", "tides.yaml")
	text, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	q.write(name, strings.ReplaceAll(string(text), "/fares:1.0.0", "/fares:1.1.0"))
	q.git("commit", "-q", "-a", "-m", "tides 1.1.0")
	q.await("1.1.0 is there", q.proven("1.1.0"))
	if claim() != before {
		t.Error("the volume did not survive the release")
	}
	if all := list[*unstructured.Unstructured](q.site.connection.mirror, statefulSets, q.namespace, "tides"); len(all) != 1 {
		t.Errorf("%d StatefulSets are left", len(all))
	}
	out, err := q.shell("log", "tides/quay", q.names()[0])
	if err != nil || !strings.Contains(out, "listens on port") {
		t.Errorf("the log: %s (%v)", out, err)
	}
	pod := q.names()[0]
	if reason, err := q.site.Exec(t.Context(), "tides", pod, []string{"/aditus", "version"}); reason != "" || err != nil {
		t.Errorf("a command in an instance: %q (%v)", reason, err)
	}
	if reason, err := q.site.Exec(t.Context(), "tides", pod, []string{"/aditus", "moor"}); !strings.HasPrefix(reason, "/aditus ended with status 2: ") || err != nil {
		t.Errorf("a command that fails: %q (%v)", reason, err)
	}
	through := probe.New().Through(proxied{q.site.connection, q.namespace, pod})
	for path, want := range map[string]string{"/ready": "", "/metrics": ""} {
		if got := through.Ask(t.Context(), "10.0.0.1", map[string]int{"http": 8080}, declare.Probe{HTTP: &declare.Endpoint{Port: "http", Path: path}, Timeout: declare.Span{Duration: 10 * time.Second}}); got != want {
			t.Errorf("%s through the API's proxy: %q", path, got)
		}
	}
	if err := q.site.connection.remove(t.Context(), deployments, list[*unstructured.Unstructured](q.site.connection.mirror, deployments, q.namespace, "tides")[0]); err != nil {
		t.Fatal(err)
	}
	q.await("what was deleted by hand is told", func(status string) bool { return strings.Contains(status, `"drifted"`) })
	if out, err := q.shell("sync", "tides/quay"); err != nil {
		t.Fatal(out, err)
	}
	q.await("it is back", q.proven("1.1.0"))
}
