package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"

	"aditus/internal/core/alert"
	"aditus/internal/core/berth"
	"aditus/internal/core/fault"
	"aditus/internal/core/guard"
	"aditus/internal/core/guard/panel"
	"aditus/internal/core/signal"
	"aditus/internal/ledger"
)

// alerts are what sources say that fires.
type alerts struct {
	mu   sync.Mutex
	book alert.Book
}

// alertsPicture is under which it is kept what fires.
const alertsPicture = "alerts"

// recallAlerts brings back what fired before a restart.
func (e *Engine) recallAlerts() error {
	if _, err := e.ledger.Picture(alertsPicture, &e.alerts.book); err != nil && !errors.Is(err, fault.ErrNotFound) {
		return err
	}
	return nil
}

// Alert takes what a source of the settings says, and tells what came of each. What is taken is on record before it counts; nothing is taken where
// it cannot be.
func (e *Engine) Alert(ctx context.Context, source string, said []alert.Alert) (answers []alert.Answer, known bool, err error) {
	e.mu.Lock()
	is, there := e.settings.AlertsOf(source)
	berths := map[string][]string{}
	for id := range e.berths {
		berths[id.Workload] = append(berths[id.Workload], id.Site)
	}
	e.mu.Unlock()
	if !there {
		return nil, false, nil
	}
	from := alert.Source{Name: source, Workload: is.Workload, Site: is.Site}
	sites := func(workload string) ([]string, bool) {
		at, there := berths[workload]
		return at, there
	}
	e.alerts.mu.Lock()
	defer e.alerts.mu.Unlock()
	now, next := e.clock.Now(), alert.Book{Known: maps.Clone(e.alerts.book.Known)}
	var facts []ledger.Fact
	for _, a := range said {
		answer, is := next.Take(from, a, sites, now)
		answers = append(answers, answer)
		if is == nil {
			continue
		}
		data, err := json.Marshal(is)
		if err != nil {
			return nil, true, err
		}
		facts = append(facts, ledger.Fact{At: now, Workload: is.Workload, Site: is.Site, Kind: berth.Alerted, By: source, Text: fmt.Sprintf("%s: %s since %s", cmp.Or(is.Text, is.ID), is.State, is.Since.UTC().Format("15:04:05")), Data: data})
	}
	if len(facts) == 0 {
		return answers, true, nil
	}
	ctx = context.WithoutCancel(ctx)
	if err := e.ledger.Record(ctx, ledger.Entry{Facts: facts}); err != nil {
		return nil, true, err
	}
	if err := e.ledger.KeepPicture(ctx, alertsPicture, now, next); err != nil {
		return nil, true, err
	}
	e.alerts.book = next
	for _, f := range facts {
		for _, b := range e.about(f.Workload, f.Site) {
			b.nudge()
		}
	}
	return answers, true, nil
}

// about are the loops of a workload at a site, or at all where none is named.
func (e *Engine) about(workload, site string) (found []*loop) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for id, b := range e.berths {
		if id.Workload == workload && (site == "" || id.Site == site) {
			found = append(found, b)
		}
	}
	return found
}

// alerted is what fires of a berth, for a guard on that. What fired before new had any traffic says nothing of it, so that nothing is known then.
func (b *loop) alerted(seen *evidence, rule guard.Rule) []panel.Scrape {
	scrape := panel.Scrape{Instance: "alerts of " + rule.Signal.Of.Metric, Revision: cmp.Or(seen.new, seen.old)}
	b.e.mu.Lock()
	err := b.e.settings.Knows(rule.Signal)
	b.e.mu.Unlock()
	if err != nil {
		scrape.Unread = err.Error()
		return []panel.Scrape{scrape}
	}
	b.e.alerts.mu.Lock()
	firing := b.e.alerts.book.Fires(rule.Signal.Of.Metric, b.id.Workload, b.id.Site, rule.Signal.Of)
	b.e.alerts.mu.Unlock()
	new := firing
	if roll := b.state.Roll; roll != nil {
		new = slices.DeleteFunc(slices.Clone(firing), func(k alert.Known) bool { return k.Since.Before(roll.Given) })
	}
	switch {
	case len(new) > 0:
		scrape.Told, scrape.Page = alert.Tell(new), signal.Answered(float64(len(new)))
	case len(firing) > 0:
		scrape.Unread = alert.Tell(firing) + ", before new had any traffic"
	default:
		scrape.Page = signal.Answered(0)
	}
	return []panel.Scrape{scrape}
}
