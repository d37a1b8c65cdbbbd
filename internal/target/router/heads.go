package router

import (
	"bytes"
	"context"
	"net"
	"net/http"
	"strconv"
	"sync"
	"sync/atomic"
)

// headed is a connection whose requests say in one way alone how long they are. One that has both a Content-Length and a Transfer-Encoding may
// be read otherwise by somebody on its way; net/http takes the one out before it can be seen, so that messages are followed as they come, from
// one head to the next, also where several come at once.
type headed struct {
	*net.TCPConn
	sent   []byte // that came before
	head   []byte // what has come of one
	left   int64  // of a body with a length
	chunks *chunks
	other  atomic.Bool // it speaks something else by now
	bad    atomic.Bool // a request says it in two ways, or cannot be followed
	room   Room
	gone   sync.Once
}

// Close implements net.Conn.
func (c *headed) Close() error {
	c.gone.Do(c.room.leave)
	return c.TCPConn.Close()
}

// mostHead bounds how much of a head is kept to be looked at; net/http refuses a longer one.
const mostHead = http.DefaultMaxHeaderBytes + 8<<10

// Read implements io.Reader.
func (c *headed) Read(p []byte) (n int, err error) {
	if len(c.sent) > 0 {
		n = copy(p, c.sent)
		c.sent = c.sent[n:]
	} else {
		n, err = c.TCPConn.Read(p)
	}
	for rest := p[:n]; len(rest) > 0 && !c.other.Load() && !c.bad.Load(); {
		rest = c.follow(rest)
	}
	return n, err
}

// follow follows a message as far as it has come, and gives what is of the next one.
func (c *headed) follow(p []byte) (rest []byte) {
	switch {
	case c.left > 0:
		n := min(c.left, int64(len(p)))
		c.left -= n
		return p[n:]
	case c.chunks != nil:
		n, err := c.chunks.follow(p)
		if c.bad.Store(err != nil); c.chunks.state == finished {
			c.chunks = nil
		}
		return p[n:]
	}
	from := max(0, len(c.head)-3)
	c.head = append(c.head, p...)
	end := headEnd(c.head[from:])
	switch {
	case bytes.HasPrefix(c.head, []byte("PRI * HTTP/2.0\r\n")): // whose heads are no text
		c.other.Store(true)
	case end > 0:
		rest = p[len(p)-(len(c.head)-from-end):]
		c.bad.Store(!c.frame(c.head[:from+end]))
	case len(c.head) > mostHead:
		c.bad.Store(true)
	default:
		return nil
	}
	c.head = nil
	return rest
}

// headEnd is where a head ends; 0 where it does not yet.
func headEnd(p []byte) (end int) {
	for _, mark := range []string{"\n\r\n", "\n\n"} {
		if i := bytes.Index(p, []byte(mark)); i >= 0 && (end == 0 || i+len(mark) < end) {
			end = i + len(mark)
		}
	}
	return end
}

// frame finds in a head how the body comes. It is false where it says so in two ways.
func (c *headed) frame(head []byte) bool {
	sized, encoded := false, false
	for line := range bytes.Lines(head) {
		name, value, _ := bytes.Cut(line, colon)
		switch name = bytes.TrimSpace(name); {
		case equalFold(name, "Content-Length"):
			sized = true
			c.left, _ = strconv.ParseInt(string(bytes.TrimSpace(value)), 10, 64) // net/http refuses what is no number
		case equalFold(name, "Transfer-Encoding"):
			encoded = true
			c.chunks = &chunks{}
		}
	}
	return !sized || !encoded
}

// passed are connections that are left to net/http, as a listener of which it accepts them.
type passed struct {
	conns chan net.Conn
	end   chan struct{}
	once  sync.Once
}

// Accept implements net.Listener.
func (p *passed) Accept() (net.Conn, error) {
	select {
	case conn := <-p.conns:
		return conn, nil
	case <-p.end:
		return nil, net.ErrClosed
	}
}

// Close implements net.Listener.
func (p *passed) Close() error {
	p.once.Do(func() { close(p.end) })
	return nil
}

// Addr implements net.Listener.
func (p *passed) Addr() net.Addr { return &net.TCPAddr{} }

// roomyListener is a listener of connections that go to net/http from the first request on, as there is no other way.
type roomyListener struct {
	net.Listener
	r *Router
}

// Accept implements net.Listener.
func (l roomyListener) Accept() (net.Conn, error) {
	conn, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	l.r.Room.enter()
	l.r.connections.Add(1)
	return &headed{TCPConn: conn.(*net.TCPConn), room: l.r.Room}, nil
}

// pass leaves a connection to net/http, with what was read of it.
func (r *Router) pass(conn *net.TCPConn, sent []byte) {
	own := &headed{TCPConn: conn, sent: bytes.Clone(sent), room: r.Room}
	select {
	case r.passed.conns <- own:
	case <-r.passed.end:
		own.Close()
		r.connections.Add(-1)
	}
}

type headedKey struct{}

// known lets a request's handler see its connection.
func known(ctx context.Context, conn net.Conn) context.Context {
	if own, ok := conn.(*headed); ok {
		return context.WithValue(ctx, headedKey{}, own)
	}
	return ctx
}

// unclear tells whether a request says in two ways how long it is, or came with one that does.
func unclear(req *http.Request) bool {
	own, ok := req.Context().Value(headedKey{}).(*headed)
	return ok && req.ProtoMajor == 1 && len(req.TransferEncoding) > 0 && own.bad.Load()
}
