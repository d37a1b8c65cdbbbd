package board

import (
	"cmp"
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/say"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/screen"
	"aditus/internal/words"
)

// layout is where things are on the page, kept for the mouse.
type layout struct {
	needsAt                  int
	needAt                   []int // the need in each row from there on
	rowsAt                   int
	firstColumn, columnWidth int
}

const (
	workloadWidth = 20 // at wide screens, or more for longer names
	widestNames   = 30 // beyond which they are cut
	namesApart    = 3
	narrowWidth   = 11 // at narrow ones, or as much as a third of the room for longer names
	leastColumn   = 13
	leastColumns  = 4  // of a matrix, where there are as many sites; else it is a list
	narrowest     = 60 // below which the line on top has no room for words

	// LeastWidth is how wide a terminal is at least for the board to be drawn.
	LeastWidth = 40
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
	x := kit.Margin + 1
	if p.W >= narrowest {
		p.Put(x, 0, kit.Bright, s.Line)
		x = kit.Width(s.Line) + 5
	}
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
	switch {
	case p.W < narrowest:
		needs = "need"
	case m.counts.Need == 1:
		needs = "needs you"
	}
	count(m.counts.Need, kit.Bad, needs)
	count(m.counts.Moving, kit.New, "moving")
	count(m.counts.Steady, kit.Dim, "steady")
	if m.counts.Absent > 0 && p.W >= narrowest {
		count(m.counts.Absent, kit.Dim, "absent")
	}
	now := s.Now.Local().Format(time.TimeOnly)
	if p.W-kit.Margin-1-kit.Width(now) < x {
		now = ""
	}
	p.Right(p.W-kit.Margin-1, 0, kit.Text, now)
	right := p.W - kit.Margin - 1 - kit.Width(now) - 3
	if fresh, role := m.freshness(); right-kit.Width(fresh) >= x {
		p.Right(right, 0, role, fresh)
		right -= kit.Width(fresh) + 3
	}
	if l := s.Leader; l != nil && !l.Here {
		leader := cmp.Or(l.Name, "another server")
		for _, text := range []string{"stands by for " + leader, leader + " leads"} {
			if right-kit.Width(text) >= x {
				p.Right(right, 0, kit.Clear, text)
				break
			}
		}
	}
	p.Rule(1)
}

// staleAfter is how old the oldest look may be before it is told in colour.
const staleAfter = 15 * time.Second

// freshness tells how long ago the berth that was looked at longest ago was.
func (m *Model) freshness() (string, kit.Role) {
	if lost := m.snapshot.Lost; lost != nil {
		return "nothing heard since " + lost.Since.Local().Format(time.TimeOnly), kit.Bad
	}
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
	m.layout.needAt, m.layout.needsAt = m.layout.needAt[:0], 0
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
	m.layout.needsAt, m.layout.needAt = y, m.layout.needAt[:0]
	spare := most - shown
	if shown < len(m.needs) {
		spare = 0 // the row after them says that there are more
	}
	chosen := m.selectedNeed()
	x, end := left+5+about+2, m.needEnd(p)
	rows := make([]int, shown)
	for _, first := range []bool{true, false} { // the one that the cursor is on is told whole before the others are
		for i, n := range m.needs[:shown] {
			if (i == chosen) != first {
				continue
			}
			rows[i] = min(kit.Rows(n.Text, end-x), 1+spare)
			spare -= rows[i] - 1
		}
	}
	for i, n := range m.needs[:shown] {
		m.viewNeed(p, y, i, n, about, rows[i])
		for range rows[i] {
			m.layout.needAt = append(m.layout.needAt, i)
		}
		y += rows[i]
	}
	if rest := len(m.needs) - shown; rest > 0 {
		p.Put(left+4, y, kit.Dim, fmt.Sprintf("and %d more: Tab goes through them", rest))
	}
	return after
}

// needEnd is where the sentence of a need ends at the latest.
func (m *Model) needEnd(p *kit.Page) int {
	if p.W >= 120 {
		return p.W - kit.Margin - 1 - keysWidth
	}
	return p.W - kit.Margin - 1 - 3
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

func (m *Model) viewNeed(p *kit.Page, y, i int, n words.Need, about, rows int) {
	left, end := kit.Margin+1, m.needEnd(p)
	for k := range rows {
		if m.selectedNeed() == i {
			p.Choose(y + k)
		}
		p.Put(left, y+k, kit.RoleOf(n.Tone), "┃")
	}
	if i < 9 {
		p.Put(left+2, y, kit.Dim, fmt.Sprint(i+1))
	}
	p.PutIn(left+5, y, about, kit.Bright, n.About)
	if p.W >= 120 {
		at := end + 2
		for k, verb := range n.Keys[:min(2, len(n.Keys))] {
			p.Put(at, y, kit.New, words.Keys[verb])
			p.PutIn(at+2, y, keysWidth/2-3, kit.Dim, m.says(verb, n.Berth))
			at = end + 2 + (k+1)*(keysWidth/2-1)
		}
	} else if len(n.Keys) > 0 {
		p.Put(end+2, y, kit.New, words.Keys[n.Keys[0]])
	}
	x := left + 5 + about + 2
	if rows == 1 {
		p.PutIn(x, y, end-x, kit.Text, n.Text)
		return
	}
	p.Wrap(x, y, end-x, rows, kit.Text, n.Text)
}

// says is the word for an action at a berth: a sync of what was changed by hand puts it back.
func (m *Model) says(verb words.Verb, id berth.ID) string {
	if b := m.berths[id]; b != nil && verb == words.Sync && (b.SyncStatus == compare.Drifted || b.SyncStatus == compare.Diverged || words.Lost(*b)) {
		return "put back"
	}
	return string(verb)
}

// actions are the keys of what fits the selected berth now.
func (m *Model) actions() (keys []screen.Key) {
	bind := func(verb words.Verb, does string, at berth.ID) {
		keys = append(keys, screen.Bind(words.Keys[verb], words.Keys[verb], does, "", func(string) tea.Cmd { return m.desk.Start(verb, at) }))
	}
	if n := m.selectedNeed(); m.unfolded != "" && n >= 0 {
		for _, verb := range m.needs[n].Keys {
			bind(verb, string(verb), berth.ID{})
		}
		return keys
	}
	b, ok := m.selected()
	if !ok {
		return nil
	}
	for _, a := range words.Actions(b) {
		if a.Not == nil && !a.Seldom && a.Verb != words.LookNow {
			bind(a.Verb, m.says(a.Verb, b.ID), b.ID)
		}
	}
	return keys
}
