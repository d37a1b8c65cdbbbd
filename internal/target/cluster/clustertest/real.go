package clustertest

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// Registry is the one of a real cluster, Gateway where its gateway is.
const (
	Registry = "127.0.0.1:5055"
	Gateway  = "10.77.0.1:8088"
)

// atOnce is how many tests run at a time on a real cluster: mostly they wait for it.
const atOnce = "5"

// inside is set, to the kubeconfig, for tests that run in a real cluster's network.
const inside = "ADITUS_IN_CLUSTER"

// why is set to the reason for which there is no real cluster.
const why = "ADITUS_NO_CLUSTER"

// Kubeconfig says how the real cluster is reached. Where none was built, or may not be started, the test is skipped.
func Kubeconfig(t *testing.T) string {
	t.Helper()
	if kubeconfig := os.Getenv(inside); kubeconfig != "" {
		return kubeconfig
	}
	t.Skip("there is no real cluster: " + os.Getenv(why))
	return ""
}

// Main runs a package's tests, in the network of a real cluster where one was built: it is started for them, and ended in
// the end, but for one that ran before. root is the project's folder.
func Main(m *testing.M, root string) int {
	if os.Getenv(inside) != "" {
		return m.Run()
	}
	script := filepath.Join(root, "scripts", "cluster")
	plane, err := exec.Command(script, "path").Output()
	if _, missing := os.Stat(strings.TrimSpace(string(plane))); err != nil || missing != nil || os.Getuid() != 0 {
		os.Setenv(why, "scripts/cluster build makes it, and it needs root")
		return m.Run()
	}
	ran := exec.Command(script, "enter", "true").Run() == nil
	var trouble bytes.Buffer
	up := exec.Command(script, "up")
	up.Stderr = &trouble
	kubeconfig, err := up.Output()
	if err != nil {
		os.Setenv(why, "it does not start here: "+trouble.String())
		fmt.Fprintln(os.Stderr, "no real cluster:", os.Getenv(why))
		return m.Run()
	}
	if !ran {
		defer exec.Command(script, "down").Run()
	}
	own, err := os.Executable()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	tests := exec.Command(script, append([]string{"enter", own, "-test.parallel=" + atOnce}, os.Args[1:]...)...)
	tests.Env = append(os.Environ(), inside+"="+strings.TrimSpace(string(kubeconfig)))
	tests.Stdin, tests.Stdout, tests.Stderr = os.Stdin, os.Stdout, os.Stderr
	if err := tests.Run(); err != nil {
		return 1
	}
	return 0
}
