package cluster

import (
	"context"
	"maps"
	"slices"
	"strings"

	"k8s.io/apimachinery/pkg/api/resource"

	"aditus/internal/core/declare"
	"aditus/internal/status"
)

// Takes are the kinds of parts that a cluster takes.
var Takes = []declare.Kind{declare.Service, declare.Task, declare.Route, declare.Settings, declare.Secret, declare.Volume, declare.Objects}

// Ground implements target.Grounded: the cluster's version, what the account may do in the namespace, and its quotas.
func (s *Site) Ground(ctx context.Context) (status.Ground, error) {
	g := status.Ground{On: "cluster " + s.connection.name + ", namespace " + s.Namespace, Takes: Takes}
	var err error
	g.Version, g.Told, err = s.connection.about(ctx, s.connection.name, s.Namespace)
	switch {
	case err != nil && g.Version == "":
		return g, err
	case err != nil:
		g.Wrong = err.Error()
		return g, nil
	}
	var quotas struct {
		Items []struct {
			Status struct{ Hard, Used map[string]string }
		}
	}
	if s.connection.read(ctx, "/api/v1/namespaces/"+s.Namespace+"/resourcequotas", &quotas) == nil { // where the account may not read them there is nothing to tell
		for _, one := range quotas.Items {
			for _, name := range slices.Sorted(maps.Keys(one.Status.Hard)) {
				has, err := resource.ParseQuantity(one.Status.Hard[name])
				used, err2 := resource.ParseQuantity(one.Status.Used[name])
				if of := quotaOf(name); of != "" && err == nil && err2 == nil {
					g.Room = append(g.Room, status.Room{Of: of, Used: used.AsApproximateFloat64(), Has: has.AsApproximateFloat64()})
				}
			}
		}
	}
	return g, nil
}

// quotaOf is what a resource of a quota is called; empty for one that is not shown.
func quotaOf(resource string) string {
	of, isLimit := strings.CutPrefix(resource, "limits.")
	switch strings.TrimPrefix(of, "requests.") {
	case "cpu":
		of = "processors"
	case "memory":
		of = "memory"
	case "pods", "count/pods":
		return "pods"
	case "storage":
		return "disk"
	default:
		return ""
	}
	if isLimit {
		return of + ", limits"
	}
	return of + ", requests"
}
