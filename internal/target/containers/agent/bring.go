package agent

import (
	"archive/tar"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"debug/elf"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/tarball"

	"aditus/internal/target/containers/host"
	"aditus/internal/target/local/keeper"
)

// Repository is where the images of agents are, under tags by which their programs are known.
const Repository = "localhost/aditus/agent"

// Memory is a file system in memory that a machine's programs share, within an agent as on its machine.
const Memory = "/dev/shm"

const (
	within     = "/aditus" // the program, within its image
	engineAt   = "/engine" // the folder of the engine's socket, within the container
	endWithin  = 90 * time.Second
	leadWithin = time.Minute
	leadLook   = 300 * time.Millisecond

	takeoverLook  = time.Second
	takeoverTries = 40
	bringMost     = 20 * time.Minute
)

// Bringer brings an agent to the machine of an engine.
type Bringer struct {
	Host    *host.Host
	Way     host.Way // to it
	Owner   string   // what the data folder's containers are known by
	Program string   // the file of the program that is brought
	Look    bool     // it is only looked at: none is brought
	Log     *slog.Logger

	summing  sync.Mutex
	sum      string     // of the program; empty while it was not made
	clearing sync.Mutex // one at a time
}

// Reach connects to the agent, which is brought there and started where it is not there. One of another program goes once this one took over.
func (b *Bringer) Reach(ctx context.Context) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, bringMost)
	defer cancel()
	all, err := b.Host.List(ctx, map[string]string{keeper.LabelAgent: b.Owner})
	if err != nil {
		return nil, err
	}
	if b.Look {
		i := slices.IndexFunc(all, func(l host.Listed) bool { return l.State == "running" })
		if i < 0 {
			return nil, errors.New("no agent runs there, and none is brought just to look: start Aditus")
		}
		return b.connect(ctx, all[i].ID)
	}
	id, known, err := b.start(ctx, all)
	if err != nil {
		return nil, fmt.Errorf("start its agent: %w", err)
	}
	if len(all) > 1 || len(all) == 1 && all[0].ID != id {
		if err := b.awaitTakeover(ctx, id, known); err != nil {
			return nil, err
		}
		b.clear(id)
	}
	return b.connect(ctx, id)
}

// awaitTakeover waits until the agent of a container is the one that answers there. Where another one took over from it, as after all of them were
// started with their machine, it is started anew.
func (b *Bringer) awaitTakeover(ctx context.Context, id, known string) error {
	for try := range takeoverTries {
		if hello, err := b.hello(ctx, id); err == nil && hello.Program == known {
			return nil
		}
		if try == takeoverTries/2 {
			if err := b.Host.Stop(ctx, id, endWithin); err != nil {
				return err
			}
			if err := b.Host.Start(ctx, id); err != nil {
				return err
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(takeoverLook):
		}
	}
	return errors.New("another agent than the one that was brought answers there")
}

// hello asks the agent that answers in a container who it is.
func (b *Bringer) hello(ctx context.Context, id string) (hello Hello, err error) {
	ctx, cancel := context.WithTimeout(ctx, askWait)
	defer cancel()
	p, err := b.meet(ctx, id)
	if err != nil {
		return hello, err
	}
	defer p.close()
	return p.hello(ctx)
}

// meet connects to an agent to ask it something.
func (b *Bringer) meet(ctx context.Context, id string) (*peer, error) {
	conn, err := b.connect(ctx, id)
	if err != nil {
		return nil, err
	}
	return newPeer(conn)
}

// own is the name of something of this agent's at its engine.
func (b *Bringer) own(what string) string { return "aditus-" + b.Owner[:6] + "-" + what }

// connect connects to an agent by a command in its container.
func (b *Bringer) connect(ctx context.Context, id string) (net.Conn, error) {
	conn, err := b.Host.Session(ctx, id, []string{within, "agent", "--link"})
	if err != nil {
		return nil, fmt.Errorf("reach its agent: %w", err)
	}
	return conn, nil
}

// programSum is the sum of the program that is brought.
func (b *Bringer) programSum() (string, error) {
	b.summing.Lock()
	defer b.summing.Unlock()
	if b.sum != "" {
		return b.sum, nil
	}
	file, err := os.Open(b.Program)
	if err != nil {
		return "", fmt.Errorf("read this program, to bring it there: %w", err)
	}
	defer file.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, file); err != nil {
		return "", fmt.Errorf("read this program, to bring it there: %w", err)
	}
	b.sum = hex.EncodeToString(sum.Sum(nil)[:16])
	return b.sum, nil
}

// start sees to it that the agent's container runs. One that was made otherwise, of another program or with another way to its engine, is another one.
func (b *Bringer) start(ctx context.Context, all []host.Listed) (id, known string, err error) {
	made, err := b.container(ctx)
	if err != nil {
		return "", "", err
	}
	text, err := json.Marshal(made)
	if err != nil {
		return "", "", err
	}
	sum := sha256.Sum256(text)
	known = hex.EncodeToString(sum[:8])
	made.Cmd = append(made.Cmd, "--program", known)
	name := b.own("agent-" + known[:8])
	there, err := b.Host.Inspect(ctx, name)
	switch {
	case errors.Is(err, host.ErrNotFound):
		if there.ID, err = b.make(ctx, name, made); err != nil {
			return "", "", err
		}
	case err != nil:
		return "", "", err
	case !slices.ContainsFunc(all, func(l host.Listed) bool { return l.ID == there.ID }):
		return "", "", fmt.Errorf("there is a container %s already, which is not of this Aditus: remove it, or rename it", name)
	}
	if there.State.Running {
		return there.ID, known, nil
	}
	return there.ID, known, b.Host.Start(ctx, there.ID)
}

// make makes the agent's container, with the image that it is of.
func (b *Bringer) make(ctx context.Context, name string, made host.Create) (id string, err error) {
	if _, err := b.Host.Image(ctx, made.Image); errors.Is(err, host.ErrNotFound) {
		if err := b.bring(ctx, made.Image); err != nil {
			return "", fmt.Errorf("bring this program there: %w", err)
		}
	} else if err != nil {
		return "", err
	}
	return b.Host.Create(ctx, name, made)
}

// container is the agent's container as it is to be, with its folder, a volume of the engine.
func (b *Bringer) container(ctx context.Context) (made host.Create, err error) {
	program, err := b.programSum()
	if err != nil {
		return made, err
	}
	labels := map[string]string{keeper.LabelAgent: b.Owner}
	folder, err := b.Host.Volume(ctx, b.own("agent"), labels)
	if err != nil {
		return made, err
	}
	if folder == "" {
		return made, errors.New("the container engine does not say where its volumes are")
	}
	bind := func(source, target string) host.Mount {
		return host.Mount{Type: "bind", Source: source, Target: target}
	}
	made = host.Create{
		Image: Repository + ":" + program, Labels: labels, Env: []string{"HOME=" + folder, "TMPDIR=" + folder, "ADITUS_DATA=" + folder},
		Cmd: []string{"agent"},
		HostConfig: host.HostConfig{
			NetworkMode: "host", PidMode: "host", RestartPolicy: host.Restart{Name: "always"}, SecurityOpt: []string{"label=disable"},
			Mounts: []host.Mount{bind(folder, folder), bind(Memory, Memory)}, // instances are given folders by the names that they have on the machine
		},
	}
	socket := b.Way.Socket()
	if socket == "" {
		made.Cmd = append(made.Cmd, "--engine", b.Way.Address)
	} else {
		made.Cmd = append(made.Cmd, "--engine", host.Scheme+path.Join(engineAt, path.Base(socket)))
		made.HostConfig.Mounts = append(made.HostConfig.Mounts, bind(path.Dir(socket), engineAt)) // the folder, as an engine that is started anew makes another socket
	}
	return made, nil
}

// bring loads the program into the engine, as an image.
func (b *Bringer) bring(ctx context.Context, tag string) error {
	on, err := b.Host.Ping(ctx)
	if err != nil {
		return err
	}
	if on.System != runtime.GOOS || on.Machine != runtime.GOARCH {
		return fmt.Errorf("its machine is %s/%s, and this program is for %s/%s: have an Aditus for that work with it", on.System, on.Machine, runtime.GOOS, runtime.GOARCH)
	}
	if linked(b.Program) {
		return errors.New("this program needs libraries of its machine: build it with make build, or with CGO_ENABLED=0")
	}
	b.Log.Info("this program is brought to a container host", "engine", b.Way.Address)
	image, err := imageOf(b.Program)
	if err != nil {
		return err
	}
	to, err := name.NewTag(tag)
	if err != nil {
		return err
	}
	out, in := io.Pipe()
	go func() { in.CloseWithError(tarball.Write(to, image, in)) }()
	err = b.Host.Load(ctx, out)
	out.CloseWithError(errors.Join(err, io.ErrClosedPipe)) // whoever writes on is not waited for
	return err
}

// linked tells whether a program needs another one to be loaded.
func linked(program string) bool {
	file, err := elf.Open(program)
	if err != nil {
		return false
	}
	defer file.Close()
	return slices.ContainsFunc(file.Progs, func(p *elf.Prog) bool { return p.Type == elf.PT_INTERP })
}

// imageOf is an image that holds a program alone.
func imageOf(program string) (v1.Image, error) {
	layer, err := tarball.LayerFromOpener(func() (io.ReadCloser, error) { return packed(program) }, tarball.WithCompressionLevel(gzip.BestSpeed), tarball.WithCompressedCaching)
	if err != nil {
		return nil, err
	}
	image, err := mutate.AppendLayers(empty.Image, layer)
	if err != nil {
		return nil, err
	}
	config, err := image.ConfigFile()
	if err != nil {
		return nil, err
	}
	config = config.DeepCopy()
	config.OS, config.Architecture = runtime.GOOS, runtime.GOARCH
	config.Config.Entrypoint = []string{within}
	return mutate.ConfigFile(image, config)
}

// packed is a program as a tar.
func packed(program string) (io.ReadCloser, error) {
	file, err := os.Open(program)
	if err != nil {
		return nil, err
	}
	info, err := file.Stat()
	if err != nil {
		file.Close()
		return nil, err
	}
	out, in := io.Pipe()
	go func() {
		defer file.Close()
		w := tar.NewWriter(in)
		err := w.WriteHeader(&tar.Header{Name: strings.TrimPrefix(within, "/"), Mode: 0o755, Size: info.Size(), Typeflag: tar.TypeReg})
		if err == nil {
			_, err = io.Copy(w, file)
		}
		if err == nil {
			err = w.Close()
		}
		in.CloseWithError(err)
	}()
	return out, nil
}

// clear ends and removes agents of other programs, with their images, once the one that stays leads all of it, and what they have under way is over.
func (b *Bringer) clear(stays string) {
	if !b.clearing.TryLock() {
		return // it is done already
	}
	go func() {
		defer b.clearing.Unlock()
		ctx, cancel := context.WithTimeout(context.Background(), leadWithin+2*endWithin)
		defer cancel()
		all, err := b.Host.List(ctx, map[string]string{keeper.LabelAgent: b.Owner})
		if err == nil {
			err = b.awaitLead(ctx, stays)
		}
		for _, l := range all {
			if l.ID == stays || err != nil {
				continue
			}
			if err = b.Host.Stop(ctx, l.ID, endWithin); err == nil {
				err = b.Host.Remove(ctx, l.ID)
			}
			if err == nil {
				err = b.Host.RemoveImage(ctx, l.Image)
			}
		}
		if err != nil {
			b.Log.Warn("an agent of another program cannot be removed yet", "engine", b.Way.Address, "error", err)
		}
	}()
}

// awaitLead waits until an agent leads all that works on its machine, for as long as that may take. An engine can end all that a container has
// started with it: its router too, while that still leads.
func (b *Bringer) awaitLead(ctx context.Context, id string) error {
	p, err := b.meet(ctx, id)
	if err != nil {
		return err
	}
	defer p.close()
	for end := time.Now().Add(leadWithin); time.Now().Before(end); {
		if hello, err := p.hello(ctx); err != nil || hello.Leads {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(leadLook):
		}
	}
	return nil
}

// End has the agent end all that it keeps, and removes it, with its folder. One that does not run is started for that; where none is there nothing is
// done.
func (b *Bringer) End(ctx context.Context) error {
	all, err := b.Host.List(ctx, map[string]string{keeper.LabelAgent: b.Owner})
	if err != nil || len(all) == 0 {
		return err
	}
	i := max(0, slices.IndexFunc(all, func(l host.Listed) bool { return l.State == "running" }))
	if all[i].State != "running" {
		if err := b.Host.Start(ctx, all[i].ID); err != nil {
			return fmt.Errorf("start its agent, to end what runs at %s: %w", b.Way.Address, err)
		}
	}
	p, err := b.meet(ctx, all[i].ID)
	if err != nil {
		return err
	}
	defer p.close()
	if err := p.do(ctx, http.MethodPost, "/end", nil, nil); err != nil {
		return fmt.Errorf("end what runs at %s: %w", b.Way.Address, err)
	}
	for _, l := range all {
		if err := b.Host.Remove(ctx, l.ID); err != nil {
			return err
		}
		if err := b.Host.RemoveImage(ctx, l.Image); err != nil {
			return err
		}
	}
	return b.Host.RemoveVolume(ctx, b.own("agent"))
}
