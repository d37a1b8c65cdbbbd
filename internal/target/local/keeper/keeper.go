package keeper

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"aditus/internal/config"
	"aditus/internal/core/declare"
	"aditus/internal/socket"
	"aditus/internal/target/local/sole"
	"aditus/internal/target/local/traffic"
	"aditus/internal/target/router"
)

// Files of a keeper within its data folder.
const (
	SocketFile = "keeper.sock"
	LogName    = "keeper.log"
	lockFile   = "keeper.lock"
)

// idleAfter is how long a keeper that keeps nothing stays.
const idleAfter = time.Minute

// Options say how to run a keeper.
type Options struct {
	Folder string   // the data folder
	Router []string // the command of a router on it
	Users  string   // the numbers of users that processes may run as, as config.ReadUsers reads them; empty for its own alone

	Program string // what this program is known by, so that another one takes over; empty where it goes by its format alone
	Stay    bool   // it does not leave when it has nothing to keep
	Probe   Probe
	Log     *slog.Logger
}

// Keeper keeps the processes of all sites of a data folder.
type Keeper struct {
	options Options
	users   config.Users
	log     *slog.Logger
	traffic *traffic.Client
	ports   ports
	leave   chan bool     // true to end all processes first
	left    chan struct{} // closed when it leaves

	mu      sync.Mutex
	sites   map[string]*site
	engines map[string]*engine // by address
	asked   time.Time
}

// site is what is kept for one site.
type site struct {
	keeper *Keeper
	name   string
	news   *news
	leads  atomic.Uint64 // how often it was asked to lead traffic anew

	applying sync.Mutex // one Spec at a time
	leading  sync.Mutex // one set of routes at a time
	led      uint64     // of leads, those that are done

	mu        sync.Mutex
	spec      Spec
	processes map[string]*process
	ending    map[string]*process // no longer wanted, and not at their end yet
	seen      traffic.Status      // what the router said last
	troubles  router.Troubles     // why traffic cannot come in
}

// Run keeps what it is told to on the data folder's socket until ctx ends or it is asked to leave. What it keeps runs on
// then, and the next keeper takes it over.
func Run(ctx context.Context, o Options) error {
	users, err := usersOf(o.Users)
	if err != nil {
		return err
	}
	atOnce, cancel := context.WithCancel(ctx)
	cancel() // one that finds another does not wait for it
	done, err := sole.Take(atOnce, filepath.Join(o.Folder, lockFile))
	if err != nil {
		return fmt.Errorf("keep processes: %w", err)
	}
	defer done()
	k := &Keeper{options: o, users: users, log: o.Log, traffic: traffic.NewClient(o.Folder, o.Program, o.Log, o.Router...), ports: ports{owner: map[int]string{}}, leave: make(chan bool, 1), left: make(chan struct{}), sites: map[string]*site{}, engines: map[string]*engine{}, asked: time.Now()}
	listener, err := socket.Listen(ctx, filepath.Join(o.Folder, SocketFile))
	if err != nil {
		return fmt.Errorf("keep processes: %w", err)
	}
	server := &http.Server{Handler: k.handler(), ReadHeaderTimeout: 5 * time.Second}
	served := make(chan error, 1)
	go func() { served <- server.Serve(listener) }()
	leading, cancel := context.WithCancel(ctx)
	defer cancel()
	go k.traffic.Run(leading)
	k.log.Info("the keeper is ready", "folder", o.Folder, "pid", os.Getpid())
	last, err := k.wait(ctx, served)
	close(k.left)
	cancel()
	rest, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	server.Shutdown(rest)
	if last { // nothing is kept any more that traffic could be led to
		k.traffic.Leave(rest)
	}
	k.log.Info("the keeper leaves")
	return err
}

// wait waits until there is a reason to leave. last tells that nothing is kept any more.
func (k *Keeper) wait(ctx context.Context, served <-chan error) (last bool, err error) {
	ticker := time.NewTicker(idleAfter / 4)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return false, nil
		case err := <-served:
			return false, err
		case all := <-k.leave:
			if all {
				for _, s := range k.all() {
					s.apply(Spec{Folder: s.folder(), Room: s.room()})
					s.awaitEnd()
				}
				k.endRest(ctx)
			}
			return all, nil
		case <-ticker.C:
			if !k.options.Stay && k.idle() {
				return true, nil
			}
		}
	}
}

func (k *Keeper) all() []*site {
	k.mu.Lock()
	defer k.mu.Unlock()
	return slices.Collect(maps.Values(k.sites))
}

func (k *Keeper) idle() bool {
	for _, s := range k.all() {
		s.mu.Lock()
		busy := len(s.processes)+len(s.ending) > 0
		s.mu.Unlock()
		if busy {
			return false
		}
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	return time.Since(k.asked) > idleAfter
}

// site gives a site, and makes it where there is none.
func (k *Keeper) site(name string) *site {
	k.mu.Lock()
	defer k.mu.Unlock()
	s := k.sites[name]
	if s == nil {
		s = &site{keeper: k, name: name, news: newNews(), processes: map[string]*process{}, ending: map[string]*process{}}
		k.sites[name] = s
	}
	return s
}

// maxSpec bounds what is read of a Spec.
const maxSpec = 256 << 20

// handler answers the server: GET /keeper, PUT and GET /sites/NAME, POST /sites/NAME/run,
// /sites/NAME/instances/ID/hand, …/let-go, and /leave.
func (k *Keeper) handler() http.Handler {
	mux := http.NewServeMux()
	reply := func(w http.ResponseWriter, value any) {
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(value)
	}
	mux.HandleFunc("GET /keeper", func(w http.ResponseWriter, _ *http.Request) {
		reply(w, Hello{Format: Format, PID: os.Getpid(), Users: k.options.Users, Program: k.options.Program})
	})
	mux.HandleFunc("PUT /sites/{name}", func(w http.ResponseWriter, r *http.Request) {
		var spec Spec
		if err := json.NewDecoder(io.LimitReader(r.Body, maxSpec)).Decode(&spec); err != nil {
			http.Error(w, "the spec is not understood: "+err.Error(), http.StatusBadRequest)
			return
		}
		s := k.site(r.PathValue("name"))
		if len(spec.Only) > 0 && s.folder() == "" {
			http.Error(w, "the rest of the site is not known here", http.StatusConflict)
			return
		}
		reply(w, Taken{s.apply(spec)})
	})
	mux.HandleFunc("GET /sites/{name}", func(w http.ResponseWriter, r *http.Request) {
		s := k.site(r.PathValue("name"))
		if known, err := strconv.ParseUint(r.URL.Query().Get("after"), 10, 64); err == nil { // is answered at the next change
			rest := Rest
			if s.troubled() {
				rest = troubleRest
			}
			s.news.await(r.Context(), k.left, known, rest)
		}
		reply(w, s.status())
	})
	mux.HandleFunc("POST /sites/{name}/run", func(w http.ResponseWriter, r *http.Request) {
		var c Command
		if err := json.NewDecoder(io.LimitReader(r.Body, maxSpec)).Decode(&c); err != nil {
			http.Error(w, "the command is not understood: "+err.Error(), http.StatusBadRequest)
			return
		}
		reply(w, k.site(r.PathValue("name")).run(r.Context(), c))
	})
	mux.HandleFunc("POST /sites/{name}/instances/{id}/hand", func(w http.ResponseWriter, r *http.Request) {
		if err := k.site(r.PathValue("name")).hand(r.PathValue("id")); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		w.WriteHeader(http.StatusNoContent)
	})
	mux.HandleFunc("POST /sites/{name}/instances/{id}/let-go", func(w http.ResponseWriter, r *http.Request) {
		if err := k.site(r.PathValue("name")).letGo(r.PathValue("id")); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		w.WriteHeader(http.StatusNoContent)
	})
	mux.HandleFunc("POST /leave", func(w http.ResponseWriter, r *http.Request) {
		select {
		case k.leave <- r.URL.Query().Get("end") == "all":
		default:
		}
		w.WriteHeader(http.StatusNoContent)
	})
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		k.mu.Lock()
		k.asked = time.Now()
		k.mu.Unlock()
		mux.ServeHTTP(w, r)
	})
}

// Hello is how a keeper introduces itself.
type Hello struct {
	Format int    `json:"format"`
	PID    int    `json:"pid"`
	Users  string `json:"users,omitempty"` // the numbers of those whom it may run processes as

	Program string `json:"program,omitempty"`
}

func (s *site) folder() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.spec.Folder
}

func (s *site) room() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.spec.Room
}

// between are the ports that may be given to instances.
func (s *site) between() [2]int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.spec.Ports
}

// apply makes a site what the spec says, and gives its version then. It does not wait for processes to come up or to end.
func (s *site) apply(spec Spec) uint64 {
	s.applying.Lock()
	defer s.applying.Unlock()
	return s.fulfil(spec)
}

// again makes a site once more what it was told last.
func (s *site) again() {
	s.applying.Lock()
	defer s.applying.Unlock()
	s.mu.Lock()
	spec := s.spec
	s.mu.Unlock()
	s.fulfil(spec)
}

// fulfil is apply for those who hold its lock.
func (s *site) fulfil(spec Spec) uint64 {
	s.mu.Lock()
	first := s.spec.Folder == ""
	if first && spec.Folder != "" { // what traffic is led to already is led to on, until it is known better
		s.seen, _ = s.keeper.traffic.Status(context.Background(), s.name)
	}
	if only := spec.Only; len(only) > 0 {
		spec.Only = nil
		for _, own := range s.spec.Processes {
			if !slices.Contains(only, own.Workload) {
				spec.Processes = append(spec.Processes, own)
			}
		}
		for _, own := range s.spec.Routes {
			if !slices.Contains(only, own.Workload) {
				spec.Routes = append(spec.Routes, own)
			}
		}
	}
	if spec.Partly {
		spec.Routes = append(spec.Routes, others(s.spec.Routes, spec.Routes)...)
	}
	s.spec = spec
	wanted := map[string]bool{}
	var fresh []*process
	var left map[string]stray
	if first && spec.Folder != "" {
		left = strays()
	}
	for _, own := range spec.Processes {
		wanted[own.ID] = true
		p := s.processes[own.ID]
		if p == nil && s.ending[own.ID] != nil {
			continue // it comes again once its end is over
		}
		if p == nil && own.Stay && !s.remains(own, left) {
			continue // it comes once it can
		}
		if p == nil {
			p = newProcess(s, own)
			s.processes[own.ID] = p
			fresh = append(fresh, p)
		}
		p.set(own)
	}
	for id, p := range s.processes {
		if !wanted[id] && !spec.Partly {
			s.dismiss(id, p)
		}
	}
	if first && spec.Folder != "" && !spec.Partly {
		for _, folder := range []string{spec.Folder, spec.Room} {
			s.endLeft(folder, wanted, left)
		}
	}
	ready := s.seen.Counts
	s.mu.Unlock()
	for _, folder := range spec.Gone {
		if err := s.keeper.remove(folder); err != nil {
			s.warn("a folder cannot be removed", folder, err)
		}
	}
	for _, p := range fresh {
		if p.record.lives() {
			s.keeper.ports.hold(p.spec.ID, p.record.Ports)
			p.mu.Lock()
			p.ready = first && ready[p.spec.ID].Ready
			p.led = p.ready
			p.mu.Unlock()
		}
		go p.life(left[p.folder])
	}
	s.lead()
	return s.news.add()
}

// remains tells whether an instance runs that an earlier keeper started. It is called with the lock held.
func (s *site) remains(own Process, left map[string]stray) bool {
	at := cmp.Or(own.Folder, filepath.Join(s.spec.Folder, own.ID))
	r, err := readRecord(at)
	return err == nil && r.lives() || left[at].of(own)
}

// others are the routes of before that are not among those of now.
func others(before, now []Route) []Route {
	return slices.DeleteFunc(slices.Clone(before), func(was Route) bool {
		return slices.ContainsFunc(now, func(is Route) bool { return is.Name == was.Name })
	})
}

// dismiss begins the end of a process that is no longer wanted. It is called with the lock held.
func (s *site) dismiss(id string, p *process) {
	delete(s.processes, id)
	s.ending[id] = p
	close(p.stop)
	go func() {
		<-p.ended
		p.dropContainer()
		s.keeper.traffic.Forget(context.Background(), s.name, id)
		s.keeper.ports.release(id)
		os.Remove(filepath.Join(p.folder, RecordFile))
		s.mu.Lock()
		delete(s.ending, id)
		wanted := slices.ContainsFunc(s.spec.Processes, func(own Process) bool { return own.ID == id })
		s.mu.Unlock()
		if wanted { // by now: a revision that was left came back
			s.again()
		}
	}()
}

// endLeft ends what an earlier keeper started and nobody wants any more. It is called with the lock held.
func (s *site) endLeft(folder string, wanted map[string]bool, left map[string]stray) {
	entries, _ := os.ReadDir(folder) // where there is none, nothing was left
	for _, entry := range entries {
		id := entry.Name()
		r, err := readRecord(filepath.Join(folder, id))
		alone := left[filepath.Join(folder, id)]
		switch {
		case wanted[id], err != nil && alone.pid == 0:
			continue
		case alone.pid == 0 && !r.lives(): // it ended as nobody kept it, and its record would keep its folder
			os.Remove(filepath.Join(folder, id, RecordFile))
			go s.keeper.traffic.Forget(context.Background(), s.name, id)
			continue
		}
		user := alone.user // whoever it is ends
		if user == os.Geteuid() {
			user = 0
		}
		spec := Process{ID: id, User: user, Folder: filepath.Join(folder, id), Stop: declare.Stop{Signal: declare.DefaultStop.Signal, Within: declare.DefaultStop.Within}}
		if r.Container != "" {
			spec.Container = &Container{Engine: r.Engine, Name: r.Name}
		}
		p := newProcess(s, spec)
		s.dismiss(id, p)
		go p.life(alone)
	}
}

// awaitEnd waits until all that is no longer wanted ended.
func (s *site) awaitEnd() {
	s.mu.Lock()
	ending := slices.Collect(maps.Values(s.ending))
	s.mu.Unlock()
	for _, p := range ending {
		<-p.ended
	}
}

// leadWait is how long it is waited for the router, which another one may have to follow meanwhile.
const leadWait = 15 * time.Second

// lead leads traffic to all that may have it. When it returns nothing more is sent to what may not. Many who ask at once are
// served together.
func (s *site) lead() {
	mine := s.leads.Add(1)
	s.leading.Lock()
	defer s.leading.Unlock()
	if s.led >= mine {
		return
	}
	all := s.leads.Load()
	wanted := s.routes()
	if len(wanted.Routes) == 0 && !s.leadsAny() { // it needs no router
		s.led = all
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), leadWait)
	defer cancel()
	status, err := s.keeper.traffic.Set(ctx, s.name, wanted)
	if err != nil {
		s.keeper.log.Warn("traffic cannot be led", "site", s.name, "error", err)
		status.Troubles = router.Troubles{"": fmt.Sprintf("traffic cannot come in: %v; see %s", err, LogName)}
	}
	s.led = all
	s.mu.Lock()
	s.seen.Known, s.troubles = true, status.Troubles
	s.mu.Unlock()
}

// leadsAny tells whether the router was told of the site.
func (s *site) leadsAny() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.seen.Known
}

// troubled tells whether traffic cannot come in.
func (s *site) troubled() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.troubles) > 0
}

// routes are the site's routes as the router is to lead them now.
func (s *site) routes() traffic.Site {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := traffic.Site{Listen: s.spec.Listen, Counts: s.spec.Counts, Routes: make([]router.Route, 0, len(s.spec.Routes))}
	for _, own := range s.spec.Routes {
		r := own.Route
		r.Cohorts = slices.Clone(r.Cohorts)
		for i, cohort := range r.Cohorts {
			var instances []router.Instance
			for _, in := range cohort.Instances {
				if p := s.processes[in.ID]; p != nil {
					instances = append(instances, p.seenBy(own.Port))
				}
			}
			r.Cohorts[i].Instances = instances
		}
		out.Routes = append(out.Routes, r)
	}
	return out
}

// status tells how all processes are doing.
func (s *site) status() Status {
	if s.troubled() {
		s.lead() // what kept it from listening may be gone
	}
	out := Status{Processes: map[string]State{}}
	out.Version, _ = s.news.now() // before all else is read, so that no change is missed
	var seen traffic.Status
	err := traffic.ErrNoRouter
	if s.leadsAny() {
		seen, err = s.keeper.traffic.Status(context.Background(), s.name)
	}
	s.mu.Lock()
	if err == nil && seen.Known {
		s.seen = seen // where another one is just taking over, what was told last still holds
	}
	address := s.spec.Engine
	out.Known, out.Counts, out.Unserved, out.Troubles = s.spec.Folder != "", s.seen.Counts, s.seen.Unserved, s.troubles
	kept := maps.Clone(s.processes)
	s.mu.Unlock()
	if address != "" {
		out.Silent = s.keeper.engine(address).says()
	}
	for id, p := range kept {
		var ready bool
		if out.Processes[id], ready = p.state(); ready {
			out.Ready++
		}
	}
	return out
}

func (s *site) warn(what, id string, err error) {
	if err == nil {
		s.keeper.log.Warn(what, "process", id)
		return
	}
	s.keeper.log.Warn(what, "process", id, "error", err)
}
