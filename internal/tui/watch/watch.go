// Package watch is the screen of one rollout: one time axis for its stages, traffic, instances, signals and events,
// and beside it why it is where it is and what comes next.
package watch

import (
	"time"

	"aditus/internal/control"
)

// Model is a rollout's picture with a cursor in time.
type Model struct {
	watch  control.Watch
	at     time.Time // of the cursor; zero for none
	chart  span
	scroll int // events scrolled back from the newest
}

type span struct{ left, right int }

// New makes the screen of a rollout.
func New(w control.Watch) *Model { return &Model{watch: w} }

// SetWatch shows a newer picture of the same rollout.
func (m *Model) SetWatch(w control.Watch) { m.watch = w }

// Watch is the picture shown.
func (m *Model) Watch() control.Watch { return m.watch }

// Key moves through time and through the events. It is false for keys that are none of its business.
func (m *Model) Key(key string) bool {
	switch key {
	case "left", "h":
		m.move(-1)
	case "right", "l":
		m.move(1)
	case "up", "k":
		m.scroll = min(m.scroll+1, max(0, len(m.watch.Events)-1))
	case "down", "j":
		m.scroll = max(0, m.scroll-1)
	case "home":
		m.at = m.watch.Start
	case "end":
		m.at = time.Time{}
	default:
		return false
	}
	return true
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

// Click puts the cursor where the mouse was pressed.
func (m *Model) Click(x, _ int) bool {
	if x < m.chart.left || x >= m.chart.right {
		return false
	}
	share := float64(x-m.chart.left) / float64(max(1, m.chart.right-m.chart.left))
	m.at = m.watch.Start.Add(time.Duration(share * float64(m.watch.End.Sub(m.watch.Start))))
	return true
}

// heldAt is a stepwise value at a moment.
func heldAt(samples []control.Sample, at time.Time) (float64, bool) {
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
func measuredAt(samples []control.Sample, at time.Time, gap time.Duration) (float64, bool) {
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
