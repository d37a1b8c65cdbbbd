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
	"aditus/internal/core/say"
	"aditus/internal/engine"
	"aditus/internal/ledger"
	"aditus/internal/tui/anatomy"
	"aditus/internal/tui/board"
	"aditus/internal/tui/comparison"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/links"
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
	over     screen // nil on the board

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
	order engine.Order
	do    func() error // instead of an order
	types string       // what is to be typed before it is done; empty for nothing
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
func New(c control.Control, options Options) *App {
	input := textinput.New()
	input.Prompt, input.CharLimit = "", 200
	a := &App{control: c, options: options, board: board.New(), dark: true, profile: colorprofile.TrueColor, theme: kit.Dark, input: input}
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
	openedMsg struct{ over screen }
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
	a.renew()
}

// renew shows the screen over the board as things are now.
func (a *App) renew() {
	switch over := a.over.(type) {
	case *watch.Model:
		w := over.Watch()
		if newer, err := a.control.Watch(w.Berth, w.Rollout.ID); err == nil {
			over.SetWatch(newer)
		}
	case *comparison.Model:
		if over.Ref() == "" && !over.Comparison().Two { // what was asked for stays as it was asked
			if newer, err := a.control.Compare(context.Background(), over.Comparison().Berth, ""); err == nil {
				over.Set(newer)
			}
		}
	case *anatomy.Model:
		if b, ok := a.snapshot.Find(over.Berth().Berth); ok {
			over.Set(b, a.snapshot.Now)
		}
		a.readLog(over)
	case *links.Model:
		over.Set(a.snapshot)
	}
}

// logLines is how many lines of an instance's log are kept on screen, logTimeout how long its site may take.
const (
	logLines   = 400
	logTimeout = 2 * time.Second
)

func (a *App) readLog(m *anatomy.Model) {
	if instance := m.Instance(); instance != "" {
		ctx, cancel := context.WithTimeout(context.Background(), logTimeout)
		defer cancel()
		lines, err := a.control.Log(ctx, m.Berth().Berth, instance, time.Time{}, logLines)
		m.SetLog(instance, lines, err)
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
	case openedMsg:
		a.over = msg.over
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
	case a.over != nil:
		a.over.Click(m.X, m.Y)
		a.renew()
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
	if a.over != nil {
		a.over.Key(key)
		a.renew()
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
			a.menu = newMenu(control.Actions(b))
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
			a.openWatch(a.board.Selected())
			return nil
		}
		if a.board.Key(key) {
			return nil
		}
	case *links.Model:
		if over.Key(key) {
			return nil
		}
		return a.keyLink(over, key)
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
			a.readLog(over)
			return nil
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

// keyLink does what a key asks of the selected link.
func (a *App) keyLink(m *links.Model, key string) tea.Cmd {
	l, ok := m.Selected()
	if !ok {
		return nil
	}
	switch key {
	case "v":
		a.say("The link "+l.Name+" is asked.", false)
		return func() tea.Msg {
			ctx, cancel := context.WithTimeout(context.Background(), tryTimeout)
			defer cancel()
			text, err := a.control.Try(ctx, l.Name)
			return answeredMsg{text, err}
		}
	case "n":
		a.control.LookNow(l.Name)
		a.say("The link "+l.Name+" is read again.", false)
	case "t":
		return a.acceptHistory()
	case "+", "=", "-":
		every := links.Faster(l.Every)
		if key == "-" {
			every = links.Slower(l.Every)
		}
		if l.Follows != "" || every == l.Every {
			a.say("The link "+l.Name+" keeps its interval.", true)
			return nil
		}
		err := a.control.SetEvery(l.Name, every)
		return func() tea.Msg {
			return answeredMsg{fmt.Sprintf("The link %s is polled every %s from now on.", l.Name, say.Span(every)), err}
		}
	}
	return nil
}

// tryTimeout is how long a link may take to answer when it is tried.
const tryTimeout = 30 * time.Second

// berth is the one that actions are about.
func (a *App) berth() engine.Berth {
	id := a.board.Selected()
	switch over := a.over.(type) {
	case *watch.Model:
		id = over.Watch().Berth
	case *comparison.Model:
		id = over.Comparison().Berth
	case *anatomy.Model:
		id = over.Berth().Berth
	case *links.Model:
		return engine.Berth{}
	}
	b, _ := a.snapshot.Find(id)
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
		a.over = watch.New(w)
	}
}

// openComparison compares a berth; with a ref that takes a while.
func (a *App) openComparison(id ledger.Berth, ref string) tea.Cmd {
	compare := func() (control.Comparison, error) {
		ctx, cancel := context.WithTimeout(context.Background(), tryTimeout)
		defer cancel()
		return a.control.Compare(ctx, id, ref)
	}
	if ref == "" {
		c, err := compare()
		if err != nil {
			a.say(err.Error(), true)
			return nil
		}
		a.over = comparison.New(c, "")
		return nil
	}
	a.say(ref+" is read.", false)
	return func() tea.Msg {
		c, err := compare()
		if err != nil {
			return answeredMsg{err: err}
		}
		return openedMsg{comparison.New(c, ref)}
	}
}

// askRef asks what to compare with.
func (a *App) askRef(m *comparison.Model) tea.Cmd {
	id := m.Comparison().Berth
	return a.askFor(&prompt{
		label: "compare with a branch, a commit or a revision; nothing for what is declared:",
		hints: []kit.Hint{{Key: "enter", Does: "compare"}, {Key: "esc", Does: "leave it"}},
		done:  func(text string) tea.Cmd { return a.openComparison(id, text) },
	}, m.Ref())
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
		if _, there := a.over.(*watch.Model); !there {
			a.openWatch(at)
		}
	case action.Verb == control.Compare:
		return a.openComparison(at, "")
	case action.Verb == control.LookInside:
		if b, ok := a.snapshot.Find(at); ok {
			over := anatomy.New(b, a.snapshot.Now)
			a.over = over
			a.readLog(over)
		}
	case action.Verb == control.LookNow:
		a.control.LookNow()
		a.say("Git is read again.", false)
	default:
		a.ask = &question{text: action.Asks, order: engine.Order{Verb: engine.Verb(action.Verb), Berth: at, By: a.options.Who}, types: action.Types}
		if m, ok := a.over.(*comparison.Model); ok && action.Verb == control.Sync && len(m.Marked()) > 0 {
			a.ask.order.Parts = m.Marked()
			a.ask.text = fmt.Sprintf("Sync only %s of %s at %s? The other parts stay as they are applied until you sync them or Git moves on.", say.List(m.Marked()), at.Workload, at.Site)
		}
		if a.ask.types != "" {
			return a.askName()
		}
	}
	return nil
}

// askName has the name typed of what cannot be brought back.
func (a *App) askName() tea.Cmd {
	q := *a.ask
	a.ask = nil
	return a.askFor(&prompt{
		label: q.text + " Type " + q.types + " to do it:",
		hints: []kit.Hint{{Key: "enter", Does: "do it"}, {Key: "esc", Does: "leave it"}},
		done: func(text string) tea.Cmd {
			if text != q.types {
				a.say("Nothing was changed: that is not "+q.types+".", true)
				return nil
			}
			return a.carryOut(q)
		},
		left: func() { a.say("Nothing was changed.", false) },
	}, "")
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
		return a.carryOut(q)
	case "esc", "n", "q":
		a.ask = nil
		a.say("Nothing was changed.", false)
	}
	return nil
}

// carryOut does what was asked about.
func (a *App) carryOut(q question) tea.Cmd {
	return func() tea.Msg {
		if q.do != nil {
			return answeredMsg{"Done.", q.do()}
		}
		ctx, cancel := context.WithTimeout(context.Background(), orderTimeout)
		defer cancel()
		return answeredMsg{fmt.Sprintf("Done: %s at %s · %s.", q.order.Verb, q.order.Berth.Workload, q.order.Berth.Site), a.control.Do(ctx, q.order)}
	}
}

// orderTimeout is how long an order may take before the screen says that it has no answer yet.
const orderTimeout = 15 * time.Second
