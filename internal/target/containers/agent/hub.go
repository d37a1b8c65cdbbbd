package agent

import "sync"

// hub keeps for whoever listens what changed since it listened last: of each workload once, however often it changed.
type hub struct {
	mu        sync.Mutex
	listeners map[*listener]bool
}

// change is a workload of a site of which something is new.
type change struct{ site, workload string }

// listener is one who listens.
type listener struct {
	hub     *hub
	who     string
	wake    chan struct{} // has something when there is something new
	changed map[change]bool
}

func newHub() *hub { return &hub{listeners: map[*listener]bool{}} }

// tell tells all who listen of a change.
func (h *hub) tell(c change) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for l := range h.listeners {
		l.changed[c] = true
		l.poke()
	}
}

// poke wakes all who listen.
func (h *hub) poke() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for l := range h.listeners {
		l.poke()
	}
}

func (l *listener) poke() {
	select {
	case l.wake <- struct{}{}:
	default:
	}
}

// listen begins to listen. done ends it.
func (h *hub) listen(who string) (l *listener, done func()) {
	l = &listener{hub: h, who: who, wake: make(chan struct{}, 1), changed: map[change]bool{}}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.listeners[l] = true
	return l, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.listeners, l)
	}
}

// other is somebody else than a server who listens; empty for nobody.
func (h *hub) other(than string) string {
	h.mu.Lock()
	defer h.mu.Unlock()
	for l := range h.listeners {
		if l.who != than && l.who != "" {
			return l.who
		}
	}
	return ""
}

// take gives what changed since it was taken last.
func (l *listener) take() (all []change) {
	l.hub.mu.Lock()
	defer l.hub.mu.Unlock()
	for c := range l.changed {
		all = append(all, c)
	}
	clear(l.changed)
	return all
}
