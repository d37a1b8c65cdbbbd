package tui

import (
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/core/say"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/screen"
	"aditus/internal/words"
)

// command is something that can be done by its name, for those who do not know its key.
type command struct {
	name, key string
	do        func() tea.Cmd
}

// mostCompletions is how many names are shown beside what is typed.
const mostCompletions = 5

// commands are all that can be done now: the actions at the selected berth, the screens, and what is always there.
func (a *App) commands() (all []command) {
	at := a.shown().Berth()
	if b, ok := a.snapshot.Find(at); ok {
		for _, action := range words.Actions(b) {
			all = append(all, command{string(action.Verb), action.Key, func() tea.Cmd { return a.start(action) }})
		}
	}
	for _, s := range screens {
		if s.name != "" {
			all = append(all, command{s.name, s.opens(), func() tea.Cmd { return a.open(s.open, at) }})
		}
	}
	return append(all,
		command{"board", "esc", func() tea.Cmd { a.over = nil; return nil }},
		command{"help", "?", func() tea.Cmd { a.help = true; return nil }},
		command{"theme", "ctrl+t", func() tea.Cmd { return a.key(tea.KeyPressMsg{Code: 't', Mod: tea.ModCtrl}) }},
		command{"quit", "q", func() tea.Cmd { return tea.Quit }},
	)
}

// askCommand has a name typed, with those that it may be beside it.
func (a *App) askCommand() tea.Cmd {
	all := a.commands()
	fitting := func(text string) (fits []command) {
		text = strings.ToLower(strings.TrimSpace(text))
		for _, c := range all {
			if strings.HasPrefix(c.name, text) {
				fits = append(fits, c)
			}
		}
		if exact := slices.IndexFunc(fits, func(c command) bool { return c.name == text }); exact >= 0 {
			return fits[exact : exact+1]
		}
		return fits
	}
	p := screen.Prompt{Label: ":"}
	show := func(text string) {
		a.prompt.Hints = nil
		fits := fitting(text)
		for _, c := range fits[:min(len(fits), mostCompletions)] {
			a.prompt.Hints = append(a.prompt.Hints, kit.Hint{Key: c.key, Does: c.name})
		}
		if len(fits) > mostCompletions {
			a.prompt.Hints = append(a.prompt.Hints, kit.Hint{Key: "tab", Does: "…"})
		}
	}
	p.Typed = show
	p.Complete = func(text string) string {
		fits := fitting(text)
		if len(fits) == 0 {
			return text
		}
		common := fits[0].name
		for _, c := range fits {
			for !strings.HasPrefix(c.name, common) {
				common = common[:len(common)-1]
			}
		}
		return common
	}
	p.Done = func(text string) tea.Cmd {
		fits := fitting(text)
		switch {
		case strings.TrimSpace(text) == "":
			return nil
		case len(fits) == 1:
			return fits[0].do()
		case len(fits) == 0:
			a.say("There is nothing called "+text+".", true)
			return nil
		}
		var names []string
		for _, c := range fits {
			names = append(names, c.name)
		}
		a.say("That may be "+say.Or(names)+".", true)
		return nil
	}
	cmd := a.typed(p)
	show("")
	return cmd
}
