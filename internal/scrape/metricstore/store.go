// Package metricstore asks a metrics store what it knows of a workload's instances, over the HTTP query API that several
// stores share. It gives pages as if the instances had been asked themselves; what they mean is worked out by package signal.
package metricstore

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/prometheus/client_golang/api"
	promql "github.com/prometheus/client_golang/api/prometheus/v1"
	"github.com/prometheus/common/model"

	"aditus/internal/core/fault"
	"aditus/internal/dial"
)

const (
	timeout    = 3 * time.Second // how long an answer may take
	mostAnswer = 16 << 20        // the largest one that is read
	atOnce     = 8               // questions under way at the same time
)

// Access is where a store is and what lets in there.
type Access struct {
	URL      string
	CA       string // a file of further certificates to trust
	User     string
	Password string // or a token, where there is no user
}

// Store is a metrics store. Make it with New; it is safe for concurrent use.
type Store struct {
	api    promql.API
	client *http.Client
	turn   chan struct{}
}

// New makes a Store.
func New(access Access) (*Store, error) {
	client, err := clientOf(access, true)
	if err != nil {
		return nil, err
	}
	asked, err := api.NewClient(api.Config{Address: access.URL, Client: client})
	if err != nil {
		return nil, err
	}
	return &Store{promql.NewAPI(asked), client, make(chan struct{}, atOnce)}, nil
}

// clientOf makes who asks there, a query API or a page. Nobody is followed elsewhere.
func clientOf(access Access, queries bool) (*http.Client, error) {
	way, err := dial.Outside(access.CA)
	if err != nil {
		return nil, err
	}
	return &http.Client{Transport: asking{way, access, queries}, CheckRedirect: dial.Stay}, nil
}

// Close lets go of the open connections.
func (s *Store) Close() { s.client.CloseIdleConnections() }

// asking shows what lets in, and reads no more of an answer than it may be.
type asking struct {
	way     *http.Transport
	access  Access
	queries bool
}

// CloseIdleConnections lets go of the open connections.
func (a asking) CloseIdleConnections() { a.way.CloseIdleConnections() }

// RoundTrip implements http.RoundTripper.
func (a asking) RoundTrip(r *http.Request) (*http.Response, error) {
	switch {
	case a.access.User != "":
		r = r.Clone(r.Context())
		r.SetBasicAuth(a.access.User, a.access.Password)
	case a.access.Password != "":
		r = r.Clone(r.Context())
		r.Header.Set("Authorization", "Bearer "+strings.TrimSpace(a.access.Password))
	}
	answer, err := a.way.RoundTrip(r)
	if err != nil {
		return nil, err
	}
	switch code := answer.StatusCode; {
	case r.Method == http.MethodPost && (code == http.StatusMethodNotAllowed || code == http.StatusNotImplemented): // it is asked by GET then
	case code == http.StatusUnauthorized || code == http.StatusForbidden:
		err = fmt.Errorf("status %d: it takes other credentials; give them with: aditus link credential NAME, and name that in credential of the metrics store", code)
	case a.queries && (code == http.StatusNotFound || code == http.StatusMethodNotAllowed):
		err = fmt.Errorf("status %d: there is no query API; url is where it begins, without /api/v1", code)
	case code/100 == 5 && code != http.StatusServiceUnavailable:
		err = fmt.Errorf("status %d", code)
	case code == http.StatusServiceUnavailable:
		err = fmt.Errorf("status %d: it has no room, or no time, for more", code)
	case code/100 == 3:
		err = fmt.Errorf("status %d: it sends us elsewhere, which is not followed: write its new address into the settings", code)
	}
	if err != nil {
		answer.Body.Close()
		return nil, refusal{err}
	}
	answer.Body = &bounded{answer.Body, mostAnswer}
	return answer, nil
}

// refusal is an answer that says no.
type refusal struct{ error }

// errTooLarge means that an answer is larger than may be.
var errTooLarge = fmt.Errorf("its answer is larger than %d MB: select less by labels", mostAnswer>>20)

// bounded is an answer that may be so large.
type bounded struct {
	io.ReadCloser
	left int
}

func (b *bounded) Read(p []byte) (int, error) {
	if b.left < 0 {
		return 0, errTooLarge
	}
	n, err := b.ReadCloser.Read(p)
	if b.left -= n; b.left < 0 {
		return 0, errTooLarge
	}
	return n, err
}

// ask asks a query as of a moment.
func (s *Store) ask(ctx context.Context, query string, at time.Time) (model.Value, error) {
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	select {
	case s.turn <- struct{}{}:
		defer func() { <-s.turn }()
	case <-ctx.Done():
		return nil, fmt.Errorf("no answer within %s: it has much to answer", timeout)
	}
	value, warnings, _, err := s.api.Query(ctx, query, at, promql.WithTimeout(timeout))
	if err != nil {
		return nil, errors.New(why(err))
	}
	for _, w := range warnings {
		if !strings.HasPrefix(w, "PromQL ") { // what it thinks of the query takes nothing from the answer
			return nil, fmt.Errorf("it answers in part only: %s", short(w))
		}
	}
	return value, nil
}

// why tells why a store does not answer, as one would say it.
func why(err error) string {
	var refused refusal
	var said *promql.Error
	var nobody *net.OpError
	var at *url.Error
	switch {
	case errors.As(err, &refused):
		return refused.Error()
	case errors.Is(err, errTooLarge):
		return errTooLarge.Error()
	case errors.As(err, &said) && said.Type == promql.ErrBadData:
		return "it does not take the query: " + short(said.Msg)
	case errors.As(err, &said) && said.Type == promql.ErrBadResponse:
		return "what answers there is no metrics store: " + short(said.Msg)
	case errors.As(err, &said):
		return short(said.Msg)
	case errors.Is(err, context.DeadlineExceeded):
		return fmt.Sprintf("no answer within %s", timeout)
	case errors.As(err, &nobody), errors.As(err, &at):
		return dial.Why(fault.Cause(err), timeout)
	}
	return short(err.Error())
}

// short is what others say, in as much as a line has room for.
func short(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	if runes := []rune(text); len(runes) > 200 {
		return string(runes[:200]) + "…"
	}
	return text
}
