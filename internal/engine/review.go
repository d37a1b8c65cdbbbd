package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/course"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/core/plan"
	"aditus/internal/ledger"
	"aditus/internal/source"
	"aditus/internal/status"
)

// Review tells what a branch, tag or commit would change at every site, what it would meet on its way there, and what could not be
// undone. It is of all links that have it; nothing of it is taken.
func (e *Engine) Review(ctx context.Context, ref string) (status.Review, error) {
	told := status.Review{Ref: ref, Workloads: []status.ReviewWorkload{}}
	e.mu.Lock()
	told.Line, told.Now = e.settings.Line, e.clock.Now()
	policy := e.policyLink()
	var links []*link
	for _, l := range e.links {
		if l.follow == nil && !l.source.Bundle() {
			links = append(links, l)
		}
	}
	e.mu.Unlock()
	loaded := map[*link]source.Loaded{}
	var failed []error
	for _, l := range links {
		found, merged, err := e.merge(ctx, l, ref)
		if err != nil {
			failed = append(failed, fmt.Errorf("%s: %w", l.source.Name, err))
			continue
		}
		loaded[l] = found
		if told.Behind = told.Behind || merged.Behind; len(merged.Conflicts) > 0 {
			told.Conflicts = append(told.Conflicts, merged.Conflicts...)
		}
	}
	switch {
	case len(links) == 0:
		return told, fault.New(fault.ErrNotFound, "no link has branches")
	case len(loaded) == 0:
		return told, errors.Join(failed...)
	}
	rules, line, err := e.reviewRules(loaded[policy], policy, &told)
	if err != nil {
		return told, err
	}
	for _, l := range links {
		if found, has := loaded[l]; has {
			e.reviewLink(l, found, rules, line, &told)
		}
	}
	slices.SortFunc(told.Workloads, func(a, b status.ReviewWorkload) int { return strings.Compare(a.Workload, b.Workload) })
	return told, nil
}

// merge reads what a link would declare with another branch or commit merged; nothing of it is taken.
func (e *Engine) merge(ctx context.Context, l *link, ref string) (source.Loaded, source.Merged, error) {
	access := l.access()
	if access.Cache != "" {
		access.Cache += "-preview"
	}
	merged, err := source.Merge(ctx, l.source, access, ref)
	if err != nil {
		return source.Loaded{}, merged, err
	}
	loaded, err := e.loadPreview(ctx, l, ref, merged.Files, nil)
	return loaded, merged, err
}

// reviewRules are those that would be in force.
func (e *Engine) reviewRules(loaded source.Loaded, policy *link, told *status.Review) (*course.Rules, *declare.Line, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	line, name := e.line()
	if policy == nil || loaded.Line == nil {
		if line == nil {
			return nil, nil, nil
		}
		return e.rulesOf(name, told.Now), line, nil
	}
	told.Rules = line == nil || lineName(*loaded.Line) != name
	rules, err := course.New(*loaded.Line, told.Now)
	return rules, loaded.Line, err
}

// reviewLink adds what one link would change.
func (e *Engine) reviewLink(l *link, loaded source.Loaded, rules *course.Rules, line *declare.Line, told *status.Review) {
	next := map[berth.ID]source.Declaration{}
	for _, d := range loaded.Declarations {
		next[berth.ID{Workload: d.Workload, Site: d.Site}] = d
	}
	now := map[berth.ID]*declare.Desired{}
	version := map[berth.ID]string{}
	e.mu.Lock()
	sites := e.settings.Sites
	declared := l.state.Declared
	e.mu.Unlock()
	for name, fingerprint := range declared {
		id, _ := berth.ParseID(name)
		if r, err := e.revision(id.Workload, fingerprint); err == nil && r != nil {
			now[id], version[id] = r.Desired, r.Version
		}
	}
	workloads := map[string]bool{}
	for id := range next {
		workloads[id.Workload] = true
	}
	for id := range now {
		workloads[id.Workload] = true
	}
	for workload := range workloads {
		w := status.ReviewWorkload{Workload: workload, Link: l.source.Name}
		var legs []course.Leg
		if rules != nil {
			legs = planned(workload, next, rules, told.Now)
			if c := line.CourseOf(workload); c != nil {
				w.Course, w.Off = c.Name, !c.On
			}
		}
		for _, site := range sites {
			id := berth.ID{Workload: workload, Site: site.Name}
			to, coming := next[id]
			from := now[id]
			if coming || from != nil {
				told.Berths++
			}
			var wanted *declare.Desired
			if coming {
				wanted = &to.Desired
			}
			if from == nil && wanted == nil || from != nil && wanted != nil && from.Fingerprint() == wanted.Fingerprint() {
				continue
			}
			one := status.ReviewSite{Site: site.Name, From: version[id], Does: []string{"nothing of it is declared any more: what runs stays until a person removes it"}}
			if coming {
				one.To, one.Does, one.Lasting = to.Version(), reviewed(from, wanted), berth.Lasting(wanted)
				w.Subject, w.Author = cmp.Or(w.Subject, to.Commit.Subject), cmp.Or(w.Author, to.Commit.Author)
			}
			if i := slices.IndexFunc(legs, func(leg course.Leg) bool { return leg.Site == site.Name }); i >= 0 && coming {
				one.Leg = &legs[i]
			}
			w.Sites = append(w.Sites, one)
		}
		if len(w.Sites) > 0 {
			told.Workloads = append(told.Workloads, w)
		}
	}
}

// reviewed tells in words what a change of what is declared would do.
func reviewed(from, to *declare.Desired) (does []string) {
	p := plan.New(to, compare.Two(from, to))
	for _, wave := range p.Waves {
		for _, step := range wave {
			does = append(does, step.String())
		}
	}
	if len(p.Rules) > 0 {
		var fields []string
		for _, d := range p.Rules {
			fields = append(fields, strings.TrimPrefix(d.Pointer, "/"))
		}
		does = append(does, "rules: "+strings.Join(fields, ", "))
	}
	return does
}

// KeepReview puts a review on record, and gives it with the number that it has there.
func (e *Engine) KeepReview(ctx context.Context, ref, by string) (status.Review, error) {
	told, err := e.Review(ctx, ref)
	if err != nil {
		return told, err
	}
	text := fmt.Sprintf("%s previews %s: it would change %d of %d berths", by, ref, told.Changes(), told.Berths)
	if err := e.note(context.WithoutCancel(ctx), berth.ID{}, berth.PreviewKept, by, "", text, told); err != nil {
		return told, err
	}
	facts, err := e.ledger.Facts(ledger.Query{Newest: 50})
	for _, f := range slices.Backward(facts) {
		if f.Kind == berth.PreviewKept && f.Text == text {
			told.Kept = f.Seq
			break
		}
	}
	return told, err
}
