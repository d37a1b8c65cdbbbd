package keeper

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	gops "github.com/shirou/gopsutil/v4/process"

	"aditus/internal/target"
)

// takeOver takes over what ran before there was anybody to keep it, where it is still what is to run; nil where there is nothing to
// take over. It is called with the lock held.
func (p *process) takeOver() *running {
	f := p.spec.Found
	if f == nil || !p.record.Started.IsZero() {
		return nil
	}
	if err := p.isFound(f); err != nil {
		if text := fmt.Sprintf("process %d is not taken over: %v", f.PID, err); !slices.ContainsFunc(p.record.Events, func(e Event) bool { return e.Text == text }) {
			p.note(func(r *record, at time.Time) { r.event(at, true, "%s", text) })
		}
		return nil
	}
	p.site.keeper.ports.hold(p.spec.ID, f.Ports)
	p.note(func(r *record, at time.Time) {
		r.PID, r.Created, r.Ports, r.Started, r.Found = f.PID, f.Created, f.Ports, time.UnixMilli(f.Created), true
		r.event(at, false, "process %d is taken over as it is; what it writes goes where it went", f.PID)
	})
	return p.attend()
}

// isFound tells why a process is not what is to run; nil where it is.
func (p *process) isFound(f *target.Found) error {
	if !(record{PID: f.PID, Created: f.Created}).lives() {
		return errors.New("it has ended")
	}
	seen := &gops.Process{Pid: int32(f.PID)}
	args, err := seen.CmdlineSlice()
	if err != nil {
		return err
	}
	program, err := seen.Exe()
	if err != nil {
		return err
	}
	is, err := os.Stat(program)
	if err != nil {
		return err
	}
	environment := p.environment()
	want := make([]string, len(p.spec.Args))
	for i, text := range p.spec.Args {
		want[i] = fill(text, environment)
	}
	if len(want) == 0 || len(args) == 0 {
		return errors.New("what it is to run is not at hand")
	}
	if declared, err := os.Stat(want[0]); err != nil || !os.SameFile(declared, is) || !slices.Equal(want[1:], args[1:]) {
		return errors.New("another command is declared than it runs")
	}
	for _, name := range p.spec.Ports {
		if f.Ports[name] == 0 || p.spec.Fixed[name] != f.Ports[name] {
			return fmt.Errorf("its port %s is declared otherwise", name)
		}
	}
	return nil
}

// letGo leaves a process that ran before anybody here kept it to itself. One that was started here is not: what it writes would go nowhere,
// and it would stand still once nobody reads it.
func (s *site) letGo(id string) error {
	s.applying.Lock()
	defer s.applying.Unlock()
	s.mu.Lock()
	p := s.processes[id]
	if p == nil {
		s.mu.Unlock()
		return nil
	}
	p.mu.Lock()
	found := p.record.Found
	p.mu.Unlock()
	if !found {
		s.mu.Unlock()
		return fmt.Errorf("%s was started by Aditus, and what it writes is kept by it: it cannot run on by itself", id)
	}
	s.spec.Processes = slices.DeleteFunc(slices.Clone(s.spec.Processes), func(own Process) bool { return own.ID == id })
	close(p.letGo)
	s.dismiss(id, p)
	s.mu.Unlock()
	<-p.ended
	return nil
}

// goes leaves the process to itself where it was let go.
func (p *process) goes() bool {
	select {
	case <-p.letGo:
		p.unready()
		return true
	default:
		return false
	}
}
