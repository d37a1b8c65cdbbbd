// Package scrape fetches and reads what instances measure of themselves. What it means is worked out by package signal.
package scrape

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/signal"
	"aditus/internal/dial"
)

const (
	maxPage   = 4 << 20         // the largest metrics page that is read
	timeout   = 2 * time.Second // how long a page may take
	mediaType = "application/openmetrics-text; version=1.0.0, text/plain;q=0.5"
)

// Scraper fetches metrics pages. Make it with New; it is safe for concurrent use.
type Scraper struct{ client *dial.Client }

// New makes a Scraper that keeps connections open between two pages.
func New() *Scraper { return &Scraper{dial.New()} }

// Through is a Scraper that asks by another way than the network; nil for the network.
func (s *Scraper) Through(way http.RoundTripper) *Scraper { return &Scraper{s.client.Through(way)} }

// Close lets go of the open connections.
func (s *Scraper) Close() { s.client.Close() }

// Fetch fetches and reads an instance's metrics page.
func (s *Scraper) Fetch(ctx context.Context, host string, ports map[string]int, metrics declare.Metrics) (signal.Page, error) {
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	response, err := s.client.Get(ctx, host, ports[metrics.Port], metrics.Path, mediaType)
	if err != nil {
		return nil, fmt.Errorf("GET %s: %s", metrics.Path, dial.Why(err, timeout))
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("GET %s: status %d", metrics.Path, response.StatusCode)
	}
	body := &io.LimitedReader{R: response.Body, N: maxPage + 1}
	page, err := ReadMetrics(body)
	if body.N <= 0 {
		return nil, fmt.Errorf("GET %s: the page is larger than %d bytes", metrics.Path, maxPage)
	}
	if err != nil {
		return nil, fmt.Errorf("GET %s: %w", metrics.Path, err)
	}
	return page, nil
}
