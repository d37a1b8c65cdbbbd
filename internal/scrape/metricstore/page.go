package metricstore

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"sync"
	"time"

	"aditus/internal/core/signal"
	"aditus/internal/scrape"
)

// Page is a metrics page that tells of many instances, such as a collector's. Make it with NewPage; it is safe for concurrent use.
type Page struct {
	client *http.Client
	url    string

	mu   sync.Mutex // held while it is fetched, so that many ask once
	page signal.Page
	err  error
	at   time.Time // when it was fetched last, by this machine's clock
	asOf time.Time // by that of who asked
}

// freshFor is how long a page that was fetched is taken for what it is now.
const freshFor = time.Second

// NewPage makes a Page.
func NewPage(access Access) (*Page, error) {
	client, err := clientOf(access, false)
	if err != nil {
		return nil, err
	}
	client.Timeout = timeout
	return &Page{client: client, url: access.URL}, nil
}

// Close lets go of the open connections.
func (p *Page) Close() { p.client.CloseIdleConnections() }

// Read gives what the page tells of those whom the values of a label tell of.
func (p *Page) Read(ctx context.Context, source signal.Source, whose []One, at time.Time, within time.Duration) ([]Shown, error) {
	if source.Kind == signal.Query {
		return nil, errors.New("a page takes no queries: select by metric and labels")
	}
	names, err := Names(whose)
	if err != nil {
		return nil, err
	}
	all, asOf, err := p.fetched(ctx, at, within)
	if err != nil {
		return nil, err
	}
	pages := map[string]signal.Page{}
	for _, one := range whose {
		pages[one.Name] = signal.Page{}
	}
	for _, series := range source.Metrics() {
		metrics := []string{series.Metric}
		if source.Histogram() {
			metrics = []string{series.Metric + "_bucket", series.Metric + "_sum", series.Metric + "_count"}
		}
		for _, metric := range metrics {
			for _, sample := range all[metric] {
				if sample.Unread != "" { // of anybody
					for _, page := range pages {
						page[metric] = append(page[metric], sample)
					}
				} else if page := pages[names[sample.Labels[source.Cohort.Label]]]; page != nil {
					page[metric] = append(page[metric], sample)
				}
			}
		}
	}
	var shown []Shown
	for _, one := range whose {
		is := Shown{Of: one.Name, Page: pages[one.Name], Time: asOf}
		if len(is.Page) == 0 {
			is = Shown{Of: one.Name, Unread: Missing(source, one, time.Time{}, at, within)}
		}
		shown = append(shown, is)
	}
	return shown, nil
}

// fetched is the page as it is now, and the moment that it was fetched as of. What it says was measured longer ago than a while is not taken.
func (p *Page) fetched(ctx context.Context, at time.Time, within time.Duration) (signal.Page, time.Time, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.at.IsZero() && time.Since(p.at) < freshFor {
		return p.page, p.asOf, p.err
	}
	p.page, p.err = p.fetch(ctx, within)
	p.at, p.asOf = time.Now(), at
	return p.page, p.asOf, p.err
}

func (p *Page) fetch(ctx context.Context, within time.Duration) (signal.Page, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, p.url, nil)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Accept", scrape.Accepts)
	answer, err := p.client.Do(r)
	if err != nil {
		return nil, errors.New(why(err))
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("status %d", answer.StatusCode)
	}
	text, err := io.ReadAll(answer.Body)
	if err != nil {
		return nil, errors.New(why(err))
	}
	return scrape.Read(text, answer.Header.Get("Content-Type"), time.Now().Add(-within))
}
