package engine

import (
	"bytes"
	"context"
	"fmt"
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
		return nil, fault.New(fault.ErrNotFound, "there is no site %s", site)
	}
	finder, can := driver.(target.Finder)
	if !can {
		return nil, fault.New(fault.ErrNotFound, "%s cannot tell what nobody put there through Aditus: only cluster sites can", site)
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
	var chosen []map[string]any
	for _, id := range t.Strays {
		at := slices.IndexFunc(strays, func(s status.Stray) bool { return s.ID == id })
		switch {
		case at < 0:
			return source.Proposal{}, fault.New(fault.ErrNotFound, "there is no stray %s at %s", id, t.Site)
		case strays[at].Object == nil:
			return source.Proposal{}, fmt.Errorf("%s cannot be taken over: %s", id, strays[at].Not)
		}
		chosen = append(chosen, strays[at].Object)
	}
	link, access, err := e.linkToDeclare(t.Link)
	if err != nil {
		return source.Proposal{}, err
	}
	files, err := declarationOf(t, chosen)
	if err != nil {
		return source.Proposal{}, err
	}
	at := e.clock.Now()
	change := source.Change{
		Branch:  fmt.Sprintf("aditus/take-over-%s-%s-%s", t.Workload, t.Site, at.UTC().Format("20060102-150405")),
		Message: fmt.Sprintf("Take over %s at %s\n\nDeclared as it is there, so that a sync marks it and restarts nothing:\n- %s\n", t.Workload, t.Site, strings.Join(t.Strays, "\n- ")), Author: by, At: at,
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

// declarationOf is a declaration of objects, in a file, and the objects in another.
func declarationOf(t status.TakeOver, objects []map[string]any) (map[string][]byte, error) {
	switch {
	case !workloadName.MatchString(t.Workload):
		return nil, fmt.Errorf("%q is no name for a workload: small letters, digits and -, at most 40", t.Workload)
	case len(objects) == 0:
		return nil, fmt.Errorf("choose what is to be taken over")
	}
	slices.SortStableFunc(objects, func(a, b map[string]any) int { return declare.ObjectRank(a) - declare.ObjectRank(b) })
	name := "objects/" + t.Workload + ".yaml"
	var text bytes.Buffer
	e := yaml.NewEncoder(&text)
	e.SetIndent(2)
	for _, o := range objects {
		if err := e.Encode(o); err != nil {
			return nil, err
		}
	}
	if err := e.Close(); err != nil {
		return nil, err
	}
	declaration := fmt.Sprintf("# What ran at %s already, as it was found there.\naditus: 1\nworkload: %s\nsites: [%s]\nparts:\n  all: {kind: objects, files: [%s]}\n", t.Site, t.Workload, t.Site, name)
	return map[string][]byte{t.Workload + ".yaml": []byte(declaration), name: text.Bytes()}, nil
}
