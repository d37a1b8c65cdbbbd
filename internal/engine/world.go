package engine

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"aditus/internal/config"
	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/health"
)

// history is the revisions of one workload. They never change once they are in it.
type history struct {
	all   []*berth.Revision // oldest first
	known map[declare.Fingerprint]*berth.Revision
}

// learn adds a revision to those that are known of its workload. It is called with the lock held.
func (e *Engine) learn(r *berth.Revision) {
	h := e.revisions[r.Workload]
	if h == nil {
		h = &history{known: map[declare.Fingerprint]*berth.Revision{}}
		e.revisions[r.Workload] = h
	}
	if h.known[r.Fingerprint] == nil {
		h.all, h.known[r.Fingerprint] = append(h.all, r), r
	}
}

// of gives a revision on record; nil where it is not.
func (h *history) of(fingerprint declare.Fingerprint) *berth.Revision {
	if h == nil {
		return nil
	}
	return h.known[fingerprint]
}

// named gives the revisions that a name fits: the begin of a fingerprint, or a version.
func (h *history) named(name string) (found []*berth.Revision) {
	if h == nil {
		return nil
	}
	for _, r := range h.all {
		if strings.HasPrefix(string(r.Fingerprint), name) || r.Version == name {
			found = append(found, r)
		}
	}
	return found
}

// revision gives a revision on record.
func (e *Engine) revision(workload string, fingerprint declare.Fingerprint) *berth.Revision {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.revisions[workload].of(fingerprint)
}

// known gives those of some revisions that are on record.
func (e *Engine) known(workload string, fingerprints []declare.Fingerprint) map[declare.Fingerprint]*berth.Revision {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.revisions[workload].some(fingerprints)
}

func (h *history) some(fingerprints []declare.Fingerprint) map[declare.Fingerprint]*berth.Revision {
	known := map[declare.Fingerprint]*berth.Revision{}
	for _, f := range fingerprints {
		if r := h.of(f); r != nil {
			known[f] = r
		}
	}
	return known
}

// world is what a decision has to know beyond the berth and its site, all of one moment.
func (e *Engine) world(b *loop, orders []*order, seen *evidence) berth.World {
	e.mu.Lock()
	defer e.mu.Unlock()
	site, h := e.siteOf(b.id.Site), e.revisions[b.id.Workload]
	w := berth.World{
		Automatic: site.Automatic, Drift: berth.Drift{Look: site.Drift.Look, Correct: site.Drift.Then == config.CorrectDrift, Notice: site.Drift.Notice},
		Roles: e.settings.Roles, Named: map[string][]*berth.Revision{},
	}
	wanted := append([]declare.Fingerprint{b.state.Applied, b.state.MarkedFrom}, b.state.Proven...)
	if roll := b.state.Roll; roll != nil {
		wanted = append(wanted, roll.Old.Revision, roll.New.Revision)
	}
	for _, c := range seen.target.Cohorts {
		wanted = append(wanted, c.Revision)
	}
	if d, ok := e.declared[b.id]; ok {
		w.Declared = h.of(d.fingerprint)
		wanted = append(wanted, d.fingerprint)
	}
	if w.Declared != nil {
		w.Needs = e.needsOf(b.id, w.Declared.Desired.Needs)
	}
	w.After, w.AfterProven = e.waitsFor(b.id)
	w.Revisions = h.some(wanted)
	for _, o := range orders {
		if o.To != "" {
			w.Named[o.To] = h.named(o.To)
		}
	}
	return w
}

// declaredFor gives the revision that Git declares for a berth, nil for none, and by how many revisions another one
// is behind it.
func (e *Engine) declaredFor(id berth.ID, applied declare.Fingerprint) (*berth.Revision, int) {
	e.mu.Lock()
	defer e.mu.Unlock()
	d, ok := e.declared[id]
	if !ok {
		return nil, 0
	}
	found := e.revisions[id.Workload].of(d.fingerprint)
	if found == nil || found.Fingerprint == applied {
		return found, 0
	}
	history := d.link.state.History[id.String()]
	behind := len(history) - 1 - slices.Index(history, applied)
	if !slices.Contains(history, applied) {
		behind = len(history)
	}
	return found, max(1, behind)
}

// linkOf tells which link declares a berth, and which branch the site follows for a while, if it does.
func (e *Engine) linkOf(id berth.ID) (name, follows string, until time.Time) {
	e.mu.Lock()
	defer e.mu.Unlock()
	d, ok := e.declared[id]
	switch {
	case !ok:
		return "", "", time.Time{}
	case d.link.follow != nil:
		return d.link.follow.Link, d.link.follow.Branch, d.link.follow.Until
	}
	return d.link.source.Name, "", time.Time{}
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
		case b.shown.Stand == compare.Behind && b.shown.Bar == nil:
			return fmt.Sprintf("waits for %s, which it needs, to take its newest revision first", need)
		case b.shown.Health.Word != health.Healthy:
			return fmt.Sprintf("waits for %s, which it needs, to be healthy: it is %s", need, b.shown.Health.Word)
		}
	}
	return ""
}
