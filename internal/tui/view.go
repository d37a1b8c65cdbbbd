package tui

import (
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/control"
	"aditus/internal/core/say"
	"aditus/internal/tui/kit"
)

// Sizes below which there is no use in drawing a screen.
const (
	leastWidth  = 60
	leastHeight = 16
)

// messageStays is how long a message keeps the bar of keys.
const messageStays = 8 * time.Second

// View implements tea.Model.
func (a *App) View() tea.View {
	v := tea.NewView(a.Frame(a.w, a.h))
	v.AltScreen, v.MouseMode = true, tea.MouseModeCellMotion
	v.WindowTitle = a.title()
	if a.ground {
		v.BackgroundColor, v.ForegroundColor = a.theme.Ground(), a.theme.Ink()
	}
	return v
}

func (a *App) title() string {
	c := control.Count(a.snapshot)
	return fmt.Sprintf("%s: %d need you, %d moving", kit.Plain(a.snapshot.Line), c.Need, c.Moving)
}

// Frame draws the whole screen at a size.
func (a *App) Frame(w, h int) string {
	if w <= 0 || h <= 0 {
		return ""
	}
	p := kit.NewPage(w, h, a.theme)
	if w < leastWidth || h < leastHeight {
		c := control.Count(a.snapshot)
		y := p.Wrap(0, 0, w, h, kit.Text, fmt.Sprintf("%d need you, %d moving, %d steady.", c.Need, c.Moving, c.Steady))
		p.Wrap(0, y, w, h, kit.Dim, fmt.Sprintf("The screen is %d x %d; %d x %d is the least. q quits.", w, h, leastWidth, leastHeight))
		return p.Render()
	}
	if a.watch != nil {
		a.watch.View(p)
	} else {
		a.board.View(p)
	}
	a.bar(p)
	switch {
	case a.help:
		a.viewHelp(p)
	case a.menu != nil:
		a.menu.view(p)
	}
	return p.Render()
}

// bar is the bottom line: a question, the search, a message, or the keys that fit.
func (a *App) bar(p *kit.Page) {
	y, left := p.H-1, kit.Margin+1
	p.Rule(y - 1)
	if a.ask != nil {
		a.viewAsk(p)
		return
	}
	if a.finding {
		x := p.Put(left, y, kit.New, "/") + 1
		x = p.Put(x, y, kit.Bright, a.find.Value())
		p.Put(x, y, kit.New, "▏")
		p.HintsRight(y, x+2, []kit.Hint{{Key: "enter", Does: "keep"}, {Key: "esc", Does: "show all"}})
		return
	}
	if a.message.text != "" && time.Since(a.message.at) < messageStays {
		role := kit.Clear
		if a.message.bad {
			role = kit.Bad
		}
		p.PutIn(left, y, p.W-2*left, role, say.Capital(a.message.text))
		return
	}
	right := []kit.Hint{{Key: "space", Does: "all actions"}, {Key: "/", Does: "find"}, {Key: "?", Does: "help"}, {Key: "q", Does: "quit"}}
	hints := a.board.Hints()
	if a.watch != nil {
		right[1] = kit.Hint{Key: "esc", Does: "board"}
		hints = nil
		for _, action := range control.Actions(a.berth()) {
			if action.Not == nil && action.Changes {
				hints = append(hints, kit.Hint{Key: action.Key, Does: string(action.Verb)})
			}
		}
		hints = append(hints, a.watch.Hints()...)
	} else if f := a.board.Filter(); f != "" {
		hints = append([]kit.Hint{{Key: "esc", Does: "show all, not only “" + f + "”"}}, hints...)
	}
	if p.W < 100 {
		right = right[len(right)-3:]
	}
	x := p.HintsRight(y, left, right)
	end := p.Hints(left, y, x-3, hints)
	if note := a.options.Note; a.watch == nil && note != "" && x-end > kit.Width(note)+8 {
		p.Right(x-5, y, kit.Dim, note)
	}
}

func (a *App) viewAsk(p *kit.Page) {
	left, width := kit.Margin+1, p.W-2*kit.Margin-2
	rows := (kit.Width(a.ask.text) + width - 1) / width
	rows = min(max(1, rows), 4)
	top := p.H - 2 - rows
	p.Clear(top-1, p.H)
	p.Rule(top - 1)
	p.Wrap(left, top, width, rows+1, kit.Bright, a.ask.text)
	p.Hints(left, p.H-1, p.W, []kit.Hint{{Key: "enter", Does: "do it"}, {Key: "esc", Does: "leave it"}})
}
