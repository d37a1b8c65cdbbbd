// Package comparison is the screen on which applied, declared and live stand side by side, field by field, with what a
// sync would do in words.
package comparison

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"aditus/internal/control"
	"aditus/internal/core/compare"
	"aditus/internal/tui/kit"
)

// Model is a comparison with a cursor.
type Model struct {
	c      control.Comparison
	ref    string // what it is compared with instead of what Git declares; empty for that
	rows   []row
	list   kit.List
	all    bool            // fields that agree are shown too
	folded map[string]bool // parts
	marked map[string]bool // parts chosen for a sync
	rowsAt int             // where rows begin on the page, and how many have room, for the mouse
	room   int
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

// New makes the screen.
func New(c control.Comparison, ref string) *Model {
	m := &Model{folded: map[string]bool{}, marked: map[string]bool{}, ref: ref}
	m.Set(c)
	m.list.At = min(1, max(0, len(m.rows)-1)) // the first field that differs
	return m
}

// Set shows a newer comparison of the same berth.
func (m *Model) Set(c control.Comparison) {
	m.c = c
	m.lay()
}

// SetSeen tells when what is live was seen, where all else is as it was.
func (m *Model) SetSeen(words string) { m.c.Live = words }

// Comparison is what is shown.
func (m *Model) Comparison() control.Comparison { return m.c }

// Ref is what it is compared with; empty for what Git declares.
func (m *Model) Ref() string { return m.ref }

// Marked gives the parts that were chosen for a sync, sorted; none means all.
func (m *Model) Marked() []string {
	var names []string
	for name := range m.marked {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

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
	for _, part := range order {
		head := row{part: part, head: true}
		var fields []row
		for _, d := range byPart[part] {
			if d.Kind != compare.Same {
				head.count++
				head.kind = worse(head.kind, d.Kind)
			}
			if m.all || d.Kind != compare.Same {
				fields = append(fields, row{part: part, field: d, kind: d.Kind})
			}
		}
		if len(fields) == 0 {
			continue
		}
		m.rows = append(m.rows, head)
		if !m.folded[part] {
			m.rows = append(m.rows, fields...)
		}
	}
}

// worse gives the kind of difference that a person should know of first.
func worse(a, b compare.Kind) compare.Kind {
	order := []compare.Kind{compare.Same, compare.Left, compare.MarkOnly, compare.Pending, compare.Orphan, compare.Drift, compare.Conflict}
	return order[max(slices.Index(order, a), slices.Index(order, b))]
}

// Key moves and folds. It is false for keys that are none of its business.
func (m *Model) Key(key string) bool {
	if m.list.Key(key, len(m.rows)) {
		return true
	}
	switch key {
	case "f":
		m.all = !m.all
		m.keep()
	case "z", "enter", "left", "right", "h", "l":
		r, ok := m.selected()
		if !ok {
			return true
		}
		fold := (key == "left" || key == "h") || (key == "z" || key == "enter") && !m.folded[r.part]
		if delete(m.folded, r.part); fold {
			m.folded[r.part] = true
		}
		m.keep()
	case "Z":
		m.onlyThis()
	case "m":
		if r, ok := m.selected(); ok && r.part != rules {
			if m.marked[r.part] {
				delete(m.marked, r.part)
			} else {
				m.marked[r.part] = true
			}
		}
	default:
		return false
	}
	return true
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

func (m *Model) selected() (row, bool) {
	if m.list.At < 0 || m.list.At >= len(m.rows) {
		return row{}, false
	}
	return m.rows[m.list.At], true
}

// Click selects the row under the mouse.
func (m *Model) Click(_, y int) bool {
	from, to := m.list.Window(m.room, len(m.rows))
	if at := from + y - m.rowsAt; y >= m.rowsAt && at < to {
		m.list.At = at
	}
	return true
}

// Hints are the keys of the screen.
func (m *Model) Hints() []kit.Hint {
	all := "every field"
	if m.all {
		all = "only what differs"
	}
	hints := []kit.Hint{{Key: "f", Does: all}, {Key: "z", Does: "fold"}, {Key: "b", Does: "compare with"}, {Key: "p", Does: "copy the patch"}}
	if !m.c.Two && !m.c.Preview {
		hints = append([]kit.Hint{{Key: "y", Does: "sync"}, {Key: "m", Does: "mark a part"}}, hints...)
	}
	return hints
}
