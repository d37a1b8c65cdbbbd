package clustertest

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/dynamic"
	"k8s.io/client-go/dynamic/dynamicinformer"
	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/cache"
)

// Gate is a stand-in for a gateway: it leads requests by the HTTPRoutes and GRPCRoutes of all namespaces, by weights, to the
// ready addresses of their Services, and says of each that it has taken it.
type Gate struct {
	client dynamic.Interface
	slices cache.SharedIndexInformer
	calls  http.RoundTripper // HTTP/2 without TLS

	mu   sync.Mutex
	kept map[string]*unstructured.Unstructured // as they were accepted
}

var (
	httpRoutes     = schema.GroupVersionResource{Group: "gateway.networking.k8s.io", Version: "v1", Resource: "httproutes"}
	grpcRoutes     = schema.GroupVersionResource{Group: "gateway.networking.k8s.io", Version: "v1", Resource: "grpcroutes"}
	slicesResource = schema.GroupVersionResource{Group: "discovery.k8s.io", Version: "v1", Resource: "endpointslices"}
)

// NewGate makes a gateway that watches a cluster until ctx ends.
func NewGate(ctx context.Context, config *rest.Config) (*Gate, error) {
	config = rest.CopyConfig(config)
	config.QPS, config.Burst = 50, 100
	client, err := dynamic.NewForConfig(config)
	if err != nil {
		return nil, err
	}
	h2c := &http.Transport{Protocols: new(http.Protocols)}
	h2c.Protocols.SetUnencryptedHTTP2(true)
	g := &Gate{client: client, calls: h2c, kept: map[string]*unstructured.Unstructured{}}
	all := dynamicinformer.NewDynamicSharedInformerFactory(client, 0)
	g.slices = all.ForResource(slicesResource).Informer()
	for _, resource := range []schema.GroupVersionResource{httpRoutes, grpcRoutes} {
		all.ForResource(resource).Informer().AddEventHandler(cache.ResourceEventHandlerFuncs{
			AddFunc:    func(o any) { g.take(ctx, resource, o.(*unstructured.Unstructured)) },
			UpdateFunc: func(_, o any) { g.take(ctx, resource, o.(*unstructured.Unstructured)) },
			DeleteFunc: func(o any) {
				if one, ok := o.(*unstructured.Unstructured); ok {
					g.mu.Lock()
					delete(g.kept, keyOf(one))
					g.mu.Unlock()
				}
			},
		})
	}
	all.Start(ctx.Done())
	return g, nil
}

func keyOf(o *unstructured.Unstructured) string {
	return o.GetKind() + " " + o.GetNamespace() + "/" + o.GetName()
}

// take leads by a route from now on, and says so.
func (g *Gate) take(ctx context.Context, resource schema.GroupVersionResource, o *unstructured.Unstructured) {
	g.mu.Lock()
	g.kept[keyOf(o)] = o
	g.mu.Unlock()
	parents, _, _ := unstructured.NestedSlice(o.Object, "spec", "parentRefs")
	if len(parents) == 0 {
		return
	}
	if told, _, _ := unstructured.NestedSlice(o.Object, "status", "parents"); len(told) > 0 {
		conditions, _ := told[0].(Object)["conditions"].([]any)
		if len(conditions) > 0 && conditions[0].(Object)["observedGeneration"] == o.GetGeneration() {
			return
		}
	}
	condition := func(kind string) Object {
		return Object{"type": kind, "status": "True", "reason": kind, "message": "", "observedGeneration": o.GetGeneration(), "lastTransitionTime": time.Now().UTC().Format(time.RFC3339)}
	}
	text, _ := json.Marshal(Object{"status": Object{"parents": []any{Object{"parentRef": parents[0], "controllerName": "shore.example/gate", "conditions": []any{condition("Accepted"), condition("ResolvedRefs")}}}}})
	g.client.Resource(resource).Namespace(o.GetNamespace()).Patch(ctx, o.GetName(), types.MergePatchType, text, metav1.PatchOptions{}, "status")
}

// ServeHTTP implements http.Handler.
func (g *Gate) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	host, _, err := net.SplitHostPort(r.Host)
	if err != nil {
		host = r.Host
	}
	call := strings.HasPrefix(r.Header.Get("Content-Type"), "application/grpc")
	namespace, rule := g.find(host, r.Header, call)
	if rule == nil {
		http.Error(w, "no route", http.StatusNotFound)
		return
	}
	for range 3 { // an address may be gone by now
		address := g.pick(namespace, rule)
		if address == "" {
			break
		}
		failed := false
		proxy := httputil.NewSingleHostReverseProxy(&url.URL{Scheme: "http", Host: address})
		if call {
			proxy.Transport, proxy.FlushInterval = g.calls, -1
		}
		proxy.ErrorHandler = func(w http.ResponseWriter, r *http.Request, err error) {
			if failed = strings.Contains(err.Error(), "connect"); !failed {
				http.Error(w, err.Error(), http.StatusBadGateway)
			}
		}
		if proxy.ServeHTTP(w, r); !failed {
			return
		}
	}
	http.Error(w, "nobody is there", http.StatusServiceUnavailable)
}

// find gives the rule for a request: of the routes for its host, or else for any, the one that asks for most headers.
func (g *Gate) find(host string, header http.Header, call bool) (namespace string, found Object) {
	g.mu.Lock()
	defer g.mu.Unlock()
	best := -1
	for _, o := range g.kept {
		hosts, _, _ := unstructured.NestedStringSlice(o.Object, "spec", "hostnames")
		for _, h := range hosts {
			if strings.EqualFold(h, host) {
				hosts = nil
				break
			}
		}
		if len(hosts) > 0 || call != (o.GetKind() == "GRPCRoute") {
			continue
		}
		rules, _, _ := unstructured.NestedSlice(o.Object, "spec", "rules")
		for _, rule := range rules {
			if fits := fitting(rule.(Object), header); fits > best {
				best, namespace, found = fits, o.GetNamespace(), rule.(Object)
			}
		}
	}
	return namespace, found
}

// fitting tells how many headers the match of a rule asks for; -1 where a request does not have them.
func fitting(rule Object, header http.Header) (asked int) {
	matches, _ := rule["matches"].([]any)
	for _, match := range matches {
		headers, _ := match.(Object)["headers"].([]any)
		for _, h := range headers {
			if of := h.(Object); header.Get(fmt.Sprint(of["name"])) != of["value"] {
				return -1
			}
			asked++
		}
	}
	return asked
}

// pick chooses an address of one of a rule's backends.
func (g *Gate) pick(namespace string, rule Object) string {
	refs, _ := rule["backendRefs"].([]any)
	type one struct {
		weight    int64
		addresses []string
	}
	var from []one
	sum := int64(0)
	for _, ref := range refs {
		of := ref.(Object)
		weight, ok := of["weight"].(int64)
		if !ok {
			weight = 1
		}
		from, sum = append(from, one{weight, g.addresses(namespace, fmt.Sprint(of["name"]))}), sum+weight
	}
	if sum == 0 {
		return ""
	}
	at := rand.Int64N(sum)
	for _, b := range from {
		if at -= b.weight; at < 0 {
			if len(b.addresses) == 0 {
				return ""
			}
			return b.addresses[rand.IntN(len(b.addresses))]
		}
	}
	return ""
}

func (g *Gate) addresses(namespace, service string) (found []string) {
	for _, o := range g.slices.GetStore().List() {
		one := o.(*unstructured.Unstructured)
		if one.GetNamespace() != namespace || one.GetLabels()["kubernetes.io/service-name"] != service {
			continue
		}
		ports, _, _ := unstructured.NestedSlice(one.Object, "ports")
		ends, _, _ := unstructured.NestedSlice(one.Object, "endpoints")
		for _, e := range ends {
			ready, _, _ := unstructured.NestedBool(e.(Object), "conditions", "ready")
			addresses, _ := e.(Object)["addresses"].([]any)
			if ready && len(ports) > 0 && len(addresses) > 0 {
				found = append(found, net.JoinHostPort(fmt.Sprint(addresses[0]), strconv.FormatInt(ports[0].(Object)["port"].(int64), 10)))
			}
		}
	}
	return found
}
