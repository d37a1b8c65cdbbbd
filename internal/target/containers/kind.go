// Package containers is the kind of sites whose instances are containers of an engine. They are kept, probed and led to as the processes of
// local sites are, by the same keeper and the same router, so that they go on when Aditus ends: on this machine by those of the data folder, on
// another one by those of an agent, which is this program too.
package containers

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"aditus/internal/config"
	"aditus/internal/target"
	"aditus/internal/target/containers/agent"
	"aditus/internal/target/containers/host"
	"aditus/internal/target/containers/images"
	"aditus/internal/target/local"
	"aditus/internal/target/local/keeper"
)

const kindName = "containers"

// Kind is a site whose instances are containers.
var Kind = target.Kind{
	Name: kindName, Means: "containers of an engine, on this machine or another one", Here: func(t config.Target) bool { return wayOf(t).Here() }, Stays: true,
	Check:    check,
	New:      newTarget,
	Describe: func(t config.Target) string { return "containers of " + t.Engine + ", HTTP at " + t.Listen },
	Try:      try,
	Open:     openAll,
	Can: map[string]string{
		target.CanShare: "exact, by Aditus's router", target.CanPreview: "by host or header", target.CanTCP: "yes", target.CanSticky: "by cookie or header",
		target.CanImages: "brought by Aditus", target.CanFiles: "images: tar, OCI layout", target.CanTasks: "yes", target.CanSettings: "yes", target.CanLay: "yes",
		target.CanVolumes: "of the engine", target.CanLimits: "by the engine", target.CanProcesses: "by the engine", target.CanUser: "yes", target.CanFolder: "yes", target.CanFixed: "on the engine's machine",
		target.CanName: "by name, over all cohorts", target.CanDrift: "limits, image, mounts, networks, files; paused or removed", target.CanLog: "yes", target.CanExec: "within the container", target.CanUsage: "yes",
		target.CanTakeOver: "containers that run", target.CanGoOn: "yes",
	},
}

// roomFolder has what lies on this machine while it is brought to an engine, in the data folder.
const roomFolder = "store/.brought"

// engines are where those of a machine listen.
var engines = []string{"/run/podman/podman.sock", "/var/run/docker.sock"}

// Where HTTP traffic comes in at the first site of a machine, where no address is given.
const anywhere = "0.0.0.0:8080"

// wayOf is the way to a site's engine.
func wayOf(t config.Target) host.Way {
	return host.Way{Address: t.Engine, CA: t.CA, Certificate: t.Certificate, Key: t.Key, KnownHosts: t.KnownHosts}
}

func check(t config.Target) error {
	if err := wayOf(t).Check(); err != nil {
		return err
	}
	return local.Kind.Check(config.Target{Listen: t.Listen, Ports: t.Ports})
}

// newTarget gives a new site the engine that is named, or the machine's, and the first address that no other has there:
// ENGINE,LISTEN,KEY=VALUE,… with what there is of it.
func newTarget(name string, before []config.Site, address string) (config.Target, error) {
	var own config.Target
	listen := ""
	engine, rest, _ := strings.Cut(address, ",")
	for field := range strings.SplitSeq(rest, ",") {
		key, value, is := strings.Cut(field, "=")
		to := map[string]*string{"ca": &own.CA, "certificate": &own.Certificate, "key": &own.Key, "known-hosts": &own.KnownHosts}[key]
		switch {
		case !is:
			listen = field
		case to == nil:
			return own, fmt.Errorf("there is no %s; write ca, certificate, key or known-hosts", key)
		default:
			*to = value
		}
	}
	if engine == "" {
		at := slices.IndexFunc(engines, func(path string) bool { _, err := os.Stat(path); return err == nil })
		if at < 0 {
			return config.Target{}, fmt.Errorf("no container engine was found at %s; name it: containers=unix:///PATH,127.0.0.1:8080", strings.Join(engines, " or "))
		}
		engine = host.Scheme + engines[at]
	}
	if !(host.Way{Address: engine}).Here() {
		listen = cmp.Or(listen, anywhere)
		before = slices.DeleteFunc(slices.Clone(before), func(s config.Site) bool { return s.Target.Engine != engine })
	} else {
		before = slices.DeleteFunc(slices.Clone(before), func(s config.Site) bool { return s.Target.Engine != "" && !wayOf(s.Target).Here() })
	}
	t, err := local.Kind.New(name, before, listen)
	if err != nil {
		return t, err
	}
	t.Kind, t.Engine, t.CA, t.Certificate, t.Key, t.KnownHosts = kindName, engine, own.CA, own.Certificate, own.Key, own.KnownHosts
	for _, s := range before { // which is reached likewise
		if s.Target.Engine == engine && own.CA+own.Certificate+own.Key+own.KnownHosts == "" {
			t.CA, t.Certificate, t.Key, t.KnownHosts = s.Target.CA, s.Target.Certificate, s.Target.Key, s.Target.KnownHosts
		}
	}
	return t, check(t)
}

// try asks the engine what it is.
func try(ctx context.Context, t config.Target) ([]string, error) {
	v, err := host.Open(wayOf(t)).Ping(ctx)
	if err != nil {
		return nil, err
	}
	return []string{fmt.Sprintf("%s %s answers, with version %s of the API", cmp.Or(v.Name, "the engine"), v.Version, v.API)}, nil
}

// at are the sites of one engine.
type at struct {
	way   host.Way
	sites []config.Site
}

// byEngine sorts sites by their engines, which are reached each in one way.
func byEngine(sites []config.Site) (all []at, err error) {
	for _, site := range sites {
		i := slices.IndexFunc(all, func(a at) bool { return a.way.Address == site.Target.Engine })
		if i < 0 {
			i = len(all)
			all = append(all, at{way: wayOf(site.Target)})
		}
		if all[i].way != wayOf(site.Target) {
			return nil, fmt.Errorf("sites: %s: target: the engine %s is reached otherwise for %s: write the same ca, certificate, key and known-hosts for both", site.Name, site.Target.Engine, all[i].sites[0].Name)
		}
		all[i].sites = append(all[i].sites, site)
	}
	return all, nil
}

// opening is what the sites of all engines are opened with.
type opening struct {
	target.Ground
	most   int64
	room   string
	keeper *local.Client
	out    target.Opened
	links  []*agent.Link
}

func openAll(g target.Ground, sites []config.Site) (target.Opened, error) {
	o := opening{Ground: g, room: filepath.Join(g.Folder, roomFolder), out: target.Opened{Drivers: map[string]target.Driver{}}}
	o.out.Close = func() {
		for _, link := range o.links {
			link.Close()
		}
	}
	engines, err := byEngine(sites)
	if err != nil {
		return o.out, err
	}
	if o.most, err = g.Settings.StoreSize(); err != nil {
		return o.out, err
	}
	o.keeper = local.NewClient(g.Folder)
	if !g.ReadOnly {
		if o.keeper, err = local.KeeperOf(g.Folder, g.Settings.Instances); err != nil {
			return o.out, err
		}
		if err := os.RemoveAll(o.room); err != nil { // what an earlier one left in the midst of it
			return o.out, err
		}
	}
	for _, e := range engines {
		open := o.there
		if e.way.Here() {
			open = o.here
		}
		if err := open(e); err != nil {
			o.out.Close()
			return o.out, err
		}
	}
	return o.out, nil
}

// here opens the sites of an engine of this machine.
func (o *opening) here(e at) error {
	h := host.Open(e.way)
	engine := &local.Engine{Address: e.way.Address, Host: h, Images: images.Open(h, o.most, o.room, local.FetchOf(o.Ground))}
	for _, site := range e.sites {
		ports, err := local.Ports(site.Target)
		if err != nil {
			return err
		}
		one, err := local.Open(local.Options{Name: site.Name, Folder: o.Folder, Listen: site.Target.Listen, Ports: ports, Keeper: o.keeper, Engine: engine, Open: o.Secret, Mark: o.Mark, As: o.As, ReadOnly: o.ReadOnly})
		if err != nil {
			return err
		}
		o.out.Drivers[site.Name] = one
	}
	return nil
}

// there opens the sites of an engine of another machine.
func (o *opening) there(e at) error {
	h := host.Open(e.way)
	bringer, err := bringerOf(h, e.way, o.Folder, o.Settings)
	if err != nil {
		return err
	}
	bringer.Look = o.ReadOnly
	var works []agent.Works
	for _, site := range e.sites {
		ports, err := local.Ports(site.Target)
		if err != nil {
			return err
		}
		works = append(works, agent.Works{Name: site.Name, Listen: site.Target.Listen, Ports: ports})
	}
	link := agent.OpenLink(agent.Ends{
		Name: e.way.Address, Reach: bringer.Reach, Images: images.Open(h, o.most, o.room, local.FetchOf(o.Ground)), Open: o.Secret, Mark: o.Mark, Look: o.ReadOnly, Now: time.Now, Log: slog.Default(),
		Setup: func() (agent.Setup, error) {
			c, err := credentials(e.way)
			return agent.Setup{Server: server(o.Folder), Sites: works, Engine: c, Called: e.way.Address}, err
		},
	})
	o.links = append(o.links, link)
	for _, site := range e.sites {
		o.out.Drivers[site.Name] = link.Site(site.Name)
	}
	return nil
}

// ownProgram is the program that runs, also once another one is in its place.
const ownProgram = "/proc/self/exe"

// bringerOf brings the agent of a data folder to an engine's machine.
func bringerOf(h *host.Host, way host.Way, folder string, s config.Settings) (*agent.Bringer, error) {
	own, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("find this program, to bring it to %s: %w", way.Address, err)
	}
	if _, err := os.Stat(ownProgram); err == nil {
		own = ownProgram
	}
	return &agent.Bringer{Host: h, Way: way, Owner: ownerOf(folder, s), Program: own, Log: slog.Default()}, nil
}

// ownerOf is what an agent is known by: the line, and where its ledger lies, so that it stays the same for all servers of a ledger, and for a data
// folder that was restored elsewhere.
func ownerOf(folder string, s config.Settings) string {
	at := folder
	if u, err := url.Parse(s.Ledger); err == nil && s.Ledger != "" {
		at = u.Host + u.Path
	}
	return keeper.OwnerOf(s.Line + "\n" + at)
}

// server names this server to an agent.
func server(folder string) string {
	name, _ := os.Hostname() // where there is none, the folder tells
	return name + ":" + folder
}

// credentials are those by which an engine is reached, as its own machine needs them too where it is asked over the network alone.
func credentials(way host.Way) (c agent.Credentials, err error) {
	if way.Socket() != "" {
		return c, nil
	}
	for _, one := range []struct {
		file string
		text *string
	}{{way.CA, &c.CA}, {way.Certificate, &c.Certificate}, {way.Key, &c.Key}} {
		if one.file == "" {
			continue
		}
		text, err := os.ReadFile(one.file)
		if err != nil {
			return c, err
		}
		*one.text = string(text)
	}
	return c, nil
}

// End ends all that agents of a data folder keep at the engines of sites on other machines, and removes them.
func End(ctx context.Context, folder string, s config.Settings) error {
	sites := slices.DeleteFunc(slices.Clone(s.Sites), func(s config.Site) bool { return s.Target.Kind != kindName || wayOf(s.Target).Here() })
	engines, err := byEngine(sites)
	for _, e := range engines {
		h := host.Open(e.way)
		bringer, wrong := bringerOf(h, e.way, folder, s)
		if wrong == nil {
			wrong = bringer.End(ctx)
		}
		err = errors.Join(err, wrong)
	}
	return err
}
