package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"aditus/internal/config"
	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/ledger"
	"aditus/internal/source"
	"aditus/internal/words"
)

// linkFor gives the link that declares a berth, with the way in.
func (e *Engine) linkFor(id berth.ID) (config.Link, source.Access, error) {
	e.mu.Lock()
	d, ok := e.declared[id]
	e.mu.Unlock()
	if !ok {
		return config.Link{}, source.Access{}, fault.New(fault.ErrNotFound, "no link declares %s", id)
	}
	access := d.link.access() // credentials are decrypted for it, which takes its time
	if access.Cache != "" {
		access.Cache += "-proposals"
	}
	return d.link.source, access, nil
}

// OfferRevert offers the way back in Git: a commit, on a branch of its own, that has the workload's files as they were for
// the revision that serves, in place of the barred one.
func (e *Engine) OfferRevert(ctx context.Context, id berth.ID, by string) (source.Proposal, error) {
	b, ok := e.Snapshot().Find(id)
	switch {
	case !ok:
		return source.Proposal{}, fault.New(fault.ErrNotFound, "there is no berth %s", id)
	case b.Bar == nil || b.Declared == nil:
		return source.Proposal{}, fmt.Errorf("there is nothing to revert: what Git declares for %s is not barred", id)
	case b.Applied == nil:
		return source.Proposal{}, fmt.Errorf("there is nothing to go back to: nothing was ever applied at %s", id)
	}
	link, access, err := e.linkFor(id)
	if err != nil {
		return source.Proposal{}, err
	}
	s, _, err := e.ledger.Rollout(b.Bar.Rollout)
	if err != nil {
		return source.Proposal{}, err
	}
	change := source.Change{
		Branch:  fmt.Sprintf("aditus/revert-%s-%s", id.Workload, b.Bar.Revision.Short()),
		Message: words.RevertMessage(b, s), Author: by, At: e.clock.Now(),
	}
	p, err := source.Restore(ctx, link, access, id.Workload, b.Applied.Commit, change)
	if err != nil {
		return p, fmt.Errorf("offer the revert of %s: %w", b.Bar.Version, err)
	}
	return p, e.note(ctx, id, berth.Offered, by, b.Bar.Revision, fmt.Sprintf("%s offers the revert of %s on the branch %s (%.7s)", by, b.Bar.Version, p.Branch, p.Commit), p)
}

// OfferLimit offers another limit for a guard as a commit on a branch of its own. kind and limit are as they stand in a
// declaration: at-most and 5 %.
func (e *Engine) OfferLimit(ctx context.Context, id berth.ID, guard, kind, limit, why, by string) (source.Proposal, error) {
	link, access, err := e.linkFor(id)
	if err != nil {
		return source.Proposal{}, err
	}
	at := e.clock.Now()
	change := source.Change{
		Branch:  fmt.Sprintf("aditus/limit-%s-%s-%s", id.Workload, strings.Join(strings.Fields(guard), "-"), at.UTC().Format("20060102-150405")),
		Message: fmt.Sprintf("Set the limit of %s for %s to %s %s\n\n%s\n", guard, id.Workload, strings.ReplaceAll(kind, "-", " "), limit, why), Author: by, At: at,
	}
	p, err := source.Rewrite(ctx, link, access, id.Workload, id.Site, func(_ string, text []byte) ([]byte, bool, error) {
		return source.SetLimit(text, guard, kind, limit)
	}, change)
	if errors.Is(err, source.ErrNoChange) {
		return p, fmt.Errorf("offer the limit of %s: %w; where the limit comes from a variable, change it there", guard, err)
	} else if err != nil {
		return p, err
	}
	return p, e.note(ctx, id, berth.Offered, by, "", fmt.Sprintf("%s offers the limit %s %s for %s on the branch %s (%.7s)", by, kind, limit, guard, p.Branch, p.Commit), p)
}

// note puts a fact on record that changes nothing.
func (e *Engine) note(ctx context.Context, id berth.ID, kind berth.Kind, by string, revision declare.Fingerprint, text string, data any) error {
	f := ledger.Fact{At: e.clock.Now().Truncate(time.Millisecond), Workload: id.Workload, Site: id.Site, Kind: kind, By: by, Revision: revision, Text: text}
	f.Data, _ = json.Marshal(data) // plain values
	return e.ledger.Record(ctx, ledger.Entry{Berth: id, Facts: []ledger.Fact{f}})
}
