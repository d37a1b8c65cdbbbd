// Package comparison is the screen on which applied, declared and live stand side by side, field by field, with what a
// sync would do in words.
package comparison

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/say"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/screen"
	"aditus/internal/view"
	"aditus/internal/words"
)

// Model is a comparison with a cursor.
type Model struct {
	desk     *screen.Desk
	compared status.Berth // as it was when it was compared last
	c        view.Comparison
	ref      string // what it is compared with instead of what Git declares; empty for that
	rows     []row
	list     kit.List
	all      bool            // fields that agree are shown too
	folded   map[string]bool // parts
	marked   map[string]bool // parts chosen for a sync
	rowsAt   int             // where rows begin on the page, and how many have room, for the mouse
	room     int
}

// row is a part, or one field of it.
type row struct {
	part  string
	head  bool
	count int // of a part: fields that differ
	kind  compare.Kind
	field compare.Difference
}

// rules stands for what lies outside of parts.
const rules = ""

// Open compares a berth with what Git declares for it.
func Open(d *screen.Desk, _ status.Snapshot, at berth.ID) (screen.Screen, tea.Cmd) {
	return nil, open(d, at, "")
}

// open compares a berth; with a ref that takes a while.
func open(d *screen.Desk, at berth.ID, ref string) tea.Cmd {
	if ref != "" {
		d.Say(ref+" is read.", false)
	}
	return d.Open(func(ctx context.Context) (screen.Screen, error) {
		c, err := d.Control.Compare(ctx, at, view.Against{Ref: ref})
		return New(d, c, ref), err
	})
}

// OpenBetween compares two revisions of a berth's workload that are on record.
func OpenBetween(d *screen.Desk, at berth.ID, from, to string) tea.Cmd {
	return d.Open(func(ctx context.Context) (screen.Screen, error) {
		c, err := d.Control.Compare(ctx, at, view.Against{From: from, To: to})
		return New(d, c, ""), err
	})
}

// mostNamed is how many fields a sentence names.
const mostNamed = 4

// InShort names the fields that differ, the first of them.
func InShort(c view.Comparison) string {
	var names []string
	for _, f := range c.Fields {
		if f.Kind != compare.Same {
			names = append(names, view.Field(f.Pointer))
		}
	}
	if len(names) == 0 {
		return "nothing"
	}
	return say.Few(names, mostNamed)
}

// New makes the screen.
func New(d *screen.Desk, c view.Comparison, ref string) *Model {
	m := &Model{desk: d, folded: map[string]bool{}, marked: map[string]bool{}, ref: ref}
	m.set(c)
	m.list.At = min(1, max(0, len(m.rows)-1)) // the first field that differs
	return m
}

// set shows a newer comparison of the same berth.
func (m *Model) set(c view.Comparison) {
	m.c = c
	m.lay()
}

// Berth implements screen.Screen.
func (m *Model) Berth() berth.ID { return m.c.Berth }

// Picture implements screen.Screen: there is none.
func (m *Model) Picture() *screen.Picture { return nil }

// Update implements screen.Screen.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case status.Snapshot:
		return m.renew(msg)
	case tea.MouseClickMsg:
		m.list.Click(msg.Y-m.rowsAt, m.room, len(m.rows))
	}
	return nil
}

// renew compares again where the berth is not as it was.
func (m *Model) renew(s status.Snapshot) tea.Cmd {
	b, _ := s.Find(m.c.Berth)
	switch {
	case m.ref != "" || m.c.Two: // what was asked for stays as it was asked
		return nil
	case view.SameStates(m.compared, b):
		m.c.Live = view.LiveWords(b)
		return nil
	}
	return m.desk.Fetch(m, func(ctx context.Context) func() tea.Cmd {
		newer, err := m.desk.Control.Compare(ctx, b.ID, view.Against{})
		if err != nil {
			return nil
		}
		return func() tea.Cmd {
			m.compared = b
			m.set(newer)
			return nil
		}
	})
}

// Chosen gives the parts that were marked for a sync, sorted; none means all.
func (m *Model) Chosen() []string {
	var names []string
	for name := range m.marked {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// Pointed gives the parts that a tear-down is for: those that are marked; none means all.
func (m *Model) Pointed() []string { return m.Chosen() }

// Patch is what makes live what is declared, as a JSON Patch (RFC 6902).
func (m *Model) Patch() string {
	text, err := json.MarshalIndent(m.c.Patch, "", "  ")
	if err != nil || m.c.Patch == nil {
		return "[]"
	}
	return string(text)
}

// lay makes the rows anew.
func (m *Model) lay() {
	byPart := map[string][]compare.Difference{}
	var order []string
	for _, d := range m.c.Fields {
		part := d.Part()
		if _, known := byPart[part]; !known {
			order = append(order, part)
		}
		byPart[part] = append(byPart[part], d)
	}
	slices.SortStableFunc(order, func(a, b string) int { // what lies outside of parts comes last
		switch {
		case a == rules && b != rules:
			return 1
		case b == rules && a != rules:
			return -1
		}
		return strings.Compare(a, b)
	})
	m.rows = nil
	var near []row // with what stands beside what differs
	for _, part := range order {
		head := row{part: part, head: true}
		var differ, same, all []row
		for _, d := range byPart[part] {
			r := row{part: part, field: d, kind: d.Kind}
			if all = append(all, r); d.Kind == compare.Same {
				same = append(same, r)
				continue
			}
			differ = append(differ, r)
			head.count++
			head.kind = worse(head.kind, d.Kind)
		}
		if len(differ) == 0 && !m.all {
			continue
		}
		m.rows, near = append(m.rows, head), append(near, head)
		switch {
		case m.folded[part]:
		case m.all:
			m.rows = append(m.rows, all...)
		default:
			m.rows, near = append(m.rows, differ...), append(append(near, differ...), same...)
		}
	}
	if !m.all && len(near) <= m.room {
		m.rows = near
	}
}

// worse gives the kind of difference that a person should know of first.
func worse(a, b compare.Kind) compare.Kind {
	order := []compare.Kind{compare.Same, compare.Left, compare.MarkOnly, compare.Pending, compare.Orphan, compare.Drift, compare.Conflict}
	return order[max(slices.Index(order, a), slices.Index(order, b))]
}

// Keys implements screen.Screen.
func (m *Model) Keys() []screen.Key {
	all, marks := "every field", ""
	if m.all {
		all = "only what differs"
	}
	var keys []screen.Key
	if !m.c.Two && !m.c.Preview {
		marks = "mark a part"
		keys = append(keys, screen.Bind("y", "y", "sync", "sync, asked about once", func(string) tea.Cmd { return m.desk.Start(words.Sync, m.c.Berth) }))
	}
	if !m.c.Two && !m.c.Preview && len(m.byHand()) > 0 {
		keys = append(keys, screen.Bind("v", "v", "offer it to Git", "offer to declare what was changed by hand as it is there: the field, or all of a part", m.offer))
	}
	return append(keys,
		screen.Bind("m", "m", marks, "mark a part: a sync then takes only those that are marked", screen.Only(m.mark)),
		screen.Bind("f", "f", all, "every field, or only what differs", screen.Only(func(string) { m.all = !m.all; m.keep() })),
		screen.Bind("z enter left h right l", "z", "fold", "fold a part (enter)", screen.Only(m.fold)),
		screen.Bind("Z", "Z", "", "only this part, or all again", screen.Only(func(string) { m.onlyThis() })),
		screen.Bind("b", "b", "compare with", "compare with another branch, commit or revision; nothing of it is taken", m.askRef),
		screen.Bind("p", "p", "copy the patch", "copy as a JSON Patch (RFC 6902)", m.copy),
		screen.List(&m.list, func() int { return len(m.rows) }),
	)
}

func (m *Model) fold(pressed string) {
	r, ok := m.selected()
	if !ok {
		return
	}
	fold := (pressed == "left" || pressed == "h") || (pressed == "z" || pressed == "enter") && !m.folded[r.part]
	if delete(m.folded, r.part); fold {
		m.folded[r.part] = true
	}
	m.keep()
}

func (m *Model) mark(string) {
	if r, ok := m.selected(); !ok || r.part == rules {
		return
	} else if m.marked[r.part] {
		delete(m.marked, r.part)
	} else {
		m.marked[r.part] = true
	}
}

// byHand are the fields that were changed by hand where the cursor is: one, or those of a part.
func (m *Model) byHand() (pointers []string) {
	at, ok := m.selected()
	if !ok {
		return nil
	}
	for _, d := range m.c.Fields {
		if (d.Kind == compare.Drift || d.Kind == compare.Conflict) && d.Part() == at.part && (at.head || d.Pointer == at.field.Pointer) {
			pointers = append(pointers, d.Pointer)
		}
	}
	return pointers
}

// offer asks whether to offer to declare what was changed by hand.
func (m *Model) offer(string) tea.Cmd {
	pointers := m.byHand()
	var names []string
	for _, p := range pointers {
		names = append(names, view.Field(p))
	}
	at := m.c.Berth
	m.desk.Ask(screen.Question{
		Text: fmt.Sprintf("Offer to declare %s of %s at %s as it is there? It is a commit on a branch of its own, for people to look at; until it is merged it stays drifted.", say.Few(names, mostNamed), at.Workload, at.Site),
		Do: func(ctx context.Context) (string, error) {
			p, err := m.desk.Control.OfferLive(ctx, m.desk.Who, at, pointers)
			return p.Told(), err
		},
	})
	return nil
}

func (m *Model) copy(string) tea.Cmd {
	m.desk.Say("The JSON Patch is in the clipboard, if this terminal lets programs put it there.", false)
	return tea.SetClipboard(m.Patch())
}

// askRef asks what to compare with.
func (m *Model) askRef(string) tea.Cmd {
	return m.desk.Type(screen.Prompt{
		Label: "compare with a branch, a commit or a revision; nothing for what is declared:",
		Hints: []kit.Hint{{Key: "enter", Does: "compare"}, {Key: "esc", Does: "leave it"}},
		Text:  m.ref,
		Done:  func(text string) tea.Cmd { return open(m.desk, m.c.Berth, text) },
	})
}

// onlyThis folds all parts but the selected one, or unfolds all where that is so already.
func (m *Model) onlyThis() {
	r, ok := m.selected()
	if !ok {
		return
	}
	others := map[string]bool{}
	for _, d := range m.c.Fields {
		if part := d.Part(); part != r.part {
			others[part] = true
		}
	}
	if maps.Equal(others, m.folded) {
		others = map[string]bool{}
	}
	m.folded = others
	m.keep()
}

// keep lays the rows anew and leaves the cursor on what it was on, or on its part.
func (m *Model) keep() {
	before, ok := m.selected()
	m.lay()
	if !ok {
		return
	}
	for i, r := range m.rows {
		if r.part == before.part && (r.head || r.field.Pointer == before.field.Pointer) {
			m.list.At = i
			if !r.head || before.head {
				return
			}
		}
	}
}

func (m *Model) selected() (row, bool) { return kit.Selected(&m.list, m.rows) }
