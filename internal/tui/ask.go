package tui

import (
	"context"
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/core/berth"
	"aditus/internal/core/say"
	"aditus/internal/tui/anatomy"
	"aditus/internal/tui/comparison"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/watch"
	"aditus/internal/words"
)

// act does what a letter stands for, if it is possible now, or says why it is not.
func (a *App) act(key string) tea.Cmd {
	if key == words.Keys[words.AcceptHistory] {
		return a.acceptHistory()
	}
	for _, action := range words.Actions(a.berth()) {
		if action.Key == key {
			return a.start(action)
		}
	}
	return nil
}

// start puts the question that an action needs, or does it at once where it changes nothing.
func (a *App) start(action words.Action) tea.Cmd {
	at := action.Berth
	switch {
	case action.Not != nil:
		a.say(fmt.Sprintf("%s is not possible at %s · %s: %v.", action.Verb, at.Workload, at.Site, action.Not), true)
	case action.Verb == words.WatchIt:
		if _, there := a.over.(*watch.Model); !there {
			return a.openWatch(at)
		}
	case action.Verb == words.Compare:
		return a.openComparison(at, "")
	case action.Verb == words.LookInside:
		if b, ok := a.snapshot.Find(at); ok {
			over := anatomy.New(b, a.snapshot.Now)
			a.over = over
			return a.readLog(over)
		}
	case action.Verb == words.OpenBench:
		return a.openBench(at, "")
	case action.Verb == words.OfferRevert:
		a.ask = &question{text: action.Asks, do: func(ctx context.Context) (string, error) {
			p, err := a.control.OfferRevert(ctx, a.options.Who, at)
			return "It is offered on the branch " + p.Branch + ".", err
		}}
	case action.Says != "":
		return a.askWhy(action)
	case action.Verb == words.LookNow:
		return a.lookNow("Git is read again.")
	default:
		a.ask = &question{text: action.Asks, order: berth.Order{Verb: berth.Verb(action.Verb), Berth: at}, types: action.Types}
		if m, ok := a.over.(*comparison.Model); ok && action.Verb == words.Sync && len(m.Marked()) > 0 {
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

// askWhy has a message typed that goes on record with an action.
func (a *App) askWhy(action words.Action) tea.Cmd {
	return a.askFor(&prompt{
		label: action.Says,
		hints: []kit.Hint{{Key: "enter", Does: string(action.Verb)}, {Key: "esc", Does: "leave it"}},
		done: func(text string) tea.Cmd {
			return a.carryOut(question{order: berth.Order{Verb: berth.Verb(action.Verb), Berth: action.Berth, Note: text}})
		},
		left: func() { a.say("Nothing was changed.", false) },
	}, "")
}

func (a *App) acceptHistory() tea.Cmd {
	for _, l := range a.snapshot.Links {
		if l.Rewritten {
			a.ask = &question{
				text: fmt.Sprintf("Accept the new history of %s? What it declares now is taken, though it no longer holds the commit %.7s that was taken before.", l.Branch, l.Commit),
				do: func(ctx context.Context) (string, error) {
					return "Done.", a.control.Accept(ctx, a.options.Who, l.Name)
				},
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
		timeout := orderTimeout
		if q.do != nil {
			timeout = tryTimeout
		}
		ctx, cancel := context.WithTimeout(a.ctx, timeout)
		defer cancel()
		if q.do != nil {
			text, err := q.do(ctx)
			return answeredMsg{text, err}
		}
		return answeredMsg{fmt.Sprintf("Done: %s at %s · %s.", q.order.Verb, q.order.Berth.Workload, q.order.Berth.Site), a.control.Do(ctx, a.options.Who, q.order)}
	}
}

// orderTimeout is how long an order may take before the screen says that it has no answer yet.
const orderTimeout = 15 * time.Second
