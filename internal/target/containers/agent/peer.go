package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"time"

	"aditus/internal/socket"
)

// How it is seen that the other end is gone: it is asked while nothing comes, and given so long to answer.
const (
	peerIdle = 5 * time.Second
	peerWait = 10 * time.Second
)

// serverHeader says who listens; nobody who only looks says it.
const serverHeader = "Aditus-Server"

// peer is the other end of a connection, asked by HTTP/2 so that many questions go at once.
type peer struct {
	conn net.Conn
	h2   *http.ClientConn
	http *http.Client
}

func newPeer(conn net.Conn) (*peer, error) {
	t := &http.Transport{
		Protocols: protocols(), HTTP2: &http.HTTP2Config{SendPingTimeout: peerIdle, PingTimeout: peerWait},
		DialContext: func(context.Context, string, string) (net.Conn, error) { return conn, nil },
	}
	h2, err := t.NewClientConn(context.Background(), "http", "agent:80")
	if err != nil {
		conn.Close()
		return nil, err
	}
	return &peer{conn, h2, &http.Client{Transport: h2}}, nil
}

func (p *peer) close() {
	p.h2.Close()
	p.conn.Close()
}

// protocols are those of both ends: HTTP/2 alone, whose connection is as safe as the engine's API that it goes through.
func protocols() *http.Protocols {
	var p http.Protocols
	p.SetUnencryptedHTTP2(true)
	return &p
}

// lost tells whether nothing can be asked any more.
func (p *peer) lost() bool { return p.h2.Err() != nil }

// do asks, and reads the answer into a value where there is one.
func (p *peer) do(ctx context.Context, method, path string, body, into any) error {
	return socket.Ask(ctx, p.http, method, path, body, into)
}

// hello asks who it is.
func (p *peer) hello(ctx context.Context) (hello Hello, err error) {
	return hello, p.do(ctx, http.MethodGet, "/agent", nil, &hello)
}

// listen reads news until there are none any more, or nothing comes for too long.
func (p *peer) listen(ctx context.Context, who string, take func(News)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://agent/news", nil)
	if err != nil {
		return err
	}
	request.Header.Set(serverHeader, who)
	response, err := p.http.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return fmt.Errorf("its agent answers with status %d", response.StatusCode)
	}
	late := time.AfterFunc(silentFor, cancel)
	defer late.Stop()
	bounded := &io.LimitedReader{R: response.Body}
	for in := json.NewDecoder(bounded); ; {
		var n News
		bounded.N = mostBody
		if err := in.Decode(&n); err != nil {
			if ctx.Err() != nil {
				err = fmt.Errorf("its agent has said nothing for %s", silentFor)
			}
			return err
		}
		late.Reset(silentFor)
		take(n)
	}
}

// silentFor is how long an agent may say nothing before it counts as lost.
const silentFor = 5 * beat

// connect opens a connection to a port of the agent's machine.
func (p *peer) connect(ctx context.Context, address string) (net.Conn, error) {
	life, cancel := context.WithCancel(context.WithoutCancel(ctx))
	stop := context.AfterFunc(ctx, cancel) // until it is there
	out, in := io.Pipe()
	request := (&http.Request{Method: http.MethodConnect, URL: &url.URL{Scheme: "http", Host: address}, Host: address, Header: http.Header{}, Body: out}).WithContext(life)
	response, err := p.h2.RoundTrip(request)
	if !stop() && err == nil {
		response.Body.Close()
		err = context.Cause(ctx)
	}
	if err != nil {
		cancel()
		in.Close()
		return nil, err
	}
	if response.StatusCode != http.StatusOK {
		text, _ := io.ReadAll(io.LimitReader(response.Body, 1<<10))
		response.Body.Close()
		cancel()
		in.Close()
		if response.StatusCode == http.StatusBadGateway {
			return nil, errors.New("nobody listens there")
		}
		return nil, fmt.Errorf("%s", text)
	}
	return &led{Reader: response.Body, Writer: in, end: func() {
		in.Close()
		response.Body.Close()
		cancel()
	}, address: address}, nil
}

// led is a connection that is led through another one. It has no deadlines of its own: whoever waits ends it.
type led struct {
	io.Reader
	io.Writer
	end     func()
	address string
}

func (l *led) Close() error                     { l.end(); return nil }
func (l *led) LocalAddr() net.Addr              { return addr("agent") }
func (l *led) RemoteAddr() net.Addr             { return addr(l.address) }
func (l *led) SetDeadline(time.Time) error      { return nil }
func (l *led) SetReadDeadline(time.Time) error  { return nil }
func (l *led) SetWriteDeadline(time.Time) error { return nil }

type addr string

func (a addr) Network() string { return "tcp" }
func (a addr) String() string  { return string(a) }
