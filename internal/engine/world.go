package engine

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"aditus/internal/config"
	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/health"
)

// watchedBeats is how many beats may lie between two looks for the time between them to count as watched.
const watchedBeats = 3

// world is what a decision has to know beyond the berth and its site, all of one moment. What a revision declares never
// changes, so that it may be read before.
func (e *Engine) world(b *loop, orders []*order, seen *evidence) (berth.World, error) {
	e.mu.Lock()
	site, h, d := e.siteOf(b.id.Site), e.revisions[b.id.Workload], e.declared[b.id]
	w := berth.World{
		Automatic: site.Automatic && !e.settings.Calm, Drift: e.drift(site),
		Pace:  watchedBeats*e.beat + e.clock.Late(),
		Roles: e.roles(), Named: map[string][]*berth.Revision{},
	}
	if line, _ := e.line(); line != nil {
		w.TwoPersons = line.TwoPersons
	}
	named := map[string][]declare.Fingerprint{}
	for _, o := range orders {
		if o.To != "" {
			named[o.To] = h.named(o.To)
		}
	}
	e.mu.Unlock()
	if err := b.hold(seen, d.fingerprint, slices.Concat(slices.Collect(maps.Values(named))...)); err != nil {
		return w, err
	}
	w.Revisions, w.Declared = b.held, b.held[d.fingerprint]
	for name, found := range named {
		for _, fingerprint := range found {
			w.Named[name] = append(w.Named[name], b.held[fingerprint])
		}
	}
	if w.Declared != nil {
		synced := slices.ContainsFunc(orders, func(o *order) bool { return o.Verb == berth.Sync })
		w.Cannot, w.Asked = b.cannot(w.Declared, synced, e.clock.Now())
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if w.Declared != nil {
		w.Needs = e.needsOf(b.id, w.Declared.Desired.Needs)
	}
	w.After, w.AfterProven = e.waitsFor(b.id)
	w.Trial, w.BranchGone = e.trialOf(d), e.branchGone(b)
	if line, name := e.line(); line != nil {
		w.Rules = e.rulesOf(name, e.clock.Now())
	}
	if w.Declared != nil && (!b.settled(w.Declared) || w.Rules != nil && w.Rules.Ties(b.id.Workload, b.id.Site)) {
		if w.Course = e.courseOf(b, w.Declared, e.clock.Now()); w.Course != nil && w.Course.Also != nil {
			w.Roles = w.Course.Also.Roles // whoever plays a role by the same commit does not yet
		}
	}
	if slices.ContainsFunc(seen.judged.Verdicts, func(v guard.Verdict) bool { return v.Word == guard.Breach }) {
		w.Shared = e.shared(b, e.clock.Now())
	}
	return w, nil
}

// settled tells whether what is declared is there, and nothing is asked or under way: the line's rules have nothing to say to that.
func (b *loop) settled(declared *berth.Revision) bool {
	return b.state.Applied == declared.Fingerprint && b.state.Roll == nil && b.state.Offer == nil && len(b.state.Signs) == 0
}

// behind tells by how many revisions what is applied is behind what Git declares for a berth, and what that is; empty
// for nothing.
func (e *Engine) behind(id berth.ID, applied declare.Fingerprint) (declared declare.Fingerprint, by int) {
	e.mu.Lock()
	defer e.mu.Unlock()
	d, ok := e.declared[id]
	if !ok || d.fingerprint == applied {
		return d.fingerprint, 0
	}
	history := d.link.state.History[id.String()]
	by = len(history) - 1 - slices.Index(history, applied)
	if !slices.Contains(history, applied) {
		by = len(history)
	}
	return d.fingerprint, max(1, by)
}

// linkOf tells which link declares a berth, and which branch the site follows for a while, if it does.
func (e *Engine) linkOf(id berth.ID) (name string, bundle bool, follows string, until time.Time) {
	e.mu.Lock()
	defer e.mu.Unlock()
	d, ok := e.declared[id]
	switch {
	case !ok:
		return "", false, "", time.Time{}
	case d.link.follow != nil:
		return d.link.follow.Link, false, d.link.follow.Branch, d.link.follow.Until
	}
	return d.link.source.Name, d.link.source.Bundle(), "", time.Time{}
}

// siteOf gives a site's settings. It is called with the lock held.
func (e *Engine) siteOf(name string) config.Site {
	for _, s := range e.settings.Sites {
		if s.Name == name {
			return s
		}
	}
	return config.Site{Name: name}
}

// waitsFor gives the site whose proof a berth's revision waits for, and whether it is there: whether that site has
// proven what Git declares for it now. A site where the workload is not declared is passed over, and so is one that
// declares something of its own on another branch: what it proves is something else. What a site takes from another
// branch waits for none. It is called with the lock held.
func (e *Engine) waitsFor(id berth.ID) (string, bool) {
	if d, ok := e.declared[id]; ok && d.link.follow != nil {
		return "", true
	}
	after := e.siteOf(id.Site).After
	for after != "" {
		before := berth.ID{Workload: id.Workload, Site: after}
		if d, ok := e.declared[before]; ok && d.link.follow == nil {
			b := e.berths[before]
			return after, b != nil && slices.Contains(b.proven, d.fingerprint)
		}
		after = e.siteOf(after).After
	}
	return "", true
}

// sharedWithin is how far apart two breaches may begin to be taken for one trouble. What has breached for long says nothing of what
// breaches now.
const sharedWithin = 3 * guard.LeastStanding

// shared tells what else breaches its standing guards since about the same time, so that a breach here may come of the same and be no fault
// of what is applied: a workload that this one needs; the same workload at another site on another revision; or another workload of
// the site that does not need this one, where it did before this one. It is called with the lock held.
func (e *Engine) shared(b *loop, now time.Time) string {
	since := b.state.BreachSince
	if since.IsZero() {
		since = now
	}
	needed, found := e.needed(b), []string{}
	for _, other := range e.berths {
		if other == b || other.breached.IsZero() || other.breached.Sub(since).Abs() > sharedWithin {
			continue
		}
		here, first := other.id.Site == b.id.Site, other.breached.Before(since)
		switch {
		case here && needed[other]:
			found = append(found, fmt.Sprintf("%s, which it needs, breaches too", other.id.Workload))
		case other.id.Workload == b.id.Workload && other.shown.Applied != nil && other.shown.Applied.Fingerprint != b.state.Applied:
			found = append(found, fmt.Sprintf("it breaches at %s too, on %s", other.id.Site, other.shown.Applied.Version))
		case here && first && !e.needed(other)[b]:
			found = append(found, fmt.Sprintf("%s breached before, and does not need it", other.id.Workload))
		}
	}
	slices.Sort(found) // the same is told each time
	return strings.Join(found[:min(1, len(found))], "")
}

// standing is how many standing guards of the line go back by themselves: one budget of false rollbacks is theirs.
func (e *Engine) standing() (guards int) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, b := range e.berths {
		guards += b.stands
	}
	return guards
}

// needed are the berths that one needs, and those that they need. It is called with the lock held.
func (e *Engine) needed(b *loop) map[*loop]bool {
	all := map[*loop]bool{}
	for todo := []*loop{b}; len(todo) > 0; todo = todo[1:] {
		for _, need := range todo[0].needs {
			if other := e.berths[berth.ID{Workload: need, Site: b.id.Site}]; other != nil && !all[other] {
				all[other], todo = true, append(todo, other)
			}
		}
	}
	return all
}

// needsOf tells why a workload that another one needs is not ready for it at a site; empty where all are. It is
// called with the lock held.
func (e *Engine) needsOf(id berth.ID, needs []string) string {
	for _, need := range needs {
		b := e.berths[berth.ID{Workload: need, Site: id.Site}]
		switch {
		case b == nil || b.shown.Applied == nil:
			return fmt.Sprintf("waits for %s, which it needs: nothing of it is at %s yet", need, id.Site)
		case b.shown.Rollout != nil:
			return fmt.Sprintf("waits for %s, which it needs: a rollout of it is under way", need)
		case b.shown.SyncStatus == compare.Behind && b.shown.Bar == nil:
			return fmt.Sprintf("waits for %s, which it needs, to take its newest revision first", need)
		case b.shown.Health.Word != health.Healthy:
			return fmt.Sprintf("waits for %s, which it needs, to be healthy: it is %s", need, b.shown.Health.Word)
		}
	}
	return ""
}
