// Package sites is the screen of all sites: what each runs on, whether that answers, how much room it has, what runs there, and how
// revisions come to it.
package sites

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/core/berth"
	"aditus/internal/core/course"
	"aditus/internal/core/say"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/screen"
	"aditus/internal/tui/settings"
	"aditus/internal/tui/strays"
	"aditus/internal/words"
)

// askEvery is how often sites are asked anew while one looks.
const askEvery = 10 * time.Second

// eagerFor is for how long they are asked more often after a question to change something.
const eagerFor = 20 * time.Second

// Model is the list of sites with a cursor.
type Model struct {
	desk   *screen.Desk
	sites  []status.Site
	berths []status.Berth
	links  []status.Link
	line   string
	now    time.Time
	asked  time.Time
	eager  time.Time // until when they are asked with every snapshot: something was changed
	list   kit.List
	rowsAt int
	room   int
}

// Open asks all sites.
func Open(d *screen.Desk, s status.Snapshot, at berth.ID) (screen.Screen, tea.Cmd) {
	return nil, d.Open(func(ctx context.Context) (screen.Screen, error) {
		m := &Model{desk: d, line: s.Line, berths: s.Berths, links: s.Links, now: s.Now, asked: s.Now}
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
func (m *Model) selected() (status.Site, bool) { return kit.Selected(&m.list, m.sites) }

// Berth implements screen.Screen: a site is no berth.
func (m *Model) Berth() berth.ID { return berth.ID{} }

// Picture implements screen.Screen: there is none.
func (m *Model) Picture() *screen.Picture { return nil }

// Update implements screen.Screen.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case status.Snapshot:
		m.berths, m.links = msg.Berths, msg.Links
		if m.now = msg.Now; m.now.Sub(m.asked).Abs() >= askEvery || m.now.Before(m.eager) {
			return m.ask()
		}
	case tea.MouseClickMsg:
		m.list.Click(msg.Y-m.rowsAt, m.room, len(m.sites))
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
	takes := ""
	if s, ok := m.selected(); ok && s.Lists {
		takes = "take over"
	}
	return []screen.Key{
		screen.List(&m.list, func() int { return len(m.sites) }),
		screen.Bind("enter", "enter", "its berths", "its berths, on the board", screen.Only(func(string) {
			if s, ok := m.selected(); ok {
				m.desk.Find("site:" + s.Name)
			}
		})),
		screen.Bind("a", "a", m.offers(func(s status.Site) string { return toggled(s.Automatic, "take by hand", "take by itself") }), "have it take revisions by itself, or by hand, in the settings", m.change(takesItself)),
		screen.Bind("d", "d", m.offers(func(s status.Site) string { return toggled(s.Corrects, "tell drift", "put drift back") }), "have what is changed by hand put back by itself, or only told, in the settings", m.change(putsBack)),
		screen.Bind("t", "t", takes, "what is there and nobody put there through Aditus, to take it over", func(string) tea.Cmd {
			if s, ok := m.selected(); ok {
				return strays.Open(m.desk, s.Name)
			}
			return nil
		}),
		screen.Bind("f", "f", m.followOffer(), "have it follow another branch for a while, in the settings", m.follow),
		screen.Bind("I", "I", "", "its entry in the settings: written anew, taken out", func(string) tea.Cmd {
			if s, ok := m.selected(); ok {
				return settings.At(m.desk, m.line, m.now, "sites", s.Name)
			}
			return nil
		}),
		screen.Bind("X", "X", "", "tear down all of it, berth by berth: what goes and what stays is told first", m.tearDown),
		screen.Bind("v", "v", "ask them now", "ask all sites now: do they answer, and what do they say?", func(string) tea.Cmd {
			m.desk.Say("The sites are asked.", false)
			return m.ask()
		}),
	}
}

// tearDown tells what goes and what stays of all that is at the site, and has its name typed before it goes.
func (m *Model) tearDown(string) tea.Cmd {
	site, ok := m.selected()
	if !ok {
		return nil
	}
	var lines []string
	var berths []berth.ID
	for _, b := range m.berths {
		if b.Site != site.Name || b.Applied == nil && len(b.Cohorts) == 0 {
			continue
		}
		l := words.LeavingOf(status.Snapshot{Berths: m.berths}, b, false)
		lines = append(lines, b.Workload)
		for _, line := range l.Lines() {
			lines = append(lines, "  "+line)
		}
		if l.Not == "" {
			berths = append(berths, b.ID)
		}
	}
	if len(berths) == 0 {
		m.desk.Say("There is nothing at "+site.Name+" that can be torn down now.", true)
		return nil
	}
	m.desk.Ask(screen.Question{
		Text: fmt.Sprintf("Tear down %s at %s? The site itself stays in the settings.", say.Count(len(berths), "berth"), site.Name), Lines: lines,
		Then: func() tea.Cmd { return m.desk.TearDown(site.Name, berths) },
	})
	return nil
}

// column is one of the list: its title, what stands of a site there, and how wide it is; 0 where it has no room.
type column struct {
	title string
	text  func(s status.Site) (string, kit.Role)
	right bool // numbers, each under the end of its title
	least int  // how narrow its beginning still tells something; 0 where it stands whole or not at all
	whole int  // how wide it would be
	width int
}

// gap is between two columns.
const gap = 2

// columns are those that have room, in width cells. What has none the detail tells.
func (m *Model) columns(width int) []column {
	plain := func(role kit.Role, text func(status.Site) string) func(status.Site) (string, kit.Role) {
		return func(s status.Site) (string, kit.Role) { return text(s), role }
	}
	all := []column{
		{title: "SITE", least: 10, text: plain(kit.Bright, func(s status.Site) string { return s.Name })},
		{title: "runs on", least: 14, text: plain(kit.Text, func(s status.Site) string { return s.Ground.On })},
		{title: "answers", text: func(s status.Site) (string, kit.Role) {
			said, tone := words.SiteAnswers(s, m.now)
			return said, kit.RoleOf(tone)
		}},
		{title: "version", text: plain(kit.Dim, func(s status.Site) string { return s.Ground.Version })},
		{title: "room", text: func(s status.Site) (string, kit.Role) {
			room, tone := words.SiteRoom(s)
			if tone == words.Quiet {
				return room, kit.Dim
			}
			return room, kit.RoleOf(tone)
		}},
		{title: "berths", right: true, text: plain(kit.Text, words.SiteBerths)},
		{title: "instances", right: true, text: plain(kit.Text, words.SiteInstances)},
		{title: "takes revisions", text: plain(kit.Dim, words.SiteComesBriefly)},
		{title: "may begin", text: plain(kit.Dim, func(s status.Site) string { return words.SiteOpen(s, m.now) })},
	}
	taken := -gap
	for i := range all {
		c := &all[i]
		c.width = kit.Width(c.title)
		for _, s := range m.sites {
			text, _ := c.text(s)
			c.width = max(c.width, kit.Width(kit.Plain(text)))
		}
		c.whole = c.width
		taken += c.width + gap
	}
	shrink := func(c *column, least int) { // or it takes what is free again
		cut := max(min(taken-width, max(0, c.width-least)), c.width-c.whole)
		c.width, taken = c.width-cut, taken-cut
	}
	shrink(&all[0], 2*all[0].least)
	shrink(&all[1], 2*all[1].least)
	for _, title := range []string{"version", "may begin", "takes revisions", "instances", "room"} { // what goes first
		if taken > width {
			at := slices.IndexFunc(all, func(c column) bool { return c.title == title })
			taken -= all[at].width + gap
			all = slices.Delete(all, at, at+1)
		}
	}
	shrink(&all[1], all[1].least)
	shrink(&all[0], all[0].least)
	return all
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
	all := m.columns(p.W - left - 2 - kit.Margin - 1)
	y := 3
	row := func(y int, s *status.Site) {
		x := left + 2
		for _, c := range all {
			text, role := c.title, kit.Dim
			if s != nil {
				text, role = c.text(*s)
			}
			if c.right {
				p.Right(x+c.width, y, role, text)
			} else {
				p.PutIn(x, y, c.width, role, text)
			}
			x += c.width + gap
		}
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
		if m.sites[i].Trouble != "" {
			p.Put(left, y, kit.Bad, "┃")
		}
		row(y, &m.sites[i])
		y++
	}
	p.More(y, from, to, len(m.sites))
	m.detail(p, min(p.H-2-details, y+2), p.H-2)
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
	line := p.Detail(left, y+3, label, end).Line
	if s.Trouble != "" {
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
	line("has", m.has(s.Name), kit.Text, 4)
	comes := "taken " + words.SiteComes(s)
	if s.Rules != "" {
		comes += ", as line.yaml of " + s.Rules + " says"
	}
	line("revisions", comes, kit.Text, 2)
	line("may begin", words.SiteOpen(s, m.now), kit.Text, 1)
	line("drift", words.SiteDrift(s), kit.Text, 1)
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

// has names what is at a site, with versions.
func (m *Model) has(site string) string {
	var all []string
	for _, b := range m.berths {
		if b.Site == site && b.Applied != nil {
			all = append(all, b.Workload+" "+b.Applied.Version)
		}
	}
	return say.List(all)
}

// takes names the kinds of parts that a site takes.
func takes(s status.Site) string {
	var all []string
	for _, kind := range s.Ground.Takes {
		all = append(all, string(kind))
	}
	return say.List(all)
}
