package cluster

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	corev1 "k8s.io/api/core/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"

	"aditus/internal/core/declare"
	"aditus/internal/core/health"
	"aditus/internal/expression"
	"aditus/internal/target"
)

// seenObject is an object as it was read as of a version.
type seenObject struct {
	version, form string            // the form that is declared
	shown         any               // as it is live, in the form of the declared one; nil where it is gone
	owners        map[string]string // who set what differs, by JSON Pointer within it
	there         bool
	state         health.State
}

// hasObjects tells whether any cohort has parts of objects.
func hasObjects(records map[declare.Fingerprint]*record) bool {
	for _, r := range records {
		for _, part := range r.parts {
			if part.Kind == declare.Objects {
				return true
			}
		}
	}
	return false
}

// followObjects watches all kinds of the objects of a workload's cohorts, and what they make; it gives why something of that
// is not known as it is now.
func (s *Site) followObjects(ctx context.Context, workload string, records map[declare.Fingerprint]*record) error {
	kinds := map[kind]bool{}
	for _, r := range records {
		for name, part := range r.parts {
			if part.Kind != declare.Objects {
				continue
			}
			for _, to := range s.inventory(workload, name).objects {
				k, err := s.connection.kindFor(ctx, to.object())
				switch {
				case err == nil:
					kinds[k] = true
				case !errors.Is(err, errNoKind): // what is not known is not gone
					return err
				}
			}
		}
	}
	for _, k := range otherKinds {
		kinds[k] = true
	}
	for k := range kinds {
		s.connection.follow(k, s.Namespace)
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	var lacks error
	s.connection.mirror.await(ctx, func() bool {
		lacks = nil
		for k := range kinds {
			err := s.connection.mirror.lacks(k, s.Namespace)
			if apierrors.IsNotFound(err) && k.extra { // its definition was taken away, and all of its objects with it
				s.connection.gone(k, s.Namespace)
				delete(kinds, k)
				continue
			}
			if err != nil && (lacks == nil || lacks == errNotYet) {
				lacks = err
			}
		}
		return lacks != errNotYet
	})
	return lacks
}

// objectsOf adds the objects of a cohort's part to what was seen of it.
func (s *Site) objectsOf(ctx context.Context, r *record, name string, orphans []string, kept inventory, last, now map[string]seenObject, seen *target.Cohort) {
	part := r.parts[name]
	live := make(map[string]any, len(part.Objects)+len(orphans))
	for _, id := range slices.Sorted(maps.Keys(part.Objects)) {
		at := string(r.revision) + "/" + name + "/" + id
		one := s.seeObject(ctx, part.Part, id, r.formOf(name, id), last[at])
		now[at] = one
		if one.shown != nil {
			live[id] = one.shown
		}
		for pointer, owner := range one.owners {
			if seen.Owners == nil {
				seen.Owners = map[string]string{}
			}
			seen.Owners["/parts/"+declare.Escape(name)+"/objects/"+declare.Escape(id)+pointer] = owner
		}
		seen.Objects = append(seen.Objects, target.Object{Part: name, ID: id, There: one.there, Stays: kept.objects[id].stays(), State: one.state})
	}
	for _, id := range orphans {
		to := kept.objects[id]
		o := to.object()
		k, err := s.connection.kindFor(ctx, o)
		if err != nil {
			continue
		}
		if there := s.liveObject(k, o); there != nil {
			if to.stays() {
				o["keep"] = true
			}
			if there.GetDeletionTimestamp() != nil {
				o["leaving"] = health.Object(there.Object).Reason
			}
			live[id] = o
		}
	}
	shown := map[string]any{"kind": string(declare.Objects), "instances": 0.0}
	if len(live) > 0 {
		shown["objects"] = live
	}
	seen.Live[name] = shown
}

// seeObject reads an object where it is another one than when it was read last.
func (s *Site) seeObject(ctx context.Context, part declare.Part, id, formed string, last seenObject) seenObject {
	o := part.Objects[id]
	k, err := s.connection.kindFor(ctx, o)
	if err != nil {
		return seenObject{state: health.State{Word: health.Starting, Moves: true, Reason: err.Error()}}
	}
	there := s.liveObject(k, o)
	if there == nil {
		return seenObject{state: health.State{Word: health.Starting, Moves: true, Reason: "it is not there"}}
	}
	version := string(there.GetUID()) + "/" + there.GetResourceVersion()
	if version == last.version {
		return last
	}
	now := seenObject{version: version, form: formed, state: judged(ctx, part, id, there.Object)}
	now.there = there.GetAnnotations()[annotationForm] == now.form && there.GetDeletionTimestamp() == nil
	if there.GetDeletionTimestamp() != nil {
		return now
	}
	now.shown, now.owners = s.show(o, there)
	return now
}

// judged tells how an object is doing: by its kind, or by the line's own rule for that.
func judged(ctx context.Context, part declare.Part, id string, o map[string]any) health.State {
	state := health.Object(o)
	state.Reason = short(state.Reason)
	rule, has := part.Rules[declare.KindOfID(id)]
	if metadata, _ := o["metadata"].(object); !has || metadata["deletionTimestamp"] != nil || state == health.Unseen {
		return state
	}
	holds := func(text string) bool {
		if text == "" || state.Word == "" {
			return false
		}
		question, err := compiled(text)
		if err == nil {
			var is bool
			if is, err = question.Holds(ctx, o); err == nil {
				return is
			}
		}
		state = health.State{Reason: "the line's rule cannot be asked of it: " + err.Error()}
		return false
	}
	failing, healthy := holds(rule.Failing), holds(rule.Healthy)
	switch {
	case state.Word == "":
		state.Word, state.Moves = health.Starting, true
	case failing:
		state = health.State{Word: health.Failing, Reason: cmp.Or(rule.Say, "it is failing by the line's rule")}
	case healthy:
		state = health.State{Word: health.Healthy}
	default:
		state = health.State{Word: health.Starting, Moves: true, Reason: cmp.Or(state.Reason, "it is not healthy yet by the line's rule")}
	}
	return state
}

// questions are those that were asked already, by their text.
var questions sync.Map

func compiled(text string) (expression.Question, error) {
	if known, ok := questions.Load(text); ok {
		return known.(expression.Question), nil
	}
	question, err := expression.Compile(text)
	if err == nil {
		questions.Store(text, question)
	}
	return question, err
}

// changedByOthers stands for a value of a Secret that somebody else set.
const changedByOthers = "another one than was put there"

// secretShown shows a Secret: its values by who looks after them alone.
func (s *Site) secretShown(o declare.Object, live *unstructured.Unstructured) (any, map[string]string) {
	as, values := maps.Clone(o), object{}
	declared, _ := o["stringData"].(map[string]any)
	data := object{}
	for key := range declared {
		data[key] = nil // nothing is alike, so that who looks after it decides
	}
	probe := maps.Clone(o)
	delete(probe, "stringData")
	shownRest, owners := project(probe, live.Object, live.GetManagedFields(), s.connection.as)
	if owners == nil {
		owners = map[string]string{}
	}
	_, by := project(declare.Object{"data": data}, live.Object, live.GetManagedFields(), s.connection.as)
	has, _ := live.Object["data"].(map[string]any)
	for key, fingerprint := range declared {
		at := "/data/" + declare.Escape(key)
		switch {
		case has[key] == nil:
		case live.GetManagedFields() != nil && by[at] != "":
			values[key] = changedByOthers
			owners["/stringData/"+declare.Escape(key)] = by[at]
		default:
			values[key] = fingerprint
		}
	}
	if len(owners) == 0 && len(values) == len(declared) {
		return o, nil
	}
	maps.Copy(as, shownRest)
	if len(declared) > 0 {
		as["stringData"] = values
	}
	return as, owners
}

// objectInstances adds the pods that objects have made to the cohorts that they are of, as instances.
func (s *Site) objectInstances(workload string, records map[declare.Fingerprint]*record, cohorts []target.Cohort) {
	inOrder := make([]*candidate, len(cohorts))
	for i := range cohorts {
		inOrder[i] = &candidate{record: records[cohorts[i].Revision], cohort: &cohorts[i], lacks: map[string]bool{}}
		for _, o := range cohorts[i].Objects {
			inOrder[i].lacks[o.Part] = inOrder[i].lacks[o.Part] || !o.There
		}
	}
	slices.SortFunc(inOrder, func(a, b *candidate) int {
		return cmp.Or(a.born.Compare(b.born), strings.Compare(string(a.revision), string(b.revision)))
	})
	for _, pod := range list[*corev1.Pod](s.connection.mirror, otherPods, s.Namespace, "") {
		ended := pod.Status.Phase == corev1.PodSucceeded || pod.Status.Phase == corev1.PodFailed // what made it tells how that went
		if pod.DeletionTimestamp != nil || ended {
			continue
		}
		root, formed, newest := s.rootOf(pod)
		if root == nil || root.GetAnnotations()[annotationForm] == "" || root.GetLabels()[labelWorkload] != workload {
			continue
		}
		name := root.GetLabels()[labelPart]
		if of := cohortOf(inOrder, name, root, formed, newest); of != nil {
			of.cohort.Instances = append(of.cohort.Instances, s.objectInstance(name, pod))
		}
	}
}

// candidate is a cohort that a pod may be of.
type candidate struct {
	*record
	cohort *target.Cohort
	lacks  map[string]bool // by part: not all of its objects are as it has them
}

// cohortOf tells of which of several cohorts, the oldest first, a pod is: by the form of the object that it was made from. What
// is the same in several is that one's which came last and has all of the part's objects there; until then it is the first one's.
func cohortOf(inOrder []*candidate, name string, root *unstructured.Unstructured, formed string, newest bool) (of *candidate) {
	now := root.GetAnnotations()[annotationForm]
	var any *candidate
	for _, r := range inOrder {
		id := r.idOf(name, root)
		if id == "" {
			continue
		}
		if any == nil {
			any = r // what stands in no record was there before all
		}
		if has := r.formOf(name, id); formed != "" && has != formed || formed == "" && newest != (has == now) {
			continue
		}
		if of == nil || !r.lacks[name] {
			of = r
		}
	}
	return cmp.Or(of, any)
}

// formOf is the form of one of a record's objects.
func (r *record) formOf(part, id string) string {
	if known := r.forms[part+" "+id]; known != "" {
		return known
	}
	return form(r.parts[part].Objects[id])
}

// idOf names a live object among a record's; empty where it has none such.
func (r *record) idOf(part string, live *unstructured.Unstructured) string {
	for _, namespace := range []string{"", live.GetNamespace()} {
		id := declare.ObjectID(reference{Version: live.GetAPIVersion(), Kind: live.GetKind(), Name: live.GetName(), Namespace: namespace}.object())
		if r.parts[part].Objects[id] != nil {
			return id
		}
	}
	return ""
}

// rootOf follows what looks after a pod up to the object that is ours. formed is the form of it that what stands between was made
// from; where nothing tells that, newest tells whether the pod is of the root's newest template.
func (s *Site) rootOf(pod *corev1.Pod) (root *unstructured.Unstructured, formed string, newest bool) {
	var o metav1.Object = pod
	newest = true
	for range deepest {
		owner := metav1.GetControllerOf(o)
		if owner == nil {
			return nil, "", false // a pod that stands alone
		}
		up, is := s.connection.mirror.named(owner.APIVersion, owner.Kind, o.GetNamespace(), owner.Name).(*unstructured.Unstructured)
		if !is {
			return nil, "", false
		}
		if o == metav1.Object(pod) {
			newest = newestOf(up, pod)
		}
		if up.GetLabels()[labelWorkload] != "" {
			return up, formed, newest
		}
		if of := up.GetAnnotations()[annotationForm]; of != "" { // the cluster copies it there
			formed = of
		}
		o = up
	}
	return nil, "", false
}

// newestOf tells whether a pod is of the newest template of what looks after it.
func newestOf(o *unstructured.Unstructured, pod *corev1.Pod) bool {
	switch o.GetKind() {
	case "StatefulSet":
		update, _, _ := unstructured.NestedString(o.Object, "status", "updateRevision")
		return update == "" || pod.Labels["controller-revision-hash"] == update
	case "DaemonSet":
		generation := o.GetAnnotations()["deprecated.daemonset.template.generation"]
		return generation == "" || pod.Labels["pod-template-generation"] == generation
	}
	return true
}

// objectInstance is a pod that an object has made, as an instance.
func (s *Site) objectInstance(name string, pod *corev1.Pod) target.Instance {
	in := s.instance(pod, declare.Part{Ports: portsOf(pod)})
	in.Part = name
	s.byReadiness(&in, pod)
	return in
}

// byReadiness takes the cluster's word for whether an instance is up, where no probe of ours asks it.
func (s *Site) byReadiness(in *target.Instance, pod *corev1.Pod) {
	ready, why := s.standing(pod, s.connection.mirror.events(s.Namespace, pods.kind+"/"+pod.Name), &target.Instance{})
	if !ready {
		in.Address, in.Reason = "", why
	} else if at := readySince(pod); at.After(in.Started) {
		in.Started = s.connection.as(at)
	}
}

// readySince is when a pod became ready.
func readySince(pod *corev1.Pod) time.Time {
	for _, c := range pod.Status.Conditions {
		if c.Type == corev1.PodReady && c.Status == corev1.ConditionTrue {
			return c.LastTransitionTime.Time
		}
	}
	return time.Time{}
}

// portsOf are the named ports of a pod's containers.
func portsOf(pod *corev1.Pod) map[string]int {
	ports := map[string]int{}
	for _, c := range pod.Spec.Containers {
		for _, p := range c.Ports {
			if p.Name != "" {
				ports[p.Name] = int(p.ContainerPort)
			}
		}
	}
	return ports
}
