package cluster

import (
	"aditus/internal/config"
	"aditus/internal/core/declare"
	"context"
	"flag"
	"os"
	"testing"
	"time"

	"sigs.k8s.io/yaml"

	"k8s.io/client-go/rest"

	"aditus/internal/target"
	"aditus/internal/target/cluster/clustertest"
	"aditus/internal/target/targettest"
)

const shore = "/apis/gateway.networking.k8s.io/v1/namespaces/gateways/gateways/shore"

// standIn opens a site on a stand-in of an API server.
func standIn(t *testing.T) (*clustertest.API, *Site) {
	t.Helper()
	api := clustertest.Serve()
	t.Cleanup(api.Close)
	api.Put(shore, "spec: {}")
	return api, openSite(t, configOf(api), "trial")
}

func configOf(api *clustertest.API) *rest.Config {
	return &rest.Config{Host: api.URL, QPS: 1000, Burst: 1000}
}

// openSite opens a namespace as a site, until the test ends.
func openSite(t *testing.T, config *rest.Config, namespace string) *Site {
	t.Helper()
	c, err := Connect(config, "test")
	if err != nil {
		t.Fatal(err)
	}
	site := c.Open(Options{Name: "north", Namespace: namespace})
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	go c.Run(ctx)
	return site
}

func TestConformance(t *testing.T) {
	targettest.Run(t, func(t *testing.T) target.Driver {
		api, site := standIn(t)
		api.Pod = func(pod clustertest.Object) {
			container := pod["spec"].(clustertest.Object)["containers"].([]any)[0].(clustertest.Object)
			if container["image"] == "r.example/gone:1" {
				pod["status"] = clustertest.Object{"phase": "Pending", "containerStatuses": []any{clustertest.Object{
					"name": "main", "image": container["image"], "state": clustertest.Object{"waiting": clustertest.Object{"reason": "ErrImagePull", "message": "r.example/gone:1: not found"}},
				}}}
			}
		}
		return site
	}, targettest.Options{Artifact: func(version int) string { return "r.example/web:" + string(rune('0'+version)) }, Missing: "r.example/gone:1", Settles: 20 * time.Second})
}

var update = flag.Bool("update", false, "write the golden files anew")

// TestObjects holds what parts become against golden files.
func TestObjects(t *testing.T) {
	desired := fares("8.1.4")
	web := desired.Parts["web"]
	user := 1234
	web.Resources, web.User, web.Command = &declare.Resources{Requests: declare.Amounts{CPU: 0.25, Memory: 64 << 20}, Limits: declare.Amounts{CPU: 2, Memory: 300e6}}, &user, []string{"/fares", "--port=$PORT", "--cost=5$$", "${LINE}"}
	web.Environment = map[string]string{"LINE": "skerry", "OPENS_AT": "07:00", "RAW": "$(no)"}
	web.Probes = map[string]declare.Probe{
		"ready": {HTTP: &declare.Endpoint{Port: "http", Path: "/ready"}, Every: declare.Span{Duration: 1500 * time.Millisecond}, Timeout: declare.Span{Duration: time.Second}, Passes: 1, Fails: 3},
		"alive": {GRPC: &declare.Endpoint{Port: "http", Path: "fares"}, Tells: declare.TellsAlive, Every: declare.Span{Duration: 5 * time.Second}, Timeout: declare.Span{Duration: time.Second}, Fails: 2, Grace: declare.Span{Duration: 12 * time.Second}},
	}
	web.Stop = &declare.Stop{Drain: declare.Span{Duration: 20 * time.Second}, Signal: "INT", Within: declare.Span{Duration: 7 * time.Second}}
	desired.Parts["web"] = web
	root := 0
	desired.Parts["store"] = declare.Part{Kind: declare.Service, Artifact: "r.example/store@sha256:0011", Instances: 1, Volumes: map[string]string{"readings": "var/readings"}, User: &root}
	desired.Parts["readings"] = declare.Part{Kind: declare.Volume, Size: 10 << 30}
	desired.Parts["tables"] = declare.Part{Kind: declare.Task, Artifact: "r.example/tables:7"}
	desired.Parts["key"] = declare.Part{Kind: declare.Secret, Sealed: map[string]string{"reader.key": "sealed"}, Values: map[string]string{"reader.key": "secret 0011"}}
	desired.Parts["front"] = declare.Part{
		Kind: declare.Service, Artifact: "r.example/front:3", Instances: 2, Ports: map[string]int{"http": 8080}, Environment: map[string]string{"LEVEL": "debug"},
		Template: declare.Object{
			"metadata": map[string]any{"labels": map[string]any{"app": "front"}, "annotations": map[string]any{"skerry.example/scrape": "yes"}},
			"spec": map[string]any{"serviceAccountName": "front", "terminationGracePeriodSeconds": 60.0, "volumes": []any{map[string]any{"name": "cache", "emptyDir": map[string]any{}}}, "containers": []any{
				map[string]any{"name": "proxy", "image": "r.example/proxy:2"},
				map[string]any{"name": "main", "args": []any{"serve"}, "volumeMounts": []any{map[string]any{"name": "cache", "mountPath": "/cache"}}, "readinessProbe": map[string]any{"httpGet": map[string]any{"path": "/ready", "port": "http"}}, "env": []any{map[string]any{"name": "HOST", "valueFrom": map[string]any{"fieldRef": map[string]any{"fieldPath": "status.hostIP"}}}}},
			}},
		},
	}
	desired.Parts["manifests"] = manifest(gate).Parts["all"]
	made, err := objects(config.Site{Name: "north", Target: config.Target{Kind: "cluster", Namespace: "shore-north", Gateway: "gateways/shore/https", Pull: []string{"registry-access"}}}, desired)
	if err != nil {
		t.Fatal(err)
	}
	var got []byte
	for _, o := range made {
		text, err := yaml.Marshal(o)
		if err != nil {
			t.Fatal(err)
		}
		got = append(append(got, "---\n"...), text...)
	}
	if *update {
		if err := os.WriteFile("testdata/objects.yaml", got, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile("testdata/objects.yaml")
	if err != nil || string(got) != string(want) {
		t.Errorf("the objects are others now; -update writes them anew and git shows how they differ (%v)", err)
	}
	desired.Parts["texts"] = declare.Part{Kind: declare.Settings, Values: map[string]string{"a/b": "c"}}
	if _, err := objects(config.Site{}, desired); err == nil || err.Error() != `the key "a/b" of texts cannot stand in a cluster: name it with letters, digits, dots, hyphens and underscores` {
		t.Errorf("a key that no ConfigMap takes: %v", err)
	}
}
