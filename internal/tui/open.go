package tui

import (
	"context"
	"errors"
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/control"
	"aditus/internal/core/say"
	"aditus/internal/ledger"
	"aditus/internal/tui/anatomy"
	"aditus/internal/tui/comparison"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/links"
	"aditus/internal/tui/watch"
)

// renew shows the screen over the board as things are now.
func (a *App) renew() {
	switch over := a.over.(type) {
	case *watch.Model:
		w := over.Watch()
		if newer, err := a.control.Watch(w.Berth, w.Rollout.ID); err == nil {
			over.SetWatch(newer)
		}
	case *comparison.Model:
		b, _ := a.snapshot.Find(over.Comparison().Berth)
		switch {
		case over.Ref() != "" || over.Comparison().Two: // what was asked for stays as it was asked
		case control.SameStates(a.compared, b):
			over.SetSeen(control.LiveWords(b))
		default:
			a.compared = b
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
