// Package tui is the full-screen face: it holds the screens together, asks before anything changes a site, and draws
// what is common to all of them. A screen is a function of a snapshot and its own cursor.
package tui

import (
	"context"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"aditus/internal/control"
	"aditus/internal/core/berth"
	"aditus/internal/core/policy"
	"aditus/internal/status"
	"aditus/internal/tui/anatomy"
	"aditus/internal/tui/bench"
	"aditus/internal/tui/board"
	"aditus/internal/tui/calendar"
	"aditus/internal/tui/comparison"
	"aditus/internal/tui/connect"
	"aditus/internal/tui/history"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/links"
	"aditus/internal/tui/screen"
	"aditus/internal/tui/settings"
	"aditus/internal/tui/sites"
	"aditus/internal/tui/spread"
	"aditus/internal/tui/watch"
	"aditus/internal/words"
)

// Options say what an App is given beside its Control.
type Options struct {
	Who      policy.Actor    // in whose name orders are given
	Note     string          // told on the board's key bar, such as how fast the demo's time runs
	Pictures string          // the folder that pictures are written to
	Shown    func()          // called once the first picture is on the screen; may be nil
	Memory   screen.Memory   // of what screens leave for the next start; nil for none
	Settings control.Settler // nil where they are not changed from here
	Tokens   control.Tokener // nil where there is no server that has any
	Theme    Theme           // that was asked for; empty for auto
	Progress bool            // the terminal takes progress reports (OSC 9;4)
	Ring     bool            // the terminal's bell rings when something newly needs whoever looks
}

// App is the whole interface, a tea.Model.
type App struct {
	desk     *screen.Desk
	changed  <-chan struct{}
	options  Options
	snapshot status.Snapshot
	home     *board.Model
	over     screen.Screen // what lies over it; nil for nothing

	w, h int
	look look

	ask      *screen.Question
	asked    kit.List // the lines of it that are shown
	menu     *menu
	help     bool
	helpTop  int  // the first of its lines that is shown
	helpMore bool // there are more
	input    textinput.Model
	prompt   *screen.Prompt    // what is typed into the input, nil for nothing
	editor   *editor           // what is written, nil for nothing
	drafts   map[string]string // texts that were left, by their titles
	message  message
}

type message struct {
	text string
	bad  bool
	at   time.Time
}

// opener is a screen that lies over the board.
type opener struct {
	verb  words.Verb // the action that opens it, or
	key   string     // a key of its own
	name  string     // by which it is opened where its key is not known; that of its action, where it has one
	bar   string     // what the board's bar says of that key
	means string     // what the board's help says of it; empty where it says nothing
	// open gives the screen, or asks for what it shows first.
	open func(d *screen.Desk, s status.Snapshot, at berth.ID) (screen.Screen, tea.Cmd)
}

// screens are all of them.
var screens = []opener{
	{verb: words.WatchIt, means: "watch its newest rollout on one time axis", open: watch.Open},
	{verb: words.OpenBench, means: "the bench: a guard's limit over its signal's history, and what it would have stopped", open: bench.Open},
	{verb: words.Compare, means: "compare applied, declared and live", open: comparison.Open},
	{verb: words.LookInside, means: "look inside: parts, instances, logs", open: anatomy.Open},
	{key: "K", name: "calendar", bar: "calendar", means: "the line's time: windows, freezes, schedules, what comes, what ends", open: calendar.Open},
	{key: "A", name: "spread", means: "the workload over all its sites: versions, since when, why not newer", open: spread.Open},
	{key: "H", name: "ledger", bar: "ledger", means: "the ledger: all that happened, and the way back to any revision", open: history.Open},
	{key: "C", name: "connect", means: "connect a repository or a registry", open: connect.Open},
	{key: ",", name: "settings", means: "settings: links, sites, sinks, tokens, and what else stands in them", open: settings.Open},
	{key: "M", name: "sites", bar: "sites", means: "sites: the machines and clusters that they run on, whether they answer, and what room they have", open: sites.Open},
	{key: "L", name: "links", bar: "links", means: "links to repositories and registries", open: links.Open},
}

// opens is the key that opens the screen.
func (o opener) opens() string {
	if o.key != "" {
		return o.key
	}
	return words.Keys[o.verb]
}

// mostTyped is how long a line may be that is typed.
const mostTyped = 2000

// New makes the interface. What it asks for is not waited for when ctx ends.
func New(ctx context.Context, c control.Control, options Options) *App {
	input := textinput.New()
	input.Prompt, input.CharLimit = "", mostTyped
	a := &App{changed: c.Changed(ctx), options: options, look: newLook(options.Theme), input: input}
	a.desk = &screen.Desk{Ctx: ctx, Control: c, Who: options.Who, Pictures: options.Pictures, Settings: options.Settings, Tokens: options.Tokens, Kept: map[string]any{}, Memory: options.Memory, Say: a.say, Write: a.write, Ask: a.put, Type: a.typed, Start: a.startVerb, StartMany: a.startMany, TearDown: a.tearDown, TakePicture: a.takePicture}
	a.home, a.desk.Find = board.New(a.desk), func(text string) {
		a.over = nil
		a.home.Find(text)
	}
	a.snap()
	if s := a.snapshot; options.Settings != nil && len(s.Links)+len(s.Berths) == 0 && s.Lost == nil {
		a.over, _ = connect.Open(a.desk, s, berth.ID{}) // nothing is connected, and there is nothing else to look at
	}
	return a
}

// shown is the screen that is.
func (a *App) shown() screen.Screen {
	if a.over != nil {
		return a.over
	}
	return a.home
}

// refreshEvery is how often the screen is drawn anew at least, for the ages on it; no change is shown faster than
// changeEvery.
const (
	refreshEvery = 500 * time.Millisecond
	changeEvery  = 150 * time.Millisecond
	flushed      = 35 * time.Millisecond // until what was drawn is on the terminal: two frames
)

// refreshMsg tells that there may be something new to show.
type refreshMsg struct{}

// Init implements tea.Model.
func (a *App) Init() tea.Cmd { return tea.Batch(a.look.begin(), a.wait()) }

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

// snap takes a new snapshot, and asks for what the screen shows beside it.
func (a *App) snap() tea.Cmd {
	a.snapshot = a.desk.Control.Snapshot(a.desk.Ctx)
	cmd := a.home.Update(a.snapshot)
	if a.over != nil {
		cmd = tea.Batch(cmd, a.over.Update(a.snapshot))
	}
	return cmd
}

// Update implements tea.Model.
func (a *App) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	asks := a.look.update(msg)
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		first := a.w == 0
		if a.w, a.h = msg.Width, msg.Height; first && a.options.Shown != nil {
			return a, tea.Tick(flushed, func(time.Time) tea.Msg {
				a.options.Shown()
				return nil
			})
		}
	case refreshMsg:
		before := a.snapshot
		return a, tea.Batch(a.snap(), a.wait(), a.ring(before))
	case screen.Opened:
		a.over = msg.Screen
	case screen.Asked:
		a.put(msg.Question)
	case screen.Closed:
		a.over = nil
		if delete(a.desk.Kept, msg.Forget); msg.Forget != "" {
			a.desk.Remember(msg.Forget, nil)
		}
		a.say(msg.Text, false)
		return a, a.snap()
	case screen.Fetched:
		return a, a.desk.Take(msg, a.over)
	case screen.Answered:
		if msg.Err != nil {
			a.say(msg.Err.Error(), true)
		} else {
			a.say(msg.Text, false)
		}
		return a, a.snap()
	case screen.Wrote:
		return a, a.wrote(msg)
	case tea.PasteMsg:
		return a, a.paste(msg)
	case tea.MouseClickMsg:
		return a, a.click(msg)
	case tea.MouseWheelMsg:
		return a, a.wheel(msg.Mouse())
	case tea.KeyPressMsg:
		return a, a.key(msg)
	default:
		if a.over != nil { // an answer to what it asked
			return a, tea.Batch(asks, a.over.Update(msg))
		}
	}
	return a, asks
}

func (a *App) say(text string, bad bool) { a.message = message{text, bad, time.Now()} }

func (a *App) click(m tea.MouseClickMsg) tea.Cmd {
	a.desk.Touched = true
	if a.covered() || m.Button != tea.MouseLeft {
		return nil
	}
	return a.shown().Update(m)
}

// covered tells whether a question, the menu or the help lies over the screen, which then takes no mouse.
func (a *App) covered() bool { return a.ask != nil || a.menu != nil || a.help || a.editor != nil }

func (a *App) wheel(m tea.Mouse) (cmd tea.Cmd) {
	a.desk.Touched = true
	switch {
	case a.covered():
	case m.Button == tea.MouseWheelUp:
		cmd, _ = screen.Press(a.shown(), "up")
	default:
		cmd, _ = screen.Press(a.shown(), "down")
	}
	return cmd
}

// key hands a key to whatever has the word: a question, the menu, the search, the help, or the screen.
func (a *App) key(msg tea.KeyPressMsg) tea.Cmd {
	key := msg.String()
	if key == "ctrl+c" {
		return tea.Quit
	}
	a.message, a.desk.Touched = message{}, true
	switch {
	case a.editor != nil:
		return a.keyEditor(msg)
	case a.ask != nil:
		return a.keyAsk(key)
	case a.help:
		if down := key == "down" || key == "j" || key == "space" || key == "pgdown"; down && a.helpMore {
			a.helpTop += max(1, a.h-5)
			return nil
		}
		a.help, a.helpTop = false, 0
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
	case ":":
		return a.askCommand()
	case "ctrl+t":
		a.look.next()
		a.say("The theme is "+a.look.name()+".", false)
		return nil
	case "space":
		if b, ok := a.snapshot.Find(a.shown().Berth()); ok {
			a.menu = newMenu(words.Actions(b))
		}
		return nil
	case "esc", "backspace":
		if a.over != nil {
			a.over = nil
			return nil
		}
	}
	if cmd, ok := screen.Press(a.shown(), key); ok {
		return cmd
	}
	return a.act(key)
}

// open shows a screen.
func (a *App) open(with func(d *screen.Desk, s status.Snapshot, at berth.ID) (screen.Screen, tea.Cmd), at berth.ID) tea.Cmd {
	s, cmd := with(a.desk, a.snapshot, at)
	if s != nil {
		a.over = s
	}
	return cmd
}
