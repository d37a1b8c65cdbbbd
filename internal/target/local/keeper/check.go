package keeper

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/target/containers/host"
)

// What holds for an image's own check where it says nothing, as engines have it; and how soon it is asked again at first until it passes.
const (
	checkEvery   = 30 * time.Second
	checkTimeout = 30 * time.Second
	checkFails   = 3
	checkEager   = time.Second
)

// probeOf is the check that an image brings for whoever runs it, as a probe; nil where it brings none.
func probeOf(h *host.Healthcheck) *declare.Probe {
	if h == nil || len(h.Test) < 2 {
		return nil
	}
	every, fails := cmp.Or(h.Interval, checkEvery), cmp.Or(h.Retries, checkFails)
	probe := declare.Probe{
		Every: declare.Span{Duration: every}, Timeout: declare.Span{Duration: cmp.Or(h.Timeout, checkTimeout)}, Passes: 1, Fails: fails,
		Grace: declare.Span{Duration: h.StartPeriod + time.Duration(fails)*every}, // asked as seldom as the image says, it could not have failed sooner
	}
	switch h.Test[0] {
	case "CMD":
		probe.Command = h.Test[1:]
	case "CMD-SHELL":
		probe.Command = []string{"/bin/sh", "-c", h.Test[1]}
	default:
		return nil
	}
	return &probe
}

// ownCheck is that of a process's container; nil where there is none. It waits until the engine says so.
func (p *process) ownCheck(ctx context.Context) *declare.Probe {
	p.mu.Lock()
	id, address := p.record.Container, p.record.Engine
	p.mu.Unlock()
	if id == "" {
		return nil
	}
	for {
		c, err := p.site.keeper.engine(address).Inspect(ctx, id)
		if err == nil {
			return probeOf(c.Config.Healthcheck)
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(checkEager):
		}
	}
}

// asks asks a probe; one with a command is run within the container.
func (p *process) asks(ctx context.Context, ports map[string]int, probe declare.Probe) (reason string) {
	if len(probe.Command) == 0 {
		return p.site.keeper.options.Probe(ctx, Host, ports, probe)
	}
	within, cancel := context.WithTimeout(ctx, probe.Timeout.Duration)
	defer cancel()
	ran := p.execute(within, Command{Name: probe.Command[0], Args: probe.Command})
	switch {
	case within.Err() != nil && ctx.Err() == nil:
		return fmt.Sprintf("its image's own check, %s: no end within %s", probe.Command[0], probe.Timeout)
	case ran.Said != "":
		return "its image's own check, " + ran.Said
	}
	return ""
}

// setAils notes what the image's own check says against a container.
func (p *process) setAils(ctx context.Context, why string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if ctx.Err() == nil && p.ails != why {
		p.ails, p.changed = why, p.site.news.add()
	}
}
