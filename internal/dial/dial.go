// Package dial is how instances are asked over the network: connections that are kept open between two questions, and
// failures in words without addresses.
package dial

import (
	"context"
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
type Client struct{ http *http.Client }

// New makes a Client.
func New() *Client {
	dialer := &net.Dialer{Timeout: 5 * time.Second}
	return &Client{&http.Client{
		Transport:     &http.Transport{DialContext: dialer.DialContext, MaxIdleConnsPerHost: 2, MaxIdleConns: 4096, IdleConnTimeout: time.Minute, DisableCompression: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}
}

// Through is a client that asks by another way than the network; nil for the network.
func (c *Client) Through(way http.RoundTripper) *Client {
	if way == nil {
		return c
	}
	other := *c.http
	other.Transport = way
	return &Client{&other}
}

// Close lets go of the open connections.
func (c *Client) Close() { c.http.CloseIdleConnections() }

// Get fetches a path, with further headers.
func (c *Client) Get(ctx context.Context, host string, port int, path string, headers http.Header) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+Address(host, port)+path, nil)
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
