package tui

import (
	"fmt"
	"slices"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/charmbracelet/x/ansi"

	"aditus/internal/core/say"
	"aditus/internal/tui/kit"
)

// Theme is how the screens are coloured.
type Theme string

// Themes. Auto is by what the terminal tells of its ground; its own colours where it tells nothing.
const (
	ThemeAuto  Theme = "auto"
	ThemeDark  Theme = "dark"
	ThemeLight Theme = "light"
	ThemeOwn   Theme = "own"
	ThemeNone  Theme = "none"
)

// ReadTheme reads the name of a theme; empty is auto.
func ReadTheme(name string) (Theme, error) {
	all := []string{string(ThemeAuto), string(ThemeDark), string(ThemeLight), string(ThemeOwn), string(ThemeNone)}
	if name == "" || slices.Contains(all, name) {
		return Theme(name), nil
	}
	return "", fmt.Errorf("there is no theme %q: there are %s", name, say.List(all))
}

// EndLook is written to the terminal once the screens are left: it tells no more of its colours then.
const EndLook = ansi.ResetModeLightDark

// look is how the screens are coloured, by what was asked for and what the terminal tells.
type look struct {
	wanted  Theme
	told    kit.Ground // by the terminal
	profile colorprofile.Profile
	theme   kit.Theme
}

func newLook(wanted Theme) look {
	l := look{wanted: wanted, profile: colorprofile.TrueColor}
	if wanted == "" {
		l.wanted = ThemeAuto
	}
	l.choose()
	return l
}

// begin asks the terminal what its ground is, and has it tell when its colours change.
func (l *look) begin() tea.Cmd {
	return tea.Batch(tea.RequestBackgroundColor, tea.Raw(ansi.SetModeLightDark))
}

// update takes what the terminal tells, and asks it again where it told nothing so far: another one may be there by now.
func (l *look) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.ColorProfileMsg:
		l.profile = msg.Profile
	case tea.BackgroundColorMsg:
		switch {
		case l.told != kit.Unknown: // it is ours by now
		case msg.IsDark():
			l.told = kit.OnDark
		default:
			l.told = kit.OnLight
		}
	case uv.DarkColorSchemeEvent:
		l.told = kit.OnDark
	case uv.LightColorSchemeEvent:
		l.told = kit.OnLight
	case tea.FocusMsg, tea.WindowSizeMsg:
		if l.told == kit.Unknown {
			return tea.RequestBackgroundColor
		}
		return nil
	default:
		return nil
	}
	l.choose()
	return nil
}

// ground is what the text stands on.
func (l *look) ground() kit.Ground {
	switch l.wanted {
	case ThemeDark:
		return kit.OnDark
	case ThemeLight:
		return kit.OnLight
	case ThemeOwn:
		return kit.Unknown
	}
	return l.told
}

func (l *look) choose() {
	if l.theme = kit.Choose(l.profile, l.ground()); l.wanted == ThemeNone {
		l.theme = kit.None
	}
}

// painted tells whether the whole screen has the theme's ground: a terminal that did not tell its own is not painted over, unless somebody says so.
func (l *look) painted() bool { return l.ground() != kit.Unknown && l.wanted != ThemeNone }

// next goes on to the next theme.
func (l *look) next() {
	order := []Theme{ThemeAuto, ThemeDark, ThemeLight, ThemeOwn}
	l.wanted = order[(slices.Index(order, l.wanted)+1)%len(order)]
	l.choose()
}

// name says which theme it is.
func (l *look) name() string {
	switch l.wanted {
	case ThemeOwn:
		return "the terminal's own colours"
	case ThemeAuto:
		return "as the terminal tells: " + map[kit.Ground]string{kit.Unknown: "nothing, so its own colours", kit.OnDark: "dark", kit.OnLight: "light"}[l.told]
	}
	return string(l.wanted)
}
