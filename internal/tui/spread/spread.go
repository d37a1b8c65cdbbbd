// Package spread is the screen of one workload over all its sites, also hundreds: which versions run at how many, since when, and why
// they run nothing newer.
package spread

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/core/berth"
	"aditus/internal/core/health"
	"aditus/internal/core/say"
	"aditus/internal/draw"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/screen"
	"aditus/internal/view"
	"aditus/internal/words"
)

// Model is a workload's versions with a cursor, and the sites of the chosen one with another.
type Model struct {
	desk     *screen.Desk
	spread   view.Spread
	versions kit.List
	sites    kit.List
	chosen   string // the version under the cursor, whatever comes and goes around it
	site     string // and the site
	inside   bool   // the cursor is among the sites
	rowsAt   int
}

// Open shows the workload of a berth.
func Open(d *screen.Desk, s status.Snapshot, at berth.ID) (screen.Screen, tea.Cmd) {
	if at.Workload == "" {
		d.Say("Choose a workload first.", true)
		return nil, nil
	}
	m := &Model{desk: d, spread: view.NewSpread(s, at.Workload)}
	for i, v := range m.spread.Versions {
		for k, site := range v.Sites {
			if site.Site == at.Site {
				m.versions.At, m.sites.At = i, k
			}
		}
	}
	m.note()
	return m, nil
}

// version is the one under the cursor.
func (m *Model) version() (view.SpreadVersion, bool) {
	if m.versions.At < 0 || m.versions.At >= len(m.spread.Versions) {
		return view.SpreadVersion{}, false
	}
	return m.spread.Versions[m.versions.At], true
}

// note keeps what the cursors are on.
func (m *Model) note() {
	v, ok := m.version()
	if !ok {
		return
	}
	m.chosen = v.Version
	m.sites.At = max(0, min(m.sites.At, len(v.Sites)-1))
	if m.sites.At < len(v.Sites) {
		m.site = v.Sites[m.sites.At].Site
	}
}

// Berth implements screen.Screen.
func (m *Model) Berth() berth.ID {
	if _, ok := m.version(); !ok {
		return berth.ID{}
	}
	return berth.ID{Workload: m.spread.Workload, Site: m.site}
}

// Picture implements screen.Screen.
func (m *Model) Picture() *screen.Picture {
	return &screen.Picture{Name: "spread-" + m.spread.Workload, Paint: draw.OfSpread(m.spread)}
}

// Update implements screen.Screen.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case status.Snapshot:
		m.spread = view.NewSpread(msg, m.spread.Workload)
		for i, v := range m.spread.Versions {
			if v.Version != m.chosen {
				continue
			}
			m.versions.At = i
			for k, site := range v.Sites {
				if site.Site == m.site {
					m.sites.At = k
				}
			}
		}
		m.note()
	case tea.MouseClickMsg:
		if at := msg.Y - m.rowsAt; at >= 0 && at < len(m.spread.Versions) {
			m.versions.At, m.sites.At, m.inside = at, 0, false
			m.note()
		}
	}
	return nil
}

// Keys implements screen.Screen.
func (m *Model) Keys() []screen.Key {
	what, enters := "version", "its sites"
	if m.inside {
		what, enters = "site", "look inside"
	}
	return []screen.Key{
		screen.Bind("up k down j pgup ctrl+u pgdown ctrl+d home end", "↑↓", what, "move", screen.Only(m.move)),
		screen.Bind("enter right l", "enter", enters, "to the sites of the version, and inside one of them", func(string) tea.Cmd {
			if m.inside {
				return m.desk.Start(words.LookInside, m.Berth())
			}
			m.inside = true
			return nil
		}),
		screen.Bind("left h", "←", map[bool]string{true: "versions"}[m.inside], "back to the versions", screen.Only(func(string) { m.inside = false })),
		screen.Bind("p", "p", "picture", "write this picture as SVG and PDF", func(string) tea.Cmd { return m.desk.TakePicture() }),
	}
}

func (m *Model) move(pressed string) {
	if v, ok := m.version(); ok && m.inside {
		m.sites.Key(pressed, len(v.Sites))
	} else {
		m.versions.Key(pressed, len(m.spread.Versions))
		m.sites.At = 0
	}
	m.note()
}

// Places of the screen.
const (
	versionWidth = 16
	countWidth   = 7
	sinceWidth   = 22
	leastSites   = 6 // rows for the sites
)

// View implements screen.Screen.
func (m *Model) View(p *kit.Page) {
	s := m.spread
	x := p.Head(s.Workload, "spread", s.Now.Local().Format(time.TimeOnly))
	about := "over " + say.Count(s.Sites, "site")
	if s.Newest != "" {
		about += ", Git declares " + s.Newest
	}
	p.PutIn(x, 0, p.W-x-12, kit.Text, about)
	left := kit.Margin + 1
	if s.Sites == 0 {
		p.Put(left, 3, kit.Text, "No site has it, and no link declares it any more.")
		return
	}
	bar := min(36, max(8, p.W/4))
	if p.W < 100 {
		bar = 10
	}
	columns := [4]int{left, left + versionWidth + countWidth, left + versionWidth + countWidth + 2, 0}
	since := columns[2] + bar + 2
	why := since + sinceWidth + 1
	y := 2
	p.Put(left+2, y, kit.Dim, "VERSION")
	p.Right(columns[1], y, kit.Dim, "sites")
	p.Put(since, y, kit.Dim, "since")
	if why < p.W-12 {
		p.Put(why, y, kit.Dim, "why not newer")
	}
	room := max(1, min(len(s.Versions), p.H-5-leastSites-4))
	from, to := m.versions.Window(room, len(s.Versions))
	p.More(y, from, to, len(s.Versions))
	y++
	m.rowsAt = y
	for i := from; i < to; i++ {
		v := s.Versions[i]
		if i == m.versions.At && !m.inside {
			p.Choose(y)
		}
		name, role := v.Version, kit.Old
		if name == "" {
			name, role = "none", kit.Dim
		} else if v.Version == s.Newest {
			role = kit.Clear
		}
		p.PutIn(left+2, y, versionWidth-3, role, name)
		p.Right(columns[1], y, kit.Text, fmt.Sprint(len(v.Sites)))
		length := max(1, (len(v.Sites)*bar+s.Sites/2)/max(1, s.Sites))
		p.Put(columns[2], y, role, strings.Repeat("▪", min(bar, length)))
		p.PutIn(since, y, sinceWidth, kit.Dim, days(v.First, v.Last, s.Now))
		var reasons []string
		for _, reason := range v.Why {
			reasons = append(reasons, fmt.Sprintf("%d %s", reason.Sites, reason.Reason))
		}
		p.PutIn(why, y, p.W-why-2, kit.Text, strings.Join(reasons, " · "))
		y++
	}
	m.viewSites(p, y, p.H-2)
}

// viewSites lists the sites of the version under the cursor.
func (m *Model) viewSites(p *kit.Page, y, end int) {
	v, ok := m.version()
	if !ok {
		return
	}
	left := kit.Margin + 1
	p.Rule(y)
	name := v.Version
	if name == "" {
		name = "nothing"
	}
	p.Put(left, y+1, kit.Bright, name+" at "+say.Count(len(v.Sites), "site"))
	title := y + 1
	y += 2
	width := 8
	for _, site := range v.Sites {
		width = max(width, kit.Width(site.Site))
	}
	width = min(width, p.W/4)
	from, to := m.sites.Window(max(1, end-y), len(v.Sites))
	p.More(title, from, to, len(v.Sites))
	for i := from; i < to; i++ {
		site := v.Sites[i]
		if i == m.sites.At && m.inside {
			p.Choose(y)
		}
		role := kit.Text
		switch health.Word(site.Health) {
		case health.Failing, health.Silent:
			role = kit.Bad
		case health.Starting:
			role = kit.New
		}
		p.PutIn(left+2, y, width, kit.Text, site.Site)
		at := left + 2 + width + 2
		if !site.Since.IsZero() {
			p.PutIn(at, y, 16, kit.Dim, "since "+day(site.Since, m.spread.Now))
		}
		at += 18
		p.PutIn(at, y, 10, role, site.Health)
		at += 11
		if site.Behind > 0 {
			p.PutIn(at, y, 10, kit.Dim, fmt.Sprintf("behind %d", site.Behind))
		}
		at += 11
		p.PutIn(at, y, p.W-at-2, kit.Text, site.Why)
		y++
	}
}

// days tells between which days something was.
func days(first, last, now time.Time) string {
	if first.IsZero() {
		return ""
	}
	from, to := day(first, now), day(last, now)
	if from == to {
		return from
	}
	return from + " to " + to
}

func day(at, now time.Time) string {
	switch at, now := at.Local(), now.Local(); {
	case at.YearDay() == now.YearDay() && at.Year() == now.Year():
		return "today"
	case at.Year() == now.Year():
		return at.Format("2 Jan")
	default:
		return at.Format("2 Jan 2006")
	}
}
