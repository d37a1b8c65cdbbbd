// Package settings is the screen of what stands in the settings: links, sites, sinks and what else has entries, and the tokens of a server.
// Each is looked at, tried, written anew and taken out here.
package settings

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	tea "charm.land/bubbletea/v2"
	"go.yaml.in/yaml/v4"

	"aditus/internal/config"
	"aditus/internal/control"
	"aditus/internal/core/berth"
	"aditus/internal/core/policy"
	"aditus/internal/core/say"
	"aditus/internal/source"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/screen"
)

// section is one part of the settings.
type section struct {
	name  string // as it stands in the settings
	one   string // of its entries
	means string // what they are for
	first string // how a new one begins
	notes []string
}

// tokens is the section of a server's tokens, which stand in a file of their own.
const tokens = "tokens"

var sections = []section{
	{"links", "link", "repositories and registries that declare what runs",
		"repository: https://git.skerry.example/line.git\nbranch: main\nfolder: deploy\nevery: 1m\n",
		[]string{"repository: an address with https, ssh or git, USER@HOST:PATH, or oci://HOST/PATH of a bundle, with version: in place of branch:", "may: everything, or workloads, sites, kinds, hosts, ports, registries, files, stores, reads: what may be declared there", "A credential is given with c, once the link is there."}},
	{"sites", "site", "what workloads run on, in the order of the course",
		"automatic: false\ntarget:\n  kind: local\n  listen: 127.0.0.1:8080\n",
		[]string{"target: {kind: local, listen: HOST:PORT}, {kind: cluster, context: NAME, namespace: NAME}, or {kind: stand-in}", "automatic: true takes revisions by itself; after: SITE waits until that one has proven them"}},
	{"sinks", "sink", "where notices go to",
		"webhook:\n  url: https://hooks.skerry.example/aditus\n",
		[]string{"webhook: {url}, mail: {server, from, to}, or chat: {url}; only: what is told there", "A credential is given with c, by the name that the sink says; v sends a test."}},
	{"follow", "following", "sites that follow another branch for a while",
		"link: NAME\nbranch: main\nuntil: 2026-12-24\n",
		[]string{"The name is the site's."}},
	{"registries", "registry", "how registries are asked",
		"{}\n",
		[]string{"The name is the registry's host. plain: true speaks http, skip: true asks it for nothing, signed: keys that what comes from it must be signed with."}},
	{"metrics-stores", "metrics store", "where signals are asked for that instances do not tell",
		"url: https://metrics.skerry.example\n",
		[]string{"url: where its HTTP query API is, without /api/v1", "A credential is given with c, by the name that credential: says; a user with a password, or a token."}},
	{"alerts", "alert source", "who says what fires, by POST /alerts/NAME",
		"credential: NAME\nworkload: service\n",
		[]string{"workload, site: the labels that name them; what it says comes with the credential's password as a token, or signed with it", "A credential is given with c, by the name that credential: says."}},
	{tokens, "token", "who comes over the network with what",
		"scopes: [look]\n",
		[]string{"scopes: look, sync, sign off, lock, override, remove data, change; owner: a person; expires: 2027-01-31T00:00:00Z", "workloads, sites, teams: for these alone. The token is shown once."}},
}

// row is a line of the list: a section, or an entry of one.
type row struct {
	section section
	name    string // of an entry; empty for the section itself
	value   map[string]any
}

// Model is the list of all entries with a cursor.
type Model struct {
	desk   *screen.Desk
	rows   []row
	links  []status.Link
	policy string // the link whose line.yaml says what may happen; empty where the settings do
	failed string // why nothing can be shown
	line   string
	now    time.Time
	list   kit.List
	rowsAt int
	room   int
	fresh  string                 // an entry that was just written, by its section and name
	shown  atomic.Pointer[string] // a secret that is shown this once
}

// Open asks for the settings.
func Open(d *screen.Desk, s status.Snapshot, _ berth.ID) (screen.Screen, tea.Cmd) {
	m := &Model{desk: d, line: s.Line, now: s.Now, links: s.Links}
	if d.Settings == nil {
		m.failed = elsewhere
		return m, nil
	}
	return m, m.fetch()
}

// At opens the settings of a line at an entry of a section.
func At(d *screen.Desk, line string, now time.Time, section, name string) tea.Cmd {
	return d.Open(func(ctx context.Context) (screen.Screen, error) {
		m := &Model{desk: d, line: line, now: now, fresh: section + "/" + name}
		if d.Settings == nil {
			m.failed = elsewhere
			return m, nil
		}
		all, has, err := m.ask(ctx)
		if err == nil {
			m.set(all, has)
			m.choose()
		}
		return m, err
	})
}

// elsewhere is said where settings are not changed from here.
const elsewhere = "The settings are changed where Aditus runs: in settings.yaml, or with aditus settings."

// Change writes an entry of the settings as a change makes it, with all else of it as it is.
func Change(ctx context.Context, d *screen.Desk, of, name string, how func(entry map[string]any)) error {
	all, err := d.Settings.Settings(ctx, d.Who)
	if err != nil {
		return err
	}
	entry, err := config.EntryOf(all, of, name)
	if err != nil {
		return err
	}
	how(entry.Value)
	return d.Settings.PutSettings(ctx, d.Who, nil, entry)
}

// ask asks for what there is.
func (m *Model) ask(ctx context.Context) (all map[string]any, has []control.TokenShown, err error) {
	all, err = m.desk.Settings.Settings(ctx, m.desk.Who)
	if err == nil && m.desk.Tokens != nil {
		has, err = m.desk.Tokens.Tokens(ctx, m.desk.Who)
	}
	return all, has, err
}

// fetch asks for what there is, and shows it.
func (m *Model) fetch() tea.Cmd {
	return m.desk.Fetch(m, func(ctx context.Context) func() tea.Cmd {
		all, has, err := m.ask(ctx)
		return func() tea.Cmd {
			if m.failed = ""; err != nil {
				m.failed = say.Sentence(err.Error())
				return nil
			}
			m.set(all, has)
			m.choose()
			return nil
		}
	})
}

// set lists what there is.
func (m *Model) set(all map[string]any, has []control.TokenShown) {
	m.rows = nil
	m.policy, _ = all["policy"].(string)
	for _, s := range sections {
		if s.name == tokens && m.desk.Tokens == nil {
			continue
		}
		m.rows = append(m.rows, row{section: s})
		if s.name == tokens {
			for _, t := range has {
				m.rows = append(m.rows, row{s, t.Name, tokenValue(t)})
			}
			continue
		}
		switch of := all[s.name].(type) {
		case []any:
			for _, entry := range of {
				if value, ok := entry.(map[string]any); ok {
					key := "name"
					if s.name == "follow" {
						key = "site"
					}
					name, _ := value[key].(string)
					value = maps.Clone(value)
					delete(value, key)
					m.rows = append(m.rows, row{s, name, value})
				}
			}
		case map[string]any:
			for _, name := range slices.Sorted(maps.Keys(of)) {
				value, _ := of[name].(map[string]any)
				m.rows = append(m.rows, row{s, name, value})
			}
		}
	}
}

// choose moves the cursor to what was just written, once it is there.
func (m *Model) choose() {
	if at := slices.IndexFunc(m.rows, func(r row) bool { return m.fresh != "" && r.section.name+"/"+r.name == m.fresh }); at >= 0 {
		m.list.At, m.fresh = at, ""
	}
}

// tokenValue is a token as it is shown.
func tokenValue(t control.TokenShown) map[string]any {
	var scopes []string
	for _, scope := range t.Scopes {
		scopes = append(scopes, string(scope))
	}
	value := map[string]any{"scopes": scopes, "made": t.Made.Local().Format("2 Jan 2006 15:04")}
	for key, list := range map[string][]string{"workloads": t.Workloads, "sites": t.Sites, "teams": t.Teams} {
		if len(list) > 0 {
			value[key] = list
		}
	}
	if t.Owner != "" {
		value["owner"] = t.Owner
	}
	if !t.Expires.IsZero() {
		value["expires"] = t.Expires.Local().Format("2 Jan 2006 15:04")
	}
	value["used"] = "never, as far as it is known"
	if !t.Used.IsZero() {
		value["used"] = t.Used.Local().Format("2 Jan 2006 15:04")
	}
	return value
}

// selected is the row under the cursor.
func (m *Model) selected() (row, bool) {
	if m.list.At < 0 || m.list.At >= len(m.rows) {
		return row{}, false
	}
	return m.rows[m.list.At], true
}

// Berth implements screen.Screen: an entry is no berth.
func (m *Model) Berth() berth.ID { return berth.ID{} }

// Picture implements screen.Screen: there is none.
func (m *Model) Picture() *screen.Picture { return nil }

// Update implements screen.Screen.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case status.Snapshot:
		m.line, m.now, m.links = msg.Line, msg.Now, msg.Links
		if m.desk.Settings != nil {
			return m.fetch()
		}
	case tea.MouseClickMsg:
		from, to := m.list.Window(m.room, len(m.rows))
		if at := from + msg.Y - m.rowsAt; msg.Y >= m.rowsAt && at < to {
			m.list.At = at
		}
	}
	return nil
}

// Keys implements screen.Screen.
func (m *Model) Keys() []screen.Key {
	r, ok := m.selected()
	an := func(does string, is bool) string {
		if !ok || !is {
			return ""
		}
		return does
	}
	entry := ok && r.name != ""
	return []screen.Key{
		screen.List(&m.list, func() int { return len(m.rows) }),
		screen.Bind("enter", "enter", an("write it anew", entry && r.section.name != tokens), "write the entry anew, or a new one under a heading", m.write),
		screen.Bind("N", "N", an("a new "+r.section.one, ok), "a new one of the section", m.add),
		screen.Bind("v", "v", an("try it", entry && (r.section.name == "links" || r.section.name == "sinks")), "try it: does the link answer, does the sink take a test?", m.try),
		screen.Bind("c", "c", an("credential", entry && takesCredential(r.section.name)), "give it another credential, or none", m.credential),
		screen.Bind("W", "W", an("webhook's secret", entry && r.section.name == "links"), "make the secret of the link's webhook, which is shown once", m.hook),
		screen.Bind("X", "X", an("take it out", entry), "take the entry out", m.remove),
	}
}

func takesCredential(section string) bool {
	return slices.Contains([]string{"links", "registries", "sinks", "metrics-stores", "alerts"}, section)
}

// order is that of the keys of an entry, as people write them; others come after these.
var order = []string{"repository", "branch", "tag", "commit", "version", "folder", "every", "automatic", "after", "target", "kind", "link", "until", "owner", "scopes"}

// text is an entry as it is written.
func (r row) text() string {
	node, err := ordered(r.value)
	if err != nil || len(r.value) == 0 {
		return "{}\n"
	}
	text, err := yaml.Marshal(node)
	if err != nil {
		return "{}\n"
	}
	return string(text)
}

// ordered is a mapping with its keys in order.
func ordered(value map[string]any) (*yaml.Node, error) {
	place := func(key string) int {
		if at := slices.Index(order, key); at >= 0 {
			return at
		}
		return len(order)
	}
	node := &yaml.Node{Kind: yaml.MappingNode}
	for _, key := range slices.SortedFunc(maps.Keys(value), func(a, b string) int {
		return cmp.Or(cmp.Compare(place(a), place(b)), cmp.Compare(a, b))
	}) {
		var below yaml.Node
		if err := below.Encode(value[key]); err != nil {
			return nil, err
		}
		if of, is := value[key].(map[string]any); is {
			inner, err := ordered(of)
			if err != nil {
				return nil, err
			}
			below = *inner
		}
		node.Content = append(node.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: key}, &below)
	}
	return node, nil
}

func (m *Model) write(string) tea.Cmd {
	r, ok := m.selected()
	switch {
	case !ok:
		return nil
	case r.name == "":
		return m.add("")
	case r.section.name == tokens:
		m.desk.Say("A token stays what it was made as: make a new one, and take this one out.", true)
		return nil
	}
	return m.entry(r.section, r.name, r.text())
}

// add asks for the name of a new entry, and has it written.
func (m *Model) add(string) tea.Cmd {
	r, ok := m.selected()
	if !ok {
		return nil
	}
	return m.desk.Type(screen.Prompt{
		Label: "The name of the new " + r.section.one + ":",
		Hints: []kit.Hint{{Key: "enter", Does: "write it"}, {Key: "esc", Does: "leave it"}},
		Done: func(name string) tea.Cmd {
			if name = strings.TrimSpace(name); name == "" {
				m.desk.Say("It takes a name.", true)
				return nil
			}
			if there := slices.IndexFunc(m.rows, func(o row) bool { return o.section.name == r.section.name && o.name == name }); there >= 0 {
				m.desk.Say(fmt.Sprintf("There is a %s %s already: enter writes it anew.", r.section.one, name), true)
				m.list.At = there
				return nil
			}
			return m.entry(r.section, name, r.section.first)
		},
	})
}

// entry has an entry written.
func (m *Model) entry(s section, name, text string) tea.Cmd {
	m.fresh = s.name + "/" + name
	return m.desk.Write(screen.Writing{
		Title: s.one + " " + name, Text: text, Notes: s.notes,
		Done: func(ctx context.Context, text string) (string, error) {
			if s.name == tokens {
				return m.makeToken(ctx, name, text)
			}
			value := map[string]any{}
			if err := yaml.Unmarshal([]byte(text), &value); err != nil {
				return "", err
			}
			err := m.desk.Settings.PutSettings(ctx, m.desk.Who, nil, config.Entry{Section: s.name, Name: name, Value: value})
			return fmt.Sprintf("The %s %s is written.", s.one, name), err
		},
	})
}

// makeToken makes a token of what was written.
func (m *Model) makeToken(ctx context.Context, name, text string) (string, error) {
	var n struct {
		Owner     string         `yaml:"owner"`
		Scopes    []policy.Scope `yaml:"scopes"`
		Expires   time.Time      `yaml:"expires"`
		Workloads []string       `yaml:"workloads"`
		Sites     []string       `yaml:"sites"`
		Teams     []string       `yaml:"teams"`
	}
	decoder := yaml.NewDecoder(strings.NewReader(text))
	decoder.KnownFields(true)
	if err := decoder.Decode(&n); err != nil {
		return "", err
	}
	secret, err := m.desk.Tokens.MakeToken(ctx, m.desk.Who, control.NewToken{Name: name, Owner: n.Owner, Scopes: n.Scopes, Expires: n.Expires, Narrow: policy.Narrow{Workloads: n.Workloads, Sites: n.Sites, Teams: n.Teams}})
	if err == nil {
		m.shown.Store(new(fmt.Sprintf("The token %s, shown this once: %s", name, secret)))
	}
	return "The token " + name + " is made.", err
}

func (m *Model) try(string) tea.Cmd {
	r, ok := m.selected()
	if !ok || r.name == "" {
		return nil
	}
	switch r.section.name {
	case "links":
		m.desk.Say("The link "+r.name+" is asked.", false)
		return m.desk.Answer(func(ctx context.Context) (string, error) { return m.desk.Control.Try(ctx, m.desk.Who, r.name) })
	case "sinks":
		m.desk.Say("The sink "+r.name+" is told.", false)
		return m.desk.Answer(func(ctx context.Context) (string, error) {
			return "The sink " + r.name + " took the test.", m.desk.Control.TestSink(ctx, m.desk.Who, r.name)
		})
	}
	return nil
}

// credential asks for a user and a password or a token, which is kept encrypted.
func (m *Model) credential(string) tea.Cmd {
	r, ok := m.selected()
	if !ok || r.name == "" || !takesCredential(r.section.name) {
		return nil
	}
	name, _ := config.Entry{Section: r.section.name, Name: r.name, Value: r.value}.Uses()
	if name == "" {
		m.desk.Say(fmt.Sprintf("The %s %s says no credential: enter, and write credential: NAME.", r.section.one, r.name), true)
		return nil
	}
	repository, _ := r.value["repository"].(string)
	return m.desk.AskCredential(m, name, "to forget the one that there is", config.Link{Repository: repository}.SSH(), func(c *source.Credential) tea.Cmd {
		return m.desk.Answer(func(ctx context.Context) (string, error) {
			said := "The credential " + name + " is kept, encrypted."
			if c == nil || c.Password+c.Key == "" {
				said, c = "The credential "+name+" is forgotten.", nil
			}
			return said, m.desk.Settings.PutCredential(ctx, m.desk.Who, name, c)
		})
	})
}

// hook makes the secret of a link's webhook.
func (m *Model) hook(string) tea.Cmd {
	r, ok := m.selected()
	if !ok || r.section.name != "links" || r.name == "" {
		return nil
	}
	m.desk.Ask(screen.Question{Text: fmt.Sprintf("Make a secret for the webhook of %s? The one before counts no more.", r.name), Do: func(ctx context.Context) (string, error) {
		secret, err := m.desk.Settings.MakeHook(ctx, m.desk.Who, r.name)
		if err == nil {
			m.shown.Store(new(fmt.Sprintf("The secret of %s's webhook, shown this once: %s", r.name, secret)))
		}
		return "It is made.", err
	}})
	return nil
}

// remove takes an entry out, once its name was typed.
func (m *Model) remove(string) tea.Cmd {
	r, ok := m.selected()
	if !ok || r.name == "" {
		return nil
	}
	return m.desk.Type(screen.Prompt{
		Label: removes(r) + " Type " + r.name + " to do it:",
		Hints: []kit.Hint{{Key: "enter", Does: "do it"}, {Key: "esc", Does: "leave it"}},
		Done: func(text string) tea.Cmd {
			if text != r.name {
				m.desk.Say("Nothing was changed: that is not "+r.name+".", true)
				return nil
			}
			return m.desk.Answer(func(ctx context.Context) (string, error) {
				err := errors.New("there are no tokens here")
				switch {
				case r.section.name != tokens:
					err = m.desk.Settings.DropSetting(ctx, m.desk.Who, r.section.name, r.name)
				case m.desk.Tokens != nil:
					err = m.desk.Tokens.RemoveToken(ctx, m.desk.Who, r.name)
				}
				return fmt.Sprintf("The %s %s is taken out.", r.section.one, r.name), err
			})
		},
		Left: func() { m.desk.Say("Nothing was changed.", false) },
	})
}

// removes says what becomes of what an entry is for, once it is taken out.
func removes(r row) string {
	switch r.section.name {
	case "links":
		return fmt.Sprintf("Take out the link %s? What it declared runs on, and is declared no more.", r.name)
	case "sites":
		return fmt.Sprintf("Take out the site %s? What runs there runs on, and is looked after no more.", r.name)
	case tokens:
		return fmt.Sprintf("Take out the token %s? Whoever has it is let in no more, at once.", r.name)
	}
	return fmt.Sprintf("Take out %s of the %s?", r.name, r.section.name)
}
