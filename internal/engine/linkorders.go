package engine

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/source"
	"aditus/internal/status"
)

// LookNow has links read at once: those that are named, or all.
func (e *Engine) LookNow(names ...string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, l := range e.links {
		if len(names) == 0 || slices.Contains(names, l.source.Name) {
			wake(l.wake)
		}
	}
}

// Accept takes a link's rewritten branch as it is now.
func (e *Engine) Accept(name string) error {
	e.mu.Lock()
	found := false
	for _, l := range e.links {
		if l.source.Name == name {
			l.accept, found = true, true
		}
	}
	e.mu.Unlock()
	if !found {
		return e.noLink(name)
	}
	e.LookNow(name)
	return nil
}

// Pushed tells the links of a name that something was pushed to a branch, and which files changed; nil where that is
// not known. It tells whether any of them looks because of it.
func (e *Engine) Pushed(name, branch string, files []string) (known, looks bool) {
	e.mu.Lock()
	var wake []string
	for _, l := range e.links {
		of := l.source.Name
		if l.follow != nil {
			of = l.follow.Link
		}
		if of != name {
			continue
		}
		known = true
		if branch != "" && l.source.Branch != branch {
			continue
		}
		folder := strings.TrimSuffix(l.source.Folder, "/") + "/"
		if files == nil || folder == "/" || folder == "./" || slices.ContainsFunc(files, func(f string) bool { return strings.HasPrefix(f, folder) }) {
			wake = append(wake, l.source.Name)
		}
	}
	e.mu.Unlock()
	if len(wake) > 0 {
		e.LookNow(wake...)
	}
	return known, len(wake) > 0
}

// Preview reads what a berth would have declared by another branch or commit of its link.
func (e *Engine) Preview(ctx context.Context, id berth.ID, ref string) (*declare.Desired, source.Commit, error) {
	e.mu.Lock()
	d, ok := e.declared[id]
	e.mu.Unlock()
	if !ok {
		return nil, source.Commit{}, fault.New(fault.ErrNotFound, "no link declares %s", id)
	}
	loaded, err := e.preview(ctx, d.link, ref, nil)
	if err != nil {
		return nil, source.Commit{}, err
	}
	for _, found := range loaded.Declarations {
		if found.Workload == id.Workload && found.Site == id.Site {
			return &found.Desired, found.Commit, nil
		}
	}
	return nil, source.Commit{}, fmt.Errorf("%s declares no %s", source.At(d.link.source, ref).Ref(), id)
}

// preview reads what another branch or commit of a link declares, with some variables set otherwise; nothing of it is taken.
func (e *Engine) preview(ctx context.Context, l *link, ref string, set map[string]string) (source.Loaded, error) {
	at := source.At(l.source, ref)
	access := l.access()
	if access.Cache != "" {
		access.Cache += "-preview"
	}
	answer, err := source.Ask(ctx, at, access, source.Seen{}, true)
	if err != nil {
		return source.Loaded{}, err
	}
	return e.loadPreview(ctx, l, at.Ref(), answer.Files, set)
}

// loadPreview checks what another branch or commit would declare.
func (e *Engine) loadPreview(ctx context.Context, l *link, name string, files []source.File, set map[string]string) (source.Loaded, error) {
	options, _, err := e.loadOptions(l, false)
	if err != nil {
		return source.Loaded{}, err
	}
	maps.Copy(options.Set, set)
	loaded, problems := source.Load(ctx, files, options)
	if wrong := problems.In(l.source.Folder).Wrong(); len(wrong) > 0 {
		return loaded, fmt.Errorf("%s would not be taken: %w", name, wrong)
	}
	return loaded, nil
}

// noLink is that there is no link of a name, with the one that may be meant.
func (e *Engine) noLink(name string) error {
	e.mu.Lock()
	settings := e.settings
	e.mu.Unlock()
	return fault.New(fault.ErrNotFound, "%v", settings.ErrNoLink(name))
}

// Trial is what came of trying a link.
type Trial struct {
	Commit source.Commit
	Ref    string // what is watched
	Fresh  bool   // there is something new
	Took   time.Duration
}

// Try asks a link's repository at once whether it answers, and takes nothing from it.
func (e *Engine) Try(ctx context.Context, name string) (Trial, error) {
	e.mu.Lock()
	var found *link
	var seen source.Seen
	for _, l := range e.links {
		if l.source.Name == name {
			found, seen = l, l.state.Seen
		}
	}
	e.mu.Unlock()
	if found == nil {
		return Trial{}, e.noLink(name)
	}
	access := found.access()
	if access.Cache != "" {
		access.Cache += "-trial"
	}
	began := time.Now()
	answer, err := source.Ask(ctx, found.source, access, seen, false)
	t := Trial{Commit: answer.Head, Ref: found.source.Ref(), Fresh: err == nil && answer.Seen != seen, Took: time.Since(began)}
	if t.Commit.Hash == "" {
		t.Commit.Hash = answer.Commit
	}
	return t, err
}

// Glance looks at a berth once, for an engine that does not run: the site as it is, and what the links declared when they
// were read last. It decides nothing and changes nothing.
func (e *Engine) Glance(ctx context.Context, id berth.ID) (status.Berth, error) {
	e.mu.Lock()
	b := e.berths[id]
	e.mu.Unlock()
	if b == nil {
		return status.Berth{}, fault.New(fault.ErrNotFound, "there is no berth %s", id)
	}
	ctx, cancel := context.WithTimeout(ctx, askTimeout)
	defer cancel()
	seen := &evidence{reached: true, old: b.state.Applied}
	var err error
	if seen.target, err = b.driver.Observe(ctx, id.Workload); err != nil {
		return status.Berth{}, fmt.Errorf("look at %s: %w", id, err)
	}
	b.translate(seen)
	world, err := e.world(b, nil, seen)
	if err != nil {
		return status.Berth{}, err
	}
	b.state.Change = berth.Compare(b.state, seen.core(), world)
	b.last, b.looked = seen, e.clock.Now()
	return b.view(), nil
}
