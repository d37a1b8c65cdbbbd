package keeper

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"time"

	"aditus/internal/limit"
	"aditus/internal/system"
)

// Command is a command to be run beside a process: where it runs, as its user, with its environment, and within its reach.
type Command struct {
	Process string   `json:"process"` // its ID
	Name    string   `json:"name"`    // as it was declared
	Args    []string `json:"args"`    // the executable and its arguments
}

// Ran is what became of a Command.
type Ran struct {
	Said string `json:"said,omitempty"` // what is wrong; empty where it exited with status 0
}

// runKill is how long a command that is to end may take before it is left alone.
const runKill = time.Second

// run runs a command beside a process until it ends, or ctx does.
func (s *site) run(ctx context.Context, c Command) Ran {
	s.mu.Lock()
	p := s.processes[c.Process]
	s.mu.Unlock()
	if p == nil || len(c.Args) == 0 {
		return Ran{"it does not run"}
	}
	if p.contained() {
		return p.execute(ctx, c)
	}
	p.mu.Lock()
	runs, cmd := p.record.PID != 0, p.command(c.Args, p.environment())
	p.mu.Unlock()
	if !runs {
		return Ran{"it does not run"}
	}
	err := p.enter(cmd, limit.Find(p.group()...))
	if err == nil {
		err = p.wait(ctx, cmd)
	}
	var ended *exec.ExitError
	switch {
	case err == nil:
		return Ran{}
	case errors.As(err, &ended) && ctx.Err() == nil:
		return Ran{fmt.Sprintf("%s exited with status %d", c.Name, ended.ExitCode())}
	}
	return Ran{fmt.Sprintf("%s cannot be started: %v", c.Name, err)}
}

// wait waits for a command that was started, and ends it with all that it started once ctx ends.
func (p *process) wait(ctx context.Context, cmd *exec.Cmd) error {
	done := make(chan error, 1)
	go func() { done <- cmd.Wait() }()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
		system.KillGroup(cmd.Process.Pid)
	}
	select {
	case <-done:
	case <-time.After(runKill):
	}
	return ctx.Err()
}
