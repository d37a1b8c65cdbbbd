package screen

import (
	"context"
	"time"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/control"
	"aditus/internal/core/berth"
	"aditus/internal/core/policy"
	"aditus/internal/tui/kit"
	"aditus/internal/words"
)

// Desk is what a screen may ask of the app that shows it: to tell a person something, to have something typed or
// answered, and to fetch things. Whatever takes its time is a Cmd, so that keys never wait for it.
type Desk struct {
	Ctx      context.Context // ends when the app does
	Control  control.Control
	Who      policy.Actor
	Pictures string          // the folder that files are written to
	Settings control.Settler // nil where they cannot be asked for
	Tokens   control.Tokener // nil where there are none

	Say         func(text string, bad bool)
	Ask         func(q Question)
	Type        func(p Prompt) tea.Cmd
	Write       func(w Writing) tea.Cmd
	Start       func(verb words.Verb, at berth.ID) tea.Cmd   // as the verb's letter does
	StartMany   func(verb words.Verb, at []berth.ID) tea.Cmd // at all of them that it is possible at, after one question
	TearDown    func(name string, at []berth.ID) tea.Cmd     // all of them, once a name was typed, and why
	TakePicture func() tea.Cmd
	Find        func(text string) // shows the board with what is found by a text

	Kept   map[string]any // what screens leave for when they are opened again, by names of theirs
	Memory Memory         // of what they leave for the next start of the program; nil where there is none

	Touched bool // by a key or the mouse: cursors are the person's from then on

	fetching Screen // for which something is asked for now; nil for none
}

// Memory keeps what screens leave for the next start of the program, by names of theirs.
type Memory interface {
	// Recall reads what was left; what it is read into stays as it is where nothing was.
	Recall(name string, into any)
	// Remember leaves something; nil forgets it.
	Remember(name string, what any)
}

// Recall reads what was left before this start.
func (d *Desk) Recall(name string, into any) {
	if d.Memory != nil {
		d.Memory.Recall(name, into)
	}
}

// Remember leaves something for the next start; nil forgets it.
func (d *Desk) Remember(name string, what any) {
	if d.Memory != nil {
		d.Memory.Remember(name, what)
	}
}

// Question is put before something is changed.
type Question struct {
	Text  string
	Lines []string // beneath it, such as where it is done
	Types string   // what is to be typed before it is done; empty for nothing
	Begin func()   // called once it was confirmed, before it is done; may be nil
	Do    func(ctx context.Context) (said string, err error)
	Then  func() tea.Cmd // instead of Do: what comes once it was confirmed; may be nil
}

// Prompt asks for a line of text.
type Prompt struct {
	Label    string
	Text     string // what it begins with
	Hidden   bool   // it is not shown while it is typed
	Hints    []kit.Hint
	Complete func(text string) string  // at tab; may be nil
	Typed    func(text string)         // at every key; may be nil
	Moved    func(pressed string)      // at the arrows up and down; may be nil
	Done     func(text string) tea.Cmd // at enter; may be nil
	Left     func()                    // at escape; may be nil
}

// Writing asks for a text of several lines.
type Writing struct {
	Title string                                                          // also the name by which a text that was left is found again
	Text  string                                                          // what it begins with
	Notes []string                                                        // beside it, such as what can be written
	Done  func(ctx context.Context, text string) (said string, err error) // it stays where that fails
}

// Wrote is what came of a text that was written.
type Wrote struct {
	Text string
	Err  error
}

// Timeout is how long whatever is asked for may take.
const Timeout = 30 * time.Second

// Answered is what came of something that was asked for.
type Answered struct {
	Text string
	Err  error
}

// Opened is a screen to be shown.
type Opened struct{ Screen Screen }

// Asked puts a question that took a while to be made.
type Asked struct{ Question Question }

// Closed closes the screen that is shown, and tells what was done. What it left for when it is opened again is forgotten.
type Closed struct{ Text, Forget string }

// Fetched is what came for a screen.
type Fetched struct {
	of   Screen
	show func() tea.Cmd // nil where nothing came
}

// Answer asks for something, and has what came of it told.
func (d *Desk) Answer(ask func(ctx context.Context) (string, error)) tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(d.Ctx, Timeout)
		defer cancel()
		text, err := ask(ctx)
		return Answered{text, err}
	}
}

// Open asks for what a screen shows and has the screen shown then, or why it cannot be.
func (d *Desk) Open(get func(ctx context.Context) (Screen, error)) tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(d.Ctx, Timeout)
		defer cancel()
		s, err := get(ctx)
		if err != nil {
			return Answered{Err: err}
		}
		return Opened{s}
	}
}

// Fetch asks for what a screen shows beside the snapshot. get gives what is to be done with it, nil for nothing. For
// each screen one thing is asked for at a time.
func (d *Desk) Fetch(of Screen, get func(ctx context.Context) (show func() tea.Cmd)) tea.Cmd {
	if d.fetching == of {
		return nil
	}
	d.fetching = of
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(d.Ctx, Timeout)
		defer cancel()
		return Fetched{of, get(ctx)}
	}
}

// Take takes what came, where the screen that it is for is still shown.
func (d *Desk) Take(m Fetched, shown Screen) tea.Cmd {
	if d.fetching == m.of {
		d.fetching = nil
	}
	if shown != m.of || m.show == nil {
		return nil
	}
	return m.show()
}
