package connect

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"aditus/internal/core/say"
	"aditus/internal/source"
	"aditus/internal/tui/kit"
	"aditus/internal/words"
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
func (m *Model) questions() (rows []row) {
	for _, at := range m.lines() {
		rows = append(rows, m.question(at))
	}
	return rows
}

func (m *Model) question(at line) row {
	g, o := m.given, m.offer
	open := func(about, text string) row { return row{about, text, isOpen, kit.Dim} }
	done := func(about, format string, args ...any) row {
		return row{about, fmt.Sprintf(format, args...), isTrue, kit.Text}
	}
	switch at.asks {
	case whereFrom:
		switch {
		case g.Asked.Repository == "":
			return open("where from", "an address: https://HOST/PATH, ssh, USER@HOST:PATH, a folder of this machine, or oci://HOST/PATH")
		case m.asking:
			return row{"where from", g.Asked.Repository + " is asked…", isAsked, kit.New}
		case o == nil:
			return row{"where from", g.Asked.Repository, isOpen, kit.Bad}
		}
		return done("where from", "%s answers in %s: “%s” by %s is the newest", o.Where, say.Took(o.Took), o.Head.Subject, o.Head.Author)
	case howIn:
		if c := g.Asked.Credential; c != nil {
			return done("how to get in", "%s; kept encrypted, and never shown again", who(*c))
		}
		return open("how to get in", "without a credential; enter gives one, which is kept encrypted")
	case branch:
		switch {
		case o == nil && m.bundle():
			return open("which version", cmp.Or(g.Asked.Version, "1.4.2, a range such as ^1.4, or a digest; enter takes one"))
		case o == nil:
			return open("which branch", "those that are found there")
		case m.bundle():
			return done("which version", "%s, at %.19s", g.Asked.Version, o.Head.Hash)
		}
		r := done("which branch", "%s, at %.7s", o.Branch, o.Head.Hash)
		if n := len(o.Branches); n > 1 {
			r.text += fmt.Sprintf("; %d more to choose from", n-1)
		}
		return r
	case what:
		switch {
		case o == nil:
			return open("what", "the folders in it that have something to run")
		case m.chosen() == nil:
			return row{"what", "nothing in it can be run: a declaration is a .yaml file that begins with aditus: 1", isOpen, kit.Bad}
		}
		return done("what", "%s of %s", cmp.Or(m.chosen().Folder, "."), say.Count(len(o.Folders), "folder")+" with something to run")
	case workload:
		return done("as workload", "%s: all of these objects together", m.workload())
	case itsSites:
		if len(g.Asked.Sites) == 0 {
			return open("at which sites", "enter names one or several"+m.known())
		}
		return done("at which sites", "%s", say.List(g.Asked.Sites))
	case byWhom:
		if g.Automatic {
			return done("by whom", "by itself: new sites take what Git declares, in the stages that it declares")
		}
		return done("by whom", "by hand: what Git declares waits until somebody syncs it")
	case called:
		if called := m.linkName(); called != "" {
			return done("called", "%s", called)
		}
		return open("called", "by the last part of its address")
	case runsOn:
		return m.runsOn(at.of)
	}
	for _, v := range m.variables() {
		if v.Name != at.of {
			continue
		}
		own, used := say.Few(v.Values, 3), "; used by "+say.Few(v.Workloads, 3)
		if value, is := g.Asked.Variables[v.Name]; is {
			return row{v.Name, fmt.Sprintf("%s, instead of %s%s", value, own, used), isTrue, kit.New}
		}
		return done(v.Name, "%s%s", own, used)
	}
	return row{}
}

// runsOn tells what a new site is to run on.
func (m *Model) runsOn(site string) row {
	t := m.target(site)
	switch {
	case t.Kind == "" && t.Wrong == "":
		return row{site, "what it runs on is asked for…", isAsked, kit.New}
	case t.Wrong != "":
		if t.Means == "" {
			return row{site, say.Sentence(t.Wrong), isOpen, kit.Bad}
		}
		wrong := t.Wrong
		if !strings.Contains(wrong, t.Means) {
			wrong = t.Means + ": " + wrong
		}
		return row{site, say.Sentence(wrong) + " Write it otherwise with enter" + m.others(site, ", or choose ") + ".", isOpen, kit.Bad}
	}
	return row{site, t.Means + m.others(site, "; or "), isTrue, kit.Text}
}

// known lists sites that there are already, after a colon; nothing where there are none.
func (m *Model) known() string {
	if len(m.sites) == 0 {
		return "; those that there are not yet are added"
	}
	return ": " + say.Few(m.sites, 6) + ", or new ones"
}

// others are the other kinds that a new site can be of, after a lead; empty where there are none.
func (m *Model) others(site, lead string) string {
	var kinds []string
	for _, t := range m.offer.Targets[site] {
		if t.Kind != m.target(site).Kind {
			kinds = append(kinds, t.Kind)
		}
	}
	if len(kinds) == 0 {
		return ""
	}
	return lead + say.Or(kinds)
}

func who(c source.Credential) string {
	switch {
	case c.Key != "":
		return "with an ssh key"
	case c.User == "":
		return "with a token"
	}
	return "as " + c.User + ", with a password or token"
}

// View draws the questions, what is found, and what will be done. The page's last two rows are left to the bar of keys.
func (m *Model) View(p *kit.Page) {
	p.Head(m.line, "connect", m.now.Local().Format(time.TimeOnly))
	left, end := kit.Margin+1, p.H-2
	y := 3
	if m.given.Asked.Repository == "" && len(m.sites) == 0 {
		y = p.Wrap(left, y, p.W-2*left, 3, kit.Text, "Aditus brings what Git declares to the sites where it runs, in staged steps, watches its health and metrics through every step, and takes a site back by itself when a limit is breached. Connect a repository that declares something; nothing is changed by looking.") + 1
	}
	const about = 16
	lines, rows := m.lines(), m.questions()
	bottom := max(y+6, end-min(m.willTake(p.W-2*left), (p.H-y)/2)-2)
	rowsOf := func(r row) int {
		if r.mark == isTrue {
			return 1
		}
		return min(mostRows, kit.Rows(r.text, p.W-left-about-3))
	}
	folders := 0
	if m.offer != nil {
		folders = len(m.offer.Folders)
	}
	for room := bottom - y - folders; m.top < m.list.At && height(rows[m.top:m.list.At+1], rowsOf) > room; {
		m.top++
	}
	m.top = min(m.top, m.list.At, len(rows)-1)
	for i := m.top; i < len(rows) && y < bottom; i++ {
		r := rows[i]
		for row := range rowsOf(r) {
			if i == m.list.At && y+row < bottom {
				p.Choose(y + row)
			}
		}
		mark := kit.Clear
		if r.mark != isTrue {
			mark = r.role
		}
		p.PutIn(left, y, about-1, kit.Dim, r.about)
		p.Put(left+about, y, mark, r.mark)
		y = p.Wrap(left+about+2, y, p.W-left-about-3, min(rowsOf(r), bottom-y), r.role, r.text)
		if lines[i].asks == what {
			y = m.folders(p, y, bottom)
		}
	}
	if m.wrong != "" {
		y = p.Wrap(left+about+2, y+1, p.W-left-about-4, max(1, bottom-y), kit.Bad, m.wrong)
	}
	m.will(p, y+1, end)
}

// mostSites are so many that are named where a workload would be alike.
const mostSites = 6

// mostRows are so many that a line may take that says what is to be mended.
const mostRows = 3

// height is how many rows lines take.
func height(all []row, of func(row) int) (n int) {
	for _, r := range all {
		n += of(r)
	}
	return n
}

// folders lists the folders, with what is in each.
func (m *Model) folders(p *kit.Page, y, bottom int) int {
	if m.offer == nil {
		return y
	}
	const indent = 20
	for i, at := range m.offer.Folders {
		is := &m.offer.Folders[i] == m.chosen()
		if y >= bottom-2 && !is {
			continue
		}
		mark, role := isChoice, kit.Dim
		if is {
			mark, role = isChosen, kit.Text
		}
		var names []string
		for _, w := range at.Workloads {
			names = append(names, w.Name)
		}
		text := say.Count(len(at.Workloads), "workload") + " for " + say.List(at.Sites()) + ": " + strings.Join(names, ", ")
		if len(at.Workloads) == 0 {
			text = say.Count(len(at.Objects), "object") + " of a cluster: " + words.ObjectsByKind(at.Objects)
		}
		p.Put(indent, y, role, mark)
		x := p.PutIn(indent+2, y, 24, role, cmp.Or(at.Folder, "."))
		p.PutIn(max(x+2, indent+26), y, p.W-max(x+2, indent+26)-2, role, text)
		y++
	}
	return y
}

// told is a sentence of what will be done.
type told struct {
	role kit.Role
	text string
}

// sentences say what will be done.
func (m *Model) sentences() (all []told) {
	tell := func(role kit.Role, format string, args ...any) {
		all = append(all, told{role, fmt.Sprintf(format, args...)})
	}
	if missing := m.ready(); missing != "" {
		tell(kit.Dim, "Nothing yet: %s.", missing)
	}
	if m.asking || m.chosen() == nil || len(m.goesTo()) == 0 {
		return all // or what was offered is of what was asked before
	}
	sites := m.newSites()
	text := "settings.yaml gets the link " + m.linkName()
	if len(sites) > 0 {
		text += fmt.Sprintf(" and %s: %s", say.Count(len(sites), "site"), say.List(sites))
	}
	if given := m.overridden(); len(given) > 0 {
		text += ", with " + say.Count(len(given), "variable") + " of your own"
	}
	if m.given.Asked.Credential != nil {
		text += "; the credential is kept encrypted beside it"
	}
	tell(kit.Text, "%s.", text)
	if m.offer.May != nil {
		text := "It may declare what it does now (may:)"
		if narrowed := m.offer.Narrowed; len(narrowed) > 0 {
			text += ", and so may " + say.List(narrowed) + " from then on"
		}
		tell(kit.Text, "%s, as there are several links.", text)
	}
	if wrong := m.offer.Wrong; len(wrong) > 0 {
		tell(kit.Bad, "Nothing of it is taken until this is mended:")
		for _, text := range wrong {
			tell(kit.Bad, "  %s", text)
		}
		return all
	}
	if len(m.offer.Berths) == 0 {
		return all
	}
	how := "Nothing runs by that: each waits until somebody syncs it, y on the board. A first sync brings:"
	switch {
	case len(sites) == 0:
		how = "Its sites take it as they take all. A first sync brings:"
	case !m.given.Automatic && len(sites) < len(m.goesTo()):
		how = "New sites wait until somebody syncs them, y on the board; those that there are take it as they take all. A first sync brings:"
	case m.given.Automatic && len(sites) > 0:
		how = "New sites take it at once, in the stages that it declares:"
	}
	tell(kit.Text, "The first look finds %s. %s", say.Count(len(m.offer.Berths), "berth"), how)
	for _, f := range m.alike() {
		tell(kit.New, "  %s", f)
	}
	for _, f := range m.offer.Berths {
		at := fmt.Sprintf("  %s at %s: ", f.Workload, f.Site)
		for _, text := range f.Refused {
			tell(kit.Bad, "  %s cannot be at %s: %s", f.Workload, f.Site, text)
		}
		for _, text := range f.Told {
			tell(kit.Asks, "%s%s", at, text)
		}
	}
	for _, text := range m.offer.Warnings {
		tell(kit.Asks, "  %s", text)
	}
	return all
}

// alike tells what would be where, one sentence for all sites of a workload where it is the same.
func (m *Model) alike() (all []string) {
	var keys []string
	sites := map[string][]string{}
	for _, f := range m.offer.Berths {
		key := strings.TrimSpace(f.Workload+" "+f.Version) + " at \x00: " + strings.Join(f.Parts, ", ")
		if sites[key] == nil {
			keys = append(keys, key)
		}
		sites[key] = append(sites[key], f.Site)
	}
	for _, key := range keys {
		all = append(all, strings.Replace(key, "\x00", say.Few(sites[key], mostSites), 1))
	}
	return all
}

// willTake is how many rows it takes to say what will be done.
func (m *Model) willTake(width int) int {
	n := 2
	for _, s := range m.sentences() {
		n += min(mostRows, kit.Rows(s.text, width))
	}
	return n
}

// will says what will be done.
func (m *Model) will(p *kit.Page, y, end int) {
	left := kit.Margin + 1
	p.Rule(y)
	p.Put(left, y+1, kit.Bright, "What will be done")
	y += 2
	all := m.sentences()
	for i, s := range all {
		room := end - y
		if i+1 < len(all) {
			room-- // for how many more there are
		}
		if room <= 0 {
			p.Put(left, y, kit.Dim, fmt.Sprintf("and %d more", len(all)-i))
			return
		}
		y = p.Wrap(left, y, p.W-2*left, min(mostRows, room), s.role, s.text)
	}
}
