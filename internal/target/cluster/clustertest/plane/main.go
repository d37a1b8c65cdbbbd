// Command plane is a whole cluster in one binary, for tests: which of its programs it is, the first argument says.
package main

import (
	"fmt"
	"maps"
	"os"
	"slices"

	"github.com/spf13/cobra"
	"go.etcd.io/etcd/server/v3/etcdmain"
	"k8s.io/component-base/cli"
	_ "k8s.io/component-base/metrics/prometheus/clientgo"
	_ "k8s.io/component-base/metrics/prometheus/version"
	apiserver "k8s.io/kubernetes/cmd/kube-apiserver/app"
	manager "k8s.io/kubernetes/cmd/kube-controller-manager/app"
	proxy "k8s.io/kubernetes/cmd/kube-proxy/app"
	scheduler "k8s.io/kubernetes/cmd/kube-scheduler/app"
	kubelet "k8s.io/kubernetes/cmd/kubelet/app"

	"context"
)

func command(make func() *cobra.Command) func() { return func() { os.Exit(cli.Run(make())) } }

var programs = map[string]func(){
	"etcd":                    func() { etcdmain.Main(os.Args) },
	"kube-apiserver":          command(apiserver.NewAPIServerCommand),
	"kube-controller-manager": command(manager.NewControllerManagerCommand),
	"kube-scheduler":          command(func() *cobra.Command { return scheduler.NewSchedulerCommand() }),
	"kube-proxy":              command(proxy.NewProxyCommand),
	"kubelet":                 command(func() *cobra.Command { return kubelet.NewKubeletCommand(context.Background()) }),
}

func main() {
	if len(os.Args) < 2 || programs[os.Args[1]] == nil {
		fmt.Fprintln(os.Stderr, "usage: plane PROGRAM FLAGS…, with one of", slices.Sorted(maps.Keys(programs)))
		os.Exit(2)
	}
	os.Args = os.Args[1:] // as if it were called so
	programs[os.Args[0]]()
}
