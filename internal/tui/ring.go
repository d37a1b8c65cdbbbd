package tui

import (
	tea "charm.land/bubbletea/v2"

	"aditus/internal/status"
	"aditus/internal/words"
)

// bell rings a terminal.
const bell = "\a"

// ring rings where something needs whoever looks now, and did not before.
func (a *App) ring(before status.Snapshot) tea.Cmd {
	if !a.options.Ring || before.Now.IsZero() {
		return nil
	}
	was := calls(before)
	for id := range calls(a.snapshot) {
		if !was[id] {
			return tea.Raw(bell)
		}
	}
	return nil
}

// calls are the needs of a snapshot that whoever looks may do something about.
func calls(s status.Snapshot) map[string]bool {
	own := map[string]bool{}
	for _, n := range words.Needs(s) {
		if !n.Denied {
			own[n.ID()] = true
		}
	}
	return own
}
