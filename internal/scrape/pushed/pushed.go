// Package pushed takes what instances push themselves, behind which nothing can be read: OTLP over HTTP. It keeps the latest of each
// series, and is asked for it as a metrics store is.
package pushed

import (
	"context"
	"fmt"
	"hash/crc32"
	"maps"
	"slices"
	"sync"
	"time"

	"aditus/internal/core/signal"
	"aditus/internal/scrape/metricstore"
)

// Bounds on what is kept.
const (
	mostSources = 5000             // resources that push
	mostSeries  = 10_000           // of one of them, the buckets of a histogram being one
	keptFor     = 10 * time.Minute // since something was pushed last
)

// Store keeps what was pushed. Make it with New; it is safe for concurrent use.
type Store struct {
	mu      sync.Mutex
	sources map[string]*source // by their attributes
	swept   time.Time
}

// New makes an empty Store.
func New() *Store { return &Store{sources: map[string]*source{}} }

// source is a resource that pushes.
type source struct {
	labels map[string]string
	series map[string]*series
	last   time.Time // when it pushed last
}

// series is a metric with its attributes, as it was last.
type series struct {
	name   string
	labels map[string]string // those of the resource too
	at     time.Time         // as it says itself
	value  float64
	// Of a histogram:
	buckets    map[float64]float64 // cumulative
	count, sum float64
}

// sweep forgets what nobody pushes any more.
func (s *Store) sweep(now time.Time) {
	if now.Sub(s.swept) < time.Minute {
		return
	}
	s.swept = now
	maps.DeleteFunc(s.sources, func(_ string, of *source) bool {
		maps.DeleteFunc(of.series, func(_ string, one *series) bool { return now.Sub(one.at) > keptFor })
		return now.Sub(of.last) > keptFor
	})
}

// Read gives what was pushed by those whom the values of a label tell of, and what says no time within a while before a moment is not given.
func (s *Store) Read(_ context.Context, of signal.Source, whose []metricstore.One, at time.Time, within time.Duration) ([]metricstore.Shown, error) {
	if of.Kind == signal.Query {
		return nil, fmt.Errorf("what is pushed takes no queries: select it by metric and labels")
	}
	names, err := metricstore.Names(whose)
	if err != nil {
		return nil, err
	}
	wanted := map[string]bool{}
	for _, series := range of.Metrics() {
		wanted[series.Metric] = true
	}
	found := map[string][]*metricstore.Shown{}
	latest := map[string]time.Time{}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, key := range slices.Sorted(maps.Keys(s.sources)) {
		from := s.sources[key]
		pages := map[string]*metricstore.Shown{}
		for _, one := range from.series {
			whom := names[one.labels[of.Cohort.Label]]
			if !wanted[one.name] || whom == "" {
				continue
			}
			if one.at.After(latest[whom]) {
				latest[whom] = one.at
			}
			if at.Sub(one.at) > within {
				continue
			}
			page := pages[whom]
			if page == nil {
				page = &metricstore.Shown{Of: whom, At: key, Page: signal.Page{}}
				pages[whom] = page
			}
			one.add(page.Page)
			if one.at.After(page.Time) {
				page.Time = one.at
			}
		}
		for _, whom := range slices.Sorted(maps.Keys(pages)) {
			found[whom] = append(found[whom], pages[whom])
		}
	}
	var shown []metricstore.Shown
	for _, one := range whose {
		if len(found[one.Name]) == 0 {
			shown = append(shown, metricstore.Shown{Of: one.Name, Unread: metricstore.Missing(of, one, latest[one.Name], at, within)})
		}
		for _, page := range found[one.Name] {
			key := page.At
			page.At = ""
			if len(found[one.Name]) > 1 {
				page.At = fmt.Sprintf("source %08x", crc32.ChecksumIEEE([]byte(key)))
			}
			shown = append(shown, *page)
		}
	}
	return shown, nil
}

// add adds a series to a page.
func (s *series) add(page signal.Page) {
	if s.buckets == nil {
		page[s.name] = append(page[s.name], signal.NewSample(s.labels, s.value))
		return
	}
	for bound, count := range s.buckets {
		with := make(map[string]string, len(s.labels)+1)
		maps.Copy(with, s.labels)
		with["le"] = formatBound(bound)
		page[s.name+"_bucket"] = append(page[s.name+"_bucket"], signal.NewSample(with, count))
	}
	page[s.name+"_count"] = append(page[s.name+"_count"], signal.NewSample(s.labels, s.count))
	page[s.name+"_sum"] = append(page[s.name+"_sum"], signal.NewSample(s.labels, s.sum))
}
