package engine

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"

	"aditus/internal/config"
	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/source"
	"aditus/internal/target"
)

// Foretell reads what a link that is not in the settings would declare, also for sites that are not there yet, and takes none of it. What it
// declares is given as far as it can be read, with all that is wrong with it. Without artifacts none of them is looked for.
func (e *Engine) Foretell(ctx context.Context, of config.Link, access source.Access, sites []string, artifacts bool) ([]source.Declaration, declare.Problems, error) {
	l := &link{e: e, source: of}
	options, _, err := e.loadOptions(l, false)
	if err != nil {
		return nil, nil, err
	}
	options.Grant = &declare.Grant{Everything: true} // what it may is written down with it
	if !artifacts {
		options.Resolve = nil
	}
	for _, site := range sites {
		if !slices.Contains(options.Sites, site) {
			options.Sites = append(options.Sites, site)
		}
	}
	answer, err := source.Ask(ctx, of, access, source.Seen{}, true)
	if err != nil {
		return nil, nil, err
	}
	loaded, problems := source.Load(ctx, answer.Files, options)
	told := map[string]bool{}
	for _, d := range loaded.Declarations {
		if why := e.elses(l, d, loaded.Line); why != "" && !told[why] {
			told[why] = true
			problems = append(problems, declare.Problem{File: d.Workload + ".yaml", Line: 1, Column: 1, Message: why})
		}
	}
	return loaded.Declarations, problems.In(filepath.ToSlash(of.Folder)), nil
}

// elses tells why a declaration cannot be a link's, by what others declare and the settings have; empty where it can.
func (e *Engine) elses(l *link, d source.Declaration, line *declare.Line) string {
	if other := e.declaredBy(d.Workload, l); other != "" {
		return fmt.Sprintf("the workload %q is declared by the link %s already: give one of them another name", d.Workload, other)
	}
	if role := e.unlisted(d.Desired.Rollout.Stages, line); role != "" {
		return fmt.Sprintf("a stage of %s at %s asks for a sign-off by %q, and the settings list nobody under that role: write there whose go-ahead it is, roles: {%s: [NAME]}, or [\"*\"] for anyone's", d.Workload, d.Site, role, role)
	}
	return ""
}

// Declares gives what a link declares now, by site.
func (e *Engine) Declares(name string) map[string][]declare.Desired {
	e.mu.Lock()
	var of map[string]declare.Fingerprint
	for _, l := range e.links {
		if l.follow == nil && l.source.Name == name {
			of = l.state.Declared
		}
	}
	e.mu.Unlock()
	all := map[string][]declare.Desired{}
	for at, fingerprint := range of {
		id, _ := berth.ParseID(at)
		if r, err := e.revision(id.Workload, fingerprint); err == nil && r != nil {
			all[id.Site] = append(all[id.Site], *r.Desired)
		}
	}
	return all
}

// Foresee asks a site what it would make of a workload's first revision there, and changes nothing. driver is the site's where it is not one of the
// settings. A site that cannot say it makes what is declared.
func (e *Engine) Foresee(ctx context.Context, driver target.Driver, d source.Declaration) ([]target.Trial, error) {
	if driver == nil {
		driver = e.drivers[d.Site]
	}
	placer, ok := driver.(target.Placer)
	if !ok {
		return nil, nil
	}
	desired, err := e.opened(d.Desired)
	if err != nil {
		return nil, err
	}
	return placer.Try(ctx, d.Workload, desired)
}
