// Package clustertest is what the driver for clusters is tried on: a stand-in for the API server, which keeps objects and
// tells of them as one does, and a real cluster where it was built.
package clustertest

import (
	"encoding/json"
	"fmt"
	"hash/crc32"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"sigs.k8s.io/yaml"
)

// Object is an object of the API, as JSON gives it.
type Object = map[string]any

// API is a stand-in for an API server with its controllers: what it is given it keeps, Deployments, StatefulSets and Jobs
// have pods at once, and routes are accepted. Fields have no managers, but those that one of them gave up are taken out.
type API struct {
	*httptest.Server

	// Refuse may answer a request in the API server's place; nil for not.
	Refuse func(r *http.Request) *metav1.Status
	// Pod may change a pod before it is there; what it is now if it is nil is ready.
	Pod func(pod Object)
	// Answers is what pods answer through the API's proxy.
	Answers func(w http.ResponseWriter)
	// Kinds that are served beside those that every cluster has.
	Gateway bool
	// NoCalls tells whether it has no GRPCRoute, and Sessions whether its HTTPRoutes have session persistence.
	NoCalls, Sessions bool
	// Taken tells whether routes are accepted.
	Taken bool
	// Defined tells whether kinds of one's own, Boat of skerry.example/v1 and Chart of the whole cluster, are.
	Defined bool
	// Full makes no pods any more.
	Full bool
	// Usage is what its metrics API says of every namespace's pods; empty where it has none.
	Usage string
	// Late is by how much its watches tell later what changed.
	Late time.Duration
	// Ahead is how far its clock is ahead.
	Ahead time.Duration

	mu       sync.Mutex
	version  int
	objects  map[string]Object // by path
	applied  map[string]Object // by path, as last applied
	history  []change
	oldest   int
	more     chan struct{}
	requests map[string]int // by verb and resource
}

type change struct {
	version int
	kind    string // ADDED, MODIFIED, DELETED
	path    string // of its list
	object  Object
}

// Serve starts a stand-in. Close it in the end.
func Serve() *API {
	a := New()
	a.Server = httptest.NewServer(a)
	return a
}

// New makes a stand-in that is not served yet.
func New() *API {
	return &API{Gateway: true, Taken: true, version: 1, objects: map[string]Object{}, applied: map[string]Object{}, more: make(chan struct{}), requests: map[string]int{}}
}

// kinds are the kinds that there are, by resource.
var kinds = map[string]string{
	"pods": "Pod", "services": "Service", "configmaps": "ConfigMap", "secrets": "Secret", "persistentvolumeclaims": "PersistentVolumeClaim", "events": "Event", "resourcequotas": "ResourceQuota",
	"deployments": "Deployment", "statefulsets": "StatefulSet", "jobs": "Job", "httproutes": "HTTPRoute", "grpcroutes": "GRPCRoute", "endpointslices": "EndpointSlice", "gateways": "Gateway", "namespaces": "Namespace",
	"replicasets": "ReplicaSet", "boats": "Boat", "charts": "Chart",
}

// boats is the group and version of a kind that a cluster has once it is defined.
const boats = "skerry.example/v1"

// now is what its clock says.
func (a *API) now() string { return time.Now().Add(a.Ahead).UTC().Format(time.RFC3339) }

// Requests gives how many requests there were that were no watches, by verb and resource, and forgets them.
func (a *API) Requests() map[string]int {
	a.mu.Lock()
	defer a.mu.Unlock()
	was := a.requests
	a.requests = map[string]int{}
	return was
}

// Put makes or changes an object by hand, from YAML or JSON.
func (a *API) Put(path, text string) {
	var o Object
	if err := yaml.Unmarshal([]byte(text), &o); err != nil {
		panic(err)
	}
	o, _ = whole(o).(Object)
	a.mu.Lock()
	defer a.mu.Unlock()
	a.put(path, o)
}

// Change changes an object by hand; with nil it is deleted.
func (a *API) Change(path string, do func(Object)) {
	a.mu.Lock()
	defer a.mu.Unlock()
	o := a.objects[path]
	if o == nil {
		panic("there is no " + path)
	}
	if do == nil {
		a.delete(path)
		a.replace(o)
		return
	}
	o = copyOf(o)
	do(o)
	a.put(path, o)
}

// Paths gives the paths of all objects of a resource, sorted.
func (a *API) Paths(resource string) (found []string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for path := range a.objects {
		if strings.Contains(path, "/"+resource+"/") {
			found = append(found, path)
		}
	}
	slices.Sort(found)
	return found
}

// Get gives an object; nil where there is none.
func (a *API) Get(path string) Object {
	a.mu.Lock()
	defer a.mu.Unlock()
	return copyOf(a.objects[path])
}

// Forget makes the API server forget what was before now: whoever watches from before has to read anew.
func (a *API) Forget() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.history, a.oldest = nil, a.version
}

// Drop ends all watches, as a server does now and then.
func (a *API) Drop() { a.CloseClientConnections() }

func copyOf(o Object) (c Object) {
	text, _ := json.Marshal(o)
	decode(text, &c)
	return c
}

// decode keeps whole numbers whole.
func decode(text []byte, into *Object) error {
	if err := json.Unmarshal(text, into); err != nil {
		return err
	}
	*into, _ = whole(*into).(Object)
	return nil
}

func whole(v any) any {
	switch v := v.(type) {
	case Object:
		for key, value := range v {
			v[key] = whole(value)
		}
	case []any:
		for i := range v {
			v[i] = whole(v[i])
		}
	case float64:
		if v == float64(int64(v)) {
			return int64(v)
		}
	}
	return v
}

func (a *API) metadata(o Object) Object {
	m, _ := o["metadata"].(Object)
	if m == nil {
		m = Object{}
		o["metadata"] = m
	}
	return m
}

// put keeps an object and tells of it. It is called with the lock held.
func (a *API) put(path string, o Object) Object {
	was := a.objects[path]
	m := a.metadata(o)
	parts := strings.Split(strings.Trim(path, "/"), "/")
	m["name"] = parts[len(parts)-1]
	if i := slices.Index(parts, "namespaces"); i >= 0 && i < len(parts)-2 {
		m["namespace"] = parts[i+1]
	}
	o["kind"] = kinds[parts[len(parts)-2]]
	if o["apiVersion"] == nil {
		o["apiVersion"] = strings.TrimPrefix(strings.Join(parts[1:3], "/"), "v1/namespaces")
		if parts[0] == "api" {
			o["apiVersion"] = "v1"
		}
	}
	if was == nil {
		m["uid"], m["creationTimestamp"], m["generation"] = fmt.Sprintf("uid-%d", a.version+1), a.now(), int64(1)
	} else {
		before := a.metadata(was)
		m["uid"], m["creationTimestamp"], m["generation"] = before["uid"], before["creationTimestamp"], before["generation"]
		if !reflect.DeepEqual(was["spec"], o["spec"]) {
			m["generation"] = before["generation"].(int64) + 1
		}
		delete(m, "resourceVersion")
		same := copyOf(was)
		delete(a.metadata(same), "resourceVersion")
		if reflect.DeepEqual(copyOf(o), same) {
			m["resourceVersion"] = before["resourceVersion"]
			return was
		}
	}
	a.version++
	m["resourceVersion"] = strconv.Itoa(a.version)
	a.objects[path] = o
	kind := "MODIFIED"
	if was == nil {
		kind = "ADDED"
	}
	a.tell(change{a.version, kind, path, copyOf(o)})
	a.control(path, o)
	return a.objects[path]
}

func (a *API) delete(path string) {
	o := a.objects[path]
	delete(a.objects, path)
	delete(a.applied, path)
	a.version++
	gone := copyOf(o)
	a.metadata(gone)["resourceVersion"] = strconv.Itoa(a.version)
	a.tell(change{a.version, "DELETED", path, gone})
	uid := a.metadata(o)["uid"]
	for _, other := range slices.Sorted(maps.Keys(a.objects)) {
		owners, _ := a.metadata(a.objects[other])["ownerReferences"].([]any)
		if slices.ContainsFunc(owners, func(owner any) bool { return owner.(Object)["uid"] == uid }) {
			a.delete(other)
		}
	}
}

func (a *API) tell(c change) {
	a.history = append(a.history, c)
	close(a.more)
	a.more = make(chan struct{})
}

// control does what the cluster's controllers would.
func (a *API) control(path string, o Object) {
	spec, _ := o["spec"].(Object)
	switch o["kind"] {
	case "Deployment", "StatefulSet", "ReplicaSet":
		count, ok := spec["replicas"].(int64)
		if !ok {
			count = 1
		}
		template, _ := spec["template"].(Object)
		marks, _ := template["metadata"].(Object)
		labels, _ := marks["labels"].(Object)
		if o["kind"] == "Deployment" && template != nil && labels["aditus/workload"] == nil {
			a.roll(path, o, count)
			return
		}
		a.run(path, o, int(count))
	case "Job":
		a.run(path, o, 1)
	case "HTTPRoute", "GRPCRoute":
		generation := a.metadata(o)["generation"]
		if status, _ := o["status"].(Object); a.Taken && status["seen"] != generation {
			next := copyOf(o)
			next["status"] = Object{"seen": generation, "parents": []any{Object{"conditions": []any{
				Object{"type": "Accepted", "status": "True", "observedGeneration": generation},
				Object{"type": "ResolvedRefs", "status": "True", "observedGeneration": generation},
			}}}}
			a.put(path, next)
		}
	case "Service":
		for pod, of := range a.objects {
			if strings.HasPrefix(pod, path[:strings.LastIndex(path, "/services/")]+"/pods/") {
				a.address(o, of)
			}
		}
	case "Pod":
		for service, of := range a.objects {
			if strings.HasPrefix(service, path[:strings.LastIndex(path, "/pods/")]+"/services/") {
				a.address(of, o)
			}
		}
		if owners, _ := a.metadata(o)["ownerReferences"].([]any); len(owners) > 0 && owners[0].(Object)["kind"] == "Job" {
			a.finish(path, o, owners[0].(Object)["name"].(string))
		}
	}
}

// address gives a Service the address of a pod that it selects, if it has none yet.
func (a *API) address(service, pod Object) {
	m := a.metadata(service)
	at := fmt.Sprintf("/apis/discovery.k8s.io/v1/namespaces/%s/endpointslices/%s", m["namespace"], m["name"])
	spec, _ := service["spec"].(Object)
	selector, _ := spec["selector"].(Object)
	labels, _ := a.metadata(pod)["labels"].(Object)
	if len(selector) == 0 || service["kind"] != "Service" {
		return
	}
	for key, value := range selector {
		if labels[key] != value {
			return
		}
	}
	if status, _ := pod["status"].(Object); a.objects[at] == nil && status["podIP"] != nil {
		marks := Object{}
		if of, _ := m["labels"].(Object); of != nil {
			marks = copyOf(of)
		}
		marks["kubernetes.io/service-name"] = m["name"]
		a.put(at, Object{"metadata": Object{"labels": marks}, "endpoints": []any{Object{"addresses": []any{status["podIP"]}, "conditions": Object{"ready": true}}}})
	}
}

// finish tells a Job that its pod ended.
func (a *API) finish(path string, pod Object, name string) {
	status, _ := pod["status"].(Object)
	at := strings.Replace(path[:strings.LastIndex(path, "/pods/")], "/api/v1/", "/apis/batch/v1/", 1) + "/jobs/" + name
	kind := map[any]string{"Succeeded": "Complete", "Failed": "Failed"}[status["phase"]]
	if job := a.objects[at]; job != nil && kind != "" {
		next := copyOf(job)
		next["status"] = Object{"conditions": []any{Object{"type": kind, "status": "True", "reason": "BackoffLimitExceeded", "message": "its pod failed"}}}
		a.put(at, next)
	}
}

// roll gives a Deployment a ReplicaSet for its newest template, with pods at once, and takes those of older ones away.
func (a *API) roll(path string, o Object, count int64) {
	m, spec := a.metadata(o), o["spec"].(Object)
	list := path[:strings.LastIndex(path, "/deployments/")] + "/replicasets/"
	text, _ := json.Marshal(spec["template"])
	newest := fmt.Sprintf("%s%s-%08x", list, m["name"], crc32.ChecksumIEEE(text))
	marks, _ := m["annotations"].(Object)
	set := Object{"metadata": Object{
		"annotations":     copyOf(marks),
		"ownerReferences": []any{Object{"apiVersion": o["apiVersion"], "kind": o["kind"], "name": m["name"], "uid": m["uid"], "controller": true}},
	}, "spec": Object{"replicas": count, "template": copyOf(spec["template"].(Object))}}
	for _, other := range slices.Sorted(maps.Keys(a.objects)) {
		owners, _ := a.metadata(a.objects[other])["ownerReferences"].([]any)
		if strings.HasPrefix(other, list) && other != newest && len(owners) > 0 && owners[0].(Object)["uid"] == m["uid"] {
			a.delete(other)
		}
	}
	a.put(newest, set)
	next := copyOf(o)
	next["status"] = Object{"observedGeneration": m["generation"], "replicas": count, "updatedReplicas": count, "availableReplicas": count}
	a.put(path, next)
}

// run gives an object so many pods.
func (a *API) run(path string, o Object, want int) {
	spec := o["spec"].(Object)
	template, _ := spec["template"].(Object)
	m := a.metadata(o)
	base := "/api/v1/namespaces/" + m["namespace"].(string) + "/pods/" + m["name"].(string) + "-"
	var have []string
	for other := range a.objects {
		owners, _ := a.metadata(a.objects[other])["ownerReferences"].([]any)
		if strings.HasPrefix(other, base) && len(owners) > 0 && owners[0].(Object)["uid"] == m["uid"] {
			have = append(have, other)
		}
	}
	cost := func(pod string) int {
		marks, _ := a.metadata(a.objects[pod])["annotations"].(Object)
		number, _ := strconv.Atoi(fmt.Sprint(marks["controller.kubernetes.io/pod-deletion-cost"]))
		return number
	}
	slices.SortFunc(have, func(x, y string) int { // those that go first stand last
		if cost(x) != cost(y) {
			return cost(y) - cost(x)
		}
		return strings.Compare(x, y)
	})
	for len(have) > want {
		a.delete(have[len(have)-1])
		have = have[:len(have)-1]
	}
	for i := 0; len(have) < want && !a.Full; i++ {
		at := base + strconv.Itoa(i)
		if a.objects[at] != nil {
			continue
		}
		have = append(have, at)
		pod := Object{"metadata": copyOf(template["metadata"].(Object)), "spec": copyOf(template["spec"].(Object))}
		a.metadata(pod)["ownerReferences"] = []any{Object{"apiVersion": o["apiVersion"], "kind": o["kind"], "name": m["name"], "uid": m["uid"], "controller": true}}
		containers, _ := pod["spec"].(Object)["containers"].([]any)
		var states []any
		for _, c := range containers {
			states = append(states, Object{"name": c.(Object)["name"], "image": c.(Object)["image"], "ready": true, "restartCount": int64(0), "state": Object{"running": Object{"startedAt": a.now()}}})
		}
		pod["status"] = Object{"phase": "Running", "podIP": "127.0.0.1", "conditions": []any{Object{"type": "Ready", "status": "True"}, Object{"type": "PodScheduled", "status": "True"}}, "containerStatuses": states}
		if a.Pod != nil {
			a.Pod(pod)
			pod, _ = whole(pod).(Object)
		}
		a.put(at, pod)
	}
}

// replace gives what a pod belonged to another one.
func (a *API) replace(pod Object) {
	owners, _ := a.metadata(pod)["ownerReferences"].([]any)
	for path, o := range a.objects {
		if len(owners) > 0 && a.metadata(o)["uid"] == owners[0].(Object)["uid"] {
			a.control(path, o)
			return
		}
	}
}

// ServeHTTP implements http.Handler.
func (a *API) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	parts := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
	w.Header().Set("Date", time.Now().Add(a.Ahead).UTC().Format(http.TimeFormat))
	watching := r.URL.Query().Get("watch") == "true" || r.URL.Query().Get("watch") == "1"
	resource := parts[len(parts)-1]
	if kinds[resource] == "" && len(parts) > 1 {
		resource = parts[len(parts)-2]
	}
	if !watching {
		a.mu.Lock()
		a.requests[r.Method+" "+resource]++
		a.mu.Unlock()
	}
	if a.Refuse != nil {
		if s := a.Refuse(r); s != nil {
			a.fail(w, *s)
			return
		}
	}
	switch {
	case strings.HasPrefix(r.URL.Path, "/apis/metrics.k8s.io/") && a.Usage != "":
		io.WriteString(w, a.Usage)
	case strings.HasPrefix(r.URL.Path, "/apis/metrics.k8s.io/"):
		a.fail(w, Status(http.StatusNotFound, metav1.StatusReasonNotFound, "the server could not find the requested resource"))
	case r.URL.Path == "/version":
		a.answer(w, Object{"gitVersion": "v1.37.2"})
	case strings.HasSuffix(r.URL.Path, "/apis/"+boats) && a.Defined:
		a.answer(w, Object{"kind": "APIResourceList", "resources": []any{Object{"name": "boats", "kind": "Boat", "namespaced": true}, Object{"name": "boats/status", "kind": "Boat", "namespaced": true}, Object{"name": "charts", "kind": "Chart"}}})
	case len(parts) == 3 && parts[0] == "apis" && r.Method == http.MethodGet:
		if parts[1] != "gateway.networking.k8s.io" || !a.Gateway {
			a.fail(w, Status(http.StatusNotFound, metav1.StatusReasonNotFound, "the server could not find the requested resource"))
			return
		}
		served := []any{Object{"name": "httproutes"}, Object{"name": "gateways"}}
		if !a.NoCalls {
			served = append(served, Object{"name": "grpcroutes"})
		}
		a.answer(w, Object{"kind": "APIResourceList", "resources": served})
	case r.URL.Path == "/openapi/v3/apis/gateway.networking.k8s.io/v1" && a.Sessions:
		io.WriteString(w, `{"components": {"schemas": {"io.k8s.networking.gateway.v1.HTTPRoute": {"properties": {"spec": {"properties": {"rules": {"items": {"properties": {"sessionPersistence": {"type": "object"}}}}}}}}}}}`)
	case resource == "selfsubjectaccessreviews" || strings.HasSuffix(r.URL.Path, "/selfsubjectaccessreviews"):
		a.answer(w, Object{"status": Object{"allowed": true}})
	case strings.HasSuffix(r.URL.Path, "/selfsubjectrulesreviews"):
		every := []any{"*"}
		a.answer(w, Object{"status": Object{"resourceRules": []any{Object{"verbs": every, "apiGroups": every, "resources": every}}}})
	case strings.Contains(r.URL.Path, "/proxy/") && a.Answers != nil:
		a.Answers(w)
	case strings.HasSuffix(r.URL.Path, "/log"):
		fmt.Fprintf(w, "%s a line\n", time.Now().UTC().Format(time.RFC3339Nano))
	case kinds[parts[len(parts)-1]] != "" && watching:
		a.watch(w, r)
	case kinds[parts[len(parts)-1]] != "" && r.Method == http.MethodGet:
		a.list(w, r)
	case kinds[parts[len(parts)-1]] != "" && r.Method == http.MethodPost:
		a.write(w, r, true)
	case kinds[resource] != "":
		a.write(w, r, false)
	default:
		a.fail(w, Status(http.StatusNotFound, metav1.StatusReasonNotFound, "the server could not find the requested resource"))
	}
}

// Status makes what an API server says of a request that it refuses.
func Status(code int, reason metav1.StatusReason, message string) metav1.Status {
	return metav1.Status{TypeMeta: metav1.TypeMeta{Kind: "Status", APIVersion: "v1"}, Status: metav1.StatusFailure, Code: int32(code), Reason: reason, Message: message, Details: &metav1.StatusDetails{}}
}

func (a *API) answer(w http.ResponseWriter, o any) {
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(o)
}

func (a *API) fail(w http.ResponseWriter, s metav1.Status) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(int(s.Code))
	json.NewEncoder(w).Encode(s)
}

// in tells whether an object belongs to a list, that of a namespace or of all.
func in(list, path string) bool {
	at := path[:strings.LastIndex(path, "/")]
	if at == list {
		return true
	}
	i := strings.Index(at, "/namespaces/")
	if i < 0 {
		return false
	}
	rest := at[i+len("/namespaces/"):]
	return at[:i]+rest[strings.Index(rest, "/"):] == list
}

// chosen tells whether an object has the label that is asked for.
func chosen(r *http.Request, o Object) bool {
	label := r.URL.Query().Get("labelSelector")
	if label == "" {
		return true
	}
	m, _ := o["metadata"].(Object)
	labels, _ := m["labels"].(Object)
	label, not := strings.CutPrefix(label, "!")
	_, has := labels[label]
	return has != not
}

func (a *API) list(w http.ResponseWriter, r *http.Request) {
	a.mu.Lock()
	defer a.mu.Unlock()
	items := []any{}
	for _, path := range slices.Sorted(maps.Keys(a.objects)) {
		if in(r.URL.Path, path) && chosen(r, a.objects[path]) {
			items = append(items, a.objects[path])
		}
	}
	a.answer(w, Object{"kind": "List", "apiVersion": "v1", "metadata": Object{"resourceVersion": strconv.Itoa(a.version)}, "items": items})
}

func (a *API) watch(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	out := json.NewEncoder(w)
	send := func(kind string, o Object) bool { return out.Encode(Object{"type": kind, "object": o}) == nil }
	a.mu.Lock()
	from, _ := strconv.Atoi(r.URL.Query().Get("resourceVersion"))
	initial := r.URL.Query().Get("sendInitialEvents") == "true"
	var first []Object
	if initial {
		for _, path := range slices.Sorted(maps.Keys(a.objects)) {
			if in(r.URL.Path, path) && chosen(r, a.objects[path]) {
				first = append(first, copyOf(a.objects[path]))
			}
		}
		from = a.version
	}
	gone := from < a.oldest
	a.mu.Unlock()
	if gone {
		out.Encode(Object{"type": "ERROR", "object": Status(http.StatusGone, metav1.StatusReasonExpired, "too old resource version")})
		return
	}
	for _, o := range first {
		send("ADDED", o)
	}
	parts := strings.Split(r.URL.Path, "/")
	bookmark := func(version int, end bool) {
		m := Object{"resourceVersion": strconv.Itoa(version)}
		if end {
			m["annotations"] = Object{"k8s.io/initial-events-end": "true"}
		}
		send("BOOKMARK", Object{"kind": kinds[parts[len(parts)-1]], "apiVersion": "v1", "metadata": m})
	}
	if initial {
		bookmark(from, true)
	}
	for {
		w.(http.Flusher).Flush()
		a.mu.Lock()
		more := a.more
		start, _ := slices.BinarySearchFunc(a.history, from+1, func(c change, v int) int { return c.version - v })
		news := slices.Clone(a.history[start:])
		a.mu.Unlock()
		if late := a.Late; late > 0 && len(news) > 0 {
			select {
			case <-time.After(late):
			case <-r.Context().Done():
				return
			}
		}
		for _, c := range news {
			from = c.version
			if in(r.URL.Path, c.path) && chosen(r, c.object) && !send(c.kind, c.object) {
				return
			}
		}
		if len(news) > 0 {
			continue
		}
		select {
		case <-more:
		case <-r.Context().Done():
			return
		}
	}
}

// write carries out what changes one object, or gives it.
func (a *API) write(w http.ResponseWriter, r *http.Request, create bool) {
	text, err := io.ReadAll(r.Body)
	var o Object
	if err == nil && len(text) > 0 {
		err = yaml.Unmarshal(text, &o)
		o, _ = whole(o).(Object)
	}
	if err != nil {
		a.fail(w, Status(http.StatusBadRequest, metav1.StatusReasonBadRequest, err.Error()))
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	path := strings.TrimSuffix(r.URL.Path, "/")
	if create {
		path += "/" + a.metadata(o)["name"].(string)
	}
	was := a.objects[path]
	apply := strings.HasPrefix(r.Header.Get("Content-Type"), "application/apply-patch")
	if was == nil && !apply && !create {
		s := Status(http.StatusNotFound, metav1.StatusReasonNotFound, path+" not found")
		s.Details.Name = path
		s.Details.Kind = "things"
		a.fail(w, s)
		return
	}
	switch {
	case r.Method == http.MethodGet:
		a.answer(w, was)
	case r.Method == http.MethodDelete:
		a.delete(path)
		a.replace(was)
		a.answer(w, Status(http.StatusOK, "", ""))
	case create:
		a.answer(w, a.put(path, o))
	case apply:
		next := Object{}
		if was != nil {
			next = copyOf(was)
			prune(next, a.applied[path], o)
		}
		merge(next, o, false)
		if r.URL.Query().Get("dryRun") != "" {
			a.answer(w, next)
			return
		}
		a.applied[path] = copyOf(o)
		a.answer(w, a.put(path, next))
	default:
		next := copyOf(was)
		merge(next, o, true)
		a.answer(w, a.put(path, next))
	}
}

// key gives what the items of a list are told apart by; empty for a list that is one value.
func key(list []any) string {
	for _, key := range []string{"mountPath", "containerPort", "name", "uid"} {
		if len(list) > 0 && !slices.ContainsFunc(list, func(item any) bool { of, _ := item.(Object); return of[key] == nil }) {
			return key
		}
	}
	return ""
}

// merge puts fields into an object. In a JSON Merge Patch null takes one out.
func merge(into, from Object, null bool) {
	for name, value := range from {
		switch v := value.(type) {
		case nil:
			if null {
				delete(into, name)
			}
		case Object:
			to, ok := into[name].(Object)
			if !ok {
				to = Object{}
				into[name] = to
			}
			merge(to, v, null)
		case []any:
			by := key(v)
			there, _ := into[name].([]any)
			if null || by == "" {
				into[name] = v
				continue
			}
			for _, item := range v {
				of := item.(Object)
				i := slices.IndexFunc(there, func(x any) bool { y, _ := x.(Object); return fmt.Sprint(y[by]) == fmt.Sprint(of[by]) })
				if i < 0 {
					there = append(there, copyOf(of))
				} else {
					merge(there[i].(Object), of, false)
				}
			}
			into[name] = there
		default:
			into[name] = value
		}
	}
}

// prune takes out what was applied before and is not any more.
func prune(live, before, now Object) {
	for name, value := range before {
		next, still := now[name]
		switch v := value.(type) {
		case Object:
			l, _ := live[name].(Object)
			n, _ := next.(Object)
			if l != nil && n != nil {
				prune(l, v, n)
				continue
			}
		case []any:
			by, n := key(v), []any(nil)
			n, _ = next.([]any)
			l, _ := live[name].([]any)
			if by != "" && still {
				live[name] = slices.DeleteFunc(l, func(item any) bool {
					has := func(list []any) bool {
						return slices.ContainsFunc(list, func(x any) bool { return fmt.Sprint(x.(Object)[by]) == fmt.Sprint(item.(Object)[by]) })
					}
					return has(v) && !has(n)
				})
				continue
			}
		}
		if !still {
			delete(live, name)
		}
	}
}
