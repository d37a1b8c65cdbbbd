package local

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"aditus/internal/target"
	"aditus/internal/target/local/keeper"
	"aditus/internal/target/router"
)

const (
	askedAge     = 300 * time.Millisecond // how old an answer of the keeper may be, so that many berths that ask at once ask it once
	patience     = 3 * time.Second        // for what was asked for to be seen, or for a keeper that is lost to be back
	lookPatience = 300 * time.Millisecond // where none comes back
	silentFor    = 2 * keeper.Rest        // how long a keeper that is followed may say nothing before it counts as lost
	againAfter   = 200 * time.Millisecond // it is tried again to follow one
)

// cache is what is known of a site's processes: what the keeper said last.
type cache struct {
	asking sync.Mutex // one question at a time

	mu      sync.Mutex
	status  keeper.Status
	at      time.Time // when it was so; zero before it ever said so
	least   uint64    // the version that is to be seen at least, as more was asked for
	why     error     // why nothing newer is known; nil where all is well
	renewed chan struct{}
	changed func(target.Berth) // is told what changed; nil where the keeper is not followed
}

// wake lets go on who waits for what comes next. It is called with the lock held.
func (v *cache) wake() {
	if v.renewed != nil {
		close(v.renewed)
		v.renewed = nil
	}
}

// take takes over what the keeper says.
func (v *cache) take(status keeper.Status, at time.Time) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if !at.Before(v.at) {
		v.status, v.at, v.why = status, at, nil
		v.wake()
	}
}

// lose notes that the keeper says nothing any more, and tells whether that is new.
func (v *cache) lose(why error) bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	before := v.why
	v.why = why
	v.wake()
	return before == nil
}

// await gives what is known, once the keeper said so after all that was asked for.
func (v *cache) await(ctx context.Context, patience time.Duration) (keeper.Status, error) {
	timer := time.NewTimer(patience)
	defer timer.Stop()
	for {
		v.mu.Lock()
		status, why, fresh := v.status, v.why, v.why == nil && v.status.Version >= v.least && time.Since(v.at) < silentFor
		if v.renewed == nil {
			v.renewed = make(chan struct{})
		}
		renewed := v.renewed
		v.mu.Unlock()
		if fresh {
			return status, nil
		}
		select {
		case <-renewed:
		case <-ctx.Done():
			return status, ctx.Err()
		case <-timer.C:
			if why == nil {
				why = errors.New("the keeper has not said for a while how its processes are doing")
			}
			return status, why
		}
	}
}

// Follow implements target.Follower: it hears of every change from the keeper, and sees to it that there is one.
func (s *Site) Follow(ctx context.Context, changed func(target.Berth)) {
	s.cache.follow(changed)
	defer s.cache.follow(nil)
	if !s.ReadOnly {
		go s.Keeper.watch(ctx)
	}
	var known uint64
	var troubles router.Troubles
	for ctx.Err() == nil {
		status, err := s.next(ctx, known)
		switch {
		case ctx.Err() != nil:
		case err != nil:
			if known = 0; s.cache.lose(err) {
				s.notifyAll(changed)
				continue // at once: traffic goes through the keeper
			}
			select {
			case <-ctx.Done():
			case <-time.After(againAfter):
			}
		default:
			s.cache.take(status, time.Now())
			if !maps.Equal(troubles, status.Troubles) {
				troubles, known = status.Troubles, 0 // it may concern any
			}
			for workload := range s.changes(status, known) {
				changed(workload)
			}
			known = status.Version
		}
	}
}

func (v *cache) follow(changed func(target.Berth)) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.changed = changed
}

// next waits for what the keeper says after what is known.
func (s *Site) next(ctx context.Context, known uint64) (keeper.Status, error) {
	ctx, cancel := context.WithTimeout(ctx, silentFor)
	defer cancel()
	if s.unsubmitted() && !s.ReadOnly {
		return s.submitAndAsk(ctx)
	}
	status, err := s.Keeper.after(ctx, s.Name, known)
	if err == nil && !status.Known && !s.ReadOnly { // it is another one than before
		return s.submitAndAsk(ctx)
	}
	return status, err
}

// changes are the workloads whose instances changed since a version of the site.
func (s *Site) changes(status keeper.Status, known uint64) map[target.Berth]bool {
	found := map[target.Berth]bool{}
	for _, workload := range s.book.Workloads() {
		for _, id := range s.instances(workload) {
			if state, ok := status.Processes[id]; ok && state.Changed > known || known == 0 {
				found[workload] = true
			}
		}
	}
	return found
}

// notifyAll tells of all workloads that there is something new.
func (s *Site) notifyAll(changed func(target.Berth)) {
	for _, workload := range s.book.Workloads() {
		changed(workload)
	}
}

// status is how all processes are doing: as it is known where the keeper is followed, and asked for where it is not.
func (s *Site) status(ctx context.Context) (keeper.Status, error) {
	s.cache.mu.Lock()
	followed := s.cache.changed != nil
	s.cache.mu.Unlock()
	var status keeper.Status
	var err error
	switch {
	case !followed:
		status, err = s.now(ctx)
	case s.ReadOnly:
		status, err = s.cache.await(ctx, lookPatience)
	default:
		status, err = s.cache.await(ctx, patience)
	}
	if err != nil {
		err = fmt.Errorf("%s: %w: %v", s.Name, target.ErrUnreachable, err)
	}
	return status, err
}

// now asks the keeper how all processes are doing now, or were within askedAge.
func (s *Site) now(ctx context.Context) (keeper.Status, error) {
	s.cache.asking.Lock()
	defer s.cache.asking.Unlock()
	s.cache.mu.Lock()
	followed, status, why := s.cache.changed != nil, s.cache.status, s.cache.why
	fresh := why == nil && time.Since(s.cache.at) < askedAge && status.Version >= s.cache.least
	s.cache.mu.Unlock()
	at := time.Now()
	var err error
	switch {
	case followed && why != nil: // whoever follows looks for it already
		return status, why
	case fresh && !s.unsubmitted():
		return status, nil
	case followed || s.ReadOnly:
		status, err = s.Keeper.status(ctx, s.Name)
	default:
		status, err = s.submitAndAsk(ctx)
	}
	if err == nil && followed && !status.Known && !s.ReadOnly {
		err = errors.New("a new keeper is about to take over")
	}
	if err == nil {
		s.cache.take(status, at)
	}
	return status, err
}

// submitAndAsk asks the keeper how all processes are doing, once it was told all that is asked for.
func (s *Site) submitAndAsk(ctx context.Context) (status keeper.Status, err error) {
	if !s.unsubmitted() {
		if status, err = s.Keeper.status(ctx, s.Name); err == nil && status.Known {
			return status, nil
		}
	}
	if err := s.submit(ctx); err != nil {
		return status, err
	}
	return s.Keeper.status(ctx, s.Name)
}

// noteSubmitted notes the version of the site that shows what the keeper was told last, and the workloads whose instances cannot
// be with it, or can be now. Where only some were told of, what is known of the others stays.
func (s *Site) noteSubmitted(version uint64, failed map[string]failure, only []string) {
	s.mu.Lock()
	before := s.failed
	for id, f := range before {
		if len(only) > 0 && !slices.Contains(only, f.workload) {
			failed[id] = f
		}
	}
	s.failed = failed
	s.mu.Unlock()
	s.cache.mu.Lock()
	s.cache.least = version
	changed := s.cache.changed
	s.cache.mu.Unlock()
	if changed == nil || maps.EqualFunc(before, failed, func(a, b failure) bool { return a.final == b.final && a.err.Error() == b.err.Error() }) {
		return
	}
	for _, workload := range s.book.Workloads() {
		if slices.ContainsFunc(s.instances(workload), func(id string) bool {
			_, was := before[id]
			_, is := failed[id]
			return was || is
		}) {
			changed(workload)
		}
	}
}
