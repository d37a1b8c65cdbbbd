package kit

import (
	"strings"
	"unicode"

	"charm.land/lipgloss/v2"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/charmbracelet/x/ansi"

	"aditus/internal/core/say"
)

// Margin is kept free at both sides of every screen.
const Margin = 1

// Page is a screen's cells. Whatever does not fit on it is cut off; control characters never reach it.
type Page struct {
	W, H   int
	Theme  Theme
	canvas *lipgloss.Canvas
	chosen map[int]bool // rows drawn as selected
}

// NewPage makes an empty page.
func NewPage(w, h int, theme Theme) *Page {
	return &Page{W: w, H: h, Theme: theme, canvas: lipgloss.NewCanvas(w, h), chosen: map[int]bool{}}
}

// Render gives the page as styled text.
func (p *Page) Render() string { return p.canvas.Render() }

// Plain strips what must not reach a terminal from text that comes from outside: control characters, escape
// sequences, and marks that change the direction of writing.
func Plain(text string) string {
	if !strings.ContainsFunc(text, harmful) {
		return text
	}
	text = ansi.Strip(text)
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || r == '\t':
			return ' '
		case harmful(r):
			return -1
		}
		return r
	}, text)
}

func harmful(r rune) bool {
	return say.Harmful(r) || r == unicode.ReplacementChar
}

// Width is the number of cells that text takes.
func Width(text string) int { return ansi.StringWidth(text) }

// Choose draws a row as selected.
func (p *Page) Choose(y int) {
	p.chosen[y] = true
	for x := range p.W {
		p.cell(x, y, " ", 1, Text)
	}
}

func (p *Page) cell(x, y int, text string, width int, role Role) {
	p.canvas.SetCell(x, y, &uv.Cell{Content: text, Width: width, Style: p.Theme.style(role, p.chosen[y])})
}

// Put writes text and gives the column after it.
func (p *Page) Put(x, y int, role Role, text string) int {
	return p.PutIn(x, y, p.W-x, role, text)
}

// PutIn writes text into so many cells and gives the column after it. Text that is too long ends in …
func (p *Page) PutIn(x, y, width int, role Role, text string) int {
	width = min(width, p.W-x)
	if y < 0 || y >= p.H || width <= 0 || x < 0 {
		return x
	}
	text = Plain(text)
	if len(text) > width && ansi.StringWidth(text) > width {
		text = ansi.Truncate(text, width, "…")
	}
	for len(text) > 0 {
		cluster, w := ansi.FirstGraphemeCluster(text, ansi.GraphemeWidth)
		if len(cluster) == 0 {
			break
		}
		text = text[len(cluster):]
		if w > 0 {
			p.cell(x, y, cluster, w, role)
			x += w
		}
	}
	return x
}

// Cursor marks the cell at which something is typed.
func (p *Page) Cursor(x, y int, under string) {
	if x >= p.W || y >= p.H {
		return
	}
	style := p.Theme.style(Text, false)
	style.Attrs |= uv.AttrReverse
	if under = Plain(under); Width(under) != 1 {
		under = " "
	}
	p.canvas.SetCell(x, y, &uv.Cell{Content: under, Width: 1, Style: style})
}

// Middle cuts a text that is longer than so many cells in its middle: names that begin alike often differ at their end.
func Middle(text string, width int) string {
	if text = Plain(text); Width(text) <= width || width < 5 {
		return text
	}
	tail := (width - 1) / 2
	return ansi.Truncate(text, width-tail, "…") + ansi.TruncateLeft(text, Width(text)-tail, "")
}

// Right writes text so that it ends before column x.
func (p *Page) Right(x, y int, role Role, text string) {
	text = Plain(text)
	p.Put(max(0, x-Width(text)), y, role, text)
}

// Rule draws the thin line that parts a screen.
func (p *Page) Rule(y int) { p.Put(Margin, y, Rule, strings.Repeat("─", max(0, p.W-2*Margin))) }

// Wrap writes text over several lines at most, and gives the row after it.
func (p *Page) Wrap(x, y, width, most int, role Role, text string) int {
	if width <= 0 {
		return y
	}
	lines := Wrapped(text, width)
	for i, line := range lines {
		if i == most {
			break
		}
		if i == most-1 && len(lines) > most {
			line += "…"
		}
		p.PutIn(x, y, width, role, line)
		y++
	}
	return y
}

// Wrapped are the lines of a text that is wrapped to a width.
func Wrapped(text string, width int) []string {
	return strings.Split(ansi.Wrap(Plain(text), width, ""), "\n")
}

// Rows is how many rows a text takes that is wrapped to a width.
func Rows(text string, width int) int {
	if width <= 0 {
		return 1
	}
	return len(Wrapped(text, width))
}

// Clear empties a block of rows.
func (p *Page) Clear(from, to int) {
	for y := from; y < to; y++ {
		delete(p.chosen, y)
		for x := range p.W {
			p.canvas.SetCell(x, y, &uv.Cell{Content: " ", Width: 1})
		}
	}
}
