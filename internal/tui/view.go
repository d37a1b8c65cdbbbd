package tui

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/core/berth"
	"aditus/internal/core/say"
	"aditus/internal/status"
	"aditus/internal/tui/board"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/screen"
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
	v.ReportFocus = true
	if a.options.Progress {
		v.ProgressBar = progress(a.snapshot)
	}
	if a.look.painted() {
		v.BackgroundColor, v.ForegroundColor = a.look.theme.Ground(), a.look.theme.Ink()
	}
	return v
}

// progress is how far what moves is on its way, by the traffic that it has; nil where nothing moves.
func progress(s status.Snapshot) *tea.ProgressBar {
	moving, share := 0, 0.0
	for i := range s.Berths {
		if r := s.Berths[i].Rollout; r != nil {
			moving, share = moving+1, share+r.State.Share
		}
	}
	if moving == 0 {
		return nil
	}
	return tea.NewProgressBar(tea.ProgressBarDefault, int(100*share/float64(moving)))
}

func (a *App) title() string {
	c := a.home.Counts()
	return fmt.Sprintf("%s: %d need you, %d moving", kit.Plain(a.snapshot.Line), c.Need, c.Moving)
}

// Frame draws the whole screen at a size.
func (a *App) Frame(w, h int) string {
	if w <= 0 || h <= 0 {
		return ""
	}
	p := kit.NewPage(w, h, a.look.theme)
	least := leastWidth
	if a.over == nil {
		least = board.LeastWidth
	}
	if w < least || h < leastHeight {
		c := a.home.Counts()
		y := p.Wrap(0, 0, w, h, kit.Text, fmt.Sprintf("%d need you, %d moving, %d steady.", c.Need, c.Moving, c.Steady))
		p.Wrap(0, y, w, h, kit.Dim, fmt.Sprintf("The screen is %d x %d; %d x %d is the least. q quits.", w, h, least, leastHeight))
		return p.Render()
	}
	a.shown().View(p)
	a.bar(p)
	switch {
	case a.editor != nil:
		a.viewEditor(p)
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
	if a.prompt != nil {
		a.viewPrompt(p)
		return
	}
	if lost := a.snapshot.Lost; lost != nil {
		p.PutIn(left, y, p.W-2*left, kit.Bad, lostText(lost.Since, lost.Why, p.W-2*left))
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
	right := []kit.Hint{{Key: "space", Does: "all actions"}}
	if a.over != nil {
		right = append(right, kit.Hint{Key: "esc", Does: "board"})
	} else {
		for _, s := range screens {
			if s.bar != "" {
				right = append(right, kit.Hint{Key: s.key, Does: s.bar})
			}
		}
		right = append(right, kit.Hint{Key: "/", Does: "find"})
	}
	right = append(right, kit.Hint{Key: "?", Does: "help"}, kit.Hint{Key: "q", Does: "quit"})
	if a.over != nil && a.over.Berth() == (berth.ID{}) { // there is nothing that actions are about
		right = right[1:]
	}
	if p.W < 120 {
		right = right[len(right)-3:]
	}
	x := p.HintsRight(y, left, right)
	end := p.Hints(left, y, x-3, screen.Hints(a.shown()))
	if note := a.options.Note; a.over == nil && note != "" && x-end > kit.Width(note)+8 {
		p.Right(x-5, y, kit.Dim, note)
	}
}

// viewPrompt is the line that is typed into, under its label where that does not fit beside it.
func (a *App) viewPrompt(p *kit.Page) {
	y, left, width := p.H-1, kit.Margin+1, p.W-2*kit.Margin-2
	x := left
	if kit.Width(a.prompt.Label) > width/2 {
		rows := min(3, (kit.Width(a.prompt.Label)+width-1)/width)
		p.Clear(y-1-rows, p.H)
		p.Rule(y - 1 - rows)
		p.Wrap(left, y-rows, width, rows, kit.Bright, a.prompt.Label)
	} else {
		x = p.Put(x, y, kit.New, a.prompt.Label) + 1
	}
	shown := a.input.Value()
	if a.prompt.Hidden {
		shown = strings.Repeat("•", kit.Width(shown))
	}
	x = p.Put(x, y, kit.Bright, shown)
	p.Put(x, y, kit.New, "▏")
	p.HintsRight(y, x+2, a.prompt.Hints)
}

func (a *App) viewAsk(p *kit.Page) {
	left, width := kit.Margin+1, p.W-2*kit.Margin-2
	rows := (kit.Width(a.ask.Text) + width - 1) / width
	rows = min(max(1, rows), 4)
	listed := min(len(a.ask.Lines), p.H/2)
	top := p.H - 2 - rows - listed
	p.Clear(top-1, p.H)
	p.Rule(top - 1)
	y := p.Wrap(left, top, width, rows+1, kit.Bright, a.ask.Text)
	from := max(0, min(a.asked.At, len(a.ask.Lines)-listed))
	for i := range listed {
		p.PutIn(left, y+i, width, kit.Text, a.ask.Lines[from+i])
	}
	if listed < len(a.ask.Lines) {
		p.Right(p.W-kit.Margin-1, top, kit.Dim, fmt.Sprintf("%d to %d of %d, arrows", from+1, from+listed, len(a.ask.Lines)))
	}
	does := "do it"
	if a.ask.Then != nil {
		does = "go on, and type its name"
	}
	p.Hints(left, p.H-1, p.W, []kit.Hint{{Key: "enter", Does: does}, {Key: "esc", Does: "leave it"}})
}

// lostText tells that the server is not heard of, in as many sentences as there is room for.
func lostText(since time.Time, why string, width int) string {
	text := "No word since " + since.Local().Format(time.TimeOnly)
	for _, more := range []string{", this is how it was.", " Connecting again; q quits.", " Why: " + strings.TrimSpace(why[strings.LastIndex(why, ": ")+1:]) + "."} {
		if kit.Width(text+more) > width {
			break
		}
		text += more
	}
	return text
}
