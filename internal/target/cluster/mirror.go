package cluster

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/apimachinery/pkg/util/resourceversion"
	"k8s.io/apimachinery/pkg/watch"
	"k8s.io/client-go/dynamic"
	"k8s.io/client-go/tools/cache"
)

// kind is a kind of object that is watched.
type kind struct {
	schema.GroupVersionResource
	kind    string
	all     bool // not only those with our label
	route   bool // only for routes of Gateway API, which a cluster need not have
	others  bool // only those without our label: what objects that are declared as they are have made
	extra   bool // watched for objects that are declared as they are, and a trouble of those alone
	cluster bool // of the whole cluster, in no namespace
}

const gatewayGroup = "gateway.networking.k8s.io"

func of(group, version, resource, name string) kind {
	return kind{GroupVersionResource: schema.GroupVersionResource{Group: group, Version: version, Resource: resource}, kind: name}
}

var (
	pods         = of("", "v1", "pods", "Pod")
	services     = of("", "v1", "services", "Service")
	configMaps   = of("", "v1", "configmaps", "ConfigMap")
	secrets      = of("", "v1", "secrets", "Secret")
	claims       = of("", "v1", "persistentvolumeclaims", "PersistentVolumeClaim")
	events       = kind{GroupVersionResource: schema.GroupVersionResource{Version: "v1", Resource: "events"}, kind: "Event", all: true}
	deployments  = of("apps", "v1", "deployments", "Deployment")
	statefulSets = of("apps", "v1", "statefulsets", "StatefulSet")
	endpoints    = kind{GroupVersionResource: schema.GroupVersionResource{Group: "discovery.k8s.io", Version: "v1", Resource: "endpointslices"}, kind: "EndpointSlice", route: true}
	jobs         = of("batch", "v1", "jobs", "Job")
	routes       = kind{GroupVersionResource: schema.GroupVersionResource{Group: gatewayGroup, Version: "v1", Resource: "httproutes"}, kind: "HTTPRoute", route: true}
	grpcRoutes   = kind{GroupVersionResource: schema.GroupVersionResource{Group: gatewayGroup, Version: "v1", Resource: "grpcroutes"}, kind: "GRPCRoute", route: true}
	gateways     = kind{GroupVersionResource: schema.GroupVersionResource{Group: gatewayGroup, Version: "v1", Resource: "gateways"}, kind: "Gateway", all: true, route: true}
)

// watched are all kinds that are.
var watched = []kind{pods, services, configMaps, secrets, claims, events, deployments, statefulSets, jobs, endpoints, routes, grpcRoutes, gateways}

// Kinds of what objects that are declared as they are have made. They have none of our labels, and are watched where there are such.
var (
	otherPods   = kind{GroupVersionResource: pods.GroupVersionResource, kind: "Pod", others: true, extra: true}
	otherJobs   = kind{GroupVersionResource: jobs.GroupVersionResource, kind: "Job", others: true, extra: true}
	replicaSets = kind{GroupVersionResource: schema.GroupVersionResource{Group: "apps", Version: "v1", Resource: "replicasets"}, kind: "ReplicaSet", all: true, extra: true}
	otherKinds  = []kind{otherPods, otherJobs, replicaSets}
)

// kindOf gives the watched kind of an object.
func kindOf(name string) kind {
	return watched[slices.IndexFunc(watched, func(k kind) bool { return k.kind == name })]
}

// mirror is what the cluster's objects are, as its watches tell. It is safe for concurrent use.
type mirror struct {
	changed func(namespace, workload string)

	mu      sync.Mutex
	watches map[watchKey]*watching
	renewed chan struct{} // closed when anything becomes new
}

type watchKey struct {
	resource  schema.GroupVersionResource
	namespace string // empty for all
	others    bool
}

// watching is one watch.
type watching struct {
	kind     kind
	stop     context.CancelFunc
	informer cache.SharedIndexInformer
	failing  error     // why it does not go on; nil while it does
	asked    time.Time // since when the cluster owes an answer; zero while it does not
}

// Indexes of objects: by namespace and workload, by the UID of what looks after them, and events by what they are about.
const (
	byWorkload = "workload"
	byOwner    = "owner"
	byAbout    = "about"
)

func newMirror(changed func(namespace, workload string)) *mirror {
	return &mirror{changed: changed, watches: map[watchKey]*watching{}, renewed: make(chan struct{})}
}

// start watches a kind in a namespace, or in all, until ctx ends.
func (m *mirror) start(ctx context.Context, client dynamic.Interface, k kind, namespace string) {
	own := client.Resource(k.GroupVersionResource).Namespace(namespace)
	ctx, stop := context.WithCancel(ctx)
	w := &watching{kind: k, stop: stop, failing: errNotYet}
	note := func(err error) {
		m.mu.Lock()
		defer m.mu.Unlock()
		w.asked = time.Time{}
		if was := w.failing; w.failing != err {
			w.failing = err
			if (was == nil) != (err == nil) {
				m.wake()
				if m.changed != nil && was != errNotYet {
					go m.changed("", "")
				}
			}
		}
	}
	narrow := func(o metav1.ListOptions) metav1.ListOptions {
		switch {
		case k.others:
			o.LabelSelector = "!" + labelWorkload
		case !k.all:
			o.LabelSelector = labelWorkload
		}
		return o
	}
	source := &cache.ListWatch{
		ListWithContextFunc: func(ctx context.Context, o metav1.ListOptions) (runtime.Object, error) {
			w.ask(m)
			list, err := own.List(ctx, narrow(o))
			if ctx.Err() == nil {
				note(err)
			}
			return list, err
		},
		WatchFuncWithContext: func(ctx context.Context, o metav1.ListOptions) (watch.Interface, error) {
			w.ask(m)
			stream, err := own.Watch(ctx, narrow(o))
			if ctx.Err() == nil {
				note(err)
			}
			return stream, err
		},
	}
	w.informer = cache.NewSharedIndexInformerWithOptions(cache.ToListWatcherWithWatchListSemantics(source, client), &unstructured.Unstructured{}, cache.SharedIndexInformerOptions{Indexers: cache.Indexers{
		byWorkload: func(o any) ([]string, error) {
			one, ok := o.(metav1.Object)
			if !ok || one.GetLabels()[labelWorkload] == "" || one.GetAnnotations()[annotationForm] != "" { // declared as they are they are no cohort's
				return nil, nil
			}
			return []string{one.GetNamespace() + "/" + one.GetLabels()[labelWorkload]}, nil
		},
		byOwner: func(o any) ([]string, error) {
			if one, ok := o.(metav1.Object); ok {
				if owner := metav1.GetControllerOf(one); owner != nil {
					return []string{string(owner.UID)}, nil
				}
			}
			return nil, nil
		},
		byAbout: func(o any) ([]string, error) {
			if e, ok := o.(*event); ok {
				return []string{e.Namespace + "/" + e.about}, nil
			}
			return nil, nil
		},
	}})
	w.informer.SetTransform(compact)
	w.informer.AddEventHandler(cache.ResourceEventHandlerFuncs{
		AddFunc:    func(o any) { m.saw(k, o) },
		UpdateFunc: func(_, o any) { m.saw(k, o) },
		DeleteFunc: func(o any) {
			if gone, ok := o.(cache.DeletedFinalStateUnknown); ok {
				o = gone.Obj
			}
			m.saw(k, o)
		},
	})
	key := watchKey{k.GroupVersionResource, namespace, k.others}
	m.mu.Lock()
	_, twice := m.watches[key]
	if !twice {
		m.watches[key] = w
	}
	m.mu.Unlock()
	if twice {
		stop()
		return
	}
	go w.informer.RunWithContext(ctx)
	go func() {
		if cache.WaitForCacheSync(ctx.Done(), w.informer.HasSynced) {
			m.mu.Lock()
			m.wake()
			m.mu.Unlock()
		}
	}()
}

// end ends the watch of a kind.
func (m *mirror) end(k kind, namespace string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	key := watchKey{k.GroupVersionResource, namespace, k.others}
	if w := m.watches[key]; w != nil {
		w.stop()
		delete(m.watches, key)
	}
}

// ask notes that the cluster is asked: the client tries again by itself for a long time where there is no answer.
func (w *watching) ask(m *mirror) {
	m.mu.Lock()
	defer m.mu.Unlock()
	w.asked = time.Now()
}

// errNotYet is why nothing is known of what was never read.
var errNotYet = errors.New("it has not been read yet")

// saw tells whoever waits that an object is new, and whoever follows which workload it is of.
func (m *mirror) saw(k kind, o any) {
	m.mu.Lock()
	m.wake()
	m.mu.Unlock()
	if m.changed == nil {
		return
	}
	switch one := o.(type) {
	case *event: // it may say why what it is about is as it is
		if kind, name, _ := strings.Cut(one.about, "/"); one.bad && kind == pods.kind {
			if pod := m.pod(one.Namespace, name); pod != nil {
				m.changed(one.Namespace, m.workloadOf(pod))
			}
		}
	case metav1.Object:
		workload := m.workloadOf(one)
		if workload == "" && k.extra && !k.cluster { // it is nobody's here
			return
		}
		m.changed(one.GetNamespace(), workload)
	}
}

// deepest is how far up what looks after an object is followed.
const deepest = 6

// workloadOf gives the workload that an object belongs to, by its label or by what looks after it; empty for none.
func (m *mirror) workloadOf(o metav1.Object) string {
	for range deepest {
		if workload := o.GetLabels()[labelWorkload]; workload != "" {
			return workload
		}
		owner := metav1.GetControllerOf(o)
		if owner == nil {
			return ""
		}
		if o = m.named(owner.APIVersion, owner.Kind, o.GetNamespace(), owner.Name); o == nil {
			return ""
		}
	}
	return ""
}

// named gives an object by its kind and name, of whichever watch has it; nil where none has.
func (m *mirror) named(apiVersion, name, namespace, of string) metav1.Object {
	m.mu.Lock()
	var having []*watching
	for key, w := range m.watches {
		if w.kind.kind == name && w.kind.GroupVersion().String() == apiVersion && (key.namespace == "" || key.namespace == namespace) {
			having = append(having, w)
		}
	}
	m.mu.Unlock()
	for _, w := range having {
		key := namespace + "/" + of
		if w.kind.cluster {
			key = of
		}
		if o, ok, _ := w.informer.GetStore().GetByKey(key); ok {
			if one, is := o.(metav1.Object); is {
				return one
			}
		}
	}
	return nil
}

// labelled gives all objects that have a workload's label, of the cluster and of a namespace.
func (m *mirror) labelled(namespace, workload string) (found []metav1.Object) {
	m.mu.Lock()
	watches := slices.Collect(maps.Values(m.watches))
	m.mu.Unlock()
	for _, w := range watches {
		if w.kind.others || w.kind.all || w.kind == endpoints {
			continue
		}
		for _, o := range w.informer.GetStore().List() {
			if one, ok := o.(metav1.Object); ok && one.GetLabels()[labelWorkload] == workload && (one.GetNamespace() == namespace || one.GetNamespace() == "") {
				found = append(found, one)
			}
		}
	}
	return found
}

// ownedBy gives the objects that another one looks after, of all kinds that are watched, by kind and name.
func (m *mirror) ownedBy(uid types.UID) (found []metav1.Object) {
	m.mu.Lock()
	watches := slices.Collect(maps.Values(m.watches))
	m.mu.Unlock()
	for _, w := range watches {
		all, _ := w.informer.GetIndexer().ByIndex(byOwner, string(uid))
		for _, o := range all {
			if one, ok := o.(metav1.Object); ok {
				found = append(found, one)
			}
		}
	}
	slices.SortFunc(found, func(a, b metav1.Object) int {
		return cmp.Or(strings.Compare(kindName(a), kindName(b)), strings.Compare(a.GetName(), b.GetName()))
	})
	return found
}

// wake lets whoever waits look again. It is called with the lock held.
func (m *mirror) wake() {
	close(m.renewed)
	m.renewed = make(chan struct{})
}

// await waits until what is asked for is so, or ctx ends.
func (m *mirror) await(ctx context.Context, so func() bool) error {
	for {
		m.mu.Lock()
		renewed := m.renewed
		m.mu.Unlock()
		if so() {
			return nil
		}
		select {
		case <-renewed:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// silent tells why not all that is watched for a namespace is known as it is now; nil where it is.
func (m *mirror) silent(namespace string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if len(m.watches) == 0 {
		return errNotYet
	}
	var notYet error
	for key, w := range m.watches {
		if w.kind.extra || key.namespace != "" && key.namespace != namespace {
			continue
		}
		if err := w.silent(); err == errNotYet {
			notYet = err
		} else if err != nil {
			return err
		}
	}
	return notYet
}

// silent tells why a watch does not tell how it is now; nil where it does. It is called with the lock held.
func (w *watching) silent() error {
	switch {
	case w.failing != nil && w.failing != errNotYet:
		return fmt.Errorf("watch %s: %w", w.kind.Resource, w.failing)
	case !w.asked.IsZero() && time.Since(w.asked) > hungWithin:
		return fmt.Errorf("watch %s: %w", w.kind.Resource, context.DeadlineExceeded)
	case !w.informer.HasSynced():
		return errNotYet
	}
	return nil
}

// lacks tells why what is known of one kind is not how it is now; nil where it is.
func (m *mirror) lacks(k kind, namespace string) error {
	w := m.watch(k, namespace)
	if w == nil {
		return errNotYet
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	return w.silent()
}

// watches tells whether a kind is watched.
func (m *mirror) has(k kind, namespace string) bool { return m.watch(k, namespace) != nil }

func (m *mirror) watch(k kind, namespace string) *watching {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, ns := range []string{namespace, ""} {
		if w := m.watches[watchKey{k.GroupVersionResource, ns, k.others}]; w != nil {
			return w
		}
	}
	return nil
}

// list gives a workload's objects of a kind, by name; of all workloads where it is empty. They are not to be changed.
func list[T metav1.Object](m *mirror, k kind, namespace, workload string) (found []T) {
	w := m.watch(k, namespace)
	if w == nil {
		return nil
	}
	var all []any
	if workload != "" {
		all, _ = w.informer.GetIndexer().ByIndex(byWorkload, namespace+"/"+workload)
	} else {
		all = w.informer.GetStore().List()
	}
	for _, o := range all {
		if one, ok := o.(T); ok && (namespace == "" || one.GetNamespace() == namespace) {
			found = append(found, one)
		}
	}
	slices.SortFunc(found, func(a, b T) int { return strings.Compare(a.GetName(), b.GetName()) })
	return found
}

// get gives one object of a kind; nil where it is not known.
func (m *mirror) get(k kind, namespace, name string) *unstructured.Unstructured {
	w := m.watch(k, namespace)
	if w == nil {
		return nil
	}
	o, ok, _ := w.informer.GetStore().GetByKey(k.key(namespace, name))
	if one, is := o.(*unstructured.Unstructured); ok && is {
		return one
	}
	return nil
}

// pod gives one of our pods; nil where it is not known.
func (m *mirror) pod(namespace, name string) *corev1.Pod {
	pod, _ := m.named("v1", pods.kind, namespace, name).(*corev1.Pod)
	return pod
}

// key is that of an object of a kind in a store.
func (k kind) key(namespace, name string) string {
	if k.cluster {
		return name
	}
	return namespace + "/" + name
}

// patience is how long a watch may take to tell of what was just done.
const patience = 5 * time.Second

// reach waits until the mirror has an object as it was answered when it was written, or newer.
func (m *mirror) reach(ctx context.Context, k kind, written metav1.Object) {
	w := m.watch(k, written.GetNamespace())
	if w == nil {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	m.await(ctx, func() bool {
		o, ok, _ := w.informer.GetStore().GetByKey(k.key(written.GetNamespace(), written.GetName()))
		one, is := o.(metav1.Object)
		if !ok || !is {
			return false
		}
		order, err := resourceversion.CompareResourceVersion(one.GetResourceVersion(), written.GetResourceVersion())
		return err != nil || order >= 0
	})
}

// lose waits until the mirror has an object no longer, or only one that is on its way out or came after it.
func (m *mirror) lose(ctx context.Context, k kind, namespace, name string, uid types.UID) {
	w := m.watch(k, namespace)
	if w == nil {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	m.await(ctx, func() bool {
		o, ok, _ := w.informer.GetStore().GetByKey(k.key(namespace, name))
		one, is := o.(metav1.Object)
		return !ok || !is || one.GetUID() != uid || one.GetDeletionTimestamp() != nil
	})
}

// compact keeps of an object what is looked at.
func compact(o any) (any, error) {
	one, ok := o.(*unstructured.Unstructured)
	if !ok {
		return o, nil // it was compacted already, or is none
	}
	switch one.GetKind() {
	case pods.kind:
		pod := &corev1.Pod{}
		one.SetManagedFields(nil)
		if err := runtime.DefaultUnstructuredConverter.FromUnstructured(one.Object, pod); err != nil {
			return nil, fmt.Errorf("read the pod %s: %w", one.GetName(), err)
		}
		return pod, nil
	case events.kind:
		return newEvent(one), nil
	}
	return one, nil
}

// event is what the cluster says that happened to an object.
type event struct {
	metav1.ObjectMeta
	about string // KIND/NAME
	text  string
	bad   bool
	at    time.Time
}

// GetObjectKind and DeepCopyObject make it a runtime.Object, which an informer keeps.
func (e *event) GetObjectKind() schema.ObjectKind { return schema.EmptyObjectKind }

// DeepCopyObject implements runtime.Object. An event is never changed.
func (e *event) DeepCopyObject() runtime.Object { return e }

func newEvent(o *unstructured.Unstructured) *event {
	text := func(path ...string) string { found, _, _ := unstructured.NestedString(o.Object, path...); return found }
	e := &event{
		ObjectMeta: metav1.ObjectMeta{Name: o.GetName(), Namespace: o.GetNamespace(), UID: o.GetUID(), ResourceVersion: o.GetResourceVersion()},
		about:      text("involvedObject", "kind") + "/" + text("involvedObject", "name"),
		text:       text("reason") + ": " + strings.TrimSpace(text("message")),
		bad:        text("type") == "Warning",
	}
	for _, when := range []string{text("series", "lastObservedTime"), text("lastTimestamp"), text("eventTime"), text("metadata", "creationTimestamp")} {
		if at, err := time.Parse(time.RFC3339Nano, when); err == nil {
			e.at = at
			break
		}
	}
	return e
}

// events gives what happened to an object, oldest first.
func (m *mirror) events(namespace, about string) []*event {
	w := m.watch(events, namespace)
	if w == nil {
		return nil
	}
	all, _ := w.informer.GetIndexer().ByIndex(byAbout, namespace+"/"+about)
	var found []*event
	for _, o := range all {
		if e, ok := o.(*event); ok {
			found = append(found, e)
		}
	}
	slices.SortFunc(found, func(a, b *event) int { return a.at.Compare(b.at) })
	return found
}
