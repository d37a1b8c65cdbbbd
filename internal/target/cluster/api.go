package cluster

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/dynamic"
)

// requestTimeout is how long one request may take.
const requestTimeout = 20 * time.Second

// Forms in which the API answers: whole, or of a list only what marks its objects.
const (
	wholeForm = "application/json"
	marksForm = "application/json;as=PartialObjectMetadataList;g=meta.k8s.io;v=v1,application/json"
)

// read fetches a path of the API.
func (c *Connection) read(ctx context.Context, path string, into any) error {
	return c.ask(ctx, http.MethodGet, path, nil, into)
}

// ask makes a request of the API that is about no watched object.
func (c *Connection) ask(ctx context.Context, method, path string, body, into any) error {
	return c.askFor(ctx, method, path, wholeForm, body, into)
}

func (c *Connection) askFor(ctx context.Context, method, path, form string, body, into any) error {
	ctx, cancel := context.WithTimeout(ctx, requestTimeout)
	defer cancel()
	var text io.Reader
	if body != nil {
		written, err := json.Marshal(body)
		if err != nil {
			return err
		}
		text = bytes.NewReader(written)
	}
	response, err := c.raw(ctx, method, path, form, text)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if into == nil {
		return nil
	}
	return json.NewDecoder(io.LimitReader(response.Body, mostAnswer)).Decode(into)
}

// mostAnswer is how much of one answer is read.
const mostAnswer = 64 << 20

// raw makes a request of the API, and gives its answer where that is one of success.
func (c *Connection) raw(ctx context.Context, method, path, accept string, body io.Reader) (*http.Response, error) {
	path, query, _ := strings.Cut(path, "?")
	at := c.base.JoinPath(path)
	at.RawQuery = query
	request, err := http.NewRequestWithContext(ctx, method, at.String(), body)
	if err != nil {
		return nil, err
	}
	request.Header.Set("Accept", accept)
	if body != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	response, err := c.http.Do(request)
	if err != nil {
		return nil, err
	}
	if response.StatusCode < 300 {
		return response, nil
	}
	defer response.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(response.Body, 64<<10))
	said := &apierrors.StatusError{}
	if json.Unmarshal(text, &said.ErrStatus) != nil || said.ErrStatus.Status == "" { // it is not the API server that answers
		said = apierrors.NewGenericServerResponse(response.StatusCode, method, schema.GroupResource{}, "", http.StatusText(response.StatusCode), 0, true)
	}
	return nil, said
}

// of is where objects of a kind are asked for.
func (c *Connection) of(k kind) dynamic.NamespaceableResourceInterface {
	if k == routes || k == grpcRoutes {
		return c.urgent.Resource(k.GroupVersionResource)
	}
	return c.client.Resource(k.GroupVersionResource)
}

// apply makes an object as it is given, with those fields ours, and waits until the mirror has it. An object of that name
// which is not ours is refused.
func (c *Connection) apply(ctx context.Context, o object) (*unstructured.Unstructured, error) {
	one := &unstructured.Unstructured{Object: o}
	k := kindOf(one.GetKind())
	if err := c.free(ctx, k, one); err != nil {
		return nil, err
	}
	return c.write(ctx, k, one, metav1.ApplyOptions{FieldManager: manager, Force: true})
}

// write applies an object, and waits until the mirror has it where it is not only tried.
func (c *Connection) write(ctx context.Context, k kind, one *unstructured.Unstructured, how metav1.ApplyOptions) (*unstructured.Unstructured, error) {
	ctx, cancel := context.WithTimeout(ctx, requestTimeout)
	defer cancel()
	written, err := c.of(k).Namespace(one.GetNamespace()).Apply(ctx, one.GetName(), one, how)
	if err != nil {
		return nil, explain(err, "apply", k.kind, one.GetNamespace(), one.GetName())
	}
	if len(how.DryRun) == 0 {
		c.mirror.reach(ctx, k, written)
	}
	return written, nil
}

// free refuses an object whose name another one has that is not the same part's.
func (c *Connection) free(ctx context.Context, k kind, one *unstructured.Unstructured) error {
	var labels map[string]string
	if there := c.mirror.get(k, one.GetNamespace(), one.GetName()); there != nil {
		labels = there.GetLabels()
	} else {
		others, err := c.others.of(ctx, c, k, one.GetNamespace())
		if err != nil {
			return explain(err, "look for", k.kind, one.GetNamespace(), one.GetName())
		}
		other, taken := others[one.GetName()]
		if !taken {
			return nil
		}
		labels = other
	}
	if labels[labelWorkload] == one.GetLabels()[labelWorkload] && labels[labelPart] == one.GetLabels()[labelPart] {
		return nil
	}
	return fmt.Errorf("there is a %s %s in %s already that is not this workload's: rename the part, or remove that one; it stays as it is", k.kind, one.GetName(), one.GetNamespace())
}

// others are the labels of all objects of a kind by their names, not only of ours. They are read once for much that is made
// at a time.
type others struct {
	mu   sync.Mutex
	read map[watchKey]map[string]map[string]string
	at   map[watchKey]time.Time
}

// othersFor is how long what was read of all objects holds.
const othersFor = 2 * time.Second

func (o *others) of(ctx context.Context, c *Connection, k kind, namespace string) (map[string]map[string]string, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	key := watchKey{k.GroupVersionResource, namespace, k.others}
	if time.Since(o.at[key]) < othersFor {
		return o.read[key], nil
	}
	var list metav1.PartialObjectMetadataList
	path := "/apis/" + k.Group + "/" + k.Version
	if k.Group == "" {
		path = "/api/" + k.Version
	}
	if !k.cluster {
		path += "/namespaces/" + namespace
	}
	if err := c.askFor(ctx, http.MethodGet, path+"/"+k.Resource, marksForm, nil, &list); err != nil {
		return nil, err
	}
	found := map[string]map[string]string{}
	for _, one := range list.Items {
		found[one.Name] = one.Labels
	}
	if o.read == nil {
		o.read, o.at = map[watchKey]map[string]map[string]string{}, map[watchKey]time.Time{}
	}
	o.read[key], o.at[key] = found, time.Now()
	return found, nil
}

// patch changes some fields of an object, and waits until the mirror has it so.
func (c *Connection) patch(ctx context.Context, k kind, namespace, name string, change object) error {
	text, err := json.Marshal(change)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, requestTimeout)
	defer cancel()
	written, err := c.of(k).Namespace(namespace).Patch(ctx, name, types.MergePatchType, text, metav1.PatchOptions{FieldManager: manager})
	if err != nil {
		return explain(err, "change", k.kind, namespace, name)
	}
	c.mirror.reach(ctx, k, written)
	return nil
}

// remove takes an object away, with what it owns. One that is not there does no harm.
func (c *Connection) remove(ctx context.Context, k kind, o metav1.Object) error {
	ctx, cancel := context.WithTimeout(ctx, requestTimeout)
	defer cancel()
	policy, uid := metav1.DeletePropagationBackground, o.GetUID()
	err := c.of(k).Namespace(o.GetNamespace()).Delete(ctx, o.GetName(), metav1.DeleteOptions{
		PropagationPolicy: &policy, Preconditions: &metav1.Preconditions{UID: &uid},
	})
	if err != nil && !apierrors.IsNotFound(err) && !apierrors.IsConflict(err) { // a conflict: another one took its name
		return explain(err, "delete", k.kind, o.GetNamespace(), o.GetName())
	}
	c.mirror.lose(ctx, k, o.GetNamespace(), o.GetName(), uid)
	return nil
}
