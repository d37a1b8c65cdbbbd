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
	"aditus/internal/tui/bench"
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
			if newer, err := a.control.Compare(context.Background(), over.Comparison().Berth, control.Against{}); err == nil {
				over.Set(newer)
			}
		}
	case *anatomy.Model:
		if b, ok := a.snapshot.Find(over.Berth().Berth); ok {
			over.Set(b, a.snapshot.Now)
		}
		a.readLog(over)
	case *bench.Model:
		if time.Since(a.benched) < benchEvery {
			return
		}
		a.benched = time.Now()
		if newer, err := a.control.Bench(over.Bench().Berth, over.Bench().Rule.Name); err == nil {
			over.Set(newer)
		}
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
		return a.control.Compare(ctx, id, control.Against{Ref: ref})
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

// benchEvery is how often a bench is made anew from the record: its history is long and changes slowly.
const benchEvery = 5 * time.Second

// openBench opens the bench of a berth's guard, or says why it cannot.
func (a *App) openBench(id ledger.Berth, guard string) {
	b, err := a.control.Bench(id, guard)
	if err != nil {
		a.say(err.Error(), true)
		return
	}
	a.over, a.benched = bench.New(b), time.Now()
}

// keyBench does what a key asks of the bench.
func (a *App) keyBench(m *bench.Model, key string) tea.Cmd {
	b := m.Bench()
	switch key {
	case "tab":
		a.openBench(b.Berth, m.Next(1))
	case "shift+tab":
		a.openBench(b.Berth, m.Next(-1))
	case "p":
		return a.picture()
	case "o":
		if !m.Moved() {
			a.say("The limit is where it is declared; move it first.", true)
			return nil
		}
		limit := m.Limit()
		key, text := b.Declared(limit)
		a.ask = &question{
			text: fmt.Sprintf("Offer the limit %s: %s for %s of %s? A commit goes to a branch of its own, for people to look at. Nothing else changes.", key, text, b.Rule.Name, b.Berth.Workload),
			do: func() (string, error) {
				ctx, cancel := context.WithTimeout(context.Background(), tryTimeout)
				defer cancel()
				p, err := a.control.OfferLimit(ctx, b, limit, a.options.Who)
				return "It is offered on the branch " + p.Branch + ".", err
			},
		}
	default:
		if !m.Key(key) {
			return a.act(key)
		}
	}
	return nil
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
