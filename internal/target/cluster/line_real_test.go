package cluster

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"google.golang.org/grpc"
	"google.golang.org/grpc/credentials/insecure"
	"google.golang.org/grpc/health/grpc_health_v1"
	"google.golang.org/grpc/metadata"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/types"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"

	"aditus/internal/core/guard"
	"aditus/internal/target/cluster/clustertest"
)

const callsWorkload = `aditus: 1
workload: fares
sites: [quay, north]
leave: [/parts/app/instances]
parts:
  app:
    kind: service
    artifact: %s/fares:1.0.0
    instances: 2
    ports: {rpc: 8080}
    probes: {ready: {http: {port: rpc, path: /ready}, every: 1s, grace: 20s}}
    metrics: {port: rpc, requests: http_requests_total}
    resources: {requests: {cpu: 0.01, memory: 16 MiB}, limits: {memory: 128 MiB}}
    stop: {drain: 2s, within: 5s}
  entry: {kind: route, protocol: grpc, host: "${place}", preview: {header: X-Crew, value: trial}, to: {service: app, port: rpc}}
rollout: {style: blue-green, try: {for: 4s}, keep: 1s, deadline: 40s, proving: 3s, interval: 1s, cool-down: 1s}
guards:
  - name: errors
    signal: {ratio: {of: {counter: http_requests_total, where: {code: "5*"}}, to: {counter: http_requests_total}}}
    limit: {at-most: 5 %%}
    breach: {intervals: 2, of: 3, samples: 20}
    standing: roll back
`

// call calls a host through the gateway, and gives the instance that answered.
func call(ctx context.Context, conn *grpc.ClientConn, header ...string) (instance string, err error) {
	ctx, cancel := context.WithTimeout(metadata.AppendToOutgoingContext(ctx, header...), 10*time.Second)
	defer cancel()
	var told metadata.MD
	_, err = grpc_health_v1.NewHealthClient(conn).Check(ctx, &grpc_health_v1.HealthCheckRequest{}, grpc.Header(&told))
	return strings.Join(told.Get("instance"), ""), err
}

// TestRealLine takes calls of gRPC over two sites of a line: the second comes after the first has proven a revision, a set is
// tried by a header before it has traffic, a scaler's number of instances stays, and what goes bad long after its proof is
// rolled back by its standing guard.
func TestRealLine(t *testing.T) {
	t.Parallel()
	q := openQuay(t)
	north := q.namespace + "-n"
	other := account(t, realCluster(t), north)
	t.Cleanup(func() { q.site.connection.ask(context.Background(), "DELETE", "/api/v1/namespaces/"+north, nil, nil) })
	image, err := clustertest.Service(q.program, []byte("faults: [{kind: errors, after: 35s, amount: 0.6}]"))
	if err == nil {
		err = clustertest.Push(clustertest.Registry+"/fares:1.4.0", image)
	}
	if err != nil {
		t.Fatal(err)
	}
	host := func(site string) string { return "calls-" + site + "." + q.namespace + ".example" }
	q.write(filepath.Join(q.folder, "settings.yaml"), fmt.Sprintf(`line: Skerry Line
beat: 200ms
registries: {"%s": {plain: true}}
links: [{name: quay, repository: %s, branch: main, folder: deploy, every: 1s}]
sites:
  - {name: quay, automatic: true, target: {kind: cluster, kubeconfig: %s, namespace: %s, gateway: gateways/shore}}
  - {name: north, automatic: true, after: quay, target: {kind: cluster, kubeconfig: %s, namespace: %s, gateway: gateways/shore}}
`, clustertest.Registry, q.source, q.kubeconfig, q.namespace, other, north))
	q.write(filepath.Join(q.source, "deploy", "variables.yaml"), fmt.Sprintf("aditus: 1\nsites: {quay: {place: %s}, north: {place: %s}}\n", host("quay"), host("north")))
	q.write(filepath.Join(q.source, "deploy", "fares.yaml"), fmt.Sprintf(callsWorkload, clustertest.Registry))
	q.git("add", "-A")
	q.git("commit", "-q", "-m", "calls 1.0.0")
	q.serve()
	at := func(site, version string) func(string) bool {
		return func(status string) bool {
			var all struct {
				Berths []struct {
					Site    string
					Applied *struct{ Version string }
					Rollout *json.RawMessage
					Health  struct{ Word string }
				}
			}
			if json.Unmarshal([]byte(status), &all) != nil {
				return false
			}
			for _, b := range all.Berths {
				if b.Site == site {
					return b.Applied != nil && b.Applied.Version == version && b.Rollout == nil && b.Health.Word == "healthy"
				}
			}
			return false
		}
	}
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	conns := map[string]*grpc.ClientConn{}
	for _, site := range []string{"quay", "north"} {
		conn, err := grpc.NewClient("passthrough:///"+clustertest.Gateway, grpc.WithTransportCredentials(insecure.NewCredentials()), grpc.WithAuthority(host(site)))
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		conns[site] = conn
		go func() {
			for ctx.Err() == nil {
				q.sent.Add(1)
				if _, err := call(ctx, conn); err != nil && ctx.Err() == nil && q.steady.Load() {
					q.lost.Add(1)
					t.Logf("a call at %s was lost: %v", site, err)
				}
				time.Sleep(3 * time.Millisecond)
			}
		}()
	}
	q.await("1.0.0 is at quay", at("quay", "1.0.0"))
	q.await("1.0.0 is at north", at("north", "1.0.0"))
	q.steady.Store(true)

	all := list[*unstructured.Unstructured](q.site.connection.mirror, deployments, q.namespace, "fares")
	if len(all) != 1 {
		t.Fatalf("there are %d Deployments", len(all))
	}
	if _, err := q.site.connection.client.Resource(deployments.GroupVersionResource).Namespace(q.namespace).Patch(t.Context(), all[0].GetName(), types.MergePatchType, []byte(`{"spec":{"replicas":3}}`), metav1.PatchOptions{FieldManager: "scaler"}); err != nil {
		t.Fatal(err)
	}
	q.await("the scaler's instances are there, and nobody's difference", func(status string) bool {
		return len(q.names()) == 3 && !strings.Contains(status, `"drifted"`) && at("quay", "1.0.0")(status)
	})

	before := map[string]bool{}
	for _, name := range q.names() {
		before[name] = true
	}
	q.release("1.0.0", "1.1.0")
	q.await("the set is tried by its header, while north waits for the proof", func(status string) bool {
		if !at("north", "1.0.0")(status) {
			t.Fatal("north did not wait: ", status)
		}
		tried, err := call(ctx, conns["quay"], "X-Crew", "trial")
		return err == nil && tried != "" && !before[tried]
	})
	if usual, err := call(ctx, conns["quay"]); err != nil || !before[usual] {
		t.Errorf("without the header %s answers (%v)", usual, err)
	}
	q.await("1.1.0 is proven at quay", at("quay", "1.1.0"))
	q.await("old is gone, and the scaler's number is kept", func(string) bool {
		names := q.names()
		return len(names) == 3 && !before[names[0]]
	})
	q.await("1.1.0 is proven at north", at("north", "1.1.0"))

	if n := q.lost.Load(); n > 0 {
		t.Errorf("%d of %d calls were lost", n, q.sent.Load())
	}
	t.Logf("%d calls", q.sent.Load())
	if os.Getenv("ADITUS_LONG") == "" {
		return // a standing guard looks at what it has no control for, for five minutes at least
	}
	q.steady.Store(false)
	q.patience = guard.LeastStanding + time.Minute
	q.release("1.1.0", "1.4.0")
	q.await("1.4.0 is proven at quay", at("quay", "1.4.0"))
	q.told("a standing guard breaches: ")
	q.await("1.1.0 is back", at("quay", "1.1.0"))
}
