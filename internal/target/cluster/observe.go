package cluster

import (
	"context"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	corev1 "k8s.io/api/core/v1"
	"k8s.io/apimachinery/pkg/api/resource"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"

	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/target"
)

// Observe implements target.Driver.
func (s *Site) Observe(ctx context.Context, workload string) (target.Observation, error) {
	var o target.Observation
	if err := s.connection.await(ctx, s.Namespace); err != nil {
		return o, unreachable(s.Name, err)
	}
	records, err := s.records(workload)
	if err != nil {
		return o, err
	}
	owners, seenLive, seenObjects := s.owners(workload), map[string]livePart{}, map[string]seenObject{}
	s.mu.Lock()
	before, objectsBefore := s.lives[workload], s.seen[workload]
	s.mu.Unlock()
	if hasObjects(records) {
		if err := s.followObjects(ctx, workload, records); err != nil { // what is not known is not gone
			return o, unreachable(s.Name, err)
		}
	}
	for _, revision := range slices.Sorted(maps.Keys(records)) {
		r := records[revision]
		o.Step = max(o.Step, r.step)
		seen := target.Cohort{Revision: revision, Preview: r.preview, Live: compare.Live{}}
		for _, name := range slices.Sorted(maps.Keys(r.parts)) {
			if r.parts[name].Kind == declare.Objects {
				kept := s.inventory(workload, name)
				s.objectsOf(ctx, r, name, kept.orphans(records), kept, objectsBefore, seenObjects, &seen)
				continue
			}
			at := string(revision) + "/" + name
			now := s.liveAgain(r, name, before[at])
			if seenLive[at] = now; now.live != nil {
				seen.Live[name] = now.live
			}
			seen.Instances = append(seen.Instances, s.instances(r, name, owners)...)
		}
		o.Cohorts = append(o.Cohorts, seen)
	}
	if hasObjects(records) {
		s.objectInstances(workload, records, o.Cohorts)
	}
	s.mu.Lock()
	s.lives[workload], s.seen[workload] = seenLive, seenObjects
	s.mu.Unlock()
	o.Whole, o.Trouble = s.shares(workload, records, o.Cohorts)
	if stray := s.unrecorded(workload, records); len(stray) > 0 && o.Trouble == "" {
		o.Trouble = fmt.Sprintf("%s %s in %s runs %s, and the ConfigMap that said of which revision is gone: a sync writes it anew, or delete what is not wanted there", stray[0].GetKind(), stray[0].GetName(), s.Namespace, workload)
	}
	return o, nil
}

// livePart is a part as it was read from its object as of a version, with its record as of one.
type livePart struct {
	record, object string
	live           any
}

// liveAgain reads a part where its object or its record is another one than when it was read last.
func (s *Site) liveAgain(r *record, name string, last livePart) livePart {
	now := livePart{record: r.version}
	if o := s.objectOf(r, name); o != nil {
		now.object = string(o.GetUID()) + "/" + o.GetResourceVersion()
		if o.GetDeletionTimestamp() != nil {
			now.object = ""
		}
	}
	if now.record == last.record && now.object == last.object && now.record != "" {
		return last
	}
	now.live = s.live(r, name)
	return now
}

// runsAs is the kind of object that runs a service.
func runsAs(part declare.Part) kind {
	if len(part.Volumes) > 0 {
		return statefulSets
	}
	return deployments
}

// objectOf is the object that shows how a part is; nil where it is gone, or there is none.
func (s *Site) objectOf(r *record, name string) *unstructured.Unstructured {
	part := r.parts[name]
	k, at := runsAs(part.Part), cohortName(r.workload, name, part.Cohort)
	switch {
	case part.Kind == declare.Settings:
		k = configMaps
	case part.Kind == declare.Secret:
		k = secrets
	case part.Kind == declare.Volume:
		k, at = claims, sharedName(r.workload, name)
	case part.Kind != declare.Service:
		return nil
	}
	return s.connection.mirror.get(k, s.Namespace, at)
}

// owners are a workload's pods by their part and cohort, but for those that are ending.
func (s *Site) owners(workload string) map[string][]*corev1.Pod {
	found := map[string][]*corev1.Pod{}
	for _, pod := range list[*corev1.Pod](s.connection.mirror, pods, s.Namespace, workload) {
		if pod.DeletionTimestamp == nil {
			of := pod.Labels[labelPart] + "/" + pod.Labels[labelCohort]
			found[of] = append(found[of], pod)
		}
	}
	return found
}

// instances are those of a part of a cohort.
func (s *Site) instances(r *record, name string, owners map[string][]*corev1.Pod) (found []target.Instance) {
	part := r.parts[name]
	if !part.Kind.Runs() {
		return nil
	}
	for _, pod := range owners[name+"/"+part.Cohort] {
		if part.Kind == declare.Service && (pod.Status.Phase == corev1.PodFailed || pod.Status.Phase == corev1.PodSucceeded) {
			continue // evicted, or its node is gone: another one takes its place
		}
		in := s.instance(pod, part.Part)
		if part.Template != nil && readyOf(part.Part) == "" {
			s.byReadiness(&in, pod)
		}
		found = append(found, in)
	}
	if part.Kind != declare.Task {
		if why := s.refused(r, name, len(found)); why != "" {
			missing := target.Instance{ID: cohortName(r.workload, name, part.Cohort), Part: name, Reason: why, Told: map[string]string{}}
			if ready := readyOf(part.Part); ready != "" {
				missing.Told[ready] = why
			}
			if o := s.objectOf(r, name); o != nil {
				missing.Started = s.connection.as(o.GetCreationTimestamp().Time)
			}
			found = append(found, missing)
		}
		return found
	}
	job := s.connection.mirror.get(jobs, s.Namespace, cohortName(r.workload, name, part.Cohort))
	if job == nil {
		return nil
	}
	done, failed := ending(job)
	if len(found) == 0 { // its pod is not there yet, or no longer
		found = []target.Instance{{ID: job.GetName(), Part: name, Started: job.GetCreationTimestamp().Time, Reason: "its pod is being made"}}
	}
	last := &found[len(found)-1]
	last.Done, last.Failed = done, strings.TrimSpace(failed)
	if failed != "" && len(found) > 0 {
		if pod := owners[name+"/"+part.Cohort]; len(pod) > 0 && ended(pod[len(pod)-1]) != "" {
			last.Failed = ended(pod[len(pod)-1])
		}
	}
	return found[len(found)-1:]
}

// refused tells why pods of a service are missing that the cluster does not make: quota, security, admission. Empty where none
// is missing, or it makes them.
func (s *Site) refused(r *record, name string, have int) string {
	o := s.objectOf(r, name)
	if o == nil {
		return ""
	}
	if replicas, _, _ := unstructured.NestedInt64(o.Object, "spec", "replicas"); int64(have) >= replicas {
		return ""
	}
	said := ""
	conditions, _, _ := unstructured.NestedSlice(o.Object, "status", "conditions")
	for _, c := range conditions {
		if of, _ := c.(object); of["type"] == "ReplicaFailure" && of["status"] == "True" {
			said = fmt.Sprint(of["message"])
		}
	}
	if about := s.connection.mirror.events(s.Namespace, o.GetKind()+"/"+o.GetName()); said == "" && o.GetKind() == statefulSets.kind && len(about) > 0 {
		if last := about[len(about)-1]; last.bad && strings.HasPrefix(last.text, "FailedCreate: ") {
			said = sentence(last.text)
		}
	}
	if said == "" {
		return ""
	}
	text, advice := sayRefused(said)
	if advice != "" {
		text += "; " + advice
	}
	return "its pods are not made: " + text
}

// ending tells whether a Job ended well, or why it did not.
func ending(job *unstructured.Unstructured) (done bool, failed string) {
	conditions, _, _ := unstructured.NestedSlice(job.Object, "status", "conditions")
	for _, c := range conditions {
		of, _ := c.(object)
		if of["status"] != "True" {
			continue
		}
		switch of["type"] {
		case "Complete":
			done = true
		case "Failed":
			failed = fmt.Sprintf("%v: %v", of["reason"], of["message"])
		}
	}
	return done, failed
}

// live is a part as it is in the cluster, in the form of a declaration; nil where it is gone.
func (s *Site) live(r *record, name string) any {
	part, o := r.parts[name], s.objectOf(r, name)
	show := part.Part
	if part.Kind == declare.Task || part.Kind == declare.Route {
		return compare.Show(show)
	}
	if o == nil || o.GetDeletionTimestamp() != nil {
		return nil
	}
	switch part.Kind {
	case declare.Service:
		wanted, err := r.at(name).service(name, r.declared(), 0)
		if err != nil {
			return compare.Show(show)
		}
		return workloadLive(show, wanted, o)
	case declare.Settings:
		show.Values, _, _ = unstructured.NestedStringMap(o.Object, "data")
	case declare.Secret:
		if string(o.GetUID()) != part.UID {
			show.Values = map[string]string{}
			for key := range part.Values {
				show.Values[key] = "another one than was put there"
			}
		}
	case declare.Volume:
		show.Size = storage(o, part.Size)
	}
	return compare.Show(show)
}

// storage is how large a claim asks to be.
func storage(o *unstructured.Unstructured, wanted int64) int64 {
	text, _, _ := unstructured.NestedString(o.Object, "spec", "resources", "requests", "storage")
	if q, err := resource.ParseQuantity(text); err == nil {
		return q.Value()
	}
	return wanted
}

// workloadLive is a service as its Deployment or StatefulSet says it is: in the words of a declaration where it has words
// for that, and by object and place where it has none.
func workloadLive(part declare.Part, wanted object, o *unstructured.Unstructured) any {
	if replicas, found, _ := unstructured.NestedInt64(o.Object, "spec", "replicas"); found {
		part.Instances = int(replicas)
	}
	delete(wanted["spec"].(object), "replicas")
	main, mine := mainContainer(o.Object), mainContainer(wanted)
	if main == nil {
		return compare.Show(part)
	}
	if image, _ := main["image"].(string); image != "" {
		part.Artifact = image
		mine["image"] = image
	}
	if !reflect.DeepEqual(main["command"], mine["command"]) {
		part.Command = nil
		command, _ := main["command"].([]any)
		for _, word := range command {
			part.Command = append(part.Command, fmt.Sprint(word))
		}
	}
	delete(mine, "command")
	part.Environment = liveEnvironment(part.Environment, main["env"], mine["env"])
	delete(mine, "env")
	if lifecycle, _ := mine["lifecycle"].(object); lifecycle["stopSignal"] != nil {
		if of, _ := main["lifecycle"].(object); of["stopSignal"] == nil {
			delete(lifecycle, "stopSignal") // not every cluster knows it
		}
	}
	live := compare.Show(part)
	changed := object{}
	for place, value := range differences("", wanted["spec"], o.Object["spec"]) {
		changed[place] = value
	}
	if len(changed) > 0 {
		live["objects"] = object{o.GetKind() + " " + o.GetName(): changed}
	}
	return live
}

// mainContainer is the container of a Deployment's or StatefulSet's template that runs the part.
func mainContainer(o object) object {
	containers, _, _ := unstructured.NestedFieldNoCopy(o, "spec", "template", "spec", "containers")
	list, _ := containers.([]any)
	for _, c := range list {
		if of, _ := c.(object); of["name"] == containerName {
			return of
		}
	}
	return nil
}

// liveEnvironment is the declared environment with what differs in the container's: what was changed, added and taken away.
func liveEnvironment(declared map[string]string, live, wanted any) map[string]string {
	read := func(from any) map[string]any {
		found := map[string]any{}
		entries, _ := from.([]any)
		for _, e := range entries {
			if of, _ := e.(object); of != nil {
				name, _ := of["name"].(string)
				found[name] = of
			}
		}
		return found
	}
	has, should := read(live), read(wanted)
	seen := maps.Clone(declared)
	if seen == nil {
		seen = map[string]string{}
	}
	for name, entry := range has {
		of := entry.(object)
		if wanted, ok := should[name].(object); ok && len(differences("", wanted, entry)) == 0 && same(wanted["value"], of["value"]) {
			continue
		}
		if value, ok := of["value"].(string); ok {
			seen[name] = strings.ReplaceAll(value, "$$(", "$(")
		} else {
			seen[name] = "from elsewhere"
		}
	}
	for name := range should {
		if has[name] == nil {
			delete(seen, name)
		}
	}
	if len(seen) == 0 {
		return nil
	}
	return seen
}

// differences are the places where what is wanted of an object is otherwise in it, with what is there. What is there beside
// it was filled in by the cluster, or is others'.
func differences(at string, wanted, live any) map[string]string {
	found := map[string]string{}
	tell := func(at string, wanted, live any) {
		was := "gone"
		if live != nil {
			was = fmt.Sprint(live)
		}
		found[strings.TrimPrefix(at, ".")] = fmt.Sprintf("%s, put there as %v", was, wanted)
	}
	var walk func(at string, wanted, live any)
	walk = func(at string, wanted, live any) {
		switch w := wanted.(type) {
		case object:
			l, ok := live.(object)
			if !ok && len(w) > 0 {
				tell(at, "given", live)
				return
			}
			for key, value := range w {
				walk(at+"."+key, value, l[key])
			}
		case []any:
			l, _ := live.([]any)
			key := keyOf(w)
			if key == "" {
				if !reflect.DeepEqual(w, l) {
					tell(at, wanted, live)
				}
				return
			}
			for _, item := range w {
				of := item.(object)
				walk(fmt.Sprintf("%s[%v]", at, of[key]), of, itemOf(l, key, of[key]))
			}
		default:
			quantity := strings.Contains(at, ".resources.") || strings.HasSuffix(at, ".sizeLimit")
			if !same(wanted, live) && !(quantity && equalValue(wanted, live, "")) {
				tell(at, wanted, live)
			}
		}
	}
	walk(at, wanted, live)
	return found
}

// keys are those by which the API tells the items of its lists apart, in the order in which they are looked for.
var keys = []string{"mountPath", "containerPort", "name", "topologyKey"}

// keyOf gives the key by which a list's items are told apart; empty for none.
func keyOf(list []any) string {
	for _, key := range keys {
		if len(list) > 0 && !slices.ContainsFunc(list, func(item any) bool { of, _ := item.(object); return of[key] == nil }) {
			return key
		}
	}
	return ""
}

func itemOf(list []any, key string, value any) any {
	for _, item := range list {
		if of, _ := item.(object); of != nil && same(value, of[key]) {
			return of
		}
	}
	return nil
}

// same tells whether two plain values are one, numbers and what is empty or left out in whichever form they come.
func same(a, b any) bool {
	if a == b {
		return true
	}
	if a == nil || b == nil {
		other := a
		if a == nil {
			other = b
		}
		return other == "" || other == false || other == int64(0)
	}
	return fmt.Sprint(a) == fmt.Sprint(b)
}
