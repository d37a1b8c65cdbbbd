// Package bench is the screen on which a guard's limit is set: its signal's history with the releases of that time, the
// limit as a line that the arrow keys move, and what it would have stopped.
package bench

import (
	"time"

	"aditus/internal/control"
	"aditus/internal/tui/kit"
)

// Model is a bench with a limit that is being moved.
type Model struct {
	bench  control.Bench
	limit  float64
	trial  control.Trial
	list   kit.List // of releases
	window int      // which part of the history is shown, as an index into windows
}

// windows are how much of the history can be shown, besides all of it.
var windows = []time.Duration{0, 7 * 24 * time.Hour, 24 * time.Hour, 6 * time.Hour, time.Hour}

// New makes the screen, with the limit as it is declared.
func New(b control.Bench) *Model {
	m := &Model{bench: b, limit: b.Rule.Limit.Value}
	m.trial = b.Try(m.limit)
	m.list.At = max(0, len(m.trial.Releases)-1)
	return m
}

// Bench is what is shown.
func (m *Model) Bench() control.Bench { return m.bench }

// Limit is where the limit was moved to.
func (m *Model) Limit() float64 { return m.limit }

// Moved tells whether it is elsewhere than declared.
func (m *Model) Moved() bool { return m.limit != m.bench.Rule.Limit.Value }

// Trial is what the limit would have done.
func (m *Model) Trial() control.Trial { return m.trial }

// Set shows a newer state of the same guard; the limit stays where it was moved to.
func (m *Model) Set(b control.Bench) {
	moved := m.Moved()
	m.bench = b
	if !moved {
		m.limit = b.Rule.Limit.Value
	}
	m.trial = b.Try(m.limit)
}

// Next gives the guard so many further on in the list.
func (m *Model) Next(by int) string {
	n := len(m.bench.Guards)
	for i, name := range m.bench.Guards {
		if name == m.bench.Rule.Name {
			return m.bench.Guards[((i+by)%n+n)%n]
		}
	}
	return ""
}

// Key moves the limit, the window and the cursor among the releases. It is false for keys that are none of its business.
func (m *Model) Key(key string) bool {
	step := m.bench.Step(m.limit)
	switch key {
	case "up", "k":
		m.move(step)
	case "down", "j":
		m.move(-step)
	case "pgup", "ctrl+u":
		m.move(10 * step)
	case "pgdown", "ctrl+d":
		m.move(-10 * step)
	case "home", "=":
		m.limit = m.bench.Rule.Limit.Value
		m.trial = m.bench.Try(m.limit)
	case "left", "h":
		m.window = max(0, m.window-1)
	case "right", "l":
		m.window = min(len(windows)-1, m.window+1)
	case "[":
		m.list.At = max(0, m.list.At-1)
	case "]":
		m.list.At = min(len(m.trial.Releases)-1, m.list.At+1)
	default:
		return false
	}
	return true
}

// move moves the limit by so much, to a round number and not below the first one above nought.
func (m *Model) move(by float64) {
	step := m.bench.Step(m.limit)
	to := float64(int64((m.limit+by)/step+0.5)) * step
	if to <= 0 {
		to = step
	}
	m.limit = to
	m.trial = m.bench.Try(m.limit)
}

// Click is for no one here.
func (m *Model) Click(int, int) bool { return true }

// span is the part of the history that is shown.
func (m *Model) span() (from, to time.Time) {
	from, to = m.bench.Since, m.bench.Now
	if w := windows[m.window]; w > 0 && to.Add(-w).After(from) {
		from = to.Add(-w)
	}
	if !from.Before(to) {
		from = to.Add(-time.Hour)
	}
	return from, to
}

// Hints are the keys of the screen.
func (m *Model) Hints() []kit.Hint {
	hints := []kit.Hint{{Key: "↑↓", Does: "move the limit"}, {Key: "←→", Does: "more or less time"}, {Key: "tab", Does: "next guard"}}
	if m.Moved() {
		hints = append(hints, kit.Hint{Key: "o", Does: "offer it on a branch"}, kit.Hint{Key: "=", Does: "as declared"})
	}
	return append(hints, kit.Hint{Key: "p", Does: "picture"})
}
