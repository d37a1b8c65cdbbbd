package containers

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"sync"

	"aditus/internal/socket"
	"aditus/internal/target/containers/host"
)

// forward leads connections to a socket of this machine on to an engine, which can be another one from some moment on.
type forward struct {
	mu   sync.Mutex
	to   host.Way
	runs bool
}

// lead has it lead to an engine from now on, and listen until ctx ends where it does not yet.
func (f *forward) lead(ctx context.Context, at string, to host.Way, log *slog.Logger) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.to = to; f.runs {
		return nil
	}
	listener, err := socket.Listen(ctx, at)
	if err != nil {
		return err
	}
	f.runs = true
	socket.Stays(listener)
	context.AfterFunc(ctx, func() { listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if errors.Is(err, net.ErrClosed) {
				return
			}
			if err != nil {
				log.Warn("the container engine cannot be led to", "error", err)
				continue
			}
			f.mu.Lock()
			to := f.to
			f.mu.Unlock()
			go lead(ctx, conn, to)
		}
	}()
	return nil
}

// lead leads one connection, each way until its end.
func lead(ctx context.Context, from net.Conn, way host.Way) {
	defer from.Close()
	to, err := way.Dial(ctx)
	if err != nil {
		return // whoever asks sees that nobody answers
	}
	defer to.Close()
	stop := context.AfterFunc(ctx, func() { from.Close(); to.Close() })
	defer stop()
	socket.Both(from, to)
}
