// Package api serves control over HTTP: to the shell and the screens on a Unix socket in the data folder, to others over
// TCP with tokens; and it is the client for it. openapi.json, which the server gives out, describes it.
package api

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"aditus/internal/control"
	"aditus/internal/core/berth"
	"aditus/internal/core/fault"
	"aditus/internal/core/policy"
	"aditus/internal/core/say"
	"aditus/internal/ledger"
	"aditus/internal/status"
)

// Control is what the server serves.
type Control interface {
	control.Control
	Settler
	Measured(ctx context.Context) []status.Measured
	// Refused puts on record that somebody asked for something who may not.
	Refused(ctx context.Context, who policy.Actor, what string)
}

// Settler changes the settings, and puts on record what was asked for beside.
type Settler interface {
	control.Settler
	Record(ctx context.Context, who policy.Actor, what string) error
}

// Server answers requests. Make it with New.
type Server struct {
	Logins *Logins // nil where nobody logs in; set before anything is served

	serves  atomic.Pointer[served]
	tokens  *Tokens
	log     *slog.Logger
	begun   time.Time
	mux     *http.ServeMux
	failed  limits
	stopped <-chan struct{}
	counted counts

	mu    sync.Mutex
	views map[string]Control // what is served, as the last few who asked may see it
}

// served is what is served for a while.
type served struct {
	Control
	over chan struct{} // closed once something else is served
}

// New makes a server. When ctx ends its streams do.
func New(ctx context.Context, c Control, tokens *Tokens, log *slog.Logger) *Server {
	s := &Server{tokens: tokens, log: log, begun: time.Now(), mux: http.NewServeMux(), stopped: ctx.Done()}
	s.Serve(c)
	for _, op := range operations {
		s.mux.HandleFunc(op.method+" "+op.path, s.serve(op))
	}
	s.mux.HandleFunc("GET /v1/events", s.looking(s.events))
	s.mux.HandleFunc("GET /v1/ledger/events", s.looking(s.follow))
	s.mux.HandleFunc("GET /metrics", s.looking(s.metrics))
	s.mux.HandleFunc("GET /healthz", s.healthz)
	s.mux.HandleFunc("GET "+leadsPath, s.leads)
	s.mux.HandleFunc("GET "+loginPath, s.provider)
	s.mux.HandleFunc("GET /openapi.json", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		w.Write(Document())
	})
	return s
}

// Serve serves something else from now on. Streams of what was served before end, and whoever follows them asks again.
func (s *Server) Serve(c Control) {
	before := s.serves.Swap(&served{c, make(chan struct{})})
	s.mu.Lock()
	s.views = map[string]Control{}
	s.mu.Unlock()
	if before != nil {
		close(before.over)
	}
}

// ServeHTTP implements http.Handler.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	began := time.Now()
	seen := &recorder{ResponseWriter: w, status: http.StatusOK}
	if _, pattern := s.mux.Handler(r); pattern == "" { // the mux's own answers are plain text
		s.unknown(seen, r)
	} else {
		s.mux.ServeHTTP(seen, r)
	}
	took := time.Since(began)
	s.counted.add(seen.status)
	if s.log.Enabled(r.Context(), slog.LevelDebug) || seen.status >= 400 && r.URL.Path != leadsPath { // which is asked all the time
		s.log.Log(r.Context(), levelOf(seen.status), "asked", "method", r.Method, "path", r.URL.Path, "status", seen.status, "took", took.String(), "from", remote(r))
	}
}

func levelOf(status int) slog.Level {
	switch {
	case status >= 500:
		return slog.LevelError
	case status >= 400:
		return slog.LevelWarn
	}
	return slog.LevelDebug
}

// recorder remembers the status of an answer.
type recorder struct {
	http.ResponseWriter
	status int
}

func (r *recorder) WriteHeader(status int) {
	r.status = status
	r.ResponseWriter.WriteHeader(status)
}

// Unwrap is for http.ResponseController.
func (r *recorder) Unwrap() http.ResponseWriter { return r.ResponseWriter }

// unknown answers what no operation is there for.
func (s *Server) unknown(w http.ResponseWriter, r *http.Request) {
	var allowed []string
	for _, method := range []string{http.MethodGet, http.MethodPost, http.MethodPut, http.MethodDelete} {
		other := r.Clone(r.Context())
		other.Method = method
		if _, pattern := s.mux.Handler(other); pattern != "" {
			allowed = append(allowed, method)
		}
	}
	if len(allowed) > 0 {
		w.Header().Set("Allow", strings.Join(allowed, ", "))
		refuse(w, r, &Problem{Status: http.StatusMethodNotAllowed, Detail: fmt.Sprintf("%s takes %s", r.URL.Path, strings.Join(allowed, " and "))})
		return
	}
	refuse(w, r, errNotFound("there is nothing at "+r.URL.Path+"; /openapi.json tells what there is"))
}

// Problem is what went wrong, as a problem document (RFC 9457).
type Problem struct {
	Type   string `json:"type,omitempty"` // left out: about:blank, the status says all
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail"` // a sentence for a person: what went wrong, what to do
}

// Error implements error.
func (p *Problem) Error() string { return p.Detail }

func errNotFound(detail string) error { return &Problem{Status: http.StatusNotFound, Detail: detail} }
func errInput(detail string) error    { return &Problem{Status: http.StatusBadRequest, Detail: detail} }

// faults are the statuses that stand for the kinds of fault, both ways.
var faults = []struct {
	kind   error
	status int
}{
	{context.DeadlineExceeded, http.StatusGatewayTimeout},
	{fault.ErrNotFound, http.StatusNotFound},
	{fault.ErrForbidden, http.StatusForbidden},
	{fault.ErrUnavailable, http.StatusServiceUnavailable},
	{fault.ErrUnreachable, http.StatusBadGateway},
}

func statusOf(err error) int {
	for _, f := range faults {
		if errors.Is(err, f.kind) {
			return f.status
		}
	}
	return http.StatusConflict
}

// Is tells whether the problem is of a kind of fault, on the other side of the wire too.
func (p *Problem) Is(kind error) bool {
	for _, f := range faults {
		if kind == f.kind {
			return p.Status == f.status
		}
	}
	return false
}

// refuse answers with a problem. What the engine says no to is a conflict with how things stand.
func refuse(w http.ResponseWriter, _ *http.Request, err error) {
	var p *Problem
	switch {
	case errors.As(err, &p):
		own := *p
		p = &own
	default:
		p = &Problem{Status: statusOf(err), Detail: err.Error()}
	}
	p.Title = http.StatusText(p.Status)
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	write(w, p)
}

// write writes a value as JSON in which nothing does harm to what it is shown on.
func write(w io.Writer, value any) {
	text, err := json.Marshal(value)
	if err != nil {
		text, _ = json.Marshal(&Problem{Title: http.StatusText(http.StatusInternalServerError), Status: http.StatusInternalServerError, Detail: err.Error()})
	}
	w.Write(append(say.JSON(text), '\n'))
}

// maxBody bounds what is read of a request.
const maxBody = 1 << 20

// serve makes the handler of an operation.
func (s *Server) serve(op operation) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		who, err := s.who(r)
		if err != nil {
			refuse(w, r, err)
			return
		}
		c := call{Control: s.seenBy(s.serves.Load(), who), who: who, link: r.PathValue("link"), sink: r.PathValue("sink"), section: r.PathValue("section"), name: r.PathValue("name"), tokens: s.tokens, berth: berth.ID{Workload: r.PathValue("workload"), Site: r.PathValue("site")}}
		query := r.URL.Query()
		c.query = query.Get
		if err := known(op, query); err != nil {
			refuse(w, r, err)
			return
		}
		needs, at := []policy.Scope{op.scope}, c.berth
		if op.in != nil {
			if c.in, err = read(r, op.in); err != nil {
				refuse(w, r, err)
				return
			}
			if o, ok := c.in.(*berth.Order); ok {
				needs, at = o.Needs(), o.Berth
			}
		}
		if err := allowed(c.Policy(r.Context()), who, at, needs); err != nil {
			c.Refused(r.Context(), who, asked(r, c.in))
			refuse(w, r, err)
			return
		}
		answer, err := op.do(r.Context(), c)
		if err != nil {
			refuse(w, r, err)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		write(w, answer)
	}
}

// asked is what a request asks for, in a few words.
func asked(r *http.Request, in any) string {
	if o, ok := in.(*berth.Order); ok {
		return fmt.Sprintf("%s of %s", o.Verb, o.Berth)
	}
	return r.Method + " " + r.URL.Path
}

// known refuses parameters that an operation does not have, which are mostly misspelt.
func known(op operation, query url.Values) error {
	for name := range query {
		if !slices.ContainsFunc(op.query, func(p parameter) bool { return p.name == name }) {
			return errInput(fmt.Sprintf("%s has no parameter %q", op.path, name))
		}
	}
	return nil
}

// read reads a body into a new value of the type of like.
func read(r *http.Request, like any) (any, error) {
	into := reflect.New(reflect.TypeOf(like)).Interface()
	decoder := json.NewDecoder(http.MaxBytesReader(nil, r.Body, maxBody))
	decoder.DisallowUnknownFields()
	var large *http.MaxBytesError
	switch err := decoder.Decode(into); {
	case errors.Is(err, io.EOF):
		return into, nil // nothing is asked for in particular
	case errors.As(err, &large):
		return nil, &Problem{Status: http.StatusRequestEntityTooLarge, Detail: "the body is larger than 1 MB"}
	case err != nil:
		return nil, errInput("the body is not understood: " + strings.TrimPrefix(err.Error(), "json: "))
	}
	return into, nil
}

// allowed tells why somebody may not ask for something; nil where they may. What is about no berth needs a place somewhere where it is
// allowed; what is done of it is asked for again where it is done.
func allowed(p policy.Policy, who policy.Actor, at berth.ID, needs []policy.Scope) error {
	if at.Site != "" {
		return p.May(who, at.Workload, at.Site, needs...)
	}
	for _, scope := range needs {
		if err := p.Somewhere(who, scope); err != nil {
			return err
		}
	}
	return nil
}

// looking lets a handler be called by those who may look, with what they may look at.
func (s *Server) looking(handler func(http.ResponseWriter, *http.Request, *served)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		who, err := s.who(r)
		of := s.serves.Load()
		if err == nil {
			if err = of.Policy(r.Context()).Somewhere(who, policy.Look); err != nil {
				of.Refused(r.Context(), who, asked(r, nil))
			}
		}
		if err != nil {
			refuse(w, r, err)
			return
		}
		handler(w, r, &served{s.seenBy(of, who), of.over})
	}
}

// seen is a Control as somebody may see it.
type seen struct {
	control.Control
	Settler
	of  Control
	who policy.Actor
}

// mostViews is of how many who ask it is remembered what they may see, which takes a while to work out.
const mostViews = 32

// seenBy gives what is served as somebody may see it.
func (s *Server) seenBy(of *served, who policy.Actor) Control {
	key, err := json.Marshal(who)
	if err != nil {
		return seen{control.For(of, who), of, of, who}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if view, ok := s.views[string(key)].(seen); ok && view.of == Control(of) {
		return view
	}
	if len(s.views) >= mostViews {
		s.views = map[string]Control{}
	}
	view := seen{control.For(of, who), of, of, who}
	s.views[string(key)] = view
	return view
}

// Measured implements Control.
func (s seen) Measured(ctx context.Context) []status.Measured {
	p := s.Policy(ctx)
	return slices.DeleteFunc(s.of.Measured(ctx), func(m status.Measured) bool {
		return p.May(s.who, m.Workload, m.Site, policy.Look) != nil
	})
}

// Refused implements Control.
func (s seen) Refused(ctx context.Context, who policy.Actor, what string) {
	s.of.Refused(ctx, who, what)
}

// healthz tells whether the engine works: its clock is fresh and its ledger can be written.
func (s *Server) healthz(w http.ResponseWriter, r *http.Request) {
	snapshot := s.serves.Load().Snapshot(r.Context())
	for _, p := range snapshot.Problems {
		if p.About == "ledger" {
			refuse(w, r, &Problem{Status: http.StatusServiceUnavailable, Detail: p.Text})
			return
		}
	}
	w.Header().Set("Content-Type", "application/json")
	write(w, Answer{"ok"})
}

// loginPath tells whom one logs in with.
const loginPath = "/v1/login"

// leadsPath is asked by whoever chooses one of several servers.
const leadsPath = "/leads"

// leads tells whether this server leads, for whoever chooses one of several.
func (s *Server) leads(w http.ResponseWriter, r *http.Request) {
	if leader := s.serves.Load().Snapshot(r.Context()).Leader; leader != nil && !leader.Here {
		refuse(w, r, &Problem{Status: http.StatusServiceUnavailable, Detail: cmp.Or(leader.Name, "another server") + " leads, and this one stands by"})
		return
	}
	w.Header().Set("Content-Type", "application/json")
	write(w, Answer{"leads"})
}

// Streams send a comment every so often, so that both sides know that the other is there.
const (
	heartbeat  = 10 * time.Second
	streamRest = 250 * time.Millisecond // between two events at least
)

// stream sends events (text/event-stream, of the HTML standard) as next gives them until either side ends it.
func (s *Server) stream(w http.ResponseWriter, r *http.Request, of *served, next func() (id, name string, data any, err error)) {
	changed := of.Changed(r.Context())
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	out := http.NewResponseController(w)
	alive := time.NewTicker(heartbeat)
	defer alive.Stop()
	for {
		for {
			if s.ends(r, of) {
				return
			}
			id, name, data, err := next()
			if err != nil {
				s.log.Warn("a stream ends", "path", r.URL.Path, "error", err)
				return
			}
			if name == "" {
				break
			}
			text, err := json.Marshal(data)
			if err != nil {
				s.log.Error("a stream ends", "path", r.URL.Path, "error", err)
				return
			}
			text = say.JSON(text)
			if _, err := fmt.Fprintf(w, "id: %s\nevent: %s\ndata: %s\n\n", id, name, text); err != nil {
				return
			}
		}
		if out.Flush() != nil {
			return
		}
		rest := time.After(streamRest)
		select {
		case <-r.Context().Done():
			return
		case <-s.stopped:
			return
		case <-of.over:
			return
		case <-rest:
		}
		select {
		case <-r.Context().Done():
			return
		case <-s.stopped:
			return
		case <-of.over:
			return
		case <-changed:
		case <-alive.C:
			if _, err := io.WriteString(w, ": still here\n\n"); err != nil {
				return
			}
		}
	}
}

// ends tells whether either side of a stream wants no more.
func (s *Server) ends(r *http.Request, of *served) bool {
	select {
	case <-r.Context().Done():
		return true
	case <-s.stopped:
		return true
	case <-of.over:
		return true
	default:
		return false
	}
}

// events sends a snapshot whenever there is a new one; where changes are asked for, what changed since the one before.
func (s *Server) events(w http.ResponseWriter, r *http.Request, of *served) {
	var last uint64
	var told teller
	first, changes := true, r.URL.Query().Get("changes") == "true"
	s.stream(w, r, of, func() (id, name string, data any, err error) {
		now := of.Snapshot(r.Context())
		if !first && now.Seq == last {
			return "", "", nil, nil
		}
		switch {
		case !changes:
			name, data = "snapshot", now
		case first:
			name, data, err = "snapshot", now, told.begin(now)
		default:
			name = "change"
			data, err = told.next(now)
		}
		last, first = now.Seq, false
		return strconv.FormatUint(now.Seq, 10), name, data, err
	})
}

// follow sends facts as they come on record, from the one after Last-Event-ID, or after the parameter of that name.
func (s *Server) follow(w http.ResponseWriter, r *http.Request, of *served) {
	c := call{Control: of, query: r.URL.Query().Get}
	q, err := c.ledgerQuery()
	if err != nil {
		refuse(w, r, err)
		return
	}
	if last, err := strconv.ParseInt(r.Header.Get("Last-Event-ID"), 10, 64); err == nil {
		q.After, q.Newest = last, 0
	}
	var waiting []ledger.Fact
	s.stream(w, r, of, func() (string, string, any, error) {
		if len(waiting) == 0 {
			facts, err := of.Facts(r.Context(), q)
			if err != nil || len(facts) == 0 {
				return "", "", nil, err
			}
			waiting, q.After, q.Newest = facts, facts[len(facts)-1].Seq, 0
		}
		f := waiting[0]
		waiting = waiting[1:]
		return strconv.FormatInt(f.Seq, 10), "fact", f, nil
	})
}

// remote is where a request comes from.
func remote(r *http.Request) string {
	if host, _, err := net.SplitHostPort(r.RemoteAddr); err == nil {
		return host
	}
	return "the socket"
}
