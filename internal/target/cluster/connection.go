package cluster

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-logr/logr"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/client-go/dynamic"
	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/clientcmd"
	"k8s.io/klog/v2"
)

// Connection is one cluster as one account sees it, whatever sites stand on it. Make it with Connect; it is safe for
// concurrent use.
type Connection struct {
	name   string
	config *rest.Config
	client dynamic.Interface
	urgent dynamic.Interface // for traffic, which waits for nothing else that is asked
	http   *http.Client
	base   *url.URL
	mirror *mirror
	others others
	known  known
	asked  *credentials    // nil where no command gives them
	while  context.Context // it runs
	keeps  atomic.Bool     // routes can keep a visitor with one cohort
	ahead  atomic.Int64    // of this machine's clock, in nanoseconds; 0 where they are about the same

	mu        sync.Mutex
	sites     []*Site
	problem   error // why it is not connected yet; nil where it is
	usageFrom usageSource
	reach     reach
}

// Address says where a cluster is and whose account is used there.
type Address struct {
	Kubeconfig string // a file; empty for what KUBECONFIG, the home folder or the account that this program runs under say
	Context    string // in it; empty for its current one
}

// dated learns from each answer how far the cluster's clock is from ours.
type dated struct {
	next       http.RoundTripper
	connection *Connection
}

// leastSkew is how far apart clocks must be for it to matter: answers tell whole seconds.
const leastSkew = 3 * time.Second

// RoundTrip implements http.RoundTripper.
func (d dated) RoundTrip(request *http.Request) (*http.Response, error) {
	response, err := d.next.RoundTrip(request)
	if err == nil && !strings.Contains(request.URL.Path, "/proxy/") { // there a pod answers, and may say what it likes
		if at, err := http.ParseTime(response.Header.Get("Date")); err == nil {
			ahead := (time.Until(at) + time.Second/2).Round(time.Second) // what it says is cut to whole seconds
			if ahead.Abs() < leastSkew {
				ahead = 0
			}
			d.connection.ahead.Store(int64(ahead))
		}
	}
	return response, err
}

// WrappedRoundTripper lets the client find what is beneath.
func (d dated) WrappedRoundTripper() http.RoundTripper { return d.next }

// as is what this machine's clock calls a moment of the cluster's.
func (c *Connection) as(at time.Time) time.Time {
	if at.IsZero() {
		return at
	}
	return at.Add(-time.Duration(c.ahead.Load()))
}

// Requests of ours that are no watches: so many a second over time, and so many at once, for one cluster.
const (
	requestsPerSecond = 5
	requestsAtOnce    = 200
)

// load reads how a cluster is reached.
func (a Address) load() (*rest.Config, string, error) {
	rules := clientcmd.NewDefaultClientConfigLoadingRules()
	rules.ExplicitPath = a.Kubeconfig
	if a.Kubeconfig != "" {
		if _, err := os.Stat(a.Kubeconfig); err != nil {
			return nil, "", fmt.Errorf("kubeconfig: %w; write the path of the file that says how the cluster is reached", err)
		}
	}
	loading := clientcmd.NewNonInteractiveDeferredLoadingClientConfig(rules, &clientcmd.ConfigOverrides{CurrentContext: a.Context})
	raw, err := loading.RawConfig()
	if err != nil {
		return nil, "", fmt.Errorf("read the kubeconfig: %w", err)
	}
	name := a.Context
	if name == "" {
		name = raw.CurrentContext
	}
	if a.Context != "" && raw.Contexts[a.Context] == nil {
		var known []string
		for context := range raw.Contexts {
			known = append(known, context)
		}
		slices.Sort(known)
		return nil, "", fmt.Errorf("context: the kubeconfig has no context %q; it has %q", a.Context, known)
	}
	config, err := loading.ClientConfig()
	if clientcmd.IsEmptyConfig(err) {
		return nil, "", errors.New("no kubeconfig was found, in $KUBECONFIG or ~/.kube/config; name the file with kubeconfig:, or run under a service account")
	}
	if err != nil {
		return nil, "", fmt.Errorf("read the kubeconfig: %w; name the file with kubeconfig:, or run under a service account", err)
	}
	config.UserAgent = "aditus"
	config.QPS, config.Burst = requestsPerSecond, requestsAtOnce
	return config, name, nil
}

// settle sets the client up, once for the program: what it would write of its own troubles stays off the screen, as they come
// as why a site is silent, and a connection on which nothing comes is asked whether it still stands.
var settle = sync.OnceFunc(func() {
	klog.SetLogger(logr.Discard())
	for name, value := range map[string]time.Duration{"HTTP2_READ_IDLE_TIMEOUT_SECONDS": hungAfter, "HTTP2_PING_TIMEOUT_SECONDS": hungWithin} {
		if os.Getenv(name) == "" {
			os.Setenv(name, strconv.Itoa(int(value/time.Second)))
		}
	}
})

// A connection on which nothing came for hungAfter is asked, and is taken for lost where it does not answer within hungWithin.
const (
	hungAfter  = 3 * time.Second
	hungWithin = 4 * time.Second
)

// Connect makes the connection to a cluster, which is made and kept up in the background.
func Connect(config *rest.Config, name string) (*Connection, error) {
	settle()
	config = rest.CopyConfig(config)
	c := &Connection{name: name, config: config, problem: errNotYet, while: context.Background()}
	asked, err := withCredentials(config)
	if err != nil {
		return nil, fmt.Errorf("the cluster %s: %w", name, err)
	}
	config.Wrap(func(next http.RoundTripper) http.RoundTripper { return dated{next, c} })
	client, err := rest.HTTPClientFor(config)
	if err != nil {
		return nil, fmt.Errorf("the cluster %s: %w", name, err)
	}
	if c.http = client; asked != nil {
		c.asked, client.Transport = asked, asked.telling(client.Transport)
	}
	if c.client, err = dynamic.NewForConfigAndClient(config, client); err != nil {
		return nil, fmt.Errorf("the cluster %s: %w", name, err)
	}
	if c.urgent, err = dynamic.NewForConfigAndClient(config, client); err != nil { // with a limit on its requests of its own
		return nil, fmt.Errorf("the cluster %s: %w", name, err)
	}
	if c.base, _, err = rest.DefaultServerUrlFor(config); err != nil {
		return nil, fmt.Errorf("the cluster %s: %w", name, err)
	}
	if c.base.Path == "" {
		c.base.Path = "/"
	}
	c.mirror = newMirror(c.changed)
	return c, nil
}

// A cluster that cannot be connected to is tried again after againFirst, and ever less often up to againMost.
const (
	againFirst = 500 * time.Millisecond
	againMost  = 15 * time.Second
)

// Run connects and watches until ctx ends. It is called once all sites are there.
func (c *Connection) Run(ctx context.Context) {
	c.mu.Lock()
	c.while = ctx
	c.mu.Unlock()
	defer c.asked.forget()
	for wait := againFirst; ; wait = min(2*wait, againMost) {
		err := c.begin(ctx)
		c.mu.Lock()
		c.problem = err
		c.mu.Unlock()
		c.mirror.mu.Lock()
		c.mirror.wake()
		c.mirror.mu.Unlock()
		c.changed("", "")
		if err == nil || ctx.Err() != nil {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
	}
}

// begin learns what the cluster is, makes namespaces that are missing where that is allowed, and starts to watch.
func (c *Connection) begin(ctx context.Context) error {
	gateway, err := c.serves(ctx, gatewayGroup, "v1", routes.Resource)
	if err != nil {
		return err
	}
	calls, err := c.serves(ctx, gatewayGroup, "v1", grpcRoutes.Resource)
	if err != nil {
		return err
	}
	c.keeps.Store(gateway && c.keepsSessions(ctx))
	c.mu.Lock()
	sites := slices.Clone(c.sites)
	c.mu.Unlock()
	var namespaces []string
	for _, s := range sites {
		if !slices.Contains(namespaces, s.Namespace) {
			namespaces = append(namespaces, s.Namespace)
		}
		if err := c.namespace(ctx, s); err != nil {
			return err
		}
	}
	for _, k := range watched {
		if k.route && !gateway || k == grpcRoutes && !calls {
			continue
		}
		in := namespaces
		if (len(namespaces) > 1 || k == gateways) && c.may(ctx, "watch", k, "") && c.may(ctx, "list", k, "") {
			in = []string{""} // one watch for all, and gateways stand wherever they like
		}
		for _, ns := range in {
			if (k == gateways || k == grpcRoutes) && !c.may(ctx, "list", k, ns) {
				continue // then the settings say which one, and calls of gRPC are split by instances
			}
			c.mirror.start(ctx, c.client, k, ns)
		}
	}
	return nil
}

// namespace makes a site's namespace where it is missing.
func (c *Connection) namespace(ctx context.Context, s *Site) error {
	at := "/api/v1/namespaces/" + s.Namespace
	err := c.read(ctx, at, nil)
	switch {
	case err == nil || apierrors.IsForbidden(err): // who may not see it may still work in it
		return nil
	case !apierrors.IsNotFound(err):
		return err
	case s.ReadOnly:
		return nil
	}
	body := object{"apiVersion": "v1", "kind": "Namespace", "metadata": object{"name": s.Namespace, "labels": object{labelManaged: manager}}}
	if err := c.ask(ctx, http.MethodPost, "/api/v1/namespaces", body, nil); err != nil && !apierrors.IsAlreadyExists(err) {
		return fmt.Errorf("make the namespace %s, which is not there: %w", s.Namespace, err)
	}
	return nil
}

// serves tells whether the cluster has a kind.
func (c *Connection) serves(ctx context.Context, group, version, resource string) (bool, error) {
	var found metav1.APIResourceList
	err := c.read(ctx, "/apis/"+group+"/"+version, &found)
	if apierrors.IsNotFound(err) || apierrors.IsForbidden(err) {
		return false, nil
	}
	return slices.ContainsFunc(found.APIResources, func(r metav1.APIResource) bool { return r.Name == resource }), err
}

// keepsSessions tells whether the cluster's HTTPRoutes have session persistence, which not all forms of their definition do.
// Where that cannot be read they have not.
func (c *Connection) keepsSessions(ctx context.Context) bool {
	var document struct {
		Components struct{ Schemas map[string]any }
	}
	if c.read(ctx, "/openapi/v3/apis/"+gatewayGroup+"/v1", &document) != nil {
		return false
	}
	for name, of := range document.Components.Schemas {
		schema, _ := of.(object)
		_, has, _ := unstructured.NestedMap(schema, "properties", "spec", "properties", "rules", "items", "properties", "sessionPersistence")
		if has && strings.HasSuffix(name, ".HTTPRoute") {
			return true
		}
	}
	return false
}

// may asks whether the account may do something with a kind, in a namespace or in all. Where that cannot be asked it may not.
func (c *Connection) may(ctx context.Context, verb string, k kind, namespace string) bool {
	review := object{"apiVersion": "authorization.k8s.io/v1", "kind": "SelfSubjectAccessReview", "spec": object{"resourceAttributes": object{
		"verb": verb, "group": k.Group, "resource": k.Resource, "namespace": namespace,
	}}}
	var answer struct {
		Status struct{ Allowed bool }
	}
	return c.ask(ctx, http.MethodPost, "/apis/authorization.k8s.io/v1/selfsubjectaccessreviews", review, &answer) == nil && answer.Status.Allowed
}

// changed tells the sites of a namespace that there is something new of a workload; of all where there is none.
func (c *Connection) changed(namespace, workload string) {
	c.mu.Lock()
	sites := slices.Clone(c.sites)
	c.mu.Unlock()
	for _, s := range sites {
		if namespace == "" || namespace == s.Namespace {
			s.changed(workload)
		}
	}
}

// fresh tells why what is known of a namespace is not how it is now; nil where it is.
func (c *Connection) fresh(namespace string) error {
	c.mu.Lock()
	problem := c.problem
	c.mu.Unlock()
	if problem == nil {
		problem = c.mirror.silent(namespace)
	}
	return problem
}

// await waits a while until what is known of a namespace is how it is now.
func (c *Connection) await(ctx context.Context, namespace string) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	var last error
	c.mirror.await(ctx, func() bool {
		last = c.fresh(namespace)
		return last == nil || !errors.Is(last, errNotYet)
	})
	return last
}
