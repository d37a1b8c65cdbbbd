package health

import (
	"encoding/json"
	"strings"
	"testing"
)

// TestObject holds what kinds say of themselves against what that means: objects as an API server gives them, cut to what counts.
func TestObject(t *testing.T) {
	const apps, gateway = `"apiVersion":"apps/v1",`, `"apiVersion":"gateway.networking.k8s.io/v1","kind":"HTTPRoute","metadata":{"generation":4},"spec":{"parentRefs":[{"name":"harbour"}]},`
	for _, c := range []struct {
		name, object string
		word         Word
		reason       string
		moves        bool
	}{
		{"rolled out", apps + `"kind":"Deployment","metadata":{"generation":3},"spec":{"replicas":2},"status":{"observedGeneration":3,"replicas":2,"updatedReplicas":2,"availableReplicas":2}`, Healthy, "", false},
		{"not seen yet", apps + `"kind":"Deployment","metadata":{"generation":4},"spec":{"replicas":2},"status":{"observedGeneration":3,"replicas":2,"updatedReplicas":2,"availableReplicas":2}`, Starting, "not seen its newest form", true},
		{"never seen", apps + `"kind":"Deployment","metadata":{"generation":1},"spec":{"replicas":2}`, Starting, "0 of 2 instances are renewed", true},
		{"renewing", apps + `"kind":"Deployment","spec":{"replicas":3},"status":{"replicas":4,"updatedReplicas":2,"availableReplicas":3}`, Starting, "2 of 3 instances are renewed", true},
		{"old ones left", apps + `"kind":"Deployment","spec":{"replicas":3},"status":{"replicas":4,"updatedReplicas":3,"availableReplicas":4}`, Starting, "instances of the one before are still there: 1", true},
		{"not available", apps + `"kind":"Deployment","spec":{"replicas":3},"status":{"replicas":3,"updatedReplicas":3,"availableReplicas":1}`, Starting, "1 of 3 instances are available", true},
		{"paused", apps + `"kind":"Deployment","spec":{"replicas":3,"paused":true},"status":{"replicas":3,"updatedReplicas":1,"availableReplicas":3}`, Starting, "paused with 1 of 3", true},
		{"gave up", apps + `"kind":"Deployment","spec":{"replicas":3},"status":{"replicas":3,"updatedReplicas":1,"conditions":[{"type":"Progressing","status":"False","reason":"ProgressDeadlineExceeded","message":"timed out progressing"}]}`, Failing, "timed out progressing", false},
		{"refused", apps + `"kind":"Deployment","spec":{"replicas":3},"status":{"conditions":[{"type":"ReplicaFailure","status":"True","message":"exceeded quota"}]}`, Failing, "pods are not made: exceeded quota", false},
		{"scaled to none", apps + `"kind":"Deployment","spec":{"replicas":0},"status":{}`, Stopped, "", false},

		{"set in order", apps + `"kind":"StatefulSet","spec":{"replicas":2},"status":{"readyReplicas":2,"updatedReplicas":2,"updateRevision":"b","currentRevision":"b"}`, Healthy, "", false},
		{"set renewing", apps + `"kind":"StatefulSet","spec":{"replicas":2},"status":{"readyReplicas":2,"updatedReplicas":1,"updateRevision":"b","currentRevision":"a"}`, Starting, "1 of 2 instances are renewed", true},
		{"set with a partition", apps + `"kind":"StatefulSet","spec":{"replicas":3,"updateStrategy":{"rollingUpdate":{"partition":2}}},"status":{"readyReplicas":3,"updatedReplicas":1,"updateRevision":"b","currentRevision":"a"}`, Healthy, "", false},
		{"set by hand", apps + `"kind":"StatefulSet","spec":{"replicas":2,"updateStrategy":{"type":"OnDelete"}},"status":{"readyReplicas":2,"updateRevision":"b","currentRevision":"a"}`, Healthy, "", false},
		{"set not ready", apps + `"kind":"StatefulSet","spec":{"replicas":2},"status":{"readyReplicas":1}`, Starting, "1 of 2 instances are ready", true},

		{"on all nodes", apps + `"kind":"DaemonSet","metadata":{"generation":2},"status":{"observedGeneration":2,"desiredNumberScheduled":3,"updatedNumberScheduled":3,"numberAvailable":3}`, Healthy, "", false},
		{"nodes to renew", apps + `"kind":"DaemonSet","status":{"observedGeneration":2,"desiredNumberScheduled":3,"updatedNumberScheduled":1,"numberAvailable":3}`, Starting, "1 of 3 nodes", true},
		{"nodes without", apps + `"kind":"DaemonSet","status":{"observedGeneration":2,"desiredNumberScheduled":3,"updatedNumberScheduled":3,"numberAvailable":2}`, Starting, "available on 2 of 3", true},
		{"nodes not known", apps + `"kind":"DaemonSet"`, Starting, "not seen it", true},
		{"replicas", apps + `"kind":"ReplicaSet","spec":{"replicas":2},"status":{"availableReplicas":1}`, Starting, "1 of 2", true},
		{"no replicas", apps + `"kind":"ReplicaSet","spec":{"replicas":0},"status":{}`, Stopped, "", false},

		{"job done", `"apiVersion":"batch/v1","kind":"Job","status":{"conditions":[{"type":"Complete","status":"True"}]}`, Healthy, "ran to its end", false},
		{"job failed", `"apiVersion":"batch/v1","kind":"Job","status":{"conditions":[{"type":"Failed","status":"True","message":"BackoffLimitExceeded"}]}`, Failing, "BackoffLimitExceeded", false},
		{"job about to fail", `"apiVersion":"batch/v1","kind":"Job","status":{"conditions":[{"type":"FailureTarget","status":"True","message":"a pod failed"}]}`, Failing, "a pod failed", false},
		{"job runs", `"apiVersion":"batch/v1","kind":"Job","status":{"succeeded":1,"failed":2}`, Starting, "1 of its pods ended well, 2 failed", true},
		{"job waits", `"apiVersion":"batch/v1","kind":"Job","spec":{"suspend":true}`, Stopped, "suspended", false},
		{"timetable", `"apiVersion":"batch/v1","kind":"CronJob","spec":{"suspend":false}`, Healthy, "", false},
		{"no timetable", `"apiVersion":"batch/v1","kind":"CronJob","spec":{"suspend":true}`, Stopped, "suspended", false},

		{"pod ready", `"apiVersion":"v1","kind":"Pod","status":{"phase":"Running","conditions":[{"type":"Ready","status":"True"}]}`, Healthy, "", false},
		{"pod not ready", `"apiVersion":"v1","kind":"Pod","status":{"phase":"Running","conditions":[{"type":"Ready","status":"False","message":"containers with unready status: [gate]"}]}`, Starting, "unready status", true},
		{"pod without image", `"apiVersion":"v1","kind":"Pod","status":{"phase":"Pending","containerStatuses":[{"name":"gate","state":{"waiting":{"reason":"ImagePullBackOff","message":"not found"}}}]}`, Failing, "gate waits: ImagePullBackOff: not found", false},
		{"pod without node", `"apiVersion":"v1","kind":"Pod","status":{"phase":"Pending","conditions":[{"type":"PodScheduled","status":"False","message":"0/1 nodes"}]}`, Starting, "on no node: 0/1 nodes", true},
		{"pod done", `"apiVersion":"v1","kind":"Pod","status":{"phase":"Succeeded"}`, Healthy, "ran to its end", false},
		{"pod failed", `"apiVersion":"v1","kind":"Pod","status":{"phase":"Failed","reason":"Evicted","message":"no memory"}`, Failing, "Evicted: no memory", false},

		{"service", `"apiVersion":"v1","kind":"Service","spec":{"type":"ClusterIP"}`, Healthy, "", false},
		{"balancer without address", `"apiVersion":"v1","kind":"Service","spec":{"type":"LoadBalancer"},"status":{"loadBalancer":{}}`, Starting, "address", true},
		{"balancer", `"apiVersion":"v1","kind":"Service","spec":{"type":"LoadBalancer"},"status":{"loadBalancer":{"ingress":[{"ip":"192.0.2.7"}]}}`, Healthy, "", false},
		{"ingress", `"apiVersion":"networking.k8s.io/v1","kind":"Ingress"`, Healthy, "", false},
		{"claim", `"apiVersion":"v1","kind":"PersistentVolumeClaim","status":{"phase":"Bound"}`, Healthy, "", false},
		{"claim that waits for its pod", `"apiVersion":"v1","kind":"PersistentVolumeClaim","status":{"phase":"Pending"}`, Starting, "no volume yet", false},
		{"claim lost", `"apiVersion":"v1","kind":"PersistentVolumeClaim","status":{"phase":"Lost"}`, Failing, "gone", false},
		{"namespace", `"apiVersion":"v1","kind":"Namespace","status":{"phase":"Active"}`, Healthy, "", false},
		{"namespace on its way out", `"apiVersion":"v1","kind":"Namespace","status":{"phase":"Terminating"}`, Starting, "Terminating", true},

		{"route taken", gateway + `"status":{"parents":[{"parentRef":{"name":"harbour"},"conditions":[{"type":"Accepted","status":"True","observedGeneration":4},{"type":"ResolvedRefs","status":"True","observedGeneration":4}]}]}`, Healthy, "", false},
		{"route taken before", gateway + `"status":{"parents":[{"parentRef":{"name":"harbour"},"conditions":[{"type":"Accepted","status":"True","observedGeneration":3}]}]}`, Starting, "harbour has not taken", true},
		{"route to nothing", gateway + `"status":{"parents":[{"parentRef":{"name":"harbour"},"conditions":[{"type":"Accepted","status":"True","observedGeneration":4},{"type":"ResolvedRefs","status":"False","observedGeneration":4,"message":"no Service"}]}]}`, Failing, "harbour does not take it: no Service", false},
		{"route not answered", gateway + `"status":{}`, Starting, "no gateway", true},

		{"scaler", `"apiVersion":"autoscaling/v2","kind":"HorizontalPodAutoscaler","status":{"conditions":[{"type":"AbleToScale","status":"True"},{"type":"ScalingActive","status":"True"}]}`, Healthy, "", false},
		{"scaler blind", `"apiVersion":"autoscaling/v2","kind":"HorizontalPodAutoscaler","status":{"conditions":[{"type":"ScalingActive","status":"False","reason":"FailedGetResourceMetric","message":"no metrics"}]}`, Failing, "no metrics", false},
		{"scaler of none", `"apiVersion":"autoscaling/v2","kind":"HorizontalPodAutoscaler","status":{"conditions":[{"type":"ScalingActive","status":"False","reason":"ScalingDisabled","message":"scaled to zero"}]}`, Stopped, "scaled to zero", false},
		{"budget kept", `"apiVersion":"policy/v1","kind":"PodDisruptionBudget","status":{"currentHealthy":2,"desiredHealthy":2}`, Healthy, "", false},
		{"budget not kept", `"apiVersion":"policy/v1","kind":"PodDisruptionBudget","status":{"currentHealthy":1,"desiredHealthy":2}`, Starting, "asks for 2", true},
		{"definition", `"apiVersion":"apiextensions.k8s.io/v1","kind":"CustomResourceDefinition","status":{"conditions":[{"type":"Established","status":"True"}]}`, Healthy, "", false},
		{"definition not served", `"apiVersion":"apiextensions.k8s.io/v1","kind":"CustomResourceDefinition"`, Starting, "not served", true},
		{"definition refused", `"apiVersion":"apiextensions.k8s.io/v1","kind":"CustomResourceDefinition","status":{"conditions":[{"type":"NamesAccepted","status":"False","message":"boats is taken"}]}`, Failing, "boats is taken", false},
		{"API away", `"apiVersion":"apiregistration.k8s.io/v1","kind":"APIService","status":{"conditions":[{"type":"Available","status":"False","message":"no endpoints"}]}`, Failing, "no endpoints", false},

		{"of its own, without conditions", `"apiVersion":"skerry.example/v1","kind":"Boat","spec":{"name":"Auk"}`, Healthy, "", false},
		{"of its own, ready", `"apiVersion":"skerry.example/v1","kind":"Boat","status":{"conditions":[{"type":"Ready","status":"True"}]}`, Healthy, "", false},
		{"of its own, not ready", `"apiVersion":"skerry.example/v1","kind":"Boat","status":{"conditions":[{"type":"Ready","status":"False","reason":"NoCrew"}]}`, Starting, "NoCrew", true},
		{"of its own, stalled", `"apiVersion":"skerry.example/v1","kind":"Boat","status":{"conditions":[{"type":"Ready","status":"False"},{"type":"Stalled","status":"True","message":"aground"}]}`, Failing, "aground", false},
		{"of its own, not seen", `"apiVersion":"skerry.example/v1","kind":"Boat","metadata":{"generation":2},"status":{"observedGeneration":1,"conditions":[{"type":"Ready","status":"True"}]}`, Starting, "newest form", true},
		{"a kind of the same name", `"apiVersion":"skerry.example/v1","kind":"Deployment","spec":{"replicas":3}`, Healthy, "", false},
		{"hung on a finalizer", `"apiVersion":"v1","kind":"ConfigMap","metadata":{"deletionTimestamp":"2026-03-02T10:00:00Z","finalizers":["skerry.example/moor"]}`, Starting, "since 10:00:00 UTC, and waits for whoever takes away its finalizer skerry.example/moor", true},
	} {
		var o map[string]any
		if err := json.Unmarshal([]byte("{"+c.object+"}"), &o); err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		got := Object(o)
		if got.Word != c.word || got.Moves != c.moves || !strings.Contains(got.Reason, c.reason) || (c.reason == "") != (got.Reason == "") {
			t.Errorf("%s: %+v, want %s, %q, moves %v", c.name, got, c.word, c.reason, c.moves)
		}
	}
}

// FuzzObject finds no object that upsets it: what a cluster says may have any form.
func FuzzObject(f *testing.F) {
	f.Add(`{"apiVersion":"apps/v1","kind":"Deployment","spec":{"replicas":"two"},"status":[]}`)
	f.Add(`{"kind":3,"metadata":[],"status":{"conditions":{"type":1}}}`)
	f.Fuzz(func(t *testing.T, text string) {
		var o map[string]any
		if json.Unmarshal([]byte(text), &o) == nil {
			if s := Object(o); s.Word == "" {
				t.Errorf("%s has no word", text)
			}
		}
	})
}
