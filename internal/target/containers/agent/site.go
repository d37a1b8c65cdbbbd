package agent

import (
	"context"
	"fmt"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/signal"
	"aditus/internal/status"
	"aditus/internal/target"
)

// there is a site at the other end of a link.
type there struct {
	link *Link
	name string
}

var _ Site = (*there)(nil)

// Site gives a site that works there.
func (l *Link) Site(name string) Site { return &there{l, name} }

// knows notes that a workload is of interest.
func (t *there) knows(workload string) {
	t.link.mu.Lock()
	defer t.link.mu.Unlock()
	if t.link.known[t.name] == nil {
		t.link.known[t.name] = map[string]bool{}
	}
	t.link.known[t.name][workload] = true
}

// ask asks what nothing is waited for in.
func (t *there) ask(ctx context.Context, question string, q about) (answer, error) {
	within, cancel := context.WithTimeout(ctx, askWait)
	defer cancel()
	said, err := t.link.ask(within, t.name, question, q)
	if err != nil && within.Err() != nil && ctx.Err() == nil {
		err = fmt.Errorf("%s: %w: its agent has not answered for %s", t.name, target.ErrUnreachable, askWait)
	}
	return said, err
}

// Observe implements target.Driver.
func (t *there) Observe(ctx context.Context, workload string) (o target.Observation, err error) {
	t.knows(workload)
	said, err := t.ask(ctx, askObserve, about{Workload: workload})
	if err != nil || said.Observed == nil {
		return o, err
	}
	o = *said.Observed
	for i := range o.Cohorts {
		for j := range o.Cohorts[i].Instances {
			o.Cohorts[i].Instances[j].Through = t.link.way
		}
	}
	return o, nil
}

// Apply implements target.Driver.
func (t *there) Apply(ctx context.Context, workload string, wants []target.Want) error {
	t.knows(workload)
	var sealed []string
	for _, w := range wants {
		if w.Desired == nil {
			continue
		}
		for _, part := range w.Desired.Parts {
			for _, value := range part.Sealed {
				sealed = append(sealed, value)
			}
		}
	}
	_, err := t.ask(ctx, askApply, about{Workload: workload, Wants: wants, Opened: t.link.unseal(sealed)})
	return err
}

// Exec implements target.Driver.
func (t *there) Exec(ctx context.Context, workload, instance string, command []string) (string, error) {
	said, err := t.link.ask(ctx, t.name, askExec, about{Workload: workload, Instance: instance, Command: command})
	return said.Said, err
}

// Restart implements target.Driver.
func (t *there) Restart(ctx context.Context, workload, instance string) error {
	_, err := t.ask(ctx, askRestart, about{Workload: workload, Instance: instance})
	return err
}

// Measure implements target.Driver.
func (t *there) Measure(ctx context.Context, workload string) (map[string]signal.Page, error) {
	said, err := t.ask(ctx, askMeasure, about{Workload: workload})
	for _, page := range said.Measured {
		for _, samples := range page {
			for i, s := range samples {
				samples[i] = signal.NewSample(s.Labels, s.Value)
			}
		}
	}
	return said.Measured, err
}

// Log implements target.Driver.
func (t *there) Log(ctx context.Context, workload, instance string, since time.Time, most int) ([]target.LogLine, error) {
	said, err := t.ask(ctx, askLog, about{Workload: workload, Instance: instance, Since: since, Most: most})
	return said.Lines, err
}

// Follow implements target.Follower.
func (t *there) Follow(ctx context.Context, changed func(target.Berth)) {
	set := func(to func(target.Berth)) {
		t.link.mu.Lock()
		defer t.link.mu.Unlock()
		t.link.follows[t.name] = to
	}
	set(changed)
	defer set(func(target.Berth) {})
	<-ctx.Done()
}

// rememberWait is how long it is waited for what a site remembers, where nobody else is asked for it.
const rememberWait = 10 * time.Second

// Remembered implements target.Rememberer.
func (t *there) Remembered(workload string, revision declare.Fingerprint) *berth.Revision {
	ctx, cancel := context.WithTimeout(context.Background(), rememberWait)
	defer cancel()
	said, _ := t.ask(ctx, askRemembered, about{Workload: workload, Revision: string(revision)}) // where it is not reached nothing is known
	return said.Remembered.Revision(revision)
}

// Remembers implements target.Rememberer.
func (t *there) Remembers() []target.Berth {
	ctx, cancel := context.WithTimeout(context.Background(), rememberWait)
	defer cancel()
	said, _ := t.ask(ctx, askRemembers, about{})
	return said.Workloads
}

// Strays implements target.Finder.
func (t *there) Strays(ctx context.Context) ([]status.Stray, error) {
	said, err := t.ask(ctx, askStrays, about{})
	return said.Strays, err
}

// Pledge implements target.Pledger.
func (t *there) Pledge(workload string, parts map[string]string) error {
	_, err := t.ask(context.Background(), askPledge, about{Workload: workload, Parts: parts})
	return err
}

// Ground implements target.Grounded.
func (t *there) Ground(ctx context.Context) (g status.Ground, err error) {
	said, err := t.ask(ctx, askGround, about{})
	if said.Ground != nil {
		g = *said.Ground
	}
	return g, err
}
