// Package socket is how programs of one data folder speak with each other: HTTP over a Unix socket that is its owner's
// alone.
package socket

import (
	"context"
	"errors"
	"net"
	"net/http"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// Listen listens on a socket that only its owner can connect to, in the place of one that was left there.
func Listen(ctx context.Context, name string) (net.Listener, error) {
	if err := os.Remove(name); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	before := unix.Umask(0o177) // nobody else can connect in the moment before its mode is set
	defer unix.Umask(before)
	var config net.ListenConfig
	listener, err := config.Listen(ctx, "unix", name)
	if err != nil {
		return nil, err
	}
	if err := os.Chmod(name, 0o600); err != nil {
		listener.Close()
		return nil, err
	}
	return listener, nil
}

// again is how long it is waited before it is tried again whether somebody listens by now.
const again = 10 * time.Millisecond

// Transport leads all requests to a socket, whatever host they name. Whoever listens there may still be starting: they
// are given so long; 0 to take no for an answer.
func Transport(name string, starting time.Duration) *http.Transport {
	return &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		var d net.Dialer
		for end := time.Now().Add(starting); ; {
			conn, err := d.DialContext(ctx, "unix", name)
			if err == nil || !errors.Is(err, unix.ENOENT) && !errors.Is(err, unix.ECONNREFUSED) || time.Now().After(end) {
				return conn, err
			}
			select {
			case <-ctx.Done():
				return nil, ctx.Err()
			case <-time.After(again):
			}
		}
	}}
}
