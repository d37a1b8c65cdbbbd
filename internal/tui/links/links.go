// Package links is the screen of all connections to repositories and registries: what each answered last, when, how
// long it took, and what is to be mended.
package links

import (
	"context"
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/core/berth"
	"aditus/internal/core/say"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/screen"
	"aditus/internal/tui/settings"
	"aditus/internal/words"
)

// Model is the list of links with a cursor.
type Model struct {
	desk   *screen.Desk
	links  []status.Link
	line   string
	now    time.Time
	list   kit.List
	rowsAt int
	room   int
}

// Open shows the links.
func Open(d *screen.Desk, s status.Snapshot, _ berth.ID) (screen.Screen, tea.Cmd) {
	return New(d, s), nil
}

// New makes the screen.
func New(d *screen.Desk, s status.Snapshot) *Model {
	m := &Model{desk: d}
	m.set(s)
	return m
}

func (m *Model) set(s status.Snapshot) { m.links, m.line, m.now = s.Links, s.Line, s.Now }

// selected is the link under the cursor.
func (m *Model) selected() (status.Link, bool) { return kit.Selected(&m.list, m.links) }

// Berth implements screen.Screen: a link is no berth.
func (m *Model) Berth() berth.ID { return berth.ID{} }

// Picture implements screen.Screen: there is none.
func (m *Model) Picture() *screen.Picture { return nil }

// Update implements screen.Screen.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case status.Snapshot:
		m.set(msg)
	case tea.MouseClickMsg:
		m.list.Click(msg.Y-m.rowsAt, m.room, len(m.links))
	}
	return nil
}

// Keys implements screen.Screen.
func (m *Model) Keys() []screen.Key {
	accepts := ""
	if l, ok := m.selected(); ok && l.Rewritten {
		accepts = "accept the new history"
	}
	return []screen.Key{
		screen.List(&m.list, func() int { return len(m.links) }),
		screen.Bind("t", "t", accepts, "accept a rewritten branch as it is now", func(string) tea.Cmd { return m.desk.Start(words.AcceptHistory, berth.ID{}) }),
		screen.Bind("enter I", "enter", m.opens(), "its entry in the settings: written anew, credential, webhook's secret, taken out", m.each(func(l status.Link) tea.Cmd { return settings.At(m.desk, m.line, m.now, "links", words.LinkName(l)) })),
		screen.Bind("v", "v", "try it", "try it: does it answer, and what?", m.each(m.try)),
		screen.Bind("n", "n", "look now", "look now", m.each(m.lookNow)),
		screen.Bind("p", "p", m.offers(), "have it not be read any more, or again, in the settings", m.each(m.turn)),
		screen.Bind("+ = -", "+ -", "poll more or less often", "poll more or less often, from now on", m.poll),
	}
}

// each does something with the selected link.
func (m *Model) each(do func(l status.Link) tea.Cmd) func(string) tea.Cmd {
	return func(string) tea.Cmd {
		if l, ok := m.selected(); ok {
			return do(l)
		}
		return nil
	}
}

// opens is what enter does, in the bar; nothing where settings are not changed from here.
func (m *Model) opens() string {
	if _, ok := m.selected(); ok && m.desk.Settings != nil {
		return "its settings"
	}
	return ""
}

// offers is what p does to the selected link, in the bar.
func (m *Model) offers() string {
	l, ok := m.selected()
	switch {
	case !ok || m.desk.Settings == nil || l.Follows != "":
		return ""
	case l.Off:
		return "switch on"
	}
	return "switch off"
}

// turn switches a link off, or on again.
func (m *Model) turn(l status.Link) tea.Cmd {
	switch {
	case m.desk.Settings == nil:
		m.desk.Say("Settings are changed at the server, not from here.", true)
		return nil
	case l.Follows != "":
		m.desk.Say("It follows a branch for a while: f on the sites ends that.", true)
		return nil
	}
	text := fmt.Sprintf("Switch the link %s off? It is not read any more; what it declared stays declared, and nothing that runs changes.", l.Name)
	if l.Off {
		text = fmt.Sprintf("Switch the link %s on? It is read at once, and what it declares by now is taken as its sites take it.", l.Name)
	}
	m.desk.Ask(screen.Question{Text: text, Do: func(ctx context.Context) (string, error) {
		err := settings.Change(ctx, m.desk, "links", l.Name, func(entry map[string]any) {
			if delete(entry, "off"); !l.Off {
				entry["off"] = true
			}
		})
		return fmt.Sprintf("It is written in the settings, at the link %s.", l.Name), err
	}})
	return nil
}

func (m *Model) try(l status.Link) tea.Cmd {
	m.desk.Say("The link "+l.Name+" is asked.", false)
	return m.desk.Answer(func(ctx context.Context) (string, error) { return m.desk.Control.Try(ctx, m.desk.Who, l.Name) })
}

func (m *Model) lookNow(l status.Link) tea.Cmd {
	if l.Off {
		m.desk.Say("The link "+l.Name+" is switched off: p switches it on.", true)
		return nil
	}
	return m.desk.Answer(func(ctx context.Context) (string, error) {
		return "The link " + l.Name + " is read again.", m.desk.Control.LookNow(ctx, m.desk.Who, l.Name)
	})
}

// poll changes how often the selected link is polled.
func (m *Model) poll(pressed string) tea.Cmd {
	l, ok := m.selected()
	if !ok {
		return nil
	}
	every := Faster(l.Every)
	if pressed == "-" {
		every = Slower(l.Every)
	}
	if l.Follows != "" || every == l.Every {
		m.desk.Say("The link "+l.Name+" keeps its interval.", true)
		return nil
	}
	return m.desk.Answer(func(ctx context.Context) (string, error) {
		return fmt.Sprintf("The link %s is polled every %s from now on.", l.Name, say.Span(every)), m.desk.Control.SetEvery(ctx, m.desk.Who, l.Name, every)
	})
}

// intervals are what + and - go through.
var intervals = []time.Duration{time.Second, 5 * time.Second, 10 * time.Second, 30 * time.Second, time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour}

// Faster gives the next shorter interval.
func Faster(every time.Duration) time.Duration {
	for i := len(intervals) - 1; i >= 0; i-- {
		if intervals[i] < every {
			return intervals[i]
		}
	}
	return every
}

// Slower gives the next longer interval.
func Slower(every time.Duration) time.Duration {
	for _, longer := range intervals {
		if longer > every {
			return longer
		}
	}
	return every
}

// View draws the links. The page's last two rows are left to the bar of keys.
func (m *Model) View(p *kit.Page) {
	p.Head(m.line, "links", m.now.Local().Format(time.TimeOnly))
	left := kit.Margin + 1
	if len(m.links) == 0 {
		p.Put(left, 3, kit.Text, "There is no link yet.")
		p.Put(left, 5, kit.Dim, "Connect a repository with:")
		p.Put(left+4, 6, kit.New, "aditus link add NAME REPOSITORY --branch main --folder workloads")
		return
	}
	wide, narrow := p.W >= 110, p.W < 100
	name, ref := 8, 6
	for _, l := range m.links {
		name, ref = max(name, kit.Width(l.Name)), max(ref, kit.Width(l.Ref))
	}
	name, ref = min(name, p.W/4), min(ref, p.W/5)
	if narrow {
		ref = min(ref, p.W/4)
	}
	right := p.W - kit.Margin - 1
	// numbers stand at the right, each under its title
	took, every, berths := right, right-9, right-20
	answer := berths - 12
	if narrow { // the detail tells what has no room here
		answer = every
	}
	y := 3
	p.Put(left+2, y, kit.Dim, "LINK")
	p.Put(left+2+name+2, y, kit.Dim, "watches")
	if wide {
		p.Put(left+2+name+2+ref+2, y, kit.Dim, "repository")
	}
	p.Right(answer, y, kit.Dim, "answered")
	if !narrow {
		p.Right(berths, y, kit.Dim, "berths")
		p.Right(every, y, kit.Dim, "every")
	}
	p.Right(took, y, kit.Dim, "took")
	p.Rule(y + 1)
	y += 2
	details := 12
	if p.H < 34 {
		details = 8
	}
	m.rowsAt, m.room = y, max(1, p.H-2-details-y)
	from, to := m.list.Window(m.room, len(m.links))
	for i := from; i < to; i++ {
		l := m.links[i]
		if i == m.list.At {
			p.Choose(y)
		}
		if l.Problem != nil {
			p.Put(left, y, kit.Bad, "┃")
		}
		p.PutIn(left+2, y, name, kit.Bright, l.Name)
		p.PutIn(left+2+name+2, y, ref, kit.Text, l.Ref)
		if wide {
			at := left + 2 + name + 2 + ref + 2
			p.PutIn(at, y, answer-12-at, kit.Dim, l.Repository)
		}
		answered, role := "not yet", kit.Dim
		if !l.Looked.IsZero() {
			answered = say.Ago(m.now.Sub(l.Looked))
		}
		switch {
		case l.Off:
			answered = "off"
		case l.Problem != nil:
			answered, role = "no answer", kit.Bad
		}
		p.Right(answer, y, role, answered)
		if !narrow {
			p.Right(berths, y, kit.Dim, fmt.Sprint(l.Berths))
			p.Right(every, y, kit.Dim, say.Span(l.Every))
		}
		p.Right(took, y, kit.Dim, say.Took(l.Took))
		y++
	}
	m.detail(p, min(y+1, p.H-2-details), p.H-2)
}

// detail tells the selected link in full sentences.
func (m *Model) detail(p *kit.Page, y, end int) {
	l, ok := m.selected()
	if !ok {
		return
	}
	left := kit.Margin + 1
	const label = 12
	p.Rule(y)
	at := p.Put(left, y+1, kit.Bright, l.Name)
	if l.Follows != "" {
		p.Put(at+3, y+1, kit.New, fmt.Sprintf("only for %s, until %s", l.Follows, l.Until.Local().Format("Mon 2 Jan 15:04")))
	}
	line := p.Detail(left, y+3, label, end).Line
	if l.Problem != nil {
		line("wrong", say.Sentence(l.Problem.Text)+" Since "+l.Problem.Since.Local().Format("15:04:05")+".", kit.Bad, 4)
		for _, wrong := range l.Wrong {
			line("mend", wrong, kit.Bad, 4)
		}
	}
	line("watches", say.Capital(words.LinkLine(l, m.now)), kit.Text, 2)
	line("declares", say.Count(l.Berths, "berth"), kit.Text, 1)
	next := "not read yet"
	switch {
	case l.Off:
		next = "None, until it is switched on again"
	case !l.Looked.IsZero():
		next = "at " + l.Looked.Add(l.Every).Local().Format("15:04:05") + ", or at once when a webhook comes"
	}
	line("next look", next, kit.Text, 1)
	for _, warning := range l.Warnings {
		line("warning", warning, kit.New, 4)
	}
}
