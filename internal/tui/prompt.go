package tui

import (
	tea "charm.land/bubbletea/v2"

	"aditus/internal/tui/anatomy"
	"aditus/internal/tui/kit"
)

// askFor asks for a line of text, beginning with what is there already.
func (a *App) askFor(p *prompt, text string) tea.Cmd {
	a.prompt = p
	a.input.SetValue(text)
	a.input.CursorEnd()
	return a.input.Focus()
}

// find searches the board's rows or the log on screen.
func (a *App) find() tea.Cmd {
	hints := []kit.Hint{{Key: "enter", Does: "keep"}, {Key: "esc", Does: "show all"}}
	switch over := a.over.(type) {
	case nil:
		return a.askFor(&prompt{label: "/", hints: hints, typed: a.board.SetFilter, left: func() { a.board.SetFilter("") }}, a.board.Filter())
	case *anatomy.Model:
		return a.askFor(&prompt{label: "/", hints: hints, typed: over.SetFilter, left: func() { over.SetFilter("") }}, over.Filter())
	}
	return nil
}

func (a *App) keyPrompt(msg tea.KeyPressMsg) tea.Cmd {
	p := a.prompt
	leave := func() {
		a.prompt = nil
		a.input.Blur()
	}
	switch key := msg.String(); key {
	case "enter":
		leave()
		if p.done != nil {
			return p.done(a.input.Value())
		}
		return nil
	case "esc":
		leave()
		if p.left != nil {
			p.left()
		}
		return nil
	case "up", "down":
		if a.over == nil {
			a.board.Key(key)
		}
		return nil
	}
	var cmd tea.Cmd
	a.input, cmd = a.input.Update(msg)
	if p.typed != nil {
		p.typed(a.input.Value())
	}
	return cmd
}
