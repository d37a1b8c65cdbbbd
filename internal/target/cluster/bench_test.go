package cluster

import (
	"context"
	"fmt"
	"testing"
	"time"

	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/target"
	"aditus/internal/target/cluster/clustertest"

	"k8s.io/client-go/rest"
)

// many is a workload whose parts become some 200 objects.
func many() declare.Desired {
	d := declare.Desired{Format: 1, Workload: "fares", Parts: map[string]declare.Part{}}
	for i := range 95 {
		name := fmt.Sprintf("p%02d", i)
		d.Parts[name] = declare.Part{Kind: declare.Service, Artifact: "r.example/" + name + ":1", Instances: 1, Ports: map[string]int{"http": 8080}, Environment: map[string]string{"A": "1", "B": "2"}}
	}
	for i := range 9 {
		d.Parts[fmt.Sprintf("s%d", i)] = declare.Part{Kind: declare.Settings, Values: map[string]string{fmt.Sprintf("a%d", i): "b"}}
	}
	return d
}

func benchSite(b *testing.B, qps float32) (*clustertest.API, *Site) {
	api := clustertest.Serve()
	b.Cleanup(api.Close)
	api.Put(shore, "spec: {}")
	c, err := Connect(&rest.Config{Host: api.URL, QPS: qps, Burst: requestsAtOnce}, "bench")
	if err != nil {
		b.Fatal(err)
	}
	site := c.Open(Options{Name: "north", Namespace: "trial"})
	ctx, cancel := context.WithCancel(context.Background())
	b.Cleanup(cancel)
	go c.Run(ctx)
	return api, site
}

// BenchmarkApply lays some 200 objects with the limits on requests that hold by default.
func BenchmarkApply(b *testing.B) {
	for b.Loop() {
		b.StopTimer()
		api, site := benchSite(b, requestsPerSecond)
		if _, err := site.Observe(b.Context(), "fares"); err != nil {
			b.Fatal(err)
		}
		b.StartTimer()
		if err := site.Apply(b.Context(), "fares", []target.Want{target.Prepare(one, many())}); err != nil {
			b.Fatal(err)
		}
		b.StopTimer()
		b.ReportMetric(float64(len(api.Paths("deployments"))+len(api.Paths("services"))+len(api.Paths("configmaps"))), "objects")
		b.StartTimer()
	}
}

// BenchmarkCompare sees some 200 objects and compares them with what is declared.
func BenchmarkCompare(b *testing.B) {
	_, site := benchSite(b, 10000)
	desired := many()
	if err := site.Apply(b.Context(), "fares", []target.Want{target.Prepare(one, desired)}); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		o, err := site.Observe(b.Context(), "fares")
		if err != nil {
			b.Fatal(err)
		}
		if found := compare.Three(&desired, &desired, o.Cohorts[0].Live); len(found) != 95 { // none of their instances is asked for yet
			b.Fatalf("%d differences", len(found))
		}
	}
}

// BenchmarkHear is from the change of a pod until whoever follows the site knows.
func BenchmarkHear(b *testing.B) {
	api, site := benchSite(b, 10000)
	if err := site.Apply(b.Context(), "fares", []target.Want{target.Prepare(one, fares("1")), target.Scale(one, "web", 2)}); err != nil {
		b.Fatal(err)
	}
	heard := make(chan time.Time, 100)
	ctx, cancel := context.WithCancel(b.Context())
	defer cancel()
	go site.Follow(ctx, func(target.Berth) { heard <- time.Now() })
	<-heard
	for i := 0; b.Loop(); i++ {
		api.Change("/api/v1/namespaces/trial/pods/fares-web-1111111-0", func(o clustertest.Object) { o["status"].(clustertest.Object)["message"] = fmt.Sprint(i) })
		<-heard
	}
}

// crowd is a workload of so many objects as they are.
func crowd(n int) declare.Desired {
	part := declare.Part{Kind: declare.Objects, Objects: map[string]declare.Object{}}
	for i := range n {
		name := fmt.Sprintf("o%04d", i)
		o := declare.Object{"apiVersion": "v1", "kind": "ConfigMap", "metadata": map[string]any{"name": name}, "data": map[string]any{"a": "1", "text": "what stands there"}}
		if i%4 == 0 {
			labels := map[string]any{"app": name}
			o = declare.Object{"apiVersion": "apps/v1", "kind": "Deployment", "metadata": map[string]any{"name": name, "labels": labels}, "spec": map[string]any{"replicas": 1.0, "template": map[string]any{"metadata": map[string]any{"labels": labels}, "spec": map[string]any{"containers": []any{map[string]any{"name": "web", "image": "r.example/web:1", "env": []any{map[string]any{"name": "A", "value": "1"}}}}}}}}
		}
		part.Objects[declare.ObjectID(o)] = o
	}
	return declare.Desired{Format: 1, Workload: "fares", Parts: map[string]declare.Part{"all": part}}
}

// BenchmarkObjects has so many objects as they are laid, looked at and compared after a change of one, and shown as a tree.
func BenchmarkObjects(b *testing.B) {
	for _, n := range []int{200, 2000} {
		api, site := benchSite(b, 100000)
		site.connection.config.Burst = n
		desired := crowd(n)
		if _, err := site.Observe(b.Context(), "fares"); err != nil {
			b.Fatal(err)
		}
		began := time.Now()
		if err := site.Apply(b.Context(), "fares", []target.Want{target.Prepare(one, desired), target.Place(one, "all", 9, nil)}); err != nil {
			b.Fatal(err)
		}
		laid := time.Since(began)
		b.Run(fmt.Sprintf("compare=%d", n), func(b *testing.B) {
			b.ReportMetric(laid.Seconds(), "s-laid")
			for i := 0; b.Loop(); i++ {
				b.StopTimer()
				api.Change("/api/v1/namespaces/trial/configmaps/o0001", func(o clustertest.Object) { o["data"].(clustertest.Object)["a"] = fmt.Sprint("2", i) })
				b.StartTimer()
				o, err := site.Observe(b.Context(), "fares")
				if err != nil {
					b.Fatal(err)
				}
				compare.Three(&desired, &desired, o.Cohorts[0].Live)
			}
		})
		b.Run(fmt.Sprintf("tree=%d", n), func(b *testing.B) {
			for b.Loop() {
				if nodes, err := site.Tree(b.Context(), "fares"); err != nil || len(nodes) != n {
					b.Fatal(len(nodes), err)
				}
			}
		})
	}
}
