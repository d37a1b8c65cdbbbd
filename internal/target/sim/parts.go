package sim

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/signal"
	"aditus/internal/status"
	"aditus/internal/target"
)

// find gives an instance.
func (s *Site) find(workload, id string) (*instance, error) {
	if in := s.instances[workload][id]; in != nil {
		return in, nil
	}
	return nil, fmt.Errorf("%s at %s: %w", id, s.name, target.ErrNoInstance)
}

// Exec implements target.Driver. The made-up process does as well by a command as by a request.
func (s *Site) Exec(_ context.Context, workload, id string, command []string) (string, error) {
	if err := s.lock(); err != nil {
		return "", err
	}
	defer s.mu.Unlock()
	in, err := s.find(workload, id)
	if err != nil {
		return "", err
	}
	now := s.now()
	if _, unready := in.fault(Unready, now); !in.up(now) || in.down(now) || unready > 0 {
		return command[0] + " exited with status 1", nil
	}
	return "", nil
}

// task tells whether the instance runs to its end.
func (in *instance) task() bool { return in.cohort.Parts[in.Part].Kind == declare.Task }

// defaultTakes is how long a task takes where its artifact does not say.
const defaultTakes = 3 * time.Second

// ended tells whether a task came to its end, and why it failed where it did.
func (in *instance) ended(now time.Time) (done bool, failed string) {
	takes := in.artifact.Takes
	if takes == 0 {
		takes = defaultTakes
	}
	if !in.exists || now.Sub(in.Created) < takes {
		return false, ""
	}
	return in.artifact.Fails == "", in.artifact.Fails
}

// events are what happened to the instance, as a target would tell it.
func (in *instance) events(now time.Time) []status.Event {
	events := []status.Event{{At: in.Created, Text: "created from " + in.cohort.Parts[in.Part].Artifact}}
	if !in.exists {
		return append(events, status.Event{At: in.Created, Text: "cannot start: the artifact was not found", Bad: true})
	}
	restarts := in.crashes(now)
	for _, at := range restarts[max(0, len(restarts)-8):] {
		events = append(events, status.Event{At: at.Add(-downtime), Text: "exited with status 1", Bad: true}, status.Event{At: at, Text: "started again"})
	}
	if in.task() {
		if done, failed := in.ended(now); failed != "" {
			events = append(events, status.Event{At: now, Text: "failed: " + failed, Bad: true})
		} else if done {
			events = append(events, status.Event{At: in.Created.Add(max(in.artifact.Takes, defaultTakes)), Text: "ran to its end"})
		}
		return events
	}
	if in.down(now) {
		return append(events, status.Event{At: now, Text: "exited with status 1", Bad: true})
	}
	if in.up(now) {
		events = append(events, status.Event{At: in.started(now).Add(in.artifact.StartsIn), Text: "ready"})
	}
	return events
}

// Measure implements target.Driver: the made-up router counts what the made-up instances answer.
func (s *Site) Measure(_ context.Context, workload string) (map[string]signal.Page, error) {
	if err := s.lock(); err != nil {
		return nil, err
	}
	defer s.mu.Unlock()
	s.advance(workload, s.now())
	pages := map[string]signal.Page{}
	for id, in := range s.instances[workload] {
		if !in.task() && in.exists {
			pages[id] = target.Measured(map[int]uint64{200: uint64(in.requests[0]), 500: uint64(in.requests[1])}, bounds, in.counts, in.sum)
		}
	}
	return pages, nil
}

// logEvery is how often a made-up instance writes a line, and logBack how far back its lines are remembered.
const (
	logEvery = 2 * time.Second
	logBack  = 10 * time.Minute
)

// Log implements target.Driver.
func (s *Site) Log(_ context.Context, workload, id string, since time.Time, most int) ([]target.LogLine, error) {
	if err := s.lock(); err != nil {
		return nil, err
	}
	defer s.mu.Unlock()
	in, err := s.find(workload, id)
	if err != nil {
		return nil, fmt.Errorf("the log of %w", err)
	}
	lines := in.log(since, s.now())
	return lines[max(0, len(lines)-most):], nil
}

// log makes up what the instance wrote; the same moment always has the same line.
func (in *instance) log(since, now time.Time) []target.LogLine {
	if !in.exists {
		return nil
	}
	var lines []target.LogLine
	write := func(at time.Time, format string, args ...any) {
		if !at.Before(since) && !at.After(now) {
			lines = append(lines, target.LogLine{At: at, Text: fmt.Sprintf(format, args...)})
		}
	}
	began := in.started(now)
	write(began, "info  starting %s", shortName(in.cohort.Parts[in.Part].Artifact))
	for _, name := range slices.Sorted(maps.Keys(in.Environment)) {
		write(began, "info  %s=%s", name, in.Environment[name])
	}
	if in.task() {
		done, failed := in.ended(now)
		if failed != "" {
			write(now, "error %s", failed)
		} else if done {
			write(began.Add(defaultTakes), "info  done")
		}
		return lines
	}
	from := began
	if back := now.Add(-logBack); back.After(from) {
		from = back
	}
	for at := from.Truncate(logEvery).Add(logEvery); !at.After(now); at = at.Add(logEvery) {
		chance := in.site.behaviour.seedOf(in.ID, at.UTC().Format(time.RFC3339))
		_, slow := in.fault(SlowAnswers, at)
		_, hangs := in.fault(Hang, at)
		switch {
		case !in.up(at):
			write(at, "info  warming up, %d of 40 caches filled", chance%40)
		case hangs > 0:
			write(at, "warn  waiting for a lock held since %s", began.UTC().Format(time.TimeOnly))
		case slow > 0 && chance%3 == 0:
			write(at, "warn  slow answer: waited %d ms for a lock", 250+chance%900)
		case chance%23 == 0:
			write(at, "warn  GET /v1/%s/%d 500 in %d ms", in.workload, chance%9000, 3+chance%40)
		default:
			write(at, "info  GET /v1/%s/%d 200 in %d ms", in.workload, chance%9000, 3+chance%90)
		}
	}
	return lines
}

var errNotServing = errors.New("nothing of it serves")
