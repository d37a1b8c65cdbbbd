package cluster

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/clientcmd"

	"aditus/internal/core/declare"
	"aditus/internal/target"
	"aditus/internal/target/cluster/clustertest"
	"aditus/internal/target/targettest"
)

// TestMain runs the tests of a real cluster in its network.
func TestMain(m *testing.M) { os.Exit(clustertest.Main(m, "../../..")) }

// realCluster gives a namespace of its own in a real cluster.
func realCluster(t *testing.T) *rest.Config {
	t.Helper()
	config, err := clientcmd.BuildConfigFromFlags("", clustertest.Kubeconfig(t))
	if err != nil {
		t.Fatal(err)
	}
	config.QPS, config.Burst = 50, 200
	return config
}

// namespace is one of a test's own.
func namespace(t *testing.T) string {
	return strings.ToLower(strings.Map(func(c rune) rune {
		if c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' {
			return c
		}
		return '-'
	}, t.Name())) + "-" + strconv.FormatInt(time.Now().UnixMilli()%1e6, 36)
}

// TestRealConformance holds the driver against the contract on a real cluster.
func TestRealConformance(t *testing.T) {
	config := realCluster(t)
	program := filepath.Join(t.TempDir(), "waits")
	for version := range 3 {
		file := fmt.Sprintf("%s/main.go", t.TempDir())
		text := fmt.Sprintf("package main\n\nimport (\n\t\"fmt\"\n\t\"time\"\n)\n\nfunc main() {\n\tfmt.Println(\"version %d\")\n\ttime.Sleep(time.Hour)\n}\n", version)
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		build := exec.Command("go", "build", "-o", program, file)
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		content, err := os.ReadFile(program)
		if err != nil {
			t.Fatal(err)
		}
		image, err := clustertest.Image(v1.Config{Entrypoint: []string{"/waits"}, User: "65532"}, clustertest.File{Name: "waits", Content: content})
		if err == nil {
			err = clustertest.Push(fmt.Sprintf("%s/conformance:%d", clustertest.Registry, version), image)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	targettest.Run(t, func(t *testing.T) target.Driver {
		site := openSite(t, config, namespace(t))
		t.Cleanup(func() {
			site.connection.ask(context.Background(), http.MethodDelete, "/api/v1/namespaces/"+site.Namespace, nil, nil)
		})
		return site
	}, targettest.Options{
		Artifact: func(version int) string { return fmt.Sprintf("%s/conformance:%d", clustertest.Registry, version) },
		Missing:  clustertest.Registry + "/gone:1", Settles: time.Minute,
	})
}

// account makes a namespace, and an account that may do there what the Role in the docs says and nothing else, and gives
// its kubeconfig.
func account(t *testing.T, config *rest.Config, namespace string) string {
	t.Helper()
	c, err := Connect(config, "admin")
	if err != nil {
		t.Fatal(err)
	}
	post := func(path string, body object, into any) {
		t.Helper()
		if err := c.ask(t.Context(), http.MethodPost, path, body, into); err != nil {
			t.Fatal(path, err)
		}
	}
	named := object{"name": "aditus"}
	post("/api/v1/namespaces", object{"metadata": object{"name": namespace}}, nil)
	post("/api/v1/namespaces/"+namespace+"/serviceaccounts", object{"metadata": named}, nil)
	post("/apis/rbac.authorization.k8s.io/v1/namespaces/"+namespace+"/roles", Role(namespace, "aditus"), nil)
	post("/apis/rbac.authorization.k8s.io/v1/namespaces/"+namespace+"/rolebindings", object{
		"metadata": named, "roleRef": object{"apiGroup": "rbac.authorization.k8s.io", "kind": "Role", "name": "aditus"},
		"subjects": []any{object{"kind": "ServiceAccount", "name": "aditus", "namespace": namespace}},
	}, nil)
	var answer struct{ Status struct{ Token string } }
	post("/api/v1/namespaces/"+namespace+"/serviceaccounts/aditus/token", object{"spec": object{"expirationSeconds": 3600}}, &answer)
	file := filepath.Join(t.TempDir(), "kubeconfig")
	text := fmt.Sprintf(`apiVersion: v1
kind: Config
clusters: [{name: shore, cluster: {server: "%s", insecure-skip-tls-verify: true}}]
users: [{name: aditus, user: {token: %s}}]
contexts: [{name: shore, context: {cluster: shore, user: aditus}}]
current-context: shore
`, config.Host, answer.Status.Token)
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return file
}

// TestRealHung stops the API server without ending it: within seconds the site is silent, so that nothing advances on what
// was seen before; and all is known again once it goes on.
func TestRealHung(t *testing.T) {
	config := realCluster(t)
	site := openSite(t, config, namespace(t))
	see := func() error { _, err := site.Observe(t.Context(), "fares"); return err }
	settles(t, site, "the site is known", func() bool { return see() == nil })
	out, err := exec.Command("pgrep", "-f", "kube-apiserver .*--cert-dir "+filepath.Dir(clustertest.Kubeconfig(t))+"/certs ").Output()
	if err != nil {
		t.Fatal(err)
	}
	pid, err := strconv.Atoi(strings.Fields(string(out))[0])
	if err != nil {
		t.Fatal(err)
	}
	syscall.Kill(pid, syscall.SIGSTOP)
	defer syscall.Kill(pid, syscall.SIGCONT)
	began := time.Now()
	settles(t, site, "the site is silent", func() bool { return errors.Is(see(), target.ErrUnreachable) })
	t.Logf("silent after %s: %v", time.Since(began).Round(100*time.Millisecond), see())
	syscall.Kill(pid, syscall.SIGCONT)
	began = time.Now()
	settles(t, site, "the site is known again", func() bool { return see() == nil })
	t.Logf("known again after %s", time.Since(began).Round(100*time.Millisecond))
}

// TestRealNodeGone has a node that nothing answers for any more: a pod there that was ready says so, and no share is set on it.
func TestRealNodeGone(t *testing.T) {
	t.Parallel()
	config := realCluster(t)
	site := openSite(t, config, namespace(t))
	node, c := site.Namespace, site.connection
	ask := func(method, path, body string) {
		t.Helper()
		if err := c.ask(context.Background(), method, path, json.RawMessage(body), nil); err != nil {
			t.Fatal(path, err)
		}
	}
	// No kubelet stands behind it, and the scheduler leaves it alone.
	ask(http.MethodPost, "/api/v1/nodes", `{"metadata": {"name": "`+node+`"}, "spec": {"taints": [{"key": "skerry.example/away", "effect": "NoSchedule"}]}}`)
	t.Cleanup(func() {
		ask(http.MethodDelete, "/api/v1/nodes/"+node, "null")
		ask(http.MethodDelete, "/api/v1/namespaces/"+site.Namespace, "null")
	})
	now := time.Now().UTC().Format(time.RFC3339)
	status := func(k kind, namespace, name, text string) {
		t.Helper()
		if _, err := c.client.Resource(k.GroupVersionResource).Namespace(namespace).Patch(t.Context(), name, types.MergePatchType, []byte(`{"status": `+text+`}`), metav1.PatchOptions{}, "status"); err != nil {
			t.Fatal(err)
		}
	}
	status(of("", "v1", "nodes", "Node"), "", node, `{"capacity": {"cpu": "4", "memory": "4Gi", "pods": "10"}, "conditions": [{"type": "Ready", "status": "True", "reason": "KubeletReady", "lastHeartbeatTime": "`+now+`", "lastTransitionTime": "`+now+`"}]}`)
	desired := fares("1")
	web := desired.Parts["web"]
	web.Instances, web.Template = 1, declare.Object{"spec": map[string]any{"nodeName": node}}
	desired.Parts["web"] = web
	if err := site.Apply(t.Context(), "fares", []target.Want{target.Prepare(one, desired), target.Scale(one, "web", 1)}); err != nil {
		t.Fatal(err)
	}
	see := func() (in target.Instance) {
		if o, err := site.Observe(t.Context(), "fares"); err == nil && len(o.Cohorts) == 1 && len(o.Cohorts[0].Instances) == 1 {
			in = o.Cohorts[0].Instances[0]
		}
		return in
	}
	settles(t, site, "there is a pod", func() bool { return see().ID != "" })
	status(pods, site.Namespace, see().ID, `{"phase": "Running", "podIP": "10.9.9.9", "podIPs": [{"ip": "10.9.9.9"}], "conditions": [{"type": "Ready", "status": "True"}, {"type": "ContainersReady", "status": "True"}],
		"containerStatuses": [{"name": "main", "ready": true, "image": "x", "imageID": "x", "restartCount": 0, "state": {"running": {"startedAt": "`+now+`"}}}]}`)
	tree := func() string {
		nodes, _ := site.Tree(t.Context(), "fares")
		text, _ := json.Marshal(nodes)
		return string(text)
	}
	settles(t, site, "it is ready", func() bool { return strings.Contains(tree(), "1 of 1 ready") })
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute) // a cluster waits for a node for most of a minute
	defer cancel()
	began := time.Now()
	if err := c.mirror.await(ctx, func() bool { return strings.Contains(tree(), "its node "+node+" does not answer") }); err != nil {
		t.Fatal("its node is gone, and it says: ", tree())
	}
	t.Logf("known after %s", time.Since(began).Round(time.Second))
	settles(t, site, "no traffic is led to it", func() bool { return !site.hasAddress("fares-web-1111111") })
}

// TestRealExpired has an account with a certificate, and the same one run out.
func TestRealExpired(t *testing.T) {
	config := realCluster(t)
	folder := filepath.Dir(clustertest.Kubeconfig(t))
	signer, err := tls.LoadX509KeyPair(filepath.Join(folder, "people.crt"), filepath.Join(folder, "people.key"))
	if err != nil {
		t.Fatal(err)
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	private, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	for left, want := range map[time.Duration]string{time.Hour: "", -time.Hour: "the cluster does not know the account any more; renew its credentials in the kubeconfig"} {
		made, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{
			SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "maren", Organization: []string{"system:masters"}}, KeyUsage: x509.KeyUsageDigitalSignature,
			ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}, NotBefore: time.Now().Add(-2 * time.Hour), NotAfter: time.Now().Add(left),
		}, signer.Leaf, key.Public(), signer.PrivateKey)
		if err != nil {
			t.Fatal(err)
		}
		own := rest.AnonymousClientConfig(config)
		own.CertData = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: made})
		own.KeyData = pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: private})
		site := openSite(t, own, namespace(t))
		settles(t, site, "it is known what the account is good for", func() bool {
			_, err = site.Observe(t.Context(), "fares")
			return err == nil || !strings.Contains(err.Error(), "are being read")
		})
		if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("with %s left: %v, want %s", left, err, want)
		}
	}
}
