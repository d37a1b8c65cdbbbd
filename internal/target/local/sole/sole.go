// Package sole sees to it that one process alone does a job on a data folder, and lets it be found again when it does not
// answer any more.
package sole

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"aditus/internal/system"

	"github.com/gofrs/flock"
	gops "github.com/shirou/gopsutil/v4/process"
)

// ErrTaken means that another process does the job already.
var ErrTaken = errors.New("another process does this already")

// again is how long it is waited before a lock is tried again.
const again = 10 * time.Millisecond

// Take takes a job by its lock file, and signs it. It waits for whoever has it until ctx ends. The job is given back by done, or when the
// process ends, however that ends.
func Take(ctx context.Context, file string) (done func(), err error) {
	lock := flock.New(file)
	got, err := lock.TryLock()
	for err == nil && !got && ctx.Err() == nil {
		got, err = lock.TryLockContext(ctx, again)
	}
	if !got {
		return nil, errors.Join(ErrTaken, err)
	}
	created, _ := CreatedAt(os.Getpid())
	if err := os.WriteFile(file, fmt.Appendf(nil, "%d %d\n", os.Getpid(), created), 0o600); err != nil {
		lock.Unlock()
		return nil, err
	}
	return func() { lock.Unlock() }, nil
}

// Kill kills whoever has a job. Another process that has its number by now is left alone.
func Kill(file string) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	var pid int
	var created int64
	if _, err := fmt.Sscan(string(text), &pid, &created); err != nil || !Lives(pid, created) {
		return fmt.Errorf("nobody knows which process %s is of", file)
	}
	return system.Kill(pid)
}

// same is how close together the system's times of one process lie.
const same = 2 * time.Second

// Lives tells whether a process still runs that was made at a moment: its number alone could be another's by now.
func Lives(pid int, created int64) bool {
	if pid == 0 {
		return false
	}
	now, ok := CreatedAt(pid)
	return ok && max(now-created, created-now) < same.Milliseconds()
}

// CreatedAt is when a process that runs was made, in milliseconds since 1970.
func CreatedAt(pid int) (int64, bool) {
	p, err := gops.NewProcess(int32(pid))
	if err != nil {
		return 0, false
	}
	created, err := p.CreateTime()
	if err != nil {
		return 0, false
	}
	if states, err := p.Status(); err == nil && slices.Contains(states, gops.Zombie) {
		return 0, false
	}
	return created, true
}

// Whoever was asked HangsAfter times, askEvery, and did not answer within HangsFor each time, hangs.
const (
	askEvery   = time.Second
	HangsFor   = 1200 * time.Millisecond
	HangsAfter = 2
)

// AwaitHang asks somebody again and again, and is true once they hang, false once ctx ends. One that is not there does not hang.
func AwaitHang(ctx context.Context, ask func(context.Context) error) bool {
	ticker := time.NewTicker(askEvery)
	defer ticker.Stop()
	for hung := 0; hung < HangsAfter; {
		select {
		case <-ctx.Done():
			return false
		case <-ticker.C:
		}
		asking, cancel := context.WithTimeout(ctx, HangsFor)
		err := ask(asking)
		if hung++; err == nil || asking.Err() == nil {
			hung = 0
		}
		cancel()
	}
	return ctx.Err() == nil
}
