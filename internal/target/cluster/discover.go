package cluster

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime/schema"

	"aditus/internal/core/declare"
)

// known are the kinds of the cluster that objects are of, as it tells them. It is safe for concurrent use.
type known struct {
	mu    sync.Mutex
	kinds map[schema.GroupVersionKind]kind
	asked map[string]time.Time // by group and version: when it was last asked for
}

// askedAgain is how long a group that lacked a kind is not asked for again: its definition may come.
const askedAgain = 3 * time.Second

// errNoKind is why objects of a kind cannot be there: the cluster has none such.
var errNoKind = errors.New("install its definition first, or put that into the same part, where it comes before")

// kindFor gives the kind of an object; errNoKind where the cluster has none, and another error where it does not answer.
func (c *Connection) kindFor(ctx context.Context, o declare.Object) (kind, error) {
	version, name := declare.TextAt(o, "apiVersion"), declare.TextAt(o, "kind")
	group, err := schema.ParseGroupVersion(version)
	if err != nil {
		return kind{}, fmt.Errorf("%s: %q is no version of an API", declare.ObjectID(o), version)
	}
	for _, k := range watched {
		if k.kind == name && k.GroupVersion() == group && !k.all && !k.route {
			return k, nil
		}
	}
	missing := fmt.Errorf("the cluster has no %s of %s: %w", name, version, errNoKind)
	c.known.mu.Lock()
	k, ok := c.known.kinds[group.WithKind(name)]
	lately := time.Since(c.known.asked[version]) < askedAgain
	c.known.mu.Unlock()
	if ok {
		return k, nil
	} else if lately {
		return kind{}, missing
	}
	path := "/apis/" + version
	if group.Group == "" {
		path = "/api/" + version
	}
	var list metav1.APIResourceList
	if err := c.read(ctx, path, &list); err != nil && !apierrors.IsNotFound(err) {
		return kind{}, explain(err, "look up", name, version, "")
	}
	c.known.mu.Lock()
	defer c.known.mu.Unlock()
	if c.known.kinds == nil {
		c.known.kinds, c.known.asked = map[schema.GroupVersionKind]kind{}, map[string]time.Time{}
	}
	c.known.asked[version] = time.Now()
	for _, r := range list.APIResources {
		if !strings.Contains(r.Name, "/") {
			k := kind{GroupVersionResource: group.WithResource(r.Name), kind: r.Kind, cluster: !r.Namespaced, extra: true}
			c.known.kinds[group.WithKind(r.Kind)] = k
		}
	}
	if k, ok := c.known.kinds[group.WithKind(name)]; ok {
		return k, nil
	}
	return kind{}, missing
}

// gone forgets a kind that the cluster has no longer, so that it is looked up anew.
func (c *Connection) gone(k kind, namespace string) {
	if k.cluster {
		namespace = ""
	}
	c.mirror.end(k, namespace)
	c.known.mu.Lock()
	defer c.known.mu.Unlock()
	delete(c.known.kinds, k.GroupVersion().WithKind(k.kind))
}

// follow watches a kind for objects that are declared as they are, where it is not watched yet. What is watched is so until
// the connection ends.
func (c *Connection) follow(k kind, namespace string) {
	if k.cluster {
		namespace = ""
	}
	if c.mirror.has(k, namespace) {
		return
	}
	c.mu.Lock()
	while := c.while
	c.mu.Unlock()
	c.mirror.start(while, c.client, k, namespace)
}
