package connect

import (
	"fmt"
	"strings"
	"time"

	"aditus/internal/core/say"
	"aditus/internal/tui/kit"
)

// row is a line: what it is about, the sentence, and whether it is true, being asked, or still open.
type row struct {
	about, text string
	mark        string
	role        kit.Role
}

// Marks of lines.
const (
	isTrue   = "✓"
	isAsked  = "▸"
	isOpen   = "·"
	isChosen = "●"
	isChoice = "○"
)

// questions are the lines as they are now.
func (m *Model) questions() []row {
	g, o := m.given, m.offer
	open := func(about, text string) row { return row{about, text, isOpen, kit.Dim} }
	done := func(about, format string, args ...any) row {
		return row{about, fmt.Sprintf(format, args...), isTrue, kit.Text}
	}
	rows := make([]row, lines)
	rows[whereFrom] = open("where from", "an address: https://HOST/PATH, ssh, USER@HOST:PATH, a folder of this machine, or oci://HOST/PATH")
	rows[howIn] = open("how to get in", "without a credential; enter gives one, which is kept encrypted")
	rows[branch] = open("which branch", "those that are found there")
	rows[what] = open("what", "the folders in it that have something to run")
	rows[byWhom] = done("by whom", "by hand: what Git declares waits until somebody syncs it")
	rows[name] = open("called", "by the last part of its address")
	if g.automatic {
		rows[byWhom] = done("by whom", "by itself: new sites take what Git declares, in the stages that it declares")
	}
	if g.asked.Credential != nil {
		rows[howIn] = done("how to get in", "%s; kept encrypted, and never shown again", who(g.asked.Credential.User))
	}
	if called := m.linkName(); called != "" {
		rows[name] = done("called", "%s", called)
	}
	switch {
	case g.asked.Repository == "":
		return rows
	case m.asking:
		rows[whereFrom] = row{"where from", g.asked.Repository + " is asked…", isAsked, kit.New}
		return rows
	case o == nil:
		rows[whereFrom] = row{"where from", g.asked.Repository, isOpen, kit.Bad}
		return rows
	}
	rows[whereFrom] = done("where from", "%s answers in %s: “%s” by %s is the newest", o.Where, say.Took(o.Took), o.Head.Subject, o.Head.Author)
	if rows[branch] = done("which branch", "%s, at %.7s", o.Branch, o.Head.Hash); m.bundle() {
		rows[branch] = done("which version", "%s, at %.19s", or(g.asked.Version, "the newest"), o.Head.Hash)
	} else if n := len(o.Branches); n > 1 {
		rows[branch].text += fmt.Sprintf("; %d more to choose from", n-1)
	}
	if len(o.Folders) == 0 {
		rows[what] = row{"what", "nothing in it can be run: a declaration is a .yaml file that begins with aditus: 1", isOpen, kit.Bad}
		return rows
	}
	rows[what] = done("what", "%s of %s", or(m.chosen().Folder, "."), say.Count(len(o.Folders), "folder")+" with something to run")
	for _, site := range m.newSites() {
		t := m.target(site)
		text := t.Means
		if n := len(o.Targets[site]); n > 1 {
			text += fmt.Sprintf("; or %s", m.others(site))
		}
		if t.Wrong != "" {
			rows = append(rows, row{site, say.Sentence(t.Wrong) + " Choose " + m.others(site) + ", or mend it.", isOpen, kit.Bad})
			continue
		}
		rows = append(rows, done(site, "%s", text))
	}
	for _, v := range m.variables() {
		own := say.Few(v.Values, 3)
		used := "; used by " + say.Few(v.Workloads, 3)
		if value, is := g.variables[v.Name]; is {
			rows = append(rows, row{v.Name, fmt.Sprintf("%s, instead of %s%s", value, own, used), isTrue, kit.New})
			continue
		}
		rows = append(rows, done(v.Name, "%s%s", own, used))
	}
	return rows
}

// others are the other kinds that a new site can be of.
func (m *Model) others(site string) string {
	var kinds []string
	for _, t := range m.offer.Targets[site] {
		if t.Kind != m.target(site).Kind {
			kinds = append(kinds, t.Kind)
		}
	}
	return say.Or(kinds)
}

func who(user string) string {
	if user == "" {
		return "with a token"
	}
	return "as " + user + ", with a password or token"
}

func or(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

// View draws the questions, what is found, and what will be done. The page's last two rows are left to the bar of keys.
func (m *Model) View(p *kit.Page) {
	p.Head(m.line, "connect", m.now.Local().Format(time.TimeOnly))
	left, end := kit.Margin+1, p.H-2
	y := 3
	if m.given.asked.Repository == "" && len(m.sites) == 0 {
		y = p.Wrap(left, y, p.W-2*left, 3, kit.Text, "Aditus brings what Git declares to the sites where it runs, in staged steps, watches its health and metrics through every step, and takes a site back by itself when a limit is breached. Connect a repository that declares something; nothing is changed by looking.") + 1
	}
	const about = 16
	rows := m.questions()
	bottom := max(y+6, end-min(13, p.H/3))
	from, to := m.list.Window(max(1, bottom-y), len(rows))
	for i := from; i < to; i++ {
		r := rows[i]
		if i == m.list.At {
			p.Choose(y)
		}
		mark := kit.Clear
		if r.mark != isTrue {
			mark = r.role
		}
		p.PutIn(left, y, about-1, kit.Dim, r.about)
		p.Put(left+about, y, mark, r.mark)
		p.PutIn(left+about+2, y, p.W-left-about-3, r.role, r.text)
		y++
		if i == what {
			y = m.folders(p, y, bottom)
		}
	}
	if m.wrong != "" {
		y = p.Wrap(left+about+2, y+1, p.W-left-about-4, max(1, bottom-y), kit.Bad, m.wrong)
	}
	m.will(p, max(y+1, bottom), end)
}

// folders lists the folders, with what is in each.
func (m *Model) folders(p *kit.Page, y, bottom int) int {
	if m.offer == nil || m.asking {
		return y
	}
	const indent = 20
	for i, at := range m.offer.Folders {
		if y >= bottom-2 && i != m.given.folder {
			continue
		}
		mark, role := isChoice, kit.Dim
		if i == m.given.folder {
			mark, role = isChosen, kit.Text
		}
		var names []string
		for _, w := range at.Workloads {
			names = append(names, w.Name)
		}
		text := say.Count(len(at.Workloads), "workload") + " for " + say.List(at.Sites()) + ": " + strings.Join(names, ", ")
		if len(at.Workloads) == 0 {
			text = say.Count(len(at.Objects), "object") + " of a cluster: " + strings.Join(at.Objects, ", ")
		}
		p.Put(indent, y, role, mark)
		x := p.PutIn(indent+2, y, 24, role, or(at.Folder, "."))
		p.PutIn(max(x+2, indent+26), y, p.W-max(x+2, indent+26)-2, role, text)
		y++
	}
	return y
}

// will says what will be done.
func (m *Model) will(p *kit.Page, y, end int) {
	left := kit.Margin + 1
	p.Rule(y)
	p.Put(left, y+1, kit.Bright, "What will be done")
	y += 2
	tell := func(role kit.Role, text string) {
		if y < end {
			y = p.Wrap(left, y, p.W-2*left, min(3, end-y), role, text)
		}
	}
	if missing := m.ready(); missing != "" {
		tell(kit.Dim, "Nothing yet: "+missing+".")
		return
	}
	at, sites := m.chosen(), m.newSites()
	berths := 0
	for _, w := range at.Workloads {
		berths += len(w.Sites)
	}
	text := fmt.Sprintf("settings.yaml gets the link %s", m.linkName())
	if len(sites) > 0 {
		text += fmt.Sprintf(" and %s: %s", say.Count(len(sites), "site"), say.List(sites))
	}
	if given := m.overridden(); len(given) > 0 {
		text += ", with " + say.Count(len(given), "variable") + " of your own"
	}
	if m.given.asked.Credential != nil {
		text += "; the credential is kept encrypted beside it"
	}
	tell(kit.Text, text+".")
	how := "Nothing runs by that: each of them waits as absent until somebody syncs it, y on the board."
	if m.given.automatic && len(sites) > 0 {
		how = "New sites take them at once, in the stages that they declare."
	}
	tell(kit.Text, fmt.Sprintf("The first look finds %s of %s. %s", say.Count(berths, "berth"), say.Count(len(at.Workloads), "workload"), how))
	tell(kit.New, "w writes it.")
}
