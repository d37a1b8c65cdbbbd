package board

import (
	"fmt"
	"math"
	"strings"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/say"
	"aditus/internal/tui/kit"
	"aditus/internal/words"
)

// viewMatrix draws workloads down and sites across.
func (m *Model) viewMatrix(p *kit.Page, y, bottom int) {
	left, names, widest := kit.Margin+1, workloadWidth, widestNames
	if p.W < 120 {
		names, widest = narrowWidth, max(narrowWidth, p.W/4)
	}
	if spare := p.W - left - kit.Margin - len(m.sites)*leastColumn; spare >= names {
		widest = min(widest, spare) // all sites in sight are worth more than whole names
	}
	for _, name := range m.workloads {
		names = max(names, min(kit.Width(name)+namesApart, widest))
	}
	room := p.W - left - kit.Margin - names
	columns := max(1, len(m.sites))
	width := max(leastColumn, room/columns)
	shown := max(1, min(columns, room/width))
	if list := shown < min(columns, leastColumns); list != m.list { // the rows are others
		at, id := m.cursor(), m.Berth()
		m.list = list
		m.arrange()
		m.put(at)
		m.Select(id)
	}
	if m.list {
		names, shown = p.W-left-kit.Margin, 0
	}
	if !m.list {
		m.left = max(0, min(m.left, m.column, columns-shown), m.column-shown+1)
	}
	m.layout.firstColumn, m.layout.columnWidth = left+names, width
	titleAt := y
	for i := range shown {
		if m.left+i < len(m.sites) {
			p.PutIn(left+names+i*width, y, width-1, kit.Dim, m.sites[m.left+i])
		}
	}
	if shown < columns && !m.list {
		p.Right(p.W-kit.Margin, y, kit.New, "→")
	}
	p.Rule(y + 1)
	y += 2
	m.layout.rowsAt = y
	m.pageRows = max(1, min(bottom-y, len(m.rows)))
	if bottom-y >= len(m.rows)+1 && p.H >= 34 {
		y++
		m.layout.rowsAt = y
	}
	m.top = max(0, min(m.top, m.row, len(m.rows)-m.pageRows), m.row-m.pageRows+1)
	for i := range m.pageRows {
		at := m.top + i
		switch {
		case at >= len(m.rows):
		case m.rows[at].heading():
			m.viewHeading(p, y+i, at, left, names, width, shown)
		case m.list:
			m.viewListed(p, y+i, at, left)
		default:
			m.viewRow(p, y+i, at, left, names, width, shown)
		}
	}
	if len(m.workloads) == 0 {
		text := "Nothing is declared yet."
		if m.filter != "" {
			text = fmt.Sprintf("Nothing is found for %q. Esc shows all again.", m.filter)
		}
		p.Put(left, y, kit.Dim, text)
	}
	title := orderingTitles[m.ordered]
	if len(m.rows) > m.pageRows {
		title = fmt.Sprintf("%d–%d of %d", m.top+1, m.top+m.pageRows, len(m.rows))
	}
	p.PutIn(left, titleAt, names-1, kit.Dim, title)
}

func (m *Model) viewRow(p *kit.Page, y, row, left, names, width, shown int) {
	workload := m.rows[row].workload
	selected := row == m.row
	if selected {
		p.Choose(y)
	}
	steady := true
	for i := range shown {
		id := berth.ID{Workload: workload, Site: m.sites[m.left+i]}
		b, ok := m.berths[id]
		x := left + names + i*width
		if selected && m.left+i == m.column {
			p.Put(x-2, y, kit.New, "▸")
		}
		if !ok {
			p.Put(x, y, kit.Rule, "·")
			continue
		}
		if m.marks[id] {
			p.Put(x-1, y, kit.New, "▪")
		}
		c := words.CellOf(*b)
		steady = steady && c.Tone == words.Quiet && c.Coming == ""
		if c.Absent && c.Tone == words.Quiet && c.Coming == "" {
			p.Put(x, y, kit.Dim, absent)
			continue
		}
		viewCell(p, x, y, width-2, c)
	}
	role := kit.Bright
	if steady && !selected {
		role = kit.Text
	}
	p.PutIn(left, y, names-1, role, kit.Middle(workload, names-namesApart))
}

// viewHeading draws what stands above a group: what its rows have in common, and how many of them are not steady at each site.
func (m *Model) viewHeading(p *kit.Page, y, row, left, names, width, shown int) {
	g, role, sign := m.groups[m.rows[row].group], kit.Bright, "▾ "
	if row == m.row {
		p.Choose(y)
	}
	if m.folded[g.name] {
		sign = "▸ "
	}
	x := p.Put(left, y, kit.Dim, sign)
	x = p.PutIn(x, y, names-3, role, kit.Middle(g.name, names-3))
	if room := left + names - 1 - x - 2; room > 0 {
		if text := g.says(); kit.Width(text) <= room {
			p.Put(x+2, y, kit.Dim, text)
		} else if text := fmt.Sprint(len(g.workloads)); kit.Width(text) <= room {
			p.Put(x+2, y, kit.Dim, text)
		}
	}
	for i := range shown {
		t := g.at[m.sites[m.left+i]]
		if t == nil {
			continue
		}
		role, text := kit.Dim, fmt.Sprint(t.all)
		switch {
		case t.need > 0:
			role, text = kit.Bad, fmt.Sprintf("%d of %d need", t.need, t.all)
		case t.moving > 0:
			role, text = kit.New, fmt.Sprintf("%d of %d move", t.moving, t.all)
		}
		p.PutIn(left+names+i*width, y, width-1, role, text)
	}
}

// viewListed draws one berth of a list, which a terminal has that is too narrow for a matrix.
func (m *Model) viewListed(p *kit.Page, y, row, left int) {
	r := m.rows[row]
	id := berth.ID{Workload: r.workload, Site: r.site}
	room := p.W - left - kit.Margin
	sites := 0
	for _, site := range m.sites {
		sites = max(sites, kit.Width(site)+1)
	}
	sites = min(sites, room/3)
	names := (room - sites) / 2
	if row == m.row {
		p.Choose(y)
	}
	if m.marks[id] {
		p.Put(left-1, y, kit.New, "▪")
	}
	c := words.CellOf(*m.berths[id])
	role := kit.Bright
	if c.Tone == words.Quiet && c.Coming == "" && row != m.row {
		role = kit.Text
	}
	if first := row == m.top || m.rows[row-1].workload != r.workload; first || row == m.row {
		p.PutIn(left, y, names-1, role, kit.Middle(r.workload, names-1))
	}
	p.PutIn(left+names, y, sites-1, kit.Dim, kit.Middle(r.site, sites-1))
	if c.Absent && c.Tone == words.Quiet && c.Coming == "" {
		p.Put(left+names+sites, y, kit.Dim, absent)
		return
	}
	viewCell(p, left+names+sites, y, room-names-sites, c)
}

// absent stands for a berth of which nothing is at its site yet; where nothing is declared there is fainter.
const absent = "◌"

// mostMarks is how long a track may get in a cell.
const mostMarks = 6

// trackOf is the way a rollout has come, in marks: its stages, the two sets of a blue-green one, or, where instances are
// exchanged, how many are new.
func trackOf(c words.Cell) string {
	done, of, full, empty := c.Stage, c.Stages, "■", "□"
	switch c.Style {
	case declare.Rolling:
		done, of, full, empty = c.New, c.Of, "●", "○"
	case declare.BlueGreen:
		if c.Stage < c.Stages {
			return "trial"
		}
		return "switched"
	}
	if of > mostMarks {
		done, of = int(math.Round(float64(done)*mostMarks/float64(of))), mostMarks
	}
	return strings.Repeat(full, done) + strings.Repeat(empty, max(0, of-done))
}

// piece is a word of a cell with its role.
type piece struct {
	role kit.Role
	text string
}

// viewCell draws a cell in the fullest form that fits.
func viewCell(p *kit.Page, x, y, width int, c words.Cell) {
	for _, form := range cellForms(c) {
		total := 0
		for i, piece := range form {
			total += kit.Width(piece.text)
			if i > 0 {
				total++
			}
		}
		if total <= width {
			for i, piece := range form {
				if i > 0 {
					x++
				}
				x = p.PutIn(x, y, width, piece.role, piece.text)
			}
			return
		}
	}
	forms := cellForms(c)
	last := forms[len(forms)-1]
	p.PutIn(x, y, width, last[len(last)-1].role, last[len(last)-1].text)
}

// cellForms gives the ways to write a cell, the fullest first.
func cellForms(c words.Cell) [][]piece {
	role := kit.RoleOf(c.Tone)
	if c.Coming == "" {
		version := piece{kit.Dim, c.Version}
		if c.Note == "" {
			return [][]piece{{version}}
		}
		if c.Tone != words.Quiet {
			version.role = kit.Bright
		} else {
			role = kit.Dim
		}
		first, _, _ := strings.Cut(c.Note, " ")
		forms := [][]piece{{version, {kit.Dim, ""}, {role, c.Note}}, {version, {role, c.Note}}, {version, {role, first}}}
		if c.Tone == words.Quiet {
			return append(forms, []piece{version})
		}
		return append(forms, []piece{{role, first}})
	}
	old, arrow, coming := piece{kit.Old, c.Version}, piece{kit.Dim, "▸"}, piece{kit.New, c.Coming}
	share := piece{kit.Text, say.Share(c.Share)}
	if c.Note != "" {
		note := piece{role, c.Note}
		word, _, _ := strings.Cut(c.Note, " ")
		if c.Note == "rolling back" {
			word = "back"
		}
		return [][]piece{{old, arrow, coming, note}, {coming, note}, {coming, {role, word}}, {{role, word}}}
	}
	track := piece{role, trackOf(c)}
	if c.Style == declare.Rolling {
		share = piece{kit.Text, fmt.Sprintf("%d/%d", c.New, c.Of)} // instances are what moves
	}
	return [][]piece{{old, arrow, coming, track, share}, {coming, track, share}, {coming, share}, {coming}}
}
