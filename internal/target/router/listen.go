package router

import (
	"fmt"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"

	"aditus/internal/system"
)

// listen makes the router listen where it should, and nowhere else. What cannot be listened on is a trouble, tried
// again at the next Set.
func (r *Router) listen(address string) {
	r.listening.Lock()
	defer r.listening.Unlock()
	if r.closed {
		return
	}
	wanted, byHost := map[string]*route{}, false
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		host = "127.0.0.1"
	}
	r.mu.RLock()
	for _, own := range r.routes {
		switch {
		case own.TCP != 0 && own.Local:
			wanted[net.JoinHostPort("127.0.0.1", strconv.Itoa(own.TCP))] = own
		case own.TCP != 0:
			wanted[net.JoinHostPort(host, strconv.Itoa(own.TCP))] = own
		default:
			byHost = true
		}
	}
	r.mu.RUnlock()
	if byHost && address != "" {
		wanted[address] = nil
	}
	for at := range r.listeners {
		own, still := wanted[at]
		if still && (own == nil) == (r.owners[at] == nil) {
			r.owners[at] = own
			continue
		}
		r.deafen(at)
	}
	clear(r.troubles)
	for at, own := range wanted {
		if r.listeners[at] != nil {
			continue
		}
		listener, err := r.Options.Listen(at)
		if err != nil {
			name := ""
			if own != nil {
				name = own.Name
			}
			r.troubles[name] = fmt.Sprintf("traffic cannot come in at %s: %v; end what listens there, or choose another address", at, cause(err))
			continue
		}
		r.listeners[at], r.owners[at] = listener, own
		if own == nil {
			r.welcome(at, listener)
		} else {
			room := r.Room
			if own.Local {
				room = nil // instances among each other, whatever comes from outside
			}
			go r.accept(listener, at, room)
		}
	}
}

// welcome has HTTP come in at a listener.
func (r *Router) welcome(at string, listener net.Listener) {
	r.begin.Do(func() {
		r.plain = openPlain(r)
		go r.server.Serve(r.passed)
	})
	if tcp, ok := listener.(*net.TCPListener); ok && r.plain != nil {
		if door, err := system.OpenDoor(tcp); err == nil {
			r.doors[at] = door
			go r.plain.welcome(door)
			return
		}
	}
	go r.server.Serve(roomyListener{listener, r})
}

// deafen has nothing come in at an address any more.
func (r *Router) deafen(at string) {
	r.listeners[at].Close()
	if door := r.doors[at]; door != nil {
		door.Close()
	}
	delete(r.listeners, at)
	delete(r.doors, at)
}

// Listening are what the router accepts connections from, by address.
func (r *Router) Listening() map[string]net.Listener {
	r.listening.Lock()
	defer r.listening.Unlock()
	return maps.Clone(r.listeners)
}

// Troubles tell where a router cannot listen: for each route of TCP connections by its name, and for all of HTTP under the empty one.
type Troubles map[string]string

// Of tells what keeps traffic from the routes whose names begin with something; empty where nothing does.
func (t Troubles) Of(begins string) string {
	var all []string
	for name, text := range t {
		if name == "" || strings.HasPrefix(name, begins) {
			all = append(all, text)
		}
	}
	slices.Sort(all)
	return strings.Join(all, "; ")
}

// Troubles tells where the router cannot listen.
func (r *Router) Troubles() Troubles {
	r.listening.Lock()
	defer r.listening.Unlock()
	return maps.Clone(r.troubles)
}
