package local

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"

	"aditus/internal/core/declare"
	"aditus/internal/core/say"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/target/containers/host"
	"aditus/internal/target/containers/images"
	"aditus/internal/target/local/keeper"
)

// strayContainer is what the ID of a container begins with.
const strayContainer = "container/"

// strayContainers are the containers that run at the engine and that no Aditus made.
func (s *Site) strayContainers(ctx context.Context) ([]status.Stray, error) {
	listed, err := s.Engine.Host.List(ctx, nil)
	if err != nil {
		return nil, fmt.Errorf("%s: %w: %v", s.Name, target.ErrUnreachable, err)
	}
	all := []status.Stray{}
	for _, l := range listed {
		if l.State != "running" || l.Labels[keeper.LabelKeeper]+l.Labels[keeper.LabelAgent] != "" || s.keeps(target.Found{Container: l.ID}) {
			continue
		}
		c, err := s.Engine.Host.Inspect(ctx, l.ID)
		if errors.Is(err, host.ErrNotFound) {
			continue // it has just ended
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w: %v", s.Name, target.ErrUnreachable, err)
		}
		name := strings.TrimPrefix(c.Name, "/")
		one := status.Stray{ID: strayContainer + name, With: target.StrayName(name), Says: c.Config.Image}
		for _, within := range slices.Sorted(maps.Keys(c.NetworkSettings.Ports)) {
			for _, to := range c.NetworkSettings.Ports[within] {
				one.Says += fmt.Sprintf(", %s at %s", within, net.JoinHostPort(to.HostIP, to.HostPort))
			}
		}
		if !c.Created.IsZero() {
			one.Says += ", since " + c.Created.UTC().Format("2 Jan 2006")
		}
		if one.Part, one.Notes, err = s.partOfContainer(ctx, c); err != nil {
			one.Part, one.Notes, one.Not = nil, nil, err.Error()
		}
		all = append(all, one)
	}
	slices.SortFunc(all, func(a, b status.Stray) int { return strings.Compare(a.ID, b.ID) })
	return all, nil
}

// partOfContainer is a container as it would be declared, and what whoever declares it should know.
func (s *Site) partOfContainer(ctx context.Context, c host.Container) (part map[string]any, notes []string, err error) {
	image, err := s.Engine.Host.Image(ctx, c.Image)
	if err != nil {
		return nil, nil, err
	}
	reference := c.Config.Image
	switch first, rest, is := strings.Cut(reference, "/"); {
	case strings.HasPrefix(reference, images.Repository):
		return nil, nil, errors.New("its image was brought by an Aditus: nobody knows from where")
	case !is || rest == "" || !strings.ContainsAny(first, ".:") || first == "localhost":
		return nil, nil, fmt.Errorf("its image %s names no registry: its next revision could not be had", reference)
	}
	for _, m := range c.Mounts {
		if m.Type == "volume" || m.Type == "bind" {
			return nil, nil, fmt.Errorf("it has %s at %s, which what is started next would not find: declare it by hand", m.Type, m.Destination)
		}
	}
	part = map[string]any{"kind": string(declare.Service), "artifact": reference}
	command := slices.Concat(c.Config.Entrypoint, c.Config.Cmd)
	if !slices.Equal(command, slices.Concat(image.Config.Entrypoint, image.Config.Cmd)) && len(command) > 0 {
		for _, arg := range command {
			if strings.Contains(arg, "$") || hasPassword(arg) || strings.HasPrefix(arg, "-") && looksSecret(arg) {
				return nil, nil, errors.New("its command holds a $, or what looks secret: declare it by hand")
			}
		}
		part["command"] = command
	}
	own := slices.DeleteFunc(slices.Clone(c.Config.Env), func(variable string) bool {
		return slices.Contains(image.Config.Env, variable) || strings.HasPrefix(variable, "container=")
	})
	declared, left := environmentOf(own)
	if len(declared) > 0 {
		part["environment"] = declared
	}
	if len(left) > 0 {
		notes = append(notes, "not written down, as it looks secret: "+say.List(left)+"; it has that until it is started anew")
	}
	if ports := portsWithin(c); len(ports) > 0 {
		listed := map[string]any{}
		for name, number := range ports {
			listed[name] = number
		}
		part["ports"] = listed
		part["probes"] = map[string]any{"listens": map[string]any{"tcp": map[string]any{"port": mainPort}}}
	}
	limits := map[string]any{}
	if c.HostConfig.Memory > 0 {
		limits["memory"] = fmt.Sprintf("%d B", c.HostConfig.Memory)
		if c.HostConfig.Memory%(1<<20) == 0 {
			limits["memory"] = fmt.Sprintf("%d MiB", c.HostConfig.Memory>>20)
		}
	}
	if c.HostConfig.NanoCpus > 0 {
		limits["cpu"] = float64(c.HostConfig.NanoCpus) / 1e9
	}
	if len(limits) > 0 {
		part["resources"] = map[string]any{"limits": limits}
	}
	if user, err := strconv.Atoi(c.Config.User); err == nil && c.Config.User != image.Config.User {
		part["user"] = user
	}
	if !c.HostConfig.ReadonlyRootfs {
		notes = append(notes, "it may write to its root; what is started next writes to /tmp and its volumes alone")
	}
	return part, notes, nil
}

// portsWithin are the ports of a container that lead to it from this machine, by the names that they would be declared under.
func portsWithin(c host.Container) map[string]int {
	ports := map[string]int{}
	for _, within := range slices.Sorted(maps.Keys(c.NetworkSettings.Ports)) {
		number, kind, _ := strings.Cut(within, "/")
		port, err := strconv.Atoi(number)
		if err != nil || kind != "tcp" || ledAt(c, within) == 0 {
			continue
		}
		name := mainPort
		if ports[name] != 0 {
			name = fmt.Sprintf("port-%d", port)
		}
		ports[name] = port
	}
	return ports
}

// ledAt is the port of this machine at which a port of a container is reached by the machine itself; 0 for none.
func ledAt(c host.Container, within string) int {
	for _, to := range c.NetworkSettings.Ports[within] {
		if ip := net.ParseIP(to.HostIP); to.HostIP == "" || ip != nil && (ip.IsUnspecified() || ip.Equal(net.ParseIP(keeper.Host))) {
			if port, err := strconv.Atoi(to.HostPort); err == nil {
				return port
			}
		}
	}
	return 0
}

// foundContainer is the container of a stray's ID.
func (s *Site) foundContainer(id string) (target.Found, error) {
	f := target.Found{Ports: map[string]int{}}
	c, err := s.Engine.Host.Inspect(context.Background(), strings.TrimPrefix(id, strayContainer))
	if err != nil {
		return f, fmt.Errorf("%s at %s: %w", id, s.Name, err)
	}
	if _, _, err := s.partOfContainer(context.Background(), c); err != nil || !c.State.Running {
		return f, fmt.Errorf("%s at %s cannot be taken over any more: %v", id, s.Name, err)
	}
	f.Container = c.ID
	for name, port := range portsWithin(c) {
		f.Ports[name] = ledAt(c, strconv.Itoa(port)+"/tcp")
	}
	return f, nil
}
