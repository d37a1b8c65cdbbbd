// Package containers is the kind of sites whose instances are containers of an engine on this machine. They are kept, probed and led to as the
// processes of local sites are, by the same keeper and the same router, so that they go on when Aditus ends.
package containers

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"aditus/internal/config"
	"aditus/internal/target"
	"aditus/internal/target/containers/host"
	"aditus/internal/target/containers/images"
	"aditus/internal/target/local"
)

const kindName = "containers"

// Kind is a site whose instances are containers on this machine.
var Kind = target.Kind{
	Name: kindName, Means: "containers of an engine on this machine", Here: true, Stays: true,
	Check:    check,
	New:      newTarget,
	Describe: func(t config.Target) string { return "containers of " + t.Engine + ", HTTP at " + t.Listen },
	Try:      try,
	Open:     openAll,
	Can: map[string]string{
		target.CanShare: "exact, by Aditus's router", target.CanPreview: "by host or header", target.CanTCP: "yes", target.CanSticky: "by cookie or header",
		target.CanImages: "brought by Aditus", target.CanFiles: "images: tar, OCI layout", target.CanTasks: "yes", target.CanSettings: "yes", target.CanLay: "yes",
		target.CanVolumes: "of the engine", target.CanLimits: "by the engine", target.CanProcesses: "by the engine", target.CanUser: "yes", target.CanFolder: "yes", target.CanFixed: "on this machine",
		target.CanName: "by name, over all cohorts", target.CanDrift: "limits, image, mounts, networks, files; paused or removed", target.CanLog: "yes", target.CanExec: "within the container", target.CanUsage: "yes",
		target.CanTakeOver: "containers that run", target.CanGoOn: "yes",
	},
}

// roomFolder has what lies on this machine while it is brought to an engine, in the data folder.
const roomFolder = "store/.brought"

// engines are where those of a machine listen.
var engines = []string{"/run/podman/podman.sock", "/var/run/docker.sock"}

func check(t config.Target) error {
	if err := host.Check(t.Engine); err != nil {
		return err
	}
	return local.Kind.Check(config.Target{Listen: t.Listen, Ports: t.Ports})
}

// newTarget gives a new site the engine that is named, or the machine's, and the first address that no other has.
func newTarget(name string, before []config.Site, address string) (config.Target, error) {
	engine, listen, _ := strings.Cut(address, ",")
	if engine == "" {
		at := slices.IndexFunc(engines, func(path string) bool { _, err := os.Stat(path); return err == nil })
		if at < 0 {
			return config.Target{}, fmt.Errorf("no container engine was found at %s; name it: containers=unix:///PATH,127.0.0.1:8080", strings.Join(engines, " or "))
		}
		engine = host.Scheme + engines[at]
	}
	t, err := local.Kind.New(name, before, listen)
	if err != nil {
		return t, err
	}
	t.Kind, t.Engine = kindName, engine
	return t, check(t)
}

// try asks the engine what it is.
func try(ctx context.Context, t config.Target) ([]string, error) {
	h := host.New(t.Engine)
	v, err := h.Ping(ctx)
	if err != nil {
		return nil, err
	}
	return []string{fmt.Sprintf("%s %s answers, with version %s of the API", cmp.Or(v.Name, "the engine"), v.Version, v.API)}, nil
}

func openAll(g target.Ground, sites []config.Site) (o target.Opened, err error) {
	most, err := g.Settings.StoreSize()
	if err != nil {
		return o, err
	}
	keeper := local.NewClient(g.Folder)
	if !g.ReadOnly {
		if keeper, err = local.KeeperOf(g.Folder, g.Settings.Instances); err != nil {
			return o, err
		}
	}
	room := filepath.Join(g.Folder, roomFolder)
	if !g.ReadOnly {
		if err := os.RemoveAll(room); err != nil { // what an earlier one left in the midst of it
			return o, err
		}
	}
	at := map[string]*local.Engine{} // by address
	o.Drivers = map[string]target.Driver{}
	for _, site := range sites {
		e := at[site.Target.Engine]
		if e == nil {
			h := host.New(site.Target.Engine)
			e = &local.Engine{Address: site.Target.Engine, Host: h, Images: images.Open(h, most, room, local.FetchOf(g))}
			at[site.Target.Engine] = e
		}
		ports, err := local.Ports(site.Target)
		if err != nil {
			return o, err
		}
		one, err := local.Open(local.Options{Name: site.Name, Folder: g.Folder, Listen: site.Target.Listen, Ports: ports, Keeper: keeper, Engine: e, Open: g.Secret, Mark: g.Mark, As: g.As, ReadOnly: g.ReadOnly})
		if err != nil {
			return o, err
		}
		o.Drivers[site.Name] = one
	}
	return o, nil
}
