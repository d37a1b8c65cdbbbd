package tui

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"time"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/core/berth"
	"aditus/internal/core/say"
	"aditus/internal/draw"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/screen"
	"aditus/internal/words"
)

// act does what a letter stands for, if it is possible now, or says why it is not.
func (a *App) act(key string) tea.Cmd {
	if key == words.Keys[words.AcceptHistory] {
		return a.acceptHistory()
	}
	for _, s := range screens {
		if s.key == key {
			return a.open(s.open, a.shown().Berth())
		}
	}
	b, _ := a.snapshot.Find(a.shown().Berth())
	for _, action := range words.Actions(b) {
		if action.Key == key {
			return a.start(action)
		}
	}
	return nil
}

// startVerb does what an action's letter does at a berth.
func (a *App) startVerb(verb words.Verb, at berth.ID) tea.Cmd {
	if verb == words.AcceptHistory {
		return a.acceptHistory()
	}
	b, _ := a.snapshot.Find(at)
	for _, action := range words.Actions(b) {
		if action.Verb == verb {
			action.Berth = at
			return a.start(action)
		}
	}
	return nil
}

// start puts the question that an action needs, or does it at once where it changes nothing.
func (a *App) start(action words.Action) tea.Cmd {
	at := action.Berth
	if action.Not != nil {
		a.say(fmt.Sprintf("%s is not possible at %s · %s: %v.", action.Verb, at.Workload, at.Site, action.Not), true)
		return nil
	}
	for _, s := range screens {
		if s.verb == action.Verb {
			return a.open(s.open, at)
		}
	}
	switch {
	case action.Verb == words.OfferRevert:
		a.put(screen.Question{Text: action.Asks, Do: func(ctx context.Context) (string, error) {
			p, err := a.desk.Control.OfferRevert(ctx, a.desk.Who, at)
			return p.Told(), err
		}})
	case action.Verb == words.TearDown || action.Verb == words.LetGo:
		var only []string
		if at, can := a.over.(interface{ Pointed() []string }); can && action.Verb == words.TearDown {
			if only = at.Pointed(); len(only) > 0 {
				action = words.TearDownOnly(action, action.Berth.Workload, only)
			}
		}
		for _, b := range a.snapshot.Berths {
			if b.ID == at {
				lines := words.LeavingOf(a.snapshot, b, false, only...).Lines()
				if action.Verb == words.LetGo {
					lines = words.LettingGoOf(b).Lines()
				}
				a.put(screen.Question{Text: action.Asks, Lines: lines, Then: func() tea.Cmd { return a.askWhy(action) }})
			}
		}
	case action.Says != "":
		return a.askWhy(action)
	case action.Verb == words.LookNow:
		return a.desk.Answer(func(ctx context.Context) (string, error) {
			return "Git is read again.", a.desk.Control.LookNow(ctx, a.desk.Who)
		})
	default:
		order := berth.Order{Verb: berth.Verb(action.Verb), Berth: at}
		q := screen.Question{Text: action.Asks, Types: action.Types}
		if chooser, ok := a.over.(interface{ Chosen() []string }); ok && action.Verb == words.Sync && len(chooser.Chosen()) > 0 {
			order.Parts = chooser.Chosen()
			q.Text = fmt.Sprintf("Sync only %s of %s at %s? The other parts stay as they are applied until you sync them or Git moves on.", say.List(order.Parts), at.Workload, at.Site)
		}
		q.Do = a.order(order)
		if q.Types != "" {
			return a.askName(q)
		}
		a.put(q)
	}
	return nil
}

// order gives an order, and tells what came of it.
func (a *App) order(o berth.Order) func(context.Context) (string, error) {
	return func(ctx context.Context) (string, error) {
		ctx, cancel := context.WithTimeout(ctx, orderTimeout)
		defer cancel()
		return fmt.Sprintf("Done: %s at %s · %s.", o.Verb, o.Berth.Workload, o.Berth.Site), a.desk.Control.Do(ctx, a.desk.Who, o)
	}
}

// orderTimeout is how long an order may take before the screen says that it has no answer yet.
const orderTimeout = 15 * time.Second

// put puts a question.
func (a *App) put(q screen.Question) { a.ask, a.asked = &q, kit.List{} }

// askName has the name typed of what cannot be brought back.
func (a *App) askName(q screen.Question) tea.Cmd {
	return a.typed(screen.Prompt{
		Label: q.Text + " Type " + q.Types + " to do it:",
		Hints: []kit.Hint{{Key: "enter", Does: "do it"}, {Key: "esc", Does: "leave it"}},
		Done: func(text string) tea.Cmd {
			if text != q.Types {
				a.say("Nothing was changed: that is not "+q.Types+".", true)
				return nil
			}
			return a.desk.Answer(q.Do)
		},
		Left: func() { a.say("Nothing was changed.", false) },
	})
}

// askWhy has a message typed that goes on record with an action.
func (a *App) askWhy(action words.Action) tea.Cmd {
	return a.typed(screen.Prompt{
		Label: action.Says,
		Hints: []kit.Hint{{Key: "enter", Does: string(action.Verb)}, {Key: "esc", Does: "leave it"}},
		Done: func(text string) tea.Cmd {
			o := berth.Order{Note: text}
			if action.Read != nil {
				var err error
				if o, err = action.Read(text); err != nil {
					a.say(fmt.Sprintf("Nothing was changed: %v.", err), true)
					return nil
				}
			}
			o.Verb, o.Berth = berth.Verb(action.Verb), action.Berth
			return a.desk.Answer(a.order(o))
		},
		Left: func() { a.say("Nothing was changed.", false) },
	})
}

func (a *App) acceptHistory() tea.Cmd {
	for _, l := range a.snapshot.Links {
		if l.Rewritten {
			a.put(screen.Question{
				Text: fmt.Sprintf("Accept the new history of %s? What it declares now is taken, though it no longer holds the commit %.7s that was taken before.", l.Branch, l.Commit),
				Do: func(ctx context.Context) (string, error) {
					return "Done.", a.desk.Control.Accept(ctx, a.desk.Who, l.Name)
				},
			})
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
		if a.ask = nil; q.Begin != nil {
			q.Begin()
		}
		if q.Then != nil {
			return q.Then()
		}
		return a.desk.Answer(q.Do)
	case "esc", "n", "q":
		a.ask = nil
		a.say("Nothing was changed.", false)
	default:
		a.asked.Key(key, len(q.Lines))
	}
	return nil
}

// takePicture writes what is on screen as SVG and PDF.
func (a *App) takePicture() tea.Cmd {
	p := a.shown().Picture()
	if p == nil {
		return nil
	}
	name := filepath.Join(a.options.Pictures, p.Name)
	return a.desk.Answer(func(context.Context) (string, error) {
		var err error
		for _, format := range []draw.Format{draw.SVG, draw.PDF} {
			err = errors.Join(err, draw.Write(name+"."+string(format), format, draw.Dark, p.Paint))
		}
		return fmt.Sprintf("Written: %s.svg and .pdf", name), err
	})
}
