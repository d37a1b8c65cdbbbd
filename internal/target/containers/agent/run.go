package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"reflect"
	"sync"
	"time"

	"aditus/internal/socket"
	"aditus/internal/system"
	"aditus/internal/target"
	"aditus/internal/target/local/sole"
)

// Files of an agent within its folder.
const (
	SocketFile = "agent.sock"
	setupFile  = "setup.json"
	lockFile   = "agent.lock"
)

// handWait is for the agent before to let go.
const handWait = 30 * time.Second

// Options say how to run an agent.
type Options struct {
	Folder  string                                                                                         // its own
	Memory  string                                                                                         // one on a file system in memory
	Program string                                                                                         // what it was brought as
	Open    func(setup Setup, as func(time.Time) time.Time, b *Brought) (sites map[string]Site, err error) // opens what works here
	End     func(context.Context) error                                                                    // ends all that is kept here, for good
	Leads   func(context.Context) bool                                                                     // whether nothing that works here is another program's
	Log     *slog.Logger
}

// agent is what works on its machine.
type agent struct {
	Options
	brought *Brought
	hub     *hub
	leave   chan struct{}

	setting sync.Mutex // one setup at a time
	setup   Setup
	off     time.Duration // of the server's clock from this machine's
	mu      sync.Mutex
	sites   map[string]Site
	stop    func() // ends the following of sites, and waits for it
}

// Run works as an agent until ctx ends. Where another one takes over, it lets go at once, and ends after that once all that it started has: what
// its router has under way is led to its end.
func Run(ctx context.Context, o Options) error {
	system.Adopt()
	a := &agent{Options: o, hub: newHub(), leave: make(chan struct{}, 1), sites: map[string]Site{}, stop: func() {}}
	done, err := a.succeed(ctx)
	if err != nil {
		return fmt.Errorf("work as an agent: %w", err)
	}
	a.brought = OpenBrought(o.Folder, o.Memory)
	var before Setup
	if text, err := os.ReadFile(filepath.Join(o.Folder, setupFile)); err == nil && json.Unmarshal(text, &before) == nil {
		before.Now = time.Time{}
		if err := a.set(before); err != nil {
			o.Log.Error("what worked here before does not", "error", err)
		}
	}
	listener, err := socket.Listen(ctx, filepath.Join(o.Folder, SocketFile))
	if err != nil {
		done()
		return fmt.Errorf("work as an agent: %w", err)
	}
	o.Log.Info("the agent is ready", "folder", o.Folder, "program", o.Program)
	served := make(chan error, 1)
	serving, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() { served <- serve(serving, listener, a) }()
	superseded := false
	select {
	case <-ctx.Done():
	case <-a.leave:
		superseded = true
	case err = <-served:
	}
	listener.Close()
	a.mu.Lock()
	stop := a.stop
	a.mu.Unlock()
	stop()
	cancel()
	done()
	if superseded {
		o.Log.Info("the agent lets go")
		<-ctx.Done()
		system.AwaitChildren()
	}
	o.Log.Info("the agent ends")
	return err
}

// succeed has whoever works on the folder let go, and takes its place.
func (a *agent) succeed(ctx context.Context) (done func(), err error) {
	ctx, cancel := context.WithTimeout(ctx, handWait)
	defer cancel()
	asking, stop := context.WithCancel(ctx)
	defer stop()
	go func() {
		for asking.Err() == nil {
			if conn, err := socket.Dial(asking, filepath.Join(a.Folder, SocketFile)); err == nil {
				if p, err := newPeer(conn); err == nil {
					p.do(asking, http.MethodPost, "/leave", nil, nil)
					p.close()
				}
			}
			select {
			case <-asking.Done():
			case <-time.After(100 * time.Millisecond):
			}
		}
	}()
	return sole.Take(ctx, filepath.Join(a.Folder, lockFile))
}

// serve answers on all connections until ctx ends.
func serve(ctx context.Context, listener net.Listener, a *agent) error {
	server := &http.Server{Handler: a.handler(), Protocols: protocols(), ReadHeaderTimeout: reachWait, HTTP2: &http.HTTP2Config{MaxConcurrentStreams: mostAsked}}
	stop := context.AfterFunc(ctx, func() { server.Close() })
	defer stop()
	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) && !errors.Is(err, net.ErrClosed) {
		return err
	}
	return nil
}

// mostAsked is how many questions are answered at a time, connections to instances among them.
const mostAsked = 10_000

// as is what the server's clock calls a moment of this machine's. What is less than clocks are told apart by counts as none.
func (a *agent) as(off time.Duration) func(time.Time) time.Time {
	if max(off, -off) < leastOff {
		return nil
	}
	return func(at time.Time) time.Time { return at.Add(off) }
}

// leastOff is by how much clocks have to differ to count as set otherwise.
const leastOff = 2 * time.Second

// set has just the sites of a setup work here.
func (a *agent) set(setup Setup) error {
	a.setting.Lock()
	defer a.setting.Unlock()
	off := a.off
	if !setup.Now.IsZero() {
		if now := time.Until(setup.Now); max(now-off, off-now) >= leastOff {
			off = now
		}
	}
	if off == a.off && reflect.DeepEqual(a.setup.Sites, setup.Sites) && a.setup.Engine == setup.Engine && len(a.sites) == len(setup.Sites) {
		return nil
	}
	a.mu.Lock()
	stop := a.stop
	a.mu.Unlock()
	stop()
	for name := range a.sites {
		a.brought.forget(name)
	}
	a.mu.Lock()
	a.setup, a.sites = Setup{}, map[string]Site{} // until they are opened anew
	a.mu.Unlock()
	sites, err := a.Open(setup, a.as(off), a.brought)
	if err != nil {
		return err
	}
	a.setup, a.off = setup, off
	ctx, cancel := context.WithCancel(context.Background())
	var group sync.WaitGroup
	for name, site := range sites {
		group.Go(func() {
			site.Follow(ctx, func(workload target.Berth) { a.hub.tell(change{name, workload}) })
		})
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.sites = sites
	a.stop = sync.OnceFunc(func() {
		cancel()
		group.Wait()
	})
	return keepJSON(filepath.Join(a.Folder, setupFile), setup)
}

// without is the setup without its sites: the engine is still asked to end what they have there.
func (a *agent) without() Setup {
	a.setting.Lock()
	defer a.setting.Unlock()
	s := a.setup
	s.Sites, s.Now = nil, time.Time{}
	return s
}

// site finds a site.
func (a *agent) site(name string) (Site, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if s := a.sites[name]; s != nil {
		return s, nil
	}
	return nil, fmt.Errorf("%w: its agent was not told of the site %s yet", target.ErrUnreachable, name)
}
