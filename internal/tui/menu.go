package tui

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/tui/anatomy"
	"aditus/internal/tui/bench"
	"aditus/internal/tui/comparison"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/links"
	"aditus/internal/tui/watch"
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

func (m *menu) view(p *kit.Page) {
	top := p.H - 4 - len(m.actions)
	p.Clear(top, p.H)
	p.Rule(top)
	left := kit.Margin + 1
	p.Put(left, top+1, kit.Dim, "ACTIONS")
	for i, action := range m.actions {
		y := top + 2 + i
		if i == m.at {
			p.Choose(y)
		}
		key, verb, text, role := kit.New, kit.Bright, action.Means, kit.Text
		if action.Not != nil {
			key, verb, text, role = kit.Dim, kit.Dim, fmt.Sprintf("not now: %v", action.Not), kit.Dim
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
	keys := [][2]string{
		{"arrows, hjkl", "move"}, {"enter", "go in: the watch of the newest rollout"}, {"esc", "go back"},
		{"tab, 1 to 9", "go to what needs you"}, {"/", "find workloads by name, version or state"},
		{"c", "compare applied, declared and live"}, {"i", "look inside: parts, instances, logs"}, {"L", "links to repositories and registries"},
		{"n", "look now: read Git again at once"}, {"space", "all actions for the selected berth, and why some are not possible"}, {"q", "quit"},
	}
	switch a.over.(type) {
	case *comparison.Model:
		keys = [][2]string{
			{"arrows, jk", "move"}, {"f", "every field, or only what differs"}, {"z, enter", "fold a part"}, {"Z", "only this part, or all again"}, {"m", "mark a part: a sync then takes only those that are marked"},
			{"y", "sync, asked about once"}, {"b", "compare with another branch, commit or revision; nothing of it is taken"}, {"p", "copy as a JSON Patch (RFC 6902)"}, {"esc", "back to the board"}, {"q", "quit"},
		}
	case *anatomy.Model:
		keys = [][2]string{
			{"arrows, jk", "move in the tree"}, {"tab, 1 to 5", "the inspector's pages: events, log, environment, probes, signals"}, {"z, enter", "fold"},
			{"f", "pause the log, or follow it again"}, {"[ and ]", "back and on in the log"}, {"/", "find in the log"}, {"p", "write the tree as SVG and PDF"}, {"esc", "back to the board"}, {"q", "quit"},
		}
	case *links.Model:
		keys = [][2]string{
			{"arrows, jk", "move"}, {"v", "try it: does it answer, and what?"}, {"n", "look now"}, {"+ and -", "poll more or less often, from now on"}, {"t", "accept a rewritten branch as it is now"}, {"esc", "back to the board"}, {"q", "quit"},
		}
	case *bench.Model:
		keys = [][2]string{
			{"↑↓, j k", "move the limit; page keys move it further"}, {"=, home", "as it is declared"}, {"←→, h l", "show more or less time"}, {"[ and ]", "the release before and after"},
			{"tab", "the next guard"}, {"o", "offer the limit as a commit on a branch"}, {"p", "write this picture as SVG and PDF"}, {"esc", "back to the board"}, {"q", "quit"},
		}
	case *watch.Model:
		keys = [][2]string{
			{"←→, h l", "move through time; the values under the cursor are told beside"}, {"end", "back to now"}, {"↑↓, j k", "older and newer events"},
			{"p", "write this picture as SVG and PDF"}, {"esc", "back to the board"}, {"space", "all actions for this berth"}, {"q", "quit"},
		}
	}
	meanings := [][2]string{
		{"berth", "one workload at one site"}, {"cohort", "the instances at one revision; a rollout has an old and a new one"},
		{"soak", "the least time a stage stays, counted only while the evidence is fresh"}, {"guard", "a rule on a measured signal; a breach takes the site back by itself"},
		{"proving", "full traffic, still under guard; proven once the guards held"}, {"barred", "rolled back here; it does not come again until Git moves on or you lift the bar"},
		{"drifted", "changed by hand at the site; nothing is overwritten until you say so"},
		{"orphan", "live and ours, but not declared any more; it stays until you remove it"},
	}
	y := 3
	block := func(title string, rows [][2]string) {
		p.Put(left, y, kit.Dim, title)
		y++
		for _, row := range rows {
			if y >= p.H-2 {
				return
			}
			p.Put(left, y, kit.New, row[0])
			p.PutIn(left+18, y, p.W-left-19, kit.Text, row[1])
			y++
		}
		y++
	}
	block("KEYS OF THIS SCREEN", keys)
	acts := [][2]string{}
	for _, action := range words.Actions(a.berth()) {
		if action.Changes {
			acts = append(acts, [2]string{action.Key, string(action.Verb) + ": " + action.Means})
		}
	}
	block("ACTIONS, ASKED ABOUT ONCE", acts)
	block("WORDS", meanings)
	p.Rule(p.H - 2)
	p.Put(left, p.H-1, kit.Dim, "any key goes back")
}
