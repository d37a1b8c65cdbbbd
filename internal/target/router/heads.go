package router

import (
	"bytes"
	"context"
	"net"
	"net/http"
	"sync"
)

// headed is a connection whose requests say in one way alone how long they are. One that has both a Content-Length and a Transfer-Encoding may
// be read otherwise by somebody on its way; net/http takes the one out before it can be seen, so that heads are looked at as they come.
type headed struct {
	*net.TCPConn
	sent    []byte // that came before
	head    []byte
	passed  bool // the head of the request is through
	framed  bool // it speaks HTTP/2, whose heads are no text
	twofold bool // the request says it in two ways
	room    Room
	left    sync.Once
}

// Close implements net.Conn.
func (c *headed) Close() error {
	c.left.Do(c.room.leave)
	return c.TCPConn.Close()
}

// mostHead bounds how much of a head is kept to be looked at; net/http refuses a longer one.
const mostHead = http.DefaultMaxHeaderBytes + 8<<10

// Read implements io.Reader.
func (c *headed) Read(p []byte) (int, error) {
	n, err := 0, error(nil)
	if len(c.sent) > 0 {
		n = copy(p, c.sent)
		c.sent = c.sent[n:]
	} else {
		n, err = c.TCPConn.Read(p)
	}
	if c.passed || c.framed || n == 0 {
		return n, err
	}
	from := max(0, len(c.head)-3)
	c.head = append(c.head, p[:n]...)
	if bytes.HasPrefix(c.head, []byte("PRI * HTTP/2.0\r\n")) {
		c.framed, c.head = true, nil
		return n, err
	}
	end := bytes.Index(c.head[from:], []byte("\n\r\n"))
	if other := bytes.Index(c.head[from:], []byte("\n\n")); other >= 0 && (end < 0 || other < end) {
		end = other
	}
	switch {
	case end >= 0:
		c.twofold = twofold(c.head[:from+end])
		fallthrough
	case len(c.head) > mostHead:
		c.passed, c.head = true, c.head[:0]
	}
	return n, err
}

// twofold tells whether a head has both headers.
func twofold(head []byte) bool {
	length, encoding := false, false
	for line := range bytes.Lines(head) {
		name, _, _ := bytes.Cut(line, []byte(":"))
		name = bytes.TrimSpace(name)
		length = length || bytes.EqualFold(name, []byte("Content-Length"))
		encoding = encoding || bytes.EqualFold(name, []byte("Transfer-Encoding"))
	}
	return length && encoding
}

// next has the next request's head looked at.
func (c *headed) next() { c.passed, c.twofold, c.head = false, false, c.head[:0] }

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

// unclear tells whether a request says in two ways how long it is.
func unclear(req *http.Request) bool {
	own, ok := req.Context().Value(headedKey{}).(*headed)
	return ok && req.ProtoMajor == 1 && len(req.TransferEncoding) > 0 && own.twofold
}
