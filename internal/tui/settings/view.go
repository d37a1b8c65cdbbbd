package settings

import (
	"fmt"
	"strings"
	"time"

	"aditus/internal/core/say"
	"aditus/internal/tui/kit"
)

// View draws the entries, and the selected one as it is written. The page's last two rows are left to the bar of keys.
func (m *Model) View(p *kit.Page) {
	p.Head(m.line, "settings", m.now.Local().Format(time.TimeOnly))
	left := kit.Margin + 1
	if m.failed != "" {
		p.Wrap(left, 3, p.W-2*left, 6, kit.Bad, m.failed)
		return
	}
	if len(m.rows) == 0 {
		p.Put(left, 3, kit.Dim, "They are asked for…")
		return
	}
	details := min(max(9, p.H/3), p.H-10)
	m.rowsAt, m.room = 3, max(1, p.H-3-details-3)
	name := 8
	for _, r := range m.rows {
		name = max(name, kit.Width(r.name), len(r.section.name)-2)
	}
	name = min(name, p.W/4)
	from, to := m.list.Window(m.room, len(m.rows))
	p.More(2, from, to, len(m.rows))
	for i := from; i < to; i++ {
		r, y := m.rows[i], m.rowsAt+i-from
		if i == m.list.At {
			p.Choose(y)
		}
		if r.name == "" {
			p.Put(left, y, kit.Bright, strings.ToUpper(strings.ReplaceAll(r.section.name, "-", " ")))
			text := r.section.means
			if i+1 == len(m.rows) || m.rows[i+1].name == "" {
				text = "none · " + text
			}
			p.PutIn(left+2+name+2, y, p.W-left-name-6, kit.Dim, text)
			continue
		}
		text, role := m.summary(r), kit.Dim
		if wrong := m.wrong(r); wrong != "" {
			p.Put(left, y, kit.Bad, "┃")
			text, role = wrong, kit.Bad
		}
		p.PutIn(left+2, y, name, kit.Text, r.name)
		p.PutIn(left+2+name+2, y, p.W-left-name-6, role, text)
	}
	m.detail(p, min(m.rowsAt+to-from+1, p.H-2-details), p.H-2)
}

// wrong tells what keeps a link from answering; empty for all else.
func (m *Model) wrong(r row) string {
	for _, l := range m.links {
		if r.section.name == "links" && l.Name == r.name && l.Problem != nil {
			return l.Problem.Text
		}
	}
	return ""
}

// detail shows the selected entry as it is written.
func (m *Model) detail(p *kit.Page, y, end int) {
	r, ok := m.selected()
	if !ok {
		return
	}
	left := kit.Margin + 1
	p.Rule(y)
	y++
	if secret := m.shown.Load(); secret != nil {
		y = p.Wrap(left, y, p.W-2*left, 2, kit.Asks, *secret)
	}
	if r.name == "" {
		p.Put(left, y, kit.Bright, say.Capital(strings.ReplaceAll(r.section.name, "-", " ")))
		y = p.Wrap(left, y+2, p.W-2*left, 2, kit.Text, say.Sentence(r.section.means))
		for _, note := range r.section.notes {
			if y < end {
				y = p.Wrap(left, y, p.W-2*left, min(2, end-y), kit.Dim, note)
			}
		}
		return
	}
	p.Put(left, y, kit.Bright, r.section.one+" "+r.name)
	lines := strings.Split(strings.TrimSuffix(r.text(), "\n"), "\n")
	room := end - y - 2
	for i, line := range lines {
		if i == room-1 && len(lines) > room {
			p.Put(left, y+2+i, kit.Dim, fmt.Sprintf("… %d lines more; enter shows all", len(lines)-i))
			return
		}
		p.PutIn(left, y+2+i, p.W-2*left, kit.Text, line)
	}
}

// summary is an entry in one line.
func (m *Model) summary(r row) string {
	text := func(of map[string]any, keys ...string) (all []string) {
		for _, key := range keys {
			switch value := of[key].(type) {
			case nil:
			case bool:
				if value {
					all = append(all, key)
				}
			case time.Time:
				all = append(all, key+" "+value.Format("Mon 2 Jan 2006 15:04"))
			case string:
				if every, err := time.ParseDuration(value); err == nil {
					value = say.Span(every)
				}
				if value != "" {
					all = append(all, key+" "+value)
				}
			case []string:
				all = append(all, key+" "+strings.Join(value, ", "))
			default:
				all = append(all, fmt.Sprintf("%s %v", key, value))
			}
		}
		return all
	}
	below := func(key string) map[string]any {
		of, _ := r.value[key].(map[string]any)
		return of
	}
	switch r.section.name {
	case "links":
		return strings.Join(append([]string{fmt.Sprint(r.value["repository"])}, text(r.value, "branch", "tag", "commit", "version", "folder", "every")...), ", ")
	case "sites":
		target := below("target")
		how := "by hand"
		switch {
		case r.value["automatic"] == true:
			how = "by itself"
		case m.policy != "":
			how = "as line.yaml of " + m.policy + " says"
		}
		return strings.Join(append(append([]string{fmt.Sprint(target["kind"])}, text(target, "listen", "context", "namespace", "machine")...), append([]string{how}, text(r.value, "after")...)...), ", ")
	case "sinks":
		for _, kind := range []string{"webhook", "mail", "chat", "program"} {
			if of := below(kind); of != nil {
				return strings.Join(append([]string{kind}, text(of, "url", "server", "to")...), ", ")
			}
		}
	case tokens:
		return strings.Join(append(text(r.value, "owner", "scopes", "workloads", "sites", "teams", "expires"), text(r.value, "used")...), "; ")
	}
	return strings.Join(text(r.value, "url", "page", "link", "branch", "until", "plain", "skip", "workload", "site"), ", ")
}
