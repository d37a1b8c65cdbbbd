// Package sites is the screen of all sites: what each runs on, whether that answers, how much room it has, what runs there, and how
// revisions come to it.
package sites

import (
	"context"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/core/berth"
	"aditus/internal/core/course"
	"aditus/internal/core/say"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/screen"
	"aditus/internal/words"
)

// askEvery is how often sites are asked anew while one looks.
const askEvery = 10 * time.Second

// Model is the list of sites with a cursor.
type Model struct {
	desk   *screen.Desk
	sites  []status.Site
	line   string
	now    time.Time
	asked  time.Time
	list   kit.List
	rowsAt int
	room   int
}

// Open asks all sites.
func Open(d *screen.Desk, s status.Snapshot, at berth.ID) (screen.Screen, tea.Cmd) {
	return nil, d.Open(func(ctx context.Context) (screen.Screen, error) {
		m := &Model{desk: d, line: s.Line, now: s.Now, asked: s.Now}
		all, err := d.Control.Sites(ctx)
		m.sites = all
		for i, site := range all {
			if site.Name == at.Site {
				m.list.At = i
			}
		}
		return m, err
	})
}

// selected is the site under the cursor.
func (m *Model) selected() (status.Site, bool) {
	if m.list.At < 0 || m.list.At >= len(m.sites) {
		return status.Site{}, false
	}
	return m.sites[m.list.At], true
}

// Berth implements screen.Screen: a site is no berth.
func (m *Model) Berth() berth.ID { return berth.ID{} }

// Picture implements screen.Screen: there is none.
func (m *Model) Picture() *screen.Picture { return nil }

// Update implements screen.Screen.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case status.Snapshot:
		if m.now = msg.Now; m.now.Sub(m.asked).Abs() >= askEvery {
			return m.ask()
		}
	case tea.MouseClickMsg:
		from, to := m.list.Window(m.room, len(m.sites))
		if at := from + msg.Y - m.rowsAt; msg.Y >= m.rowsAt && at < to {
			m.list.At = at
		}
	}
	return nil
}

// ask asks all sites anew.
func (m *Model) ask() tea.Cmd {
	m.asked = m.now
	return m.desk.Fetch(m, func(ctx context.Context) func() tea.Cmd {
		all, err := m.desk.Control.Sites(ctx)
		if err != nil {
			return nil
		}
		return func() tea.Cmd {
			m.sites = all
			return nil
		}
	})
}

// Keys implements screen.Screen.
func (m *Model) Keys() []screen.Key {
	return []screen.Key{
		screen.List(&m.list, func() int { return len(m.sites) }),
		screen.Bind("v", "v", "ask them now", "ask all sites now: do they answer, and what do they say?", func(string) tea.Cmd {
			m.desk.Say("The sites are asked.", false)
			return m.ask()
		}),
	}
}

// columns are where what stands of a site begins, and how wide it is; 0 where it has no room.
type columns struct{ name, on, version, room, runs, comes, open int }

// widths gives each column what it needs, and leaves out what has no room: the detail tells it.
func (m *Model) widths(w int) (c columns) {
	c = columns{name: len("SITE"), on: len("runs on"), version: len("version"), room: len("room"), runs: len("runs"), comes: len("takes revisions"), open: len("may begin")}
	for _, s := range m.sites {
		room, _ := words.SiteRoom(s)
		for width, text := range map[*int]string{&c.name: s.Name, &c.on: s.Ground.On, &c.version: s.Ground.Version, &c.room: room, &c.runs: words.SiteRuns(s), &c.comes: words.SiteComes(s), &c.open: words.SiteOpen(s, m.now)} {
			*width = max(*width, kit.Width(text))
		}
	}
	c.name, c.on = min(c.name, max(10, w/5)), min(c.on, max(14, w/4))
	for _, give := range []*int{&c.version, &c.room, &c.open, &c.comes, &c.on, &c.runs} {
		if c.taken() <= w {
			break
		}
		if give == &c.comes || give == &c.on {
			if over := c.taken() - w; *give-over >= 14 { // its beginning says most
				*give -= over
				break
			}
		}
		*give = 0
	}
	return c
}

const (
	gap     = 3
	answers = 14 // columns for how soon it answers
)

func (c columns) taken() int {
	n := c.name + gap + answers
	for _, width := range []int{c.on, c.version, c.room, c.runs, c.comes, c.open} {
		if width > 0 {
			n += width + gap
		}
	}
	return n
}

// View draws the sites. The page's last two rows are left to the bar of keys.
func (m *Model) View(p *kit.Page) {
	p.Head(m.line, "sites", m.now.Local().Format(time.TimeOnly))
	left := kit.Margin + 1
	if len(m.sites) == 0 {
		p.Put(left, 3, kit.Text, "There is no site yet.")
		p.Put(left, 5, kit.Dim, "Sites come with what is connected: C connects a repository, or a registry.")
		return
	}
	c := m.widths(p.W - left - 2 - kit.Margin - 1)
	y := 3
	row := func(y int, s *status.Site) {
		x := left + 2
		cell := func(width int, role kit.Role, title, text string) {
			if width == 0 {
				return
			}
			if s == nil {
				role, text = kit.Dim, title
			}
			p.PutIn(x, y, width, role, text)
			x += width + gap
		}
		one := status.Site{}
		if s != nil {
			one = *s
		}
		cell(c.name, kit.Bright, "SITE", one.Name)
		cell(c.on, kit.Text, "runs on", one.Ground.On)
		said, tone := words.SiteAnswers(one, m.now)
		cell(answers, kit.RoleOf(tone), "answers", said)
		cell(c.version, kit.Dim, "version", one.Ground.Version)
		room, tight := words.SiteRoom(one)
		cell(c.room, roleOf(tight), "room", room)
		cell(c.runs, kit.Text, "runs", words.SiteRuns(one))
		cell(c.comes, kit.Dim, "takes revisions", words.SiteComes(one))
		cell(c.open, kit.Dim, "may begin", words.SiteOpen(one, m.now))
	}
	row(y, nil)
	p.Rule(y + 1)
	y += 2
	details := min(18, max(8, p.H/2-2))
	m.rowsAt, m.room = y, max(1, p.H-2-details-y)
	from, to := m.list.Window(m.room, len(m.sites))
	for i := from; i < to; i++ {
		if i == m.list.At {
			p.Choose(y)
		}
		if !m.sites[i].Answers {
			p.Put(left, y, kit.Bad, "┃")
		}
		row(y, &m.sites[i])
		y++
	}
	p.More(y, from, to, len(m.sites))
	m.detail(p, p.H-2-details, p.H-2)
}

// roleOf draws what is as it should be quietly.
func roleOf(tone words.Tone) kit.Role {
	if tone == words.Quiet {
		return kit.Dim
	}
	return kit.RoleOf(tone)
}

// detail tells the selected site in full sentences.
func (m *Model) detail(p *kit.Page, y, end int) {
	s, ok := m.selected()
	if !ok {
		return
	}
	left := kit.Margin + 1
	const label = 12
	p.Rule(y)
	at := p.Put(left, y+1, kit.Bright, s.Name)
	if s.Team != "" {
		p.Put(at+3, y+1, kit.Dim, "of the team "+s.Team)
	}
	y += 3
	line := func(name, text string, role kit.Role, most int) {
		if y < end && text != "" {
			p.Put(left, y, kit.Dim, name)
			y = p.Wrap(left+label, y, p.W-left-label-2, min(most, end-y), role, text)
		}
	}
	if !s.Answers {
		text := say.Sentence(s.Trouble)
		if !s.Since.IsZero() {
			text += " Since " + s.Since.Local().Format("15:04:05") + "; nothing moves there until it answers."
		}
		line("wrong", text, kit.Bad, 4)
	}
	line("runs on", strings.TrimSpace(s.Ground.On+"  "+s.Ground.Version), kit.Text, 2)
	line("room", strings.Join(words.SiteRoomWhole(s), "; "), kit.Text, 2)
	runs := words.SiteRuns(s)
	if s.Moving > 0 {
		runs += fmt.Sprintf("; %d moving", s.Moving)
	}
	line("runs", runs, kit.Text, 1)
	line("revisions", "come "+words.SiteComes(s), kit.Text, 2)
	line("may begin", words.SiteOpen(s, m.now), kit.Text, 1)
	line("takes", takes(s), kit.Text, 2)
	for i, told := range s.Ground.Told {
		name := ""
		if i == 0 {
			name = "says"
		}
		line(name, say.Capital(told), kit.Dim, 2)
	}
	shown := 0
	for _, e := range s.Times {
		if shown == 3 || e.Sort != course.SortWindow && e.Sort != course.SortFreeze {
			continue
		}
		name := ""
		if shown == 0 {
			name = "next"
		}
		line(name, fmt.Sprintf("%s to %s  %s", e.From.Local().Format("Mon 2 Jan 15:04"), e.Until.Local().Format("Mon 15:04"), e.Text), kit.Dim, 1)
		shown++
	}
}

// takes names the kinds of parts that a site takes.
func takes(s status.Site) string {
	var all []string
	for _, kind := range s.Ground.Takes {
		all = append(all, string(kind))
	}
	return say.List(all)
}
