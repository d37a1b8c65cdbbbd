package cluster

import (
	"context"
	"testing"
	"time"

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
