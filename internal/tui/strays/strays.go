// Package strays is the screen of what is at a site and nobody put there through Aditus, to choose what is to be taken over.
package strays

import (
	"context"
	"fmt"
	"slices"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/core/berth"
	"aditus/internal/core/say"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/screen"
)

// Model is the list of what was found, with a cursor and what is marked.
type Model struct {
	desk   *screen.Desk
	site   string
	strays []status.Stray
	marked map[string]bool
	list   kit.List
	rowsAt int
	room   int
}

// Open asks a site.
func Open(d *screen.Desk, site string) tea.Cmd {
	d.Say(site+" is looked through.", false)
	return d.Open(func(ctx context.Context) (screen.Screen, error) {
		all, err := d.Control.Strays(ctx, site)
		return &Model{desk: d, site: site, strays: all, marked: map[string]bool{}}, err
	})
}

// Berth implements screen.Screen: nothing of this is one.
func (m *Model) Berth() berth.ID { return berth.ID{} }

// Picture implements screen.Screen: there is none.
func (m *Model) Picture() *screen.Picture { return nil }

// Update implements screen.Screen.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	if msg, is := msg.(tea.MouseClickMsg); is {
		m.list.Click(msg.Y-m.rowsAt, m.room, len(m.strays))
	}
	return nil
}

func (m *Model) selected() (status.Stray, bool) { return kit.Selected(&m.list, m.strays) }

// Keys implements screen.Screen.
func (m *Model) Keys() []screen.Key {
	takes := ""
	if len(m.marked) > 0 {
		takes = fmt.Sprintf("take over %d", len(m.marked))
	}
	return []screen.Key{
		screen.Bind("t enter", "t", takes, "offer to declare what is marked, so that it is taken over as it is", m.take),
		screen.Bind("m space", "m", "mark", "mark what is to be taken over", screen.Only(func(string) {
			if s, ok := m.selected(); ok {
				m.mark([]status.Stray{s})
			}
		})),
		screen.Bind("=", "=", "all that belongs with it", "mark all that seems to belong with it", screen.Only(func(string) {
			if s, ok := m.selected(); ok {
				m.mark(slices.DeleteFunc(slices.Clone(m.strays), func(o status.Stray) bool { return o.With != s.With }))
			}
		})),
		screen.List(&m.list, func() int { return len(m.strays) }),
	}
}

// mark marks what can be taken over of some; where all of it is marked already, none is any more.
func (m *Model) mark(some []status.Stray) {
	some = slices.DeleteFunc(slices.Clone(some), func(s status.Stray) bool { return s.Not != "" })
	if len(some) == 0 {
		if s, ok := m.selected(); ok {
			m.desk.Say("That cannot be taken over: "+s.Not+".", true)
		}
		return
	}
	all := !slices.ContainsFunc(some, func(s status.Stray) bool { return !m.marked[s.ID] })
	for _, s := range some {
		if delete(m.marked, s.ID); !all {
			m.marked[s.ID] = true
		}
	}
}

// take has a name typed, and offers.
func (m *Model) take(string) tea.Cmd {
	what := status.TakeOver{Site: m.site}
	name := ""
	for _, s := range m.strays {
		if m.marked[s.ID] {
			what.Strays = append(what.Strays, s.ID)
			if name == "" {
				name = s.With
			}
		}
	}
	if len(what.Strays) == 0 {
		m.desk.Say("Mark first what is to be taken over: m marks one, = all that belongs with it.", true)
		return nil
	}
	return m.desk.Type(screen.Prompt{
		Label: fmt.Sprintf("Take over %s as the workload:", say.Few(what.Strays, 2)), Text: name,
		Hints: []kit.Hint{{Key: "enter", Does: "see what is done"}, {Key: "esc", Does: "leave it"}},
		Done: func(typed string) tea.Cmd {
			what.Workload = typed
			m.desk.Ask(screen.Question{
				Text:  fmt.Sprintf("Offer to declare this as %s at %s? It is a commit on a branch of its own; once that is merged, and synced, each is taken over as it is, and nothing starts anew.", typed, m.site),
				Lines: what.Strays,
				Do: func(ctx context.Context) (string, error) {
					p, err := m.desk.Control.TakeOver(ctx, m.desk.Who, what)
					return p.Told(), err
				},
			})
			return nil
		},
	})
}

// View implements screen.Screen.
func (m *Model) View(p *kit.Page) {
	left, end := kit.Margin+1, p.W-kit.Margin-1
	p.Put(left, 0, kit.Bright, m.site)
	p.Put(left+kit.Width(m.site)+3, 0, kit.Dim, "what nobody put there through Aditus")
	p.Rule(1)
	const details = 7
	y := 3
	if len(m.strays) == 0 {
		p.Wrap(left, y, end-left, 3, kit.Text, "Nothing was found: all that is there is of Aditus, or of the site itself.")
		return
	}
	id, with := 12, 8
	for _, s := range m.strays {
		id, with = max(id, kit.Width(s.ID)), max(with, kit.Width(s.With))
	}
	id, with = min(id, p.W*2/5), min(with, p.W/5)
	p.Put(left+2, y, kit.Dim, "WHAT")
	p.Put(left+2+id+2, y, kit.Dim, "belongs with")
	p.Put(left+2+id+2+max(with, 12)+2, y, kit.Dim, "what it is")
	y += 2
	with = max(with, 12)
	m.rowsAt, m.room = y, p.H-2-details-y
	from, to := m.list.Window(m.room, len(m.strays))
	for i := from; i < to; i++ {
		s := m.strays[i]
		if i == m.list.At {
			p.Choose(y)
		}
		role, says := kit.Bright, s.Says
		if s.Not != "" {
			role, says = kit.Dim, s.Not
		}
		if m.marked[s.ID] {
			p.Put(left, y, kit.New, "▪")
		}
		p.PutIn(left+2, y, id, role, kit.Middle(s.ID, id))
		p.PutIn(left+2+id+2, y, with, kit.Text, kit.Middle(s.With, with))
		at := left + 2 + id + 2 + with + 2
		p.PutIn(at, y, end-at, kit.Dim, says)
		y++
	}
	if to-from < len(m.strays) {
		p.Right(end, 3, kit.Dim, fmt.Sprintf("%d–%d of %d", from+1, to, len(m.strays)))
	}
	m.detail(p, p.H-2-details, p.H-2)
}

// detail tells the selected one in full.
func (m *Model) detail(p *kit.Page, y, end int) {
	s, ok := m.selected()
	if !ok {
		return
	}
	left := kit.Margin + 1
	p.Rule(y)
	p.Put(left, y+1, kit.Bright, s.ID)
	line := p.Detail(left, y+3, 12, end).Line
	line("is", say.Sentence(s.Says), kit.Text, 2)
	for _, note := range s.Notes {
		line("note", say.Sentence(note), kit.Text, 2)
	}
	if s.Not != "" {
		line("stays", say.Sentence(s.Not), kit.New, 2)
	}
}
