// Package connect is the screen on which a repository, or a bundle in a registry, becomes a link: each line is a sentence that is true now, is being
// asked, or is still to be answered, and any of them can be changed at any time. Nothing is written before it is said what will be.
package connect

import (
	"context"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/config"
	"aditus/internal/control"
	"aditus/internal/core/berth"
	"aditus/internal/core/say"
	"aditus/internal/source"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/screen"
)

// Given is what was answered so far. It stays as long as the screens do.
type Given struct {
	asked     control.Asked
	name      string // of the link; empty for one made of the address
	folder    int
	targets   map[string]int // which one of those that are offered, by site
	automatic bool
	variables map[string]string // of a bundle: those that got another value
}

// Model is the list of questions with a cursor.
type Model struct {
	desk  *screen.Desk
	given *Given
	line  string
	now   time.Time
	sites []string // that there are
	links []status.Link

	offer  *control.Offer
	asking bool
	wrong  string // why there is no offer
	round  int    // of asking
	list   kit.List
}

// keptAs is the name by which what was given on a screen that was left is found again.
const keptAs = "connect"

// Open shows the questions, with what was answered before.
func Open(d *screen.Desk, s status.Snapshot, _ berth.ID) (screen.Screen, tea.Cmd) {
	given, ok := d.Kept[keptAs].(*Given)
	if !ok {
		given = &Given{targets: map[string]int{}, variables: map[string]string{}}
		d.Kept[keptAs] = given
	}
	m := &Model{desk: d, given: given, line: s.Line, now: s.Now, sites: s.Sites, links: s.Links}
	if d.Settings == nil {
		m.wrong = "A repository is connected where Aditus runs."
		return m, nil
	}
	return m, m.ask()
}

// ask asks what the repository offers.
func (m *Model) ask() tea.Cmd {
	m.offer, m.wrong, m.asking = nil, "", false
	if m.given.asked.Repository == "" {
		return nil
	}
	m.asking = true
	m.round++
	asked, round := m.given.asked, m.round
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.desk.Ctx, screen.Timeout)
		defer cancel()
		offer, err := m.desk.Settings.Explore(ctx, m.desk.Who, asked)
		return answered{m, round, offer, err}
	}
}

// answered is what a repository answered.
type answered struct {
	of    *Model
	round int
	offer control.Offer
	err   error
}

// Berth implements screen.Screen: a link is no berth.
func (m *Model) Berth() berth.ID { return berth.ID{} }

// Picture implements screen.Screen: there is none.
func (m *Model) Picture() *screen.Picture { return nil }

// Update implements screen.Screen.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case status.Snapshot:
		m.line, m.now, m.sites, m.links = msg.Line, msg.Now, msg.Sites, msg.Links
	case answered:
		if msg.of != m || msg.round != m.round {
			return nil // of another question
		}
		if m.asking = false; msg.err != nil {
			m.wrong = say.Sentence(msg.err.Error())
			return nil
		}
		m.offer = &msg.offer
		m.given.folder = min(m.given.folder, max(0, len(msg.offer.Folders)-1))
	}
	return nil
}

// The lines, in order; one for each new site follows them.
const (
	whereFrom = iota
	howIn
	branch
	what
	byWhom
	name
	lines
)

// newSites are those that the chosen folder is for and the settings do not have.
func (m *Model) newSites() (names []string) {
	at := m.chosen()
	if at == nil {
		return nil
	}
	for _, site := range at.Sites() {
		if len(m.offer.Targets[site]) > 0 {
			names = append(names, site)
		}
	}
	return names
}

// chosen is the folder that is chosen; nil while there is none.
func (m *Model) chosen() *source.Found {
	if m.offer == nil || m.given.folder >= len(m.offer.Folders) {
		return nil
	}
	return &m.offer.Folders[m.given.folder]
}

// target is what a new site is to run on.
func (m *Model) target(site string) control.Target {
	all := m.offer.Targets[site]
	return all[m.given.targets[site]%len(all)]
}

func (m *Model) rows() int { return lines + len(m.newSites()) + len(m.variables()) }

// variables are those of a bundle, which may get other values.
func (m *Model) variables() []source.FoundVariable {
	if at := m.chosen(); at != nil {
		return at.Variables
	}
	return nil
}

// Keys implements screen.Screen.
func (m *Model) Keys() []screen.Key {
	does := func(text string, is bool) string {
		if !is {
			return ""
		}
		return text
	}
	return []screen.Key{
		screen.List(&m.list, m.rows),
		screen.Bind("enter", "enter", "answer it", "answer the line, or take the next of its choices", m.enter),
		screen.Bind("left h right l", "←→", does("choose", m.list.At >= branch && m.list.At != name), "go through the choices of the line", m.turn),
		screen.Bind("v", "v", does("try again", m.given.asked.Repository != ""), "ask the repository again", func(string) tea.Cmd { return m.ask() }),
		screen.Bind("w", "w", does("write it", m.ready() == ""), "write what stands below into the settings", m.write),
	}
}

// enter answers a line.
func (m *Model) enter(string) tea.Cmd {
	hints := []kit.Hint{{Key: "enter", Does: "take it"}, {Key: "esc", Does: "leave it"}}
	switch m.list.At {
	case whereFrom:
		return m.desk.Type(screen.Prompt{Label: "Address of the repository or registry:", Text: m.given.asked.Repository, Hints: hints, Done: func(text string) tea.Cmd {
			m.given.asked = control.Asked{Repository: strings.TrimSpace(text), Credential: m.given.asked.Credential}
			m.given.folder = 0
			return m.ask()
		}})
	case howIn:
		return m.desk.Type(screen.Prompt{Label: "User, empty for a token or for none:", Hints: hints, Done: func(user string) tea.Cmd {
			return m.desk.Type(screen.Prompt{Label: "Password or token, empty for none:", Hidden: true, Hints: hints, Done: func(password string) tea.Cmd {
				m.given.asked.Credential = nil
				if user, password = strings.TrimSpace(user), strings.TrimSpace(password); user+password != "" {
					m.given.asked.Credential = &source.Credential{User: user, Password: password}
				}
				return m.ask()
			}})
		}})
	case branch:
		label, text := "Branch:", m.given.asked.Branch
		if m.bundle() {
			label, text = "Version, a range such as ^1.4, or a digest:", m.given.asked.Version
		}
		return m.desk.Type(screen.Prompt{Label: label, Text: text, Hints: hints, Done: func(text string) tea.Cmd {
			if text = strings.TrimSpace(text); m.bundle() {
				m.given.asked.Version = text
			} else {
				m.given.asked.Branch = text
			}
			return m.ask()
		}})
	case name:
		return m.desk.Type(screen.Prompt{Label: "Name of the link:", Text: m.linkName(), Hints: hints, Done: func(text string) tea.Cmd {
			m.given.name = strings.TrimSpace(text)
			return nil
		}})
	}
	if at := m.list.At - lines - len(m.newSites()); at >= 0 && at < len(m.variables()) {
		v := m.variables()[at]
		return m.desk.Type(screen.Prompt{Label: fmt.Sprintf("Value of %s, empty for its own:", v.Name), Text: m.given.variables[v.Name], Hints: hints, Done: func(text string) tea.Cmd {
			if delete(m.given.variables, v.Name); strings.TrimSpace(text) != "" {
				m.given.variables[v.Name] = strings.TrimSpace(text)
			}
			return nil
		}})
	}
	return m.turn("right")
}

func (m *Model) bundle() bool {
	return config.Link{Repository: m.given.asked.Repository}.Bundle()
}

// turn goes through the choices of a line.
func (m *Model) turn(pressed string) tea.Cmd {
	step := 1
	if pressed == "left" || pressed == "h" {
		step = -1
	}
	around := func(at, n int) int { return ((at+step)%n + n) % n }
	switch at := m.list.At; {
	case at == byWhom:
		m.given.automatic = !m.given.automatic
	case m.offer == nil:
	case at == branch && len(m.offer.Branches) > 1:
		m.given.asked.Branch = m.offer.Branches[around(slices.Index(m.offer.Branches, m.offer.Branch), len(m.offer.Branches))]
		return m.ask()
	case at == what && len(m.offer.Folders) > 1:
		m.given.folder = around(m.given.folder, len(m.offer.Folders))
	case at >= lines && at-lines < len(m.newSites()):
		site := m.newSites()[at-lines]
		m.given.targets[site] = around(m.given.targets[site], len(m.offer.Targets[site]))
	}
	return nil
}

// overridden are the variables of what is chosen that got another value.
func (m *Model) overridden() map[string]any {
	given := map[string]any{}
	for _, v := range m.variables() {
		if value, is := m.given.variables[v.Name]; is {
			given[v.Name] = value
		}
	}
	return given
}

// linkName is the link's name: the one that was given, or the last part of the address.
func (m *Model) linkName() string {
	if m.given.name != "" {
		return m.given.name
	}
	last := strings.TrimSuffix(path.Base(strings.ReplaceAll(strings.TrimRight(m.given.asked.Repository, "/"), ":", "/")), ".git")
	if last == "." || last == "/" {
		return ""
	}
	return strings.ToLower(last)
}

// ready tells what is missing before it can be written; empty where nothing is.
func (m *Model) ready() string {
	switch at := m.chosen(); {
	case m.offer == nil:
		return "the repository has not answered yet"
	case at == nil:
		return "nothing in it can be run: a declaration is a .yaml file that begins with aditus: 1"
	case len(at.Workloads) == 0:
		return fmt.Sprintf("%s has objects of a cluster's API and no declaration: connect it with aditus link add --workload NAME --sites SITE", at.Folder)
	case m.linkName() == "":
		return "the link has no name"
	case slices.ContainsFunc(m.links, func(l status.Link) bool { return l.Name == m.linkName() }):
		return fmt.Sprintf("there is a link %s already: give this one another name", m.linkName())
	}
	for _, site := range m.newSites() {
		if m.target(site).Wrong != "" {
			return site + " cannot run on what is chosen for it"
		}
	}
	return ""
}

// write writes the link and its new sites into the settings.
func (m *Model) write(string) tea.Cmd {
	if missing := m.ready(); missing != "" {
		m.desk.Say("It cannot be written yet: "+missing+".", true)
		return nil
	}
	asked, linked := m.given.asked, m.linkName()
	link := map[string]any{"repository": asked.Repository, "folder": m.chosen().Folder, "every": "1m"}
	for key, value := range map[string]string{"branch": m.offer.Branch, "version": asked.Version} {
		if value != "" {
			link[key] = value
		}
	}
	if asked.Plain {
		link["plain"] = true
	}
	if given := m.overridden(); len(given) > 0 {
		link["variables"] = given
	}
	entries := []config.Entry{}
	for _, site := range m.newSites() {
		entries = append(entries, config.Entry{Section: "sites", Name: site, Value: map[string]any{"automatic": m.given.automatic, "target": maps.Clone(m.target(site).Value)}})
	}
	entries = append(entries, config.Entry{Section: "links", Name: linked, Value: link})
	given := map[string]source.Credential{}
	if asked.Credential != nil {
		given[linked] = *asked.Credential
	}
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.desk.Ctx, screen.Timeout)
		defer cancel()
		if err := m.desk.Settings.PutSettings(ctx, m.desk.Who, given, entries...); err != nil {
			return screen.Answered{Err: err}
		}
		return screen.Closed{Text: fmt.Sprintf("The link %s is written, and read at once.", linked), Forget: keptAs}
	}
}
