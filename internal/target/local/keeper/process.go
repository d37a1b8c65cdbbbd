package keeper

import (
	"cmp"
	"context"
	"errors"
	"net"
	"path/filepath"
	"strconv"
	"sync"
	"time"

	"aditus/internal/disk"
	"aditus/internal/target/containers/host"
	"aditus/internal/target/router"
)

// A process that ends by itself is started again after firstWait, then twice as long each time up to longestWait, and
// after firstWait again once it ran for goodRun.
const (
	firstWait   = time.Second
	longestWait = time.Minute
	goodRun     = time.Minute
	lookEvery   = 100 * time.Millisecond // at a process that another keeper started
	killWait    = 5 * time.Second        // for the system to end what was killed
	usageEvery  = 10 * time.Second
)

// process is one process that is kept, from its first start until it is no longer wanted.
type process struct {
	site    *site
	folder  string
	journal *journal
	stop    chan struct{} // closed when it is no longer wanted
	letGo   chan struct{} // closed before that, where it runs on all the same
	again   chan struct{} // has something when it is to be started anew
	ended   chan struct{} // closed once nothing of it runs

	mu      sync.Mutex
	spec    Process
	record  record
	ready   bool // it may have traffic
	led     bool // and it is led there
	next    time.Time
	changed uint64 // the site's version at the last change
	noImage bool   // the engine has not the image that it is to run
	ails    string // what its image's own check says against it
	used    struct {
		at      time.Time
		pid     int
		seconds float64
		cores   float64
		memory  uint64
		byHand  []string
	}
}

func newProcess(s *site, spec Process) *process {
	folder := cmp.Or(spec.Folder, filepath.Join(s.spec.Folder, spec.ID))
	p := &process{site: s, folder: folder, journal: newJournal(folder), spec: spec, changed: s.news.add(), stop: make(chan struct{}), letGo: make(chan struct{}), again: make(chan struct{}, 1), ended: make(chan struct{})}
	p.record, _ = readRecord(folder) // there is none of a new one
	return p
}

// set takes over what changed in a process's own spec while it runs.
func (p *process) set(spec Process) {
	p.mu.Lock()
	defer p.mu.Unlock()
	waits := p.spec.Stay && !spec.Stay && p.record.PID == 0
	if spec.Stay {
		spec.Args, spec.Env, spec.Container = p.spec.Args, p.spec.Env, p.spec.Container
	}
	if p.spec = spec; waits {
		p.wake()
	}
	if spec.Again <= p.record.Asked {
		return
	}
	p.note(func(r *record, now time.Time) { r.Restarts, r.Asked = append(r.Restarts, now), spec.Again })
	if p.record.PID != 0 {
		p.wake()
	}
}

// wake has its life go on.
func (p *process) wake() {
	select {
	case p.again <- struct{}{}:
	default:
	}
}

// unknown tells whether nobody said yet what it is to run.
func (p *process) unknown() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return len(p.spec.Args) == 0 && (p.spec.Container == nil || p.spec.Container.Image == "")
}

// life keeps the process until it is no longer wanted. left is one that runs without a record.
func (p *process) life(left stray) {
	defer close(p.ended)
	wait := firstWait
	now := p.adopt(left)
	for {
		if p.over() {
			<-p.stop
			return
		}
		if now == nil && p.unknown() {
			p.down("it ended, and what it is to run is not at hand", false)
			select {
			case <-p.stop:
				return
			case <-p.again:
				continue
			}
		}
		if now == nil {
			select {
			case <-p.stop:
				return
			default:
			}
			var err error
			if now, err = p.start(); err != nil {
				p.down(err.Error(), errors.Is(err, host.ErrSilent))
			}
		}
		if now != nil {
			began := time.Now()
			watch, cancel := context.WithCancel(context.Background())
			go p.watch(watch)
			select {
			case how := <-now.gone:
				cancel()
				p.exited(how)
			case <-p.stop:
				if cancel(); !p.goes() {
					p.end(now, "no longer wanted")
				}
				return
			case <-p.again:
				cancel()
				p.end(now, startedAnew)
				now, wait = nil, firstWait
				continue
			}
			if now = nil; time.Since(began) > goodRun {
				wait = firstWait
			}
		}
		if p.over() {
			continue
		}
		if !p.pause(wait) {
			return
		}
		p.restarted()
		wait = min(2*wait, longestWait)
	}
}

// over tells whether it is one that runs once, and did.
func (p *process) over() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.spec.Once && (p.record.Done || p.record.Failed != "")
}

// pause waits before the next start. It is false when the process is no longer wanted.
func (p *process) pause(wait time.Duration) bool {
	p.setNext(time.Now().Add(wait))
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-p.again:
	case <-p.stop:
		return false
	}
	p.setNext(time.Time{})
	return true
}

func (p *process) setNext(next time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.next, p.changed = next, p.site.news.add()
}

// note changes the record and writes it. With a full disk the process is kept all the same.
func (p *process) note(change func(r *record, now time.Time)) {
	change(&p.record, time.Now())
	if n := len(p.record.Restarts); n > mostRestarts {
		p.record.Restarts = append([]time.Time(nil), p.record.Restarts[n-mostRestarts:]...)
	}
	if err := p.record.write(disk.Machine, p.folder); err != nil {
		p.site.warn("the record of a process cannot be written", p.spec.ID, err)
	}
	p.changed = p.site.news.add()
}

func (p *process) restarted() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.note(func(r *record, now time.Time) { r.Restarts = append(r.Restarts, now) })
}

// seenBy is the process as a route sees it that leads to one of its ports.
func (p *process) seenBy(port string) router.Instance {
	p.mu.Lock()
	defer p.mu.Unlock()
	number := p.record.Ports[port]
	return router.Instance{ID: p.spec.ID, Address: net.JoinHostPort(Host, strconv.Itoa(number)), Ready: p.ready && number != 0}
}

// state is how the process is doing, and whether it may have traffic.
func (p *process) state() (State, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	r := p.record
	s := State{Changed: p.changed, Ports: r.Ports, Running: r.PID != 0, Led: p.led, Started: r.Started, Restarts: r.Restarts, Reason: r.Reason, Done: r.Done, Failed: r.Failed, Events: r.Events, Again: p.next, Found: r.Found, NoImage: p.noImage}
	if s.Running {
		s.Container, s.Ails = r.Container, p.ails
		p.measure(time.Now())
		s.CPU, s.Cores, s.Memory, s.ByHand = p.used.seconds, p.used.cores, p.used.memory, p.used.byHand
	}
	return s, p.ready
}

// measure looks at what the process uses, and whether somebody changed it, not more often than usageEvery. It is called with the lock held.
func (p *process) measure(now time.Time) {
	since := now.Sub(p.used.at)
	if p.spec.Container != nil || p.used.pid == p.record.PID && since < usageEvery {
		return // of a container its engine tells
	}
	seconds, memory := usage(p.record.PID)
	p.used.cores = 0
	if p.used.pid == p.record.PID {
		p.used.cores = max(0, seconds-p.used.seconds) / since.Seconds()
	}
	p.used.at, p.used.pid, p.used.seconds, p.used.memory, p.used.byHand = now, p.record.PID, seconds, memory, p.byHand()
}
