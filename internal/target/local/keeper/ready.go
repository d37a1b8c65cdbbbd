package keeper

import (
	"context"
	"slices"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/health"
)

// Probe asks an instance once, and tells why it did not pass; empty where it did.
type Probe func(ctx context.Context, host string, ports map[string]int, probe declare.Probe) (reason string)

// eager is how often an instance that is not ready yet is asked at least, so that it has traffic soon after it can.
const eager = 250 * time.Millisecond

// watch asks a process whether it may have traffic until ctx ends: it may once all of its probes passed. The engine
// asks by itself whether it is healthy; this is so that no request goes where it would be lost, whoever else runs.
func (p *process) watch(ctx context.Context) {
	p.mu.Lock()
	probes, ports, ready, started := slices.Clone(p.spec.Probes), p.record.Ports, p.ready, p.record.Started // one that was taken over may have traffic already
	p.ails = ""
	p.mu.Unlock()
	own, passed := -1, false // where the image's own check is, and whether it did
	if check := p.ownCheck(ctx); check != nil {
		own, probes = len(probes), append(probes, *check)
	}
	if len(probes) == 0 {
		p.setReady(ctx, true)
		return
	}
	tracks := make([]health.Track, len(probes))
	due := make([]time.Time, len(probes))
	for {
		now, all, next := time.Now(), true, time.Now().Add(time.Hour)
		for i, probe := range probes {
			if !now.Before(due[i]) {
				reason := p.asks(ctx, ports, probe)
				if ctx.Err() != nil {
					return
				}
				tracks[i] = tracks[i].Observe(health.Outcome{At: now, Passed: reason == "", Reason: reason}, probe.Thresholds())
				every := probe.Every.Duration
				switch {
				case i == own && !passed:
					every = min(every, time.Duration(max(1, tracks[i].Fails))*checkEager) // ever more seldom: an engine may remember each for minutes
				case i != own && !ready:
					every = min(every, eager)
				}
				if i == own {
					passed = passed || reason == ""
					p.setAils(ctx, ails(tracks[i], started, now, probe))
				}
				due[i] = now.Add(every)
			}
			up := tracks[i].Passes >= max(1, probe.Passes)
			if ready {
				up = tracks[i].Fails < max(1, probe.Fails)
			}
			if all = all && up; due[i].Before(next) {
				next = due[i]
			}
		}
		if all != ready {
			ready = all
			p.setReady(ctx, ready)
		}
		timer := time.NewTimer(time.Until(next))
		select {
		case <-ctx.Done():
			timer.Stop()
			return
		case <-timer.C:
		}
	}
}

// ails is what a check says against what it asks: nothing before its thresholds are reached, and its grace is over.
func ails(t health.Track, started, now time.Time, check declare.Probe) string {
	if word, why := t.Judge(started, now, check.Thresholds()); word == health.Failing {
		return why
	}
	return ""
}

// setReady gives traffic to the process, or takes it away, unless ctx ended: it ended then, or is about to.
func (p *process) setReady(ctx context.Context, ready bool) {
	p.mu.Lock()
	if ctx.Err() != nil {
		p.mu.Unlock()
		return
	}
	p.ready = ready
	p.mu.Unlock()
	p.site.lead()
	p.mu.Lock()
	defer p.mu.Unlock()
	p.led, p.changed = p.ready, p.site.news.add() // told once it is so
}
