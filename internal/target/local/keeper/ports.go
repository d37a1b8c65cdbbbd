package keeper

import (
	"cmp"
	"fmt"
	"net"
	"strconv"
	"sync"
)

// Host is where all instances listen.
const Host = "127.0.0.1"

// ports gives out port numbers, each to one process at a time.
type ports struct {
	mu    sync.Mutex
	owner map[int]string
	next  int
}

// take gives a process a free port for each name: the ones it had where they are still free, so that what knows them
// needs to learn nothing new.
func (p *ports) take(id string, names []string, had, fixed map[string]int, within [2]int) (map[string]int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.drop(id)
	taken := map[string]int{}
	for _, name := range names {
		if port, own := fixed[name]; own {
			if !p.free(port) {
				owner := p.owner[port]
				p.drop(id)
				return nil, fmt.Errorf("its port %d is taken by %s: it starts once that one is free", port, cmp.Or(owner, "another program on this machine"))
			}
			p.owner[port], taken[name] = id, port
			continue
		}
		port, ok := had[name]
		if !ok || !p.free(port) {
			if port, ok = p.find(within); !ok {
				p.drop(id)
				return nil, fmt.Errorf("no port from %d to %d is free for it: give the site more with ports: in the settings", within[0], within[1])
			}
		}
		p.owner[port], taken[name] = id, port
	}
	return taken, nil
}

// hold keeps the ports of a process that was taken over.
func (p *ports) hold(id string, has map[string]int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, port := range has {
		p.owner[port] = id
	}
}

func (p *ports) find(within [2]int) (int, bool) {
	for range within[1] - within[0] + 1 {
		if p.next < within[0] || p.next > within[1] {
			p.next = within[0]
		}
		port := p.next
		p.next++
		if p.free(port) {
			return port, true
		}
	}
	return 0, false
}

// free tells whether nobody listens on a port and nobody was given it.
func (p *ports) free(port int) bool {
	if p.owner[port] != "" {
		return false
	}
	listener, err := net.Listen("tcp", net.JoinHostPort(Host, strconv.Itoa(port)))
	if err != nil {
		return false
	}
	listener.Close()
	return true
}

func (p *ports) release(id string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.drop(id)
}

func (p *ports) drop(id string) {
	for port, owner := range p.owner {
		if owner == id {
			delete(p.owner, port)
		}
	}
}
