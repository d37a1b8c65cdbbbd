package containers

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net"
	"sync"

	"aditus/internal/socket"
	"aditus/internal/target/containers/host"
)

// forward leads connections to a socket of this machine on to an engine, which can be another one from some moment on, until ctx ends.
type forward struct {
	mu sync.Mutex
	to host.Way
}

// set has it lead to an engine.
func (f *forward) set(to host.Way) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.to = to
}

// run listens until ctx ends.
func (f *forward) run(ctx context.Context, at string, log *slog.Logger) error {
	listener, err := socket.Listen(ctx, at)
	if err != nil {
		return err
	}
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
	var group sync.WaitGroup
	one := func(to, from net.Conn) {
		io.Copy(to, from)
		if half, is := to.(interface{ CloseWrite() error }); is {
			half.CloseWrite()
		} else {
			to.Close()
		}
	}
	group.Go(func() { one(to, from) })
	group.Go(func() { one(from, to) })
	group.Wait()
}
