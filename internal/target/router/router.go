// Package router leads traffic to instances on this machine: HTTP by host name, TCP by port, split between cohorts by
// shares that are kept exactly. It takes no decisions: shares, cohorts and their instances are told to it, and it counts
// what comes of them.
package router

import (
	"context"
	"errors"
	"net"
	"net/http"
	"net/http/httputil"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"aditus/internal/system"
)

// Route is how traffic for one part enters.
type Route struct {
	Name    string   `json:"name"`              // its own among all routes
	Host    string   `json:"host,omitempty"`    // without one it takes all that no other route does
	Preview string   `json:"preview,omitempty"` // the host under which the cohort with Preview is reached
	By      *Header  `json:"by,omitempty"`      // of requests for Host, or for any where there is none, that are for that cohort too
	TCP     int      `json:"tcp,omitempty"`     // connections of this port instead of HTTP
	Local   bool     `json:"local,omitempty"`   // those of this machine alone: one instance asks another, and nothing is counted
	Path    string   `json:"path,omitempty"`    // put before the path of every request
	Cookie  string   `json:"cookie,omitempty"`  // what keeps a visitor with one cohort
	Header  string   `json:"header,omitempty"`
	Cohorts []Cohort `json:"cohorts,omitempty"`
}

// Header is a header of a request, with the value that it has.
type Header struct{ Name, Value string }

// Cohort is instances that share a share of a route's traffic.
type Cohort struct {
	Name      string     `json:"name"`
	Share     float64    `json:"share"` // of the traffic, from 0 to 1
	Preview   bool       `json:"preview,omitempty"`
	Instances []Instance `json:"instances,omitempty"`

	WarmUp time.Duration `json:"warm-up,omitempty"` // over which an instance that is new gets ever more of what its peers get
}

// Instance is where one of them listens.
type Instance struct {
	ID      string `json:"id"`
	Address string `json:"address"` // host and port
	Ready   bool   `json:"ready"`   // it may have traffic
}

// Router serves routes. Make it with New, tell it what to serve with Set, and Close it at the end.
type Router struct {
	Options
	begin          sync.Once
	plain          *plain // nil before HTTP is listened to, and on systems that have none
	passed         *passed
	dialer         *net.Dialer
	buffers        *buffers
	transport, h2c *http.Transport
	proxy          *httputil.ReverseProxy
	server         *http.Server
	hold           time.Duration // guarded by mu; for a request that finds no instance ready, to find one after all
	held           atomic.Int64  // requests and connections that wait so
	linger         time.Duration // for connections that are kept alive to be used once more
	leaving        atomic.Bool   // each answer is the last one on its connection
	connections    atomic.Int64  // of HTTP that are open
	under          atomic.Int64  // requests and connections under way
	stuckAfter     time.Duration // how long an instance may take for the head of an answer

	mu       sync.RWMutex
	told     bool // of routes, since it began
	routes   map[string]*route
	hosts    map[string]*route // host names to their routes; "" takes the rest
	previews map[string]*route
	backends map[string]*backend
	unserved *counter
	renewed  chan struct{} // closed when the routes are set anew

	listening sync.Mutex
	listeners map[string]net.Listener // by address
	doors     map[string]*system.Door // of HTTP
	owners    map[string]*route       // of TCP listeners
	closed    bool                    // nothing is listened to any more
	troubles  Troubles
}

// route is a Route with what goes on under it. It is never changed: Set makes it anew, with the same sequence.
type route struct {
	Route
	places  *sequence
	ends    []uint64 // where the share of each of the cohorts ends
	cohorts [][]*backend
	preview []*backend
	empty   time.Time // since when there is no instance; zero where there is one
}

type backend struct {
	id      string
	address string // guarded by the router's lock, as ready is
	ready   bool
	was     bool          // ready, before the routes were set anew
	since   int64         // ready, in nanoseconds since 1970; guarded as ready is
	warmUp  time.Duration // of its cohort, likewise
	lines   lines
	pending atomic.Int64
	idle    chan struct{}
	suspect atomic.Int64 // until when nothing is sent to it that can go elsewhere, in nanoseconds since 1970
	counter *counter
}

const (
	readHeaderTimeout = 10 * time.Second
	idleTimeout       = 2 * time.Minute
	dialTimeout       = 3 * time.Second
	backendIdle       = 20 * time.Second // connections to instances that are not used
	backendIdlePer    = 256
	unanswered        = 10 * time.Second // that an instance's system does not confirm what it was sent, until the connection counts as lost
	suspectFor        = time.Second
	mostTries         = 4
	linger            = 5 * time.Second
	holdMost          = 10 * time.Second
	mostHeld          = 1000
	closeLook         = 10 * time.Millisecond // whether something is still under way
)

// Options say what a router stands on; the zero Options are one that stands alone.
type Options struct {
	Listen func(address string) (net.Listener, error) // gives what to accept connections from; nil to listen anew
	Kept   string                                     // a folder in which counts outlive the router; empty for none
	Room   Room                                       // for the connections of visitors; nil for as many as come
}

// Room is for so many connections at once; further ones wait until others end. Routers may share one.
type Room chan struct{}

// enter waits until there is room, which is given back by leave.
func (r Room) enter() {
	if r != nil {
		r <- struct{}{}
	}
}

func (r Room) leave() {
	if r != nil {
		<-r
	}
}

// unservedFile counts what found no instance; no instance has such a name.
const unservedFile = ".unserved"

// New makes a router that serves nothing yet.
func New(o Options) *Router {
	if o.Listen == nil {
		o.Listen = func(address string) (net.Listener, error) { return net.Listen("tcp", address) }
	}
	dialer := &net.Dialer{Timeout: dialTimeout, Control: func(_, _ string, c syscall.RawConn) error { return system.Unanswered(c, unanswered) }}
	common := func() *http.Transport {
		return &http.Transport{DialContext: func(ctx context.Context, network, pool string) (net.Conn, error) {
			return dialer.DialContext(ctx, network, addressOf(pool))
		}, MaxIdleConnsPerHost: backendIdlePer, IdleConnTimeout: backendIdle, DisableCompression: true}
	}
	r := &Router{
		Options: o, dialer: dialer, buffers: &buffers{}, passed: &passed{conns: make(chan net.Conn), end: make(chan struct{})}, unserved: openCounter(o.Kept, unservedFile),
		transport: common(), h2c: common(), routes: map[string]*route{}, hosts: map[string]*route{}, previews: map[string]*route{}, backends: map[string]*backend{},
		listeners: map[string]net.Listener{}, doors: map[string]*system.Door{}, owners: map[string]*route{}, troubles: Troubles{}, stuckAfter: stuckAfter, hold: holdMost, linger: linger, renewed: make(chan struct{}),
	}
	r.transport.Protocols = new(http.Protocols)
	r.transport.Protocols.SetHTTP1(true)
	r.h2c.Protocols = new(http.Protocols)
	r.h2c.Protocols.SetUnencryptedHTTP2(true)
	r.proxy = newProxy(r)
	speaks := new(http.Protocols)
	speaks.SetHTTP1(true)
	speaks.SetUnencryptedHTTP2(true)
	r.server = &http.Server{Handler: r, ReadHeaderTimeout: readHeaderTimeout, IdleTimeout: idleTimeout, Protocols: speaks, ErrorLog: quiet, ConnContext: known, ConnState: func(conn net.Conn, state http.ConnState) {
		if own, ok := conn.(*headed); ok && state == http.StateHijacked {
			own.other.Store(true)
		}
		if state == http.StateClosed || state == http.StateHijacked {
			r.connections.Add(-1)
		}
	}}
	return r
}

// Set makes the router serve these routes, with HTTP on an address, and nothing else. When it returns nothing more is
// sent to instances that are not among them; what is under way there goes on.
func (r *Router) Set(listen string, routes []Route) {
	r.mu.Lock()
	next, hosts, previews := map[string]*route{}, map[string]*route{}, map[string]*route{}
	for _, b := range r.backends {
		b.was, b.ready = b.ready, false
	}
	for _, wanted := range routes {
		own := &route{Route: wanted, places: &sequence{}}
		before := r.routes[wanted.Name]
		if before != nil {
			own.places = before.places
		}
		r.fill(own)
		switch {
		case slices.ContainsFunc(own.cohorts, func(set []*backend) bool { return len(set) > 0 }):
		case before == nil && r.told:
			own.empty = longEmpty
		case before == nil: // there may have been one before the router began
			own.empty = time.Now()
		case before.empty.IsZero():
			own.empty = time.Now()
		default:
			own.empty = before.empty
		}
		next[wanted.Name] = own
		if wanted.TCP == 0 {
			hosts[strings.ToLower(wanted.Host)] = own
		}
		if wanted.Preview != "" {
			previews[strings.ToLower(wanted.Preview)] = own
		}
	}
	r.routes, r.hosts, r.previews, r.told = next, hosts, previews, true
	close(r.renewed)
	r.renewed = make(chan struct{})
	r.mu.Unlock()
	r.listen(listen)
}

// fill finds a route's instances, and where the shares of its cohorts end.
func (r *Router) fill(own *route) {
	var shares []float64
	for _, cohort := range own.Cohorts {
		var set []*backend
		for _, in := range cohort.Instances {
			b := r.backends[in.ID]
			if b == nil {
				b = &backend{id: in.ID, idle: make(chan struct{}, 1), counter: openCounter(r.Kept, in.ID)}
				r.backends[in.ID] = b
			}
			if b.address, b.ready, b.warmUp = in.Address, in.Ready, cohort.WarmUp; b.ready && !b.was {
				b.since = time.Now().UnixNano()
			}
			set = append(set, b)
		}
		if cohort.Preview {
			own.preview = set
		}
		shares, own.cohorts = append(shares, cohort.Share), append(own.cohorts, set)
	}
	own.ends = bounds(shares)
}

// header is what a request says in its header, as http.Header.
type header interface{ Values(name string) []string }

// find gives the route for a request, and whether it is asked for its preview.
func (r *Router) find(host string, said header) (own *route, preview bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	host = strings.ToLower(host)
	if strings.IndexByte(host, ':') >= 0 {
		if name, _, err := net.SplitHostPort(host); err == nil {
			host = name
		}
	}
	host = strings.TrimSuffix(host, ".")
	if own = r.previews[host]; own != nil {
		return own, true
	}
	if own = r.hosts[host]; own == nil {
		own = r.hosts[""]
	}
	return own, own != nil && own.By != nil && len(own.preview) > 0 && slices.Contains(said.Values(own.By.Name), own.By.Value)
}

// take chooses an instance for a place on a route as it is now, and notes that something is under way there, so that it
// is not ended before that is over. Those in tried are left out. It gives none where there is none.
func (r *Router) take(name string, preview bool, place uint64, tried []*backend) seat {
	r.mu.RLock()
	defer r.mu.RUnlock()
	own := r.routes[name]
	if own == nil || len(own.cohorts) == 0 {
		return seat{}
	}
	now := time.Now().UnixNano()
	var b *backend
	if preview {
		b = least(own.preview, tried, place, now)
	} else {
		chosen := choose(own.ends, place)
		b = least(own.cohorts[chosen], tried, place, now)
		for i := 0; b == nil && i < len(own.cohorts); i++ {
			if own.Cohorts[i].Share > 0 { // an answer by the other cohort is better than none
				b = least(own.cohorts[i], tried, place, now)
			}
		}
	}
	if b == nil {
		return seat{}
	}
	b.pending.Add(1)
	return seat{b, b.address, b.since}
}

// longEmpty is when a route had an instance that never had one.
var longEmpty = time.Unix(0, 0)

// await is take for what finds no instance ready: it waits a while for one, as while one instance is exchanged for another. Where
// there is none at all and was none lately, or too much waits already, it does not.
func (r *Router) await(ctx context.Context, name string, preview bool, place uint64, tried []*backend) (s seat, waited time.Duration) {
	s = r.take(name, preview, place, tried)
	r.mu.RLock()
	hold := r.hold
	r.mu.RUnlock()
	if s.b != nil || len(tried) > 0 || hold == 0 {
		return s, 0
	}
	defer r.held.Add(-1)
	if r.held.Add(1) > mostHeld {
		return seat{}, 0
	}
	began := time.Now()
	timer := time.NewTimer(hold)
	defer timer.Stop()
	for {
		r.mu.RLock()
		own := r.routes[name]
		renewed, some := r.renewed, own != nil && (!preview || len(own.preview) > 0) && (own.empty.IsZero() || time.Since(own.empty) < hold)
		r.mu.RUnlock()
		if s = r.take(name, preview, place, nil); s.b != nil || !some {
			return s, time.Since(began)
		}
		select {
		case <-renewed:
		case <-ctx.Done():
			return seat{}, time.Since(began)
		case <-timer.C:
			return seat{}, time.Since(began)
		}
	}
}

// pool names the connections to an instance since it is ready: one that came back is not asked over connections from before, at whose other end
// there may be nobody who could say so, as with a container that was taken away with its network.
func (s seat) pool() string {
	if strings.HasPrefix(s.address, "[") {
		return s.address
	}
	return poolMark + strconv.FormatInt(s.since, 36) + "." + s.address
}

// poolMark begins the name of a pool.
const poolMark = "since-"

// addressOf is where the connections of a pool lead.
func addressOf(pool string) string {
	if rest, is := strings.CutPrefix(pool, poolMark); is {
		_, pool, _ = strings.Cut(rest, ".")
	}
	return pool
}

// release notes that something that take gave is over.
func (b *backend) release() {
	if b.pending.Add(-1) == 0 {
		select {
		case b.idle <- struct{}{}:
		default:
		}
	}
}

// shy tells whether an instance leaves a place to its peers, as it is warming up: the fewer places the longer it is ready.
func (b *backend) shy(place uint64, now int64) bool {
	if b.warmUp <= 0 || now-b.since >= int64(b.warmUp) {
		return false
	}
	const parts = 1 << 16
	return float64(place>>4%parts)/parts > max(leastWarm, float64(now-b.since)/float64(b.warmUp))
}

// leastWarm is the share of its turns that an instance gets from the first moment on.
const leastWarm = 0.1

// least gives the instance with the least under way, one that was in doubt a moment ago only where there is no other, and one
// that is warming up less often. Where several are alike the place decides, so that they take turns.
func least(set, tried []*backend, place uint64, now int64) (best *backend) {
	if len(set) == 0 {
		return nil
	}
	first := int((place >> 20) % uint64(len(set)))
	worst := 0 // of best: 2 in doubt, 1 warming up
	for i := range set {
		b := set[(first+i)%len(set)]
		if !b.ready || slices.Contains(tried, b) {
			continue
		}
		rank := 0
		if b.suspect.Load() > now {
			rank = 2
		} else if b.shy(place, now) {
			rank = 1
		}
		if best == nil || rank < worst || rank == worst && b.pending.Load() < best.pending.Load() {
			best, worst = b, rank
		}
	}
	return best
}

// Drain waits until nothing is under way at an instance any more, or ctx ends.
func (r *Router) Drain(ctx context.Context, id string) error {
	r.mu.RLock()
	b := r.backends[id]
	r.mu.RUnlock()
	for b != nil && b.pending.Load() > 0 {
		select {
		case <-b.idle:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return nil
}

// Forget forgets an instance that is gone, with what was counted of it.
func (r *Router) Forget(id string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if b := r.backends[id]; b != nil {
		b.lines.end()
	}
	delete(r.backends, id)
	forgetCounter(r.Kept, id)
}

// Counts gives what was counted of each instance that is known.
func (r *Router) Counts() map[string]Counts {
	r.mu.RLock()
	defer r.mu.RUnlock()
	all := make(map[string]Counts, len(r.backends))
	for id, b := range r.backends {
		c := b.counter.counts()
		c.Pending, c.Ready = b.pending.Load(), b.ready
		all[id] = c
	}
	return all
}

// Unserved is how many requests and connections found no instance to go to.
func (r *Router) Unserved() uint64 { return r.unserved.counts().Connections }

// Close stops taking traffic and waits for what is under way, requests as well as connections, until ctx ends. A connection that
// is kept alive is closed with its next answer, so that nobody finds it closed who has just sent something; only one that is not used
// for as long as linger is closed as it is.
func (r *Router) Close(ctx context.Context) error {
	r.listening.Lock()
	r.closed = true
	for at := range r.listeners {
		r.deafen(at)
	}
	r.listening.Unlock()
	r.leaving.Store(true)
	for end := time.Now().Add(r.linger); r.connections.Load() > 0 && time.Now().Before(end) && ctx.Err() == nil; {
		time.Sleep(closeLook)
	}
	if r.plain != nil {
		r.plain.leave()
	}
	err := r.server.Shutdown(ctx)
	for r.under.Load() > 0 && ctx.Err() == nil { // those of TCP routes, and what was switched to another protocol
		time.Sleep(closeLook)
	}
	r.closeLines(time.Now())
	r.transport.CloseIdleConnections()
	r.h2c.CloseIdleConnections()
	return err
}

// cause is what the system said of a network error, without the addresses around it.
func cause(err error) error {
	var op *net.OpError
	if errors.As(err, &op) {
		err = op.Err
	}
	if inner := errors.Unwrap(err); inner != nil {
		return inner
	}
	return err
}
