// Package scrape fetches and reads what instances measure of themselves. What it means is worked out by package signal.
package scrape

import (
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/signal"
	"aditus/internal/dial"
)

const (
	maxPage     = 4 << 20         // the largest metrics page that is read
	timeout     = 2 * time.Second // how long a page may take
	mostOnwards = 3               // how often a page may be said to be elsewhere
)

// asks is what a page is asked for with.
var asks = http.Header{"Accept": {Accepts}, "Accept-Encoding": {"gzip"}}

// Scraper fetches metrics pages. Make it with New; it is safe for concurrent use.
type Scraper struct {
	client *dial.Client
	way    http.RoundTripper // nil for the network
	secure *secure
}

// New makes a Scraper that keeps connections open between two pages.
func New() *Scraper { return &Scraper{dial.New(), nil, &secure{clients: map[secureKey]*dial.Client{}}} }

// Through is a Scraper that asks by another way than the network; nil for the network.
func (s *Scraper) Through(way http.RoundTripper) *Scraper {
	return &Scraper{s.client.Through(way), way, s.secure}
}

// Close lets go of the open connections.
func (s *Scraper) Close() {
	s.client.Close()
	s.secure.close()
}

// Fetch fetches and reads an instance's metrics page, with the values of the secret that lets in. What the page itself says was measured before a
// moment is not taken.
func (s *Scraper) Fetch(ctx context.Context, host string, ports map[string]int, metrics declare.Metrics, access map[string]string, since time.Time) (signal.Page, error) {
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	client, headers, err := s.asked(metrics, access)
	var page signal.Page
	if err == nil {
		page, err = fetch(ctx, client, headers, host, ports[metrics.Port], metrics.Path, since)
	}
	if err != nil {
		return nil, fmt.Errorf("GET %s: %w", metrics.Path, err)
	}
	return page, nil
}

func fetch(ctx context.Context, client *dial.Client, headers http.Header, host string, port int, path string, since time.Time) (signal.Page, error) {
	response, err := get(ctx, client, headers, host, port, path)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	switch response.StatusCode {
	case http.StatusOK:
	case http.StatusUnauthorized, http.StatusForbidden:
		return nil, fmt.Errorf("status %d: it takes a token, or a user with a password, in the secret that metrics names", response.StatusCode)
	default:
		return nil, fmt.Errorf("status %d", response.StatusCode)
	}
	text, err := read(response)
	if err != nil {
		return nil, err
	}
	return Read(text, response.Header.Get("Content-Type"), since)
}

// errElsewhere means that an instance says that its page is at somebody else's, whom nobody asked to be looked at.
var errElsewhere = errors.New("the page is said to be on another host or port, where it is not looked for: declare the path that has it")

// get asks for a page, also where it is said to be under another path of the same instance.
func get(ctx context.Context, client *dial.Client, headers http.Header, host string, port int, path string) (*http.Response, error) {
	at := &url.URL{Scheme: client.Scheme(), Host: dial.Address(host, port)}
	for range mostOnwards {
		response, err := client.Get(ctx, host, port, path, headers)
		if err != nil {
			return nil, errors.New(why(err))
		}
		if response.StatusCode < 300 || response.StatusCode > 399 || response.Header.Get("Location") == "" {
			return response, nil
		}
		response.Body.Close()
		here, err := url.Parse(path)
		if err != nil {
			return nil, err
		}
		to, err := at.ResolveReference(here).Parse(response.Header.Get("Location"))
		if err != nil || to.Host != at.Host || to.Scheme != at.Scheme {
			return nil, errElsewhere
		}
		path = to.RequestURI()
	}
	return nil, fmt.Errorf("the page is said to be elsewhere more than %d times", mostOnwards)
}

// read reads a page, unpacked where it is packed, and no more of it than a page may be.
func read(response *http.Response) ([]byte, error) {
	var body io.Reader = response.Body
	switch encoding := response.Header.Get("Content-Encoding"); encoding {
	case "", "identity":
	case "gzip":
		unpacked, err := gzip.NewReader(body)
		if err != nil {
			return nil, fmt.Errorf("it is not packed as it says: %w", err)
		}
		body = unpacked
	default:
		return nil, fmt.Errorf("it is packed as %q, which was not asked for", encoding)
	}
	text, err := io.ReadAll(io.LimitReader(body, maxPage+1))
	if len(text) > maxPage {
		return nil, fmt.Errorf("the page is larger than %d bytes", maxPage)
	}
	return text, err
}
