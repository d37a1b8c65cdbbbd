// Package anatomy is the screen of what a berth is made of, down to the instance, with an inspector beside it: events,
// log, environment, probes and signals.
package anatomy

import (
	"slices"
	"strings"
	"time"

	"aditus/internal/control"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/tui/kit"
	"aditus/internal/words"
)

// Tab is a page of the inspector.
type Tab int

const (
	Events Tab = iota
	Log
	Environment
	Probes
	Signals
	tabs
)

var tabNames = [tabs]string{"events", "log", "environment", "probes", "signals"}

// Model is the anatomy of one berth with a cursor.
type Model struct {
	berth  status.Berth
	now    time.Time
	rows   []control.Branch
	folded map[string]bool
	list   kit.List
	tab    Tab
	rowsAt int // where rows begin on the page, and how many have room, for the mouse
	room   int
	split  int

	log    []target.LogLine
	logOf  string
	failed string // why the log cannot be read
	paused bool
	back   int // lines scrolled back from the newest
	filter string
}

// New makes the screen, with the cursor on what is not well, if anything is.
func New(b status.Berth, now time.Time) *Model {
	m := &Model{folded: map[string]bool{}}
	m.Set(b, now)
	for i, r := range m.rows {
		if r.Tone == words.Bad && (r.Instance != nil || m.rows[m.list.At].Tone != words.Bad) {
			m.list.At = i
			if r.Instance != nil {
				break
			}
		}
	}
	return m
}

// Set shows the berth as it is now.
func (m *Model) Set(b status.Berth, now time.Time) {
	before := ""
	if r, ok := m.selected(); ok {
		before = r.ID
	}
	m.berth, m.now = b, now
	m.rows = nil
	hidden := ""
	for _, r := range control.Anatomy(b, now) {
		if hidden != "" && strings.HasPrefix(r.ID, hidden+"/") {
			continue
		}
		hidden = ""
		if m.folded[r.ID] {
			hidden = r.ID
		}
		m.rows = append(m.rows, r)
	}
	if i := slices.IndexFunc(m.rows, func(r control.Branch) bool { return r.ID == before }); i >= 0 {
		m.list.At = i
	}
}

// Berth is the one that is shown.
func (m *Model) Berth() status.Berth { return m.berth }

// Instance names the instance whose log is wanted now; empty for none.
func (m *Model) Instance() string {
	if in := m.instance(); in != nil && m.tab == Log && !m.paused {
		return in.ID
	}
	return ""
}

// SetLog gives the lines that were asked for.
func (m *Model) SetLog(instance string, lines []target.LogLine, err error) {
	if instance != m.logOf {
		m.back = 0
	}
	m.logOf, m.log, m.failed = instance, lines, ""
	if err != nil {
		m.failed = err.Error()
	}
}

// Filter is what lines of the log must hold to be shown.
func (m *Model) Filter() string { return m.filter }

// SetFilter shows only lines of the log that hold a text.
func (m *Model) SetFilter(text string) { m.filter, m.back, m.tab = text, 0, Log }

func (m *Model) selected() (control.Branch, bool) {
	if m.list.At < 0 || m.list.At >= len(m.rows) {
		return control.Branch{}, false
	}
	return m.rows[m.list.At], true
}

// instance is the one that the inspector is about: the selected one, or the first of what is selected, the worst first.
func (m *Model) instance() *status.Instance {
	r, ok := m.selected()
	if !ok {
		return nil
	}
	if r.Instance != nil {
		return r.Instance
	}
	var first *status.Instance
	for i := range r.Cohort.Instances {
		in := &r.Cohort.Instances[i]
		if r.Part != nil && in.Part != r.Part.Name {
			continue
		}
		if first == nil || first.Done && !in.Done || first.Health.Reason == "" && in.Health.Reason != "" && !in.Done {
			first = in
		}
	}
	return first
}

// part is the one that an instance belongs to.
func (m *Model) part(in *status.Instance) *status.Part {
	r, _ := m.selected()
	for i := range r.Cohort.Parts {
		if r.Cohort.Parts[i].Name == in.Part {
			return &r.Cohort.Parts[i]
		}
	}
	return &status.Part{}
}

// Key moves, folds and turns the inspector's pages. It is false for keys that are none of its business.
func (m *Model) Key(key string) bool {
	switch key {
	case "tab", "right", "l":
		m.tab = (m.tab + 1) % tabs
	case "shift+tab", "left", "h":
		m.tab = (m.tab + tabs - 1) % tabs
	case "1", "2", "3", "4", "5":
		m.tab = Tab(key[0] - '1')
	case "z", "enter":
		if r, ok := m.selected(); ok && r.Instance == nil {
			m.folded[r.ID] = !m.folded[r.ID]
			m.Set(m.berth, m.now)
		}
	case "f":
		m.paused = !m.paused
		if !m.paused {
			m.back = 0
		}
	case "[", "shift+up", "K":
		if m.tab == Log {
			m.back, m.paused = m.back+5, true
		}
	case "]", "shift+down", "J":
		if m.back = max(0, m.back-5); m.back == 0 {
			m.paused = false
		}
	default:
		return m.list.Key(key, len(m.rows))
	}
	return true
}

// Click selects the row under the mouse.
func (m *Model) Click(x, y int) bool {
	from, to := m.list.Window(m.room, len(m.rows))
	if at := from + y - m.rowsAt; y >= m.rowsAt && at < to && (m.split == 0 || x < m.split) {
		m.list.At = at
	}
	return true
}

// Hints are the keys of the screen.
func (m *Model) Hints() []kit.Hint {
	hints := []kit.Hint{{Key: "tab", Does: "next page"}, {Key: "z", Does: "fold"}, {Key: "p", Does: "picture"}}
	if m.tab == Log {
		follow := "pause"
		if m.paused {
			follow = "follow"
		}
		hints = append(hints, kit.Hint{Key: "f", Does: follow}, kit.Hint{Key: "[ ]", Does: "back and on"}, kit.Hint{Key: "/", Does: "find in the log"})
	}
	return hints
}
