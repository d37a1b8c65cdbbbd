package cluster

import (
	"context"
	"errors"
	"fmt"
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
	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/clientcmd"

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
