package keeper

import (
	"context"
	"sync"
	"time"
)

// Whoever follows a site is told at least this often how it is doing, also when nothing changed.
const (
	Rest        = 4 * time.Second
	troubleRest = 500 * time.Millisecond // while traffic cannot come in, as what keeps it out may be gone
)

// news counts the changes of a site, and wakes those who wait for the next one. The count begins with the time, so that
// it goes on rising when another keeper takes over.
type news struct {
	mu    sync.Mutex
	count uint64
	next  chan struct{} // closed at the next change
}

func newNews() *news { return &news{count: uint64(time.Now().UnixNano()), next: make(chan struct{})} }

// add counts a change.
func (n *news) add() uint64 {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.count++
	close(n.next)
	n.next = make(chan struct{})
	return n.count
}

func (n *news) now() (uint64, <-chan struct{}) {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.count, n.next
}

// await waits until there was a change after one that is known, at most so long, or until ctx ends or the keeper leaves.
func (n *news) await(ctx context.Context, left <-chan struct{}, known uint64, most time.Duration) {
	count, next := n.now()
	if count > known {
		return
	}
	timer := time.NewTimer(most)
	defer timer.Stop()
	select {
	case <-next:
	case <-left:
	case <-timer.C:
	case <-ctx.Done():
	}
}
