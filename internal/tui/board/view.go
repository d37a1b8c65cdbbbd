package board

import (
	"fmt"
	"math"
	"strings"
	"time"

	"aditus/internal/control"
	"aditus/internal/core/compare"
	"aditus/internal/core/guard"
	"aditus/internal/core/say"
	"aditus/internal/engine"
	"aditus/internal/ledger"
	"aditus/internal/tui/kit"
)

// layout is where things are on the page, kept for the mouse.
type layout struct {
	needsAt, needs           int
	rowsAt                   int
	firstColumn, columnWidth int
}

const (
	workloadWidth = 20 // at wide screens; names that are longer are cut
	narrowWidth   = 11
	leastColumn   = 13
)

// View draws the board. The page's last two rows are left to the bar of keys.
func (m *Model) View(p *kit.Page) {
	m.head(p)
	low := p.H < 34
	y := 2
	if !low {
		y = 3
	}
	panel := m.panelHeight(p)
	y = m.viewNeeds(p, y, low)
	m.viewMatrix(p, y, p.H-2-panel)
	m.viewPanel(p, p.H-2-panel, panel)
}

// head is the line on top: whose line it is, the counts, how fresh, the time.
func (m *Model) head(p *kit.Page) {
	s := m.snapshot
	p.Put(kit.Margin+1, 0, kit.Bright, s.Line)
	x := kit.Width(s.Line) + 5
	if p.W >= 120 {
		x = max(x, p.W*7/16)
	}
	count := func(n int, role kit.Role, word string) {
		number := fmt.Sprint(n)
		if n == 0 {
			role = kit.Dim
		}
		x = p.Put(x, 0, role, number)
		x = p.Put(x+1, 0, kit.Dim, word) + 3
	}
	needs := "need you"
	if m.counts.Need == 1 {
		needs = "needs you"
	}
	count(m.counts.Need, kit.Bad, needs)
	count(m.counts.Moving, kit.New, "moving")
	count(m.counts.Steady, kit.Dim, "steady")
	now := s.Now.Local().Format(time.TimeOnly)
	p.Right(p.W-kit.Margin-1, 0, kit.Text, now)
	fresh, role := m.freshness()
	if right := p.W - kit.Margin - 1 - kit.Width(now) - 3; right-kit.Width(fresh) >= x {
		p.Right(right, 0, role, fresh)
	}
	p.Rule(1)
}

// staleAfter is how old the oldest look may be before it is told in colour.
const staleAfter = 15 * time.Second

// freshness tells how long ago the berth that was looked at longest ago was.
func (m *Model) freshness() (string, kit.Role) {
	var oldest time.Duration
	for _, b := range m.snapshot.Berths {
		if b.Looked.IsZero() {
			return "not all looked at yet", kit.Dim
		}
		oldest = max(oldest, m.snapshot.Now.Sub(b.Looked))
	}
	role := kit.Dim
	if oldest > staleAfter {
		role = kit.Bad
	}
	return "looked " + say.Ago(oldest), role
}

// viewNeeds draws the list of what needs a person and gives the row after it.
func (m *Model) viewNeeds(p *kit.Page, y int, low bool) int {
	left := kit.Margin + 1
	m.layout.needs, m.layout.needsAt = 0, 0
	most := needsShown(p.H) // the rows are kept free, so that nothing below them moves when the list grows
	if !low {
		p.Put(left, y, kit.Dim, "NEEDS YOU")
		y++
	}
	after := y + most + 1
	if len(m.needs) == 0 {
		p.Put(left, y, kit.Dim, "nothing")
		return after
	}
	shown := min(len(m.needs), most)
	if shown < len(m.needs) {
		shown--
	}
	about := 8
	for _, n := range m.needs[:shown] {
		about = max(about, kit.Width(n.About))
	}
	about = min(about, 26, p.W/4)
	m.layout.needsAt, m.layout.needs = y, shown
	for i, n := range m.needs[:shown] {
		m.viewNeed(p, y, i, n, about)
		y++
	}
	if rest := len(m.needs) - shown; rest > 0 {
		p.Put(left+4, y, kit.Dim, fmt.Sprintf("and %d more: Tab goes through them", rest))
	}
	return after
}

// needsShown is how many rows the list of what needs a person has.
func needsShown(height int) int {
	switch {
	case height >= 40:
		return 6
	case height >= 30:
		return 4
	}
	return 3
}

const keysWidth = 30

func (m *Model) viewNeed(p *kit.Page, y, i int, n control.Need, about int) {
	left := kit.Margin + 1
	name := kit.Bright
	if m.need(m.Selected()) == i {
		p.Choose(y)
	}
	p.Put(left, y, kit.RoleOf(n.Tone), "┃")
	if i < 9 {
		p.Put(left+2, y, kit.Dim, fmt.Sprint(i+1))
	}
	p.PutIn(left+5, y, about, name, n.About)
	x := left + 5 + about + 2
	end := p.W - kit.Margin - 1
	if p.W >= 120 && len(n.Keys) > 0 {
		end -= keysWidth
		at := end + 2
		for k, verb := range n.Keys[:min(2, len(n.Keys))] {
			p.Put(at, y, kit.New, control.Keys[verb])
			p.PutIn(at+2, y, keysWidth/2-3, kit.Dim, m.says(verb, n.Berth))
			at = end + 2 + (k+1)*(keysWidth/2-1)
		}
	} else if len(n.Keys) > 0 {
		end -= 3
		p.Put(end+2, y, kit.New, control.Keys[n.Keys[0]])
	}
	p.PutIn(x, y, end-x, kit.Text, n.Text)
}

// viewMatrix draws workloads down and sites across.
func (m *Model) viewMatrix(p *kit.Page, y, bottom int) {
	s := m.snapshot
	left, names := kit.Margin+1, workloadWidth
	if p.W < 120 {
		names = narrowWidth
	}
	room := p.W - left - kit.Margin - names
	columns := max(1, len(s.Sites))
	width := max(leastColumn, room/columns)
	shown := max(1, min(columns, room/width))
	m.left = max(0, min(m.left, m.column, columns-shown), m.column-shown+1)
	m.layout.firstColumn, m.layout.columnWidth = left+names, width
	p.Put(left, y, kit.Dim, "WORKLOAD")
	for i := range shown {
		if m.left+i < len(s.Sites) {
			p.PutIn(left+names+i*width, y, width-1, kit.Dim, s.Sites[m.left+i])
		}
	}
	if shown < columns {
		p.Right(p.W-kit.Margin, y, kit.New, "→")
	}
	p.Rule(y + 1)
	y += 2
	m.layout.rowsAt = y
	m.pageRows = max(1, min(bottom-y, len(m.workloads)))
	if bottom-y >= len(m.workloads)+1 && p.H >= 34 {
		y++
		m.layout.rowsAt = y
	}
	m.top = max(0, min(m.top, m.row, len(m.workloads)-m.pageRows), m.row-m.pageRows+1)
	for i := range m.pageRows {
		if m.top+i >= len(m.workloads) {
			break
		}
		m.viewRow(p, y+i, m.top+i, left, names, width, shown)
	}
	if len(m.workloads) == 0 {
		text := "Nothing is declared yet."
		if m.filter != "" {
			text = fmt.Sprintf("Nothing is found for %q. Esc shows all again.", m.filter)
		}
		p.Put(left, y, kit.Dim, text)
	}
	if hidden := len(m.workloads) - m.pageRows; hidden > 0 {
		p.Right(p.W-kit.Margin-1, m.layout.rowsAt-2, kit.Dim, fmt.Sprintf("%d of %d shown", m.pageRows, len(m.workloads)))
	}
}

func (m *Model) viewRow(p *kit.Page, y, row, left, names, width, shown int) {
	workload := m.workloads[row]
	selected := row == m.row
	if selected {
		p.Choose(y)
	}
	steady := true
	for i := range shown {
		id := ledger.Berth{Workload: workload, Site: m.snapshot.Sites[m.left+i]}
		b, ok := m.berths[id]
		x := left + names + i*width
		if selected && m.left+i == m.column {
			p.Put(x-2, y, kit.New, "▸")
		}
		if !ok {
			p.Put(x, y, kit.Rule, "·")
			continue
		}
		c := control.CellOf(b)
		steady = steady && c.Tone == control.Quiet && c.Coming == ""
		viewCell(p, x, y, width-2, c)
	}
	role := kit.Bright
	if steady && !selected {
		role = kit.Text
	}
	p.PutIn(left, y, names-3, role, workload)
}

// piece is a word of a cell with its role.
type piece struct {
	role kit.Role
	text string
}

// viewCell draws a cell in the fullest form that fits.
func viewCell(p *kit.Page, x, y, width int, c control.Cell) {
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
func cellForms(c control.Cell) [][]piece {
	role := kit.RoleOf(c.Tone)
	if c.Coming == "" {
		version := piece{kit.Dim, c.Version}
		if c.Note == "" {
			return [][]piece{{version}}
		}
		if c.Tone != control.Quiet {
			version.role = kit.Bright
		} else {
			role = kit.Dim
		}
		first, _, _ := strings.Cut(c.Note, " ")
		forms := [][]piece{{version, {kit.Dim, ""}, {role, c.Note}}, {version, {role, c.Note}}, {version, {role, first}}}
		if c.Tone == control.Quiet {
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
	track := piece{role, strings.Repeat("■", c.Stage) + strings.Repeat("□", max(0, c.Stages-c.Stage))}
	return [][]piece{{old, arrow, coming, track, share}, {coming, track, share}, {coming, share}, {coming}}
}

// panelHeight is how many rows the selected berth gets.
func (m *Model) panelHeight(p *kit.Page) int {
	switch {
	case p.H >= 40:
		return 16
	case p.H >= 30:
		return 10
	}
	return 6
}

// viewPanel tells the selected berth in full sentences, with its guards.
func (m *Model) viewPanel(p *kit.Page, y, height int) {
	end := y + height
	p.Rule(y)
	left := kit.Margin + 1
	b, ok := m.Berth()
	if !ok {
		if id := m.Selected(); id.Workload != "" {
			p.Put(left, y+1, kit.Dim, fmt.Sprintf("%s is not declared for %s.", id.Workload, id.Site))
		}
		return
	}
	roomy := height > 12
	if roomy {
		y++
	}
	y++
	m.viewTitle(p, y, b)
	y++
	if roomy {
		y++
	}
	for _, line := range control.Tell(b, m.snapshot.Now) {
		if y >= end {
			return
		}
		p.Put(left, y, kit.Dim, line.Label)
		p.PutIn(left+10, y, p.W-left-11-kit.Margin, kit.RoleOf(line.Tone), line.Text)
		y++
	}
	if roomy {
		y++
	}
	if len(b.Verdicts) > 0 && y+1 < end {
		m.viewGuards(p, y, end, b)
	}
}

func (m *Model) viewTitle(p *kit.Page, y int, b engine.Berth) {
	x := p.Put(kit.Margin+1, y, kit.Bright, b.Workload+" · "+b.Site) + 3
	revision := func(role kit.Role, r *ledger.Revision) {
		x = p.Put(x, y, role, r.Version)
		if p.W >= 100 {
			x = p.Put(x+1, y, kit.Dim, r.Fingerprint.Short())
		}
		x += 2
	}
	switch r := b.Rollout; {
	case r != nil && r.To != nil:
		if r.From != nil {
			revision(kit.Old, r.From)
			x = p.Put(x, y, kit.Dim, "▸") + 2
		}
		revision(kit.New, r.To)
	case b.Applied != nil:
		revision(kit.Text, b.Applied)
	}
	text, tone := control.Headline(b, m.snapshot.Now)
	p.Put(x+1, y, kit.RoleOf(tone), text)
}

// viewGuards draws a row for each guard: old, new, and the distance to the limit.
func (m *Model) viewGuards(p *kit.Page, y, end int, b engine.Berth) {
	left := kit.Margin + 1
	rolling := b.Rollout != nil
	chart, chartWidth := left+42, max(0, min(48, p.W-left-42-50))
	limit := chart + chartWidth + 2
	if chartWidth < 12 {
		chartWidth, limit = 0, left+42
	}
	verdict := limit + 28
	p.Put(left, y, kit.Dim, "GUARD")
	if rolling {
		p.Right(left+27, y, kit.Dim, "old")
		p.Right(left+39, y, kit.Dim, "new")
	} else {
		p.Right(left+39, y, kit.Dim, "now")
	}
	if chartWidth > 0 {
		p.PutIn(chart, y, chartWidth, kit.Dim, fmt.Sprintf("against the limit, %.0f %% interval", guard.Confidence*100))
	}
	p.Put(limit, y, kit.Dim, "limit")
	p.Put(verdict, y, kit.Dim, "verdict")
	nearest := nearestGuard(b.Verdicts)
	for i, v := range b.Verdicts {
		if y+1+i >= end {
			return
		}
		m.viewGuard(p, y+1+i, v, rolling, i == nearest, chart, chartWidth, limit, verdict)
	}
}

func (m *Model) viewGuard(p *kit.Page, y int, v guard.Verdict, rolling, nearest bool, chart, width, limit, verdict int) {
	left, unit := kit.Margin+1, v.Limit.Unit
	p.PutIn(left, y, 17, kit.Text, v.Guard)
	if rolling && v.Old != nil {
		p.Right(left+27, y, kit.Old, unit.Format(v.Old.Value))
	}
	if v.New != nil {
		role := kit.New
		if !rolling {
			role = kit.Text
		}
		p.Right(left+39, y, role, unit.Format(v.New.Value))
	}
	shown, tone := v.New, control.VerdictTone(v)
	if v.Limit.Relative() {
		shown = v.Difference
	}
	if width > 0 && shown != nil {
		from, to := 0.0, v.Limit.Value()*1.25
		if v.Limit.Relative() {
			from = -v.Limit.Value()
		}
		to = max(to, shown.Value*1.1)
		if spread := shown.High - shown.Low; !v.Limit.Relative() && spread < v.Limit.Value()/10 && unit != guard.Share {
			from = math.Max(0, v.Limit.Value()*0.5)
		}
		role := kit.Text
		if tone != control.Good {
			role = kit.RoleOf(tone)
		}
		p.Interval(chart, y, width, shown.Low, shown.Value, shown.High, from, to, v.Limit.Value(), role)
	}
	p.PutIn(limit, y, verdict-limit-1, kit.Dim, v.Limit.String())
	word := control.VerdictWords(v)
	if nearest && v.Word == guard.Clear {
		word += ", nearest"
	}
	p.Put(verdict, y, kit.RoleOf(tone), word)
}

// nearestGuard is the guard that is closest to its limit.
func nearestGuard(verdicts []guard.Verdict) int {
	best, least := -1, math.Inf(1)
	for i, v := range verdicts {
		if margin, ok := v.Margin(); ok && margin < least {
			best, least = i, margin
		}
	}
	return best
}

// says is the word for an action at a berth: a sync of what was changed by hand puts it back.
func (m *Model) says(verb control.Verb, id ledger.Berth) string {
	if stand := m.berths[id].Stand; verb == control.Sync && (stand == compare.Drifted || stand == compare.Diverged) {
		return "put back"
	}
	return string(verb)
}

// Hints are the keys that fit the selected berth now.
func (m *Model) Hints() []kit.Hint {
	var hints []kit.Hint
	b, ok := m.Berth()
	if !ok {
		return nil
	}
	for _, a := range control.Actions(b) {
		if a.Not == nil && a.Verb != control.LookNow {
			hints = append(hints, kit.Hint{Key: a.Key, Does: m.says(a.Verb, b.Berth)})
		}
	}
	return hints
}
