package cluster

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	corev1 "k8s.io/api/core/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	"k8s.io/apimachinery/pkg/api/resource"
	"k8s.io/client-go/tools/remotecommand"
	"k8s.io/client-go/util/exec"

	"aditus/internal/core/signal"
	"aditus/internal/target"
)

// Exec implements target.Driver, over a WebSocket.
func (s *Site) Exec(ctx context.Context, workload, instance string, command []string) (string, error) {
	pod, err := s.pod(ctx, workload, instance)
	if err != nil {
		return "", err
	}
	query := url.Values{"stdout": {"true"}, "stderr": {"true"}, "container": {containerOf(pod)}, "command": command}
	at := s.connection.base.JoinPath("/api/v1/namespaces", s.Namespace, "pods", pod.Name, "exec")
	at.RawQuery = query.Encode()
	executor, err := remotecommand.NewWebSocketExecutor(s.connection.config, http.MethodGet, at.String())
	if err != nil {
		return "", explain(err, "run a command in", pods.kind, s.Namespace, pod.Name)
	}
	var out bytes.Buffer
	err = executor.StreamWithContext(ctx, remotecommand.StreamOptions{Stdout: &limited{&out}, Stderr: &limited{&out}})
	var ended exec.CodeExitError
	switch {
	case err == nil:
		return "", nil
	case errors.As(err, &ended):
		said := short(lastLine(out.String()))
		if said != "" {
			said = ": " + said
		}
		return fmt.Sprintf("%s ended with status %d%s", command[0], ended.Code, said), nil
	case ctx.Err() != nil:
		return "", ctx.Err()
	}
	return "", explain(err, "run a command in", pods.kind, s.Namespace, pod.Name)
}

// limited keeps the first of what a command writes.
type limited struct{ to *bytes.Buffer }

// mostOutput is how much of it.
const mostOutput = 16 << 10

func (l *limited) Write(text []byte) (int, error) {
	if room := mostOutput - l.to.Len(); room > 0 {
		l.to.Write(text[:min(room, len(text))])
	}
	return len(text), nil
}

func lastLine(text string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	return lines[len(lines)-1]
}

// containerOf is the container of a pod that runs the part.
func containerOf(pod *corev1.Pod) string {
	for _, c := range pod.Spec.Containers {
		if c.Name == containerName {
			return c.Name
		}
	}
	return pod.Spec.Containers[0].Name
}

// Log implements target.Driver: what all of a pod's containers wrote, and what one wrote that was started again before that.
func (s *Site) Log(ctx context.Context, workload, instance string, since time.Time, most int) ([]target.LogLine, error) {
	pod, err := s.pod(ctx, workload, instance)
	if err != nil {
		return nil, err
	}
	var all []target.LogLine
	states := slices.Concat(pod.Status.InitContainerStatuses, pod.Status.ContainerStatuses)
	for _, state := range states {
		if state.State.Waiting != nil && state.LastTerminationState.Terminated == nil {
			continue // it has not begun
		}
		for _, previous := range []bool{true, false} {
			if previous && (state.RestartCount == 0 || !since.IsZero() && state.LastTerminationState.Terminated != nil && state.LastTerminationState.Terminated.FinishedAt.Time.Before(since)) {
				continue
			}
			lines, err := s.lines(ctx, pod, state.Name, previous, since, most)
			if previous && err != nil {
				continue // its node has forgotten it
			}
			if err != nil {
				return nil, err
			}
			if len(states) > 1 {
				for i := range lines {
					lines[i].Text = state.Name + ": " + lines[i].Text
				}
			}
			all = append(all, lines...)
		}
	}
	slices.SortStableFunc(all, func(a, b target.LogLine) int { return a.At.Compare(b.At) })
	return all[max(0, len(all)-most):], nil
}

// lines reads what one container wrote.
func (s *Site) lines(ctx context.Context, pod *corev1.Pod, container string, previous bool, since time.Time, most int) ([]target.LogLine, error) {
	query := url.Values{"container": {container}, "timestamps": {"true"}, "tailLines": {strconv.Itoa(most)}, "limitBytes": {strconv.Itoa(mostLog)}}
	if previous {
		query.Set("previous", "true")
	}
	if !since.IsZero() {
		query.Set("sinceTime", since.UTC().Format(time.RFC3339))
	}
	ctx, cancel := context.WithTimeout(ctx, requestTimeout)
	defer cancel()
	response, err := s.connection.raw(ctx, http.MethodGet, "/api/v1/namespaces/"+s.Namespace+"/pods/"+pod.Name+"/log?"+query.Encode(), wholeForm, nil)
	if apierrors.IsBadRequest(err) { // its container has not begun, or is gone
		return nil, nil
	}
	if err != nil {
		return nil, explain(err, "read the log of", pods.kind, s.Namespace, pod.Name)
	}
	defer response.Body.Close()
	var found []target.LogLine
	lines := bufio.NewReaderSize(response.Body, 64<<10)
	for {
		text, err := lines.ReadString('\n')
		if moment, rest, ok := strings.Cut(strings.TrimSuffix(text, "\n"), " "); ok {
			if at, err := time.Parse(time.RFC3339Nano, moment); err == nil && at.After(since) {
				found = append(found, target.LogLine{At: at, Text: rest})
			}
		}
		if err == io.EOF {
			return found, nil
		}
		if err != nil {
			return found, nil // what came is told
		}
	}
}

// mostLog is how many bytes of one log are read at once.
const mostLog = 8 << 20

// Measure implements target.Driver: what pods use of their nodes. Requests are counted by the pods themselves.
func (s *Site) Measure(ctx context.Context, workload string) (map[string]signal.Page, error) {
	if err := s.connection.await(ctx, s.Namespace); err != nil {
		return nil, unreachable(s.Name, err)
	}
	used := s.connection.usage(ctx, s.Namespace)
	found := map[string]signal.Page{}
	for name, u := range used {
		if pod := s.connection.mirror.pod(s.Namespace, name); pod != nil && s.connection.mirror.workloadOf(pod) == workload {
			found[name] = signal.Page{target.MemoryMetric: {signal.NewSample(nil, float64(u.memory))}}
		}
	}
	return found, nil
}

// usage is what a pod uses.
type usage struct {
	cores  float64
	memory uint64 // bytes
}

// usageSource is where usage was last read, and what it was.
type usageSource struct {
	asking sync.Mutex // one question at a time

	mu   sync.Mutex
	at   map[string]time.Time
	read map[string]map[string]usage // by namespace and pod
	none map[string]time.Time        // when the cluster said that it does not tell it, by who was asked
}

// Usage is read at most every usageEvery; who does not tell it is asked again after usageAgain. Nodes are asked where they
// are not more than mostNodes.
const (
	usageEvery = 15 * time.Second
	usageAgain = 10 * time.Minute
	mostNodes  = 20
)

// used is what a pod used when that was read last; it asks nobody.
func (c *Connection) used(namespace, pod string) (usage, bool) {
	u := &c.usageFrom
	u.mu.Lock()
	defer u.mu.Unlock()
	one, ok := u.read[namespace][pod]
	return one, ok && time.Since(u.at[namespace]) < 4*usageEvery
}

// usage reads what a namespace's pods use: from the metrics API where there is one, or else from the nodes that they run on.
func (c *Connection) usage(ctx context.Context, namespace string) map[string]usage {
	u := &c.usageFrom
	u.asking.Lock()
	defer u.asking.Unlock()
	u.mu.Lock()
	last, fresh := u.read[namespace], time.Since(u.at[namespace]) < usageEvery
	u.mu.Unlock()
	if fresh {
		return last
	}
	read, err := c.metricsUsage(ctx, namespace)
	if errors.Is(err, errNotTold) {
		read, err = c.nodesUsage(ctx, namespace)
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.at == nil {
		u.at, u.read = map[string]time.Time{}, map[string]map[string]usage{}
	}
	u.at[namespace], u.read[namespace] = time.Now(), read
	if err != nil {
		delete(u.read, namespace)
		return nil
	}
	return read
}

// errNotTold means that usage is not to be had from whoever was asked.
var errNotTold = errors.New("it does not tell what pods use")

// ask reads something that may not be there, or not for us; then it is not asked for again for a while.
func (u *usageSource) ask(ctx context.Context, c *Connection, path, source string, into any) error {
	u.mu.Lock()
	none := time.Since(u.none[source]) < usageAgain
	u.mu.Unlock()
	if none {
		return errNotTold
	}
	err := c.read(ctx, path, into)
	if apierrors.IsNotFound(err) || apierrors.IsForbidden(err) {
		u.mu.Lock()
		defer u.mu.Unlock()
		if u.none == nil {
			u.none = map[string]time.Time{}
		}
		u.none[source] = time.Now()
		return errNotTold
	}
	return err
}

// metricsUsage asks the metrics API.
func (c *Connection) metricsUsage(ctx context.Context, namespace string) (map[string]usage, error) {
	var found struct {
		Items []struct {
			Metadata   struct{ Name string }
			Containers []struct{ Usage map[string]string }
		}
	}
	if err := c.usageFrom.ask(ctx, c, "/apis/metrics.k8s.io/v1beta1/namespaces/"+namespace+"/pods", "", &found); err != nil {
		return nil, err
	}
	read := map[string]usage{}
	for _, item := range found.Items {
		one := usage{}
		for _, container := range item.Containers {
			if q, err := resource.ParseQuantity(container.Usage["cpu"]); err == nil {
				one.cores += q.AsApproximateFloat64()
			}
			if q, err := resource.ParseQuantity(container.Usage["memory"]); err == nil {
				one.memory += uint64(max(0, q.Value()))
			}
		}
		read[item.Metadata.Name] = one
	}
	return read, nil
}

// nodesUsage asks the nodes on which a namespace's pods run, through the API's proxy: what their kubelets have in summary. An
// account may do that only where it may do all that a kubelet can.
func (c *Connection) nodesUsage(ctx context.Context, namespace string) (map[string]usage, error) {
	nodes := map[string]bool{}
	for _, k := range []kind{pods, otherPods} {
		for _, pod := range list[*corev1.Pod](c.mirror, k, namespace, "") {
			if pod.Spec.NodeName != "" {
				nodes[pod.Spec.NodeName] = true
			}
		}
	}
	if len(nodes) > mostNodes {
		return nil, errNotTold
	}
	read := map[string]usage{}
	for _, node := range slices.Sorted(maps.Keys(nodes)) {
		var found struct {
			Pods []struct {
				PodRef struct{ Name, Namespace string }
				CPU    struct{ UsageNanoCores float64 }
				Memory struct{ WorkingSetBytes uint64 }
			}
		}
		if err := c.usageFrom.ask(ctx, c, "/api/v1/nodes/"+url.PathEscape(node)+"/proxy/stats/summary?only_cpu_and_memory=true", "nodes", &found); errors.Is(err, errNotTold) {
			return nil, err
		} else if err != nil {
			continue // the others may answer
		}
		for _, pod := range found.Pods {
			if pod.PodRef.Namespace == namespace {
				read[pod.PodRef.Name] = usage{cores: pod.CPU.UsageNanoCores / 1e9, memory: pod.Memory.WorkingSetBytes}
			}
		}
	}
	return read, nil
}

// reach is whether pods' addresses can be reached from here.
type reach struct {
	mu     sync.Mutex
	known  bool
	open   bool
	asking bool
	at     time.Time
}

// Whether addresses can be reached is asked again after reachAgain where they could not be; one question takes reachWithin.
const (
	reachAgain  = time.Minute
	reachWithin = time.Second
)

// through gives the way to a pod's ports: nil where its address can be reached from here, and else the API's proxy. It never
// waits: until it is known it is the proxy.
func (c *Connection) through(namespace string, pod *corev1.Pod) http.RoundTripper {
	c.reach.mu.Lock()
	defer c.reach.mu.Unlock()
	var port int32
	for _, container := range pod.Spec.Containers {
		for _, p := range container.Ports {
			port = p.ContainerPort
		}
	}
	if !c.reach.asking && port != 0 && (!c.reach.known || !c.reach.open && time.Since(c.reach.at) > reachAgain) {
		c.reach.asking = true
		go func() {
			conn, err := net.DialTimeout("tcp", net.JoinHostPort(pod.Status.PodIP, strconv.Itoa(int(port))), reachWithin)
			if err == nil {
				conn.Close()
			}
			c.reach.mu.Lock()
			defer c.reach.mu.Unlock()
			c.reach.asking, c.reach.known, c.reach.at = false, true, time.Now()
			c.reach.open = err == nil || errors.Is(err, syscall.ECONNREFUSED) // somebody was there to refuse
		}()
	}
	if c.reach.open {
		return nil
	}
	return proxied{c, namespace, pod.Name}
}

// proxied leads requests to a pod's ports through the API's proxy.
type proxied struct {
	connection     *Connection
	namespace, pod string
}

// RoundTrip implements http.RoundTripper.
func (p proxied) RoundTrip(request *http.Request) (*http.Response, error) {
	to := request.Clone(request.Context())
	at := p.connection.base.JoinPath("/api/v1/namespaces", p.namespace, "pods", p.pod+":"+request.URL.Port(), "proxy", request.URL.Path)
	at.RawQuery = request.URL.RawQuery
	to.URL, to.Host = at, ""
	return p.connection.http.Transport.RoundTrip(to)
}
