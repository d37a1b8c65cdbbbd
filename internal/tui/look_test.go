package tui

import (
	"image/color"
	"testing"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"

	"aditus/internal/tui/kit"
)

// TestLook goes by what a terminal tells: nothing, later, of its own ground once, and when its colours change; what somebody asked for counts more.
func TestLook(t *testing.T) {
	white, black := tea.BackgroundColorMsg{Color: color.White}, tea.BackgroundColorMsg{Color: color.Black}
	for name, test := range map[string]struct {
		wanted  Theme
		msgs    []tea.Msg
		want    kit.Theme
		painted bool
		asks    bool // once more, where it told nothing, at the last of the messages
	}{
		"nothing is told":       {"", []tea.Msg{tea.FocusMsg{}}, kit.Own, false, true},
		"resized, nothing told": {"", []tea.Msg{tea.WindowSizeMsg{Width: 80, Height: 24}, tea.WindowSizeMsg{Width: 90, Height: 24}}, kit.Own, false, true},
		"dark":                  {"", []tea.Msg{black, tea.FocusMsg{}}, kit.Dark, true, false},
		"light":                 {ThemeAuto, []tea.Msg{white}, kit.Light, true, false},
		"told later":            {"", []tea.Msg{tea.FocusMsg{}, white}, kit.Light, true, false},
		"our own ground":        {"", []tea.Msg{white, black}, kit.Light, true, false},
		"light by day":          {"", []tea.Msg{black, uv.LightColorSchemeEvent{}}, kit.Light, true, false},
		"dark by night":         {"", []tea.Msg{white, uv.DarkColorSchemeEvent{}}, kit.Dark, true, false},
		"light is asked for":    {ThemeLight, []tea.Msg{black, uv.DarkColorSchemeEvent{}}, kit.Light, true, false},
		"its own is asked for":  {ThemeOwn, []tea.Msg{black}, kit.Own, false, false},
		"none is asked for":     {ThemeNone, []tea.Msg{black}, kit.None, false, false},
	} {
		a, _ := app(t)
		a.look = newLook(test.wanted)
		var cmd tea.Cmd
		for _, msg := range test.msgs {
			_, cmd = a.Update(msg)
		}
		if a.look.theme != test.want || a.look.painted() != test.painted || (a.View().BackgroundColor != nil) != test.painted || (cmd != nil) != test.asks {
			t.Errorf("%s: theme %+v, painted %v, asks %v", name, a.look.theme, a.look.painted(), cmd != nil)
		}
	}
	a, _ := app(t)
	a.Update(black)
	for _, want := range []kit.Theme{kit.Dark, kit.Light, kit.Own, kit.Dark} {
		if a.Update(tea.KeyPressMsg{Code: 't', Mod: tea.ModCtrl}); a.look.theme != want {
			t.Errorf("%s: %+v", a.look.name(), a.look.theme)
		}
	}
	if _, err := ReadTheme("blue"); err == nil {
		t.Error("there is no theme blue")
	}
}
