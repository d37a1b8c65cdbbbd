// Package watch is the screen of one rollout: one time axis for its stages, traffic, instances, signals and events,
// and beside it why it is where it is and what comes next.
package watch

import (
	"context"
	"errors"
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/core/berth"
	"aditus/internal/core/fault"
	"aditus/internal/draw"
	"aditus/internal/status"
	"aditus/internal/tui/anatomy"
	"aditus/internal/tui/screen"
	"aditus/internal/view"
	"aditus/internal/words"
)

// Model is a rollout's picture with a cursor in time.
type Model struct {
	desk   *screen.Desk
	berth  status.Berth // as it is now
	watch  view.Watch
	at     time.Time // of the cursor; zero for none
	chart  span
	scroll int // events scrolled back from the newest
}

type span struct{ left, right int }

// Open asks for a berth's newest rollout.
func Open(d *screen.Desk, s status.Snapshot, at berth.ID) (screen.Screen, tea.Cmd) {
	return nil, d.Open(func(ctx context.Context) (screen.Screen, error) {
		w, err := d.Control.Watch(ctx, at, 0)
		if errors.Is(err, fault.ErrNotFound) {
			err = fmt.Errorf("nothing was rolled out at %s · %s yet", at.Workload, at.Site)
		}
		b, _ := s.Find(at)
		return New(d, b, w), err
	})
}

// OpenAt asks for a rollout, and shows it at a moment.
func OpenAt(d *screen.Desk, s status.Snapshot, of berth.ID, rollout int64, moment time.Time) tea.Cmd {
	return d.Open(func(ctx context.Context) (screen.Screen, error) {
		w, err := d.Control.Watch(ctx, of, rollout)
		b, _ := s.Find(of)
		m := New(d, b, w)
		m.at = moment
		return m, err
	})
}

// New makes the screen of a rollout.
func New(d *screen.Desk, b status.Berth, w view.Watch) *Model {
	return &Model{desk: d, berth: b, watch: w}
}

// Berth implements screen.Screen.
func (m *Model) Berth() berth.ID { return m.watch.Berth }

// Picture implements screen.Screen.
func (m *Model) Picture() *screen.Picture {
	w := m.watch
	return &screen.Picture{Name: fmt.Sprintf("watch-%s-%s-%d", w.Berth.Workload, w.Berth.Site, w.Rollout.ID), Paint: draw.OfWatch(w)}
}

// Update implements screen.Screen.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case status.Snapshot:
		m.berth, _ = msg.Find(m.watch.Berth)
		at, number := m.watch.Berth, m.watch.Rollout.ID
		return m.desk.Fetch(m, func(ctx context.Context) func() tea.Cmd {
			newer, err := m.desk.Control.Watch(ctx, at, number)
			if err != nil {
				return nil
			}
			return func() tea.Cmd {
				m.watch = newer
				return nil
			}
		})
	case tea.MouseClickMsg:
		if msg.X >= m.chart.left && msg.X < m.chart.right {
			share := float64(msg.X-m.chart.left) / float64(max(1, m.chart.right-m.chart.left))
			m.at = m.watch.Start.Add(time.Duration(share * float64(m.watch.End.Sub(m.watch.Start))))
		}
	}
	return nil
}

// Keys implements screen.Screen. What can be done to the rollout comes first.
func (m *Model) Keys() []screen.Key {
	var keys []screen.Key
	for _, action := range words.Actions(m.berth) {
		if action.Not == nil && action.Changes && !action.Seldom {
			keys = append(keys, screen.Bind(action.Key, action.Key, string(action.Verb), "", func(string) tea.Cmd { return m.desk.Start(action.Verb, action.Berth) }))
		}
	}
	if checks := m.watch.Rollout.Checks; len(checks) > 0 {
		task := checks[len(checks)-1].Task
		keys = append(keys, screen.Bind("J", "J", "log of "+task, "the log of the task that tries the new cohort", func(string) tea.Cmd {
			return m.desk.Open(func(context.Context) (screen.Screen, error) {
				return anatomy.OfTask(m.desk, m.berth, m.watch.Now, task)
			})
		}))
	}
	return append(keys,
		screen.Bind("p", "p", "picture", "write this picture as SVG and PDF", func(string) tea.Cmd { return m.desk.TakePicture() }),
		screen.Bind("left h right l home", "←→", "through time", "move through time (h l); the values under the cursor are told beside", screen.Only(m.throughTime)),
		screen.Bind("end", "end", "", "back to now", screen.Only(func(string) { m.at = time.Time{} })),
		screen.Bind("up k down j", "↑↓", "events", "older and newer events (j k)", screen.Only(m.throughEvents)),
	)
}

func (m *Model) throughTime(pressed string) {
	switch pressed {
	case "left", "h":
		m.move(-1)
	case "right", "l":
		m.move(1)
	default:
		m.at = m.watch.Start
	}
}

func (m *Model) throughEvents(pressed string) {
	if pressed == "up" || pressed == "k" {
		m.scroll = min(m.scroll+1, max(0, len(m.watch.Events)-1))
	} else {
		m.scroll = max(0, m.scroll-1)
	}
}

// move moves the cursor by one column of the chart. Beyond the newest moment it is put away.
func (m *Model) move(columns int) {
	width := max(1, m.chart.right-m.chart.left)
	step := m.watch.End.Sub(m.watch.Start) / time.Duration(width)
	if m.at.IsZero() {
		m.at = m.watch.End
	}
	m.at = m.at.Add(time.Duration(columns) * step)
	if m.at.Before(m.watch.Start) {
		m.at = m.watch.Start
	}
	if m.at.After(m.watch.End) {
		m.at = time.Time{}
	}
}

// heldAt is a stepwise value at a moment.
func heldAt(samples []view.Sample, at time.Time) (float64, bool) {
	value, ok := 0.0, false
	for _, s := range samples {
		if s.At.After(at) {
			break
		}
		value, ok = s.Value, true
	}
	return value, ok
}

// measuredAt is a measured value at a moment: that of the interval it lies in. Between intervals further apart than
// gap there is none.
func measuredAt(samples []view.Sample, at time.Time, gap time.Duration) (float64, bool) {
	for i, s := range samples {
		if s.At.Before(at) {
			continue
		}
		if i == 0 {
			return s.Value, s.At.Sub(at) <= gap/4 // its own interval, not what was before
		}
		before := samples[i-1]
		width := s.At.Sub(before.At)
		if width > gap {
			return 0, false
		}
		share := float64(at.Sub(before.At)) / float64(width)
		return before.Value + (s.Value-before.Value)*share, true
	}
	return 0, false
}
