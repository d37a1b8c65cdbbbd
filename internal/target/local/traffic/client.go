package traffic

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"aditus/internal/confine"
	"aditus/internal/socket"
	"aditus/internal/system"
	"aditus/internal/target/local/sole"
	"aditus/internal/target/router"
)

// Client has the router process of a data folder lead traffic. It starts one where it needs it, tells another one all
// that it told the first where that ended, and hands it what the first listened to. It is safe for concurrent use.
type Client struct {
	folder  string
	program string   // that the router is to be of; empty for any that speaks our format
	command []string // that runs a router on the folder
	log     *slog.Logger
	http    *http.Client

	starting sync.Mutex    // one search for a router at a time
	known    atomic.Bool   // one of our format answered
	wanted   chan struct{} // closed once there is something to lead
	want     func()

	holding sync.Mutex
	held    map[string]*os.File // what it listens to

	putting sync.Mutex
	told    map[string]map[string]router.Route // what the router has of each site

	mu      sync.Mutex
	sites   map[string]Site // as each is wanted
	own     Hello           // who answered
	leaving []Hello         // that may have something under way still
}

// NewClient makes a client for a data folder. command starts a router for it, of the program; it is empty where none should be started.
func NewClient(folder, program string, log *slog.Logger, command ...string) *Client {
	c := &Client{folder: folder, program: program, command: command, log: log, http: &http.Client{Transport: socket.Transport(filepath.Join(folder, SocketFile), 0)}, wanted: make(chan struct{}), held: map[string]*os.File{}, told: map[string]map[string]router.Route{}, sites: map[string]Site{}}
	c.want = sync.OnceFunc(func() { close(c.wanted) })
	return c
}

// A router that is started has startWait until it answers; another one is started every startAgain meanwhile.
const (
	startWait  = 10 * time.Second
	startAgain = 2 * time.Second
	firstLook  = 5 * time.Millisecond
	lastLook   = 100 * time.Millisecond
	statusWait = time.Second
	leaveLook  = 50 * time.Millisecond
)

// ErrNoRouter means that no router runs on the data folder.
var ErrNoRouter = errors.New("no router answers")

// Run sees to it until ctx ends that a router runs once there is something to lead: one that ended is followed by another
// one at once, one that hangs is killed.
func (c *Client) Run(ctx context.Context) {
	select {
	case <-c.wanted:
	case <-ctx.Done():
		return
	}
	for ctx.Err() == nil {
		if err := c.ensure(ctx); err != nil {
			if ctx.Err() == nil {
				c.log.Warn("the router cannot be had", "error", err)
			}
			continue // it has waited for it
		}
		c.mu.Lock()
		own := c.own
		c.mu.Unlock()
		life, cancel := context.WithCancel(ctx)
		go func() {
			defer cancel()
			c.watch(life)
		}()
		c.ask(life, http.MethodGet, "/life", nil, nil) // is answered when it ends
		cancel()
		if ctx.Err() == nil {
			c.lost(own)
		}
	}
}

// watch kills the router when it hangs, and returns then.
func (c *Client) watch(ctx context.Context) {
	if sole.AwaitHang(ctx, func(ctx context.Context) error { return c.ask(ctx, http.MethodGet, "/router", nil, nil) }) {
		c.log.Warn("the router hangs and is killed", "error", sole.Kill(filepath.Join(c.folder, lockFile)))
	}
}

// lost notes that a router is no longer the one to be asked. What it has under way may take it a while yet.
func (c *Client) lost(own Hello) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.own == own {
		c.own = Hello{}
		c.known.Store(false)
	}
	c.leaving = slices.DeleteFunc(append(c.leaving, own), func(h Hello) bool { return !sole.Lives(h.PID, h.Created) })
}

// ensure sees to it that a router of our format runs that was told of all sites.
func (c *Client) ensure(ctx context.Context) error {
	if c.known.Load() {
		return nil
	}
	c.starting.Lock()
	defer c.starting.Unlock()
	if c.known.Load() { // by now
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, startWait)
	defer cancel()
	var started time.Time
	hung := 0
	for wait := firstLook; ; wait = min(2*wait, lastLook) {
		hello, err := c.hello(ctx)
		switch {
		case err == nil && hello.Format >= Format && (c.program == "" || hello.Program == c.program):
			return c.take(ctx, hello)
		case err == nil: // it listens to what the next one is given, until that does
			c.hold(ctx)
			c.ask(ctx, http.MethodPost, "/leave", nil, nil)
			c.lost(hello)
		case errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil: // nobody watches it yet
			if hung++; hung < sole.HangsAfter {
				continue
			}
			c.log.Warn("the router hangs and is killed", "error", sole.Kill(filepath.Join(c.folder, lockFile)))
		}
		if len(c.command) == 0 {
			return ErrNoRouter
		}
		if time.Since(started) > startAgain {
			started = time.Now()
			if err := c.start(); err != nil {
				return fmt.Errorf("start the router: %w", err)
			}
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%w: %w", ErrNoRouter, ctx.Err())
		case <-time.After(wait):
		}
	}
}

// take takes a router as the one to be asked, and tells it of all sites.
func (c *Client) take(ctx context.Context, hello Hello) error {
	if err := c.hold(ctx); err != nil {
		return err
	}
	c.putting.Lock()
	c.told = map[string]map[string]router.Route{}
	c.putting.Unlock()
	c.mu.Lock()
	c.own = hello
	sites := maps.Clone(c.sites)
	c.mu.Unlock()
	for _, name := range slices.Sorted(maps.Keys(sites)) {
		if _, err := c.put(ctx, name); err != nil {
			return err
		}
	}
	c.known.Store(true)
	return nil
}

// start starts a router that goes on when this program ends.
func (c *Client) start() error {
	c.holding.Lock()
	defer c.holding.Unlock()
	addresses := slices.Sorted(maps.Keys(c.held))
	text, err := json.Marshal(addresses)
	if err != nil {
		return err
	}
	cmd := exec.Command(c.command[0], c.command[1:]...)
	cmd.Env = append(sole.Environment(), listenersName+"="+string(text))
	for _, address := range addresses {
		cmd.ExtraFiles = append(cmd.ExtraFiles, c.held[address])
	}
	cmd.Dir, cmd.Stdout, cmd.Stderr, cmd.SysProcAttr = c.folder, os.Stderr, os.Stderr, system.Session(0)
	err = confine.Apart(func() error {
		if err := confine.Lower(confine.Listening); err != nil { // of what its keeper may, it may listen alone
			return err
		}
		return cmd.Start()
	})
	if err != nil {
		return err
	}
	go cmd.Wait()
	return nil
}

// hold keeps what the router listens to now, and nothing else.
func (c *Client) hold(ctx context.Context) error {
	c.holding.Lock()
	defer c.holding.Unlock()
	conn, err := socket.Dial(ctx, filepath.Join(c.folder, SocketFile))
	if err != nil {
		return fmt.Errorf("%w: %w", ErrNoRouter, err)
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.SetDeadline(time.Now()) })
	defer stop()
	files, err := received(conn.(*net.UnixConn))
	if err != nil {
		return fmt.Errorf("take over what the router listens to: %w", err)
	}
	closeAll(c.held)
	c.held = files
	return nil
}

// holds tells whether just these addresses are kept.
func (c *Client) holds(addresses []string) bool {
	c.holding.Lock()
	defer c.holding.Unlock()
	return slices.Equal(slices.Sorted(maps.Keys(c.held)), addresses)
}

// Set has traffic led to a site as it is wanted. When it returns without an error nothing more is sent to what is not named.
func (c *Client) Set(ctx context.Context, name string, site Site) (status Status, err error) {
	c.mu.Lock()
	c.sites[name] = site
	c.mu.Unlock()
	c.want()
	for wait := firstLook; ; wait = min(2*wait, lastLook) {
		if err = c.ensure(ctx); err == nil {
			if status, err = c.put(ctx, name); err == nil {
				return status, nil
			}
			c.known.Store(false)
		}
		if len(c.command) == 0 || ctx.Err() != nil {
			return status, err
		}
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
	}
}

// put tells the router how a site is wanted now: what changed since it was told last.
func (c *Client) put(ctx context.Context, name string) (status Status, err error) {
	c.putting.Lock()
	defer c.putting.Unlock()
	c.mu.Lock()
	site := c.sites[name]
	c.mu.Unlock()
	wanted := map[string]router.Route{}
	for _, route := range site.Routes {
		wanted[route.Name] = route
	}
	if before, ok := c.told[name]; ok {
		site.Changes = true
		site.Routes = slices.DeleteFunc(slices.Clone(site.Routes), func(route router.Route) bool {
			was, ok := before[route.Name]
			return ok && reflect.DeepEqual(was, route)
		})
		for route := range before {
			if _, ok := wanted[route]; !ok {
				site.Gone = append(site.Gone, route)
			}
		}
	}
	if err := c.ask(ctx, http.MethodPut, path(name), site, &status); err != nil {
		delete(c.told, name)
		return status, err
	}
	c.told[name] = wanted
	if !c.holds(status.Listening) {
		err = c.hold(ctx)
	}
	return status, err
}

// Status tells how the traffic of a site is doing. It starts no router.
func (c *Client) Status(ctx context.Context, name string) (status Status, err error) {
	ctx, cancel := context.WithTimeout(ctx, statusWait)
	defer cancel()
	err = c.ask(ctx, http.MethodGet, path(name), nil, &status)
	return status, err
}

// Drain waits until nothing is under way at an instance any more, or ctx ends.
func (c *Client) Drain(ctx context.Context, name, instance string) {
	c.ask(ctx, http.MethodPost, path(name, instance)+"/drain", nil, nil) // where nobody answers nothing is under way
	c.mu.Lock()
	leaving := slices.Clone(c.leaving)
	c.mu.Unlock()
	for _, h := range leaving {
		for sole.Lives(h.PID, h.Created) && ctx.Err() == nil {
			time.Sleep(leaveLook)
		}
	}
}

// Forget forgets an instance that is gone, with what was counted of it.
func (c *Client) Forget(ctx context.Context, name, instance string) {
	ctx, cancel := context.WithTimeout(ctx, statusWait)
	defer cancel()
	if c.ask(ctx, http.MethodDelete, path(name, instance), nil, nil) != nil {
		c.mu.Lock()
		site := c.sites[name]
		c.mu.Unlock()
		if site.Counts != "" {
			os.Remove(filepath.Join(site.Counts, instance))
		}
	}
}

// Leave has the router leave where one runs.
func (c *Client) Leave(ctx context.Context) error {
	if _, err := c.hello(ctx); err != nil {
		return nil
	}
	c.holding.Lock()
	closeAll(c.held)
	clear(c.held)
	c.holding.Unlock()
	if err := c.ask(ctx, http.MethodPost, "/leave", nil, nil); !errors.Is(err, ErrNoRouter) {
		return err
	}
	return nil // it has left by itself
}

func (c *Client) hello(ctx context.Context) (hello Hello, err error) {
	ctx, cancel := context.WithTimeout(ctx, sole.HangsFor)
	defer cancel()
	err = c.ask(ctx, http.MethodGet, "/router", nil, &hello)
	return hello, err
}

// Program is that of the router that runs.
func (c *Client) Program(ctx context.Context) (string, error) {
	hello, err := c.hello(ctx)
	return hello.Program, err
}

func path(names ...string) string {
	for i, name := range names {
		names[i] = url.PathEscape(name)
	}
	return "/sites/" + strings.Join(names, "/")
}

func (c *Client) ask(ctx context.Context, method, path string, body, into any) error {
	err := socket.Ask(ctx, c.http, method, path, body, into)
	var refused *socket.Refused
	switch {
	case errors.As(err, &refused):
		return fmt.Errorf("the router says %q", refused.Why)
	case errors.Is(err, socket.ErrNobody):
		return fmt.Errorf("%w: %w", ErrNoRouter, err)
	}
	return err
}
