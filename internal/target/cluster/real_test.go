package cluster

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
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
