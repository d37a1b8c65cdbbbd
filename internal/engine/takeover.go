package engine

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/core/say"
	"aditus/internal/source"
	"aditus/internal/status"
	"aditus/internal/target"
)

// Strays tells what is at a site and nobody put there through Aditus.
func (e *Engine) Strays(ctx context.Context, site string) ([]status.Stray, error) {
	e.mu.Lock()
	driver, is := e.drivers[site]
	e.mu.Unlock()
	if !is {
		return nil, fault.New(fault.ErrNotFound, "%s", say.None("site", site, slices.Sorted(maps.Keys(e.drivers))))
	}
	finder, can := driver.(target.Finder)
	if !can {
		return nil, fault.New(fault.ErrNotFound, "%s cannot tell what nobody put there through Aditus: stand-ins cannot", site)
	}
	return finder.Strays(ctx)
}

// TakeOver offers a workload that is what some strays of a site are, as a declaration on a branch: once it is merged and synced they are
// taken over as they are.
func (e *Engine) TakeOver(ctx context.Context, t status.TakeOver, by string) (source.Proposal, error) {
	strays, err := e.Strays(ctx, t.Site)
	if err != nil {
		return source.Proposal{}, err
	}
	var chosen []status.Stray
	for _, id := range t.Strays {
		at := slices.IndexFunc(strays, func(s status.Stray) bool { return s.ID == id })
		switch {
		case at < 0:
			return source.Proposal{}, fault.New(fault.ErrNotFound, "there is no stray %s at %s", id, t.Site)
		case strays[at].Not != "":
			return source.Proposal{}, fmt.Errorf("%s cannot be taken over: %s", id, strays[at].Not)
		}
		chosen = append(chosen, strays[at])
	}
	link, access, err := e.linkToDeclare(t.Link)
	if err != nil {
		return source.Proposal{}, err
	}
	files, parts, err := declarationOf(t, chosen)
	if err != nil {
		return source.Proposal{}, err
	}
	at := e.clock.Now()
	change := source.Change{
		Branch:  fmt.Sprintf("aditus/take-over-%s-%s-%s", t.Workload, t.Site, at.UTC().Format("20060102-150405")),
		Message: fmt.Sprintf("Take over %s at %s\n\nDeclared as it is there, so that a sync takes it over and starts nothing anew:\n- %s\n", t.Workload, t.Site, strings.Join(t.Strays, "\n- ")), Author: by, At: at,
	}
	p, err := source.Add(ctx, link.source, access, files, func(all []source.File) error {
		loaded, err := e.loadPreview(ctx, link, "what is there", all, nil)
		if err == nil && !slices.ContainsFunc(loaded.Declarations, func(d source.Declaration) bool { return d.Workload == t.Workload && d.Site == t.Site }) {
			err = fmt.Errorf("%s would not be declared at %s", t.Workload, t.Site)
		}
		return err
	}, change)
	if err != nil {
		return p, fmt.Errorf("offer to take over %s at %s: %w", t.Workload, t.Site, err)
	}
	if len(parts) > 0 {
		if err := e.pledge(t, parts); err != nil {
			return p, fmt.Errorf("it is offered on the branch %s, but would be started anew: %w", p.Branch, err)
		}
	}
	id := berth.ID{Workload: t.Workload, Site: t.Site}
	return p, e.note(ctx, id, berth.Offered, by, "", fmt.Sprintf("%s offers to take over %s at %s as %s, on the branch %s (%.7s)", by, say.Few(t.Strays, 4), t.Site, t.Workload, p.Branch, p.Commit), p)
}

// linkToDeclare is the link whose repository takes a new workload: the one that is named, or the only one.
func (e *Engine) linkToDeclare(name string) (*link, source.Access, error) {
	e.mu.Lock()
	var found []*link
	var names []string
	for _, l := range e.links {
		if l.follow == nil && (name == "" || l.source.Name == name) && (name != "" || !l.source.Bundle()) {
			found, names = append(found, l), append(names, l.source.Name)
		}
	}
	e.mu.Unlock()
	switch {
	case len(found) == 0 && name != "":
		return nil, source.Access{}, fault.New(fault.ErrNotFound, "there is no link %s", name)
	case len(found) == 0:
		return nil, source.Access{}, fmt.Errorf("no link could take a declaration: connect a repository first")
	case len(found) > 1:
		return nil, source.Access{}, fmt.Errorf("name the link that is to declare it: there are %s", say.List(names))
	}
	access := found[0].access()
	if access.Cache != "" {
		access.Cache += "-proposals"
	}
	return found[0], access, nil
}

// workloadName is what a workload may be called.
var workloadName = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,38}[a-z0-9])?$`)

// pledge has a site remember which of its strays are to be which parts.
func (e *Engine) pledge(t status.TakeOver, parts map[string]string) error {
	e.mu.Lock()
	driver := e.drivers[t.Site]
	e.mu.Unlock()
	pledger, can := driver.(target.Pledger)
	if !can {
		return fmt.Errorf("%s remembers nothing of it", t.Site)
	}
	return pledger.Pledge(t.Workload, parts)
}

// declarationOf is a declaration of strays in a file, with their objects in another, and the parts, by name, that are no objects but strays
// by ID.
func declarationOf(t status.TakeOver, strays []status.Stray) (files map[string][]byte, parts map[string]string, err error) {
	switch {
	case !workloadName.MatchString(t.Workload):
		return nil, nil, fmt.Errorf("%q is no name for a workload: small letters, digits and -, at most 40", t.Workload)
	case len(strays) == 0:
		return nil, nil, fmt.Errorf("choose what is to be taken over")
	}
	files, parts = map[string][]byte{}, map[string]string{}
	var objects []any
	declared, notes := map[string]any{}, []string{}
	slices.SortStableFunc(strays, func(a, b status.Stray) int { return declare.ObjectRank(a.Object) - declare.ObjectRank(b.Object) })
	for _, s := range strays {
		if s.Part == nil {
			objects = append(objects, s.Object)
			continue
		}
		name := cmp.Or(s.With, "main")
		for n := 2; declared[name] != nil; n++ {
			name = fmt.Sprintf("%s-%d", cmp.Or(s.With, "main"), n)
		}
		declared[name], parts[name] = s.Part, s.ID
		for _, note := range s.Notes {
			notes = append(notes, fmt.Sprintf("# %s: %s.\n", name, note))
		}
	}
	if len(objects) > 0 {
		name := "objects/" + t.Workload + ".yaml"
		declared["all"] = map[string]any{"kind": string(declare.Objects), "files": []string{name}}
		if files[name], err = yamlOf(objects...); err != nil {
			return nil, nil, err
		}
	}
	text, err := yamlOf(map[string]any{"parts": declared})
	if err != nil {
		return nil, nil, err
	}
	files[t.Workload+".yaml"] = fmt.Appendf(nil, "# What ran at %s already, as it was found there.\n%saditus: 1\nworkload: %s\nsites: [%s]\n%s", t.Site, strings.Join(notes, ""), t.Workload, t.Site, text)
	return files, parts, nil
}

// yamlOf writes values as documents of one file.
func yamlOf(values ...any) ([]byte, error) {
	var text bytes.Buffer
	e := yaml.NewEncoder(&text)
	e.SetIndent(2)
	for _, v := range values {
		if err := e.Encode(v); err != nil {
			return nil, err
		}
	}
	err := e.Close()
	return text.Bytes(), err
}
