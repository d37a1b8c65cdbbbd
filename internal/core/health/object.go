package health

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// State is how an object of a cluster's API is doing, by what its controller says in its status.
type State struct {
	Word   Word   `json:"word"`
	Reason string `json:"reason,omitempty"` // why it is not healthy, in words; of a healthy one what it says of itself, or nothing
	Moves  bool   `json:"moves,omitempty"`  // it is on its way to what its spec asks for: what it was before may still be there
}

// Object tells how an object of a cluster's API is doing. What its controller has said of an earlier generation of it does
// not count: until it has seen the newest one the object is starting. A kind that is not in the table goes by its
// conditions: see conditioned.
//
// The meanings of the fields are those of the API's reference, and of the API conventions for conditions and
// observedGeneration.
func Object(o map[string]any) State {
	if since := text(o, "metadata", "deletionTimestamp"); since != "" {
		return State{Word: Starting, Moves: true, Reason: leaving(o)}
	}
	if seen, ok := number(o, "status", "observedGeneration"); ok {
		if is, _ := number(o, "metadata", "generation"); seen < is {
			return Unseen
		}
	}
	group, _, _ := strings.Cut(text(o, "apiVersion"), "/")
	if !strings.Contains(text(o, "apiVersion"), "/") {
		group = ""
	}
	if judge, ok := kinds[kindOf{group, text(o, "kind")}]; ok {
		return judge(o)
	}
	return conditioned(o)
}

// Unseen is the state of an object whose newest form its controller has not seen yet.
var Unseen = moving("its controller has not seen its newest form yet")

// kindOf is a kind of object with its group.
type kindOf struct{ group, kind string }

// kinds says of each kind what its status means.
var kinds = map[kindOf]func(map[string]any) State{
	{"apps", "Deployment"}:                               deployment,
	{"apps", "StatefulSet"}:                              statefulSet,
	{"apps", "DaemonSet"}:                                daemonSet,
	{"apps", "ReplicaSet"}:                               replicaSet,
	{"batch", "Job"}:                                     job,
	{"batch", "CronJob"}:                                 cronJob,
	{"", "Pod"}:                                          pod,
	{"", "Service"}:                                      service,
	{"", "PersistentVolumeClaim"}:                        claim,
	{"", "Namespace"}:                                    namespace,
	{"networking.k8s.io", "Ingress"}:                     ingress,
	{"gateway.networking.k8s.io", "HTTPRoute"}:           route,
	{"gateway.networking.k8s.io", "GRPCRoute"}:           route,
	{"autoscaling", "HorizontalPodAutoscaler"}:           scaler,
	{"policy", "PodDisruptionBudget"}:                    budget,
	{"apiextensions.k8s.io", "CustomResourceDefinition"}: definition,
	{"apiregistration.k8s.io", "APIService"}:             apiService,
}

// Judged tells whether a kind has a meaning of its own here, rather than going by its conditions.
func Judged(group, kind string) bool { return kinds[kindOf{group, kind}] != nil }

// deployment is healthy when all of its instances are of its newest template and available, and none of an older one is
// left. It fails when its controller gave up (Progressing is False) or its pods are refused (ReplicaFailure).
func deployment(o map[string]any) State {
	if c := condition(o, "ReplicaFailure"); c.is("True") {
		return failing("its pods are not made: %s", c)
	}
	if c := condition(o, "Progressing"); c.is("False") {
		return failing("it does not come on: %s", c)
	}
	want, updated, all, available := wanted(o), count(o, "updatedReplicas"), count(o, "replicas"), count(o, "availableReplicas")
	switch {
	case flag(o, "spec", "paused") && updated < want:
		return moving("it is paused with %d of %d instances renewed", updated, want)
	case updated < want:
		return moving("%d of %d instances are renewed", updated, want)
	case all > updated:
		return moving("instances of the one before are still there: %d", all-updated)
	case available < updated:
		return moving("%d of %d instances are available", available, want)
	case want == 0:
		return State{Word: Stopped}
	}
	return healthy()
}

// statefulSet is healthy when all instances are of its newest revision and ready, as far as its partition asks; one that is
// exchanged by hand (OnDelete) only counts those that are ready.
func statefulSet(o map[string]any) State {
	want, ready, updated := wanted(o), count(o, "readyReplicas"), count(o, "updatedReplicas")
	if text(o, "spec", "updateStrategy", "type") == "OnDelete" {
		updated = want
	}
	partition, _ := number(o, "spec", "updateStrategy", "rollingUpdate", "partition")
	renew := max(0, want-partition)
	switch {
	case ready < want:
		return moving("%d of %d instances are ready", ready, want)
	case text(o, "status", "updateRevision") == text(o, "status", "currentRevision"): // all are of one revision
	case updated < renew:
		return moving("%d of %d instances are renewed", updated, renew)
	}
	if want == 0 {
		return State{Word: Stopped}
	}
	return healthy()
}

// daemonSet is healthy when every node that it is for has one of its newest template that is available.
func daemonSet(o map[string]any) State {
	want, updated, available := count(o, "desiredNumberScheduled"), count(o, "updatedNumberScheduled"), count(o, "numberAvailable")
	if text(o, "spec", "updateStrategy", "type") == "OnDelete" {
		updated = want
	}
	switch {
	case !has(o, "status", "observedGeneration"):
		return moving("its controller has not seen it yet")
	case updated < want:
		return moving("%d of %d nodes have its newest form", updated, want)
	case available < want:
		return moving("it is available on %d of %d nodes", available, want)
	}
	return healthy()
}

func replicaSet(o map[string]any) State {
	if c := condition(o, "ReplicaFailure"); c.is("True") {
		return failing("its pods are not made: %s", c)
	}
	want, available := wanted(o), count(o, "availableReplicas")
	switch {
	case available < want:
		return moving("%d of %d instances are available", available, want)
	case want == 0:
		return State{Word: Stopped}
	}
	return healthy()
}

// job is healthy when it ran to its end, and starting until then; one that is suspended is stopped.
func job(o map[string]any) State {
	switch {
	case condition(o, "Failed").is("True"):
		return failing("it failed: %s", condition(o, "Failed"))
	case condition(o, "FailureTarget").is("True"):
		return failing("it failed: %s", condition(o, "FailureTarget"))
	case condition(o, "Complete").is("True"):
		return State{Word: Healthy, Reason: "it ran to its end"}
	case flag(o, "spec", "suspend"):
		return State{Word: Stopped, Reason: "it is suspended"}
	}
	return moving("it runs: %d of its pods ended well, %d failed", count(o, "succeeded"), count(o, "failed"))
}

// cronJob has no conditions: it is healthy as it stands, and how its Jobs end is theirs to tell.
func cronJob(o map[string]any) State {
	if flag(o, "spec", "suspend") {
		return State{Word: Stopped, Reason: "it is suspended"}
	}
	return healthy()
}

// pod is healthy when it is ready, or ran to its end.
func pod(o map[string]any) State {
	for _, list := range []string{"initContainerStatuses", "containerStatuses"} {
		for _, status := range items(o, "status", list) {
			if reason := text(status, "state", "waiting", "reason"); slices.Contains(stuck, reason) {
				return failing("the container %s waits: %s", text(status, "name"), said(reason, text(status, "state", "waiting", "message")))
			}
		}
	}
	switch text(o, "status", "phase") {
	case "Succeeded":
		return State{Word: Healthy, Reason: "it ran to its end"}
	case "Failed":
		return failing("it failed: %s", said(text(o, "status", "reason"), text(o, "status", "message")))
	}
	if c := condition(o, "Ready"); c.is("True") {
		return healthy()
	} else if c.message != "" {
		return moving("%s", c)
	}
	if c := condition(o, "PodScheduled"); c.is("False") {
		return moving("it is on no node: %s", c)
	}
	return moving("it is not ready yet")
}

// stuck are the reasons of a container that waits which do not go by themselves.
var stuck = []string{"CrashLoopBackOff", "ErrImagePull", "ImagePullBackOff", "InvalidImageName", "ErrImageNeverPull", "CreateContainerConfigError", "CreateContainerError", "RunContainerError"}

// service is healthy as it stands, but for one of type LoadBalancer, which waits for its address.
func service(o map[string]any) State {
	if text(o, "spec", "type") == "LoadBalancer" && len(items(o, "status", "loadBalancer", "ingress")) == 0 {
		return moving("it waits for an address from outside")
	}
	return healthy()
}

// ingress is healthy as it stands: whether a controller gives it an address differs from one to the other.
func ingress(map[string]any) State { return healthy() }

// claim is healthy once it is bound. One whose storage waits for the first pod that uses it stays pending until there is
// one, and says so.
func claim(o map[string]any) State {
	switch phase := text(o, "status", "phase"); phase {
	case "Bound":
		return healthy()
	case "Lost":
		return failing("its volume is gone")
	case "", "Pending":
		return State{Word: Starting, Reason: "it has no volume yet"}
	default:
		return moving("it is %s", phase)
	}
}

func namespace(o map[string]any) State {
	if phase := text(o, "status", "phase"); phase != "" && phase != "Active" {
		return moving("it is %s", phase)
	}
	return healthy()
}

// route is healthy when each of the gateways that it is attached to has accepted its newest form.
func route(o map[string]any) State {
	parents := items(o, "status", "parents")
	if len(items(o, "spec", "parentRefs")) == 0 {
		return healthy()
	}
	if len(parents) == 0 {
		return moving("no gateway has answered for it yet")
	}
	generation, _ := number(o, "metadata", "generation")
	for _, parent := range parents {
		name := text(parent, "parentRef", "name")
		for _, kind := range []string{"Accepted", "ResolvedRefs"} {
			c := conditionIn(items(parent, "conditions"), kind)
			switch {
			case c.status == "" && kind == "ResolvedRefs":
			case c.generation != 0 && c.generation < generation, c.status == "":
				return moving("the gateway %s has not taken its newest form yet", name)
			case !c.is("True"):
				return failing("the gateway %s does not take it: %s", name, c)
			}
		}
	}
	return healthy()
}

// scaler fails where it cannot scale, or cannot read what it scales by.
func scaler(o map[string]any) State {
	for _, kind := range []string{"AbleToScale", "ScalingActive"} {
		c := condition(o, kind)
		if c.is("False") && c.reason == "ScalingDisabled" { // what it scales has no instances
			return State{Word: Stopped, Reason: c.String()}
		}
		if c.is("False") {
			return failing("%s", c)
		}
	}
	if len(items(o, "status", "conditions")) == 0 {
		return moving("its controller has not seen it yet")
	}
	return healthy()
}

// budget is healthy when as many pods are healthy as it asks for.
func budget(o map[string]any) State {
	have, want := count(o, "currentHealthy"), count(o, "desiredHealthy")
	if have < want {
		return moving("%d pods are healthy, and it asks for %d", have, want)
	}
	return healthy()
}

// definition is healthy once its kind is served, and fails where its names are another's.
func definition(o map[string]any) State {
	if c := condition(o, "NamesAccepted"); c.is("False") {
		return failing("its names are taken: %s", c)
	}
	if c := condition(o, "Established"); !c.is("True") {
		return moving("its kind is not served yet")
	}
	return healthy()
}

func apiService(o map[string]any) State {
	if c := condition(o, "Available"); c.is("False") {
		return failing("its API does not answer: %s", c)
	} else if c.status == "" {
		return moving("its API has not been asked yet")
	}
	return healthy()
}

// conditioned goes by conditions alone. By convention Ready and Available say whether an object does its work, Reconciling and
// Stalled that it is on its way, or cannot come on; Failed and Degraded tell of trouble. Without any of them an object is
// healthy as it stands, as there is nothing more to know.
func conditioned(o map[string]any) State {
	for _, kind := range []string{"Stalled", "Failed", "Degraded"} {
		if c := condition(o, kind); c.is("True") {
			return failing("%s", c)
		}
	}
	if c := condition(o, "Reconciling"); c.is("True") {
		return moving("%s", c)
	}
	for _, kind := range []string{"Ready", "Available"} {
		switch c := condition(o, kind); c.status {
		case "False":
			return moving("%s", c)
		case "Unknown":
			return moving("it is not known yet whether it is %s: %s", strings.ToLower(kind), c)
		case "True":
			return healthy()
		}
	}
	return healthy()
}

// State of an object.

func healthy() State { return State{Word: Healthy} }
func moving(format string, a ...any) State {
	return State{Word: Starting, Reason: fmt.Sprintf(format, a...), Moves: true}
}
func failing(format string, a ...any) State {
	return State{Word: Failing, Reason: fmt.Sprintf(format, a...)}
}

// leaving tells what an object that is being deleted still waits for.
func leaving(o map[string]any) string {
	if names, _ := field(o, "metadata", "finalizers").([]any); len(names) > 0 {
		var waits []string
		for _, name := range names {
			waits = append(waits, fmt.Sprint(name))
		}
		return fmt.Sprintf("it is being deleted since %s, and waits for whoever takes away its finalizer %s", clock(text(o, "metadata", "deletionTimestamp")), strings.Join(waits, ", "))
	}
	return fmt.Sprintf("it is being deleted since %s", clock(text(o, "metadata", "deletionTimestamp")))
}

// clock is a moment by its time of day, where it is one.
func clock(moment string) string {
	if t, err := time.Parse(time.RFC3339, moment); err == nil {
		return t.UTC().Format("15:04:05 UTC")
	}
	return moment
}
