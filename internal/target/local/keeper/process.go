package keeper

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"aditus/internal/core/declare"
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
	again   chan struct{} // has something when it is to be started anew
	ended   chan struct{} // closed once nothing of it runs

	mu      sync.Mutex
	spec    Process
	record  record
	ready   bool // it may have traffic
	next    time.Time
	changed uint64 // the site's version at the last change
	used    struct {
		at      time.Time
		pid     int
		seconds float64
		cores   float64
		memory  uint64
	}
}

// running is a process of the system.
type running struct {
	pid  int
	own  *os.Process
	gone chan ending // has one when it ended
}

// ending is how a process ended.
type ending struct {
	status int
	signal syscall.Signal
	known  bool // false where another keeper started it, so that the system told that one
}

func (e ending) String() string {
	switch {
	case !e.known:
		return "ended while it was taken over, nobody knows how"
	case e.signal != 0:
		return "killed by " + signalName(e.signal)
	}
	return "exited with status " + strconv.Itoa(e.status)
}

func newProcess(s *site, spec Process) *process {
	folder := filepath.Join(s.spec.Folder, spec.ID)
	p := &process{site: s, folder: folder, journal: newJournal(folder), spec: spec, changed: s.news.add(), stop: make(chan struct{}), again: make(chan struct{}, 1), ended: make(chan struct{})}
	p.record, _ = readRecord(folder) // there is none of a new one
	return p
}

// life keeps the process until it is no longer wanted. stray is one that runs without a record, 0 for none.
func (p *process) life(stray int) {
	defer close(p.ended)
	wait := firstWait
	now := p.adopt(stray)
	for {
		if p.over() {
			<-p.stop
			return
		}
		if now == nil {
			select {
			case <-p.stop:
				return
			default:
			}
			var err error
			if now, err = p.start(); err != nil {
				p.down(err.Error())
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
				cancel()
				p.end(now, "no longer wanted")
				return
			case <-p.again:
				cancel()
				p.end(now, "to be started anew")
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

// adopt takes over what an earlier keeper started, where it still runs.
func (p *process) adopt(stray int) *running {
	p.mu.Lock()
	defer p.mu.Unlock()
	pid := p.record.PID
	if !p.record.lives() {
		created, ok := createdAt(stray)
		if stray == 0 || !ok {
			if pid != 0 { // it ended while nobody kept it
				p.note(func(r *record, now time.Time) {
					r.PID = 0
					r.event(now, true, "ended while nobody kept it")
					if p.spec.Once {
						r.Failed = "it ended while nobody watched; whether it did its work is not known"
					} else {
						r.Restarts = append(r.Restarts, now)
					}
				})
			}
			return nil
		}
		pid, p.record.Created = stray, created
	}
	now := &running{pid: pid, gone: make(chan ending, 1)}
	now.own, _ = os.FindProcess(pid) // holds on to this very process where the system lets it
	p.note(func(r *record, at time.Time) {
		r.PID = pid
		r.event(at, false, "taken over")
	})
	if err := p.journal.read(); err != nil {
		p.record.event(time.Now(), true, "what it writes cannot be read any more: %v", err)
	}
	r := p.record
	go func() {
		for r.lives() {
			time.Sleep(lookEvery)
		}
		now.gone <- ending{}
	}()
	return now
}

// note changes the record and writes it. With a full disk the process is kept all the same.
func (p *process) note(change func(r *record, now time.Time)) {
	change(&p.record, time.Now())
	if n := len(p.record.Restarts); n > mostRestarts {
		p.record.Restarts = append([]time.Time(nil), p.record.Restarts[n-mostRestarts:]...)
	}
	if err := p.record.write(p.folder); err != nil {
		p.site.warn("the record of a process cannot be written", p.spec.ID, err)
	}
	p.changed = p.site.news.add()
}

// start starts the process.
func (p *process) start() (*running, error) {
	between := p.site.between()
	p.mu.Lock()
	defer p.mu.Unlock()
	if err := os.MkdirAll(filepath.Join(p.folder, "work"), 0o700); err != nil {
		return nil, err
	}
	ports, err := p.site.keeper.ports.take(p.spec.ID, p.spec.Ports, p.record.Ports, between)
	if err != nil {
		return nil, err
	}
	p.record.Ports = ports
	ends, err := p.journal.open()
	for _, end := range ends {
		defer end.Close()
	}
	if err != nil {
		return nil, fmt.Errorf("keep what it writes: %w", err)
	}
	p.journal.forget()
	environment := p.environment()
	args := make([]string, len(p.spec.Args))
	for i, text := range p.spec.Args {
		args[i] = os.Expand(text, func(name string) string {
			if name == "$" {
				return "$"
			}
			return lookup(environment, name)
		})
	}
	cmd := exec.Cmd{Path: args[0], Args: args, Env: environment, Dir: filepath.Join(p.folder, "work"), Stdout: ends[0], Stderr: ends[1], SysProcAttr: &syscall.SysProcAttr{Setsid: true}}
	if err := cmd.Start(); err != nil {
		var path *os.PathError
		if errors.As(err, &path) {
			err = path.Err
		}
		return nil, fmt.Errorf("cannot be started: %s: %w", filepath.Base(args[0]), err)
	}
	now := &running{pid: cmd.Process.Pid, own: cmd.Process, gone: make(chan ending, 1)}
	p.note(func(r *record, at time.Time) {
		r.PID, r.Started, r.Reason = now.pid, at, ""
		r.Created, _ = createdAt(now.pid)
		r.event(at, false, "started")
	})
	go func() {
		err := cmd.Wait()
		how := ending{known: true}
		if state, ok := cmd.ProcessState.Sys().(syscall.WaitStatus); ok && state.Signaled() {
			how.signal = state.Signal()
		} else if err != nil {
			how.status = cmd.ProcessState.ExitCode()
		}
		now.gone <- how
	}()
	return now, nil
}

// environment is all that the process gets to know.
func (p *process) environment() []string {
	environment := append([]string(nil), p.spec.Env...)
	for name, port := range p.record.Ports {
		environment = append(environment, "PORT_"+Variable(name)+"="+strconv.Itoa(port))
		if len(p.record.Ports) == 1 {
			environment = append(environment, "PORT="+strconv.Itoa(port))
		}
	}
	return append(environment, folderName+"="+p.folder)
}

// Variable is a name as that of a variable: upper case, with underscores.
func Variable(name string) string {
	return strings.Map(func(c rune) rune {
		switch {
		case c >= 'a' && c <= 'z':
			return c - 'a' + 'A'
		case c >= 'A' && c <= 'Z', c >= '0' && c <= '9':
			return c
		}
		return '_'
	}, name)
}

// lookup finds a variable; the last of a name counts, as for the system.
func lookup(environment []string, name string) string {
	for i := len(environment) - 1; i >= 0; i-- {
		if value, ok := strings.CutPrefix(environment[i], name+"="); ok {
			return value
		}
	}
	return ""
}

// exited notes that the process ended by itself.
func (p *process) exited(how ending) {
	p.unready()
	last := p.journal.end()
	p.mu.Lock()
	defer p.mu.Unlock()
	p.killGroup(p.record.PID)
	reason := how.String()
	if last != "" {
		reason += ": " + last
	}
	p.note(func(r *record, now time.Time) {
		r.PID = 0
		switch {
		case p.spec.Once && how.known && how.status == 0 && how.signal == 0:
			r.Done = true
			r.event(now, false, "ran to its end")
		case p.spec.Once:
			r.Failed = reason
			r.event(now, true, "failed: %s", reason)
		default:
			r.Reason = reason
			r.event(now, true, "%s", reason)
		}
	})
}

// down notes that it could not even be started.
func (p *process) down(reason string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.note(func(r *record, now time.Time) {
		if r.PID = 0; r.Reason != reason {
			r.event(now, true, "%s", reason)
		}
		r.Reason = reason
		if p.spec.Once {
			r.Failed = reason
		}
	})
}

func (p *process) restarted() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.note(func(r *record, now time.Time) { r.Restarts = append(r.Restarts, now) })
}

// unready takes the process out of all traffic.
func (p *process) unready() {
	p.mu.Lock()
	p.ready, p.changed = false, p.site.news.add()
	p.mu.Unlock()
	p.site.lead()
}

// end ends the process: no new traffic, what it has may end, then the signal, then by force.
func (p *process) end(now *running, why string) {
	p.unready()
	p.mu.Lock()
	stop := p.spec.Stop
	p.mu.Unlock()
	drain, cancel := context.WithTimeout(context.Background(), stop.Drain.Duration)
	defer cancel()
	p.site.router.Drain(drain, p.spec.ID)
	text := "ended, " + why
	if !p.signal(now, stop) {
		text = fmt.Sprintf("killed, %s: it did not end within %s of %s", why, stop.Within, stop.Signal)
	}
	p.killGroup(now.pid)
	p.journal.end()
	p.mu.Lock()
	defer p.mu.Unlock()
	p.note(func(r *record, at time.Time) {
		r.PID = 0
		r.event(at, false, "%s", text)
	})
}

// signal has the process end, and tells whether it did by itself.
func (p *process) signal(now *running, stop declare.Stop) bool {
	if now.own == nil {
		return true
	}
	now.own.Signal(signals[stop.Signal])
	timer := time.NewTimer(stop.Within.Duration)
	defer timer.Stop()
	select {
	case <-now.gone:
		return true
	case <-timer.C:
	}
	now.own.Kill()
	select {
	case <-now.gone:
	case <-time.After(killWait):
		p.site.warn("a process that was killed is still there", p.spec.ID, nil)
	}
	return false
}

// killGroup ends what the process has left running in its session's group.
func (p *process) killGroup(pid int) {
	if pid > 1 {
		syscall.Kill(-pid, syscall.SIGKILL)
	}
}

// state is how the process is doing, and whether it may have traffic.
func (p *process) state() (State, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	r := p.record
	s := State{Changed: p.changed, Ports: r.Ports, Running: r.PID != 0, Started: r.Started, Restarts: r.Restarts, Reason: r.Reason, Done: r.Done, Failed: r.Failed, Events: r.Events, Again: p.next}
	if s.Running {
		p.measure(time.Now())
		s.CPU, s.Cores, s.Memory = p.used.seconds, p.used.cores, p.used.memory
	}
	return s, p.ready
}

// measure looks at what the process uses, not more often than usageEvery. It is called with the lock held.
func (p *process) measure(now time.Time) {
	since := now.Sub(p.used.at)
	if p.used.pid == p.record.PID && since < usageEvery {
		return
	}
	seconds, memory := usage(p.record.PID)
	p.used.cores = 0
	if p.used.pid == p.record.PID {
		p.used.cores = max(0, seconds-p.used.seconds) / since.Seconds()
	}
	p.used.at, p.used.pid, p.used.seconds, p.used.memory = now, p.record.PID, seconds, memory
}
