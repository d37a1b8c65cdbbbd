// Package board is the home screen: what needs a person, how every berth stands, and the selected one in full
// sentences.
package board

import (
	"maps"
	"reflect"
	"slices"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/core/berth"
	"aditus/internal/core/say"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/screen"
	"aditus/internal/view"
	"aditus/internal/words"
)

// Model is the board's cursor and filter. The screen is made from it and a snapshot.
type Model struct {
	desk      *screen.Desk
	snapshot  status.Snapshot
	needs     []words.Need
	counts    words.Counts
	sites     []string // that are shown, in course order
	workloads []string // those that the filter lets through, by name
	berths    map[berth.ID]*status.Berth
	needAt    map[berth.ID]int // place of each berth's first need

	grouped grouping
	ordered ordering
	folded  map[string]bool // groups of which only the heading is shown
	list    bool            // the terminal is too narrow for a matrix
	rows    []row
	groups  map[string]*group

	marks    map[berth.ID]bool // what is done next is done at all of these
	possible []can             // what can be done at them; nil where it is to be found out

	row, column int // of the cursor
	top, left   int // first workload and site shown
	pageRows    int
	filter      string
	layout      layout
	was         arrangement
	unfolded    string // what the need is about that is told in full below, where it concerns no berth
}

// arrangement is how the board was left, for the next start.
type arrangement struct {
	Filter string   `json:"filter,omitempty"`
	Group  string   `json:"group,omitempty"`
	Order  string   `json:"order,omitempty"`
	Folded []string `json:"folded,omitempty"` // groups
}

// keptAs is the name by which that is found again.
const keptAs = "board"

// New makes a board, which is as it was left.
func New(d *screen.Desk) *Model {
	m := &Model{desk: d, folded: map[string]bool{}}
	d.Recall(keptAs, &m.was)
	m.filter = m.was.Filter
	m.grouped = grouping(max(0, slices.Index(groupingNames[:], m.was.Group)))
	m.ordered = ordering(max(0, slices.Index(orderingNames[:], m.was.Order)))
	for _, name := range m.was.Folded {
		m.folded[name] = true
	}
	return m
}

// leave leaves the board as it is for the next start, where that is otherwise than before.
func (m *Model) leave() {
	now := arrangement{Filter: m.filter}
	if m.grouped != ungrouped {
		now.Group = groupingNames[m.grouped]
	}
	if m.ordered != byName {
		now.Order = orderingNames[m.ordered]
	}
	for _, name := range slices.Sorted(maps.Keys(m.folded)) {
		if m.folded[name] {
			now.Folded = append(now.Folded, name)
		}
	}
	if !reflect.DeepEqual(now, m.was) {
		m.was = now
		m.desk.Remember(keptAs, now)
	}
}

// Update implements screen.Screen.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case status.Snapshot:
		m.set(msg)
	case tea.MouseClickMsg:
		before := m.Berth()
		if m.click(msg.X, msg.Y) && before == m.Berth() {
			return m.desk.Start(words.WatchIt, before)
		}
	}
	return nil
}

// Counts are how many berths stand how.
func (m *Model) Counts() words.Counts { return m.counts }

// Picture implements screen.Screen: there is none.
func (m *Model) Picture() *screen.Picture { return nil }

// set shows a new snapshot. The cursor stays on its berth, or goes where it matters before anybody moved it.
func (m *Model) set(s status.Snapshot) {
	all := words.Needs(s)
	m.snapshot, m.needs = s, words.Related(all)
	m.counts = words.CountOf(s, all)
	m.berths = make(map[berth.ID]*status.Berth, len(s.Berths))
	for i := range s.Berths {
		m.berths[s.Berths[i].ID] = &s.Berths[i]
	}
	m.possible = nil
	m.refilter()
	m.leave()
	if !m.desk.Touched {
		m.selectWhatMatters()
	}
}

// Find shows only workloads of which a berth is found, at the sites that are asked for.
func (m *Model) Find(filter string) {
	m.filter = filter
	m.refilter()
}

func (m *Model) clamp() {
	m.row = max(0, min(m.row, len(m.rows)-1))
	m.column = max(0, min(m.column, len(m.sites)-1))
}

// Berth implements screen.Screen: the one under the cursor.
func (m *Model) Berth() berth.ID {
	at := m.cursor()
	switch {
	case at.heading() || m.column >= len(m.sites):
		return berth.ID{}
	case at.site != "":
		return berth.ID{Workload: at.workload, Site: at.site}
	}
	return berth.ID{Workload: at.workload, Site: m.sites[m.column]}
}

// Select puts the cursor on a berth, if it is shown.
func (m *Model) Select(id berth.ID) {
	is := func(r row) bool { return r.workload == id.Workload && (r.site == "" || r.site == id.Site) }
	if at := slices.IndexFunc(m.rows, is); at >= 0 && id.Workload != "" {
		m.row = at
	}
	if column := slices.Index(m.sites, id.Site); column >= 0 {
		m.column = column
	}
	m.clamp()
}

// selectWhatMatters puts the cursor on what needs a person or moves, if it is on something steady.
func (m *Model) selectWhatMatters() {
	if b, ok := m.selected(); ok && (b.Rollout != nil || m.need(b.ID) >= 0) {
		return
	}
	for _, n := range m.needs {
		if n.Berth.Workload != "" {
			m.Select(n.Berth)
			return
		}
	}
	for _, b := range m.snapshot.Berths {
		if b.Rollout != nil {
			m.Select(b.ID)
			return
		}
	}
}

// selected is the selected berth; ok is false where the workload is not at that site.
func (m *Model) selected() (b status.Berth, ok bool) {
	found, ok := m.berths[m.Berth()]
	if !ok {
		return b, false
	}
	return *found, true
}

// Keys implements screen.Screen. What can be done at the selected berth comes first.
func (m *Model) Keys() []screen.Key {
	var keys []screen.Key
	back := func(does string, do func()) {
		keys = append(keys, screen.Bind("esc backspace", "esc", does, "", screen.Only(func(string) { do() })))
	}
	if marked := m.Marked(); len(marked) > 0 {
		back("unmark "+say.Count(len(marked), "berth"), m.Unmark)
		keys = append(keys, m.actionsOfMarked(marked)...)
	} else {
		if m.filter != "" {
			back("show all, not only “"+m.filter+"”", func() { m.Find("") })
		}
		keys = append(keys, m.actions()...)
	}
	keys = append(keys, m.markKeys()...)
	return append(keys,
		screen.Bind("up k down j left h right l pgup ctrl+b pgdown ctrl+f home end G", "arrows, hjkl", "", "move", screen.Only(m.moveKey)),
		screen.Bind("enter", "enter", "", "go in: the watch of the newest rollout; on a heading: fold it", func(string) tea.Cmd {
			if at := m.cursor(); at.heading() && at.group != "" {
				m.fold("-")
				return nil
			}
			return m.desk.Start(words.WatchIt, m.Berth())
		}),
		screen.Bind("tab shift+tab 1 2 3 4 5 6 7 8 9", "tab, 1 to 9", "", "go to what needs you", screen.Only(m.needKey)),
		screen.Bind("/", "/", "", "find by words, site:, team:, workload:, only:needs,moving", m.find),
		screen.Bind("z", "z", "", "group rows by state, by link and folder, by team, or not", screen.Only(m.regroup)),
		screen.Bind(">", ">", "", "order rows by name, what needs a person first, what changed last first", screen.Only(m.reorder)),
		screen.Bind("- _", "- _", "", "fold or unfold the group, all groups", screen.Only(m.fold)),
		screen.Bind(".", ".", "", "only what needs a person, moves or fails; again: all", screen.Only(m.toggleBusy)),
	)
}

// onlyBusy finds what somebody looks at first.
const onlyBusy = "only:needs,moving,failing"

// toggleBusy shows only that, or all again.
func (m *Model) toggleBusy(string) {
	if m.filter == onlyBusy {
		m.Find("")
	} else {
		m.Find(onlyBusy)
	}
}

// find has words and fields typed that berths are found by.
func (m *Model) find(string) tea.Cmd {
	return m.desk.Type(screen.Prompt{
		Label: "/", Text: m.filter, Hints: []kit.Hint{{Key: "enter", Does: "keep"}, {Key: "esc", Does: "show all"}},
		Typed: m.Find, Moved: m.moveKey, Left: func() { m.Find("") },
		Complete: func(text string) string { return view.Complete(text, view.FindFields, m.values) },
	})
}

// values are those that a field can have that berths are found by.
func (m *Model) values(field string) (all []string) {
	switch field {
	case "site":
		all = m.snapshot.Sites
	case "only":
		all = view.Only
	case "team":
		all = slices.Collect(maps.Values(m.snapshot.Teams))
	case "workload":
		for id := range m.berths {
			all = append(all, id.Workload)
		}
	}
	return slices.Compact(slices.Sorted(slices.Values(all)))
}

func (m *Model) moveKey(pressed string) {
	m.unfolded = ""
	switch pressed {
	case "up", "k":
		m.row--
	case "down", "j":
		m.row++
	case "left", "h":
		m.aside(-1)
	case "right", "l":
		m.aside(1)
	case "pgup", "ctrl+b":
		m.row -= max(1, m.pageRows)
	case "pgdown", "ctrl+f":
		m.row += max(1, m.pageRows)
	case "home":
		m.row = 0
	case "end", "G":
		m.row = len(m.rows) - 1
	}
	m.clamp()
}

// aside goes to the next site; in a list, to the next workload.
func (m *Model) aside(step int) {
	if !m.list {
		m.column += step
		return
	}
	at := m.cursor()
	for m.row = m.row + step; m.row > 0 && m.row < len(m.rows)-1 && m.rows[m.row].workload == at.workload; m.row += step {
	}
}

func (m *Model) needKey(pressed string) {
	switch pressed {
	case "tab":
		m.nextNeed(1)
	case "shift+tab":
		m.nextNeed(-1)
	default:
		m.unfolded = ""
		m.goToNeed(int(pressed[0] - '1'))
	}
	m.clamp()
}

// selectedNeed is the number, from 0, of the need that the cursor is on, or below nought.
func (m *Model) selectedNeed() int {
	if m.unfolded != "" {
		return slices.IndexFunc(m.needs, func(n words.Need) bool { return n.About == m.unfolded })
	}
	return m.need(m.Berth())
}

// need is the number, from 0, of the need that a berth stands in the list with, or below nought.
func (m *Model) need(id berth.ID) int {
	if n, ok := m.needAt[id]; ok {
		return n
	}
	return -1
}

func (m *Model) nextNeed(step int) {
	if len(m.needs) == 0 {
		return
	}
	at := m.selectedNeed()
	if at < 0 && step < 0 {
		at = 0
	}
	m.goToNeed((at + step + len(m.needs)) % len(m.needs))
}

func (m *Model) goToNeed(n int) {
	if n >= len(m.needs) {
		return
	}
	id := m.needs[n].Berth
	if id.Workload == "" {
		m.unfolded = m.needs[n].About
		return
	}
	if !slices.Contains(m.workloads, id.Workload) || !slices.Contains(m.sites, id.Site) {
		m.filter = ""
		m.refilter()
	}
	if !slices.ContainsFunc(m.rows, func(r row) bool { return r.workload == id.Workload }) { // its group is folded
		m.folded = map[string]bool{}
		m.arrange()
	}
	m.unfolded = ""
	m.Select(id)
}

// click puts the cursor where the mouse was pressed, and tells whether that was on a berth.
func (m *Model) click(x, y int) bool {
	if n := y - m.layout.needsAt; n >= 0 && n < len(m.layout.needAt) {
		m.goToNeed(m.layout.needAt[n])
		return true
	}
	row := y - m.layout.rowsAt + m.top
	if y < m.layout.rowsAt || y >= m.layout.rowsAt+m.pageRows || row >= len(m.rows) {
		return false
	}
	m.row, m.unfolded = row, ""
	if x >= m.layout.firstColumn && m.layout.columnWidth > 0 {
		m.column = m.left + (x-m.layout.firstColumn)/m.layout.columnWidth
	}
	m.clamp()
	return true
}
