// Package kit is what all screens share: the theme's roles, a page to write on, plots, and the bars for keys and
// questions. Of workloads it knows no more than their tones and revisions.
package kit

import (
	"image/color"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/charmbracelet/x/ansi"
)

// Role is what a piece of text is, on every screen. Its colour is the theme's business.
type Role int

const (
	Text Role = iota
	Bright
	Dim
	Rule
	Old   // the old cohort
	New   // the new cohort, and keys
	Clear // clear, proven
	Bad   // breach, drift, failing
	Asks  // waits for a person
	roles
)

// Theme gives each role its colour.
type Theme struct {
	colors [roles]color.Color
	ground color.Color
	chosen color.Color // ground of what is selected
}

func hex(values ...string) (colors [roles]color.Color) {
	for i, v := range values {
		if v == "" {
			continue // the terminal's own
		}
		colors[i] = lipgloss.Color(v)
	}
	return colors
}

// Dark is for dark terminals with many colours.
var Dark = Theme{
	colors: hex("#cdd6de", "#f0f4f8", "#768592", "#2c363e", "#7aa2ce", "#e8b25c", "#70ba94", "#ee6c5c", "#be96ec"),
	ground: lipgloss.Color("#0f1317"), chosen: lipgloss.Color("#1d262d"),
}

// Light is for light terminals with many colours.
var Light = Theme{
	colors: hex("#2b343b", "#0b0f12", "#66737d", "#c9d1d7", "#2f5f93", "#8a5a00", "#1f7a4d", "#c0392b", "#7a3fb8"),
	ground: lipgloss.Color("#fbfcfd"), chosen: lipgloss.Color("#e4eaee"),
}

// Sixteen is for terminals with 16 colours, on their own ground.
var Sixteen = Theme{colors: [roles]color.Color{
	nil, ansi.BrightWhite, ansi.BrightBlack, ansi.BrightBlack, ansi.BrightCyan, ansi.BrightYellow, ansi.BrightGreen, ansi.BrightRed, ansi.BrightMagenta,
}, chosen: ansi.BrightBlack}

// SixteenLight is for light terminals with 16 colours.
var SixteenLight = Theme{colors: [roles]color.Color{
	nil, nil, ansi.BrightBlack, ansi.BrightBlack, ansi.Blue, ansi.Yellow, ansi.Green, ansi.Red, ansi.Magenta,
}, chosen: ansi.White}

// Own is for terminals of which nobody told what their ground is: plain text is in their own colour, and all else can be read on dark and light.
var Own = Theme{colors: hex("", "", "", "", "#3f7cb8", "#a8760f", "#2f8f5b", "#d9483b", "#9059d1")}

// OwnSixteen is for those with 16 colours.
var OwnSixteen = Theme{colors: [roles]color.Color{nil, nil, nil, nil, ansi.Cyan, ansi.Yellow, ansi.Green, ansi.Red, ansi.Magenta}}

// None uses no colour at all: bold and faint alone.
var None = Theme{}

// Ground is what a terminal's text stands on.
type Ground int

// Grounds, of which Unknown is that of a terminal that does not tell.
const (
	Unknown Ground = iota
	OnDark
	OnLight
)

// Choose gives the theme that suits a terminal.
func Choose(profile colorprofile.Profile, ground Ground) Theme {
	dark := ground == OnDark
	switch {
	case profile <= colorprofile.ASCII:
		return None
	case profile == colorprofile.ANSI && ground == Unknown:
		return OwnSixteen
	case ground == Unknown:
		return Own
	case profile == colorprofile.ANSI && dark:
		return Sixteen
	case profile == colorprofile.ANSI:
		return SixteenLight
	case dark && profile == colorprofile.ANSI256:
		return in256(Dark, "237", "235")
	case dark:
		return Dark
	case profile == colorprofile.ANSI256:
		return in256(Light, "251", "254")
	}
	return Light
}

// in256 names the greys of a theme: with 256 colours the nearest ones are no greys.
func in256(t Theme, rule, chosen string) Theme {
	t.colors[Rule], t.chosen, t.ground = lipgloss.Color(rule), lipgloss.Color(chosen), nil
	return t
}

// Ground is the colour behind everything; nil for the terminal's own.
func (t Theme) Ground() color.Color { return t.ground }

// Ink is the colour of plain text; nil for the terminal's own.
func (t Theme) Ink() color.Color { return t.colors[Text] }

// style is how a role is drawn.
func (t Theme) style(r Role, chosen bool) uv.Style {
	s := uv.Style{Fg: t.colors[r]}
	if r == Bright || (t.colors[r] == nil && (r == Bad || r == Asks)) {
		s.Attrs |= uv.AttrBold
	}
	if t.colors[r] == nil && (r == Dim || r == Rule) {
		s.Attrs |= uv.AttrFaint
	}
	if chosen {
		s.Bg = t.chosen
		if s.Fg != nil && s.Fg == t.chosen {
			s.Fg = t.colors[Text] // dim text would vanish on a ground of its own colour
		}
		if t.chosen == nil {
			s.Fg = nil // a colour would be the ground of its letters
			s.Attrs |= uv.AttrReverse
			s.Attrs &^= uv.AttrFaint
		}
	}
	return s
}
