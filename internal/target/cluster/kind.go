package cluster

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"k8s.io/client-go/tools/clientcmd"

	"aditus/internal/config"
	"aditus/internal/core/declare"
	"aditus/internal/target"
)

// Kind is the cluster: a namespace of it is a site.
var Kind = target.Kind{
	Name: "cluster", Means: "a namespace of a Kubernetes cluster", Stays: true,
	Check:    check,
	New:      newTarget,
	Describe: func(t config.Target) string { return "the namespace " + t.Namespace + " of the cluster " + nameOf(t) },
	Try:      try,
	Ready: func(t config.Target) error {
		_, _, err := Address{t.Kubeconfig, t.Context}.load()
		return err
	},
	Can: map[string]string{
		target.CanShare: "exact by Gateway API, else by instances", target.CanPreview: "by Gateway API", target.CanTCP: "by a Service of each", target.CanSticky: "by Gateway API, as its gateway does it",
		target.CanImages: "pulled by the cluster", target.CanTasks: "Jobs", target.CanSettings: "yes", target.CanVolumes: "claims", target.CanLimits: "by the cluster", target.CanUser: "yes",
		target.CanObjects: "yes", target.CanDrift: "every field of ours", target.CanLog: "yes", target.CanExec: "within the container", target.CanUsage: "where it has metrics", target.CanTakeOver: "objects", target.CanGoOn: "yes",
	},
	Objects: objects,
	Open:    openAll,
	Runs: func(_ context.Context, _ target.Ground, _ config.Target, part declare.Part) (string, error) {
		return "", impossible(part)
	},
}

// namespacePattern is the grammar of a DNS label in RFC 1123, which a namespace's name is.
var namespacePattern = regexp.MustCompile(`^[a-z0-9]([-a-z0-9]*[a-z0-9])?$`)

// longestNamespace is how long one may be.
const longestNamespace = 63

func check(t config.Target) error {
	switch {
	case t.Listen != "" || t.Ports != "":
		return errors.New("a cluster's traffic comes in by its own gateways: listen: and ports: are not for it")
	case t.Namespace == "":
		return errors.New("namespace is missing: write namespace: with the one that is the site")
	case !namespacePattern.MatchString(t.Namespace) || len(t.Namespace) > longestNamespace:
		return fmt.Errorf("namespace: %q is no name of a namespace: lower-case letters, digits and hyphens", t.Namespace)
	}
	_, err := gatewayOf(t.Gateway)
	return err
}

// gatewayOf reads NAMESPACE/NAME, or NAMESPACE/NAME/LISTENER.
func gatewayOf(text string) (g gateway, err error) {
	if text == "" {
		return g, nil
	}
	words := strings.Split(text, "/")
	if len(words) < 2 || len(words) > 3 || words[0] == "" || words[1] == "" {
		return g, fmt.Errorf("gateway: %q is none; write it like gateways/shore, or gateways/shore/https for one of its listeners", text)
	}
	g.namespace, g.name = words[0], words[1]
	if len(words) == 3 {
		g.section = words[2]
	}
	return g, nil
}

func nameOf(t config.Target) string {
	if t.Context != "" {
		return t.Context
	}
	return "that the kubeconfig names"
}

// newTarget reads cluster=CONTEXT/NAMESPACE; the current context, and the site's name, where they are left out. What the
// environment says now of where the kubeconfig is holds later too.
func newTarget(site string, _ []config.Site, rest string) (config.Target, error) {
	t := config.Target{Kind: "cluster", Namespace: site, Context: rest}
	if files := filepath.SplitList(os.Getenv(clientcmd.RecommendedConfigPathEnvVar)); len(files) == 1 {
		t.Kubeconfig, _ = filepath.Abs(files[0])
	}
	if context, namespace, ok := strings.Cut(rest, "/"); ok {
		t.Context, t.Namespace = context, namespace
	}
	return t, check(t)
}

// openAll connects once to each cluster, however many sites stand on it.
func openAll(g target.Ground, sites []config.Site) (o target.Opened, err error) {
	ctx, cancel := context.WithCancel(context.Background())
	o.Drivers, o.Close = map[string]target.Driver{}, cancel
	connections, taken := map[Address]*Connection{}, map[string]string{}
	for _, site := range sites {
		t := site.Target
		address := Address{t.Kubeconfig, t.Context}
		if connections[address] == nil {
			settings, name, err := address.load()
			if err != nil {
				return o, fmt.Errorf("the site %s: %w", site.Name, err)
			}
			if connections[address], err = Connect(settings, name); err != nil {
				return o, fmt.Errorf("the site %s: %w", site.Name, err)
			}
		}
		at := connections[address].name + "/" + t.Namespace
		if other := taken[at]; other != "" {
			return o, fmt.Errorf("the sites %s and %s cannot both be the namespace %s: give each one of its own", other, site.Name, t.Namespace)
		}
		taken[at] = site.Name
		gateway, err := gatewayOf(t.Gateway)
		if err != nil {
			return o, fmt.Errorf("the site %s: %w", site.Name, err)
		}
		o.Drivers[site.Name] = connections[address].Open(Options{Name: site.Name, Namespace: t.Namespace, Line: g.Settings.Line, Gateway: gateway, Pull: t.Pull, ReadOnly: g.ReadOnly})
	}
	for _, c := range connections {
		go c.Run(ctx)
	}
	return o, nil
}
