// Package socket is how programs of one data folder speak with each other: HTTP over a Unix socket that is its owner's
// alone.
package socket

import (
	"context"
	"errors"
	"net"
	"net/http"
	"os"

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

// Transport leads all requests to a socket, whatever host they name.
func Transport(name string) *http.Transport {
	return &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "unix", name)
	}}
}
