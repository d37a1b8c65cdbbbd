// Package dial is how instances are asked over the network: connections that are kept open between two questions, and
// failures in words without addresses.
package dial

import (
	"context"
	"crypto/tls"
	"errors"
	"maps"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"
)

// Way is a way to ports of instances that is not the network's.
type Way interface {
	http.RoundTripper
	DialContext(ctx context.Context, network, address string) (net.Conn, error)
}

// Client asks instances by HTTP. Make it with New; it is safe for concurrent use.
type Client struct {
	http    *http.Client
	connect func(ctx context.Context, network, address string) (net.Conn, error) // nil where HTTP alone goes
	scheme  string
}

// New makes a Client.
func New() *Client {
	dialer := &net.Dialer{Timeout: 5 * time.Second}
	return asking(transport(dialer.DialContext), dialer.DialContext, "http")
}

func transport(connect func(ctx context.Context, network, address string) (net.Conn, error)) *http.Transport {
	return &http.Transport{DialContext: connect, MaxIdleConnsPerHost: 2, MaxIdleConns: 4096, IdleConnTimeout: time.Minute, DisableCompression: true}
}

func asking(way http.RoundTripper, connect func(ctx context.Context, network, address string) (net.Conn, error), scheme string) *Client {
	return &Client{&http.Client{Transport: way, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}, connect, scheme}
}

// ErrPlain means that where HTTP alone goes TLS does not.
var ErrPlain = errors.New("https cannot be asked from here: where instances are reached through an API only HTTP goes")

// Secure is a client that asks by https.
func (c *Client) Secure(settings *tls.Config) (*Client, error) {
	if c.connect == nil {
		return nil, ErrPlain
	}
	t := transport(c.connect)
	t.TLSClientConfig = settings
	return asking(t, c.connect, "https"), nil
}

// Connects tells whether it connects to ports, so that not HTTP alone goes.
func (c *Client) Connects() bool { return c.connect != nil }

// Scheme is http, or https.
func (c *Client) Scheme() string { return c.scheme }

// Through is a client that asks by another way than the network; nil for the network.
func (c *Client) Through(way http.RoundTripper) *Client {
	if way == nil {
		return c
	}
	var connect func(ctx context.Context, network, address string) (net.Conn, error)
	if connects, can := way.(Way); can {
		connect = connects.DialContext
	}
	return asking(way, connect, "http")
}

// Close lets go of the open connections.
func (c *Client) Close() { c.http.CloseIdleConnections() }

// Get fetches a path, with further headers.
func (c *Client) Get(ctx context.Context, host string, port int, path string, headers http.Header) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, c.scheme+"://"+Address(host, port)+path, nil)
	if err != nil {
		return nil, err
	}
	maps.Copy(request.Header, headers)
	request.Header.Set("User-Agent", "aditus")
	return c.http.Do(request)
}

// Address is a host with a port.
func Address(host string, port int) string { return net.JoinHostPort(host, strconv.Itoa(port)) }

// Why takes the addresses out of a network error: the instance is named elsewhere, and its port means nothing.
func Why(err error, timeout time.Duration) string {
	var op *net.OpError
	var late net.Error
	switch {
	case errors.Is(err, context.DeadlineExceeded) || errors.As(err, &late) && late.Timeout():
		return "no answer within " + timeout.String()
	case errors.As(err, &op):
		return strings.TrimPrefix(op.Err.Error(), "connect: ")
	}
	if inner := errors.Unwrap(err); inner != nil {
		err = inner
	}
	return err.Error()
}
