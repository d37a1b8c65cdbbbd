package keeper

import (
	"cmp"
	"context"
	"fmt"
	"strconv"
	"syscall"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/say"
	"aditus/internal/limit"
	"aditus/internal/system"
)

// ending is how a process ended.
type ending struct {
	status int
	signal syscall.Signal
	known  bool   // false where another keeper started it, so that the system told that one
	why    string // in the words of the container's engine; empty where it says no more
	last   string // line that a container wrote
}

func (e ending) String() string {
	switch {
	case e.why != "":
		return e.why
	case !e.known:
		return "ended while it was taken over, nobody knows how"
	case e.signal != 0:
		return "killed by " + system.SignalName(e.signal)
	}
	return "exited with status " + strconv.Itoa(e.status)
}

// exited notes that the process ended by itself.
func (p *process) exited(how ending) {
	p.unready()
	last := p.journal.end()
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.spec.Container == nil {
		p.killGroup(p.record.PID)
	}
	reason := how.String()
	group := limit.Find(p.group()...)
	if how.signal == syscall.SIGKILL && group.OutOfMemory() > p.record.OutOfMemory {
		reason = fmt.Sprintf("killed: it used all of its memory, %s", say.Bytes(p.spec.Limits.Memory))
	}
	if err := group.End(); err != nil {
		p.site.warn("a control group cannot be removed", p.spec.ID, err)
	}
	if last = cmp.Or(last, how.last); last != "" {
		reason += ": " + last
	}
	p.note(func(r *record, now time.Time) {
		r.down()
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

// down notes that it could not even be started. One that runs once has failed then, unless it is to be tried again.
func (p *process) down(reason string, again bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.note(func(r *record, now time.Time) {
		if r.down(); r.Reason != reason {
			r.event(now, true, "%s", reason)
		}
		r.Reason = reason
		if p.spec.Once && !again {
			r.Failed = reason
		}
	})
}

// unready takes the process out of all traffic.
func (p *process) unready() {
	p.mu.Lock()
	p.ready, p.led, p.changed = false, false, p.site.news.add()
	p.mu.Unlock()
	p.site.lead()
}

// startedAnew is why a process ends that starts again.
const startedAnew = "to be started anew"

// end ends the process: no new traffic, what it has may end, then the signal, then by force.
func (p *process) end(now *running, why string) {
	p.unready()
	p.mu.Lock()
	stop := p.spec.Stop
	p.mu.Unlock()
	drain, cancel := context.WithTimeout(context.Background(), stop.Drain.Duration)
	defer cancel()
	p.site.keeper.traffic.Drain(drain, p.site.name, p.spec.ID)
	text := "ended, " + why
	if now.container != "" {
		p.endContainer(now, why == startedAnew)
	} else if !p.signal(now, stop) {
		text = fmt.Sprintf("killed, %s: it did not end within %s of %s", why, stop.Within, stop.Signal)
	}
	if now.container == "" {
		p.killGroup(now.pid)
	}
	if err := limit.Find(p.group()...).End(); err != nil {
		p.site.warn("a control group cannot be removed", p.spec.ID, err)
	}
	p.journal.end()
	p.mu.Lock()
	defer p.mu.Unlock()
	p.note(func(r *record, at time.Time) {
		r.down()
		r.event(at, false, "%s", text)
	})
}

// signal has the process end, and tells whether it did by itself.
func (p *process) signal(now *running, stop declare.Stop) bool {
	if now.own == nil {
		return true
	}
	now.own.Signal(system.Signals[stop.Signal])
	system.Wake(now.own) // one that somebody stopped takes it then
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
		system.KillGroup(pid)
	}
}
