package local

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/signal"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/target/containers/host"
	"aditus/internal/target/local/keeper"
	"aditus/internal/target/local/store"
	"aditus/internal/target/wanted"
)

// Engine is a container engine on this machine that a site's instances are containers of.
type Engine struct {
	Address string
	Called  string // what whoever looks at it calls it; its address where that is empty
	Host    *host.Host
	Images  Images
}

// Images bring artifacts to an engine, as package images does.
type Images interface {
	Get(reference string) (image string, err error)
	Gone(reference string)
	Use(user string, references func() []string, ready func())
}

// Where a container finds what is its.
const (
	withinSettings = "/run/aditus/settings"
	withinSecrets  = "/run/aditus/secrets"
)

// The labels of a container: whose it is. A revision is none of them, as it may live on as that of another one.
const (
	labelSite     = "aditus.site"
	labelWorkload = "aditus.workload"
	labelPart     = "aditus.part"
	labelInstance = "aditus.instance"
)

// own is the name of something of this site's at its engine.
func (s *Site) own(parts ...string) string {
	return strings.Join(append([]string{"aditus", keeper.OwnerOf(s.Folder)[:6], s.Name}, parts...), "-")
}

// contain makes a process the container of an instance. What is missing of what it reads is laid; what is there stays.
func (s *Site) contain(workload string, c *wanted.Cohort, in wanted.Instance, p *keeper.Process) error {
	part := c.Parts[in.Part]
	told := s.within(workload, c)
	if err := notContained(part, told); err != nil {
		return fmt.Errorf("%s cannot be a container: %w", in.Part, err)
	}
	image, err := s.Engine.Images.Get(part.Artifact)
	if err != nil {
		return err
	}
	at := s.home(in.ID)
	if err := os.MkdirAll(at, 0o700); err != nil {
		return err
	}
	variables := map[string]string{"INSTANCE": in.ID, "WORKLOAD": workload, "SITE": s.Name, "SETTINGS": withinSettings, "SECRETS": withinSecrets}
	if err := s.layValues(in.ID, c, variables); err != nil {
		return err
	}
	for name, value := range part.Environment {
		variables[name] = declare.Tell(value, told)
	}
	for name, mount := range part.Volumes {
		variables["VOLUME_"+declare.EnvironmentName(name)] = mount
	}
	p.Env = listed(variables)
	p.Folder, p.Secrets, p.Limits = at, filepath.Join(s.secrets, in.ID), limits(part)
	p.Container = &keeper.Container{
		Engine: s.Engine.Address, Name: s.own(in.ID), Image: image, Folder: part.Folder, Ports: part.Ports, Network: s.own(workload), Aliases: []string{in.Part},
		Labels: map[string]string{labelSite: s.Name, labelWorkload: workload, labelPart: in.Part, labelInstance: in.ID},
	}
	if part.User != nil {
		p.Container.User = strconv.Itoa(*part.User)
	}
	for _, text := range part.Command {
		p.Container.Command = append(p.Container.Command, declare.Tell(text, told))
	}
	for source, to := range map[string]string{filepath.Join(at, settingsFolder): withinSettings, p.Secrets: withinSecrets} {
		if err := openToRead(source); err != nil {
			return err
		}
		p.Container.Mounts = append(p.Container.Mounts, host.Mount{Type: "bind", Source: source, Target: to, ReadOnly: true})
	}
	for name, mount := range part.Volumes {
		p.Container.Mounts = append(p.Container.Mounts, host.Mount{Type: "volume", Source: s.own(workload, name), Target: path.Clean("/" + mount)})
	}
	for name, file := range part.Files {
		p.Files = append(p.Files, keeper.File{At: within(name), Text: declare.Tell(file.Text, told), Mode: file.Mode})
		p.Container.Mounts = append(p.Container.Mounts, host.Mount{Type: "bind", Source: s.laid(in.ID, name), Target: path.Clean("/" + name), ReadOnly: true})
	}
	slices.SortFunc(p.Files, func(a, b keeper.File) int { return strings.Compare(a.At, b.At) })
	slices.SortFunc(p.Container.Mounts, func(a, b host.Mount) int { return strings.Compare(a.Target, b.Target) })
	return nil
}

// notContained tells what a part asks for that a container cannot give it; nil for nothing.
func notContained(part declare.Part, told func(declare.Reference) (string, bool)) error {
	switch {
	case part.Artifact == "":
		return fmt.Errorf("%w: there is none, and a container has no programs of the machine", store.ErrBad)
	case part.Umask != "":
		return fmt.Errorf("%w with umask: a container has that of its image", store.ErrBad)
	}
	for _, ref := range part.References() {
		if _, ok := told(ref); !ok {
			return fmt.Errorf("%w with an address of %s: each workload has a network of its own, in which that is not found", store.ErrBad, strings.Trim(ref.Workload+"."+ref.Part, "."))
		}
	}
	return nil
}

// openToRead lets whoever a container runs as read a folder that is bound into it. On the machine it stays out of reach, as the folder that it
// lies in is its owner's alone.
func openToRead(folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	return filepath.WalkDir(folder, func(name string, entry fs.DirEntry, err error) error {
		if err != nil || entry.Type()&fs.ModeSymlink != 0 {
			return err
		}
		if entry.Name() == filesFolder { // which have the modes that are declared
			return filepath.SkipDir
		}
		mode := fs.FileMode(0o644)
		if entry.IsDir() {
			mode = 0o755
		}
		return os.Chmod(name, mode)
	})
}

// within gives the addresses that containers of a workload are told: parts by their names in its network, at the ports that they declare.
func (s *Site) within(workload string, c *wanted.Cohort) func(declare.Reference) (string, bool) {
	return func(ref declare.Reference) (string, bool) {
		part, is := c.Parts[ref.Part]
		if !is || ref.Workload != "" && ref.Workload != workload {
			return "", false
		}
		if ref.Host {
			return ref.Part, true
		}
		if ref.Port == "" && len(part.Ports) == 1 {
			for _, number := range part.Ports {
				return strconv.Itoa(number), true
			}
		}
		number, is := part.Ports[ref.Port]
		return strconv.Itoa(number), is
	}
}

// contained tells whether the instances of the site are containers.
func (s *Site) contained() bool { return s.Engine != nil }

// bringAnew has an artifact brought to the engine again, which has it no more. The keeper is told once it is there.
func (s *Site) bringAnew(artifact string) {
	s.Engine.Images.Gone(artifact)
	s.mu.Lock()
	s.behind = true
	s.mu.Unlock()
}

// containerLog gives the newest lines of an instance's container.
func (s *Site) containerLog(ctx context.Context, id string, since time.Time, most int) ([]target.LogLine, error) {
	lines, err := s.Engine.Host.Log(ctx, s.own(id), since, most)
	if errors.Is(err, host.ErrNotFound) {
		return nil, nil // it was not made yet
	}
	if err != nil {
		return nil, fmt.Errorf("the log of %s: %w", id, err)
	}
	var all []target.LogLine
	for _, l := range lines {
		all = append(all, target.LogLine{At: s.as(l.At), Stream: l.Stream, Text: l.Text})
	}
	return all, nil
}

// containerUsage adds what an instance's container uses to what is measured of it.
func (s *Site) containerUsage(ctx context.Context, id string, page signal.Page) {
	used, err := s.Engine.Host.Usage(ctx, s.own(id))
	if err != nil {
		return // what is not known is silent
	}
	page[target.MemoryMetric] = []signal.Sample{signal.NewSample(nil, float64(used.Memory))}
	page[target.ProcessorMetric] = []signal.Sample{signal.NewSample(nil, used.Seconds)}
}

// engineGround tells what the site's container engine is, and what its machine has.
func (s *Site) engineGround(ctx context.Context, g status.Ground) (status.Ground, error) {
	g.On = "containers of " + cmp.Or(s.Engine.Called, s.Engine.Address)
	if _, port, err := net.SplitHostPort(s.Listen); err == nil {
		g.On += ", traffic on " + port
	}
	v, err := s.Engine.Host.Ping(ctx)
	if err != nil {
		return g, err
	}
	g.Room = machineRoom(ctx) // which is the engine's
	g.Version = strings.TrimSpace(v.Version)
	g.Told = append(g.Told, fmt.Sprintf("%s answers with version %s of the API", cmp.Or(v.Name, "the engine"), v.API), "instances are containers with a root that is read only, no capabilities, and a network for each workload")
	return g, nil
}
