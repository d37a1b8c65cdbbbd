package board

import (
	"fmt"
	"slices"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/core/berth"
	"aditus/internal/tui/screen"
	"aditus/internal/words"
)

// Marked are the berths that are marked, in the order of the board.
func (m *Model) Marked() (all []berth.ID) {
	if len(m.marks) == 0 {
		return nil
	}
	for i := range m.snapshot.Berths {
		if id := m.snapshot.Berths[i].ID; m.marks[id] {
			all = append(all, id)
		}
	}
	return all
}

// Unmark takes all marks away.
func (m *Model) Unmark() { m.marks, m.possible = nil, nil }

// markKeys mark berths, to act on all of them at once.
func (m *Model) markKeys() (keys []screen.Key) {
	if n := m.selectedNeed(); n >= 0 && len(m.needs[n].Berths) > 1 {
		of := m.needs[n].Berths
		keys = append(keys, screen.Bind("&", "&", fmt.Sprintf("mark all %d that it is about", len(of)), "", screen.Only(func(string) { m.mark(of) })))
	}
	return append(keys,
		screen.Bind("m", "m", "", "mark this berth; what is done then is done at all that are marked", screen.Only(func(string) {
			if _, ok := m.selected(); ok {
				m.mark([]berth.ID{m.Berth()})
			}
		})),
		screen.Bind("= |", "= |", "", "mark the row or the group, the column", screen.Only(func(pressed string) {
			at := m.Berth()
			if r := m.cursor(); r.heading() && r.group != "" && pressed == "=" {
				m.mark(m.inGroup(r.group))
				return
			}
			m.mark(m.shown(func(id berth.ID) bool {
				return pressed == "=" && id.Workload == at.Workload || pressed == "|" && id.Site == at.Site
			}))
		})),
		screen.Bind("*", "*", "", "mark all that are shown", screen.Only(func(string) { m.mark(m.shown(func(berth.ID) bool { return true })) })),
	)
}

// inGroup are the berths of a group, folded or not.
func (m *Model) inGroup(name string) (all []berth.ID) {
	for _, workload := range m.groups[name].workloads {
		for _, site := range m.sites {
			if id := (berth.ID{Workload: workload, Site: site}); m.berths[id] != nil {
				all = append(all, id)
			}
		}
	}
	return all
}

// shown are the berths in the rows and columns of the board that are of a kind.
func (m *Model) shown(of func(berth.ID) bool) (all []berth.ID) {
	for i, r := range m.rows {
		if i > 0 && m.rows[i-1].workload == r.workload { // a list has a row for each of its sites
			continue
		}
		for _, site := range m.sites {
			id := berth.ID{Workload: r.workload, Site: site}
			if _, ok := m.berths[id]; ok && of(id) {
				all = append(all, id)
			}
		}
	}
	return all
}

// mark marks berths; where all of them are marked already, none of them is any more.
func (m *Model) mark(ids []berth.ID) {
	if m.possible = nil; m.marks == nil {
		m.marks = map[berth.ID]bool{}
	}
	all := !slices.ContainsFunc(ids, func(id berth.ID) bool { return !m.marks[id] })
	for _, id := range ids {
		if all {
			delete(m.marks, id)
		} else {
			m.marks[id] = true
		}
	}
}

// countsMost is of how many marked berths it is worked out what can be done at each; of more, what can be at the first of them is offered.
const countsMost = 500

// can is an action that is possible at some of the berths that are marked.
type can struct {
	verb words.Verb
	at   int
}

// actionsOfMarked are what can be done at what is marked, and at how many of them.
func (m *Model) actionsOfMarked(marked []berth.ID) (keys []screen.Key) {
	if m.possible == nil {
		m.possible = []can{}
		for _, id := range marked[:min(len(marked), countsMost)] {
			for _, a := range words.Actions(*m.berths[id]) {
				if a.Not != nil || !a.Many() {
					continue
				}
				at := slices.IndexFunc(m.possible, func(c can) bool { return c.verb == a.Verb })
				if at < 0 {
					at, m.possible = len(m.possible), append(m.possible, can{verb: a.Verb})
				}
				m.possible[at].at++
			}
		}
		slices.SortStableFunc(m.possible, func(x, y can) int { // what is asked for most first, then what most can
			if first := y.verb == words.Sync; first != (x.verb == words.Sync) {
				return map[bool]int{true: 1, false: -1}[first]
			}
			return y.at - x.at
		})
	}
	taken := map[string]bool{}
	for _, c := range m.possible {
		key := words.Keys[c.verb]
		if key == "" || taken[key] { // lock and unlock have one: what is possible at more of them
			continue
		}
		taken[key] = true
		does := string(c.verb)
		if c.at < len(marked) && len(marked) <= countsMost {
			does += fmt.Sprintf(" %d", c.at)
		}
		keys = append(keys, screen.Bind(key, key, does, "", func(string) tea.Cmd { return m.desk.StartMany(c.verb, marked) }))
	}
	return keys
}
