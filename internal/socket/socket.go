// Package socket is how programs of one data folder speak with each other: HTTP over a Unix socket that is its owner's
// alone.
package socket

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"aditus/internal/confine"
	"aditus/internal/system"
)

// longest is how long the name of a socket may be for the system.
const longest = 100

// within gives a name by which the system takes a socket in whatever folder: a short one that leads through the open
// folder where its own is too long. It is good until done is called.
func within(name string) (short string, done func(), err error) {
	if len(name) <= longest {
		return name, func() {}, nil
	}
	folder, err := os.Open(filepath.Dir(name))
	if err != nil {
		return "", nil, err
	}
	short = fmt.Sprintf("/proc/self/fd/%d/%s", folder.Fd(), filepath.Base(name))
	if _, err := os.Stat(filepath.Dir(short)); err != nil || len(short) > longest {
		folder.Close()
		return "", nil, fmt.Errorf("%s is too long for the name of a socket: choose a folder with a shorter one", name)
	}
	return short, func() { folder.Close() }, nil
}

// Listen listens on a socket that only its owner can connect to, in the place of one that was left there.
func Listen(ctx context.Context, name string) (net.Listener, error) {
	short, done, err := within(name)
	if err != nil {
		return nil, err
	}
	defer done()
	if err := os.Remove(short); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	defer system.Umask(0o177)() // nobody else can connect in the moment before its mode is set
	var config net.ListenConfig
	listener, err := config.Listen(ctx, "unix", short)
	if err != nil {
		return nil, err
	}
	if unixListener, ok := listener.(*net.UnixListener); ok && short != name {
		unixListener.SetUnlinkOnClose(false) // its short name may be another's by then
	}
	if err := os.Chmod(short, 0o600); err != nil {
		listener.Close()
		return nil, err
	}
	return guarded{listener}, nil
}

// guarded lets in nobody who is confined: whoever runs as its owner may speak with it, but for what Aditus itself runs.
type guarded struct{ net.Listener }

// Accept implements net.Listener.
func (g guarded) Accept() (net.Conn, error) {
	for {
		conn, err := g.Listener.Accept()
		if err != nil {
			return nil, err
		}
		if who := Peer(conn); who == nil || who.PID == 0 || !confine.Marked(who.PID) {
			return conn, nil
		}
		conn.Close()
	}
}

// Stays has a listener leave its socket in its place when it is closed, as another one may listen there by then.
func Stays(listener net.Listener) {
	if g, is := listener.(guarded); is {
		if unix, is := g.Listener.(*net.UnixListener); is {
			unix.SetUnlinkOnClose(false)
		}
	}
}

// Both copies each way between two connections until both ends are done; an end that is done writing is told to the other.
func Both(a, b net.Conn) {
	var group sync.WaitGroup
	for _, way := range [][2]net.Conn{{a, b}, {b, a}} {
		group.Go(func() {
			_, err := io.Copy(way[0], way[1])
			if err != nil {
				way[1].Close()
			}
			if half, can := way[0].(interface{ CloseWrite() error }); can {
				half.CloseWrite()
			} else {
				way[0].Close()
			}
		})
	}
	group.Wait()
}

// Caller is who is at the other end of a socket.
type Caller struct {
	PID int // 0 where the system does not tell, as for one of another world of processes
	UID uint32
}

// Peer is who is at the other end of a socket, by the system's word; nil where it does not tell.
func Peer(conn net.Conn) *Caller {
	own, ok := conn.(*net.UnixConn)
	if !ok {
		return nil
	}
	raw, err := own.SyscallConn()
	if err != nil {
		return nil
	}
	var who *Caller
	raw.Control(func(fd uintptr) { who = peer(int(fd)) })
	return who
}

// again is how long it is waited before it is tried again whether somebody listens by now.
const again = 10 * time.Millisecond

// Transport leads all requests to a socket, whatever host they name. Whoever listens there may still be starting: they
// are given so long; 0 to take no for an answer.
func Transport(name string, starting time.Duration) *http.Transport {
	return &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		for end := time.Now().Add(starting); ; {
			conn, err := Dial(ctx, name)
			if err == nil || !errors.Is(err, syscall.ENOENT) && !errors.Is(err, syscall.ECONNREFUSED) || time.Now().After(end) {
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

// Dial connects to a socket.
func Dial(ctx context.Context, name string) (net.Conn, error) {
	short, done, err := within(name)
	if err != nil {
		return nil, err
	}
	defer done()
	var d net.Dialer
	return d.DialContext(ctx, "unix", short)
}

// ErrNobody means that nobody answers on a socket.
var ErrNobody = errors.New("nobody answers")

// Refused is an answer that something cannot be done.
type Refused struct {
	Status int
	Why    string
}

// Error implements error.
func (r *Refused) Error() string { return r.Why }

// longestAnswer is how much is read of an answer.
const longestAnswer = 256 << 20

// longestWhy is how much is read of why something was refused.
const longestWhy = 1 << 10

// Ask asks whoever a client is connected to, in JSON, and reads the answer into a value where there is one.
func Ask(ctx context.Context, client *http.Client, method, path string, body, into any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, method, "http://socket"+path, bytes.NewReader(text))
	if err != nil {
		return err
	}
	response, err := client.Do(request)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrNobody, errors.Unwrap(err))
	}
	defer response.Body.Close()
	switch {
	case response.StatusCode >= 300:
		why, _ := io.ReadAll(io.LimitReader(response.Body, longestWhy))
		return &Refused{response.StatusCode, strings.TrimSpace(string(why))}
	case into != nil:
		return json.NewDecoder(io.LimitReader(response.Body, longestAnswer)).Decode(into)
	}
	return nil
}
