// Package tui is the full-screen face: it holds the screens together, asks before anything changes a site, and draws
// what is common to all of them. A screen is a function of a snapshot and its own cursor.
package tui

import (
	"context"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"aditus/internal/control"
	"aditus/internal/core/berth"
	"aditus/internal/core/policy"
	"aditus/internal/status"
	"aditus/internal/tui/anatomy"
	"aditus/internal/tui/bench"
	"aditus/internal/tui/board"
	"aditus/internal/tui/comparison"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/links"
	"aditus/internal/tui/watch"
	"aditus/internal/words"
)

// Options say what an App is given beside its Control.
type Options struct {
	Who      policy.Actor // in whose name orders are given
	Note     string       // told on the board's key bar, such as how fast the demo's time runs
	Pictures string       // the folder that pictures are written to
	Shown    func()       // called once the first picture is on the screen; may be nil
}

// App is the whole interface, a tea.Model.
type App struct {
	ctx      context.Context // ends when the interface does: what is asked for then is not waited for
	control  control.Control
	changed  <-chan struct{}
	options  Options
	snapshot status.Snapshot
	board    *board.Model
	over     screen       // nil on the board
	compared status.Berth // as it was when it was compared last
	benched  time.Time    // when the bench was made last
	fetching screen       // for which something is asked for now; nil for none

	w, h    int
	dark    bool
	ground  bool // the terminal told its ground; before that it must not be painted over
	profile colorprofile.Profile
	theme   kit.Theme

	ask     *question
	menu    *menu
	help    bool
	input   textinput.Model
	prompt  *prompt // what is typed into the input, nil for nothing
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
	order berth.Order
	do    func(ctx context.Context) (string, error) // instead of an order: what to say once it is done
	types string                                    // what is to be typed before it is done; empty for nothing
}

// screen is what lies over the board.
type screen interface {
	Key(key string) bool
	Click(x, y int) bool
	View(p *kit.Page)
	Hints() []kit.Hint
}

// prompt asks for a line of text.
type prompt struct {
	label string
	hints []kit.Hint
	typed func(text string)         // at every key; may be nil
	done  func(text string) tea.Cmd // at enter
	left  func()                    // at escape; may be nil
}

// New makes the interface.
func New(ctx context.Context, c control.Control, options Options) *App {
	input := textinput.New()
	input.Prompt, input.CharLimit = "", 200
	a := &App{ctx: ctx, control: c, changed: c.Changed(ctx), options: options, board: board.New(), dark: true, profile: colorprofile.TrueColor, theme: kit.Dark, input: input}
	a.look()
	return a
}

// refreshEvery is how often the screen is drawn anew at least, for the ages on it; no change is shown faster than
// changeEvery.
const (
	refreshEvery = 500 * time.Millisecond
	changeEvery  = 150 * time.Millisecond
	flushed      = 35 * time.Millisecond // until what was drawn is on the terminal: two frames
)

type (
	refreshMsg  struct{}
	answeredMsg struct {
		text string
		err  error
	}
	openedMsg struct{ over screen }
)

// Init implements tea.Model.
func (a *App) Init() tea.Cmd { return tea.Batch(tea.RequestBackgroundColor, a.wait()) }

// wait waits for something new to show.
func (a *App) wait() tea.Cmd {
	return func() tea.Msg {
		time.Sleep(changeEvery)
		select {
		case <-a.changed:
		case <-time.After(refreshEvery - changeEvery):
		}
		return refreshMsg{}
	}
}

// look takes a new snapshot, and asks for what the screen shows beside it.
func (a *App) look() tea.Cmd {
	a.snapshot = a.control.Snapshot(a.ctx)
	a.board.SetSnapshot(a.snapshot)
	if !a.touched {
		a.board.SelectWhatMatters()
	}
	return a.renew()
}

// Update implements tea.Model.
func (a *App) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		first := a.w == 0
		if a.w, a.h = msg.Width, msg.Height; first && a.options.Shown != nil {
			return a, tea.Tick(flushed, func(time.Time) tea.Msg {
				a.options.Shown()
				return nil
			})
		}
	case tea.ColorProfileMsg:
		a.profile = msg.Profile
		a.theme = kit.Choose(a.profile, a.dark)
	case tea.BackgroundColorMsg:
		if !a.ground {
			a.dark, a.ground = msg.IsDark(), true
		}
		a.theme = kit.Choose(a.profile, a.dark)
	case refreshMsg:
		return a, tea.Batch(a.look(), a.wait())
	case openedMsg:
		a.over, a.benched = msg.over, time.Now()
	case fetched:
		return a, a.show(msg)
	case answeredMsg:
		if msg.err != nil {
			a.say(msg.err.Error(), true)
		} else {
			a.say(msg.text, false)
		}
		return a, a.look()
	case tea.MouseClickMsg:
		return a, a.click(msg.Mouse())
	case tea.MouseWheelMsg:
		return a, a.wheel(msg.Mouse())
	case tea.KeyPressMsg:
		return a, a.key(msg)
	}
	return a, nil
}

func (a *App) say(text string, bad bool) { a.message = message{text, bad, time.Now()} }

func (a *App) click(m tea.Mouse) tea.Cmd {
	a.touched = true
	switch {
	case a.covered() || m.Button != tea.MouseLeft:
	case a.over != nil:
		a.over.Click(m.X, m.Y)
		return a.renew()
	default:
		before := a.board.Selected()
		if a.board.Click(m.X, m.Y) && before == a.board.Selected() {
			return a.openWatch(before)
		}
	}
	return nil
}

// covered tells whether a question, the menu or the help lies over the screen, which then takes no mouse.
func (a *App) covered() bool { return a.ask != nil || a.menu != nil || a.help }

func (a *App) wheel(m tea.Mouse) tea.Cmd {
	a.touched = true
	if a.covered() {
		return nil
	}
	key := "down"
	if m.Button == tea.MouseWheelUp {
		key = "up"
	}
	if a.over == nil {
		a.board.Key(key)
		return nil
	}
	a.over.Key(key)
	return a.renew()
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
	case a.prompt != nil:
		return a.keyPrompt(msg)
	}
	switch key {
	case "q":
		return tea.Quit
	case "?":
		a.help = true
		return nil
	case "space":
		if b := a.berth(); b.Workload != "" {
			a.menu = newMenu(words.Actions(b))
		}
		return nil
	case "/":
		return a.find()
	case "esc", "backspace":
		if a.over != nil {
			a.over = nil
		} else {
			a.board.SetFilter("")
		}
		return nil
	case "L":
		a.over = links.New(a.snapshot)
		return nil
	}
	return a.keyScreen(key)
}

// keyScreen hands a key to the screen, and to the actions where the screen does not take it.
func (a *App) keyScreen(key string) tea.Cmd {
	switch over := a.over.(type) {
	case nil:
		if key == "enter" {
			return a.openWatch(a.board.Selected())
		}
		if a.board.Key(key) {
			return nil
		}
	case *links.Model:
		if over.Key(key) {
			return nil
		}
		return a.keyLink(over, key)
	case *bench.Model:
		return a.keyBench(over, key)
	case *watch.Model:
		if key == "p" {
			return a.picture()
		}
		if over.Key(key) {
			return nil
		}
	case *anatomy.Model:
		if key == "p" {
			return a.picture()
		}
		if over.Key(key) {
			return a.readLog(over)
		}
	case *comparison.Model:
		switch {
		case key == "p":
			a.say("The JSON Patch is in the clipboard, if this terminal lets programs put it there.", false)
			return tea.SetClipboard(over.Patch())
		case key == "b":
			return a.askRef(over)
		case over.Key(key):
			return nil
		}
	}
	return a.act(key)
}

// berth is the one that actions are about.
func (a *App) berth() status.Berth {
	id := a.board.Selected()
	switch over := a.over.(type) {
	case *watch.Model:
		id = over.Watch().Berth
	case *comparison.Model:
		id = over.Comparison().Berth
	case *anatomy.Model:
		id = over.Berth().ID
	case *bench.Model:
		id = over.Bench().Berth
	case *links.Model:
		return status.Berth{}
	}
	b, _ := a.snapshot.Find(id)
	return b
}
