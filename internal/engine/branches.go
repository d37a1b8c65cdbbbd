package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/source"
)

// trialState is what a branch declares for berths of its own.
type trialState struct {
	Of       berth.Trial                    `json:"of"`
	Mark     string                         `json:"mark"`     // its commit and the line's rule: with the same nothing has to be read
	Declared map[string]declare.Fingerprint `json:"declared"` // by WORKLOAD/SITE
}

// mostBranches is how many branches of a rule have berths of their own.
const mostBranches = 50

// branchRules are what the line says of a link's branches.
func (e *Engine) branchRules(l *link) (rules []declare.Branches) {
	e.mu.Lock()
	defer e.mu.Unlock()
	line, _ := e.line()
	if line == nil {
		return nil
	}
	for _, rule := range line.Branches {
		if rule.Link == l.source.Name || rule.Link == "" && l == e.policyLink() {
			rules = append(rules, rule)
		}
	}
	return rules
}

// branchOut finds the branches of a link that have berths of their own, and what each declares for them. What cannot be read stays as
// it was read last.
func (l *link) branchOut(ctx context.Context) error {
	e, rules := l.e, l.e.branchRules(l)
	heads := map[string]string{}
	if len(rules) > 0 {
		var err error
		if heads, err = source.Branches(ctx, l.source, l.access()); err != nil {
			return err
		}
	}
	var failed []error
	next, taken := map[string]trialState{}, map[string]string{}
	for id := range l.state.Declared {
		taken[id] = "the branch " + l.source.Branch
	}
	for _, rule := range rules {
		count := 0
		for _, branch := range slices.Sorted(maps.Keys(heads)) {
			slug := rule.Slug(branch)
			if slug == "" || branch == l.source.Branch {
				continue
			}
			if count++; count > mostBranches {
				failed = append(failed, fmt.Errorf("%s: there are more than %d branches %s; those after %s have no berths", rule.Name, mostBranches, rule.Branches, branch))
				break
			}
			key := rule.Name + " " + branch
			was, known := l.state.Trials[key]
			one, err := l.trial(ctx, rule, branch, slug, heads[branch], was)
			if err != nil {
				failed = append(failed, fmt.Errorf("the branch %s: %w", branch, err))
				if !known {
					continue
				}
				one = was
				one.Declared = maps.Clone(was.Declared) // what is kept is replaced, never changed
			}
			for id := range one.Declared {
				if other := taken[id]; other != "" {
					failed = append(failed, fmt.Errorf("the branch %s: %s is declared by %s already; give it another name", branch, id, other))
					delete(one.Declared, id)
					continue
				}
				taken[id] = "the branch " + branch
			}
			next[key] = one
		}
	}
	same := maps.EqualFunc(next, l.state.Trials, func(a, b trialState) bool { return a.Mark == b.Mark && maps.Equal(a.Declared, b.Declared) })
	if !same {
		state := l.state
		state.Trials = next
		if err := e.ledger.KeepPicture(context.WithoutCancel(ctx), l.picture(), e.clock.Now(), state); err != nil {
			return err
		}
		e.mu.Lock()
		l.state = state
		e.mu.Unlock()
		e.mergeDeclared()
	}
	e.mu.Lock()
	first := !l.branched
	l.branched = true
	e.mu.Unlock()
	if !same || first {
		e.meet()
	}
	return errors.Join(failed...)
}

// trial reads what a branch declares for berths of its own, where that is not known.
func (l *link) trial(ctx context.Context, rule declare.Branches, branch, slug, commit string, was trialState) (trialState, error) {
	e := l.e
	text, err := json.Marshal(rule)
	if err != nil {
		return was, err
	}
	mark := commit + " " + string(text)
	if was.Mark == mark {
		was.Declared = maps.Clone(was.Declared)
		return was, nil
	}
	set := maps.Clone(rule.Variables)
	if set == nil {
		set = map[string]string{}
	}
	set[declare.BranchVariable] = slug
	loaded, err := e.preview(ctx, l, branch, set)
	if err != nil {
		return was, err
	}
	one := trialState{Of: berth.Trial{Branch: branch, Link: l.source.Name, Rule: rule.Name}, Mark: mark, Declared: map[string]declare.Fingerprint{}}
	for _, d := range loaded.Declarations {
		if d.Site != rule.Site || !declare.Matches(rule.Workloads, d.Workload) {
			continue
		}
		desired, fits := rule.Of(d.Desired, slug)
		if !fits {
			return was, fmt.Errorf("%s-%s is too long for a name", d.Workload, slug)
		}
		r := &berth.Revision{
			Fingerprint: desired.Fingerprint(), Workload: desired.Workload, Version: desired.Version(), Commit: d.Commit.Hash,
			Subject: d.Commit.Subject, Author: d.Commit.Author, At: d.Commit.At, Signed: d.Commit.Signed, Desired: &desired,
		}
		if err := e.remember(ctx, r, []string{rule.Site}); err != nil {
			return was, err
		}
		one.Declared[berth.ID{Workload: desired.Workload, Site: rule.Site}.String()] = r.Fingerprint
	}
	return one, nil
}

// trialOf is the branch that a berth is declared for, as the line's rule has it now. It is called with the lock held.
func (e *Engine) trialOf(d declaration) *berth.Trial {
	if d.trial == nil {
		return nil
	}
	own := *d.trial
	if line, _ := e.line(); line != nil {
		for _, rule := range line.Branches {
			if rule.Name == own.Rule {
				own.After, own.Notice, own.Volumes = rule.After.Duration, rule.Notice.Duration, rule.Volumes
			}
		}
	}
	return &own
}

// branchGone tells whether the branch that a berth was there for is gone, which takes a fresh look at all of them. It is called with the
// lock held.
func (e *Engine) branchGone(b *loop) bool {
	if b.state.Trial == nil || e.declared[b.id].trial != nil {
		return false
	}
	for _, l := range e.links {
		if l.follow == nil && l.source.Name == b.state.Trial.Link {
			return l.branched
		}
	}
	return false
}
