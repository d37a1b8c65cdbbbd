// Package traffic runs the routers of a data folder's sites in a process of its own, so that traffic goes on whatever
// happens to the keeper that says where it may go. What it listens to is handed over to the process that follows it, and
// what it counts lies in files, so that nothing begins anew with another one.
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
	"os"
	"path/filepath"
	"slices"
	"sync"
	"syscall"
	"time"

	"aditus/internal/socket"
	"aditus/internal/system"
	"aditus/internal/target/local/sole"
	"aditus/internal/target/router"
)

// Format is the version of what is said to the process. One of an earlier format is asked to leave, and one of this format
// takes over; one of a later format understands this one, as a keeper may start the program of a newer Aditus.
const Format = 2

// Files of the process within its data folder.
const (
	SocketFile = "router.sock"
	lockFile   = "router.lock"
)

const (
	lockWait   = 10 * time.Second // for the one before it to stop listening to its socket
	drainMost  = 30 * time.Second // for what is under way when it leaves
	unclaimed  = time.Minute      // what it was handed is closed then, where no site wants it
	maxSite    = 64 << 20
	replyMost  = time.Second // for an answer that is under way when it leaves
	headerMost = 5 * time.Second
)

// Site is what is led to one site.
type Site struct {
	Listen string         `json:"listen"`           // where HTTP traffic comes in
	Counts string         `json:"counts,omitempty"` // the folder in which what is counted outlives the process
	Routes []router.Route `json:"routes"`

	Changes bool     `json:"changes,omitempty"` // Routes are those that changed; the others stay, but for those in Gone
	Gone    []string `json:"gone,omitempty"`
}

// Status is how the traffic of a site is doing.
type Status struct {
	Known     bool                     `json:"known"`              // false where this process was not told of the site
	Counts    map[string]router.Counts `json:"counts,omitempty"`   // by instance
	Unserved  uint64                   `json:"unserved"`           // requests that found no instance
	Troubles  router.Troubles          `json:"troubles,omitempty"` // why traffic cannot come in
	Listening []string                 `json:"listening"`          // addresses, of all sites
}

// Hello is how the process introduces itself.
type Hello struct {
	Format  int    `json:"format"`
	PID     int    `json:"pid"`
	Created int64  `json:"created"`
	Program string `json:"program,omitempty"`
}

// Options say how to run the process.
type Options struct {
	Folder  string // the data folder
	Program string // what this program is known by, so that another one takes over; empty where it goes by its format alone
	Log     *slog.Logger
}

// process leads the traffic of all sites.
type process struct {
	log     *slog.Logger
	program string
	leave   chan struct{} // has something when it is asked to
	left    chan struct{} // closed when it leaves

	mu     sync.Mutex
	sites  map[string]*led
	room   router.Room
	handed map[string]net.Listener // by the process before it, and not wanted by a site so far
}

// room is for so many visitors that each can be led to an instance by a connection of its own, and some are left for all else: what the system
// lets a process have open bounds both.
func room() router.Room {
	most := system.OpenFiles()
	if most == 0 {
		return nil
	}
	return make(router.Room, max(leastRoom, int(min(most, mostRoom))/2-spareRoom))
}

// Bounds of the room for visitors, in connections.
const (
	leastRoom = 64
	mostRoom  = 1 << 20
	spareRoom = 128
)

// led is a site with its routes, by name.
type led struct {
	*router.Router
	setting sync.Mutex
	routes  map[string]router.Route
}

// set sets what is led to the site. It is false where it tells of changes to what is not known.
func (l *led) set(site Site) bool {
	l.setting.Lock()
	defer l.setting.Unlock()
	if site.Changes && l.routes == nil {
		return false
	}
	if !site.Changes {
		l.routes = map[string]router.Route{}
	}
	for _, name := range site.Gone {
		delete(l.routes, name)
	}
	for _, route := range site.Routes {
		l.routes[route.Name] = route
	}
	all := make([]router.Route, 0, len(l.routes))
	for _, name := range slices.Sorted(maps.Keys(l.routes)) {
		all = append(all, l.routes[name])
	}
	l.Set(site.Listen, all)
	return true
}

// Run leads traffic as it is told to on the data folder's socket until ctx ends or it is asked to leave. Then it takes
// no more, so that the process that follows it can, and ends once what is under way is over.
func Run(ctx context.Context, o Options) error {
	waiting, cancel := context.WithTimeout(ctx, lockWait)
	defer cancel()
	done, err := sole.Take(waiting, filepath.Join(o.Folder, lockFile))
	if err != nil {
		return fmt.Errorf("lead traffic: %w", err)
	}
	defer done()
	listener, err := socket.Listen(ctx, filepath.Join(o.Folder, SocketFile))
	if err != nil {
		return fmt.Errorf("lead traffic: %w", err)
	}
	p := &process{log: o.Log, program: o.Program, leave: make(chan struct{}, 1), left: make(chan struct{}), sites: map[string]*led{}, room: room(), handed: inherited()}
	server := &http.Server{Handler: p.handler(), ReadHeaderTimeout: headerMost}
	served := make(chan error, 1)
	go func() { served <- server.Serve(listener) }()
	forget := time.AfterFunc(unclaimed, p.forget)
	defer forget.Stop()
	o.Log.Info("the router is ready", "folder", o.Folder, "pid", os.Getpid())
	select {
	case <-ctx.Done():
	case <-p.leave:
	case err = <-served:
	}
	close(p.left)
	p.forget()
	ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), replyMost)
	defer cancel()
	server.Shutdown(ending)
	server.Close()
	done() // the one that follows may begin
	draining, cancel := context.WithTimeout(context.WithoutCancel(ctx), drainMost)
	defer cancel()
	var group sync.WaitGroup
	for _, r := range p.all() {
		group.Go(func() { r.Close(draining) })
	}
	group.Wait()
	o.Log.Info("the router leaves")
	return err
}

// all are the routers of all sites.
func (p *process) all() []*led {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Collect(maps.Values(p.sites))
}

// forget closes what was handed over and no site wants.
func (p *process) forget() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, listener := range p.handed {
		listener.Close()
	}
	clear(p.handed)
}

// listen gives a site what was handed over for an address, or listens there.
func (p *process) listen(address string) (net.Listener, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if listener := p.handed[address]; listener != nil {
		delete(p.handed, address)
		return listener, nil
	}
	return net.Listen("tcp", address)
}

// site gives the router of a site, and makes it where there is none.
func (p *process) site(name, counts string) (*led, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if r := p.sites[name]; r != nil {
		return r, nil
	}
	if counts != "" {
		if err := os.MkdirAll(counts, 0o700); err != nil && !errors.Is(err, syscall.ENOSPC) {
			return nil, err
		}
	}
	p.sites[name] = &led{Router: router.New(router.Options{Listen: p.listen, Kept: counts, Room: p.room})}
	return p.sites[name], nil
}

// known gives the router of a site; nil where there is none.
func (p *process) known(name string) *led {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.sites[name]
}

// handler answers the keeper: GET /router, GET /life, PUT and GET /sites/NAME, POST /sites/NAME/INSTANCE/drain,
// DELETE /sites/NAME/INSTANCE, POST /listeners and POST /leave.
func (p *process) handler() http.Handler {
	mux := http.NewServeMux()
	reply := func(w http.ResponseWriter, value any) {
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(value)
	}
	mux.HandleFunc("GET /router", func(w http.ResponseWriter, _ *http.Request) {
		created, _ := sole.CreatedAt(os.Getpid())
		reply(w, Hello{Format: Format, PID: os.Getpid(), Created: created, Program: p.program})
	})
	mux.HandleFunc("GET /life", func(_ http.ResponseWriter, r *http.Request) { // is answered when it leaves
		select {
		case <-p.left:
		case <-r.Context().Done():
		}
	})
	mux.HandleFunc("PUT /sites/{name}", func(w http.ResponseWriter, r *http.Request) {
		var site Site
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxSite)).Decode(&site); err != nil {
			http.Error(w, "the site is not understood: "+err.Error(), http.StatusBadRequest)
			return
		}
		own, err := p.site(r.PathValue("name"), site.Counts)
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		if !own.set(site) {
			http.Error(w, "the other routes of the site are not known here", http.StatusConflict)
			return
		}
		reply(w, p.status(own, false))
	})
	mux.HandleFunc("GET /sites/{name}", func(w http.ResponseWriter, r *http.Request) {
		reply(w, p.status(p.known(r.PathValue("name")), true))
	})
	mux.HandleFunc("POST /sites/{name}/{instance}/drain", func(w http.ResponseWriter, r *http.Request) {
		if own := p.known(r.PathValue("name")); own != nil {
			own.Drain(r.Context(), r.PathValue("instance"))
		}
		w.WriteHeader(http.StatusNoContent)
	})
	mux.HandleFunc("DELETE /sites/{name}/{instance}", func(w http.ResponseWriter, r *http.Request) {
		if own := p.known(r.PathValue("name")); own != nil {
			own.Forget(r.PathValue("instance"))
		}
		w.WriteHeader(http.StatusNoContent)
	})
	mux.HandleFunc("POST /listeners", func(w http.ResponseWriter, _ *http.Request) {
		conn, _, err := http.NewResponseController(w).Hijack()
		if err != nil {
			return
		}
		defer conn.Close()
		if err := hand(conn.(*net.UnixConn), p.listeners()); err != nil {
			p.log.Warn("what is listened to cannot be handed over", "error", err)
		}
	})
	mux.HandleFunc("POST /leave", func(w http.ResponseWriter, _ *http.Request) {
		select {
		case p.leave <- struct{}{}:
		default:
		}
		w.WriteHeader(http.StatusNoContent)
	})
	return mux
}

// listeners are all that is listened to, and what was handed over for it.
func (p *process) listeners() map[string]net.Listener {
	all := map[string]net.Listener{}
	for _, r := range p.all() {
		maps.Copy(all, r.Listening())
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	maps.Copy(all, p.handed)
	return all
}

// status is how a site's router is doing; nil for one that is not known.
func (p *process) status(own *led, counts bool) (out Status) {
	out.Listening = slices.Sorted(maps.Keys(p.listeners()))
	if own == nil {
		return out
	}
	out.Known, out.Unserved = true, own.Unserved()
	if counts {
		out.Counts = own.Counts()
	}
	out.Troubles = own.Troubles()
	return out
}
