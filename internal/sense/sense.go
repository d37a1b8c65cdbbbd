// Package sense asks instances how they are doing over the network: it probes them and scrapes their metrics. What the
// answers mean is judged by packages health and signal.
package sense

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/signal"
)

// maxPage is the largest metrics page that is read.
const maxPage = 4 << 20

// Sense probes and scrapes. Make it with New; it is safe for concurrent use.
type Sense struct {
	client *http.Client
}

// New makes a Sense that keeps connections open between two looks.
func New() *Sense {
	dialer := &net.Dialer{Timeout: 5 * time.Second}
	return &Sense{client: &http.Client{
		Transport:     &http.Transport{DialContext: dialer.DialContext, MaxIdleConnsPerHost: 2, MaxIdleConns: 4096, IdleConnTimeout: time.Minute, DisableCompression: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}
}

// Close lets go of the open connections.
func (s *Sense) Close() { s.client.CloseIdleConnections() }

// Probe asks once. The reason is empty when it passed, and says why in a few words when it did not.
func (s *Sense) Probe(ctx context.Context, host string, ports map[string]int, probe declare.Probe) (reason string) {
	ctx, cancel := context.WithTimeout(ctx, probe.Timeout.Duration)
	defer cancel()
	if probe.GRPC != nil {
		return probeGRPC(ctx, net.JoinHostPort(host, strconv.Itoa(ports[probe.GRPC.Port])), probe)
	}
	if probe.TCP != nil {
		address := net.JoinHostPort(host, strconv.Itoa(ports[probe.TCP.Port]))
		conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", address)
		if err != nil {
			return "tcp: " + plain(err, probe.Timeout.Duration)
		}
		conn.Close()
		return ""
	}
	response, err := s.get(ctx, host, ports[probe.HTTP.Port], probe.HTTP.Path)
	if err != nil {
		return fmt.Sprintf("GET %s: %s", probe.HTTP.Path, plain(err, probe.Timeout.Duration))
	}
	defer response.Body.Close()
	io.Copy(io.Discard, io.LimitReader(response.Body, 64<<10))
	if response.StatusCode < 200 || response.StatusCode > 399 {
		return fmt.Sprintf("GET %s: status %d", probe.HTTP.Path, response.StatusCode)
	}
	return ""
}

// scrapeTimeout is how long a metrics page may take.
const scrapeTimeout = 2 * time.Second

// Scrape fetches and parses an instance's metrics page.
func (s *Sense) Scrape(ctx context.Context, host string, ports map[string]int, metrics declare.Metrics) (signal.Page, error) {
	ctx, cancel := context.WithTimeout(ctx, scrapeTimeout)
	defer cancel()
	response, err := s.get(ctx, host, ports[metrics.Port], metrics.Path)
	if err != nil {
		return nil, fmt.Errorf("GET %s: %s", metrics.Path, plain(err, scrapeTimeout))
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

func (s *Sense) get(ctx context.Context, host string, port int, path string) (*http.Response, error) {
	address := "http://" + net.JoinHostPort(host, strconv.Itoa(port)) + path
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	request.Header.Set("Accept", "application/openmetrics-text; version=1.0.0, text/plain;q=0.5")
	request.Header.Set("User-Agent", "aditus")
	return s.client.Do(request)
}

// plain takes the addresses out of a network error: the instance is named elsewhere, and its port means nothing.
func plain(err error, timeout time.Duration) string {
	var op *net.OpError
	switch {
	case errors.Is(err, context.DeadlineExceeded) || isTimeout(err):
		return "no answer within " + timeout.String()
	case errors.As(err, &op):
		text := op.Err.Error()
		return strings.TrimPrefix(text, "connect: ")
	}
	return errors.Unwrap(err).Error()
}

func isTimeout(err error) bool {
	var timeout net.Error
	return errors.As(err, &timeout) && timeout.Timeout()
}
