package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/ledger"
	"aditus/internal/source"
)

// link watches one repository. What was read last outlives a restart.
type link struct {
	e      *Engine
	source source.Link
	wake   chan struct{}
	accept bool // take a rewritten branch as it is now, once; guarded by the engine's lock
	seen   linkState
	shown  Link // guarded by the engine's lock
}

// linkState is what the ledger keeps of a link.
type linkState struct {
	source.Seen
	Declared map[string]declare.Fingerprint `json:"declared"` // by workload
}

func newLink(e *Engine, s source.Link) (*link, error) {
	l := &link{e: e, source: s, wake: make(chan struct{}, 1)}
	if _, err := e.ledger.Picture(l.picture(), &l.seen); err != nil && !errors.Is(err, ledger.ErrNone) {
		return nil, err
	}
	for workload, fingerprint := range l.seen.Declared {
		e.declared[workload] = fingerprint
	}
	l.shown = Link{Name: s.Name, Repository: s.Repository, Branch: s.Branch, Folder: s.Folder, Every: s.Every, Commit: l.seen.Commit}
	return l, nil
}

func (l *link) picture() string { return "link " + l.source.Name }

func (l *link) loop(ctx context.Context) error {
	for {
		if err := l.e.clock.Wait(ctx, l.e.clock.Now().Add(l.source.Every), l.wake); err != nil {
			return err
		}
		l.look(ctx)
	}
}

// look reads the link once and shows what came of it.
func (l *link) look(ctx context.Context) {
	e := l.e
	began := time.Now()
	e.mu.Lock()
	accept := l.accept
	e.mu.Unlock()
	err := l.take(ctx, accept)
	now := e.clock.Now()
	e.mu.Lock()
	defer e.mu.Unlock()
	if err == nil {
		l.accept = false
	}
	e.news.Store(e.news.Load() || (err == nil) != (l.shown.Problem == nil))
	l.shown.Looked, l.shown.Took, l.shown.Commit = now, time.Since(began), l.seen.Commit
	l.shown.Rewritten = errors.Is(err, source.ErrRewritten)
	switch {
	case err == nil || ctx.Err() != nil:
		l.shown.Problem = nil
	case l.shown.Problem == nil || l.shown.Problem.Text != err.Error():
		l.shown.Problem = &Problem{About: l.source.Name, Text: err.Error(), Since: now}
	}
	e.signal()
}

// take reads what is new, whole or not at all: what was declared before stays declared when anything is wrong.
func (l *link) take(ctx context.Context, accept bool) error {
	e := l.e
	look, err := source.LookAt(ctx, l.source, l.seen.Seen, accept)
	if err != nil {
		return err
	}
	if look.Seen == l.seen.Seen {
		return nil
	}
	next := linkState{Seen: look.Seen, Declared: l.seen.Declared}
	if look.Changed {
		if next.Declared, err = l.declare(ctx, look); err != nil {
			return err
		}
	}
	if err := e.ledger.KeepPicture(context.WithoutCancel(ctx), l.picture(), e.clock.Now(), next); err != nil {
		return err
	}
	l.seen = next
	if look.Changed {
		e.mu.Lock()
		e.declared = next.Declared
		e.mu.Unlock()
		e.meet()
	}
	return nil
}

// declare checks a commit's files and puts the revisions they make on record.
func (l *link) declare(ctx context.Context, look source.Look) (map[string]declare.Fingerprint, error) {
	e := l.e
	var sites []string
	for _, site := range e.settings.Sites {
		sites = append(sites, site.Name)
	}
	declarations, problems := source.Check(look.Files, sites)
	if len(problems) > 0 {
		kept := "nothing is declared yet"
		if l.seen.Commit != "" {
			kept = fmt.Sprintf("what %.7s declared stays declared", l.seen.Commit)
		}
		return nil, fmt.Errorf("commit %.7s by %s is not taken: %w; %s", look.Head.Hash, look.Head.Author, problems, kept)
	}
	declared := map[string]declare.Fingerprint{}
	for _, d := range declarations {
		fingerprint := d.Fingerprint()
		declared[d.Workload] = fingerprint
		if l.seen.Declared[d.Workload] == fingerprint {
			continue
		}
		r := ledger.Revision{
			Fingerprint: fingerprint, Workload: d.Workload, Version: d.Version(), Commit: d.Commit.Hash,
			Subject: d.Commit.Subject, Author: d.Commit.Author, At: d.Commit.At, Desired: &d.Desired,
		}
		entry := ledger.Entry{Revision: &r}
		if e.revision(d.Workload, fingerprint) == nil {
			entry.Facts = []ledger.Fact{declaredFact(r, e.clock.Now())}
		}
		if err := e.ledger.Record(context.WithoutCancel(ctx), entry); err != nil {
			return nil, err
		}
	}
	revisions, err := e.ledger.Revisions()
	if err != nil {
		return nil, err
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	clear(e.revisions)
	for _, r := range revisions {
		e.revisions[r.Workload] = append(e.revisions[r.Workload], r)
	}
	return declared, nil
}

func declaredFact(r ledger.Revision, now time.Time) ledger.Fact {
	return ledger.Fact{
		At: now, Workload: r.Workload, Kind: "declared", By: r.Author, Revision: r.Fingerprint,
		Text: fmt.Sprintf("%s (%s) is declared: “%s”, commit %.7s", r.Version, r.Fingerprint.Short(), r.Subject, r.Commit),
	}
}

// meet starts the loops of berths that are declared for the first time.
func (e *Engine) meet() {
	e.mu.Lock()
	defer e.mu.Unlock()
	for workload, fingerprint := range e.declared {
		for _, r := range e.revisions[workload] {
			if r.Fingerprint != fingerprint {
				continue
			}
			for _, site := range r.Desired.Sites {
				id := ledger.Berth{Workload: workload, Site: site}
				if e.berths[id] == nil {
					b := newBerth(e, id)
					b.shown = Berth{Berth: id, Declared: &r}
					e.berths[id] = b
					e.clock.Join()
					e.start(b)
				}
			}
		}
	}
	for _, b := range e.berths {
		b.nudge()
	}
}
