package tui

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/core/berth"
	"aditus/internal/core/say"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/screen"
	"aditus/internal/words"
)

const (
	ordersAtOnce = 8 // orders to many berths are given so many at a time
	longestMany  = 5 * time.Minute
	refusals     = 2 // so many of those that were refused are told one by one
)

// startMany does something at many berths, where it is possible, after one question that lists them. Where a message goes on record it is
// typed first, once for all.
func (a *App) startMany(verb words.Verb, at []berth.ID) tea.Cmd {
	var able []words.Action
	var not []string
	there := map[berth.ID]*status.Berth{}
	for i := range a.snapshot.Berths {
		there[a.snapshot.Berths[i].ID] = &a.snapshot.Berths[i]
	}
	for _, id := range at {
		b := there[id]
		if b == nil {
			continue // it has just gone
		}
		for _, action := range words.Actions(*b) {
			if action.Verb != verb {
				continue
			}
			if action.Berth = id; action.Not == nil {
				able = append(able, action)
			} else {
				not = append(not, fmt.Sprintf("%s · %s: %v", id.Workload, id.Site, action.Not))
			}
		}
	}
	if len(able) == 0 {
		a.say(fmt.Sprintf("%s is possible at none of them.", say.Capital(string(verb))), true)
		return nil
	}
	text := fmt.Sprintf("%s at %s", say.Capital(string(verb)), say.Count(len(able), "berth"))
	if !slices.ContainsFunc(able, func(action words.Action) bool { return action.Says != "" }) {
		a.askMany(text, able, not, func(action words.Action) (berth.Order, error) { return berth.Order{}, nil })
		return nil
	}
	return a.typed(screen.Prompt{
		Label: text + ". What is typed goes on record with each:",
		Hints: []kit.Hint{{Key: "enter", Does: "see the list"}, {Key: "esc", Does: "leave it"}},
		Done: func(typed string) tea.Cmd {
			a.askMany(text+fmt.Sprintf(", “%s”", typed), able, not, func(action words.Action) (berth.Order, error) {
				if action.Read != nil {
					return action.Read(typed)
				}
				return berth.Order{Note: typed}, nil
			})
			return nil
		},
		Left: func() { a.say("Nothing was changed.", false) },
	})
}

// askMany lists what is done where, and does it then.
func (a *App) askMany(text string, able []words.Action, not []string, order func(words.Action) (berth.Order, error)) {
	orders := make([]berth.Order, len(able))
	for i, action := range able {
		o, err := order(action)
		if err != nil {
			a.say(fmt.Sprintf("Nothing was changed: %v.", err), true)
			return
		}
		o.Verb, o.Berth = berth.Verb(action.Verb), action.Berth
		orders[i] = o
	}
	lines := places(able)
	if len(not) > 0 {
		lines = append(lines, fmt.Sprintf("Not at %d:", len(not)))
		for _, one := range not {
			lines = append(lines, "  "+one)
		}
	}
	a.put(screen.Question{Text: text + "?", Lines: lines, Begin: func() {
		a.home.Unmark()
		a.say("Under way: "+text+".", false)
	}, Do: func(context.Context) (string, error) { return a.giveAll(orders) }})
}

// places names berths by their workloads, a line each. What an action tells beyond its question has a line of its own.
func places(able []words.Action) (lines []string) {
	var sites, told []string
	for i, action := range able {
		at := action.Berth
		if _, more, _ := strings.Cut(action.Asks, "? "); more != "" {
			told = append(told, "  "+at.Workload+" at "+at.Site+": "+more)
		} else {
			sites = append(sites, at.Site)
		}
		if i+1 == len(able) || able[i+1].Berth.Workload != at.Workload {
			if len(sites) > 0 {
				lines = append(lines, "  "+at.Workload+" at "+say.List(sites))
			}
			lines, sites, told = append(lines, told...), nil, nil
		}
	}
	return lines
}

// tearDown has a name typed, and why, before all of some berths is torn down.
func (a *App) tearDown(name string, at []berth.ID) tea.Cmd {
	return a.typed(screen.Prompt{
		Label: fmt.Sprintf("Type %s, or %s with volumes, and why:", name, name),
		Hints: []kit.Hint{{Key: "enter", Does: "tear down " + say.Count(len(at), "berth")}, {Key: "esc", Does: "leave it"}},
		Done: func(text string) tea.Cmd {
			order, err := words.ReadLeaving(text, name)
			if err != nil {
				a.say(fmt.Sprintf("Nothing was changed: %v.", err), true)
				return nil
			}
			var orders []berth.Order
			for _, id := range at {
				order.Verb, order.Berth = berth.TearDown, id
				orders = append(orders, order)
			}
			a.say("Under way: "+say.Count(len(at), "berth")+" are torn down.", false)
			return a.desk.Answer(func(context.Context) (string, error) { return a.giveAll(orders) })
		},
		Left: func() { a.say("Nothing was changed.", false) },
	})
}

// giveAll gives orders, and tells how many were taken, and why others were not.
func (a *App) giveAll(orders []berth.Order) (string, error) {
	all, over := context.WithTimeout(a.desk.Ctx, longestMany)
	defer over()
	failed := make([]error, len(orders))
	var group errgroup.Group
	group.SetLimit(ordersAtOnce)
	for i, o := range orders {
		group.Go(func() error {
			ctx, cancel := context.WithTimeout(all, orderTimeout)
			defer cancel()
			failed[i] = a.desk.Control.Do(ctx, a.desk.Who, o)
			return nil
		})
	}
	group.Wait()
	var told []string
	for i, err := range failed {
		if err != nil {
			told = append(told, fmt.Sprintf("%s · %s: %v", orders[i].Berth.Workload, orders[i].Berth.Site, err))
		}
	}
	where := say.Count(len(orders), "berth")
	if len(told) == 0 {
		return fmt.Sprintf("Done: %s at %s.", orders[0].Verb, where), nil
	}
	failures, more := len(told), ""
	if n := len(told) - refusals; n > 0 {
		told, more = told[:refusals], fmt.Sprintf("; and at %d more", n)
	}
	return "", fmt.Errorf("done: %s at %d of %s. Not at %s%s", orders[0].Verb, len(orders)-failures, where, strings.Join(told, "; "), more)
}
