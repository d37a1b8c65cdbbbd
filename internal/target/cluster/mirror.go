package cluster

import (
	"context"
	"errors"
	"fmt"
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
	kind  string
	all   bool // not only those with our label
	route bool // only for routes of Gateway API, which a cluster need not have
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
	gateways     = kind{GroupVersionResource: schema.GroupVersionResource{Group: gatewayGroup, Version: "v1", Resource: "gateways"}, kind: "Gateway", all: true, route: true}
)

// watched are all kinds that are.
var watched = []kind{pods, services, configMaps, secrets, claims, events, deployments, statefulSets, jobs, endpoints, routes, gateways}

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
}

// watching is one watch.
type watching struct {
	informer cache.SharedIndexInformer
	failing  error     // why it does not go on; nil while it does
	asked    time.Time // since when the cluster owes an answer; zero while it does not
}

// byWorkload and byAbout index objects: by namespace and workload, and events by what they are about.
const (
	byWorkload = "workload"
	byAbout    = "about"
)

func newMirror(changed func(namespace, workload string)) *mirror {
	return &mirror{changed: changed, watches: map[watchKey]*watching{}, renewed: make(chan struct{})}
}

// start watches a kind in a namespace, or in all, until ctx ends.
func (m *mirror) start(ctx context.Context, client dynamic.Interface, k kind, namespace string) {
	own := client.Resource(k.GroupVersionResource).Namespace(namespace)
	w := &watching{failing: errNotYet}
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
		if !k.all {
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
			if !ok || one.GetLabels()[labelWorkload] == "" {
				return nil, nil
			}
			return []string{one.GetNamespace() + "/" + one.GetLabels()[labelWorkload]}, nil
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
		AddFunc:    func(o any) { m.saw(o) },
		UpdateFunc: func(_, o any) { m.saw(o) },
		DeleteFunc: func(o any) {
			if gone, ok := o.(cache.DeletedFinalStateUnknown); ok {
				o = gone.Obj
			}
			m.saw(o)
		},
	})
	m.mu.Lock()
	m.watches[watchKey{k.GroupVersionResource, namespace}] = w
	m.mu.Unlock()
	go w.informer.RunWithContext(ctx)
	go func() {
		if cache.WaitForCacheSync(ctx.Done(), w.informer.HasSynced) {
			m.mu.Lock()
			m.wake()
			m.mu.Unlock()
		}
	}()
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
func (m *mirror) saw(o any) {
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
				m.changed(one.Namespace, pod.Labels[labelWorkload])
			}
		}
	case metav1.Object:
		m.changed(one.GetNamespace(), one.GetLabels()[labelWorkload])
	}
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
	for key, w := range m.watches {
		if key.namespace != "" && key.namespace != namespace {
			continue
		}
		switch {
		case w.failing != nil && w.failing != errNotYet:
			return fmt.Errorf("watch %s: %w", key.resource.Resource, w.failing)
		case !w.asked.IsZero() && time.Since(w.asked) > hungWithin:
			return fmt.Errorf("watch %s: %w", key.resource.Resource, context.DeadlineExceeded)
		}
	}
	for key, w := range m.watches {
		if (key.namespace == "" || key.namespace == namespace) && !w.informer.HasSynced() {
			return errNotYet
		}
	}
	return nil
}

// watches tells whether a kind is watched.
func (m *mirror) has(k kind, namespace string) bool { return m.watch(k, namespace) != nil }

func (m *mirror) watch(k kind, namespace string) *watching {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, ns := range []string{namespace, ""} {
		if w := m.watches[watchKey{k.GroupVersionResource, ns}]; w != nil {
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
	o, ok, _ := w.informer.GetStore().GetByKey(namespace + "/" + name)
	if one, is := o.(*unstructured.Unstructured); ok && is {
		return one
	}
	return nil
}

// pod gives one of our pods; nil where it is not known.
func (m *mirror) pod(namespace, name string) *corev1.Pod {
	w := m.watch(pods, namespace)
	if w == nil {
		return nil
	}
	o, _, _ := w.informer.GetStore().GetByKey(namespace + "/" + name)
	pod, _ := o.(*corev1.Pod)
	return pod
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
		o, ok, _ := w.informer.GetStore().GetByKey(written.GetNamespace() + "/" + written.GetName())
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
		o, ok, _ := w.informer.GetStore().GetByKey(namespace + "/" + name)
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
