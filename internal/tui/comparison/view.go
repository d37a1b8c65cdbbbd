package comparison

import (
	"cmp"
	"fmt"
	"strings"

	"github.com/sergi/go-diff/diffmatchpatch"

	"aditus/internal/core/compare"
	"aditus/internal/core/say"
	"aditus/internal/tui/kit"
	"aditus/internal/view"
)

// columns are where the fields and the three states stand.
type columns struct {
	field, applied, declared, live, kind int
	width                                int // of a state's column, with the gap after it
}

func columnsOf(p *kit.Page, two bool) columns {
	left, field, kind := kit.Margin+1, 30, 23
	switch {
	case p.W < 90:
		field, kind = 18, 0
	case p.W < 120:
		field, kind = 22, 0
	}
	states := 3
	if two {
		states = 2
	}
	width := (p.W - 2*left - field - kind) / states
	c := columns{field: left, applied: left + field, width: width}
	c.declared = c.applied + width
	c.live = c.declared + width
	if c.kind = c.applied + states*width; kind == 0 {
		c.kind = -1
	}
	return c
}

// View draws the comparison. The page's last two rows are left to the bar of keys.
func (m *Model) View(p *kit.Page) {
	screen := "compare"
	if m.ref != "" {
		screen = "compare with " + m.ref
	}
	x := p.Head(m.c.Berth.Workload+" · "+m.c.Berth.Site, screen, "")
	stand := string(m.c.SyncStatus)
	if m.c.Preview {
		stand = "a preview; nothing of it is taken"
	}
	role := kit.Bright
	if m.c.SyncStatus == compare.Drifted || m.c.SyncStatus == compare.Diverged {
		role = kit.Bad
	}
	p.Put(x, 0, role, stand)
	y := m.sentences(p, 3)
	details := m.detailHeight(p)
	y = m.table(p, y, p.H-2-details)
	if details > 0 {
		m.detail(p, min(y+1, p.H-2-details), details)
	}
}

// sentences tell what a sync does and undoes, before the table.
func (m *Model) sentences(p *kit.Page, y int) int {
	left, width := kit.Margin+1, p.W-2*kit.Margin-2
	most := 6
	if p.H < 34 {
		y, most = 2, 3
	}
	if m.c.Two {
		return y
	}
	label := func(text string) {
		p.Put(left, y, kit.Dim, text)
	}
	const indent = 14
	label("a sync")
	if p.H >= 34 {
		label("WHAT A SYNC DOES")
		y++
	}
	lines := m.c.Does
	room := most
	if len(m.c.Undoes) > 0 {
		room -= min(len(m.c.Undoes), 3)
	}
	if more := len(lines) - room; more > 0 {
		lines = append(lines[:room-1:room-1], fmt.Sprintf("and %d sentences more", more+1))
	}
	for _, text := range lines {
		at := left
		if p.H < 34 {
			at = left + indent
		}
		y = p.Wrap(at, y, width-(at-left), 2, kit.Text, say.Sentence(text))
	}
	for i, text := range m.c.Undoes {
		if i == 3 || i == most-1 {
			p.Put(left, y, kit.Bad, fmt.Sprintf("It overwrites %d more.", len(m.c.Undoes)-i))
			y++
			break
		}
		y = p.Wrap(left, y, width, 2, kit.Bad, "It overwrites: "+text+".")
	}
	if marked := m.Chosen(); len(marked) > 0 {
		p.Put(left, y, kit.New, "Marked for the sync: "+say.List(marked)+" alone.")
		y++
	}
	return y + 1
}

// table draws the fields, and tells where they end.
func (m *Model) table(p *kit.Page, y, end int) int {
	c := columnsOf(p, m.c.Two)
	title := func(x int, name, what string) {
		at := p.PutIn(x, y, c.width-2, kit.Dim, name)
		p.PutIn(at+1, y, c.width-3-(at-x), kit.Text, what)
	}
	p.Put(c.field, y, kit.Dim, "FIELD")
	if m.c.Two {
		title(c.applied, "", m.c.Applied)
		title(c.declared, "", m.c.Declared)
	} else {
		title(c.applied, "applied", cmp.Or(m.c.Applied, "nothing"))
		title(c.declared, "declared", cmp.Or(m.c.Declared, "nothing"))
		title(c.live, "live", m.c.Live)
	}
	p.Rule(y + 1)
	y += 2
	room := end - y
	if room <= 0 {
		return y
	}
	if m.rowsAt = y; m.room != room {
		m.room = room
		m.keep()
	}
	if len(m.rows) == 0 {
		p.Put(c.field, y+1, kit.Clear, "Applied, declared and live agree in every field.")
		return y + 1
	}
	from, to := m.list.Window(room, len(m.rows))
	switch {
	case c.kind >= 0:
		p.More(y-2, from, to, len(m.rows))
	case to-from < len(m.rows): // there is no room at the end of the line
		where, width := fmt.Sprintf("%d–%d of %d", from+1, to, len(m.rows)), c.applied-c.field-1
		if kit.Width(where) > width {
			where = fmt.Sprintf("%d of %d", to, len(m.rows))
		}
		p.PutIn(c.field, y-2, width, kit.Dim, where)
	}
	for i := from; i < to; i++ {
		if i == m.list.At {
			p.Choose(y)
		}
		if m.rows[i].head {
			m.viewPart(p, y, c, m.rows[i])
		} else {
			m.viewField(p, y, c, m.rows[i])
		}
		y++
	}
	return y
}

func (m *Model) viewPart(p *kit.Page, y int, c columns, r row) {
	fold := "▾"
	if m.folded[r.part] {
		fold = "▸"
	}
	p.Put(c.field, y, kit.Dim, fold)
	name := r.part
	if r.part == rules {
		name = "rollout and guards"
	}
	x := p.Put(c.field+2, y, kit.Bright, name)
	if m.marked[r.part] {
		x = p.Put(x+2, y, kit.New, "● marked")
	}
	if r.count > 0 {
		p.Put(max(x+2, c.applied), y, kit.RoleOf(view.ToneOf(r.kind)), say.Count(r.count, "difference"))
	} else {
		p.Put(max(x+2, c.applied), y, kit.Dim, "agrees")
	}
}

func (m *Model) viewField(p *kit.Page, y int, c columns, r row) {
	d := r.field
	name := strings.TrimPrefix(view.Field(d.Pointer), r.part+" ")
	if d.Pointer == "/parts/"+r.part {
		name = "all of it"
	}
	role := kit.Text
	if r.kind == compare.Same {
		role = kit.Dim
	}
	p.PutIn(c.field+4, y, c.applied-c.field-6, role, name)
	state := func(x int, value, before any, role kit.Role) {
		text := view.Value(value)
		if same(value, before) && x != c.applied {
			p.PutIn(x, y, c.width-2, kit.Dim, "same")
			return
		}
		p.PutIn(x, y, c.width-2, role, tail(text, c.width-2))
	}
	applied := kit.Old
	if r.kind == compare.Same {
		applied = kit.Dim
	}
	state(c.applied, d.Applied, nil, applied)
	state(c.declared, d.Declared, d.Applied, kit.New)
	if m.c.Two {
		return
	}
	live := kit.Bad
	if r.kind == compare.MarkOnly {
		live = kit.Clear
	} else if r.kind == compare.Left {
		live = kit.Dim
	}
	if view.Seen(d.Pointer) {
		state(c.live, d.Live, d.Applied, live)
	}
	if c.kind >= 0 && r.kind != compare.Same {
		p.Put(c.kind, y, kit.RoleOf(view.ToneOf(r.kind)), view.KindWords[r.kind])
	}
}

// tail keeps the end of a reference or path that has no room: there it differs from others.
func tail(text string, width int) string {
	if kit.Width(text) <= width || width < 2 || !strings.Contains(text, "/") || strings.ContainsAny(text, " \n{[") {
		return text
	}
	runes := []rune(text)
	return "…" + string(runes[max(0, len(runes)-width+1):])
}

func same(a, b any) bool { return view.Value(a) == view.Value(b) }

// detailHeight is how many rows the selected field gets at the bottom.
func (m *Model) detailHeight(p *kit.Page) int {
	switch {
	case len(m.rows) == 0 || p.H < 28:
		return 0
	case p.H < 40:
		return 6
	}
	return 10
}

// detail shows the selected field in full; long texts line by line.
func (m *Model) detail(p *kit.Page, y, h int) {
	r, ok := m.selected()
	if !ok {
		return
	}
	end := y + h
	p.Rule(y)
	left := kit.Margin + 1
	const label = 12
	if r.head {
		p.Put(left, y+1, kit.Dim, "part")
		p.Put(left+label, y+1, kit.Text, cmp.Or(r.part, "rollout and guards"))
		return
	}
	d := r.field
	p.Put(left, y+1, kit.Dim, "pointer")
	p.Put(left+label, y+1, kit.Text, d.Pointer)
	y += 2
	if a, b, ok := texts(d, m.c.Two); ok {
		p.Put(left, y, kit.Dim, "by line")
		for _, line := range byLine(a, b) {
			if y >= end {
				return
			}
			role := map[string]kit.Role{"+": kit.New, "-": kit.Bad, " ": kit.Dim}[line[:1]]
			p.Put(left+label, y, role, line)
			y++
		}
		return
	}
	show := func(name string, value any, role kit.Role) {
		if y < end {
			p.Put(left, y, kit.Dim, name)
			y = p.Wrap(left+label, y, p.W-left-label-2, max(1, (h-3)/3), role, view.Value(value))
		}
	}
	show("applied", d.Applied, kit.Old)
	declared := kit.Text
	if !same(d.Declared, d.Applied) {
		declared = kit.New
	}
	show("declared", d.Declared, declared)
	if !m.c.Two && !view.Seen(d.Pointer) && y < end {
		p.Put(left, y, kit.Dim, "live")
		p.Put(left+label, y, kit.Dim, "no site shows it; Aditus alone goes by it")
		y++
	} else if !m.c.Two {
		role := kit.Text
		if !same(d.Live, d.Applied) {
			role = kit.Bad
		}
		show("live", d.Live, role)
	}
	if word := view.KindWords[d.Kind]; !m.c.Two && word != "" && y < end {
		p.Put(left, y, kit.Dim, "that is")
		p.Put(left+label, y, kit.RoleOf(view.ToneOf(d.Kind)), word)
	}
}

// texts gives what is compared line by line: the live text, or the applied one, against the declared.
func texts(d compare.Difference, two bool) (from, to string, ok bool) {
	from, isFrom := d.Live.(string)
	if two || !isFrom {
		from, isFrom = d.Applied.(string)
	}
	to, isTo := d.Declared.(string)
	return from, to, isFrom && isTo && strings.Contains(from+to, "\n")
}

// byLine gives the lines of two texts: "-" for those that go, "+" for those that come.
func byLine(from, to string) []string {
	differ := diffmatchpatch.New()
	a, b, lines := differ.DiffLinesToChars(from, to)
	var out []string
	for _, d := range differ.DiffCharsToLines(differ.DiffMain(a, b, false), lines) {
		mark := map[diffmatchpatch.Operation]string{diffmatchpatch.DiffInsert: "+ ", diffmatchpatch.DiffDelete: "- ", diffmatchpatch.DiffEqual: "  "}[d.Type]
		for _, line := range strings.Split(strings.TrimSuffix(d.Text, "\n"), "\n") {
			out = append(out, mark+line)
		}
	}
	return out
}
