package board

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/health"
	"aditus/internal/core/say"
	"aditus/internal/status"
	"aditus/internal/view"
)

// row is one of the board: a workload over the sites, a berth of a list, or the heading of a group.
type row struct {
	group    string // it is in, or is the heading of
	workload string // empty for a heading
	site     string // of a list
}

// heading tells whether it stands above a group.
func (r row) heading() bool { return r.workload == "" }

// grouping is what rows are put together by.
type grouping int

const (
	ungrouped grouping = iota
	byState
	byLink
	byTeam
	groupings // how many there are
)

var groupingNames = [...]string{"without groups", "grouped by state", "grouped by link and folder", "grouped by team"}

// ordering is which rows come first.
type ordering int

const (
	byName ordering = iota
	byNeed
	byChange
	orderings
)

var orderingNames, orderingTitles = [...]string{"by name", "what needs a person first", "what changed last first"}, [...]string{"WORKLOAD", "BY NEED", "BY CHANGE"}

// states are those of a workload over its sites, the most urgent first.
var states = []string{"needs you", "moving", "failing", "drifted", "behind", "steady", "absent"}

// group is what rows have in common.
type group struct {
	name      string
	workloads []string
	at        map[string]*tally // by site
}

// tally is how many berths there are at a site, and how many of them are not steady.
type tally struct{ all, need, moving int }

// lead is what a workload's row stands where it stands by.
type lead struct {
	workload string
	state    int // in states
	need     int // place of its first need; as many as there are for none
	changed  time.Time
	group    string
}

// refilter finds the workloads and sites that are shown.
func (m *Model) refilter() {
	at, site := m.cursor(), m.Berth().Site
	find := view.ReadFind(m.filter)
	m.sites = m.sites[:0]
	for _, site := range m.snapshot.Sites {
		if find.Site(site, m.snapshot.Teams[site]) {
			m.sites = append(m.sites, site)
		}
	}
	m.needAt = map[berth.ID]int{}
	for i := len(m.needs) - 1; i >= 0; i-- {
		for _, id := range m.needs[i].Berths {
			m.needAt[id] = i
		}
	}
	m.workloads = m.workloads[:0]
	for i := range m.snapshot.Berths {
		b := &m.snapshot.Berths[i]
		_, needs := m.needAt[b.ID]
		if n := len(m.workloads); (n == 0 || m.workloads[n-1] != b.Workload) && slices.Contains(m.sites, b.Site) && find.Berth(b, needs) {
			m.workloads = append(m.workloads, b.Workload)
		}
	}
	m.arrange()
	m.put(at)
	if column := slices.Index(m.sites, site); column >= 0 {
		m.column = column
	}
}

// arrange makes the rows of the workloads: in their groups, in their order.
func (m *Model) arrange() {
	leads := make([]lead, len(m.workloads))
	for i, workload := range m.workloads {
		leads[i] = lead{workload: workload}
	}
	if m.grouped != ungrouped || m.ordered != byName {
		m.lead(leads)
		slices.SortStableFunc(leads, func(a, b lead) int {
			by := 0
			if m.grouped == byState {
				by = cmp.Compare(a.state, b.state)
			} else {
				by = cmp.Compare(a.group, b.group)
			}
			switch m.ordered {
			case byNeed:
				return cmp.Or(by, cmp.Compare(a.need, b.need), cmp.Compare(a.state, b.state))
			case byChange:
				return cmp.Or(by, b.changed.Compare(a.changed))
			}
			return by
		})
	}
	m.rows, m.groups = m.rows[:0], map[string]*group{}
	for _, l := range leads {
		if m.grouped != ungrouped {
			g := m.groups[l.group]
			if g == nil {
				g = &group{name: l.group, at: map[string]*tally{}}
				m.groups[l.group] = g
				m.rows = append(m.rows, row{group: l.group})
			}
			g.workloads = append(g.workloads, l.workload)
			m.count(g, l.workload)
			if m.folded[l.group] {
				continue
			}
		}
		if !m.list {
			m.rows = append(m.rows, row{group: l.group, workload: l.workload})
			continue
		}
		for _, site := range m.sites {
			if m.berths[berth.ID{Workload: l.workload, Site: site}] != nil {
				m.rows = append(m.rows, row{group: l.group, workload: l.workload, site: site})
			}
		}
	}
	m.clamp()
}

// count adds a workload's berths to those of its group.
func (m *Model) count(g *group, workload string) {
	for _, site := range m.sites {
		b := m.berths[berth.ID{Workload: workload, Site: site}]
		if b == nil {
			continue
		}
		t := g.at[site]
		if t == nil {
			t = &tally{}
			g.at[site] = t
		}
		t.all++
		if _, needs := m.needAt[b.ID]; needs {
			t.need++
		} else if b.Moving() {
			t.moving++
		}
	}
}

// lead finds what each workload stands where it stands by.
func (m *Model) lead(leads []lead) {
	for i := range leads {
		l := &leads[i]
		l.state, l.need = len(states)-1, len(m.needs)
		var teams []string
		for _, site := range m.sites {
			b := m.berths[berth.ID{Workload: l.workload, Site: site}]
			if b == nil {
				continue
			}
			n, needs := m.needAt[b.ID]
			if needs {
				l.need = min(l.need, n)
			}
			l.state = min(l.state, slices.Index(states, stateOf(b, needs)))
			for _, at := range []time.Time{b.AppliedAt, b.ProvenAt, b.DriftSince} {
				if at.After(l.changed) {
					l.changed = at
				}
			}
			if r := b.Rollout; r != nil && r.Since.After(l.changed) {
				l.changed = r.Since
			}
			if m.grouped == byLink && b.Link != "" {
				l.group = m.folderOf(b.Link)
			}
			if team := m.snapshot.Teams[site]; team != "" && !slices.Contains(teams, team) {
				teams = append(teams, team)
			}
		}
		switch m.grouped {
		case byState:
			l.group = states[l.state]
		case byLink:
			l.group = cmp.Or(l.group, "declared nowhere")
		case byTeam:
			slices.Sort(teams)
			l.group = cmp.Or(strings.Join(teams, ", "), "no team")
		}
	}
}

// folderOf is a link by its name and the folder that it reads.
func (m *Model) folderOf(link string) string {
	for _, l := range m.snapshot.Links {
		if l.Name == link && l.Folder != "" && l.Folder != "." {
			return link + " " + l.Folder
		}
	}
	return link
}

// stateOf is one of states.
func stateOf(b *status.Berth, needs bool) string {
	switch {
	case needs:
		return "needs you"
	case b.Moving():
		return "moving"
	case b.Health.Word == health.Failing:
		return "failing"
	case b.SyncStatus == compare.Drifted || b.SyncStatus == compare.Diverged:
		return "drifted"
	case b.SyncStatus == compare.Behind:
		return "behind"
	case b.SyncStatus == compare.Absent && b.Applied == nil:
		return "absent"
	}
	return "steady"
}

// cursor is the row that the cursor is on.
func (m *Model) cursor() row {
	if m.row >= len(m.rows) {
		return row{}
	}
	return m.rows[m.row]
}

// put puts the cursor on a row that was there before.
func (m *Model) put(at row) {
	same := func(r row) bool {
		return r.workload == at.workload && r.site == at.site && (!r.heading() || r.group == at.group)
	}
	if i := slices.IndexFunc(m.rows, same); i >= 0 && at != (row{}) {
		m.row = i
	} else if i := slices.IndexFunc(m.rows, func(r row) bool { return r.workload == at.workload }); i >= 0 && !at.heading() {
		m.row = i
	} else if i := slices.Index(m.rows, row{group: at.group}); i >= 0 && at.group != "" {
		m.row = i
	}
	m.clamp()
}

// regroup puts rows together by the next thing.
func (m *Model) regroup(string) {
	at := m.cursor()
	m.grouped = (m.grouped + 1) % groupings
	if m.grouped == byTeam && len(m.snapshot.Teams) == 0 {
		m.grouped = ungrouped
	}
	m.folded = map[string]bool{}
	m.arrange()
	m.put(at)
	m.desk.Say("Rows are "+groupingNames[m.grouped]+".", false)
}

// reorder has other rows first.
func (m *Model) reorder(string) {
	at := m.cursor()
	m.ordered = (m.ordered + 1) % orderings
	m.arrange()
	m.put(at)
	m.desk.Say("Rows are in order: "+orderingNames[m.ordered]+".", false)
}

// fold folds the group of the row, or unfolds it; with _ all of them.
func (m *Model) fold(pressed string) {
	if m.grouped == ungrouped {
		m.desk.Say("There are no groups to fold: z puts rows together.", false)
		return
	}
	at := m.cursor()
	folds := !m.folded[at.group]
	for name := range m.groups {
		if pressed == "_" || name == at.group {
			m.folded[name] = folds
		}
	}
	m.arrange()
	m.put(row{group: at.group})
}

// says tells what a group has.
func (g *group) says() string { return say.Count(len(g.workloads), "workload") }
