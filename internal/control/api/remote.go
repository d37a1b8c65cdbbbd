package api

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"aditus/internal/config"
	"aditus/internal/control"
	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/policy"
	"aditus/internal/dial"
	"aditus/internal/ledger"
	"aditus/internal/socket"
	"aditus/internal/source"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/view"
)

// Remote is a Control over a running Aditus elsewhere. Make it with Dial or DialURL; Follow keeps its snapshot new.
type Remote struct {
	base    string
	token   string
	shown   func(context.Context) (string, error) // instead of token; nil for none
	client  *http.Client
	changed chan struct{}

	mu       sync.Mutex
	snapshot status.Snapshot
	lost     time.Time
	why      string
}

var _ control.Control = (*Remote)(nil)

// ErrLost means that the server does not answer.
var ErrLost = errors.New("the running Aditus does not answer")

// patience is how long an answer may take where nobody says otherwise.
const patience = 30 * time.Second

// starting is how long an Aditus that has its data folder may take until it answers.
const starting = 2 * time.Second

// Dial gives the Aditus that runs on a data folder.
func Dial(folder string) *Remote {
	return newRemote("http://aditus", "", socket.Transport(filepath.Join(folder, SocketFile), starting))
}

// Way is what is shown to a server far away: a token, what a login gives, or a certificate.
type Way struct {
	Token     string
	Shown     func(context.Context) (string, error) // instead of Token; nil for none
	CA        string                                // a file of certificates to trust beside the system's
	Cert, Key string                                // files of a certificate to show
}

// DialURL gives the Aditus at an address, with a token. ca is a file of certificates to trust beside the system's; empty
// for none.
func DialURL(address, token, ca string) (*Remote, error) {
	return DialWay(address, Way{Token: token, CA: ca})
}

// DialWay gives the Aditus at an address.
func DialWay(address string, w Way) (*Remote, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q is no server: write it like https://aditus.skerry.example:8791", address)
	}
	if u.Scheme == "http" && !dial.Loopback(u.Hostname()) {
		return nil, fmt.Errorf("the token would go to %s in plain text: write https", u.Host)
	}
	transport := &http.Transport{Proxy: http.ProxyFromEnvironment}
	transport.TLSClientConfig = &tls.Config{MinVersion: tls.VersionTLS12}
	if w.CA != "" {
		if transport.TLSClientConfig.RootCAs, err = dial.Trusted(w.CA); err != nil {
			return nil, err
		}
	}
	if w.Cert != "" || w.Key != "" {
		pair, err := tls.LoadX509KeyPair(w.Cert, w.Key)
		if err != nil {
			return nil, fmt.Errorf("read the certificate to show: %w", err)
		}
		transport.TLSClientConfig.Certificates = []tls.Certificate{pair}
	}
	remote := newRemote(strings.TrimSuffix(u.String(), "/"), w.Token, transport)
	remote.shown = w.Shown
	return remote, nil
}

// Provider tells whom one logs in with at the server.
func (r *Remote) Provider(ctx context.Context) (p config.Login, err error) {
	err = r.ask(ctx, http.MethodGet, loginPath, nil, nil, &p)
	return p, err
}

func newRemote(base, token string, transport *http.Transport) *Remote {
	return &Remote{base: base, token: token, client: &http.Client{Transport: transport}, changed: make(chan struct{}, 1)}
}

// ask asks the server and reads the answer into a value.
func (r *Remote) ask(ctx context.Context, method, path string, query url.Values, body, into any) error {
	if _, limited := ctx.Deadline(); !limited {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, patience)
		defer cancel()
	}
	response, err := r.open(ctx, method, path, query, body, nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if err := json.NewDecoder(response.Body).Decode(into); err != nil {
		return fmt.Errorf("%s answers something else than was asked for: %w", r.base, err)
	}
	return nil
}

// open asks the server and gives its answer where it is no problem.
func (r *Remote) open(ctx context.Context, method, path string, query url.Values, body any, header http.Header) (*http.Response, error) {
	var text []byte
	if body != nil {
		var err error
		if text, err = json.Marshal(body); err != nil {
			return nil, err
		}
	}
	if len(query) > 0 {
		path += "?" + query.Encode()
	}
	request, err := http.NewRequestWithContext(ctx, method, r.base+path, bytes.NewReader(text))
	if err != nil {
		return nil, err
	}
	if header != nil {
		request.Header = header
	}
	token := r.token
	if r.shown != nil && path != loginPath {
		if token, err = r.shown(ctx); err != nil {
			return nil, err
		}
	}
	if token != "" {
		request.Header.Set("Authorization", "Bearer "+token)
	}
	response, err := r.client.Do(request)
	if err != nil {
		if ctx.Err() != nil {
			return nil, fmt.Errorf("no answer yet, it may still be done: %w", ctx.Err())
		}
		return nil, fmt.Errorf("%w: %v", ErrLost, errors.Unwrap(err))
	}
	if response.StatusCode < 300 {
		return response, nil
	}
	defer response.Body.Close()
	var p Problem
	if err := json.NewDecoder(io.LimitReader(response.Body, maxBody)).Decode(&p); err != nil || p.Detail == "" {
		return nil, fmt.Errorf("%s answers with status %d, which is no Aditus' way", r.base, response.StatusCode)
	}
	p.Status = response.StatusCode
	return nil, &p
}

func pathOf(id berth.ID, what string) string {
	return "/v1/berths/" + url.PathEscape(id.Workload) + "/" + url.PathEscape(id.Site) + what
}

// Renew takes a snapshot now.
func (r *Remote) Renew(ctx context.Context) (status.Snapshot, error) {
	var s status.Snapshot
	err := r.ask(ctx, http.MethodGet, "/v1/snapshot", nil, nil, &s)
	if err == nil {
		r.take(s)
	}
	return s, err
}

func (r *Remote) take(s status.Snapshot) {
	r.mu.Lock()
	r.snapshot, r.lost, r.why = s, time.Time{}, ""
	r.mu.Unlock()
	r.signal()
}

func (r *Remote) signal() {
	select {
	case r.changed <- struct{}{}:
	default:
	}
}

// How long it waits before it connects again, longer each time.
const (
	firstAgain   = 500 * time.Millisecond
	longestAgain = 5 * time.Second
	silentFor    = 3 * heartbeat // and how long a server may say nothing before it counts as lost
)

// Follow keeps the snapshot new until ctx ends. Where the server is lost it says so, keeps the last snapshot, and
// connects again.
func (r *Remote) Follow(ctx context.Context) {
	wait := firstAgain
	for ctx.Err() == nil {
		var heard hearer
		err := r.stream(ctx, "/v1/events", url.Values{"changes": {"true"}}, nil, func(name string, data []byte) error {
			take := heard.whole
			if name == "change" {
				take = heard.change
			}
			if err := take(data); err != nil {
				return err
			}
			wait = firstAgain
			r.take(heard.latest)
			return nil
		})
		if ctx.Err() != nil {
			return
		}
		r.mu.Lock()
		if r.lost.IsZero() {
			r.lost = time.Now()
		}
		r.why = err.Error()
		r.mu.Unlock()
		r.signal()
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
		wait = min(2*wait, longestAgain)
	}
}

// stream reads server-sent events until the server or ctx ends them; it never gives nil.
func (r *Remote) stream(ctx context.Context, path string, query url.Values, header http.Header, do func(name string, data []byte) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	quiet := time.AfterFunc(silentFor, cancel)
	defer quiet.Stop()
	response, err := r.open(ctx, http.MethodGet, path, query, nil, header)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	in := bufio.NewReader(response.Body)
	var event string
	var data []byte
	for {
		line, err := in.ReadBytes('\n')
		if err != nil {
			return fmt.Errorf("%w: the connection ended", ErrLost)
		}
		quiet.Reset(silentFor)
		line = bytes.TrimRight(line, "\r\n")
		switch name, value, _ := bytes.Cut(line, []byte(": ")); {
		case len(line) == 0 && data != nil:
			if err := do(event, data); err != nil {
				return err
			}
			data = nil
		case string(name) == "event":
			event = string(value)
		case string(name) == "data":
			data = append(data, value...)
		}
	}
}

// FollowFacts calls do with each fact from the first after a number on, until ctx ends, over lost connections too.
func (r *Remote) FollowFacts(ctx context.Context, q ledger.Query, do func(ledger.Fact) error) error {
	last := q.After
	for ctx.Err() == nil {
		header := http.Header{}
		if last > 0 {
			header.Set("Last-Event-ID", strconv.FormatInt(last, 10))
		}
		var stop error
		err := r.stream(ctx, "/v1/ledger/events", queryOf(q), header, func(_ string, data []byte) error {
			var f ledger.Fact
			if err := json.Unmarshal(data, &f); err != nil {
				return err
			}
			last = f.Seq
			stop = do(f)
			return stop
		})
		var p *Problem
		if stop != nil || errors.As(err, &p) {
			return err
		}
		select {
		case <-ctx.Done():
		case <-time.After(firstAgain):
		}
	}
	return ctx.Err()
}

func queryOf(q ledger.Query) url.Values {
	values := url.Values{}
	for name, value := range map[string]string{"workload": q.Berth.Workload, "site": q.Berth.Site} {
		if value != "" {
			values.Set(name, value)
		}
	}
	for name, n := range map[string]int64{"rollout": q.Rollout, "after": q.After, "newest": int64(q.Newest)} {
		if n > 0 {
			values.Set(name, strconv.FormatInt(n, 10))
		}
	}
	if !q.Since.IsZero() {
		values.Set("since", q.Since.Format(time.RFC3339Nano))
	}
	return values
}

// Snapshot implements control.Reader: the last one that came.
func (r *Remote) Snapshot(context.Context) status.Snapshot {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := r.snapshot
	if !r.lost.IsZero() {
		s.Lost = &status.Lost{Since: r.lost, Why: r.why}
	}
	return s
}

// Policy implements control.Reader.
func (r *Remote) Policy(context.Context) policy.Policy {
	r.mu.Lock()
	defer r.mu.Unlock()
	p := r.snapshot.Policy
	p.Sites = r.snapshot.Teams
	return p
}

// Changed implements control.Reader. There is one channel for all who ask.
func (r *Remote) Changed(context.Context) <-chan struct{} { return r.changed }

// Do implements control.Writer.
func (r *Remote) Do(ctx context.Context, _ policy.Actor, o berth.Order) error {
	return r.ask(ctx, http.MethodPost, "/v1/orders", nil, o, &Done{})
}

// LookNow implements control.Writer. Whether it was done shows in the links' times.
func (r *Remote) LookNow(ctx context.Context, _ policy.Actor, links ...string) error {
	return r.ask(ctx, http.MethodPost, "/v1/look", nil, Links{links}, &Done{})
}

// Accept implements control.Writer.
func (r *Remote) Accept(ctx context.Context, _ policy.Actor, link string) error {
	return r.ask(ctx, http.MethodPost, "/v1/links/"+url.PathEscape(link)+"/accept", nil, nil, &Done{})
}

// Watch implements control.Reader.
func (r *Remote) Watch(ctx context.Context, id berth.ID, rollout int64) (w view.Watch, err error) {
	query := url.Values{}
	if rollout != 0 {
		query.Set("rollout", strconv.FormatInt(rollout, 10))
	}
	err = r.ask(ctx, http.MethodGet, pathOf(id, "/watch"), query, nil, &w)
	return w, err
}

// Compare implements control.Reader.
func (r *Remote) Compare(ctx context.Context, id berth.ID, against view.Against) (c view.Comparison, err error) {
	query := url.Values{}
	for name, value := range map[string]string{"with": against.Ref, "site": against.Site, "from": against.From, "to": against.To} {
		if value != "" {
			query.Set(name, value)
		}
	}
	err = r.ask(ctx, http.MethodGet, pathOf(id, "/compare"), query, nil, &c)
	return c, err
}

// Declared implements control.Reader.
func (r *Remote) Declared(ctx context.Context, id berth.ID) (*declare.Desired, error) {
	var desired declare.Desired
	err := r.ask(ctx, http.MethodGet, pathOf(id, "/declared"), nil, nil, &desired)
	return &desired, err
}

// OfferRevert implements control.Writer.
func (r *Remote) OfferRevert(ctx context.Context, _ policy.Actor, id berth.ID) (p source.Proposal, err error) {
	err = r.ask(ctx, http.MethodPost, pathOf(id, "/revert"), nil, Wish{}, &p)
	return p, err
}

// OfferLive implements control.Writer.
func (r *Remote) OfferLive(ctx context.Context, _ policy.Actor, id berth.ID, pointers []string) (p source.Proposal, err error) {
	err = r.ask(ctx, http.MethodPost, pathOf(id, "/live"), nil, Fields{pointers}, &p)
	return p, err
}

// Bench implements control.Reader.
func (r *Remote) Bench(ctx context.Context, id berth.ID, guard string) (b view.Bench, err error) {
	query := url.Values{}
	if guard != "" {
		query.Set("guard", guard)
	}
	err = r.ask(ctx, http.MethodGet, pathOf(id, "/bench"), query, nil, &b)
	return b, err
}

// OfferLimit implements control.Writer.
func (r *Remote) OfferLimit(ctx context.Context, _ policy.Actor, b view.Bench, limit float64) (p source.Proposal, err error) {
	err = r.ask(ctx, http.MethodPost, pathOf(b.Berth, "/limit"), nil, Wish{Guard: b.Rule.Name, Limit: limit}, &p)
	return p, err
}

// Log implements control.Reader.
func (r *Remote) Log(ctx context.Context, id berth.ID, instance string, since time.Time, most int) ([]target.LogLine, error) {
	query := url.Values{"instance": {instance}, "most": {strconv.Itoa(min(most, mostLines))}}
	if !since.IsZero() {
		query.Set("since", since.UTC().Format(time.RFC3339Nano))
	}
	var lines Lines
	err := r.ask(ctx, http.MethodGet, pathOf(id, "/log"), query, nil, &lines)
	return lines.Lines, err
}

// Course implements control.Reader.
func (r *Remote) Course(ctx context.Context, workload, ref string) (c status.Course, err error) {
	query := url.Values{}
	if ref != "" {
		query.Set("with", ref)
	}
	err = r.ask(ctx, http.MethodGet, "/v1/workloads/"+url.PathEscape(workload)+"/course", query, nil, &c)
	return c, err
}

// Sites implements control.Reader.
func (r *Remote) Sites(ctx context.Context) ([]status.Site, error) {
	var all Sites
	err := r.ask(ctx, http.MethodGet, "/v1/sites", nil, nil, &all)
	return all.Sites, err
}

// Strays implements control.Reader.
func (r *Remote) Strays(ctx context.Context, site string) ([]status.Stray, error) {
	var all Strays
	err := r.ask(ctx, http.MethodGet, "/v1/sites/"+url.PathEscape(site)+"/strays", nil, nil, &all)
	return all.Strays, err
}

// TakeOver implements control.Writer.
func (r *Remote) TakeOver(ctx context.Context, _ policy.Actor, what status.TakeOver) (p source.Proposal, err error) {
	err = r.ask(ctx, http.MethodPost, "/v1/sites/"+url.PathEscape(what.Site)+"/take-over", nil, what, &p)
	return p, err
}

// Calendar implements control.Reader.
func (r *Remote) Calendar(ctx context.Context, from, until time.Time) (c status.Calendar, err error) {
	query := url.Values{"from": {from.UTC().Format(time.RFC3339Nano)}, "until": {until.UTC().Format(time.RFC3339Nano)}}
	err = r.ask(ctx, http.MethodGet, "/v1/calendar", query, nil, &c)
	return c, err
}

// Review implements control.Reader.
func (r *Remote) Review(ctx context.Context, ref string) (told status.Review, err error) {
	err = r.ask(ctx, http.MethodGet, "/v1/review", url.Values{"with": {ref}}, nil, &told)
	return told, err
}

// KeepReview implements control.Writer.
func (r *Remote) KeepReview(ctx context.Context, _ policy.Actor, ref string) (told status.Review, err error) {
	err = r.ask(ctx, http.MethodPost, "/v1/review", nil, Ref{ref}, &told)
	return told, err
}

// Tree implements control.Reader.
func (r *Remote) Tree(ctx context.Context, id berth.ID) ([]status.Node, error) {
	var t Tree
	err := r.ask(ctx, http.MethodGet, pathOf(id, "/tree"), nil, nil, &t)
	return t.Nodes, err
}

// Sheet implements control.Reader.
func (r *Remote) Sheet(ctx context.Context, id berth.ID, node string) (s status.Sheet, err error) {
	err = r.ask(ctx, http.MethodGet, pathOf(id, "/sheet"), url.Values{"node": {node}}, nil, &s)
	return s, err
}

// TestSink implements control.Writer.
func (r *Remote) TestSink(ctx context.Context, _ policy.Actor, sink string) error {
	return r.ask(ctx, http.MethodPost, "/v1/sinks/"+url.PathEscape(sink)+"/test", nil, nil, &Done{})
}

// Try implements control.Writer.
func (r *Remote) Try(ctx context.Context, _ policy.Actor, link string) (string, error) {
	var a Answer
	err := r.ask(ctx, http.MethodPost, "/v1/links/"+url.PathEscape(link)+"/try", nil, nil, &a)
	return a.Text, err
}

// SetEvery implements control.Writer.
func (r *Remote) SetEvery(ctx context.Context, _ policy.Actor, link string, every time.Duration) error {
	return r.ask(ctx, http.MethodPut, "/v1/links/"+url.PathEscape(link)+"/every", nil, Every{every.String()}, &Done{})
}

// Facts implements control.Reader.
func (r *Remote) Facts(ctx context.Context, q ledger.Query) (all []ledger.Fact, err error) {
	get := func(q ledger.Query) ([]ledger.Fact, error) {
		var page Facts
		err := r.ask(ctx, http.MethodGet, "/v1/ledger", queryOf(q), nil, &page)
		return page.Facts, err
	}
	if q.Most > 0 {
		all, err = get(q)
		return all[:min(len(all), q.Most)], err
	}
	err = ledger.Page(q, get, func(f ledger.Fact) error {
		all = append(all, f)
		return nil
	})
	return all, err
}
