// Package tui is the full-screen face: it holds the screens together, asks before anything changes a site, and draws
// what is common to all of them. A screen is a function of a snapshot and its own cursor.
package tui

import (
	"context"
	"errors"
	"fmt"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"aditus/internal/control"
	"aditus/internal/engine"
	"aditus/internal/ledger"
	"aditus/internal/tui/board"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/watch"
)

// Options say what an App is given beside its Control.
type Options struct {
	Who      string // in whose name orders are given
	Note     string // told on the board's key bar, such as how fast the demo's time runs
	Pictures string // the folder that pictures are written to
}

// App is the whole interface, a tea.Model.
type App struct {
	control  control.Control
	options  Options
	snapshot engine.Snapshot
	board    *board.Model
	watch    *watch.Model // nil on the board

	w, h    int
	dark    bool
	ground  bool // the terminal told its ground; before that it must not be painted over
	profile colorprofile.Profile
	theme   kit.Theme

	ask     *question
	menu    *menu
	help    bool
	find    textinput.Model
	finding bool
	message message
	touched bool // by a key or the mouse: the cursor is the person's from then on
}

type message struct {
	text string
	bad  bool
	at   time.Time
}

// question is put before something changes a site.
type question struct {
	text  string
	order engine.Order
	do    func() error // instead of an order
}

// New makes the interface.
func New(c control.Control, options Options) *App {
	find := textinput.New()
	find.Prompt, find.CharLimit = "", 60
	a := &App{control: c, options: options, board: board.New(), dark: true, profile: colorprofile.TrueColor, theme: kit.Dark, find: find}
	a.look()
	return a
}

// refreshEvery is how often the screen is drawn anew at least, for the ages on it; no change is shown faster than
// changeEvery.
const (
	refreshEvery = 500 * time.Millisecond
	changeEvery  = 150 * time.Millisecond
)

type (
	refreshMsg  struct{}
	answeredMsg struct {
		text string
		err  error
	}
)

// Init implements tea.Model.
func (a *App) Init() tea.Cmd { return tea.Batch(tea.RequestBackgroundColor, a.wait()) }

// wait waits for something new to show.
func (a *App) wait() tea.Cmd {
	return func() tea.Msg {
		time.Sleep(changeEvery)
		select {
		case <-a.control.Changed():
		case <-time.After(refreshEvery - changeEvery):
		}
		return refreshMsg{}
	}
}

// look takes a new snapshot.
func (a *App) look() {
	a.snapshot = a.control.Snapshot()
	a.board.SetSnapshot(a.snapshot)
	if !a.touched {
		a.board.SelectWhatMatters()
	}
	if a.watch != nil {
		w := a.watch.Watch()
		if newer, err := a.control.Watch(w.Berth, w.Rollout.ID); err == nil {
			a.watch.SetWatch(newer)
		}
	}
}

// Update implements tea.Model.
func (a *App) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		a.w, a.h = msg.Width, msg.Height
	case tea.ColorProfileMsg:
		a.profile = msg.Profile
		a.theme = kit.Choose(a.profile, a.dark)
	case tea.BackgroundColorMsg:
		if !a.ground {
			a.dark, a.ground = msg.IsDark(), true
		}
		a.theme = kit.Choose(a.profile, a.dark)
	case refreshMsg:
		a.look()
		return a, a.wait()
	case answeredMsg:
		if msg.err != nil {
			a.say(msg.err.Error(), true)
		} else {
			a.say(msg.text, false)
		}
		a.look()
	case tea.MouseClickMsg:
		a.click(msg.Mouse())
	case tea.MouseWheelMsg:
		a.wheel(msg.Mouse())
	case tea.KeyPressMsg:
		return a, a.key(msg)
	}
	return a, nil
}

func (a *App) say(text string, bad bool) { a.message = message{text, bad, time.Now()} }

func (a *App) click(m tea.Mouse) {
	a.touched = true
	switch {
	case a.covered() || m.Button != tea.MouseLeft:
	case a.watch != nil:
		a.watch.Click(m.X, m.Y)
	default:
		before := a.board.Selected()
		if a.board.Click(m.X, m.Y) && before == a.board.Selected() {
			a.openWatch(before)
		}
	}
}

// covered tells whether a question, the menu or the help lies over the screen, which then takes no mouse.
func (a *App) covered() bool { return a.ask != nil || a.menu != nil || a.help }

func (a *App) wheel(m tea.Mouse) {
	a.touched = true
	if a.covered() {
		return
	}
	key := "down"
	if m.Button == tea.MouseWheelUp {
		key = "up"
	}
	if a.watch != nil {
		a.watch.Key(key)
	} else {
		a.board.Key(key)
	}
}

// key hands a key to whatever has the word: a question, the menu, the search, the help, or the screen.
func (a *App) key(msg tea.KeyPressMsg) tea.Cmd {
	key := msg.String()
	if key == "ctrl+c" {
		return tea.Quit
	}
	a.message, a.touched = message{}, true
	switch {
	case a.ask != nil:
		return a.keyAsk(key)
	case a.help:
		a.help = false
		return nil
	case a.menu != nil:
		return a.keyMenu(key)
	case a.finding:
		return a.keyFind(msg)
	}
	switch key {
	case "q":
		return tea.Quit
	case "?":
		a.help = true
	case "space":
		a.menu = newMenu(control.Actions(a.berth()))
	case "/":
		if a.watch == nil {
			a.finding = true
			a.find.SetValue(a.board.Filter())
			return a.find.Focus()
		}
	case "esc", "backspace":
		if a.watch != nil {
			a.watch = nil
		} else {
			a.board.SetFilter("")
		}
	case "enter", "w":
		if a.watch == nil {
			a.openWatch(a.board.Selected())
		}
	case "p":
		if a.watch != nil {
			return a.picture()
		}
	default:
		if a.watch != nil && a.watch.Key(key) || a.watch == nil && a.board.Key(key) {
			return nil
		}
		return a.act(key)
	}
	return nil
}

// berth is the one that actions are about.
func (a *App) berth() engine.Berth {
	if a.watch != nil {
		b, _ := a.snapshot.Find(a.watch.Watch().Berth)
		return b
	}
	b, _ := a.board.Berth()
	return b
}

func (a *App) openWatch(id ledger.Berth) {
	w, err := a.control.Watch(id, 0)
	switch {
	case errors.Is(err, ledger.ErrNone):
		a.say(fmt.Sprintf("Nothing was rolled out at %s · %s yet.", id.Workload, id.Site), true)
	case err != nil:
		a.say(err.Error(), true)
	default:
		a.watch = watch.New(w)
	}
}

// act does what a letter stands for, if it is possible now, or says why it is not.
func (a *App) act(key string) tea.Cmd {
	if key == control.Keys[control.AcceptHistory] {
		return a.acceptHistory()
	}
	for _, action := range control.Actions(a.berth()) {
		if action.Key == key {
			return a.start(action)
		}
	}
	return nil
}

// start puts the question that an action needs, or does it at once where it changes nothing.
func (a *App) start(action control.Action) tea.Cmd {
	at := action.Berth
	switch {
	case action.Not != nil:
		a.say(fmt.Sprintf("%s is not possible at %s · %s: %v.", action.Verb, at.Workload, at.Site, action.Not), true)
	case action.Verb == control.WatchIt:
		if a.watch == nil {
			a.openWatch(at)
		}
	case action.Verb == control.LookNow:
		a.control.LookNow()
		a.say("Git is read again.", false)
	default:
		a.ask = &question{text: action.Asks, order: engine.Order{Verb: engine.Verb(action.Verb), Berth: at, By: a.options.Who}}
	}
	return nil
}

func (a *App) acceptHistory() tea.Cmd {
	for _, l := range a.snapshot.Links {
		if l.Rewritten {
			a.ask = &question{
				text: fmt.Sprintf("Accept the new history of %s? What it declares now is taken, though it no longer holds the commit %.7s that was taken before.", l.Branch, l.Commit),
				do:   func() error { return a.control.Accept(l.Name) },
			}
			return nil
		}
	}
	a.say("No branch was rewritten.", true)
	return nil
}

func (a *App) keyAsk(key string) tea.Cmd {
	q := *a.ask
	switch key {
	case "enter":
		a.ask = nil
		return func() tea.Msg {
			if q.do != nil {
				return answeredMsg{"Done.", q.do()}
			}
			ctx, cancel := context.WithTimeout(context.Background(), orderTimeout)
			defer cancel()
			return answeredMsg{fmt.Sprintf("Done: %s at %s · %s.", q.order.Verb, q.order.Berth.Workload, q.order.Berth.Site), a.control.Do(ctx, q.order)}
		}
	case "esc", "n", "q":
		a.ask = nil
		a.say("Nothing was changed.", false)
	}
	return nil
}

// orderTimeout is how long an order may take before the screen says that it has no answer yet.
const orderTimeout = 15 * time.Second

func (a *App) keyFind(msg tea.KeyPressMsg) tea.Cmd {
	switch msg.String() {
	case "enter":
		a.finding = false
		a.find.Blur()
		return nil
	case "esc":
		a.finding = false
		a.find.Blur()
		a.board.SetFilter("")
		return nil
	case "up", "down":
		a.board.Key(msg.String())
		return nil
	}
	var cmd tea.Cmd
	a.find, cmd = a.find.Update(msg)
	a.board.SetFilter(a.find.Value())
	return cmd
}
