package cluster

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"slices"
	"strings"

	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"

	"aditus/internal/core/declare"
	"aditus/internal/core/health"
	"aditus/internal/core/say"
	"aditus/internal/status"
	"aditus/internal/target"
)

var _ target.Finder = (*Site)(nil)

// strayKinds are the kinds of objects that are looked for, by version and kind. What others make of these is not.
var strayKinds = []struct{ version, kind string }{
	{"apps/v1", "Deployment"}, {"apps/v1", "StatefulSet"}, {"apps/v1", "DaemonSet"}, {"batch/v1", "CronJob"}, {"batch/v1", "Job"}, {"v1", "Pod"}, {"v1", "Service"}, {"v1", "ConfigMap"}, {"v1", "Secret"},
	{"v1", "PersistentVolumeClaim"}, {"v1", "ServiceAccount"}, {"networking.k8s.io/v1", "Ingress"}, {"networking.k8s.io/v1", "NetworkPolicy"}, {"autoscaling/v2", "HorizontalPodAutoscaler"}, {"policy/v1", "PodDisruptionBudget"},
	{gatewayGroup + "/v1", "HTTPRoute"}, {gatewayGroup + "/v1", "GRPCRoute"}, {"rbac.authorization.k8s.io/v1", "Role"}, {"rbac.authorization.k8s.io/v1", "RoleBinding"},
}

// strayPage is how many objects are asked for at a time, and mostStrays how many are told.
const (
	strayPage  = 250
	mostStrays = 5000
)

// Strays implements target.Finder: the objects of the namespace that carry no mark of ours and that nothing else there has made.
func (s *Site) Strays(ctx context.Context) ([]status.Stray, error) {
	all, unseen := []status.Stray{}, []string{}
	for _, of := range strayKinds {
		k, err := s.connection.kindFor(ctx, declare.Object{"apiVersion": of.version, "kind": of.kind})
		if errors.Is(err, errNoKind) {
			continue
		}
		if err != nil {
			return nil, unreachable(s.Name, err)
		}
		for next := ""; ; {
			found, err := s.connection.of(k).Namespace(s.Namespace).List(ctx, metav1.ListOptions{Limit: strayPage, Continue: next})
			if apierrors.IsForbidden(err) || apierrors.IsNotFound(err) {
				unseen = append(unseen, of.kind)
				break
			}
			if err != nil {
				return nil, unreachable(s.Name, err)
			}
			for i := range found.Items {
				o := &found.Items[i]
				o.SetAPIVersion(of.version) // a list leaves them out
				o.SetKind(of.kind)
				if one, is := stray(o); is {
					all = append(all, one)
				}
			}
			if next = found.GetContinue(); next == "" || len(all) >= mostStrays {
				break
			}
		}
	}
	slices.SortStableFunc(all, func(a, b status.Stray) int { return cmp.Compare(a.With, b.With) })
	if len(unseen) > 0 {
		all = append(all, status.Stray{ID: "?", Says: "not looked for", Not: say.List(unseen) + ": the account may not list them"})
	}
	return all, nil
}

// stray tells of an object that nobody put there through us; is is false for what is ours, or the cluster's own.
func stray(o *unstructured.Unstructured) (one status.Stray, is bool) {
	labels, annotations := o.GetLabels(), o.GetAnnotations()
	switch {
	case labels[labelWorkload] != "" || annotations[annotationForm] != "" || annotations[annotationRevision] != "":
		return one, false
	case len(o.GetOwnerReferences()) > 0 || o.GetDeletionTimestamp() != nil:
		return one, false
	case o.GetKind() == "ConfigMap" && o.GetName() == "kube-root-ca.crt", o.GetKind() == "ServiceAccount" && o.GetName() == "default":
		return one, false
	case o.GetKind() == "Secret" && declare.TextAt(o.Object, "type") == "kubernetes.io/service-account-token":
		return one, false
	}
	plain := declarable(o)
	one = status.Stray{ID: declare.ObjectID(plain), With: target.StrayName(cmp.Or(labels["app.kubernetes.io/part-of"], labels["app.kubernetes.io/instance"], labels["app.kubernetes.io/name"], labels["app"], o.GetName())), Says: strayWords(o)}
	switch o.GetKind() {
	case "Secret":
		one.Not = "what it holds is secret and is not written down: seal it, and declare it by hand"
	case "Pod":
		one.Not = "it runs by itself: nothing would start it anew"
	default:
		one.Object = plain
	}
	return one, true
}

// strayWords tells what an object is: how it is doing, and what it runs.
func strayWords(o *unstructured.Unstructured) string {
	var told []string
	if state := health.Object(o.Object); state.Word != "" && state != health.Unseen {
		told = append(told, string(state.Word))
	}
	images := map[string]bool{}
	for _, at := range [][]string{{"spec", "template", "spec", "containers"}, {"spec", "jobTemplate", "spec", "template", "spec", "containers"}, {"spec", "containers"}} {
		containers, _, _ := unstructured.NestedSlice(o.Object, at...)
		for _, c := range containers {
			if of, is := c.(map[string]any); is {
				if image, _ := of["image"].(string); image != "" {
					images[image] = true
				}
			}
		}
	}
	told = append(told, slices.Sorted(maps.Keys(images))...)
	if data, has, _ := unstructured.NestedMap(o.Object, "data"); has {
		told = append(told, say.Count(len(data), "value"))
	}
	if at := o.GetCreationTimestamp(); !at.IsZero() {
		told = append(told, "since "+at.UTC().Format("2 Jan 2006"))
	}
	return strings.Join(told, ", ")
}

// servers are fields that the cluster writes itself: nobody declares them.
var servers = [][]string{
	{"status"}, {"metadata", "uid"}, {"metadata", "resourceVersion"}, {"metadata", "generation"}, {"metadata", "creationTimestamp"}, {"metadata", "managedFields"}, {"metadata", "selfLink"}, {"metadata", "namespace"}, {"metadata", "finalizers"},
	{"spec", "template", "metadata", "creationTimestamp"}, {"spec", "jobTemplate", "metadata", "creationTimestamp"}, {"spec", "jobTemplate", "spec", "template", "metadata", "creationTimestamp"},
	{"metadata", "annotations", "deployment.kubernetes.io/revision"}, {"metadata", "annotations", "pv.kubernetes.io/bind-completed"},
	{"metadata", "annotations", "pv.kubernetes.io/bound-by-controller"}, {"metadata", "annotations", "volume.kubernetes.io/storage-provisioner"}, {"metadata", "annotations", "volume.beta.kubernetes.io/storage-provisioner"},
	{"metadata", "annotations", "deprecated.daemonset.template.generation"},
}

// lastApplied ends the name of the annotation that has all of an object once more, as somebody applied it.
const lastApplied = "/last-applied-configuration"

// ofKind are such fields of one kind.
var ofKind = map[string][][]string{
	"Service":               {{"spec", "clusterIP"}, {"spec", "clusterIPs"}, {"spec", "ipFamilies"}, {"spec", "ipFamilyPolicy"}},
	"PersistentVolumeClaim": {{"spec", "volumeName"}},
	"Job":                   {{"spec", "selector"}, {"spec", "template", "metadata", "labels", "controller-uid"}, {"spec", "template", "metadata", "labels", "batch.kubernetes.io/controller-uid"}, {"spec", "template", "metadata", "labels", "job-name"}, {"spec", "template", "metadata", "labels", "batch.kubernetes.io/job-name"}},
	"ServiceAccount":        {{"secrets"}},
}

// declarable is an object as it would be declared to be what it is.
func declarable(o *unstructured.Unstructured) map[string]any {
	plain := o.DeepCopy().Object
	for _, path := range slices.Concat(servers, ofKind[o.GetKind()]) {
		if o.GetKind() == "Service" && path[len(path)-1] == "clusterIP" && declare.TextAt(plain, "spec", "clusterIP") == "None" {
			continue // it has none, which somebody declared
		}
		unstructured.RemoveNestedField(plain, path...)
	}
	annotations, _, _ := unstructured.NestedStringMap(plain, "metadata", "annotations")
	for name := range annotations {
		if strings.HasSuffix(name, lastApplied) {
			unstructured.RemoveNestedField(plain, "metadata", "annotations", name)
		}
	}
	for _, path := range [][]string{{"metadata", "annotations"}, {"metadata", "labels"}, {"spec", "template", "metadata", "labels"}} {
		if m, has, _ := unstructured.NestedMap(plain, path...); has && len(m) == 0 {
			unstructured.RemoveNestedField(plain, path...)
		}
	}
	return plain
}
