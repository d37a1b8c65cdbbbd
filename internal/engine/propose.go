package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"aditus/internal/config"
	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/core/say"
	"aditus/internal/ledger"
	"aditus/internal/source"
	"aditus/internal/status"
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
	b, err := e.barred(id)
	if err != nil {
		return source.Proposal{}, err
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
	p, err := source.Restore(ctx, link, access, id.Workload, b.Applied.Commit, func(files []source.File) bool { return e.declares(ctx, id, b.Applied.Fingerprint, files) }, change)
	if err != nil {
		return p, fmt.Errorf("offer the revert of %s: %w", b.Bar.Version, err)
	}
	return p, e.note(ctx, id, berth.Offered, by, b.Bar.Revision, fmt.Sprintf("%s offers the revert of %s on the branch %s (%.7s)", by, b.Bar.Version, p.Branch, p.Commit), p)
}

// barred is a berth at which what is declared is barred, and something else was applied.
func (e *Engine) barred(id berth.ID) (status.Berth, error) {
	b, ok := e.Snapshot().Find(id)
	switch {
	case !ok:
		return b, fault.New(fault.ErrNotFound, "there is no berth %s", id)
	case b.Bar == nil || b.Declared == nil:
		return b, fmt.Errorf("there is nothing to revert: what Git declares for %s is not barred", id)
	case b.Applied == nil:
		return b, fmt.Errorf("there is nothing to go back to: nothing was ever applied at %s", id)
	}
	return b, nil
}

// BundleBefore is the link of a berth that is to a bundle, with the digest of the one that declares what serves there, in place of a barred
// one. The link's name is empty where it is to a repository.
func (e *Engine) BundleBefore(ctx context.Context, id berth.ID) (name, digest string, err error) {
	link, access, err := e.linkFor(id)
	if err != nil || !link.Bundle() {
		return "", "", err
	}
	b, err := e.barred(id)
	if err != nil {
		return "", "", err
	}
	link.Version = "sha256:" + b.Applied.Commit
	answer, err := source.Ask(ctx, link, access, source.Seen{}, false)
	if err != nil {
		return "", "", fmt.Errorf("read the bundle that %s came from: %w", b.Applied.Version, err)
	}
	if !e.declares(ctx, id, b.Applied.Fingerprint, answer.Files) {
		return "", "", fmt.Errorf("the bundle that %s came from does not declare it any more: what is declared for %s comes from the settings too, such as variables; change these, or version: of the link %s", b.Applied.Version, id, link.Name)
	}
	return link.Name, link.Version, nil
}

// Reverted notes that a link stays at an older bundle.
func (e *Engine) Reverted(ctx context.Context, id berth.ID, by, what string) error {
	return e.note(ctx, id, berth.Offered, by, "", by+" takes back what is barred: "+what, nil)
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

// declares tells whether files would declare a revision for a berth.
func (e *Engine) declares(ctx context.Context, id berth.ID, revision declare.Fingerprint, files []source.File) bool {
	loaded, err := e.loadOf(ctx, id, "what was", files)
	return err == nil && slices.ContainsFunc(loaded.Declarations, func(d source.Declaration) bool {
		return d.Workload == id.Workload && d.Site == id.Site && d.Desired.Fingerprint() == revision
	})
}

// loadOf reads what files would declare instead of those of a berth's link.
func (e *Engine) loadOf(ctx context.Context, id berth.ID, name string, files []source.File) (source.Loaded, error) {
	e.mu.Lock()
	d, ok := e.declared[id]
	e.mu.Unlock()
	if !ok {
		return source.Loaded{}, fault.New(fault.ErrNotFound, "no link declares %s", id)
	}
	return e.loadPreview(ctx, d.link, name, files, nil)
}

// OfferLive offers to declare what was changed by hand at a berth's site as it is there: some fields, by JSON Pointer, or all where none is
// named. What nobody can declare, such as what is secret, is refused.
func (e *Engine) OfferLive(ctx context.Context, id berth.ID, pointers []string, by string) (source.Proposal, error) {
	b, ok := e.Snapshot().Find(id)
	if !ok {
		return source.Proposal{}, fault.New(fault.ErrNotFound, "there is no berth %s", id)
	}
	chosen, err := changedThere(b, pointers)
	if err != nil {
		return source.Proposal{}, err
	}
	link, access, err := e.linkFor(id)
	if err != nil {
		return source.Proposal{}, err
	}
	var fields []source.Amended
	var told, lines []string
	for _, d := range chosen {
		f, err := amended(b, d)
		if err != nil {
			return source.Proposal{}, err
		}
		fields = append(fields, f)
		told, lines = append(told, strings.TrimPrefix(d.Pointer, "/parts/")), append(lines, "- "+d.String())
	}
	at := e.clock.Now()
	change := source.Change{
		Branch:  fmt.Sprintf("aditus/live-%s-%s-%s", id.Workload, id.Site, at.UTC().Format("20060102-150405")),
		Message: fmt.Sprintf("Declare %s at %s as it is there\n\nChanged by hand, and right:\n%s\n", id.Workload, id.Site, strings.Join(lines, "\n")), Author: by, At: at,
	}
	p, err := source.Amend(ctx, link, access, id.Workload, id.Site, fields, func(files []source.File) error { return e.declaresLive(ctx, b, chosen, files) }, change)
	if err != nil {
		return p, fmt.Errorf("offer what is at %s: %w", id, err)
	}
	return p, e.note(ctx, id, berth.Offered, by, "", fmt.Sprintf("%s offers to declare %s as it is at %s, on the branch %s (%.7s)", by, say.List(told), id.Site, p.Branch, p.Commit), p)
}

// changedThere are the differences at some pointers that were made at the site; all of them where none is named.
func changedThere(b status.Berth, pointers []string) (chosen []compare.Difference, err error) {
	for _, d := range b.Differences {
		named := slices.ContainsFunc(pointers, func(p string) bool {
			return d.Pointer == p || strings.HasPrefix(d.Pointer, strings.TrimSuffix(p, "/")+"/")
		})
		if (len(pointers) == 0 || named) && (d.Kind == compare.Drift || d.Kind == compare.Conflict) {
			chosen = append(chosen, d)
		}
	}
	switch {
	case len(chosen) > 0:
		return chosen, nil
	case len(pointers) > 0:
		return nil, fmt.Errorf("at %s nothing was changed by hand in %s", b.ID, say.List(pointers))
	}
	return nil, fmt.Errorf("nothing was changed by hand at %s", b.ID)
}

// amended is a field as it is at a site, for the declaration.
func amended(b status.Berth, d compare.Difference) (f source.Amended, err error) {
	name := strings.TrimPrefix(d.Pointer, "/parts/")
	path := strings.Split(strings.TrimPrefix(d.Pointer, "/"), "/")
	for i := range path {
		path[i] = declare.Unescape(path[i])
	}
	if d.Part() == "" {
		return f, fmt.Errorf("%s is of no part: declare it by hand", d.Pointer)
	}
	live, there := b.Live[d.Part()].(map[string]any)
	if kind, _ := live["kind"].(string); kind == string(declare.Secret) {
		return f, fmt.Errorf("%s is secret: declare it by hand", name)
	}
	if len(path) > 2 && slices.Contains(compare.Told, path[2]) {
		return f, fmt.Errorf("%s is nothing that is declared: a sync puts it back", name)
	}
	before, within, value := path[:2:2], path[2:], any(nil)
	if there {
		value = live
	}
	if id, place := d.Object(); id != "" {
		if place == "" {
			return f, fmt.Errorf("%s is a whole object: put it into the declaration, or take it out, by hand", name)
		}
		objects, _ := live["objects"].(map[string]any)
		f.Kind, f.Name, _ = strings.Cut(id, "/")
		before, within, value = nil, path[4:], objects[id]
	}
	for i, step := range within {
		switch at := value.(type) {
		case map[string]any:
			value = at[step]
		case []any:
			if f.List == nil || f.Kind != "" { // the innermost of an object; a merge patch has the outermost whole
				f.List, f.Whole = append(slices.Clone(before), within[:i]...), at
			}
			n, err := strconv.Atoi(step)
			if err != nil || n < 0 || n >= len(at) {
				f.Path, f.Value, f.List = f.List, f.Whole, nil // an item more, or fewer
				return f, nil
			}
			value = at[n]
		default:
			value = nil
		}
	}
	f.Path, f.Value = append(before, within...), value
	return f, nil
}

// declaresLive tells why files would not declare some fields as they are at a berth's site; nil where they would.
func (e *Engine) declaresLive(ctx context.Context, b status.Berth, chosen []compare.Difference, files []source.File) error {
	loaded, err := e.loadOf(ctx, b.ID, "what is there", files)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(loaded.Declarations, func(d source.Declaration) bool { return d.Workload == b.Workload && d.Site == b.Site })
	if at < 0 {
		return fmt.Errorf("%s would not be declared any more", b.ID)
	}
	would := &loaded.Declarations[at].Desired
	for _, left := range compare.Fields(would, would, b.Live) {
		if left.Kind != compare.Same && left.Kind != compare.Left && slices.ContainsFunc(chosen, func(c compare.Difference) bool { return c.Pointer == left.Pointer }) {
			return fmt.Errorf("%s cannot be declared as it is there (%s): declare it by hand", strings.TrimPrefix(left.Pointer, "/parts/"), left)
		}
	}
	return nil
}

// note puts a fact on record that changes nothing.
func (e *Engine) note(ctx context.Context, id berth.ID, kind berth.Kind, by string, revision declare.Fingerprint, text string, data any) error {
	f := ledger.Fact{At: e.clock.Now().Truncate(time.Millisecond), Workload: id.Workload, Site: id.Site, Kind: kind, By: by, Revision: revision, Text: text}
	f.Data, _ = json.Marshal(data) // plain values
	return e.ledger.Record(ctx, ledger.Entry{Berth: id, Facts: []ledger.Fact{f}})
}
