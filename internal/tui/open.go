package tui

import (
	"context"
	"errors"
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/control"
	"aditus/internal/core/berth"
	"aditus/internal/core/fault"
	"aditus/internal/core/say"
	"aditus/internal/tui/anatomy"
	"aditus/internal/tui/bench"
	"aditus/internal/tui/comparison"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/links"
	"aditus/internal/tui/watch"
)

// fetched is what was asked for the screen that was shown then.
type fetched struct {
	over screen
	of   string // the instance whose log it is; empty for none
	show func() // nil where nothing came
}

// fetch asks for what a screen shows, outside of Update: an answer may take long, and keys must not wait for it. get
// gives what is to be done with it. For each screen one thing is asked for at a time.
func (a *App) fetch(over screen, of string, get func(ctx context.Context) (show func())) tea.Cmd {
	if a.fetching == over {
		return nil
	}
	a.fetching = over
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(a.ctx, tryTimeout)
		defer cancel()
		return fetched{over, of, get(ctx)}
	}
}

// show takes what came for a screen, where that is still shown.
func (a *App) show(m fetched) tea.Cmd {
	if a.fetching == m.over {
		a.fetching = nil
	}
	if a.over != m.over {
		return nil
	}
	if m.show != nil {
		m.show()
	}
	if inside, ok := a.over.(*anatomy.Model); ok && inside.Instance() != m.of {
		return a.readLog(inside) // another one was chosen meanwhile
	}
	return nil
}

// renew shows the screen over the board as things are now.
func (a *App) renew() tea.Cmd {
	switch over := a.over.(type) {
	case *watch.Model:
		w := over.Watch()
		return a.fetch(over, "", func(ctx context.Context) func() {
			newer, err := a.control.Watch(ctx, w.Berth, w.Rollout.ID)
			return where(err == nil, func() { over.SetWatch(newer) })
		})
	case *comparison.Model:
		id := over.Comparison().Berth
		b, _ := a.snapshot.Find(id)
		switch {
		case over.Ref() != "" || over.Comparison().Two: // what was asked for stays as it was asked
		case control.SameStates(a.compared, b):
			over.SetSeen(control.LiveWords(b))
		default:
			return a.fetch(over, "", func(ctx context.Context) func() {
				newer, err := a.control.Compare(ctx, id, control.Against{})
				return where(err == nil, func() { a.compared = b; over.Set(newer) })
			})
		}
	case *anatomy.Model:
		if b, ok := a.snapshot.Find(over.Berth().ID); ok {
			over.Set(b, a.snapshot.Now)
		}
		return a.readLog(over)
	case *bench.Model:
		if time.Since(a.benched) < benchEvery {
			return nil
		}
		a.benched = time.Now()
		b := over.Bench()
		return a.fetch(over, "", func(ctx context.Context) func() {
			newer, err := a.control.Bench(ctx, b.Berth, b.Rule.Name)
			return where(err == nil, func() { over.Set(newer) })
		})
	case *links.Model:
		over.Set(a.snapshot)
	}
	return nil
}

func where(ok bool, do func()) func() {
	if !ok {
		return nil
	}
	return do
}

// logLines is how many lines of an instance's log are kept on screen.
const logLines = 400

// readLog reads the log of the instance that is looked into.
func (a *App) readLog(m *anatomy.Model) tea.Cmd {
	instance, id := m.Instance(), m.Berth().ID
	if instance == "" {
		return nil
	}
	return a.fetch(m, instance, func(ctx context.Context) func() {
		lines, err := a.control.Log(ctx, id, instance, time.Time{}, logLines)
		return func() { m.SetLog(instance, lines, err) }
	})
}

// opened is a screen to be shown, or why it cannot be.
func opened(over screen, err error) tea.Msg {
	if err != nil {
		return answeredMsg{err: err}
	}
	return openedMsg{over}
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
		return a.answer(func(ctx context.Context) (string, error) { return a.control.Try(ctx, a.options.Who, l.Name) })
	case "n":
		return a.lookNow("The link "+l.Name+" is read again.", l.Name)
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
		return a.answer(func(ctx context.Context) (string, error) {
			return fmt.Sprintf("The link %s is polled every %s from now on.", l.Name, say.Span(every)), a.control.SetEvery(ctx, a.options.Who, l.Name, every)
		})
	}
	return nil
}

// answer asks for something outside of Update, and has what came of it told.
func (a *App) answer(ask func(ctx context.Context) (string, error)) tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(a.ctx, tryTimeout)
		defer cancel()
		text, err := ask(ctx)
		return answeredMsg{text, err}
	}
}

// tryTimeout is how long a link may take to answer when it is tried.
const tryTimeout = 30 * time.Second

// lookNow has links read at once: those that are named, or all.
func (a *App) lookNow(text string, names ...string) tea.Cmd {
	return a.answer(func(ctx context.Context) (string, error) {
		return text, a.control.LookNow(ctx, a.options.Who, names...)
	})
}

func (a *App) openWatch(id berth.ID) tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(a.ctx, tryTimeout)
		defer cancel()
		w, err := a.control.Watch(ctx, id, 0)
		if errors.Is(err, fault.ErrNotFound) {
			err = fmt.Errorf("nothing was rolled out at %s · %s yet", id.Workload, id.Site)
		}
		return opened(watch.New(w), err)
	}
}

// openComparison compares a berth; with a ref that takes a while.
func (a *App) openComparison(id berth.ID, ref string) tea.Cmd {
	if ref != "" {
		a.say(ref+" is read.", false)
	}
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(a.ctx, tryTimeout)
		defer cancel()
		c, err := a.control.Compare(ctx, id, control.Against{Ref: ref})
		return opened(comparison.New(c, ref), err)
	}
}

// benchEvery is how often a bench is made anew from the record: its history is long and changes slowly.
const benchEvery = 5 * time.Second

// openBench opens the bench of a berth's guard, or says why it cannot.
func (a *App) openBench(id berth.ID, guard string) tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(a.ctx, tryTimeout)
		defer cancel()
		b, err := a.control.Bench(ctx, id, guard)
		if err != nil {
			return answeredMsg{err: err}
		}
		return openedMsg{bench.New(b)}
	}
}

// keyBench does what a key asks of the bench.
func (a *App) keyBench(m *bench.Model, key string) tea.Cmd {
	b := m.Bench()
	switch key {
	case "tab":
		return a.openBench(b.Berth, m.Next(1))
	case "shift+tab":
		return a.openBench(b.Berth, m.Next(-1))
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
			do: func(ctx context.Context) (string, error) {
				p, err := a.control.OfferLimit(ctx, a.options.Who, b, limit)
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
