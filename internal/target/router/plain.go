package router

import (
	"errors"
	"fmt"
	"net/netip"
	"os"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"

	"aditus/internal/system"
)

// Plain requests of HTTP/1.1, which are nearly all, go their own way: their heads are read where they came, changed in a few places and
// written on, by the one goroutine that then waits for the answer. net/http takes several for that, and three times as long. A visitor's
// connection costs an entry in a table while nothing is asked on it. What is not plain (bodies that are long or in chunks, other
// protocols, what is not read alike by everybody) is left to net/http as it came, with its connection. No library was found that leaves
// quiet connections without a goroutine and lets be seen of each request what is counted of it here.

// plain are the connections of visitors that have sent nothing but plain requests.
type plain struct {
	r       *Router
	sockets *system.Sockets
	work    chan *exchange // for those who have done some and wait for more
	spare   sync.Pool      // exchanges
	spaces  sync.Pool      // for what comes
	waiting atomic.Int32   // who wait for work

	mu      sync.Mutex
	callers map[system.Socket]*caller
	number  int32
	over    bool // nobody comes any more
	ended   bool
	end     chan struct{} // closed when nobody is looked after any more
}

// caller is a visitor's connection.
type caller struct {
	socket system.Socket
	number int32
	from   netip.Addr

	mu     sync.Mutex
	at     *exchange // nil while nothing is under way
	since  int64     // when it was so last, in nanoseconds since 1970
	used   bool      // it has asked something
	shut   bool      // it is told nothing more
	closed bool
}

const (
	shutFor    = 2 * time.Second // a visitor who was told that nothing more comes has to close his connection
	sweepEvery = 2 * time.Second
	mostWait   = 64 // goroutines that wait for more work
)

// welcome takes visitors' connections until nobody listens any more.
func (p *plain) welcome(door *system.Door) {
	for pause := time.Duration(0); ; {
		socket, from, err := door.Accept()
		switch {
		case errors.Is(err, os.ErrClosed):
			return
		case err != nil: // as where no more files may be open
			pause = min(max(2*pause, 5*time.Millisecond), time.Second)
			time.Sleep(pause)
			continue
		}
		pause = 0
		p.r.Room.enter()
		p.r.connections.Add(1)
		p.add(socket, from)
	}
}

// openPlain makes the way of plain requests; nil on systems that have none.
func openPlain(r *Router) *plain {
	sockets, err := system.NewSockets()
	if err != nil {
		return nil
	}
	p := &plain{r: r, sockets: sockets, work: make(chan *exchange), callers: map[system.Socket]*caller{}, end: make(chan struct{})}
	p.spaces.New = func() any { return new([plainSize]byte) }
	p.spare.New = func() any { return newExchange(p) }
	go sockets.Wait(p.tell)
	go p.sweep()
	return p
}

// add looks after a visitor's connection from now on.
func (p *plain) add(socket system.Socket, from netip.Addr) {
	p.mu.Lock()
	p.number++
	c := &caller{socket: socket, number: p.number, from: from, since: time.Now().UnixNano()}
	p.callers[socket] = c
	refused := p.ended || p.sockets.Add(socket, c.number) != nil
	p.mu.Unlock()
	if refused {
		p.close(c)
	}
}

// tell has somebody look after a visitor of whom something is heard.
func (p *plain) tell(socket system.Socket, number int32, what system.Event) {
	p.mu.Lock()
	c := p.callers[socket]
	p.mu.Unlock()
	if c == nil || c.number != number { // it was closed meanwhile
		return
	}
	c.mu.Lock()
	if x := c.at; x != nil {
		x.hear(what)
	}
	if c.at != nil || c.closed || what&system.Readable == 0 {
		c.mu.Unlock()
		return
	}
	x := p.spare.Get().(*exchange)
	x.begin(c, what)
	c.at = x
	c.mu.Unlock()
	select {
	case p.work <- x:
	default:
		go p.carry(x)
	}
}

// carry looks after one visitor after another, each for as long as something is under way.
func (p *plain) carry(x *exchange) {
	for {
		if p.runs(x) {
			p.spare.Put(x)
		}
		if p.waiting.Add(1) > mostWait {
			p.waiting.Add(-1)
			return
		}
		select {
		case x = <-p.work:
			p.waiting.Add(-1)
		case <-p.end:
			return
		}
	}
}

// runs looks after a visitor. A mistake of the router's own costs him his connection, and others nothing, as with net/http.
func (p *plain) runs(x *exchange) (well bool) {
	defer func() {
		why := recover()
		if well = why == nil; well {
			return
		}
		fmt.Fprintf(os.Stderr, "the router made a mistake: %v\n%s", why, debug.Stack())
		if x.line != nil {
			x.letGo(false)
		}
		p.close(x.c)
	}()
	x.run()
	return true
}

// close ends a visitor's connection. It is called by whoever looks after him.
func (p *plain) close(c *caller) {
	p.forget(c)
	c.socket.Close()
	p.gone()
}

// gone has another visitor come.
func (p *plain) gone() {
	p.r.Room.leave()
	p.r.connections.Add(-1)
}

// pass leaves a visitor to net/http, with what he has sent already. It is called by whoever looks after him.
func (p *plain) pass(c *caller, sent []byte) {
	p.forget(c)
	conn, err := c.socket.Conn()
	if err != nil {
		p.gone()
		return
	}
	p.r.pass(conn, sent)
}

// forget looks after a visitor no more.
func (p *plain) forget(c *caller) {
	c.mu.Lock()
	c.closed, c.at = true, nil
	c.mu.Unlock()
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.callers, c.socket)
	if !p.ended {
		p.sockets.Remove(c.socket)
	}
}

// sweep closes what is not used for too long, again and again, until all is over.
func (p *plain) sweep() {
	ticker := time.NewTicker(sweepEvery)
	defer ticker.Stop()
	for {
		select {
		case <-p.end:
			return
		case now := <-ticker.C:
			p.closeStale(now)
			p.r.closeLines(now.Add(-backendIdle))
			p.endIfOver()
		}
	}
}

// endIfOver ends the looking after visitors once nobody comes and nobody is there any more.
func (p *plain) endIfOver() {
	p.mu.Lock()
	ends := p.over && len(p.callers) == 0 && !p.ended
	p.ended = p.ended || ends
	p.mu.Unlock()
	if ends {
		close(p.end)
		p.sockets.Close() // waits for whoever is told of something
	}
}

// closeStale closes what is not used for too long.
func (p *plain) closeStale(now time.Time) {
	p.closeQuiet(func(c *caller) bool {
		quiet := time.Duration(now.UnixNano() - c.since)
		return quiet >= idleTimeout || quiet >= readHeaderTimeout && !c.used || quiet >= shutFor && c.shut
	})
}

// closeQuiet closes connections on which nothing is under way, those of a kind.
func (p *plain) closeQuiet(which func(*caller) bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for socket, c := range p.callers {
		c.mu.Lock()
		if c.at == nil && !c.closed && which(c) {
			c.closed = true
			delete(p.callers, socket)
			c.socket.Close()
			p.gone()
		}
		c.mu.Unlock()
	}
}

// leave closes all connections on which nothing is under way; others are closed when they have their answers. Nobody comes any more.
func (p *plain) leave() {
	p.closeQuiet(func(*caller) bool { return true })
	p.mu.Lock()
	p.over = true
	p.mu.Unlock()
	p.endIfOver()
}
