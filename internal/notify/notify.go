// Package notify tells people and programs what happens: by webhooks, mail, chats and programs, from the ledger by a cursor that is kept,
// so that each fact is told at least once, in order, over restarts and hours in which nobody listens.
package notify

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"golang.org/x/sync/errgroup"

	"aditus/internal/config"
	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/core/notice"
	"aditus/internal/core/say"
	"aditus/internal/ledger"
	"aditus/internal/source"
	"aditus/internal/status"
	"aditus/internal/words"
)

// Host is what works on the line, as notices need it.
type Host interface {
	Snapshot(ctx context.Context) status.Snapshot
	Changed(ctx context.Context) <-chan struct{}
	// Rules gives the settings, and what the line's rules say; nil where there are none.
	Rules() (config.Settings, *declare.Line)
	// Note puts a fact on record that is of no decision.
	Note(ctx context.Context, id berth.ID, kind berth.Kind, text string) error
	Report(about string, err error)
}

// Book is where what happens is on record.
type Book interface {
	Facts(q ledger.Query) ([]ledger.Fact, error)
	Where(ctx context.Context, c ledger.Cursor) (int64, error)
	Keep(ctx context.Context, c ledger.Cursor) error
	Grown() <-chan struct{}
	Last() (int64, error)
	Picture(name string, into any) (time.Time, error)
	KeepPicture(ctx context.Context, name string, at time.Time, value any) error
}

// Notifier tells what happens. Credentials are those of the data folder, by name.
type Notifier struct {
	Host        Host
	Book        Book
	Credentials func(name string) source.Credential
}

// Intervals.
const (
	rulesEvery = 5 * time.Second // the rules are looked at
	needsEvery = time.Second     // and what needs a person, where anything changed or is to be told soon
	gathers    = 3 * time.Second // what comes within that is told together
	tellsAfter = time.Minute     // trouble with a sink is told
)

// Run tells until ctx ends.
func (n *Notifier) Run(ctx context.Context) error {
	for ctx.Err() == nil {
		settings, line := n.Host.Rules()
		if err := n.runWith(ctx, settings, line); err != nil && ctx.Err() == nil {
			n.Host.Report("notices", err)
			if !pause(ctx, rulesEvery) {
				break
			}
		}
	}
	return nil
}

// names is what tells one set of rules from another.
func names(s config.Settings, line *declare.Line) string {
	var notices []declare.Notice
	var sites map[string]declare.LineSite
	if line != nil {
		notices, sites = line.Notices, line.Sites
	}
	text, err := json.Marshal([]any{s.Line, s.Sinks, notices, sites})
	if err != nil {
		return err.Error()
	}
	return string(text)
}

// runWith tells by some rules until there are others.
func (n *Notifier) runWith(ctx context.Context, settings config.Settings, line *declare.Line) error {
	own := names(settings, line)
	tellers, err := n.tellers(settings, line)
	if err != nil {
		return err
	}
	n.Host.Report("notices", nil)
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	group, ctx := errgroup.WithContext(ctx)
	group.Go(func() error {
		defer cancel()
		for pause(ctx, rulesEvery) {
			if names(n.Host.Rules()) != own {
				return nil
			}
		}
		return nil
	})
	if len(tellers) > 0 {
		group.Go(func() error { return n.followNeeds(ctx) })
	}
	for _, t := range tellers {
		group.Go(func() error { return t.run(ctx) })
	}
	return group.Wait()
}

// tellers are one for each rule: those of the line for a sink, or else the sink's own.
func (n *Notifier) tellers(settings config.Settings, line *declare.Line) (all []*teller, err error) {
	var notices []declare.Notice
	ruled := map[string]bool{}
	if line != nil {
		notices = line.Notices
		for _, own := range notices {
			ruled[own.To] = true
		}
	}
	sinks := map[string]config.Sink{}
	for _, s := range settings.Sinks {
		if sinks[s.Name] = s; !ruled[s.Name] {
			notices = append(notices, s.Notice())
		}
	}
	var failed []error
	for _, own := range notices {
		s, known := sinks[own.To]
		rule, err := notice.New(own, line, time.Now())
		if !known {
			err = fmt.Errorf("there is no sink %q: add it under sinks: in the settings", own.To)
		}
		if err != nil {
			failed = append(failed, fmt.Errorf("the notice %s: %w", own.Name, err))
			continue
		}
		to, each := open(s, settings.Line, n.Credentials)
		all = append(all, &teller{Notifier: n, rule: rule, to: to, each: each, name: own.To, cursor: "notice " + own.Name + " to " + own.To})
	}
	if err := errors.Join(failed...); err != nil && len(all) == 0 {
		return nil, err
	} else if err != nil {
		n.Host.Report("notices in part", err)
	} else {
		n.Host.Report("notices in part", nil)
	}
	return all, nil
}

// pause waits; it is false where ctx ended before.
func pause(ctx context.Context, d time.Duration) bool {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-timer.C:
		return true
	}
}

// needsPicture is under which the ledger has what of the needs was told.
const needsPicture = "needs"

// followNeeds puts on record what comes to need a person, and what does not any more.
func (n *Notifier) followNeeds(ctx context.Context) error {
	var t notice.Tracker
	if _, err := n.Book.Picture(needsPicture, &t); err != nil && !errors.Is(err, fault.ErrNotFound) {
		t = notice.Tracker{} // it is told once more
	}
	for pause(ctx, needsEvery) {
		now := time.Now().Truncate(time.Millisecond)
		began, ended := t.Step(now, needsOf(n.Host.Snapshot(ctx)))
		var toldBegan, toldEnded []notice.Open
		note := func(o notice.Open, kind berth.Kind, text string, told *[]notice.Open) {
			if err := n.Host.Note(ctx, berth.ID{Workload: o.Workload, Site: o.Site}, kind, text); err == nil {
				*told = append(*told, o)
			}
		}
		for _, o := range began {
			note(o, berth.Needed, o.Text, &toldBegan)
		}
		for _, o := range ended {
			note(o, berth.SeenTo, "no more: "+o.Text, &toldEnded)
		}
		if t.Told(toldBegan, toldEnded); len(toldBegan)+len(toldEnded) > 0 {
			if err := n.Book.KeepPicture(ctx, needsPicture, now, t); err != nil {
				n.Host.Report("notices in part", err)
			}
		}
	}
	return nil
}

// needsOf are the needs of a snapshot. Trouble with a sink is none of them: whom it is for it cannot be told.
func needsOf(s status.Snapshot) (all []notice.Need) {
	for _, need := range words.Needs(s) {
		text := need.Text
		if need.Berth == (berth.ID{}) {
			text = need.About + ": " + text
		}
		all = append(all, notice.Need{ID: need.ID(), Workload: need.Berth.Workload, Site: need.Berth.Site, Text: text})
	}
	return all
}

// teller tells one rule's facts to one sink.
type teller struct {
	*Notifier
	rule   *notice.Rule
	to     sink
	each   bool
	name   string
	cursor string
	kept   int64
}

// page is how many facts are read at once, so that those that wait for a slow sink take no room.
const page = 200

// keepEvery is after how many facts that are not for a rule the cursor is kept.
const keepEvery = 500

func (t *teller) run(ctx context.Context) error {
	last, err := t.Book.Last()
	if err != nil {
		return err
	}
	after, err := t.Book.Where(ctx, ledger.Cursor{Name: t.cursor, After: last})
	if err != nil {
		return err
	}
	t.kept = after
	for {
		grown := t.Book.Grown()
		facts, err := t.Book.Facts(ledger.Query{After: after, Most: page})
		if err != nil {
			return err
		}
		if len(facts) == 0 {
			select {
			case <-ctx.Done():
				return nil
			case <-grown:
			}
			continue
		}
		first := t.first(facts)
		if first < 0 {
			if after = facts[len(facts)-1].Seq; after-t.kept >= keepEvery {
				if err := t.keep(ctx, after); err != nil {
					return err
				}
			}
			continue
		}
		due, digest := t.rule.Due(facts[first].At)
		if !digest && !t.each {
			due = due.Add(gathers)
		}
		if wait := time.Until(due); wait > 0 {
			if !pause(ctx, wait) {
				return nil
			}
			if !digest { // more may have come meanwhile
				if facts, err = t.Book.Facts(ledger.Query{After: after, Most: page}); err != nil {
					return err
				}
			}
		}
		if digest {
			after, err = t.digest(ctx, after, due)
		} else {
			after, err = t.tell(ctx, facts)
		}
		if err != nil || ctx.Err() != nil {
			return err
		}
	}
}

func (t *teller) keep(ctx context.Context, after int64) error {
	if err := t.Book.Keep(ctx, ledger.Cursor{Name: t.cursor, After: after}); err != nil {
		return err
	}
	t.kept = after
	return nil
}

// first is the place of the first fact that the rule is for; -1 for none.
func (t *teller) first(facts []ledger.Fact) int {
	for i := range facts {
		if t.rule.Tells(itemOf(facts[i])) {
			return i
		}
	}
	return -1
}

func itemOf(f ledger.Fact) notice.Item {
	return notice.Item{Seq: f.Seq, At: f.At, Workload: f.Workload, Site: f.Site, Kind: string(f.Kind), By: f.By, Revision: f.Revision, Text: f.Text}
}

// tell tells what of a page the rule is for, and keeps how far it is.
func (t *teller) tell(ctx context.Context, facts []ledger.Fact) (after int64, err error) {
	bySeq := map[int64]ledger.Fact{}
	var items []notice.Item
	for _, f := range facts {
		if i := itemOf(f); t.rule.Tells(i) {
			items, bySeq[f.Seq] = append(items, i), f
		}
	}
	after = facts[len(facts)-1].Seq
	if t.each {
		for _, i := range items {
			if !t.deliver(ctx, notice.Of([]notice.Item{i}), []ledger.Fact{bySeq[i.Seq]}) {
				return i.Seq - 1, nil
			}
			if err := t.keep(ctx, i.Seq); err != nil {
				return i.Seq, err
			}
		}
		return after, t.keep(ctx, after)
	}
	for _, m := range notice.Group(items) {
		var of []ledger.Fact
		for _, i := range m.Items {
			of = append(of, bySeq[i.Seq])
		}
		if !t.deliver(ctx, m, of) {
			return facts[0].Seq - 1, nil
		}
	}
	return after, t.keep(ctx, after)
}

// digest tells all that came up to a moment at once.
func (t *teller) digest(ctx context.Context, from int64, until time.Time) (after int64, err error) {
	var tally notice.Tally
	after = from
	for {
		facts, err := t.Book.Facts(ledger.Query{After: after, Most: page})
		if err != nil {
			return from, err
		}
		over := len(facts) < page
		for _, f := range facts {
			if f.At.After(until) {
				over = true
				break
			}
			if after = f.Seq; t.rule.Tells(itemOf(f)) {
				tally.Add(itemOf(f))
			}
		}
		if over {
			break
		}
	}
	if tally.Count > 0 {
		if !t.deliver(ctx, tally.Message(), nil) {
			return from, nil
		}
	}
	return after, t.keep(ctx, after)
}

// deliver tells a message until it is told, or given up. It is false where ctx ended before.
func (t *teller) deliver(ctx context.Context, m notice.Message, facts []ledger.Fact) bool {
	began := time.Now()
	about := "sink " + t.name
	for tries := 1; ; tries++ {
		sending, cancel := context.WithTimeout(ctx, sendWithin)
		err := t.to.send(sending, m, facts)
		cancel()
		if err == nil {
			t.Host.Report(about, nil)
			return true
		}
		if ctx.Err() != nil {
			return false
		}
		failed := time.Since(began)
		refused := errors.As(err, new(refusal))
		if failed >= notice.TriedFor || refused && failed >= notice.RefusedFor {
			if err := t.Host.Note(ctx, berth.ID{}, berth.Undelivered, fmt.Sprintf("“%s” was not told to %s, which was tried for %s: %v", m.Subject, t.name, failed.Round(time.Minute), err)); err == nil || ctx.Err() != nil {
				return ctx.Err() == nil
			}
		}
		if failed >= tellsAfter {
			t.Host.Report(about, fmt.Errorf("no notice arrives: %w; each is tried for %s, in order; aditus notify --test %s tries it by itself", err, say.Span(notice.TriedFor), t.name))
		}
		wait := notice.Wait(tries)
		if asked := (later{}); errors.As(err, &asked) {
			wait = asked.after
		}
		if !pause(ctx, wait) {
			return false
		}
	}
}

// Test tells a sink that this is a test, at once and once.
func Test(ctx context.Context, s config.Sink, line string, credentials func(string) source.Credential, by string) error {
	to, _ := open(s, line, credentials)
	now := time.Now().Truncate(time.Millisecond)
	f := ledger.Fact{At: now, Kind: TestKind, By: by, Text: "a test of the sink " + s.Name + ", asked for by " + by}
	m := notice.Of([]notice.Item{itemOf(f)})
	m.ID = fmt.Sprintf("test-%d", now.UnixMilli())
	m.Subject = "a test of " + s.Name
	ctx, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	return to.send(ctx, m, []ledger.Fact{f})
}

// TestKind is the kind of what is told as a test. It is on no record.
const TestKind berth.Kind = "test"
