package router

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"path"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// quiet keeps the server's own log of clients that hang up out of the way.
var quiet = log.New(io.Discard, "", 0)

// visit is one request on its way.
type visit struct {
	own     *route
	preview bool
	place   uint64
	cookie  bool          // the visitor is to be given one
	status  int           // of the answer, once its head is there
	last    *backend      // where it was sent
	given   bool          // the instance has all of it
	broken  bool          // its own body cannot be read: that says nothing of the instance
	cut     bool          // the answer ended before its end
	waited  time.Duration // for an instance: that says nothing of it
	late    bool          // the caller left an answer of a known length of which nothing more came

	state atomic.Int32 // waits, answers or stuck
	at    atomic.Pointer[backend]
}

// States of a visit.
const (
	waits   int32 = iota
	answers       // the head of the answer is there
	stuck         // it was counted as one that is never answered
)

// A request whose caller left after patience, and any that has no answer after stuckAfter, counts against the instance
// that has it, as 504 and with the time it took so far; so does an answer of a known length that stood still for as long
// as patience when its caller left. Who leaves sooner may have changed his mind.
const (
	patience   = time.Second
	stuckAfter = 30 * time.Second
)

type visitKey struct{}

// ServeHTTP implements http.Handler.
func (r *Router) ServeHTTP(w http.ResponseWriter, req *http.Request) {
	r.under.Add(1)
	defer r.under.Add(-1)
	if r.leaving.Load() {
		w.Header().Set("Connection", "close")
	}
	if unclear(req) {
		w.Header().Set("Connection", "close")
		http.Error(w, "the request says in two ways how long it is: Content-Length and Transfer-Encoding", http.StatusBadRequest)
		return
	}
	began := time.Now()
	own, preview := r.find(req.Host, req.Header)
	if own == nil {
		http.Error(w, "no route leads to "+strconv.Quote(req.Host), http.StatusNotFound)
		return
	}
	v := &visit{own: own, preview: preview}
	v.settle(req.Header)
	hangs := time.AfterFunc(r.stuckAfter, func() {
		if b := v.at.Load(); b != nil && !preview && v.state.CompareAndSwap(waits, stuck) {
			b.counter.answered(http.StatusGatewayTimeout, r.stuckAfter)
		}
	})
	defer func() { // also where an answer was cut off, which the proxy tells by a panic
		hangs.Stop()
		r.count(v, time.Since(began)-v.waited)
	}()
	r.proxy.ServeHTTP(w, req.WithContext(context.WithValue(req.Context(), visitKey{}, v)))
}

// count counts what came of a visit.
func (r *Router) count(v *visit, took time.Duration) {
	switch {
	case v.broken:
	case v.last == nil:
		r.unserved.connected()
	case v.preview || v.state.Load() == stuck:
	case v.cut:
		v.last.counter.answered(http.StatusBadGateway, took)
	case v.late:
		v.last.counter.answered(http.StatusGatewayTimeout, took)
	case v.status != 0:
		v.last.counter.answered(v.status, took)
	case v.given && took >= patience:
		v.last.counter.answered(http.StatusGatewayTimeout, took)
	}
}

// settle gives a visit its place: the visitor's own where the route keeps visitors, else the next one.
func (v *visit) settle(h header) {
	if name := v.own.Header; name != "" {
		if said := h.Values(name); len(said) > 0 && said[0] != "" {
			v.place = placeOf(said[0])
			return
		}
	}
	if name := v.own.Cookie; name != "" {
		said := http.Request{Header: http.Header{"Cookie": h.Values("Cookie")}}
		if cookie, err := said.Cookie(name); err == nil {
			if place, err := strconv.ParseUint(cookie.Value, 16, 64); err == nil {
				v.place = place
				return
			}
		}
		v.cookie = true
	}
	v.place = v.own.places.next()
}

// newCookie keeps a visitor with his cohort.
func (v *visit) newCookie() *http.Cookie {
	return &http.Cookie{Name: v.own.Cookie, Value: strconv.FormatUint(v.place, 16), Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode}
}

// told are headers by which a proxy tells an instance of a visitor, beside those that are set anew: no visitor says them.
var told = []string{"X-Real-Ip", "X-Client-Ip", "X-Cluster-Client-Ip", "True-Client-Ip", "X-Forwarded-Port", "X-Forwarded-Prefix", "X-Forwarded-Server", "X-Original-Url", "X-Rewrite-Url"}

// within has a path that is put behind another one lead nowhere out of it.
func within(u *url.URL, behind string) {
	if strings.Trim(behind, "/") == "" {
		return
	}
	clean := path.Clean("/" + u.Path)
	if strings.HasSuffix(u.Path, "/") && clean != "/" {
		clean += "/"
	}
	if clean != u.Path {
		u.Path, u.RawPath = clean, ""
	}
}

func newProxy(r *Router) *httputil.ReverseProxy {
	return &httputil.ReverseProxy{
		Rewrite: func(p *httputil.ProxyRequest) {
			v := p.In.Context().Value(visitKey{}).(*visit)
			within(p.Out.URL, v.own.Path)
			p.SetURL(&url.URL{Scheme: "http", Host: "instance", Path: strings.TrimSuffix(v.own.Path, "/")})
			p.Out.Host = p.In.Host
			for _, name := range told {
				p.Out.Header.Del(name)
			}
			p.SetXForwarded()
			if host, _, err := net.SplitHostPort(p.In.RemoteAddr); err == nil {
				p.Out.Header.Set("X-Real-Ip", host)
			}
		},
		Transport: sender{r},
		ModifyResponse: func(response *http.Response) error {
			v := response.Request.Context().Value(visitKey{}).(*visit)
			v.status = response.StatusCode
			v.state.CompareAndSwap(waits, answers)
			if v.cookie {
				response.Header.Add("Set-Cookie", v.newCookie().String())
			}
			return nil
		},
		ErrorHandler: func(w http.ResponseWriter, req *http.Request, err error) {
			v := req.Context().Value(visitKey{}).(*visit)
			switch {
			case errors.Is(err, errNoInstance):
				w.Header().Set("Retry-After", "1")
				http.Error(w, "no instance can take this now", http.StatusServiceUnavailable)
			case v.broken:
				http.Error(w, "the request's body cannot be read", http.StatusBadRequest)
			case req.Context().Err() != nil: // the caller left
				v.status = 0
				panic(http.ErrAbortHandler) // an answer of nothing would be one
			default:
				v.status = http.StatusBadGateway
				http.Error(w, "the instance gave no answer", http.StatusBadGateway)
			}
		},
		BufferPool: r.buffers,
		ErrorLog:   quiet,
	}
}

var errNoInstance = errors.New("no instance can take the request")

// sender sends a request to an instance, and to another one where the first never had it.
type sender struct{ r *Router }

// RoundTrip implements http.RoundTripper.
func (s sender) RoundTrip(req *http.Request) (*http.Response, error) {
	v := req.Context().Value(visitKey{}).(*visit)
	transport := s.r.transport
	if req.ProtoMajor == 2 && strings.HasPrefix(req.Header.Get("Content-Type"), "application/grpc") {
		transport = s.r.h2c
	}
	original := req.Body
	var tried []*backend
	last := errNoInstance
	for range mostTries {
		at, waited := s.r.await(req.Context(), v.own.Name, v.preview, v.place, tried)
		v.waited += waited
		b := at.b
		if b == nil {
			return nil, last
		}
		v.last = b
		v.at.Store(b)
		req.URL.Host = at.pool()
		var body *untouched
		if original != nil && original != http.NoBody {
			body = &untouched{body: original}
			req.Body = body
		}
		response, err := transport.RoundTrip(req)
		if err == nil {
			if response.StatusCode == http.StatusSwitchingProtocols { // either side may end it as it likes
				response.Body = released(response.Body, b)
			} else {
				response.Body = released(&whole{response.Body, req.Context(), v, response.ContentLength > 0}, b)
			}
			return response, nil
		}
		b.release()
		v.given, v.broken = body.how()
		if req.Context().Err() != nil || v.broken {
			return nil, err
		}
		b.suspect.Store(time.Now().Add(suspectFor).UnixNano())
		if !again(req, body, err) {
			return nil, err
		}
		tried, last = append(tried, b), fmt.Errorf("%s: %w", b.id, err)
	}
	return nil, last
}

// again tells whether a request that failed can go to another instance without being carried out twice: it never
// reached the first, or it may be repeated by its kind (RFC 9110, section 9.2.2).
func again(req *http.Request, body *untouched, err error) bool {
	if body != nil && !body.giveUp() {
		return false
	}
	var op *net.OpError
	if errors.As(err, &op) && op.Op == "dial" || strings.Contains(err.Error(), "server closed idle connection") {
		return true
	}
	return repeatable(req.Method)
}

// untouched is a request's body for one try. It is not closed by it: the server that it came from does that.
type untouched struct {
	mu   sync.Mutex
	body io.Reader
	read bool  // something of it was
	end  error // that it came to
}

// Read implements io.Reader.
func (u *untouched) Read(p []byte) (int, error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.body == nil {
		return 0, errors.New("this try was given up")
	}
	u.read = true
	n, err := u.body.Read(p)
	if err != nil {
		u.end = err
	}
	return n, err
}

// how tells whether an instance was given all of the body, and whether the caller broke it off. No body is all of it.
func (u *untouched) how() (given, broken bool) {
	if u == nil {
		return true, false
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.end == io.EOF, u.end != nil && u.end != io.EOF
}

// Close implements io.Closer and closes nothing.
func (u *untouched) Close() error { return nil }

// giveUp sees to it that this try reads nothing any more, so that another one may. It is false where something was read.
func (u *untouched) giveUp() bool {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.body = nil
	return !u.read
}

// whole is an answer's body that tells where it ends before its end while the caller still waits for it, and where the
// caller left it because nothing more came. One without a length may rightly be quiet for long, as a stream of events is.
type whole struct {
	io.ReadCloser
	ctx   context.Context
	v     *visit
	sized bool
}

// Read implements io.Reader.
func (w *whole) Read(p []byte) (int, error) {
	began := time.Now()
	n, err := w.ReadCloser.Read(p)
	switch {
	case err == nil || err == io.EOF:
	case w.ctx.Err() == nil:
		w.v.cut = true
	case w.sized && time.Since(began) >= patience:
		w.v.late = true
	}
	return n, err
}

// released is an answer's body that releases its instance when it is closed. What was switched to another protocol, such
// as a WebSocket, can be written to as before.
func released(body io.ReadCloser, b *backend) io.ReadCloser {
	once := releasing{ReadCloser: body, release: sync.OnceFunc(b.release)}
	if both, ok := body.(io.ReadWriteCloser); ok {
		return &switched{once, both}
	}
	return &once
}

type releasing struct {
	io.ReadCloser
	release func()
}

func (r *releasing) Close() error {
	defer r.release()
	return r.ReadCloser.Close()
}

type switched struct {
	releasing
	io.Writer
}

// buffers are for copying answers.
type buffers struct{ pool sync.Pool }

const bufferSize = 32 << 10

// Get implements httputil.BufferPool.
func (b *buffers) Get() []byte {
	if p, ok := b.pool.Get().(*[]byte); ok {
		return *p
	}
	return make([]byte, bufferSize)
}

// Put implements httputil.BufferPool.
func (b *buffers) Put(p []byte) { b.pool.Put(&p) }
