package router

import (
	"net"
	"slices"
	"sync"
	"syscall"
	"time"

	"aditus/internal/system"
)

// seat is what a place on a route came to: an instance, and where it is.
type seat struct {
	b       *backend
	address string
	since   int64 // it is ready, in nanoseconds since 1970
}

// line is a connection to an instance, for one request after another.
type line struct {
	*net.TCPConn
	raw  syscall.RawConn
	of   seat
	used time.Time
}

// lines are those to an instance that nobody uses. The one that was used last is used first.
type lines struct {
	mu   sync.Mutex
	idle []*line
	over bool // the instance is gone, and none is kept
}

// lineTo gives a line to an instance, one that was kept where that may be.
func (r *Router) lineTo(s seat, reuse bool) (l *line, reused bool, err error) {
	for reuse {
		if l = s.b.lines.pop(); l == nil {
			break
		}
		if l.of.since == s.since && l.of.address == s.address && system.IsQuiet(l.raw) {
			return l, true, nil
		}
		l.Close()
	}
	type made struct {
		l   *line
		err error
	}
	done := make(chan made, 1)
	go func() { // on a stack of its own: it takes a large one, which whoever asks would have for as long as the answer takes
		l, err := r.newLine(s)
		done <- made{l, err}
	}()
	m := <-done
	return m.l, false, m.err
}

func (r *Router) newLine(s seat) (*line, error) {
	conn, err := r.dialer.Dial("tcp", s.address)
	if err != nil {
		return nil, err
	}
	l := &line{TCPConn: conn.(*net.TCPConn), of: s}
	if l.raw, err = l.SyscallConn(); err != nil {
		l.Close()
		return nil, err
	}
	return l, nil
}

// letGo keeps a line for others where it is as at its beginning.
func (l *line) letGo(clean bool) {
	if !clean || !l.of.b.lines.push(l) {
		l.Close()
	}
}

func (k *lines) pop() (l *line) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if n := len(k.idle); n > 0 {
		l, k.idle[n-1], k.idle = k.idle[n-1], nil, k.idle[:n-1]
	}
	return l
}

// push is false where there are enough, or none is kept any more.
func (k *lines) push(l *line) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.over || len(k.idle) >= backendIdlePer {
		return false
	}
	l.used = time.Now()
	k.idle = append(k.idle, l)
	return true
}

// close closes those that were not used since then.
func (k *lines) close(since time.Time) {
	k.mu.Lock()
	defer k.mu.Unlock()
	n := 0 // they lie in the order in which they were used
	for ; n < len(k.idle) && k.idle[n].used.Before(since); n++ {
		k.idle[n].Close()
	}
	k.idle = slices.Delete(k.idle, 0, n)
}

// end closes all of them, and those that are used once they come back.
func (k *lines) end() {
	k.mu.Lock()
	k.over = true
	k.mu.Unlock()
	k.close(time.Now())
}

// closeLines closes all lines that were not used since then.
func (r *Router) closeLines(since time.Time) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	for _, b := range r.backends {
		b.lines.close(since)
	}
}
