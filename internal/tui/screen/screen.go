// Package screen is what a screen gives the app that shows it, and what it may ask of it. The app knows a list of
// screens and no type.
package screen

import (
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"aditus/internal/core/berth"
	"aditus/internal/draw"
	"aditus/internal/tui/kit"
)

// Screen is one view of what there is.
type Screen interface {
	// Keys are those of the screen as it is now. The bar of keys and the help are made from them.
	Keys() []Key
	// Berth is the one that actions are about; its names are empty where they are about none.
	Berth() berth.ID
	// Update takes a status.Snapshot whenever there is a new one, and the clicks of the mouse. What takes its time is
	// done by the Cmd that it gives.
	Update(msg tea.Msg) tea.Cmd
	// View draws the screen. The page's last two rows are left to the bar of keys.
	View(p *kit.Page)
	// Picture is what can be written to a file; nil where there is nothing.
	Picture() *Picture
}

// Key is a key of a screen, or several that belong together. Its help stands in the bar, where it has any.
type Key struct {
	key.Binding
	Means string // what the help says of it; empty where it says nothing
	Do    func(pressed string) tea.Cmd
}

// Bind binds keys, separated by spaces. label and does stand in the bar, where does is not empty.
func Bind(keys, label, does, means string, do func(pressed string) tea.Cmd) Key {
	return Key{key.NewBinding(key.WithKeys(strings.Fields(keys)...), key.WithHelp(label, does)), means, do}
}

// Only makes what a key does of something after which nothing follows.
func Only(do func(pressed string)) func(string) tea.Cmd {
	return func(pressed string) tea.Cmd {
		do(pressed)
		return nil
	}
}

// Press does what a key of a screen does, and tells whether it is one.
func Press(s Screen, pressed string) (tea.Cmd, bool) {
	for _, k := range s.Keys() {
		for _, name := range k.Keys() {
			if name == pressed {
				return k.Do(pressed), true
			}
		}
	}
	return nil, false
}

// Hints are the keys that stand in the bar.
func Hints(s Screen) (hints []kit.Hint) {
	for _, k := range s.Keys() {
		if help := k.Help(); help.Desc != "" {
			hints = append(hints, kit.Hint{Key: help.Key, Does: help.Desc})
		}
	}
	return hints
}

// List are the keys that move a cursor in a list of n rows.
func List(list *kit.List, n func() int) Key {
	return Bind("up k down j pgup ctrl+u pgdown ctrl+d home end", "arrows, jk", "", "move", Only(func(pressed string) { list.Key(pressed, n()) }))
}

// Picture is something drawn that goes to a file.
type Picture struct {
	Name  string // of the file, without its ending
	Paint draw.Painter
}
