package tui

import (
	tea "charm.land/bubbletea/v2"

	"aditus/internal/tui/screen"
)

// typed asks for a line of text.
func (a *App) typed(p screen.Prompt) tea.Cmd {
	a.prompt = &p
	a.input.SetValue(p.Text)
	a.input.CursorEnd()
	return a.input.Focus()
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
		if p.Done != nil {
			return p.Done(a.input.Value())
		}
		return nil
	case "esc":
		leave()
		if p.Left != nil {
			p.Left()
		}
		return nil
	case "tab":
		if p.Complete != nil {
			a.input.SetValue(p.Complete(a.input.Value()))
			a.input.CursorEnd()
			if p.Typed != nil {
				p.Typed(a.input.Value())
			}
		}
		return nil
	case "up", "down":
		if p.Moved != nil {
			p.Moved(key)
		}
		return nil
	}
	var cmd tea.Cmd
	a.input, cmd = a.input.Update(msg)
	if p.Typed != nil {
		p.Typed(a.input.Value())
	}
	return cmd
}
