package local

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	v1 "github.com/google/go-containerregistry/pkg/v1"

	"aditus/internal/config"
	"aditus/internal/disk"
	"aditus/internal/target"
	"aditus/internal/target/local/store"
)

// Kind is the local site: processes on this machine.
var Kind = target.Kind{
	Name: "local", Means: "processes on this machine", Here: func(config.Target) bool { return true }, Stays: true,
	Check:    check,
	New:      newTarget,
	Describe: func(t config.Target) string { return "processes on this machine, HTTP at " + t.Listen },
	Open:     openAll,
	Runs:     runs,
	Can: map[string]string{
		target.CanShare: "exact, by Aditus's router", target.CanPreview: "by host or header", target.CanTCP: "yes", target.CanSticky: "by cookie or header",
		target.CanImages: "unpacked", target.CanFiles: "tar, OCI layout", target.CanPrograms: "those that `programs` allows", target.CanTasks: "yes", target.CanSettings: "yes", target.CanLay: "yes",
		target.CanVolumes: "folders", target.CanLimits: "by control groups", target.CanProcesses: "by control groups", target.CanUser: "where Aditus is root", target.CanFolder: "yes", target.CanUmask: "yes", target.CanFixed: "yes",
		target.CanName: "by cohort", target.CanOutside: "yes", target.CanDrift: "files, volumes, artifacts, processes", target.CanLog: "yes", target.CanExec: "beside the instance", target.CanUsage: "yes",
		target.CanTakeOver: "processes that listen", target.CanGoOn: "yes",
	},
}

// firstAddress is where HTTP traffic comes in at the first site, where no address is given.
const firstAddress = "127.0.0.1:8080"

// defaultPorts are given to instances where nothing else is said. They lie below those that systems give to outgoing
// connections.
const defaultPorts = "20000-29999"

func check(t config.Target) error {
	if t.Listen != "" {
		if _, _, err := net.SplitHostPort(t.Listen); err != nil {
			return fmt.Errorf("listen: %q is no address; write it like %s", t.Listen, firstAddress)
		}
	}
	for _, folder := range t.Programs {
		if !filepath.IsAbs(folder) || filepath.Clean(folder) == "/" {
			return fmt.Errorf("programs: %q is no folder by its whole path; write it like /usr/lib/postgresql/17/bin", folder)
		}
	}
	for _, folder := range t.Reach {
		if !filepath.IsAbs(folder) {
			return fmt.Errorf("reach: %q is no folder by its whole path; write it like /srv/media, or / for all of the machine", folder)
		}
	}
	_, err := Ports(t)
	return err
}

// Ports gives the first and the last port of a site's instances.
func Ports(t config.Target) (ports [2]int, err error) {
	text := cmp.Or(t.Ports, defaultPorts)
	first, last, _ := strings.Cut(text, "-")
	for i, number := range []string{first, last} {
		if ports[i], err = strconv.Atoi(strings.TrimSpace(number)); err != nil {
			break
		}
	}
	if err != nil || ports[0] < 1024 || ports[1] > 65535 || ports[0] > ports[1] {
		return ports, fmt.Errorf("ports: %q are no ports from 1024 to 65535; write them like %s", text, defaultPorts)
	}
	return ports, nil
}

// newTarget gives a new site the first address that no other has, from the one that is given on.
func newTarget(_ string, before []config.Site, address string) (config.Target, error) {
	host, port, err := net.SplitHostPort(cmp.Or(address, firstAddress))
	number, err2 := strconv.Atoi(port)
	if err != nil || err2 != nil {
		return config.Target{}, fmt.Errorf("%q is no address; write it like %s", address, firstAddress)
	}
	at := func() string { return net.JoinHostPort(host, strconv.Itoa(number)) }
	for slices.ContainsFunc(before, func(s config.Site) bool { return s.Target.Listen == at() }) {
		number++
	}
	return config.Target{Kind: "local", Listen: at()}, nil
}

// storeFolder is where unpacked artifacts are within a data folder.
const storeFolder = "store"

func openAll(g target.Ground, sites []config.Site) (o target.Opened, err error) {
	most, err := g.Settings.StoreSize()
	if err != nil {
		return o, err
	}
	var users *Users
	at := g.Folder
	if i := g.Settings.Instances; i.Apart() {
		if users, err = OpenUsers(g.Folder, i, g.ReadOnly); err != nil {
			return o, err
		}
		at = i.Folder
	}
	artifacts, err := store.Open(filepath.Join(at, storeFolder), most, FetchOf(g), disk.Machine)
	if err == nil && users != nil && !g.ReadOnly {
		err = artifacts.Share()
	}
	if err != nil {
		return o, err
	}
	keeper := NewClient(g.Folder)
	if !g.ReadOnly {
		if keeper, err = KeeperOf(g.Folder, g.Settings.Instances); err != nil {
			return o, err
		}
	}
	o.Drivers = map[string]target.Driver{}
	for _, site := range sites {
		ports, err := Ports(site.Target)
		if err != nil {
			return o, err
		}
		one, err := Open(Options{Name: site.Name, Folder: g.Folder, Listen: site.Target.Listen, Ports: ports, Programs: site.Target.Programs, Reach: site.Target.Reach, Store: artifacts, Keeper: keeper, Users: users, Open: g.Secret, Mark: g.Mark, As: g.As, ReadOnly: g.ReadOnly})
		if err != nil {
			return o, err
		}
		o.Drivers[site.Name] = one
	}
	return o, nil
}

// FetchOf fetches artifacts as sites are given them.
func FetchOf(g target.Ground) store.Fetch {
	return func(ctx context.Context, reference string) (v1.Image, error) {
		image, err := g.Artifact(ctx, reference)
		if errors.Is(err, target.ErrNoArtifact) {
			err = fmt.Errorf("%w: %v", store.ErrNone, err)
		}
		return image, err
	}
}

// KeeperOf gives the keeper of a data folder, which this program is too when it is called as one.
func KeeperOf(folder string, instances config.Instances) (*Client, error) {
	own, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("find this program, to run it as a keeper: %w", err)
	}
	c := NewClient(folder, own, "keep", "--data", folder)
	c.users = instances.All()
	return c, nil
}

// AgentKeeper gives the keeper of an agent's folder, of just the program that the agent is of.
func AgentKeeper(folder, program string) (*Client, error) {
	own, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("find this program, to run it as a keeper: %w", err)
	}
	c := NewClient(folder, own, "keep", "--data", folder, "--program", program)
	c.program = program
	return c, nil
}

// RouterOf gives the command of the router of a data folder, which this program is too when it is called as one.
func RouterOf(folder string) ([]string, error) {
	own, err := os.Executable()
	return []string{own, "route", "--data", folder}, err
}
