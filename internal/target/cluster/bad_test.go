package cluster

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"sigs.k8s.io/yaml"

	"aditus/internal/config"
	"aditus/internal/core/declare"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/target/cluster/clustertest"
)

const one, two = declare.Fingerprint("1111111111"), declare.Fingerprint("2222222222")

func fares(version string) declare.Desired {
	return declare.Desired{Format: 1, Workload: "fares", Parts: map[string]declare.Part{
		"web":   {Kind: declare.Service, Artifact: "r.example/fares:" + version, Instances: 2, Ports: map[string]int{"http": 8080}, Environment: map[string]string{"A": "1"}},
		"texts": {Kind: declare.Settings, Values: map[string]string{"opens.at": "06:30"}},
		"entry": {Kind: declare.Route, Host: "fares.example", Service: "web", To: &declare.Endpoint{Port: "http", Path: "/"}},
	}}
}

// laid has a revision at a site, with all of the traffic.
func laid(t *testing.T, site *Site, revision declare.Fingerprint, desired declare.Desired) {
	t.Helper()
	if err := site.Apply(t.Context(), "fares", []target.Want{target.Prepare(revision, desired), target.Scale(revision, "web", 2), target.SetShare(revision, 1, "")}); err != nil {
		t.Fatal(err)
	}
}

// TestRefused has the cluster refuse what is asked, in each of the ways it has: every one comes out as a sentence that says
// what was done, to what, and what to do; what was there stays, and the next try succeeds.
func TestRefused(t *testing.T) {
	cause := func(s metav1.Status, causes ...metav1.StatusCause) metav1.Status {
		s.Details.Causes = causes
		return s
	}
	status := clustertest.Status
	for name, test := range map[string]struct {
		status metav1.Status
		want   string
	}{
		"who it is":       {status(401, metav1.StatusReasonUnauthorized, "Unauthorized"), "the cluster does not know the account any more; renew its credentials"},
		"what it may":     {status(403, metav1.StatusReasonForbidden, `deployments.apps is forbidden: User "maren" cannot patch resource "deployments" in API group "apps" in the namespace "trial"`), `the account may not: User "maren" cannot patch resource "deployments"`},
		"quota":           {status(403, metav1.StatusReasonForbidden, `deployments.apps "x" is forbidden: exceeded quota: small, requested: pods=3, used: pods=8, limited: pods=10`), "there is no room in the namespace's quota: small, requested: pods=3"},
		"security":        {status(403, metav1.StatusReasonForbidden, `pods "x" is forbidden: violates PodSecurity "restricted:latest": runAsUser=0`), `the namespace's security standard refuses it: "restricted:latest": runAsUser=0; declare user:`},
		"admission":       {status(400, metav1.StatusReasonBadRequest, `admission webhook "names.example" denied the request: no team label`), "its admission refuses it"},
		"ending":          {cause(status(403, metav1.StatusReasonForbidden, "x is forbidden: unable to create new content in namespace trial because it is being terminated"), metav1.StatusCause{Type: "NamespaceTerminating"}), "the namespace trial is being deleted; wait until it is gone"},
		"no namespace":    {namespaceMissing(), "there is no namespace trial; make it"},
		"no such kind":    {status(404, metav1.StatusReasonNotFound, "the server could not find the requested resource"), "the cluster does not have this kind of object; install its definition"},
		"others' fields":  {cause(status(409, metav1.StatusReasonConflict, "Apply failed"), metav1.StatusCause{Type: metav1.CauseTypeFieldManagerConflict, Field: ".spec.replicas", Message: `conflict with "scaler"`}), `others look after fields of it: spec.replicas ("scaler"); leave these to them`},
		"in between":      {status(409, metav1.StatusReasonConflict, "the object has been modified"), "it changed in between"},
		"invalid":         {cause(status(422, metav1.StatusReasonInvalid, "invalid"), metav1.StatusCause{Field: "spec.template.spec.containers[0].image", Message: "Required value"}), "the cluster cannot accept it: spec.template.spec.containers[0].image: Required value; mend that"},
		"too much":        {status(429, metav1.StatusReasonTooManyRequests, "slow down"), "the cluster has too much to do now; it is tried again later"},
		"not to be had":   {status(503, metav1.StatusReasonServiceUnavailable, "etcd has no leader"), "the cluster cannot answer now: etcd has no leader; it is tried again"},
		"says it at last": {status(500, metav1.StatusReasonInternalError, "the\tfirst\nand "+strings.Repeat("long ", 400)), "the first and long"},
	} {
		t.Run(name, func(t *testing.T) {
			api, site := standIn(t)
			laid(t, site, one, fares("1"))
			before := api.Get("/apis/apps/v1/namespaces/trial/deployments/fares-web-1111111")
			api.Refuse = func(r *http.Request) *metav1.Status {
				if r.Method == http.MethodPatch && strings.Contains(r.URL.Path, "/deployments/") {
					return &test.status
				}
				return nil
			}
			err := site.Apply(t.Context(), "fares", []target.Want{target.Prepare(two, fares("2"))})
			if err == nil || !strings.Contains(err.Error(), test.want) || !strings.Contains(err.Error(), "prepare fares at north: apply Deployment trial/fares-web-2222222") || len(err.Error()) > 1000 {
				t.Errorf("got  %v\nwant %s", err, test.want)
			}
			if after := api.Get("/apis/apps/v1/namespaces/trial/deployments/fares-web-1111111"); len(differences("", before, after)) > 0 {
				t.Errorf("what was there changed: %v", differences("", before, after))
			}
			api.Refuse = nil
			if err := site.Apply(t.Context(), "fares", []target.Want{target.Prepare(two, fares("2")), target.Scale(two, "web", 1)}); err != nil {
				t.Errorf("the next try: %v", err)
			}
		})
	}
}

// TestNoAnswer puts in words what never came to an answer of the API.
func TestNoAnswer(t *testing.T) {
	for want, err := range map[string]error{
		"the cluster's certificate has run out, or is not valid yet; renew it, or set this machine's clock right": &url.Error{Op: "Get", URL: "https://shore", Err: &tls.CertificateVerificationError{Err: x509.CertificateInvalidError{Reason: x509.Expired}}},
		"the account's certificate has run out; renew it in the kubeconfig":                                       &url.Error{Op: "Get", URL: "https://shore", Err: errors.New("remote error: tls: expired certificate")},
		"the cluster's certificate is signed by somebody unknown; write its authority into the kubeconfig":        &url.Error{Op: "Get", URL: "https://shore", Err: &tls.CertificateVerificationError{Err: x509.UnknownAuthorityError{}}},
		"the cluster cannot be reached: connection refused; it is tried again":                                    &url.Error{Op: "Get", URL: "https://shore", Err: &net.OpError{Op: "dial", Err: os.NewSyscallError("connect", syscall.ECONNREFUSED)}},
		"the cluster did not answer in time; it is tried again":                                                   fmt.Errorf("watch pods: %w", context.DeadlineExceeded),
	} {
		said, advice := why(err, "trial")
		if advice != "" {
			said += "; " + advice
		}
		if said != want {
			t.Errorf("%v: %q, want %q", err, said, want)
		}
	}
}

func namespaceMissing() metav1.Status {
	s := clustertest.Status(404, metav1.StatusReasonNotFound, `namespaces "trial" not found`)
	s.Details.Kind = "namespaces"
	return s
}

// TestSilent has watches fail, end and be too old: while anything is not known as it is now the site is silent, and nothing
// is done there; then all is known again.
func TestSilent(t *testing.T) {
	api, site := standIn(t)
	laid(t, site, one, fares("1"))
	see := func() error { _, err := site.Observe(t.Context(), "fares"); return err }
	if err := see(); err != nil {
		t.Fatal(err)
	}
	no := clustertest.Status(403, metav1.StatusReasonForbidden, `pods is forbidden: User "maren" cannot watch resource "pods" in API group "" in the namespace "trial"`)
	api.Refuse = func(r *http.Request) *metav1.Status {
		if strings.HasSuffix(r.URL.Path, "/pods") {
			return &no
		}
		return nil
	}
	api.Drop()
	settles(t, site, "the site is silent", func() bool { return errors.Is(see(), target.ErrUnreachable) })
	if err := see(); !strings.Contains(err.Error(), `cannot watch resource "pods"`) {
		t.Errorf("nobody says why: %v", err)
	}
	if err := site.Apply(t.Context(), "fares", []target.Want{target.Scale(one, "web", 1)}); !errors.Is(err, target.ErrUnreachable) {
		t.Errorf("something was done at a site that nobody sees: %v", err)
	}
	api.Refuse = nil
	api.Change("/api/v1/namespaces/trial/pods/fares-web-1111111-0", nil) // while nobody looked
	api.Forget()
	settles(t, site, "all is known again", func() bool { return see() == nil })
	o, err := site.Observe(t.Context(), "fares")
	if err != nil || len(o.Cohorts) != 1 || len(o.Cohorts[0].Instances) != 2 || o.Cohorts[0].Share != 1 {
		t.Errorf("%+v (%v)", o, err)
	}
}

// settles waits until something is so, looking whenever the site changed.
func settles(t *testing.T, site *Site, what string, so func() bool) {
	t.Helper()
	for end := time.Now().Add(40 * time.Second); !so(); time.Sleep(20 * time.Millisecond) { // a watch that fails is tried again by its own clock
		if time.Now().After(end) {
			t.Fatalf("it does not come to this: %s", what)
		}
	}
}

// TestNotOurs has objects of others under the names that ours would have: they stay as they are, and that is told.
func TestNotOurs(t *testing.T) {
	for path, text := range map[string]string{
		"/apis/apps/v1/namespaces/trial/deployments/fares-web-1111111":               "{spec: {replicas: 0}}",
		"/api/v1/namespaces/trial/services/fares-web":                                "{metadata: {labels: {app: other}}}",
		"/api/v1/namespaces/trial/configmaps/fares-texts-1111111":                    "{data: {x: y}}",
		"/apis/gateway.networking.k8s.io/v1/namespaces/trial/httproutes/fares-entry": "{metadata: {labels: {aditus/workload: other, aditus/part: entry}}}",
	} {
		api, site := standIn(t)
		api.Put(path, text)
		before := api.Get(path)
		err := errors.Join(site.Apply(t.Context(), "fares", []target.Want{target.Prepare(one, fares("1")), target.Scale(one, "web", 1), target.SetShare(one, 1, "")}))
		if err == nil || !strings.Contains(err.Error(), "already that is not this workload's") {
			t.Errorf("%s: %v", path, err)
		}
		if after := api.Get(path); len(differences("", before, after))+len(differences("", after, before)) > 0 {
			t.Errorf("%s was changed: %v", path, after)
		}
	}
}

// TestPods reads pods in each of the states that keep them from being up.
func TestPods(t *testing.T) {
	waiting := func(reason, message string) string {
		return `{phase: Pending, podIP: "10.0.0.7", containerStatuses: [{name: main, image: "r.example/fares:1", restartCount: 0, state: {waiting: {reason: ` + reason + `, message: '` + message + `'}}}]}`
	}
	for name, test := range map[string]struct {
		status, event         string
		cannot, reason, ready string // why it never starts, why it is not up, why its readiness probe does not pass
		address               bool
	}{
		"ready":                  {status: `{phase: Running, podIP: "10.0.0.7", conditions: [{type: Ready, status: "True"}], containerStatuses: [{name: main, state: {running: {}}}]}`, address: true},
		"not ready":              {status: `{phase: Running, podIP: "10.0.0.7", conditions: [{type: Ready, status: "False"}], containerStatuses: [{name: main, state: {running: {}}}]}`, event: "Unhealthy: Readiness probe failed: HTTP probe failed with statuscode: 503", ready: "Readiness probe failed: HTTP probe failed with statuscode: 503", address: true},
		"its node is gone":       {status: `{phase: Running, podIP: "10.0.0.7", conditions: [{type: Ready, status: "False"}], containerStatuses: [{name: main, state: {running: {}}}]}`, event: "NodeNotReady: Node is not ready", ready: "Node is not ready", address: true},
		"no room":                {status: `{phase: Pending, conditions: [{type: PodScheduled, status: "False", reason: Unschedulable, message: "0/1 nodes are available: 1 Insufficient memory."}]}`, reason: "cannot be placed on a node: 0/1 nodes are available: 1 Insufficient memory.", ready: "cannot be placed on a node: 0/1 nodes are available: 1 Insufficient memory."},
		"no such image":          {status: waiting("ErrImagePull", "x"), event: `Failed: Failed to pull image "r.example/fares:1": rpc error: code = NotFound desc = failed to pull: r.example/fares:1: not found`, cannot: "cannot pull its image: r.example/fares:1: not found", ready: "cannot pull its image: r.example/fares:1: not found"},
		"a registry that is out": {status: waiting("ImagePullBackOff", "Back-off pulling image"), event: `Failed: Failed to pull image "r.example/fares:1": dial tcp 10.0.0.1:443: connect: connection refused`, reason: "cannot pull its image: r.example/fares:1: connection refused", ready: "cannot pull its image: r.example/fares:1: connection refused"},
		"as root":                {status: waiting("CreateContainerConfigError", "container has runAsNonRoot and image will run as root"), cannot: "cannot be made: container has runAsNonRoot and image will run as root", ready: "cannot be made: container has runAsNonRoot and image will run as root"},
		"out of memory":          {status: `{phase: Running, podIP: "10.0.0.7", containerStatuses: [{name: main, restartCount: 4, state: {waiting: {reason: CrashLoopBackOff, message: "back-off 40s restarting failed container"}}, lastState: {terminated: {exitCode: 137, reason: OOMKilled, finishedAt: "2026-05-04T09:00:00Z"}}}]}`, reason: "killed: it used more memory than its limit; it is started again after a while", ready: "killed: it used more memory than its limit; it is started again after a while"},
		"crashes":                {status: `{phase: Running, containerStatuses: [{name: main, restartCount: 1, state: {waiting: {reason: CrashLoopBackOff, message: "back-off 10s restarting"}}, lastState: {terminated: {exitCode: 3, reason: Error, finishedAt: "2026-05-04T09:00:00Z"}}}]}`, reason: "ended with status 3; it is started again after a while", ready: "ended with status 3; it is started again after a while"},
		"no volume":              {status: `{phase: Pending, containerStatuses: [{name: main, state: {waiting: {reason: ContainerCreating}}}]}`, event: `FailedMount: MountVolume.SetUp failed for volume "texts": configmap "texts" not found`, reason: `MountVolume.SetUp failed for volume "texts": configmap "texts" not found`, ready: `MountVolume.SetUp failed for volume "texts": configmap "texts" not found`},
	} {
		t.Run(name, func(t *testing.T) {
			api, site := standIn(t)
			desired := fares("1")
			web := desired.Parts["web"]
			web.Probes = map[string]declare.Probe{"ready": {HTTP: &declare.Endpoint{Port: "http", Path: "/"}, Passes: 1, Fails: 3}}
			desired.Parts["web"] = web
			api.Pod = func(pod clustertest.Object) {
				var status clustertest.Object
				if err := yaml.Unmarshal([]byte(test.status), &status); err != nil {
					t.Error(err)
				}
				pod["status"] = status
			}
			laid(t, site, one, desired)
			if test.event != "" {
				reason, message, _ := strings.Cut(test.event, ": ")
				text, _ := yaml.Marshal(clustertest.Object{"involvedObject": clustertest.Object{"kind": "Pod", "name": "fares-web-1111111-0"}, "type": "Warning", "reason": reason, "message": message, "lastTimestamp": time.Now().UTC().Format(time.RFC3339)})
				api.Put("/api/v1/namespaces/trial/events/e1", string(text))
			}
			var in target.Instance
			settles(t, site, "it is seen", func() bool {
				o, err := site.Observe(t.Context(), "fares")
				if err != nil || len(o.Cohorts) != 1 || len(o.Cohorts[0].Instances) != 2 {
					return false
				}
				in = o.Cohorts[0].Instances[0]
				return test.event == "" || len(in.Events) > 0
			})
			if in.CannotStart != test.cannot || test.cannot == "" && in.Reason != test.reason || in.Told["ready"] != test.ready || (in.Address != "") != test.address {
				t.Errorf("cannot start: %q\nreason: %q\ntold: %q\naddress: %q", in.CannotStart, in.Reason, in.Told["ready"], in.Address)
			}
			if name == "out of memory" && (len(in.Restarts) != 4 || !in.Again.Equal(time.Date(2026, 5, 4, 9, 0, 40, 0, time.UTC))) {
				t.Errorf("restarts %v, again %v", in.Restarts, in.Again)
			}
		})
	}
}

// TestTraffic looks at routes that are not accepted, at clusters without them and without a gateway, and at hosts that change.
func TestTraffic(t *testing.T) {
	share := func(site *Site, revision declare.Fingerprint) float64 {
		o, err := site.Observe(t.Context(), "fares")
		if err != nil {
			t.Fatal(err)
		}
		c, _ := o.Cohort(revision)
		return c.Share
	}
	t.Run("a share counts once its gateway has taken it", func(t *testing.T) {
		api, site := standIn(t)
		laid(t, site, one, fares("1"))
		api.Taken = false
		if err := site.Apply(t.Context(), "fares", []target.Want{target.Prepare(two, fares("2")), target.Scale(two, "web", 1), target.SetShare(two, 0.25, one)}); err != nil {
			t.Fatal(err)
		}
		if got := share(site, two); got != 0 {
			t.Errorf("new has %v of the traffic, and its gateway has not taken that", got)
		}
		if got := share(site, one); got != 1 {
			t.Errorf("old has %v of the traffic, and no gateway took that away", got)
		}
		if err := site.Apply(t.Context(), "fares", []target.Want{target.Delete(two)}); err == nil {
			t.Error("what a route is to lead to was deleted")
		}
		route := "/apis/gateway.networking.k8s.io/v1/namespaces/trial/httproutes/fares-entry"
		api.Taken = true
		api.Change(route, func(o clustertest.Object) {
			o["metadata"].(clustertest.Object)["annotations"].(clustertest.Object)["touched"] = "x"
		})
		settles(t, site, "new has its share", func() bool { return share(site, two) == 0.25 && share(site, one) == 0.75 })
	})
	t.Run("no gateway", func(t *testing.T) {
		api, site := standIn(t)
		if err := site.Apply(t.Context(), "fares", []target.Want{target.Prepare(one, fares("1"))}); err != nil {
			t.Fatal(err)
		}
		api.Change(shore, nil)
		settles(t, site, "it is told", func() bool {
			o, err := site.Observe(t.Context(), "fares")
			return err == nil && strings.Contains(o.Trouble, "write gateway: NAMESPACE/NAME")
		})
	})
	t.Run("no Gateway API", func(t *testing.T) {
		api := clustertest.Serve()
		t.Cleanup(api.Close)
		api.Gateway = false
		site := openSite(t, configOf(api), "trial")
		laid(t, site, one, fares("1"))
		if err := site.Apply(t.Context(), "fares", []target.Want{target.Prepare(two, fares("2")), target.Scale(two, "web", 2)}); err != nil {
			t.Fatal(err)
		}
		settles(t, site, "instances are the split", func() bool {
			o, err := site.Observe(t.Context(), "fares")
			return err == nil && o.Whole && share(site, two) == 0.5
		})
		if err := site.Apply(t.Context(), "fares", []target.Want{target.SetShare(two, 0.25, one)}); err == nil {
			t.Error("traffic was split that cannot be")
		}
		if selector := api.Get("/api/v1/namespaces/trial/services/fares-web")["spec"].(clustertest.Object)["selector"].(clustertest.Object); selector[labelCohort] != nil {
			t.Errorf("its Service leads to one cohort: %v", selector)
		}
	})
	t.Run("calls, and a preview by header", func(t *testing.T) {
		api, site := standIn(t)
		calls := func(version string) declare.Desired {
			d := fares(version)
			d.Parts["entry"] = declare.Part{Kind: declare.Route, GRPC: true, Host: "fares.example", PreviewBy: &declare.Header{Name: "X-Crew", Value: "trial"}, Service: "web", To: &declare.Endpoint{Port: "http", Path: "/"}}
			return d
		}
		laid(t, site, one, calls("1"))
		if err := site.Apply(t.Context(), "fares", []target.Want{target.Prepare(two, calls("2")), target.Scale(two, "web", 2), target.SetShare(two, 0.25, one), target.Preview(two)}); err != nil {
			t.Fatal(err)
		}
		settles(t, site, "they are split", func() bool { return share(site, two) == 0.25 && share(site, one) == 0.75 })
		spec := func(name string) string {
			text, _ := yaml.Marshal(api.Get("/apis/gateway.networking.k8s.io/v1/namespaces/trial/grpcroutes/" + name)["spec"])
			return string(text)
		}
		if text := spec("fares-entry-preview"); !strings.Contains(text, "- name: X-Crew\n      type: Exact\n      value: trial") || !strings.Contains(text, "- fares.example") || !strings.Contains(text, "name: fares-web-2222222") {
			t.Errorf("the preview: %s", text)
		}
		if text := spec("fares-entry"); strings.Contains(text, "X-Crew") || !strings.Contains(text, "weight: 750") {
			t.Errorf("the route: %s", text)
		}
		if ports := api.Get("/api/v1/namespaces/trial/services/fares-web-2222222")["spec"].(clustertest.Object)["ports"].([]any); ports[0].(clustertest.Object)["appProtocol"] != "kubernetes.io/h2c" {
			t.Errorf("its Service speaks no HTTP/2: %v", ports)
		}
		if err := site.Apply(t.Context(), "fares", []target.Want{target.SetShare(one, 1, two), target.Scale(two, "web", 0), target.Delete(two)}); err != nil {
			t.Fatal(err)
		}
		if left := api.Paths("grpcroutes"); len(left) != 1 || !strings.HasSuffix(left[0], "/fares-entry") {
			t.Errorf("with the set that was tried goes what led to it: %v", left)
		}
	})
	t.Run("what is not kept is told", func(t *testing.T) {
		for name, test := range map[string]struct {
			set  func(*clustertest.API)
			part declare.Part
			want string
		}{
			"by cookie":               {func(a *clustertest.API) { a.Sessions = true }, declare.Part{Sticky: &declare.Sticky{Cookie: "seat"}}, ""},
			"no sessions":             {func(*clustertest.API) {}, declare.Part{Sticky: &declare.Sticky{Cookie: "seat"}}, "HTTPRoute has no session persistence"},
			"by header":               {func(a *clustertest.API) { a.Sessions = true }, declare.Part{Sticky: &declare.Sticky{Header: "X-Traveller"}}, "write cookie:"},
			"no calls":                {func(a *clustertest.API) { a.NoCalls = true }, declare.Part{GRPC: true}, "has no GRPCRoute"},
			"no Gateway API, preview": {func(a *clustertest.API) { a.Gateway = false }, declare.Part{Preview: "trial.example"}, "no Gateway API; its preview cannot be reached"},
		} {
			api := clustertest.Serve()
			t.Cleanup(api.Close)
			test.set(api)
			api.Put(shore, "spec: {}")
			site, d := openSite(t, configOf(api), "trial"), fares("1")
			part := d.Parts["entry"]
			part.Sticky, part.GRPC, part.Preview = test.part.Sticky, test.part.GRPC, test.part.Preview
			d.Parts["entry"] = part
			tried, err := site.Try(t.Context(), "fares", d)
			told := ""
			for _, one := range tried {
				told += one.Refused + strings.Join(one.Told, "; ")
			}
			if err != nil || !strings.Contains(told, test.want) || test.want == "" && told != "" {
				t.Errorf("%s: %q (%v)", name, told, err)
			}
			laid(t, site, one, d)
			if routes := api.Paths("httproutes"); len(routes) > 0 {
				text, _ := yaml.Marshal(api.Get(routes[0])["spec"])
				if keeps := strings.Contains(string(text), "sessionName: seat"); keeps != (name == "by cookie") {
					t.Errorf("%s: %s", name, text)
				}
			}
		}
	})
	t.Run("what runs is tried beforehand", func(t *testing.T) {
		api, site := standIn(t)
		said := clustertest.Status(403, metav1.StatusReasonForbidden, `deployments.apps "x" is forbidden: exceeded quota: small, requested: count/deployments.apps=1`)
		api.Refuse = func(r *http.Request) *metav1.Status {
			if strings.Contains(r.URL.RawQuery, "dryRun=All") {
				return &said
			}
			return nil
		}
		refused := func() string {
			tried, err := site.Try(t.Context(), "fares", fares("1"))
			if err != nil {
				t.Fatal(err)
			}
			for _, one := range tried {
				if one.Refused != "" {
					return one.Part + ": " + one.Refused
				}
			}
			return ""
		}
		if got := refused(); !strings.Contains(got, "web: apply Deployment trial/fares-web-") || !strings.Contains(got, "there is no room in the namespace's quota") {
			t.Error(got)
		}
		said = clustertest.Status(400, metav1.StatusReasonBadRequest, `admission webhook "names.example" does not support dry run`)
		if got := refused(); got != "" {
			t.Errorf("what cannot be tried is not refused: %s", got)
		}
		if made := api.Paths("deployments"); len(made) > 0 {
			t.Errorf("trying made %v", made)
		}
	})
	t.Run("another host", func(t *testing.T) {
		api, site := standIn(t)
		laid(t, site, one, fares("1"))
		next := fares("2")
		entry := next.Parts["entry"]
		entry.Host = "tickets.example"
		next.Parts["entry"] = entry
		if err := site.Apply(t.Context(), "fares", []target.Want{target.Prepare(two, next), target.Scale(two, "web", 2), target.SetShare(two, 0.5, one)}); err != nil {
			t.Fatal(err)
		}
		hosts := map[any]bool{}
		for _, path := range api.Paths("httproutes") {
			hosts[api.Get(path)["spec"].(clustertest.Object)["hostnames"].([]any)[0]] = true
		}
		if !hosts["fares.example"] || !hosts["tickets.example"] || len(hosts) != 2 {
			t.Errorf("the routes are for %v", hosts)
		}
	})
}

// TestRecordGone has the record of a cohort deleted by hand: it is told, and a sync takes up what runs as it is.
func TestRecordGone(t *testing.T) {
	api, site := standIn(t)
	laid(t, site, one, fares("1"))
	if err := site.Apply(t.Context(), "fares", []target.Want{target.Relabel(one, two)}); err != nil {
		t.Fatal(err)
	}
	pods := api.Paths("pods")
	api.Change("/api/v1/namespaces/trial/configmaps/aditus-fares-1111111", nil)
	settles(t, site, "it is told", func() bool {
		o, err := site.Observe(t.Context(), "fares")
		return err == nil && strings.Contains(o.Trouble, "Deployment fares-web-1111111 in trial runs fares")
	})
	laid(t, site, two, fares("1"))
	o, err := site.Observe(t.Context(), "fares")
	if err != nil || o.Trouble != "" || len(o.Cohorts) != 1 || o.Cohorts[0].Share != 1 || len(o.Cohorts[0].Instances) != 2 {
		t.Errorf("%+v (%v)", o, err)
	}
	if after := api.Paths("pods"); !slices.Equal(pods, after) {
		t.Errorf("pods were exchanged: %v, then %v", pods, after)
	}
	api.Change("/api/v1/namespaces/trial/configmaps/aditus-fares-1111111", func(o clustertest.Object) { o["data"] = clustertest.Object{"parts.json": "{"} })
	settles(t, site, "what cannot be read is told", func() bool {
		_, err := site.Observe(t.Context(), "fares")
		return err != nil && strings.Contains(err.Error(), "was changed by hand and cannot be read")
	})
}

// TestClock has the cluster's clock an hour ahead: what is told of instances is told in this machine's time.
func TestClock(t *testing.T) {
	api, site := standIn(t)
	api.Ahead = time.Hour
	laid(t, site, one, fares("1"))
	settles(t, site, "instances are there", func() bool {
		o, err := site.Observe(t.Context(), "fares")
		return err == nil && len(o.Cohorts) == 1 && len(o.Cohorts[0].Instances) == 2
	})
	o, err := site.Observe(t.Context(), "fares")
	if err != nil {
		t.Fatal(err)
	}
	if age := time.Since(o.Cohorts[0].Instances[0].Started); age.Abs() > time.Minute {
		t.Errorf("an instance of now is %s old", age)
	}
	told, err := try(t.Context(), config.Target{Kind: "cluster", Namespace: "trial", Kubeconfig: kubeconfigOf(t, api)})
	if text := strings.Join(told, "\n"); err != nil || !strings.Contains(text, "its clock is 1 h apart") || !strings.Contains(text, "v1.37.2, answers in") || !strings.Contains(text, "it has Gateway API") {
		t.Errorf("the trial: %s (%v)", text, err)
	}
}

// TestGround tells what a site stands on, and what quotas leave of it.
func TestGround(t *testing.T) {
	api, site := standIn(t)
	api.Put("/api/v1/namespaces/trial/resourcequotas/most", `{kind: ResourceQuota, apiVersion: v1, metadata: {name: most, namespace: trial}, status: {hard: {requests.cpu: "48", limits.memory: 100Gi, count/secrets: "9"}, used: {requests.cpu: 31500m, limits.memory: 70Gi, count/secrets: "3"}}}`)
	g, err := site.Ground(t.Context())
	if err != nil || g.Version != "v1.37.2" || !strings.Contains(g.On, "namespace trial") || !slices.Contains(g.Takes, declare.Objects) || !strings.Contains(strings.Join(g.Told, "\n"), "answers in") ||
		!slices.Equal(g.Room, []status.Room{{Of: "memory, limits", Used: 70 << 30, Has: 100 << 30}, {Of: "processors, requests", Used: 31.5, Has: 48}}) {
		t.Errorf("it is %+v (%v)", g, err)
	}
	api.Refuse = func(*http.Request) *metav1.Status {
		return &metav1.Status{Status: metav1.StatusFailure, Code: http.StatusServiceUnavailable, Message: "it is over"}
	}
	if g, err := site.Ground(t.Context()); err == nil || g.On == "" {
		t.Errorf("it does not answer: %+v (%v)", g, err)
	}
}

func kubeconfigOf(t *testing.T, api *clustertest.API) string {
	file := filepath.Join(t.TempDir(), "kubeconfig")
	text := "apiVersion: v1\nkind: Config\nclusters: [{name: a, cluster: {server: \"" + api.URL + "\"}}]\ncontexts: [{name: a, context: {cluster: a, user: a}}]\nusers: [{name: a, user: {token: a}}]\ncurrent-context: a\n"
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return file
}

// TestLies has a pod, behind the API's proxy, say what time it is, and somebody write shares that nobody set: neither moves
// anything.
func TestLies(t *testing.T) {
	api, site := standIn(t)
	laid(t, site, one, fares("1"))
	api.Answers = func(w http.ResponseWriter) { w.Header().Set("Date", "Mon, 04 May 2020 09:00:00 GMT") }
	request, err := http.NewRequest(http.MethodGet, "http://10.0.0.7:8080/metrics", nil)
	if err != nil {
		t.Fatal(err)
	}
	response, err := proxied{site.connection, "trial", "fares-web-1111111-0"}.RoundTrip(request)
	if err != nil {
		t.Fatal(err)
	}
	response.Body.Close()
	if ahead := time.Duration(site.connection.ahead.Load()); ahead != 0 || response.Header.Get("Date") != "Mon, 04 May 2020 09:00:00 GMT" {
		t.Errorf("a pod set the cluster's clock %s ahead", ahead)
	}
	api.Taken = false
	api.Change("/apis/gateway.networking.k8s.io/v1/namespaces/trial/httproutes/fares-entry", func(o clustertest.Object) {
		delete(o, "status")
		o["metadata"].(clustertest.Object)["annotations"] = clustertest.Object{annotationTaken: `{"fares-web-1111111": 1000, "x": -900}`}
	})
	settles(t, site, "it is seen", func() bool {
		return strings.Contains(site.connection.mirror.get(routes, "trial", "fares-entry").GetAnnotations()[annotationTaken], "-900")
	})
	if o, err := site.Observe(t.Context(), "fares"); err != nil || o.Cohorts[0].Share != 1 {
		t.Errorf("shares that nobody set: %+v (%v)", o.Cohorts, err)
	}
}

// TestBothRoutes has HTTP and connections come in to one part: setting shares leaves the port of the connections.
func TestBothRoutes(t *testing.T) {
	api, site := standIn(t)
	both := fares("1")
	both.Parts["boats"] = declare.Part{Kind: declare.Route, TCP: 7000, Service: "web", To: &declare.Endpoint{Port: "http"}}
	laid(t, site, one, both)
	next := fares("2")
	next.Parts["boats"] = both.Parts["boats"]
	if err := site.Apply(t.Context(), "fares", []target.Want{target.Prepare(two, next), target.Scale(two, "web", 2), target.SetShare(two, 1, one)}); err != nil {
		t.Fatal(err)
	}
	spec := api.Get("/api/v1/namespaces/trial/services/fares-web")["spec"].(clustertest.Object)
	if ports := fmt.Sprint(spec["ports"]); !strings.Contains(ports, "port:7000 protocol:TCP targetPort:8080") || spec["selector"].(clustertest.Object)[labelCohort] != "2222222" {
		t.Errorf("its Service is %v", spec)
	}
}

// TestUsage reads what pods use from the metrics API, no more often than it changes.
func TestUsage(t *testing.T) {
	api, site := standIn(t)
	laid(t, site, one, fares("1"))
	settles(t, site, "both pods are there", func() bool {
		o, err := site.Observe(t.Context(), "fares")
		return err == nil && len(o.Cohorts[0].Instances) == 2
	})
	api.Usage = `{"items": [{"metadata": {"name": "fares-web-1111111-0"}, "containers": [{"usage": {"cpu": "250m", "memory": "64Mi"}}, {"usage": {"cpu": "1000000n", "memory": "1000"}}]}]}`
	api.Requests()
	for range 3 {
		measured, err := site.Measure(t.Context(), "fares")
		if err != nil || len(measured) != 1 || measured["fares-web-1111111-0"][target.MemoryMetric][0].Value != 64<<20+1000 {
			t.Errorf("%v (%v)", measured, err)
		}
	}
	if asked := api.Requests(); asked["GET pods"] != 1 {
		t.Errorf("it was asked for so: %v", asked)
	}
	o, err := site.Observe(t.Context(), "fares")
	if sheet, err := site.Sheet(t.Context(), "fares", "v1 Pod fares-web-1111111-0"); err != nil || sheet.Cores != 0.251 || sheet.Memory != 64<<20+1000 {
		t.Errorf("the page of a pod: %+v (%v)", sheet, err)
	}
	if err != nil || o.Cohorts[0].Instances[0].Cores != 0.251 || o.Cohorts[0].Instances[0].Memory != 64<<20+1000 || o.Cohorts[0].Instances[1].Memory != 0 {
		t.Errorf("%+v (%v)", o.Cohorts, err)
	}

	nodes, own := standIn(t)
	nodes.Pod = func(pod clustertest.Object) { pod["spec"].(clustertest.Object)["nodeName"] = "n1" }
	nodes.Answers = func(w http.ResponseWriter) {
		io.WriteString(w, `{"pods": [{"podRef": {"name": "fares-web-1111111-0", "namespace": "trial"}, "cpu": {"usageNanoCores": 250000000}, "memory": {"workingSetBytes": 1048576}},
			{"podRef": {"name": "fares-web-1111111-1", "namespace": "other"}, "memory": {"workingSetBytes": 5}}]}`)
	}
	laid(t, own, one, fares("1"))
	settles(t, own, "the node tells what they use", func() bool {
		own.connection.usageFrom.at = nil // not only every so often
		measured, err := own.Measure(t.Context(), "fares")
		return err == nil && len(measured) == 1 && measured["fares-web-1111111-0"][target.MemoryMetric][0].Value == 1<<20
	})
	if one, ok := own.connection.used("trial", "fares-web-1111111-0"); !ok || one.cores != 0.25 {
		t.Errorf("%+v", one)
	}
}

// TestOtherLine has two lines on one namespace: neither touches what the other has there.
func TestOtherLine(t *testing.T) {
	api, site := standIn(t)
	laid(t, site, one, fares("1"))
	before := api.Paths("deployments")
	other := openSite(t, configOf(api), "trial")
	other.Line = "Harbour Line"
	if _, err := other.Observe(t.Context(), "fares"); err == nil || !strings.Contains(err.Error(), "is looked after by another line") {
		t.Errorf("it is seen as its own: %v", err)
	}
	if err := other.Apply(t.Context(), "fares", []target.Want{target.Delete(one), target.Prepare(two, fares("2"))}); err == nil {
		t.Error("it was changed")
	}
	if after := api.Paths("deployments"); !slices.Equal(before, after) {
		t.Errorf("%v became %v", before, after)
	}
}

// TestNoPods has the cluster make no pods, for want of room or by its rules: the reason is told as that of an instance.
func TestNoPods(t *testing.T) {
	api, site := standIn(t)
	laid(t, site, one, fares("1"))
	api.Change("/apis/apps/v1/namespaces/trial/deployments/fares-web-1111111", func(o clustertest.Object) {
		o["spec"].(clustertest.Object)["replicas"] = int64(0)
	})
	api.Full = true
	api.Change("/apis/apps/v1/namespaces/trial/deployments/fares-web-1111111", func(o clustertest.Object) {
		o["spec"].(clustertest.Object)["replicas"] = int64(2)
		o["status"] = clustertest.Object{"conditions": []any{clustertest.Object{"type": "ReplicaFailure", "status": "True", "message": `pods "x" is forbidden: exceeded quota: small, requested: pods=1, used: pods=10, limited: pods=10`}}}
	})
	want := "its pods are not made: there is no room in the namespace's quota: small, requested: pods=1, used: pods=10, limited: pods=10; raise the quota, or ask for less"
	settles(t, site, want, func() bool {
		o, err := site.Observe(t.Context(), "fares")
		return err == nil && len(o.Cohorts) == 1 && len(o.Cohorts[0].Instances) == 1 && o.Cohorts[0].Instances[0].Reason == want && o.Cohorts[0].Instances[0].Address == ""
	})
}

// TestTrafficFirst has much to be made at a site: what moves traffic does not wait for it.
func TestTrafficFirst(t *testing.T) {
	api := clustertest.Serve()
	t.Cleanup(api.Close)
	api.Put(shore, "spec: {}")
	limited := configOf(api)
	limited.QPS, limited.Burst = 0.01, 40 // then one in a hundred seconds
	site := openSite(t, limited, "trial")
	laid(t, site, one, fares("1"))
	short, cancel := context.WithTimeout(t.Context(), time.Second)
	defer cancel()
	err := site.Apply(short, "fares", []target.Want{target.Prepare(two, many())})
	if err == nil || !strings.Contains(err.Error(), "more is to be done there at once than") {
		t.Errorf("the limit did not hold: %v", err)
	}
	if err := site.Apply(t.Context(), "fares", []target.Want{target.SetShare(one, 1, "")}); err != nil {
		t.Error(err)
	}
	api.Change("/apis/gateway.networking.k8s.io/v1/namespaces/trial/httproutes/fares-entry", nil)
	began := time.Now()
	if err := site.Apply(t.Context(), "fares", []target.Want{target.SetShare(one, 1, "")}); err != nil || time.Since(began) > 20*time.Second {
		t.Errorf("traffic waited for %s (%v)", time.Since(began), err)
	}
}

// TestLate has watches tell of what changed seconds later: no traffic is led to what is not known to be ready, nothing is made twice,
// and in the end all is as it was asked for.
func TestLate(t *testing.T) {
	t.Parallel()
	api, site := standIn(t)
	laid(t, site, one, fares("1"))
	if err := site.Apply(t.Context(), "fares", []target.Want{target.Prepare(two, fares("2"))}); err != nil {
		t.Fatal(err)
	}
	api.Late = patience + time.Second
	wants := []target.Want{target.Prepare(two, fares("2")), target.Scale(two, "web", 2), target.SetShare(two, 1, one)}
	led := func() bool {
		text, _ := yaml.Marshal(api.Get("/apis/gateway.networking.k8s.io/v1/namespaces/trial/httproutes/fares-entry")["spec"])
		return strings.Contains(string(text), "fares-web-2222222")
	}
	if err := site.Apply(t.Context(), "fares", wants[1:2]); err != nil {
		t.Fatal(err)
	}
	if err := site.Apply(t.Context(), "fares", wants[2:]); err == nil && !site.hasAddress("fares-web-2222222") || err != nil && led() {
		t.Errorf("traffic is led to what is not known to be ready: %v", err)
	}
	settles(t, site, "all is as asked for", func() bool {
		if site.Apply(t.Context(), "fares", wants[2:]) != nil {
			return false
		}
		o, err := site.Observe(t.Context(), "fares")
		c, _ := o.Cohort(two)
		return err == nil && c.Share == 1 && len(c.Instances) == 2
	})
	if made := api.Paths("pods"); len(made) != 4 {
		t.Errorf("pods: %v", made)
	}
}

// TestCredentials has a command give the account's credentials: it is given no input, and what it writes of its troubles is told
// and stays off the screen.
func TestCredentials(t *testing.T) {
	api := clustertest.New()
	api.Server = httptest.NewTLSServer(api)
	t.Cleanup(api.Close)
	api.Refuse = func(r *http.Request) *metav1.Status {
		if r.Header.Get("Authorization") != "Bearer told-by-a-command" {
			s := clustertest.Status(401, metav1.StatusReasonUnauthorized, "Unauthorized")
			return &s
		}
		return nil
	}
	for script, want := range map[string]string{
		`read line; echo >&2 noise; echo '{"apiVersion": "client.authentication.k8s.io/v1", "kind": "ExecCredential", "status": {"token": "told-by-a-command"}}'`: "",
		"printf 'first\\nyour session\\033[31m has ended' >&2; exit 3":                                                                                            "your session\x1b[31m has ended; run it by hand to see what it wants",
		"exit 3": "failed with exit code 3; run it by hand",
		`echo '{"apiVersion": "client.authentication.k8s.io/v1", "kind": "ExecCredential", "status": {"token": "another"}}'`: "the cluster does not know the account any more",
	} {
		folder := t.TempDir()
		command, kubeconfig := filepath.Join(folder, "shore-login"), filepath.Join(folder, "kubeconfig")
		text := fmt.Sprintf(`{apiVersion: v1, kind: Config, clusters: [{name: shore, cluster: {server: %q, insecure-skip-tls-verify: true}}], contexts: [{name: shore, context: {cluster: shore, user: maren}}], current-context: shore,
			users: [{name: maren, user: {exec: {apiVersion: client.authentication.k8s.io/v1, command: ./shore-login, interactiveMode: IfAvailable}}}]}`, api.URL)
		if err := errors.Join(os.WriteFile(command, []byte("#!/bin/sh\n"+script+"\n"), 0o700), os.WriteFile(kubeconfig, []byte(text), 0o600)); err != nil {
			t.Fatal(err)
		}
		config, _, err := Address{Kubeconfig: kubeconfig}.load()
		if err != nil {
			t.Fatal(err)
		}
		site := openSite(t, config, "trial")
		settles(t, site, "it is known what the command gives", func() bool {
			_, err = site.Observe(t.Context(), "fares")
			return err == nil || !strings.Contains(err.Error(), "are being read")
		})
		if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%s: %v", script, err)
		}
	}
}
