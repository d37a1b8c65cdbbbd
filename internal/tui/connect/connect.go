// Package connect is the screen on which a repository, or a bundle in a registry, becomes a link: each line is a sentence that is true now, is being
// asked, or is still to be answered, and any of them can be changed at any time. Nothing is written before it is said what will be.
package connect

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"go.yaml.in/yaml/v4"

	"aditus/internal/config"
	"aditus/internal/control"
	"aditus/internal/core/berth"
	"aditus/internal/core/say"
	"aditus/internal/source"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/screen"
)

// Given is what was answered so far. It is found again when the screen is opened again, also by another start of the program, but for what
// is secret in it.
type Given struct {
	Asked     control.Asked     `json:"asked"`
	Name      string            `json:"name,omitempty"`  // of the link; empty for one made of the address
	Typed     map[string]string `json:"typed,omitempty"` // what somebody wrote that a new site is to run on
	Automatic bool              `json:"automatic,omitempty"`
}

// Model is the list of questions with a cursor.
type Model struct {
	desk  *screen.Desk
	given *Given
	line  string
	now   time.Time
	sites []string // that there are
	links []status.Link

	offer  *control.Offer // the newest, also while it is asked again
	asking bool
	wrong  string // why there is no offer
	round  int    // of asking
	list   kit.List
	top    int // the first line that is shown
}

// keptAs is the name by which what was given on a screen that was left is found again.
const keptAs = "connect"

// Open shows the questions, with what was answered before.
func Open(d *screen.Desk, s status.Snapshot, _ berth.ID) (screen.Screen, tea.Cmd) {
	given, ok := d.Kept[keptAs].(*Given)
	if !ok {
		given = &Given{}
		d.Recall(keptAs, given)
		d.Kept[keptAs] = given
	}
	m := &Model{desk: d, given: given, line: s.Line, now: s.Now, sites: s.Sites, links: s.Links}
	switch {
	case d.Settings == nil:
		m.wrong = "A repository is connected where Aditus runs."
		return m, nil
	case given.Asked.Repository == "":
		return m, m.enter("")
	}
	return m, m.ask()
}

// ask asks what the repository offers, with what was decided so far. What it offered before stays to be seen until it has answered.
func (m *Model) ask() tea.Cmd {
	m.remember()
	m.wrong, m.asking = "", false
	if m.given.Asked.Repository == "" {
		m.offer = nil
		return nil
	}
	m.asking = true
	m.round++
	asked, round := m.given.Asked, m.round
	asked.Targets, asked.Variables, asked.Sites = maps.Clone(asked.Targets), maps.Clone(asked.Variables), slices.Clone(asked.Sites) // they may change meanwhile
	if m.bare() {
		asked.Workload = m.workload()
	}
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.desk.Ctx, patience)
		defer cancel()
		offer, err := m.desk.Settings.Explore(ctx, m.desk.Who, asked)
		return answered{m, round, offer, err}
	}
}

// remember leaves what was given for the next start, but for what is secret in it.
func (m *Model) remember() {
	kept := *m.given
	kept.Asked.Credential = nil
	if at, err := url.Parse(kept.Asked.Repository); err == nil && at.User != nil && at.Scheme != "ssh" {
		kept.Asked.Repository = "" // there may be a password in it, or a token
	}
	m.desk.Remember(keptAs, kept)
}

// patience is how long a repository, what it declares, and what its sites stand on may take.
const patience = 2 * time.Minute

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
			m.offer, m.wrong = nil, say.Sentence(msg.err.Error())
			return nil
		}
		m.offer = &msg.offer
		for site, typed := range m.given.Typed {
			if m.given.Asked.Targets[site] == typed {
				if all, at := m.choices(site); len(all) > 0 {
					m.given.Typed[site], m.given.Asked.Targets[site] = all[at], all[at] // as it is written
				}
			}
		}
	}
	return nil
}

// asks is what a line asks for.
type asks int

const (
	whereFrom asks = iota
	howIn
	branch
	what
	workload // that a folder of objects is
	itsSites // where that runs
	byWhom
	called
	runsOn   // a new site
	variable // of a bundle
)

// line is one of the questions: of is the site or the variable that it is about.
type line struct {
	asks
	of string
}

// lines are the questions that there are now, in order.
func (m *Model) lines() []line {
	all := []line{{asks: whereFrom}, {asks: howIn}, {asks: branch}, {asks: what}}
	if m.bare() {
		all = append(all, line{asks: workload}, line{asks: itsSites})
	}
	all = append(all, line{asks: byWhom}, line{asks: called})
	for _, site := range m.newSites() {
		all = append(all, line{runsOn, site})
	}
	for _, v := range m.variables() {
		all = append(all, line{variable, v.Name})
	}
	return all
}

// at is the line with the cursor.
func (m *Model) at() line {
	all := m.lines()
	return all[min(m.list.At, len(all)-1)]
}

// chosen is the folder that is chosen; nil while there is none.
func (m *Model) chosen() *source.Found {
	if m.offer == nil {
		return nil
	}
	for i := range m.offer.Folders {
		if m.offer.Folders[i].Folder == cmp.Or(m.given.Asked.Folder, m.offer.Folder) {
			return &m.offer.Folders[i]
		}
	}
	if len(m.offer.Folders) > 0 {
		return &m.offer.Folders[0]
	}
	return nil
}

// bare tells whether the chosen folder has only objects of a cluster's API.
func (m *Model) bare() bool {
	at := m.chosen()
	return at != nil && len(at.Workloads) == 0
}

// workload is the one that the objects of a folder are.
func (m *Model) workload() string {
	return cmp.Or(m.given.Asked.Workload, source.BareName(m.chosen().Folder, m.linkName()))
}

// newSites are those that the chosen folder is for and the settings do not have.
func (m *Model) newSites() (names []string) {
	at := m.chosen()
	if at == nil {
		return nil
	}
	for _, site := range m.goesTo() {
		if !slices.Contains(m.sites, site) {
			names = append(names, site)
		}
	}
	return names
}

// goesTo are the sites that the chosen folder is for.
func (m *Model) goesTo() []string {
	if m.bare() {
		return m.given.Asked.Sites
	}
	return m.chosen().Sites()
}

// target is what a new site is to run on; one without a kind while that is not known.
func (m *Model) target(site string) control.Target {
	for _, t := range m.offer.Targets[site] {
		if t.Chosen {
			return t
		}
	}
	if all := m.offer.Targets[site]; len(all) > 0 {
		return all[0]
	}
	return control.Target{}
}

// choices are what a new site can run on, as it is written, and which of them is chosen.
func (m *Model) choices(site string) (all []string, at int) {
	for i, t := range m.offer.Targets[site] {
		text := t.Means
		if t.Value != nil {
			text = fields(t.Value)
		}
		if all = append(all, text); t.Chosen {
			at = i
		}
	}
	if typed := m.given.Typed[site]; typed != "" && typed != m.given.Asked.Targets[site] && !slices.Contains(all, typed) {
		all = append(all, typed)
	}
	return all, at
}

// fields writes what a site runs on in one line.
func fields(value map[string]any) string {
	keys := slices.SortedFunc(maps.Keys(value), func(a, b string) int {
		first := func(key string) int {
			if key == "kind" {
				return 0
			}
			return 1
		}
		return cmp.Or(first(a)-first(b), strings.Compare(a, b))
	})
	root := yaml.Node{Kind: yaml.MappingNode, Style: yaml.FlowStyle}
	for _, key := range keys {
		var of yaml.Node
		if of.Encode(value[key]) != nil {
			continue // it came as YAML or JSON
		}
		of.Style = yaml.FlowStyle
		root.Content = append(root.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: key}, &of)
	}
	text, err := yaml.Marshal(&root)
	if err != nil {
		return ""
	}
	text = bytes.TrimSpace(text)
	return string(bytes.TrimSuffix(bytes.TrimPrefix(text, []byte("{")), []byte("}")))
}

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
	can := m.at().asks
	return []screen.Key{
		screen.List(&m.list, func() int { return len(m.lines()) }),
		screen.Bind("enter", "enter", "answer it", "answer the line", m.enter),
		screen.Bind("left h right l", "←→", does("choose", can == branch || can == what || can == byWhom || can == runsOn), "go through the choices of the line", m.turn),
		screen.Bind("v", "v", does("try again", m.given.Asked.Repository != ""), "ask the repository and the sites again", func(string) tea.Cmd { return m.ask() }),
		screen.Bind("w", "w", does("write it", m.ready() == ""), "write what stands below into the settings", m.write),
	}
}

// enter answers a line.
func (m *Model) enter(string) tea.Cmd {
	asked := &m.given.Asked
	// typed asks for a text, and asks the repository again with it.
	typed := func(label, text string, take func(text string)) tea.Cmd {
		return m.desk.Type(screen.Prompt{Label: label, Text: text, Hints: hints, Done: func(text string) tea.Cmd {
			take(strings.TrimSpace(text))
			return m.ask()
		}})
	}
	switch at := m.at(); at.asks {
	case whereFrom:
		return typed("Address of the repository or registry:", asked.Repository, func(text string) {
			if text != asked.Repository {
				*asked, m.offer = control.Asked{Repository: text, Credential: asked.Credential}, nil
			}
		})
	case howIn:
		return m.desk.AskCredential(m, "", "for none", config.Link{Repository: asked.Repository}.SSH(), func(c *source.Credential) tea.Cmd {
			asked.Credential = c
			return m.ask()
		})
	case branch:
		if m.bundle() {
			return typed("Version, a range such as ^1.4, or a digest:", asked.Version, func(text string) { asked.Version = text })
		}
		return typed("Branch:", asked.Branch, func(text string) { asked.Branch = text })
	case workload:
		return typed("Name of the workload that these objects are:", m.workload(), func(text string) { asked.Workload = text })
	case itsSites:
		return typed("Sites that it runs at, by their names:", strings.Join(asked.Sites, " "), func(text string) {
			asked.Sites = strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == ',' })
		})
	case called:
		return m.desk.Type(screen.Prompt{Label: "Name of the link:", Text: m.linkName(), Hints: hints, Done: func(text string) tea.Cmd {
			m.given.Name = strings.TrimSpace(text)
			m.remember()
			return nil
		}})
	case runsOn:
		text := ""
		if all, chosen := m.choices(at.of); len(all) > 0 {
			text = all[chosen]
		}
		return typed("What "+at.of+" runs on, as in the settings, or KIND=WHERE:", text, func(text string) {
			m.takeTarget(at.of, text)
			if m.given.Typed == nil {
				m.given.Typed = map[string]string{}
			}
			m.given.Typed[at.of] = text
		})
	case variable:
		return typed(fmt.Sprintf("Value of %s, empty for its own:", at.of), asked.Variables[at.of], func(text string) {
			if asked.Variables == nil {
				asked.Variables = map[string]string{}
			}
			if delete(asked.Variables, at.of); text != "" {
				asked.Variables[at.of] = text
			}
		})
	}
	return m.turn("right")
}

// hints are the keys while something is typed.
var hints = []kit.Hint{{Key: "enter", Does: "take it"}, {Key: "esc", Does: "leave it"}}

// takeTarget has a new site run on something.
func (m *Model) takeTarget(site, text string) {
	if m.given.Asked.Targets == nil {
		m.given.Asked.Targets = map[string]string{}
	}
	m.given.Asked.Targets[site] = text
}

func (m *Model) bundle() bool {
	return config.Link{Repository: m.given.Asked.Repository}.Bundle()
}

// turn goes through the choices of a line.
func (m *Model) turn(pressed string) tea.Cmd {
	step := 1
	if pressed == "left" || pressed == "h" {
		step = -1
	}
	next := func(all []string, at int) string { return all[((at+step)%len(all)+len(all))%len(all)] }
	asked := &m.given.Asked
	switch at := m.at(); {
	case at.asks == byWhom:
		m.given.Automatic = !m.given.Automatic
		m.remember()
		return nil
	case m.offer == nil:
		return nil
	case at.asks == branch && len(m.offer.Branches) > 1:
		asked.Branch = next(m.offer.Branches, slices.Index(m.offer.Branches, m.offer.Branch))
	case at.asks == what && len(m.offer.Folders) > 1:
		var all []string
		for _, f := range m.offer.Folders {
			all = append(all, f.Folder)
		}
		asked.Folder, asked.Workload = next(all, slices.Index(all, m.chosen().Folder)), ""
	case at.asks == runsOn && len(m.offer.Targets[at.of]) > 0:
		m.takeTarget(at.of, next(m.choices(at.of)))
	default:
		return nil
	}
	return m.ask()
}

// linkName is the link's name: the one that was given, or the last part of the address.
func (m *Model) linkName() string {
	if m.given.Name != "" {
		return m.given.Name
	}
	last := strings.TrimSuffix(path.Base(strings.ReplaceAll(strings.TrimRight(m.given.Asked.Repository, "/"), ":", "/")), ".git")
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
	case m.asking:
		return "it is being asked"
	case at == nil:
		return "nothing in it can be run: a declaration is a .yaml file that begins with aditus: 1"
	case len(m.goesTo()) == 0:
		return "it is not said yet at which sites the objects run"
	case m.linkName() == "":
		return "the link has no name"
	case slices.ContainsFunc(m.links, func(l status.Link) bool { return l.Name == m.linkName() }):
		return fmt.Sprintf("there is a link %s already: give this one another name", m.linkName())
	}
	for _, site := range m.newSites() {
		if t := m.target(site); t.Wrong != "" || t.Kind == "" {
			return site + " cannot run on what is chosen for it"
		}
	}
	return ""
}

// overridden are the variables of what is chosen that get another value.
func (m *Model) overridden() map[string]any {
	given := map[string]any{}
	for _, v := range m.variables() {
		if value, is := m.given.Asked.Variables[v.Name]; is {
			given[v.Name] = value
		}
	}
	return given
}

// entries are what is written into the settings: the new sites, and the link.
func (m *Model) entries() (all []config.Entry) {
	asked := m.given.Asked
	link := map[string]any{"repository": asked.Repository, "folder": m.chosen().Folder, "every": "1m"}
	for key, value := range map[string]string{"branch": m.offer.Branch, "version": asked.Version} {
		if value != "" {
			link[key] = value
		}
	}
	if asked.Plain {
		link["plain"] = true
	}
	if m.bare() {
		link["workload"], link["sites"] = m.workload(), asked.Sites
	}
	if given := m.overridden(); len(given) > 0 {
		link["variables"] = given
	}
	if m.offer.May != nil {
		link["may"] = m.offer.May
	}
	for _, site := range m.newSites() {
		all = append(all, config.Entry{Section: "sites", Name: site, Value: map[string]any{"automatic": m.given.Automatic, "target": maps.Clone(m.target(site).Value)}})
	}
	return append(all, config.Entry{Section: "links", Name: m.linkName(), Value: link})
}

// write writes the link and its new sites into the settings.
func (m *Model) write(string) tea.Cmd {
	if missing := m.ready(); missing != "" {
		m.desk.Say("It cannot be written yet: "+missing+".", true)
		return nil
	}
	linked, entries, given := m.linkName(), m.entries(), map[string]source.Credential{}
	if c := m.given.Asked.Credential; c != nil {
		given[linked] = *c
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
