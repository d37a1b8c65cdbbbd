package cluster

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime"
	"sigs.k8s.io/yaml"

	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/health"
	"aditus/internal/core/say"
	"aditus/internal/status"
	"aditus/internal/target"
)

var (
	_ target.Rooted     = (*Site)(nil)
	_ target.Rememberer = (*Site)(nil)
)

// Tree implements target.Rooted: what the workload's objects are, and what they look after, down to the container.
func (s *Site) Tree(ctx context.Context, workload string) ([]status.Node, error) {
	if err := s.connection.await(ctx, s.Namespace); err != nil {
		return nil, unreachable(s.Name, err)
	}
	records, err := s.records(workload)
	if err != nil {
		return nil, err
	}
	if err := s.followObjects(ctx, workload, records); err != nil && ctx.Err() != nil {
		return nil, unreachable(s.Name, err)
	}
	t := &treeing{site: s, records: records}
	type root struct {
		metav1.Object
		part, kind string
		rank       int
	}
	var roots []root
	for _, o := range s.connection.mirror.labelled(s.Namespace, workload) {
		if o.GetLabels()[labelRecord] == "" && metav1.GetControllerOf(o) == nil {
			roots = append(roots, root{o, o.GetLabels()[labelPart], kindName(o), rankOf(o)})
		}
	}
	slices.SortFunc(roots, func(a, b root) int {
		return cmp.Or(strings.Compare(a.part, b.part), a.rank-b.rank, strings.Compare(a.kind, b.kind), strings.Compare(a.GetName(), b.GetName()))
	})
	var nodes []status.Node
	for _, o := range roots {
		node := t.node(o.Object, 0)
		node.Part, node.Revision = o.part, t.revision(o)
		nodes = append(nodes, node)
	}
	return nodes, nil
}

// treeing makes nodes of objects.
type treeing struct {
	site    *Site
	records map[declare.Fingerprint]*record
}

// revision is the cohort's that an object is named for; empty for what all share, and what is declared as it is.
func (t *treeing) revision(o metav1.Object) declare.Fingerprint {
	for revision, r := range t.records {
		if part, has := r.parts[o.GetLabels()[labelPart]]; has && part.Cohort == o.GetLabels()[labelCohort] && part.Cohort != "" {
			return revision
		}
	}
	return ""
}

func kindName(o metav1.Object) string {
	switch one := o.(type) {
	case *unstructured.Unstructured:
		return one.GetKind()
	case *corev1.Pod:
		return pods.kind
	}
	return ""
}

func versionOf(o metav1.Object) string {
	if one, is := o.(*unstructured.Unstructured); is {
		return one.GetAPIVersion()
	}
	return "v1"
}

func rankOf(o metav1.Object) int {
	return declare.ObjectRank(reference{Version: versionOf(o), Kind: kindName(o), Name: o.GetName()}.object())
}

// nodeID names an object, for Sheet to find it again.
func nodeID(o metav1.Object) string { return versionOf(o) + " " + kindName(o) + " " + o.GetName() }

func (t *treeing) node(o metav1.Object, depth int) status.Node {
	n := status.Node{ID: nodeID(o), Kind: kindName(o), Name: o.GetName(), Since: t.site.connection.as(o.GetCreationTimestamp().Time), Owner: ownerOf(o)}
	switch one := o.(type) {
	case *corev1.Pod:
		t.pod(&n, one)
		return n
	case *unstructured.Unstructured:
		n.State = health.Object(one.Object)
		n.Reason = short(n.Reason)
		n.Note = t.note(one, &n)
	}
	if depth >= deepest {
		return n
	}
	for _, below := range t.site.connection.mirror.ownedBy(o.GetUID()) {
		if kindName(below) == "" || kindName(below) == endpoints.kind || idle(below) {
			continue
		}
		n.Below = append(n.Below, t.node(below, depth+1))
	}
	if len(n.Below) == 0 && o.GetLabels()[labelCohort] != "" && (n.Kind == deployments.kind || n.Kind == statefulSets.kind) { // what stands between is not known
		for _, pod := range t.site.owners(o.GetLabels()[labelWorkload])[o.GetLabels()[labelPart]+"/"+o.GetLabels()[labelCohort]] {
			n.Below = append(n.Below, t.node(pod, depth+1))
		}
	}
	return n
}

// idle tells whether an object is kept only to go back to: a ReplicaSet that is to have no pods.
func idle(o metav1.Object) bool {
	one, is := o.(*unstructured.Unstructured)
	if !is || one.GetKind() != replicaSets.kind {
		return false
	}
	want, _, _ := unstructured.NestedInt64(one.Object, "spec", "replicas")
	have, _, _ := unstructured.NestedInt64(one.Object, "status", "replicas")
	return want == 0 && have == 0
}

// ownerOf is who looks after an object, where that is not us: whoever set its fields, but for its status.
func ownerOf(o metav1.Object) string {
	owner := ""
	for _, entry := range o.GetManagedFields() {
		if entry.Manager == manager {
			return ""
		}
		if entry.Subresource == "" && owner == "" {
			owner = entry.Manager
		}
	}
	return owner
}

// pod tells of a pod and its containers.
func (t *treeing) pod(n *status.Node, pod *corev1.Pod) {
	n.Instance = pod.Name
	in := target.Instance{}
	ready, why := t.site.standing(pod, t.site.connection.mirror.events(t.site.Namespace, pods.kind+"/"+pod.Name), &in)
	n.State, n.Restarts = health.State{Word: health.Healthy}, 0
	switch {
	case pod.DeletionTimestamp != nil:
		n.State = health.State{Word: health.Starting, Reason: "it is ending"}
	case pod.Status.Phase == corev1.PodSucceeded:
		n.State = health.State{Word: health.Stopped, Reason: "it ran to its end"}
	case pod.Status.Phase == corev1.PodFailed:
		n.State = health.State{Word: health.Failing, Reason: cmp.Or(ended(pod), pod.Status.Message, "it failed")}
	case in.CannotStart != "" || !in.Again.IsZero():
		n.State = health.State{Word: health.Failing, Reason: cmp.Or(in.CannotStart, why)}
	case !ready:
		n.State = health.State{Word: health.Starting, Reason: why}
	}
	n.Note = strings.TrimSpace(pod.Status.PodIP + " " + onNode(pod.Spec.NodeName))
	image := map[string]string{} // a node may call the same one by another tag
	for _, c := range slices.Concat(pod.Spec.InitContainers, pod.Spec.Containers) {
		image[c.Name] = c.Image
	}
	for i, states := range [][]corev1.ContainerStatus{pod.Status.InitContainerStatuses, pod.Status.ContainerStatuses} {
		for _, c := range states {
			n.Restarts += int(c.RestartCount)
			below := status.Node{ID: n.ID + "/" + c.Name, Kind: "container", Name: c.Name, Restarts: int(c.RestartCount), Instance: pod.Name, Note: compare.Short(cmp.Or(image[c.Name], c.Image))}
			if i == 0 {
				below.Kind = "init container"
			}
			switch {
			case c.State.Running != nil:
				below.State, below.Since = health.State{Word: health.Healthy}, t.site.connection.as(c.State.Running.StartedAt.Time)
				if !c.Ready && i > 0 {
					below.State = health.State{Word: health.Starting, Reason: "it is not ready"}
				}
			case c.State.Waiting != nil:
				below.State = health.State{Word: health.Starting, Reason: c.State.Waiting.Reason}
				if waits[c.State.Waiting.Reason] != "" || c.State.Waiting.Reason == "CrashLoopBackOff" {
					below.Word = health.Failing
				}
			case c.State.Terminated != nil:
				below.State = health.State{Word: health.Stopped, Reason: "it ran to its end"}
				if e := c.State.Terminated; e.ExitCode != 0 {
					below.State = health.State{Word: health.Failing, Reason: exit(e.ExitCode, e.Signal, e.Reason)}
				}
			}
			n.Below = append(n.Below, below)
		}
	}
}

func onNode(node string) string {
	if node == "" {
		return ""
	}
	return "on " + node
}

// note tells of an object what its kind is about: how many instances it has, where it leads, how large it is.
func (t *treeing) note(o *unstructured.Unstructured, n *status.Node) string {
	number := func(path ...string) int64 { v, _, _ := unstructured.NestedInt64(o.Object, path...); return v }
	switch n.Kind {
	case "Deployment", "StatefulSet", "ReplicaSet":
		text := fmt.Sprintf("%d of %d ready", number("status", "readyReplicas"), number("spec", "replicas"))
		if formed := o.GetAnnotations()[annotationForm]; formed != "" && n.Kind == replicaSets.kind {
			for revision, r := range t.records {
				for at, form := range r.forms {
					if form == formed && strings.Contains(at, " Deployment/") && len(t.records) > 1 {
						text += ", of " + revision.Short()
					}
				}
			}
		}
		return text
	case "Service":
		return t.addresses(o.GetName())
	case routes.kind, grpcRoutes.kind:
		split := splitOf(o)
		sum := int64(0)
		for _, weight := range split.weights {
			sum += weight
		}
		for _, to := range slices.Sorted(maps.Keys(split.weights)) {
			if sum > 0 {
				n.Below = append(n.Below, status.Node{ID: n.ID + "/" + to, Kind: "leads to", Name: to, State: health.State{Word: health.Healthy}, Note: say.Share(float64(split.weights[to])/float64(sum)) + ", " + t.addresses(to)})
			}
		}
		hosts, _, _ := unstructured.NestedStringSlice(o.Object, "spec", "hostnames")
		return strings.Join(hosts, ", ")
	case "PersistentVolumeClaim":
		return say.Bytes(storage(o, 0))
	case "ConfigMap", "Secret":
		data, _, _ := unstructured.NestedMap(o.Object, "data")
		return say.Count(len(data), "value")
	}
	return ""
}

// addresses tells how many addresses stand behind a Service.
func (t *treeing) addresses(service string) string {
	if !t.site.connection.mirror.has(endpoints, t.site.Namespace) {
		return ""
	}
	ready, all := 0, 0
	for _, o := range list[*unstructured.Unstructured](t.site.connection.mirror, endpoints, t.site.Namespace, "") {
		if o.GetLabels()["kubernetes.io/service-name"] != service {
			continue
		}
		ends, _, _ := unstructured.NestedSlice(o.Object, "endpoints")
		for _, e := range ends {
			of, _ := e.(object)
			conditions, _ := of["conditions"].(object)
			all++
			if conditions["ready"] != false {
				ready++
			}
		}
	}
	if all == 0 {
		return "no addresses"
	}
	return fmt.Sprintf("%d of %d addresses ready", ready, all)
}

// Sheet implements target.Rooted.
func (s *Site) Sheet(ctx context.Context, workload, id string) (sheet status.Sheet, err error) {
	if err := s.connection.await(ctx, s.Namespace); err != nil {
		return sheet, unreachable(s.Name, err)
	}
	version, rest, _ := strings.Cut(id, " ")
	kind, name, _ := strings.Cut(rest, " ")
	name, _, _ = strings.Cut(name, "/") // of a container it is its pod's
	o := s.connection.mirror.named(version, kind, s.Namespace, name)
	if o == nil || s.connection.mirror.workloadOf(o) != workload {
		return sheet, fmt.Errorf("%s %s at %s: %w", kind, name, s.Name, target.ErrNoInstance)
	}
	live, err := plainOf(o)
	if err != nil {
		return sheet, err
	}
	sheet.ID = id
	sheet.Others = holdings(o.GetManagedFields(), s.connection.as)
	s.connection.usage(ctx, s.Namespace)
	sheet.Cores, sheet.Memory = s.usedBy(o, 0)
	metadata, _ := live["metadata"].(object)
	delete(metadata, "managedFields")
	hide(live)
	text, err := yaml.Marshal(live)
	if err != nil {
		return sheet, err
	}
	sheet.Live = cut(text)
	conditions, _, _ := unstructured.NestedSlice(live, "status", "conditions")
	for _, c := range conditions {
		of, _ := c.(object)
		word := func(key string) string { text, _ := of[key].(string); return text }
		since, _ := time.Parse(time.RFC3339, word("lastTransitionTime"))
		sheet.Conditions = append(sheet.Conditions, status.Condition{Type: word("type"), Status: word("status"), Reason: word("reason"), Message: short(word("message")), Since: s.connection.as(since)})
	}
	for _, e := range s.connection.mirror.events(s.Namespace, kind+"/"+name) {
		sheet.Events = append(sheet.Events, status.Event{At: s.connection.as(e.at), Text: e.text, Bad: e.bad})
	}
	return sheet, s.declaredSheet(&sheet, workload, o)
}

// usedBy is what an object's pods have used lately.
func (s *Site) usedBy(o metav1.Object, depth int) (cores float64, memory uint64) {
	if kindName(o) == pods.kind {
		used, _ := s.connection.used(s.Namespace, o.GetName())
		return used.cores, used.memory
	}
	if depth < deepest {
		for _, below := range s.connection.mirror.ownedBy(o.GetUID()) {
			c, m := s.usedBy(below, depth+1)
			cores, memory = cores+c, memory+m
		}
	}
	return cores, memory
}

// declaredSheet adds what is declared of an object that is declared as it is, and where it differs.
func (s *Site) declaredSheet(sheet *status.Sheet, workload string, o metav1.Object) error {
	one, is := o.(*unstructured.Unstructured)
	if !is || o.GetAnnotations()[annotationForm] == "" {
		return nil
	}
	records, err := s.records(workload)
	if err != nil {
		return err
	}
	part := o.GetLabels()[labelPart]
	for _, r := range records {
		id := r.idOf(part, one)
		if id == "" || r.formOf(part, id) != o.GetAnnotations()[annotationForm] {
			continue
		}
		declared := r.parts[part].Objects[id]
		text, err := yaml.Marshal(declared)
		if err != nil {
			return err
		}
		sheet.Declared = cut(text)
		shown, owners := project(withoutSecrets(declared), withoutSecrets(one.Object), o.GetManagedFields(), s.connection.as)
		want := func(o declare.Object) *declare.Desired {
			return &declare.Desired{Parts: map[string]declare.Part{part: {Kind: declare.Objects, Objects: map[string]declare.Object{id: o}}}}
		}
		sheet.Differences = compare.Three(want(withoutSecrets(declared)), want(withoutSecrets(declared)), compare.LiveOf(want(shown)))
		for i, d := range sheet.Differences {
			_, place := d.Object()
			sheet.Differences[i].Owner = owners["/"+place]
		}
		return nil
	}
	return nil
}

// plainOf is an object as JSON has it, one's own.
func plainOf(o metav1.Object) (object, error) {
	if one, is := o.(*unstructured.Unstructured); is {
		return one.DeepCopy().Object, nil
	}
	plain, err := runtime.DefaultUnstructuredConverter.ToUnstructured(o)
	if err != nil {
		return nil, err
	}
	if kindName(o) == pods.kind {
		plain["apiVersion"], plain["kind"] = "v1", pods.kind
	}
	text, err := json.Marshal(plain)
	if err != nil {
		return nil, err
	}
	var own object
	return own, json.Unmarshal(text, &own)
}

// hide takes the values of a Secret out, also from its annotations: programs note there what they were given.
func hide(o object) {
	if !isSecret(o) {
		return
	}
	metadata, _ := o["metadata"].(object)
	for _, in := range []any{o["data"], o["stringData"], metadata["annotations"]} {
		values, _ := in.(object)
		for key := range values {
			if !strings.HasPrefix(key, "aditus/") {
				values[key] = "not shown"
			}
		}
	}
}

// mostSheet is how many bytes of an object are shown.
const mostSheet = 128 << 10

func cut(text []byte) string {
	if len(text) <= mostSheet {
		return string(text)
	}
	return strings.ToValidUTF8(string(text[:mostSheet]), "") + "\n… and more, which is not shown\n"
}
