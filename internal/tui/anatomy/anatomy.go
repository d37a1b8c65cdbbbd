// Package anatomy is the screen of what a berth is made of, down to what its site knows of each instance, with an inspector beside
// it: events, log, environment, probes, signals, and the object as it is.
package anatomy

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/core/berth"
	"aditus/internal/draw"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/screen"
	"aditus/internal/view"
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
	Object
	tabs
)

var tabNames = [tabs]string{"events", "log", "environment", "probes", "signals", "object"}

// Model is the anatomy of one berth with a cursor.
type Model struct {
	desk   *screen.Desk
	berth  status.Berth
	now    time.Time
	nodes  []status.Node // what its site knows of it
	rows   []view.Branch
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
	back   int // lines scrolled back from the newest; of an object, on from its beginning
	sheet  status.Sheet
	noPage string // why the sheet cannot be read
	filter string
}

// Open shows what a berth is made of.
func Open(d *screen.Desk, s status.Snapshot, at berth.ID) (screen.Screen, tea.Cmd) {
	b, ok := s.Find(at)
	if !ok {
		return nil, nil
	}
	m := New(d, b, s.Now)
	return m, m.read()
}

// New makes the screen, with the cursor on what is not well, if anything is.
func New(d *screen.Desk, b status.Berth, now time.Time) *Model {
	m := &Model{desk: d, folded: map[string]bool{}}
	m.set(b, now)
	m.worst()
	return m
}

// OfTask shows the log of a task that tries the new cohort.
func OfTask(d *screen.Desk, b status.Berth, now time.Time, task string) (screen.Screen, error) {
	m := New(d, b, now)
	for i, r := range m.rows { // the new cohort comes first
		if r.Instance != nil && r.Instance.Part == task || r.Part != nil && r.Part.Name == task && r.Cohort != nil && slices.ContainsFunc(r.Cohort.Instances, func(in status.Instance) bool { return in.Part == task }) {
			m.list.At, m.tab = i, Log
			return m, nil
		}
	}
	return nil, fmt.Errorf("the task %s is not there any more, nor is its log", task)
}

// Pointed gives the part that a tear-down is for: the one under the cursor; none means all of the berth.
func (m *Model) Pointed() []string {
	if r, ok := m.selected(); ok && r.Depth == 1 && r.Part != nil {
		return []string{r.Part.Name}
	}
	return nil
}

// worst puts the cursor on what is not well, if anything is.
func (m *Model) worst() {
	for i, r := range m.rows {
		if r.Tone == words.Bad && (r.Instance != nil || m.rows[m.list.At].Tone != words.Bad) {
			m.list.At = i
			if r.Instance != nil {
				break
			}
		}
	}
}

// set shows the berth as it is now.
func (m *Model) set(b status.Berth, now time.Time) {
	before := ""
	if r, ok := m.selected(); ok {
		before = r.ID
	}
	m.berth, m.now = b, now
	m.rows = nil
	hidden := ""
	for _, r := range view.Anatomy(b, m.nodes, now) {
		if hidden != "" && strings.HasPrefix(r.ID, hidden+"/") {
			continue
		}
		hidden = ""
		if m.folded[r.ID] {
			hidden = r.ID
		}
		m.rows = append(m.rows, r)
	}
	if i := slices.IndexFunc(m.rows, func(r view.Branch) bool { return r.ID == before }); i >= 0 {
		m.list.At = i
	}
}

// Berth implements screen.Screen.
func (m *Model) Berth() berth.ID { return m.berth.ID }

// Picture implements screen.Screen.
func (m *Model) Picture() *screen.Picture {
	return &screen.Picture{Name: fmt.Sprintf("anatomy-%s-%s", m.berth.Workload, m.berth.Site), Paint: draw.OfAnatomy(m.berth, m.nodes, m.now)}
}

// Update implements screen.Screen.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case status.Snapshot:
		if b, ok := msg.Find(m.berth.ID); ok {
			m.set(b, msg.Now)
		}
	case tea.MouseClickMsg:
		from, to := m.list.Window(m.room, len(m.rows))
		if at := from + msg.Y - m.rowsAt; msg.Y >= m.rowsAt && at < to && (m.split == 0 || msg.X < m.split) {
			m.list.At = at
		}
	}
	return m.read()
}

// logLines is how many lines of an instance's log are kept on screen.
const logLines = 400

// wants is what is read beside the snapshot: the tree, the log of an instance, and the sheet of a node.
type wants struct{ instance, node string }

func (m *Model) wants() wants { return wants{m.Instance(), m.node()} }

// read reads the tree and what is looked into, and again where that is something else by then.
func (m *Model) read() tea.Cmd {
	asked, id := m.wants(), m.berth.ID
	return m.desk.Fetch(m, func(ctx context.Context) func() tea.Cmd {
		tree, treeErr := m.desk.Control.Tree(ctx, id)
		var lines []target.LogLine
		var logErr, sheetErr error
		var sheet status.Sheet
		if asked.instance != "" {
			lines, logErr = m.desk.Control.Log(ctx, id, asked.instance, time.Time{}, logLines)
		}
		if asked.node != "" {
			sheet, sheetErr = m.desk.Control.Sheet(ctx, id, asked.node)
		}
		return func() tea.Cmd {
			if treeErr == nil {
				m.SetTree(tree)
			}
			if asked.instance != "" {
				m.SetLog(asked.instance, lines, logErr)
			}
			if asked.node != "" {
				m.SetSheet(asked.node, sheet, sheetErr)
			}
			if m.wants() != asked {
				return m.read()
			}
			return nil
		}
	})
}

// SetTree gives what the site knows of the berth.
func (m *Model) SetTree(tree []status.Node) {
	first := m.nodes == nil && len(tree) > 0
	m.nodes = tree
	m.set(m.berth, m.now)
	if first {
		m.worst()
	}
}

// SetSheet gives the sheet that was asked for.
func (m *Model) SetSheet(node string, sheet status.Sheet, err error) {
	if m.sheet.ID != node {
		m.back = 0
	}
	m.sheet, m.noPage = sheet, ""
	m.sheet.ID = node
	if err != nil {
		m.noPage = err.Error()
	}
}

// node names the node whose sheet is wanted now; empty for none.
func (m *Model) node() string {
	if r, ok := m.selected(); ok && r.Node != nil && (m.tab == Object || m.instance() == nil) {
		return r.Node.ID
	}
	return ""
}

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

// find has a text typed that lines of the log must hold to be shown.
func (m *Model) find(string) tea.Cmd {
	return m.desk.Type(screen.Prompt{
		Label: "/", Text: m.filter, Hints: []kit.Hint{{Key: "enter", Does: "keep"}, {Key: "esc", Does: "show all"}},
		Typed: m.SetFilter, Left: func() { m.SetFilter("") },
	})
}

// SetFilter shows only lines of the log that hold a text.
func (m *Model) SetFilter(text string) { m.filter, m.back, m.tab = text, 0, Log }

func (m *Model) selected() (view.Branch, bool) { return kit.Selected(&m.list, m.rows) }

// instance is the one that the inspector is about: the selected one, or the first of what is selected, the worst first.
func (m *Model) instance() *status.Instance {
	r, ok := m.selected()
	if !ok {
		return nil
	}
	if r.Instance != nil || r.Node != nil {
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

// Keys implements screen.Screen.
func (m *Model) Keys() []screen.Key {
	follows, back, finds := "", "", ""
	if m.node() != "" {
		back = "back and on"
	}
	if m.tab == Log && m.instance() != nil {
		follows, back, finds = "pause", "back and on", "find in the log"
		if m.paused {
			follows = "follow"
		}
	}
	then := func(do func(pressed string)) func(string) tea.Cmd { // another log may be wanted afterwards
		return func(pressed string) tea.Cmd {
			do(pressed)
			return m.read()
		}
	}
	list := screen.List(&m.list, func() int { return len(m.rows) })
	move := list.Do
	list.Do = then(func(pressed string) { move(pressed) })
	return []screen.Key{
		list,
		screen.Bind("tab right l shift+tab left h 1 2 3 4 5 6", "tab", "next page", "the inspector's pages (1 to 6): events, log, environment, probes, signals, object", then(m.turn)),
		screen.Bind("z enter", "z", "fold", "fold (enter)", then(m.fold)),
		screen.Bind("p", "p", "picture", "write the tree as SVG and PDF", func(string) tea.Cmd { return m.desk.TakePicture() }),
		screen.Bind("f", "f", follows, "pause the log, or follow it again", then(m.pause)),
		screen.Bind("[ shift+up K ] shift+down J", "[ ]", back, "back and on in the log or the object", then(m.scroll)),
		screen.Bind("/", "/", finds, "find in the log", m.find),
	}
}

func (m *Model) turn(pressed string) {
	switch pressed {
	case "tab", "right", "l":
		m.tab = (m.tab + 1) % tabs
	case "shift+tab", "left", "h":
		m.tab = (m.tab + tabs - 1) % tabs
	default:
		m.tab = Tab(pressed[0] - '1')
	}
}

func (m *Model) fold(string) {
	if r, ok := m.selected(); ok && (r.Instance == nil || r.Node != nil) {
		m.folded[r.ID] = !m.folded[r.ID]
		m.set(m.berth, m.now)
	}
}

func (m *Model) pause(string) {
	if m.paused = !m.paused; !m.paused {
		m.back = 0
	}
}

func (m *Model) scroll(pressed string) {
	if m.node() != "" { // a sheet is read from its beginning
		if pressed == "[" || pressed == "shift+up" || pressed == "K" {
			m.back = max(0, m.back-10)
		} else {
			m.back += 10
		}
		return
	}
	if pressed == "[" || pressed == "shift+up" || pressed == "K" {
		if m.tab == Log {
			m.back, m.paused = m.back+5, true
		}
	} else if m.back = max(0, m.back-5); m.back == 0 {
		m.paused = false
	}
}
