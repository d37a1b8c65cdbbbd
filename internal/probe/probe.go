// Package probe asks instances over the network whether they are well. What the answers mean is judged by package health.
package probe

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"syscall"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/dial"
)

// Prober asks. Make it with New; it is safe for concurrent use.
type Prober struct {
	client *dial.Client
	dial   func(ctx context.Context, network, address string) (net.Conn, error) // nil where HTTP alone goes
}

// New makes a Prober that keeps connections open between two questions.
func New() *Prober { return &Prober{dial.New(), (&net.Dialer{}).DialContext} }

// Through is a Prober that asks by another way than the network; nil for the network. What is not HTTP goes where the way connects to ports too.
func (p *Prober) Through(way http.RoundTripper) *Prober {
	if way == nil {
		return p
	}
	through := &Prober{client: p.client.Through(way)}
	if connects, can := way.(dial.Way); can {
		through.dial = connects.DialContext
	}
	return through
}

// Close lets go of the open connections.
func (p *Prober) Close() { p.client.Close() }

// Ask asks once. The reason is empty when the probe passed, and says why in a few words when it did not.
func (p *Prober) Ask(ctx context.Context, host string, ports map[string]int, probe declare.Probe) (reason string) {
	timeout := probe.Timeout.Duration
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	switch {
	case p.dial == nil && probe.HTTP == nil:
		return "cannot be asked from here: where instances are reached through an API only HTTP goes"
	case probe.GRPC != nil:
		return p.askGRPC(ctx, dial.Address(host, ports[probe.GRPC.Port]), probe)
	case probe.TCP != nil:
		conn, err := p.dial(ctx, "tcp", dial.Address(host, ports[probe.TCP.Port]))
		if err != nil {
			return "tcp: " + why(err, timeout, probe.TCP.Port, ports[probe.TCP.Port])
		}
		conn.Close()
		return ""
	}
	response, err := p.client.Get(ctx, host, ports[probe.HTTP.Port], probe.HTTP.Path, nil)
	if err != nil {
		return fmt.Sprintf("GET %s: %s", probe.HTTP.Path, why(err, timeout, probe.HTTP.Port, ports[probe.HTTP.Port]))
	}
	defer response.Body.Close()
	io.Copy(io.Discard, io.LimitReader(response.Body, 64<<10))
	if response.StatusCode < 200 || response.StatusCode > 399 {
		return fmt.Sprintf("GET %s: status %d", probe.HTTP.Path, response.StatusCode)
	}
	return ""
}

// why tells why nobody answered at a port: of one that nobody listens on, which an instance is told in its environment, its number too.
func why(err error, timeout time.Duration, port string, number int) string {
	if errors.Is(err, syscall.ECONNREFUSED) {
		return fmt.Sprintf("nothing listens at port %d ($PORT_%s)", number, declare.EnvironmentName(port))
	}
	return dial.Why(err, timeout)
}
