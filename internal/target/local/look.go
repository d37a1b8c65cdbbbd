package local

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/signal"
	"aditus/internal/target"
	"aditus/internal/target/local/keeper"
	"aditus/internal/target/router"
	"aditus/internal/target/wanted"
)

// find gives an instance with its cohort.
func (s *Site) find(workload, id string) (in wanted.Instance, c *wanted.Cohort, err error) {
	for _, c := range s.copy(workload) {
		for _, in := range c.Instances {
			if in.ID == id {
				return in, c, nil
			}
		}
	}
	return in, nil, fmt.Errorf("%s at %s: %w", id, s.Name, target.ErrNoInstance)
}

// Exec implements target.Driver. The command runs beside the instance, where it runs, as its user and with its environment.
func (s *Site) Exec(ctx context.Context, workload, id string, command []string) (string, error) {
	in, c, err := s.find(workload, id)
	if err != nil {
		return "", err
	}
	args := command
	if part := c.Parts[in.Part]; !s.contained() {
		unpacked, err := s.unpacked(part)
		if err != nil {
			return "", err
		}
		if args, err = unpacked.Command(command, s.machine(part)); err != nil {
			return err.Error(), nil
		}
	}
	said, err := s.Keeper.run(ctx, s.Name, keeper.Command{Process: id, Args: args, Name: command[0]})
	if ctx.Err() != nil {
		err = ctx.Err()
	}
	return said, err
}

// Measure implements target.Driver.
func (s *Site) Measure(ctx context.Context, workload string) (map[string]signal.Page, error) {
	cohorts := s.copy(workload)
	status, err := s.now(ctx)
	if err != nil {
		return nil, fmt.Errorf("%s: %w: %v", s.Name, target.ErrUnreachable, err)
	}
	split := routed(cohorts)
	pages := map[string]signal.Page{}
	for _, id := range instancesOf(cohorts) {
		state, ok := status.Processes[id]
		if !ok {
			continue
		}
		page := signal.Page{}
		if counts, ok := status.Counts[id]; ok && split {
			buckets := make([]float64, len(counts.Buckets))
			for i, n := range counts.Buckets {
				buckets[i] = float64(n)
			}
			page = target.Measured(counts.Requests, router.Bounds, buckets, counts.Seconds)
			page[target.ConnectionsMetric] = []signal.Sample{signal.NewSample(nil, float64(counts.Connections))}
		}
		if state.Running && s.contained() {
			s.containerUsage(ctx, id, page)
		} else if state.Running {
			page[target.MemoryMetric] = []signal.Sample{signal.NewSample(nil, float64(state.Memory))}
			page[target.ProcessorMetric] = []signal.Sample{signal.NewSample(nil, state.CPU)}
		}
		pages[id] = page
	}
	return pages, nil
}

// instances names all instances of a workload.
func (s *Site) instances(workload string) (ids []string) {
	s.book.Read(workload, func(cohorts map[declare.Fingerprint]*wanted.Cohort) { ids = instancesOf(cohorts) })
	return ids
}

// instancesOf names all instances of a workload's cohorts.
func instancesOf(cohorts map[declare.Fingerprint]*wanted.Cohort) (ids []string) {
	for _, c := range cohorts {
		for _, in := range c.Instances {
			ids = append(ids, in.ID)
		}
	}
	return ids
}

// Log implements target.Driver.
func (s *Site) Log(ctx context.Context, workload, id string, since time.Time, most int) ([]target.LogLine, error) {
	if _, _, err := s.find(workload, id); err != nil {
		return nil, fmt.Errorf("the log of %w", err)
	}
	if s.contained() {
		return s.containerLog(ctx, id, since, most)
	}
	folder := filepath.Join(s.home(id), keeper.LogFolder)
	older, err := filepath.Glob(filepath.Join(folder, "current-*.log")) // with the time in their names, so in order
	if err != nil {
		return nil, err
	}
	var lines []target.LogLine
	for _, file := range append([]string{filepath.Join(folder, keeper.LogFile)}, newestOf(older)...) {
		if info, err := os.Stat(file); err != nil || s.as(info.ModTime()).Before(since) {
			continue
		}
		found, err := s.readLog(file, since, most-len(lines))
		if err != nil {
			return nil, fmt.Errorf("the log of %s: %w", id, err)
		}
		if lines = append(found, lines...); len(lines) >= most {
			break
		}
	}
	return lines, nil
}

func newestOf(files []string) []string {
	slices.Sort(files)
	slices.Reverse(files)
	return files
}

// tailSize is how much of the end of a file is read for so many lines.
const tailSize = 256

// readLog gives the last lines of a file that were written since a moment.
func (s *Site) readLog(name string, since time.Time, most int) ([]target.LogLine, error) {
	file, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	if info, err := file.Stat(); err == nil && info.Size() > int64(most)*tailSize {
		if _, err := file.Seek(-int64(most)*tailSize, 2); err != nil {
			return nil, err
		}
	}
	var lines []target.LogLine
	in := bufio.NewScanner(file)
	in.Buffer(make([]byte, 0, 64<<10), 1<<20)
	for in.Scan() {
		at, rest, _ := strings.Cut(in.Text(), " ")
		stream, text, _ := strings.Cut(rest, " ")
		when, err := time.Parse(time.RFC3339Nano, at)
		if err != nil { // the first may be half a line
			continue
		}
		if when = s.as(when); !when.Before(since) {
			lines = append(lines, target.LogLine{At: when, Stream: stream, Text: text})
		}
	}
	return lines[max(0, len(lines)-most):], in.Err()
}
