package keeper

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"aditus/internal/target"
	"aditus/internal/target/containers/host"
)

// Container says what a process is in a container.
type Container struct {
	Engine  string            `json:"engine"` // its address
	Name    string            `json:"name"`
	Image   string            `json:"image,omitempty"`   // as the engine has it
	Command []string          `json:"command,omitempty"` // in place of the image's own
	User    string            `json:"user,omitempty"`    // the image's own where it is left out
	Folder  string            `json:"folder,omitempty"`  // where it runs; the image's own where it is left out
	Ports   map[string]int    `json:"ports,omitempty"`   // within, by name
	Mounts  []host.Mount      `json:"mounts,omitempty"`
	Network string            `json:"network,omitempty"`
	Aliases []string          `json:"aliases,omitempty"` // what it is called there
	Labels  map[string]string `json:"labels,omitempty"`
}

// labelForm is the form that a container was made in, so that one of another is exchanged.
const labelForm = "aditus.form"

// temporary is where a container may write beside its volumes: in memory, and gone with it.
var temporary = map[string]string{"/tmp": "rw,nosuid,nodev,size=64m"}

// create is the container of a process, with its environment and the ports of the machine that lead to its own.
func (p Process) create(environment []string, ports map[string]int, owner string) host.Create {
	c := p.Container
	made := host.Create{
		Image: c.Image, Env: environment, User: c.User, WorkingDir: c.Folder, StopSignal: "SIG" + p.Stop.Signal, Labels: maps.Clone(c.Labels), ExposedPorts: map[string]struct{}{},
		HostConfig: host.HostConfig{
			NetworkMode: c.Network, PortBindings: map[string][]host.Port{}, Mounts: c.Mounts, Tmpfs: temporary, ReadonlyRootfs: true, CapDrop: []string{"ALL"}, SecurityOpt: []string{"no-new-privileges"},
		},
		NetworkingConfig: host.Networking{EndpointsConfig: map[string]host.Endpoint{c.Network: {Aliases: c.Aliases}}},
	}
	if len(c.Command) > 0 {
		command := make([]string, len(c.Command))
		for i, text := range c.Command {
			command[i] = fill(text, environment)
		}
		made.Entrypoint, made.Cmd = command[:1], command[1:]
	}
	if made.Labels == nil {
		made.Labels = map[string]string{}
	}
	for _, name := range slices.Sorted(maps.Keys(c.Ports)) {
		within := strconv.Itoa(c.Ports[name]) + "/tcp"
		made.ExposedPorts[within] = struct{}{}
		made.HostConfig.PortBindings[within] = []host.Port{{HostIP: Host, HostPort: strconv.Itoa(ports[name])}}
	}
	if l := p.Limits; l != nil {
		made.HostConfig.Memory, made.HostConfig.MemorySwap, made.HostConfig.NanoCpus = l.Memory, l.Memory, int64(l.CPU*1e9)
		if l.Processes > 0 {
			made.HostConfig.PidsLimit = new(int64(l.Processes))
		}
	}
	made.Labels[LabelKeeper] = owner
	text, _ := json.Marshal(made)
	sum := sha256.Sum256(text)
	made.Labels[labelForm] = hex.EncodeToString(sum[:8])
	return made
}

// startContainer starts the process in its container: the one that is there already where it was made likewise, a new one else.
func (p *process) startContainer() (*running, error) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go func() {
		select {
		case <-p.stop:
			cancel()
		case <-ctx.Done():
		}
	}()
	between := p.site.between()
	p.mu.Lock()
	spec, had, before := p.spec, p.record.Ports, p.record.Name != ""
	p.mu.Unlock()
	e := p.site.keeper.engine(spec.Container.Engine)
	if before {
		if _, err := e.Inspect(ctx, spec.Container.Name); errors.Is(err, host.ErrNotFound) {
			had = nil // what led to the one that was taken away may still lead nowhere
		}
	}
	p.mu.Lock()
	ports, err := p.site.keeper.ports.take(spec.ID, spec.Ports, had, spec.Fixed, between)
	if err == nil {
		p.record.Ports = ports
		err = p.lay(p.environment())
	}
	environment := p.environment()
	p.mu.Unlock()
	if err != nil {
		return nil, err
	}
	leave, err := e.enter(ctx)
	if err != nil {
		return nil, err
	}
	defer leave()
	ctx = context.WithoutCancel(ctx) // what the engine was asked for it does: whether it is there has to be known to whoever takes it away
	made := spec.create(environment, ports, e.owner)
	id, runs, err := e.make(ctx, *spec.Container, made)
	p.mu.Lock()
	p.noImage = errors.Is(err, errNoImage)
	p.mu.Unlock()
	if err != nil {
		return nil, err
	}
	now := e.attend(id, p)
	if !runs {
		if err := e.Start(ctx, id); err != nil {
			e.forget(id)
			if c, gone := e.Inspect(ctx, id); gone == nil && c.State.Status == "created" {
				e.Remove(ctx, id) // it never ran: what it stands on may have gone since it was made, and the next one is made anew
			}
			return nil, fmt.Errorf("cannot be started: %w", err)
		}
	}
	c, err := e.Inspect(ctx, id)
	if err != nil {
		e.forget(id)
		return nil, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.used.byHand = changedOf(spec, c)
	p.note(func(r *record, at time.Time) {
		r.Container, r.Engine, r.Name, r.PID, r.Reason = id, spec.Container.Engine, spec.Container.Name, max(1, c.State.Pid), ""
		if r.Started = c.State.StartedAt; runs {
			r.event(at, false, "taken over")
		} else {
			r.event(at, false, "started")
		}
	})
	if !runs && !c.State.Running { // it ended before anybody heard of it
		go e.ended(context.Background(), id)
	}
	return now, nil
}

// make makes the container, and tells whether it runs already.
func (e *engine) make(ctx context.Context, c Container, made host.Create) (id string, runs bool, err error) {
	if c.Network != "" {
		in := e.network(c.Network)
		in.RLock()
		defer in.RUnlock()
		if err := e.Network(ctx, c.Network, map[string]string{LabelKeeper: e.owner}); err != nil {
			return "", false, fmt.Errorf("make its network: %w", err)
		}
	}
	name := c.Name
	there, err := e.Inspect(ctx, name)
	switch {
	case errors.Is(err, host.ErrNotFound):
	case err != nil:
		return "", false, err
	case there.Config.Labels[LabelKeeper] != e.owner:
		return "", false, fmt.Errorf("there is a container %s already, which is not of this Aditus: remove it, or rename it", name)
	case there.Config.Labels[labelForm] == made.Labels[labelForm]:
		return there.ID, there.State.Running, nil
	default:
		if err := e.Remove(ctx, there.ID); err != nil {
			return "", false, err
		}
	}
	for _, m := range made.HostConfig.Mounts {
		if m.Type == "volume" {
			if _, err := e.Volume(ctx, m.Source, map[string]string{LabelKeeper: e.owner}); err != nil {
				return "", false, fmt.Errorf("make the volume %s: %w", m.Source, err)
			}
		}
	}
	if id, err = e.Create(ctx, name, made); errors.Is(err, host.ErrNotFound) {
		err = errNoImage
	}
	return id, false, err
}

// errNoImage means that an engine has not an image any more that it had.
var errNoImage = errors.New("its image is not at the container engine any more: it is brought anew")

// adoptContainer takes over the container of the record. Whether it still runs the engine tells.
func (p *process) adoptContainer() *running {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.record.Container == "" {
		return p.takeOverContainer()
	}
	p.site.keeper.ports.hold(p.spec.ID, p.record.Ports)
	p.note(func(r *record, at time.Time) { r.event(at, false, "taken over") })
	e := p.site.keeper.engine(p.record.Engine)
	now := e.attend(p.record.Container, p)
	go e.look(context.Background())
	return now
}

// takeOverContainer takes over a container that ran before there was anybody to keep it, where it is still what is to run; nil where there is
// nothing to take over. It is called with the lock held.
func (p *process) takeOverContainer() *running {
	f := p.spec.Found
	if f == nil || f.Container == "" || !p.record.Started.IsZero() || p.spec.Container == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), engineWait)
	defer cancel()
	e := p.site.keeper.engine(p.spec.Container.Engine)
	c, err := p.isFoundContainer(ctx, e, f)
	if err != nil {
		p.note(func(r *record, at time.Time) { r.event(at, true, "%s is not taken over: %v", f, err) })
		return nil
	}
	p.site.keeper.ports.hold(p.spec.ID, f.Ports)
	p.note(func(r *record, at time.Time) {
		r.Container, r.Engine, r.Name, r.PID, r.Started, r.Found, r.Ports = c.ID, p.spec.Container.Engine, c.Name, max(1, c.State.Pid), c.State.StartedAt, true, f.Ports
		r.event(at, false, "%s is taken over as it is", f)
	})
	return e.attend(c.ID, p)
}

// isFoundContainer tells why a container is not what is to run; nil where it is.
func (p *process) isFoundContainer(ctx context.Context, e *engine, f *target.Found) (host.Container, error) {
	c, err := e.Inspect(ctx, f.Container)
	if err != nil {
		return c, err
	}
	wanted, err := e.Image(ctx, p.spec.Container.Image)
	if err != nil {
		return c, err
	}
	switch command := slices.Concat(c.Config.Entrypoint, c.Config.Cmd); {
	case !c.State.Running:
		return c, errors.New("it has ended")
	case strings.TrimPrefix(c.Image, "sha256:") != strings.TrimPrefix(wanted.ID, "sha256:"):
		return c, errors.New("another image is declared than it runs")
	case len(p.spec.Container.Command) > 0 && !slices.Equal(command, p.spec.Container.Command):
		return c, errors.New("another command is declared than it runs")
	}
	for name := range p.spec.Container.Ports {
		if f.Ports[name] == 0 {
			return c, fmt.Errorf("its port %s is declared otherwise", name)
		}
	}
	return c, nil
}

// endContainer ends the container by its signal, then by force, and takes it away where it is not to be started again. It is tried until
// the engine did it.
func (p *process) endContainer(now *running, again bool) {
	p.mu.Lock()
	e, stop, changed := p.site.keeper.engine(p.record.Engine), p.spec.Stop, len(p.used.byHand) > 0
	p.mu.Unlock()
	for try := 0; ; try++ {
		err := e.endOne(now.container, stop.Within.Duration, !again || changed)
		if err == nil {
			e.forget(now.container)
			return
		}
		if try == 0 {
			p.site.warn("a container cannot be ended yet", p.spec.ID, err)
		}
		select {
		case <-p.site.keeper.left:
			return
		case <-time.After(engineAgain):
		}
	}
}

// endOne ends a container, and takes it away.
func (e *engine) endOne(id string, within time.Duration, away bool) error {
	ctx := context.Background()
	leave, err := e.enter(ctx)
	if err != nil {
		return err
	}
	defer leave()
	if err := e.Stop(ctx, id, within); err != nil && !errors.Is(err, host.ErrNotFound) {
		return err
	}
	if !away {
		return nil
	}
	return e.Remove(ctx, id)
}

// dropContainer takes a container away that does not run and is not wanted any more.
func (p *process) dropContainer() {
	p.mu.Lock()
	c := p.spec.Container
	p.mu.Unlock()
	if c == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	e := p.site.keeper.engine(c.Engine)
	there, err := e.Inspect(ctx, c.Name)
	if err == nil && there.Config.Labels[LabelKeeper] == e.owner {
		err = e.Remove(ctx, there.ID)
	}
	if err != nil && !errors.Is(err, host.ErrNotFound) {
		p.site.warn("a container cannot be removed", p.spec.ID, err)
	}
	if c.Network != "" {
		if in := e.network(c.Network); in.TryLock() { // or else whoever is made in it now takes it away at its own end
			e.RemoveNetwork(ctx, c.Network) // an engine keeps one that others are in
			in.Unlock()
		}
	}
}

// KeepsContainers tells whether instances in some folders are containers, which end with whoever keeps them alone.
func KeepsContainers(folders []string) bool {
	return len(containersIn(folders, func(record) bool { return true })) > 0
}

// Unended names the containers in some folders that were not ended yet, each with its engine.
func Unended(folders []string) []string {
	return containersIn(folders, func(r record) bool { return r.PID != 0 })
}

func containersIn(folders []string, which func(record) bool) (names []string) {
	for _, folder := range folders {
		records, _ := filepath.Glob(filepath.Join(folder, "*", RecordFile)) // the pattern is right
		for _, file := range records {
			if r, err := readRecord(filepath.Dir(file)); err == nil && r.Container != "" && which(r) {
				names = append(names, fmt.Sprintf("%s of %s", r.Name, r.Engine))
			}
		}
	}
	return names
}

// execute runs a command within the container.
func (p *process) execute(ctx context.Context, c Command) Ran {
	p.mu.Lock()
	id, address := p.record.Container, p.record.Engine
	p.mu.Unlock()
	if id == "" {
		return Ran{"it does not run"}
	}
	status, wrote, err := p.site.keeper.engine(address).Exec(ctx, id, c.Args)
	switch {
	case err != nil:
		return Ran{fmt.Sprintf("%s cannot be started: %v", c.Name, err)}
	case status != 0:
		text := fmt.Sprintf("%s exited with status %d", c.Name, status)
		if wrote != "" {
			text += ": " + wrote
		}
		return Ran{text}
	}
	return Ran{}
}
