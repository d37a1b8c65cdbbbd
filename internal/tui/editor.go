package tui

import (
	"context"
	"strings"

	"charm.land/bubbles/v2/textarea"
	tea "charm.land/bubbletea/v2"

	"aditus/internal/core/say"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/screen"
)

// editor is a text of several lines that is being written.
type editor struct {
	screen.Writing
	area  textarea.Model
	wrong string // why it could not be taken
	busy  bool
	top   int // the first line shown
}

// editorWidth is so wide that no line is wrapped.
const editorWidth = 500

// write has a text written: the one that was left, where there is one of its title.
func (a *App) write(w screen.Writing) tea.Cmd {
	area := textarea.New()
	area.Prompt, area.ShowLineNumbers, area.CharLimit, area.MaxHeight, area.MaxWidth = "", false, 0, 0, editorWidth
	area.SetWidth(editorWidth)
	area.SetHeight(1 << 10)
	text, left := a.drafts[w.Title]
	if !left {
		text = w.Text
	}
	area.SetValue(text)
	area.MoveToBegin()
	a.editor = &editor{Writing: w, area: area}
	if left {
		a.editor.wrong = "This is as you left it; ctrl+r has it as it was."
	}
	return a.editor.area.Focus()
}

// keyEditor hands a key to the text.
func (a *App) keyEditor(msg tea.KeyPressMsg) tea.Cmd {
	e := a.editor
	if e.busy {
		return nil
	}
	switch msg.String() {
	case "esc":
		a.leaveEditor()
		return nil
	case "ctrl+r":
		e.area.SetValue(e.Text)
		e.area.MoveToBegin()
		e.wrong = ""
		return nil
	case "ctrl+s":
		e.busy, e.wrong = true, ""
		text := e.area.Value()
		return func() tea.Msg {
			ctx, cancel := context.WithTimeout(a.desk.Ctx, screen.Timeout)
			defer cancel()
			said, err := e.Done(ctx, text)
			return screen.Wrote{Text: said, Err: err}
		}
	}
	var cmd tea.Cmd
	e.area, cmd = e.area.Update(msg)
	return cmd
}

// leaveEditor leaves a text, which is found again as it was left.
func (a *App) leaveEditor() {
	e := a.editor
	a.editor = nil
	if text := e.area.Value(); text != e.Text {
		if a.drafts == nil {
			a.drafts = map[string]string{}
		}
		a.drafts[e.Title] = text
		a.say("Nothing was changed. What you wrote is there when you come back.", false)
		return
	}
	delete(a.drafts, e.Title)
	a.say("Nothing was changed.", false)
}

// wrote closes a text that was taken, and keeps one that was not, with the reason.
func (a *App) wrote(w screen.Wrote) tea.Cmd {
	e := a.editor
	if e == nil {
		return nil
	}
	if e.busy = false; w.Err != nil {
		e.wrong = say.Sentence(w.Err.Error())
		return nil
	}
	a.editor = nil
	delete(a.drafts, e.Title)
	a.say(w.Text, false)
	return a.snap()
}

// paste puts what was pasted where something is typed.
func (a *App) paste(msg tea.PasteMsg) (cmd tea.Cmd) {
	switch {
	case a.editor != nil && !a.editor.busy:
		a.editor.area, cmd = a.editor.area.Update(msg)
	case a.prompt != nil:
		a.input, cmd = a.input.Update(msg)
	}
	return cmd
}

// viewEditor draws the text over the screen.
func (a *App) viewEditor(p *kit.Page) {
	e, left := a.editor, kit.Margin+1
	p.Clear(2, p.H)
	p.Put(left, 3, kit.Bright, e.Title)
	bottom := p.H - 2
	width := p.W - 2*left
	beside, role, most := e.Notes, kit.Dim, 2
	if e.wrong != "" {
		beside, role, most = []string{e.wrong}, kit.Bad, 4
	}
	rows := 0
	for _, text := range beside {
		rows += min(most, 1+(kit.Width(text)-1)/width)
	}
	y := bottom - min(rows, p.H/3) - 1
	from, to := 5, y
	p.Rule(y)
	y++
	for _, text := range beside {
		y = p.Wrap(left, y, width, min(most, bottom-y), role, text)
	}
	lines := strings.Split(e.area.Value(), "\n")
	line, column := e.area.Line(), e.area.Column()
	if line < e.top {
		e.top = line
	}
	e.top = max(e.top, line-(to-from)+1)
	shift := max(0, column-width+1) // so that the cursor is in sight
	for y := from; y < to && e.top+y-from < len(lines); y++ {
		at := e.top + y - from
		text := []rune(lines[at])
		p.PutIn(left, y, width, kit.Text, string(text[min(shift, len(text)):]))
		if at != line {
			continue
		}
		under, before := " ", string(text[min(shift, len(text)):min(column, len(text))])
		if column < len(text) {
			under = string(text[column])
		}
		p.Cursor(left+kit.Width(kit.Plain(before)), y, under)
	}
	p.Rule(p.H - 2)
	hints := []kit.Hint{{Key: "ctrl+s", Does: "write it"}, {Key: "esc", Does: "leave it"}, {Key: "ctrl+r", Does: "as it was"}}
	if e.busy {
		p.Put(left, p.H-1, kit.Dim, "It is being written…")
		return
	}
	p.Hints(left, p.H-1, p.W, hints)
}
