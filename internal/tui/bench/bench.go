// Package bench is the screen on which a guard's limit is set: its signal's history with the releases of that time, the
// limit as a line that the arrow keys move, and what it would have stopped.
package bench

import (
	"context"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/core/berth"
	"aditus/internal/draw"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/screen"
	"aditus/internal/view"
)

// Model is a bench with a limit that is being moved.
type Model struct {
	desk   *screen.Desk
	made   time.Time // from the record, when last
	bench  view.Bench
	limit  float64
	trial  view.Trial
	list   kit.List // of releases
	window int      // which part of the history is shown, as an index into windows
}

// windows are how much of the history can be shown, besides all of it.
var windows = []time.Duration{0, 7 * 24 * time.Hour, 24 * time.Hour, 6 * time.Hour, time.Hour}

// Open asks for the bench of a berth's first guard.
func Open(d *screen.Desk, _ status.Snapshot, at berth.ID) (screen.Screen, tea.Cmd) {
	return nil, open(d, at, "")
}

func open(d *screen.Desk, at berth.ID, guard string) tea.Cmd {
	return d.Open(func(ctx context.Context) (screen.Screen, error) {
		b, err := d.Control.Bench(ctx, at, guard)
		if err != nil {
			return nil, err
		}
		return New(d, b), nil
	})
}

// New makes the screen, with the limit as it is declared.
func New(d *screen.Desk, b view.Bench) *Model {
	m := &Model{desk: d, bench: b, limit: b.Rule.Limit.Value, made: time.Now()}
	m.trial = b.Try(m.limit)
	m.list.At = max(0, len(m.trial.Releases)-1)
	return m
}

// Berth implements screen.Screen.
func (m *Model) Berth() berth.ID { return m.bench.Berth }

// Picture implements screen.Screen.
func (m *Model) Picture() *screen.Picture {
	b := m.bench
	return &screen.Picture{Name: fmt.Sprintf("bench-%s-%s-%s", b.Berth.Workload, b.Berth.Site, strings.Join(strings.Fields(b.Rule.Name), "-")), Paint: draw.OfBench(b, m.limit)}
}

// madeEvery is how often a bench is made anew from the record: its history is long and changes slowly.
const madeEvery = 5 * time.Second

// Update implements screen.Screen.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	if _, ok := msg.(status.Snapshot); !ok || time.Since(m.made) < madeEvery {
		return nil
	}
	m.made = time.Now()
	at, guard := m.bench.Berth, m.bench.Rule.Name
	return m.desk.Fetch(m, func(ctx context.Context) func() tea.Cmd {
		newer, err := m.desk.Control.Bench(ctx, at, guard)
		if err != nil {
			return nil
		}
		return func() tea.Cmd {
			m.set(newer)
			return nil
		}
	})
}

// moved tells whether the limit is elsewhere than declared.
func (m *Model) moved() bool { return m.limit != m.bench.Rule.Limit.Value }

// set shows a newer state of the same guard; the limit stays where it was moved to.
func (m *Model) set(b view.Bench) {
	moved := m.moved()
	m.bench = b
	if !moved {
		m.limit = b.Rule.Limit.Value
	}
	m.trial = b.Try(m.limit)
}

// next gives the guard so many further on in the list.
func (m *Model) next(by int) string {
	n := len(m.bench.Guards)
	for i, name := range m.bench.Guards {
		if name == m.bench.Rule.Name {
			return m.bench.Guards[((i+by)%n+n)%n]
		}
	}
	return ""
}

// Keys implements screen.Screen.
func (m *Model) Keys() []screen.Key {
	offers, back := "", ""
	if m.moved() {
		offers, back = "offer it on a branch", "as declared"
	}
	return []screen.Key{
		screen.Bind("up k pgup ctrl+u down j pgdown ctrl+d", "↑↓", "move the limit", "move the limit (j k); page keys move it further", screen.Only(m.moveBy)),
		screen.Bind("left h right l", "←→", "more or less time", "show more or less time (h l)", screen.Only(m.resize)),
		screen.Bind("tab shift+tab", "tab", "next guard", "the next guard", m.nextGuard),
		screen.Bind("o", "o", offers, "offer the limit as a commit on a branch", screen.Only(m.offer)),
		screen.Bind("= home", "=", back, "as it is declared", screen.Only(func(string) { m.put(m.bench.Rule.Limit.Value) })),
		screen.Bind("[ ]", "[ ]", "", "the release before and after", screen.Only(m.choose)),
		screen.Bind("p", "p", "picture", "write this picture as SVG and PDF", func(string) tea.Cmd { return m.desk.TakePicture() }),
	}
}

func (m *Model) moveBy(pressed string) {
	if m.bench.Fixed() {
		m.desk.Say("An alert fires or not: there is no limit to move.", true)
		return
	}
	step := m.bench.Step(m.limit)
	switch pressed {
	case "up", "k":
		m.move(step)
	case "down", "j":
		m.move(-step)
	case "pgup", "ctrl+u":
		m.move(10 * step)
	default:
		m.move(-10 * step)
	}
}

func (m *Model) resize(pressed string) {
	if pressed == "left" || pressed == "h" {
		m.window = max(0, m.window-1)
	} else {
		m.window = min(len(windows)-1, m.window+1)
	}
}

func (m *Model) choose(pressed string) {
	if pressed == "[" {
		m.list.At = max(0, m.list.At-1)
	} else {
		m.list.At = min(len(m.trial.Releases)-1, m.list.At+1)
	}
}

func (m *Model) nextGuard(pressed string) tea.Cmd {
	by := 1
	if pressed == "shift+tab" {
		by = -1
	}
	return open(m.desk, m.bench.Berth, m.next(by))
}

// offer asks whether the limit is to be offered on a branch.
func (m *Model) offer(string) {
	if !m.moved() {
		m.desk.Say("The limit is where it is declared; move it first.", true)
		return
	}
	b, limit := m.bench, m.limit
	key, text := b.Declared(limit)
	m.desk.Ask(screen.Question{
		Text: fmt.Sprintf("Offer the limit %s: %s for %s of %s? A commit goes to a branch of its own, for people to look at. Nothing else changes.", key, text, b.Rule.Name, b.Berth.Workload),
		Do: func(ctx context.Context) (string, error) {
			p, err := m.desk.Control.OfferLimit(ctx, m.desk.Who, b, limit)
			return p.Told(), err
		},
	})
}

// put puts the limit somewhere.
func (m *Model) put(limit float64) {
	m.limit = limit
	m.trial = m.bench.Try(limit)
}

// move moves the limit by so much, to a round number and not below the first one above nought.
func (m *Model) move(by float64) {
	step := m.bench.Step(m.limit)
	to := float64(int64((m.limit+by)/step+0.5)) * step
	if to <= 0 {
		to = step
	}
	m.put(to)
}

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
