package engine

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net"
	"path"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"aditus/internal/config"
	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/core/plan"
	"aditus/internal/core/say"
	"aditus/internal/ledger"
	"aditus/internal/source"
	"aditus/internal/status"
)

// link watches one repository. What was read last outlives a restart.
type link struct {
	e      *Engine
	follow *config.Follow // it is one site's way to another branch; nil for a link as such
	wake   chan struct{}
	first  chan struct{} // closed once it was read for the first time
	stop   context.CancelFunc
	every  atomic.Int64 // the polling interval, which may change at any moment

	source   config.Link
	branched bool // its branches were looked at since the start; guarded by the engine's lock
	accept   bool // take a rewritten branch as it is now, once; guarded by the engine's lock
	state    linkState
	shown    status.Link // guarded by the engine's lock
}

// linkState is what the ledger keeps of a link. Its maps are by WORKLOAD/SITE; they are replaced, never changed.
type linkState struct {
	source.Seen
	Terms    string                           `json:"terms,omitempty"`   // what it was read by, beside what it says: another grant, or other floors, and it is read again
	Version  string                           `json:"version,omitempty"` // of a bundle
	Declared map[string]declare.Fingerprint   `json:"declared"`
	History  map[string][]declare.Fingerprint `json:"history"`          // what was declared, oldest first, the present one last
	Lines    []declare.Line                   `json:"lines,omitempty"`  // rules of the line, where the link has them, the newest first
	Bound    map[string]string                `json:"bound,omitempty"`  // what is declared that came with a change of these, by the name of those from before it
	Raw      map[string]declare.Fingerprint   `json:"raw,omitempty"`    // what a commit has where it loosens rules of a rollout, beside what is declared of it
	Held     map[string]string                `json:"held,omitempty"`   // and what of these rules is held, in words
	Trials   map[string]trialState            `json:"trials,omitempty"` // by RULE BRANCH: what branches declare for berths of their own
	Places   map[string]string                `json:"places,omitempty"` // of objects of a cluster's API in Git, by source.PlaceOf
}

// historyKept is how many revisions of a berth a link remembers, to tell how far behind a site is.
const historyKept = 50

func newLink(e *Engine, s config.Link, follow *config.Follow) (*link, error) {
	l := &link{e: e, source: s, follow: follow, wake: make(chan struct{}, 1), first: make(chan struct{})}
	if follow != nil {
		l.source.Name, l.source.Branch, l.source.Tag, l.source.Commit = s.Name+" for "+follow.Site, follow.Branch, "", ""
	}
	l.every.Store(int64(s.Every))
	if _, err := e.ledger.Picture(l.picture(), &l.state); err != nil && !errors.Is(err, fault.ErrNotFound) {
		l.state = linkState{} // it is read anew
	}
	for name := range l.state.Declared {
		if _, ok := berth.ParseID(name); !ok {
			l.state = linkState{} // an older version kept it by workload; it is read anew
			break
		}
	}
	l.shown = status.Link{
		Name: l.source.Name, Repository: s.Where(), Ref: l.source.Ref(), Branch: l.source.Branch, Folder: s.Folder, Every: s.Every,
		Commit: l.state.Commit, Version: l.state.Version, Berths: len(l.state.Declared), Bundle: s.Bundle(), Off: s.Off,
	}
	if follow != nil {
		l.shown.Follows, l.shown.Until = follow.Site, follow.Until
	}
	return l, nil
}

// name is the link's in the settings, also where it follows another branch for a site.
func (l *link) name() string {
	if l.follow != nil {
		return l.follow.Link
	}
	return l.source.Name
}

func (l *link) picture() string { return "link " + l.source.Name }

// ended tells whether a site no longer follows another branch.
func (l *link) ended(now time.Time) bool { return l.follow != nil && !now.Before(l.follow.Until) }

func (l *link) loop(ctx context.Context) error {
	defer l.e.clock.Leave()
	l.look(ctx)
	close(l.first)
	for {
		next := l.e.clock.Now().Add(time.Duration(l.every.Load()))
		if l.follow != nil && l.follow.Until.After(l.e.clock.Now()) && l.follow.Until.Before(next) {
			next = l.follow.Until
		}
		if at := l.e.scheduledLook(); !at.IsZero() && at.Before(next) {
			next = at
		}
		if err := l.e.clock.Wait(ctx, next, l.wake); err != nil {
			return nil // the link was taken away, or all ends
		}
		if l.ended(l.e.clock.Now()) {
			l.e.mergeDeclared()
			l.e.meet()
			return nil
		}
		l.look(ctx)
	}
}

// lookTimeout is how long a repository or registry may take.
const lookTimeout = 2 * time.Minute

// look reads the link once and shows what came of it. One that is switched off is not read.
func (l *link) look(ctx context.Context) {
	e := l.e
	if l.source.Off {
		return
	}
	began := time.Now()
	e.mu.Lock()
	accept := l.accept
	e.mu.Unlock()
	asking, cancel := context.WithTimeout(ctx, lookTimeout)
	err := l.take(asking, accept)
	if err == nil && l.follow == nil && !l.source.Bundle() {
		e.report("branches of "+l.source.Name, l.branchOut(asking))
	}
	cancel()
	e.report("artifacts of "+l.source.Name, e.registries.Rebuilt(l.archives()))
	now := e.clock.Now()
	e.mu.Lock()
	defer e.mu.Unlock()
	if err == nil {
		l.accept = false
	}
	e.unpictured.Store(e.unpictured.Load() || (err == nil) != (l.shown.Problem == nil))
	l.shown.Looked, l.shown.Took, l.shown.Commit, l.shown.Version = now, time.Since(began), l.state.Commit, l.state.Version
	l.shown.Every, l.shown.Berths = time.Duration(l.every.Load()), len(l.state.Declared)
	l.shown.Rewritten = errors.Is(err, source.ErrRewritten)
	if ctx.Err() == nil {
		l.shown.Wrong = nil
		var wrong declare.Problems
		if errors.As(err, &wrong) {
			for _, p := range wrong[:min(len(wrong), mostWrong)] {
				l.shown.Wrong = append(l.shown.Wrong, p.Error())
			}
			if more := len(wrong) - mostWrong; more > 0 {
				l.shown.Wrong = append(l.shown.Wrong, fmt.Sprintf("and %d more", more))
			}
		}
	}
	switch {
	case err == nil || ctx.Err() != nil:
		l.shown.Problem = nil
	case l.shown.Problem == nil || l.shown.Problem.Text != err.Error():
		l.shown.Problem = &status.Problem{About: l.source.Name, Text: err.Error(), Since: now}
	}
	e.signal()
}

// mostWrong are so many of the mistakes in what a link declares that are shown: a commit can have as many as it likes.
const mostWrong = 50

// archives are the files of this machine that the link declares as artifacts, as they are pinned.
func (l *link) archives() (all []string) {
	l.e.mu.Lock()
	declared := l.state.Declared
	l.e.mu.Unlock()
	for name, fingerprint := range declared {
		workload, _, _ := strings.Cut(name, "/")
		r, err := l.e.revision(workload, fingerprint)
		if err != nil || r == nil {
			continue
		}
		for _, part := range r.Desired.Parts {
			if strings.HasPrefix(part.Artifact, declare.FileScheme) && !slices.Contains(all, part.Artifact) {
				all = append(all, part.Artifact)
			}
		}
	}
	slices.Sort(all)
	return all
}

// access is what the link needs to be read.
func (l *link) access() source.Access {
	name := l.source.Name
	if l.follow != nil {
		name = l.follow.Link
	}
	return l.e.access.access(name)
}

// take reads what is new, whole or not at all: what was declared before stays declared when anything is wrong.
func (l *link) take(ctx context.Context, accept bool) error {
	e := l.e
	options, terms, err := e.loadOptions(l, true)
	if err != nil {
		return err
	}
	seen := l.state.Seen
	if terms != l.state.Terms {
		seen.Tree = ""
	}
	answer, err := source.Ask(ctx, l.source, l.access(), seen, accept)
	if err != nil {
		return err
	}
	if answer.Seen == seen {
		return nil
	}
	next := linkState{Seen: answer.Seen, Terms: terms, Version: answer.Ref, Declared: l.state.Declared, History: l.state.History, Places: l.state.Places, Lines: l.state.Lines, Bound: l.state.Bound, Trials: l.state.Trials, Raw: l.state.Raw, Held: l.state.Held}
	if answer.Changed {
		if err := l.declare(ctx, answer, options, &next); err != nil {
			return err
		}
	}
	if err := e.ledger.KeepPicture(context.WithoutCancel(ctx), l.picture(), e.clock.Now(), next); err != nil {
		return err
	}
	e.mu.Lock()
	l.state = next
	e.mu.Unlock()
	if answer.Changed {
		e.mergeDeclared()
		e.meet()
	}
	return nil
}

// declare checks a commit's files and puts the revisions they make on record.
func (l *link) declare(ctx context.Context, answer source.Answer, options source.Options, next *linkState) error {
	e := l.e
	loaded, problems := source.Load(ctx, answer.Files, options)
	problems = problems.In(l.source.Folder)
	if wrong := problems.Wrong(); len(wrong) > 0 {
		return fmt.Errorf("%s is not taken: %w; %s", l.describe(answer), wrong, l.stays())
	}
	next.Places = make(map[string]string, len(loaded.Places))
	for of, at := range loaded.Places {
		next.Places[of] = path.Join(l.source.Folder, at)
	}
	e.mu.Lock()
	l.shown.Warnings = nil
	for _, p := range problems {
		l.shown.Warnings = append(l.shown.Warnings, p.Error())
	}
	e.mu.Unlock()
	next.Bound, next.Raw, next.Held = nil, map[string]declare.Fingerprint{}, map[string]string{}
	next.Declared, next.History = map[string]declare.Fingerprint{}, maps.Clone(l.state.History)
	if next.History == nil {
		next.History = map[string][]declare.Fingerprint{}
	}
	before := next.takeLine(loaded.Line, l.state.Bound)
	revisions := map[declare.Fingerprint]*berth.Revision{}
	sites := map[declare.Fingerprint][]string{}
	for _, d := range loaded.Declarations {
		id := berth.ID{Workload: d.Workload, Site: d.Site}
		if l.follow != nil && d.Site != l.follow.Site {
			continue
		}
		if why := e.elses(l, d, loaded.Line); why != "" {
			return fmt.Errorf("%s is not taken: %s; %s", l.describe(answer), why, l.stays())
		}
		fingerprint, err := l.hold(ctx, id, &d.Desired, next)
		if err != nil {
			return err
		}
		next.Declared[id.String()] = fingerprint
		if history := next.History[id.String()]; len(history) == 0 || history[len(history)-1] != fingerprint {
			history = append(slices.Clone(history), fingerprint)
			next.History[id.String()] = history[max(0, len(history)-historyKept):]
		}
		if l.state.Declared[id.String()] == fingerprint {
			if name := l.state.Bound[id.String()]; name != "" {
				next.bind(id, name)
			}
			continue
		}
		if before != "" {
			next.bind(id, before)
		}
		sites[fingerprint] = append(sites[fingerprint], d.Site)
		revisions[fingerprint] = &berth.Revision{
			Fingerprint: fingerprint, Workload: d.Workload, Version: d.Version(), Commit: d.Commit.Hash,
			Subject: d.Commit.Subject, Author: d.Commit.Author, At: d.Commit.At, Signed: d.Commit.Signed, Desired: &d.Desired,
		}
	}
	e.mu.Lock()
	for _, name := range slices.Sorted(maps.Keys(next.Held)) {
		l.shown.Warnings = append(l.shown.Warnings, fmt.Sprintf("%s: what the commit brings comes by the rules from before it, which it loosens: %s", name, next.Held[name]))
	}
	e.mu.Unlock()
	for _, fingerprint := range slices.Sorted(maps.Keys(revisions)) {
		if err := e.remember(ctx, revisions[fingerprint], sites[fingerprint]); err != nil {
			return err
		}
	}
	return nil
}

// hold holds what is declared for a berth to the rules of a rollout that were declared before, as long as it brings anything else that
// is not at the site yet: a commit that loosens them does not help itself, nor what waits already. It gives what counts as declared.
func (l *link) hold(ctx context.Context, id berth.ID, desired *declare.Desired, next *linkState) (declare.Fingerprint, error) {
	e, name := l.e, id.String()
	raw := desired.Fingerprint()
	last, known := l.state.Declared[name]
	lastRaw := last
	if own, held := l.state.Raw[name]; held {
		lastRaw = own
	} else if !known || raw == last {
		return raw, nil
	}
	e.mu.Lock()
	applied := declare.Fingerprint("")
	if b := e.berths[id]; b != nil && b.shown.Applied != nil {
		applied = b.shown.Applied.Fingerprint
	}
	e.mu.Unlock()
	there, err1 := e.revision(id.Workload, applied)
	before, err2 := e.revision(id.Workload, last)
	rules, err3 := e.revision(id.Workload, lastRaw)
	switch err := errors.Join(err1, err2, err3); {
	case err != nil:
		return raw, err
	case before == nil:
		return raw, nil
	case raw == lastRaw && raw != last: // as it was held before
		*desired = *before.Desired
		next.Raw[name], next.Held[name] = raw, l.state.Held[name]
		return last, nil
	case there != nil && plan.New(desired, compare.Three(there.Desired, desired, compare.LiveOf(there.Desired))).OnlyMarks():
		return raw, nil // only rules change: they are looked at by themselves
	case applied != last || rules == nil:
		rules = before
	}
	own, held := declare.Tighten(*desired, *rules.Desired)
	if len(held) == 0 {
		return raw, nil
	}
	if err := e.ledger.Record(context.WithoutCancel(ctx), ledger.Entry{Revision: &berth.Revision{Fingerprint: raw, Workload: id.Workload, Version: desired.Version(), Desired: new(*desired)}}); err != nil {
		return raw, err
	}
	*desired = own
	next.Raw[name], next.Held[name] = raw, say.List(held)
	return own.Fingerprint(), nil
}

// unlisted gives a role that stages ask a sign-off of and the settings do not list; empty for none.
func (e *Engine) unlisted(stages []declare.Stage, line *declare.Line) string {
	e.mu.Lock()
	defer e.mu.Unlock()
	roles := e.roles()
	if line != nil {
		roles = line.Roles
	}
	for _, stage := range stages {
		if _, listed := roles[stage.SignOff]; stage.SignOff != "" && !listed {
			return stage.SignOff
		}
	}
	return ""
}

// describe names what was read.
func (l *link) describe(answer source.Answer) string {
	if answer.Ref != "" {
		return "version " + answer.Ref
	}
	return fmt.Sprintf("commit %.7s by %s", answer.Head.Hash, answer.Head.Author)
}

func (l *link) stays() string {
	if l.state.Commit == "" {
		return "nothing is declared yet"
	}
	if l.state.Version != "" {
		return fmt.Sprintf("what version %s declared stays declared", l.state.Version)
	}
	return fmt.Sprintf("what %.7s declared stays declared", l.state.Commit)
}

// taken tells which workload of another link has a host name or port at a site, by what is declared and what is applied.
func (e *Engine) taken(of *link) func(site, claim string) string {
	type held struct {
		id          berth.ID
		fingerprint declare.Fingerprint
	}
	others := map[held]bool{}
	e.mu.Lock()
	settings := e.settings
	own := map[string]bool{}
	for id, d := range e.declared {
		if d.link != nil && d.link.name() == of.name() {
			own[id.Workload] = true
		}
	}
	for id, d := range e.declared {
		if !own[id.Workload] {
			others[held{id, d.fingerprint}] = true
		}
	}
	for id, b := range e.berths {
		if !own[id.Workload] && b.shown.Applied != nil {
			others[held{id, b.shown.Applied.Fingerprint}] = true
		}
	}
	e.mu.Unlock()
	all := sync.OnceValue(func() map[string]string { // which takes a while, and is seldom asked for
		has := map[string]string{}
		for o := range others {
			r, err := e.revision(o.id.Workload, o.fingerprint)
			if err != nil || r == nil {
				continue
			}
			for name, part := range r.Desired.Parts {
				for _, claim := range part.Claims() {
					has[o.id.Site+" "+claim.What] = o.id.Workload + " by " + name
				}
			}
		}
		for _, site := range settings.Sites {
			for _, at := range settings.Addresses() {
				if _, port, err := net.SplitHostPort(at); err == nil {
					has[site.Name+" TCP port "+port] = "Aditus itself"
				}
			}
		}
		return has
	})
	return func(site, claim string) string { return all()[site+" "+claim] }
}

// loadOptions say how a link's declarations are read here, and name what of that others decide. watched is whether it is what the link
// watches, and not a branch that somebody looks at.
func (e *Engine) loadOptions(l *link, watched bool) (o source.Options, terms string, err error) {
	of, taken := l.source, e.taken(l)
	floors, err := source.ReadFloors(of.Must)
	if err != nil {
		return o, "", fmt.Errorf("link %s: must: %w", of.Name, err)
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	o = source.Options{Set: maps.Clone(e.access.Set), Opener: e.access.Opener, Resolve: e.registries.Resolve, Bare: source.Bare{Workload: of.Workload, Sites: of.Sites}, NotLine: e.settings.Policy != of.Name, Grant: new(of.Grant(len(e.settings.Links))), Taken: taken}
	for _, site := range e.settings.Sites {
		o.Sites = append(o.Sites, site.Name)
	}
	if o.Set == nil {
		o.Set = map[string]string{}
	}
	maps.Copy(o.Set, of.Variables)
	own, line := &declare.Line{Floors: floors}, &declare.Line{}
	if said, _ := e.line(); said != nil && (o.NotLine || !watched) { // or else its own are among what is read
		line = said
	}
	o.Floors = func(workload, site string) []declare.Floor {
		return slices.Concat(line.FloorsOf(workload, site), own.FloorsOf(workload, site))
	}
	text, err := json.Marshal([]any{o.Grant, floors, line.Floors, of.Signed})
	if err != nil {
		return o, "", err
	}
	sum := sha256.Sum256(text)
	return o, hex.EncodeToString(sum[:6]), nil
}
