package tui

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/tui/kit"
	"aditus/internal/words"
)

// menu lists all actions with their letters, and why some are not possible now.
type menu struct {
	actions []words.Action
	at      int
}

func newMenu(actions []words.Action) *menu {
	m := &menu{actions: actions}
	for i, action := range actions {
		if action.Not == nil {
			m.at = i
			break
		}
	}
	return m
}

func (a *App) keyMenu(key string) tea.Cmd {
	m := a.menu
	switch key {
	case "up", "k":
		m.at = max(0, m.at-1)
	case "down", "j":
		m.at = min(len(m.actions)-1, m.at+1)
	case "esc", "space", "q":
		a.menu = nil
	case "enter":
		a.menu = nil
		return a.start(m.actions[m.at])
	default:
		for _, action := range m.actions {
			if action.Key == key {
				a.menu = nil
				return a.start(action)
			}
		}
	}
	return nil
}

// menuAround is how many rows of the screen are not the menu's.
const menuAround = 7

func (m *menu) view(p *kit.Page) {
	rows := min(len(m.actions), max(1, p.H-menuAround))
	from := max(0, min(m.at-rows/2, len(m.actions)-rows)) // the chosen one stays in sight
	top := p.H - 4 - rows
	p.Clear(top, p.H)
	p.Rule(top)
	left := kit.Margin + 1
	p.Put(left, top+1, kit.Dim, "ACTIONS")
	if rows < len(m.actions) {
		p.Put(left+9, top+1, kit.Dim, fmt.Sprintf("%d to %d of %d", from+1, from+rows, len(m.actions)))
	}
	for i, action := range m.actions[from : from+rows] {
		y := top + 2 + i
		i += from
		if i == m.at {
			p.Choose(y)
		}
		key, verb, text, role := kit.New, kit.Bright, action.Means, kit.Text
		if action.Not != nil {
			key, verb, text, role = kit.Dim, kit.Dim, why(action), kit.Dim
		}
		p.Put(left, y, key, action.Key)
		p.Put(left+4, y, verb, string(action.Verb))
		p.PutIn(left+20, y, p.W-left-21, role, text)
	}
	p.Rule(p.H - 2)
	p.Hints(left, p.H-1, p.W, []kit.Hint{{Key: "↑↓ enter", Does: "choose"}, {Key: "esc", Does: "leave"}})
}

// viewHelp tells the keys of the screen that is shown, and what its words mean.
func (a *App) viewHelp(p *kit.Page) {
	p.Clear(2, p.H)
	left := kit.Margin + 1
	var keys [][2]string
	for _, k := range a.shown().Keys() {
		if k.Means != "" {
			keys = append(keys, [2]string{k.Help().Key, k.Means})
		}
	}
	if a.over == nil {
		for _, s := range screens {
			if s.means != "" {
				keys = append(keys, [2]string{s.opens(), s.means})
			}
		}
		keys = append(keys, [2]string{"n", "look now: read Git again at once"}, [2]string{"space", "all actions for the selected berth, and why some are not possible"})
	} else {
		keys = append(keys, [2]string{"esc", "back to the board"})
	}
	keys = append(keys, [2]string{":", "any of it by its name; tab completes"}, [2]string{"ctrl+t", "another theme: dark, light, or the terminal's own colours"}, [2]string{"q", "quit"})
	meanings := [][2]string{
		{"berth", "one workload at one site"}, {"cohort", "the instances at one revision; a rollout has an old and a new one"},
		{"soak", "the least time a stage stays, counted only while the evidence is fresh"}, {"guard", "a rule on a measured signal; a breach takes the site back by itself"},
		{"proving", "full traffic, still under guard; proven once the guards held"}, {"barred", "rolled back here; it does not come again until Git moves on or you lift the bar"},
		{"◌", "absent: declared, and nothing of it is at the site yet"},
		{"drifted", "changed by hand at the site; nothing is overwritten until you say so"},
		{"orphan", "live and ours, but not declared any more; it stays until you remove it"},
	}
	const beside, further = 18, " "
	width := max(1, p.W-left-beside-1)
	var lines [][2]string // a title has no key, and what parts blocks neither
	block := func(title string, rows [][2]string) {
		lines = append(lines, [2]string{"", title})
		for _, row := range rows {
			for i, text := range kit.Wrapped(row[1], width) {
				if i > 0 {
					row[0] = further
				}
				lines = append(lines, [2]string{row[0], text})
			}
		}
		lines = append(lines, [2]string{})
	}
	block("KEYS OF THIS SCREEN", keys)
	acts := [][2]string{}
	b, _ := a.snapshot.Find(a.shown().Berth())
	for _, action := range words.Actions(b) {
		if action.Changes {
			acts = append(acts, [2]string{action.Key, string(action.Verb) + ": " + action.Means})
		}
	}
	block("ACTIONS, ASKED ABOUT ONCE", acts)
	block("WORDS", meanings)
	room := max(1, p.H-5)
	a.helpMore = a.helpTop+room < len(lines)-1
	for i, line := range lines[min(a.helpTop, len(lines)-1):min(a.helpTop+room, len(lines))] {
		if line[0] == "" {
			p.Put(left, 3+i, kit.Dim, line[1])
			continue
		}
		p.Put(left, 3+i, kit.New, line[0])
		p.PutIn(left+beside, 3+i, width, kit.Text, line[1])
	}
	p.Rule(p.H - 2)
	if x := left; a.helpMore {
		x = p.Hints(left, p.H-1, p.W, []kit.Hint{{Key: "↓", Does: "more"}})
		p.Put(x, p.H-1, kit.Dim, "any other key goes back")
		return
	}
	p.Put(left, p.H-1, kit.Dim, "any key goes back")
}

// why tells why something cannot be done: not now, or not by whoever looks.
func why(a words.Action) string {
	if a.Denied {
		return fmt.Sprintf("not yours: %v", a.Not)
	}
	return fmt.Sprintf("not now: %v", a.Not)
}
