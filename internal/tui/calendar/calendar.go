// Package calendar is the screen of a line's time: sites down, days across; what may move when, what is done when, what comes and whom
// it waits for, and what ends.
package calendar

import (
	"bytes"
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/core/berth"
	"aditus/internal/disk"
	"aditus/internal/draw"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/screen"
	"aditus/internal/view"
	"aditus/internal/words"
)

// Model is a calendar with a cursor on one of its lanes.
type Model struct {
	desk   *screen.Desk
	cal    view.Calendar
	zoom   view.Zoom
	steps  int // later than now, by half of what is shown; earlier where it is negative
	list   kit.List
	chosen string // the lane under the cursor, whatever comes and goes around it
	rowsAt int
	room   int
}

// Open asks for the next two weeks.
func Open(d *screen.Desk, s status.Snapshot, at berth.ID) (screen.Screen, tea.Cmd) {
	return nil, d.Open(func(ctx context.Context) (screen.Screen, error) {
		m := &Model{desk: d, zoom: view.TwoWeeks}
		c, err := m.ask(ctx, s.Now, m.zoom, 0)
		m.set(c)
		m.find(at)
		return m, err
	})
}

// ask asks for what a zoom shows.
func (m *Model) ask(ctx context.Context, now time.Time, zoom view.Zoom, steps int) (view.Calendar, error) {
	from, until := zoom.Range(now, steps, time.Local)
	c, err := m.desk.Control.Calendar(ctx, from, until)
	return view.NewCalendar(c, zoom, time.Local), err
}

// set shows a calendar, with the cursor where it was.
func (m *Model) set(c view.Calendar) {
	m.cal = c
	for i, lane := range c.Lanes {
		if key(lane) == m.chosen {
			m.list.At = i
		}
	}
	m.note()
}

// find puts the cursor on a berth's first lane.
func (m *Model) find(at berth.ID) {
	for i, lane := range m.cal.Lanes {
		if at.Workload != "" && lane.Berth == at {
			m.list.At = i
			break
		}
	}
	m.note()
}

func key(l view.CalendarLane) string { return l.Berth.String() + " " + l.Name }

// note keeps which lane the cursor is on.
func (m *Model) note() {
	if l, ok := m.selected(); ok {
		m.chosen = key(l)
	}
}

func (m *Model) selected() (view.CalendarLane, bool) { return kit.Selected(&m.list, m.cal.Lanes) }

// Berth implements screen.Screen.
func (m *Model) Berth() berth.ID {
	l, _ := m.selected()
	return l.Berth
}

// Picture implements screen.Screen.
func (m *Model) Picture() *screen.Picture {
	return &screen.Picture{Name: "calendar-" + m.cal.From.In(m.cal.Zone).Format(time.DateOnly), Paint: draw.OfCalendar(m.cal)}
}

// Update implements screen.Screen.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case status.Snapshot:
		return m.fetch(msg.Now)
	case tea.MouseClickMsg:
		from, to := m.list.Window(m.room, len(m.cal.Lanes))
		if at := from + msg.Y - m.rowsAt; msg.Y >= m.rowsAt && at < to {
			m.list.At = at
			m.note()
		}
	}
	return nil
}

// fetch asks for it anew.
func (m *Model) fetch(now time.Time) tea.Cmd {
	zoom, steps := m.zoom, m.steps
	return m.desk.Fetch(m, func(ctx context.Context) func() tea.Cmd {
		c, err := m.ask(ctx, now, zoom, steps)
		if err != nil {
			return nil
		}
		return func() tea.Cmd {
			if m.set(c); zoom != m.zoom || steps != m.steps { // it was changed meanwhile
				return m.fetch(c.Now)
			}
			return nil
		}
	})
}

// Keys implements screen.Screen.
func (m *Model) Keys() []screen.Key {
	keys := []screen.Key{
		screen.Bind("left h right l home", "←→", "time", "later and earlier (h l); home is now", m.move),
		screen.Bind("+ = -", "+ -", "nearer, farther", "show less or more time: a day, a week, two, a month, a quarter", m.resize),
		screen.Bind("up k down j pgup ctrl+u pgdown ctrl+d end", "↑↓", "", "move", screen.Only(func(pressed string) {
			m.list.Key(pressed, len(m.cal.Lanes))
			m.note()
		})),
	}
	if at := m.Berth(); at.Workload != "" {
		keys = append(keys,
			screen.Bind("enter", "enter", "the berth", "look inside the berth", func(string) tea.Cmd { return m.desk.Start(words.LookInside, at) }),
			screen.Bind("o", "o", "override", "sync it past what is in its way, with a reason; for those who may", func(string) tea.Cmd { return m.override(at) }))
	}
	return append(keys,
		screen.Bind("p", "p", "picture", "write this picture as SVG and PDF", func(string) tea.Cmd { return m.desk.TakePicture() }),
		screen.Bind("i", "i", "iCalendar", "write it as iCalendar, for your own calendar", func(string) tea.Cmd { return m.write() }))
}

func (m *Model) move(pressed string) tea.Cmd {
	switch pressed {
	case "left", "h":
		m.steps--
	case "right", "l":
		m.steps++
	default:
		m.steps = 0
	}
	return m.fetch(m.cal.Now)
}

func (m *Model) resize(pressed string) tea.Cmd {
	next := m.zoom.Nearer()
	if pressed == "-" {
		next = m.zoom.Farther()
	}
	if next != m.zoom {
		m.zoom, m.steps = next, 0
	}
	return m.fetch(m.cal.Now)
}

// override has a sync pass over what is in its way.
func (m *Model) override(at berth.ID) tea.Cmd {
	return m.desk.Type(screen.Prompt{
		Label: fmt.Sprintf("Sync %s at %s past what is in its way. Why? It goes on record:", at.Workload, at.Site),
		Hints: []kit.Hint{{Key: "enter", Does: "sync"}, {Key: "esc", Does: "leave it"}},
		Done: func(text string) tea.Cmd {
			if strings.TrimSpace(text) == "" {
				m.desk.Say("Nothing was changed: passing over what is in the way needs a reason.", true)
				return nil
			}
			return m.desk.Answer(func(ctx context.Context) (string, error) {
				return fmt.Sprintf("Done: sync of %s at %s.", at.Workload, at.Site), m.desk.Control.Do(ctx, m.desk.Who, berth.Order{Verb: berth.Sync, Berth: at, Override: text})
			})
		},
		Left: func() { m.desk.Say("Nothing was changed.", false) },
	})
}

// write writes what is shown as iCalendar.
func (m *Model) write() tea.Cmd {
	c := m.cal
	name := filepath.Join(m.desk.Pictures, "calendar-"+c.From.In(c.Zone).Format(time.DateOnly)+".ics")
	return m.desk.Answer(func(context.Context) (string, error) {
		var text bytes.Buffer
		err := view.WriteICalendar(&text, c.Calendar)
		if err == nil {
			err = disk.Keep(disk.Machine, name, text.Bytes(), 0o644)
		}
		if err != nil {
			return "", fmt.Errorf("write the calendar %s: %w", name, err)
		}
		return "Written: " + name, nil
	})
}
