package engine

import (
	"context"
	"fmt"
	"maps"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/say"
	"aditus/internal/ledger"
	"aditus/internal/status"
)

// remember puts a revision on record and among those that are known. sites are where it is declared anew.
func (e *Engine) remember(ctx context.Context, r *berth.Revision, sites []string) error {
	entry := ledger.Entry{Revision: r}
	if !e.onRecord(r.Workload, r.Fingerprint) {
		entry.Facts = []ledger.Fact{declaredFact(*r, sites, e.clock.Now())}
	}
	if err := e.ledger.Record(context.WithoutCancel(ctx), entry); err != nil {
		return err
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.learn(r.Workload, r.Fingerprint, r.Version)
	return nil
}

func declaredFact(r berth.Revision, sites []string, now time.Time) ledger.Fact {
	return ledger.Fact{
		At: now, Workload: r.Workload, Kind: berth.Declared, By: r.Author, Revision: r.Fingerprint,
		Text: fmt.Sprintf("%s (%s) is declared for %s: “%s”, commit %.7s by %s", r.Version, r.Fingerprint.Short(), say.List(sites), r.Subject, r.Commit, r.By()),
	}
}

// declaredBy gives the other link that declares a workload; empty for none.
func (e *Engine) declaredBy(workload string, but *link) string {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, l := range e.links {
		if l == but || l.follow != nil || but.follow != nil {
			continue
		}
		for name := range l.state.Declared {
			if id, _ := berth.ParseID(name); id.Workload == workload {
				return l.source.Name
			}
		}
	}
	return ""
}

// mergeDeclared puts together what all links declare. Where a site follows another branch, that one counts.
func (e *Engine) mergeDeclared() {
	e.mu.Lock()
	defer e.mu.Unlock()
	now := e.clock.Now()
	e.declared = map[berth.ID]declaration{}
	for _, follows := range []bool{false, true} {
		for _, l := range e.links {
			if (l.follow != nil) != follows || l.ended(now) || l.state.Commit == "" {
				continue
			}
			of := map[berth.ID]declaration{}
			for name, fingerprint := range l.state.Declared {
				if id, ok := berth.ParseID(name); ok {
					of[id] = declaration{fingerprint: fingerprint, link: l}
				}
			}
			for _, trial := range l.state.Trials {
				for name, fingerprint := range trial.Declared {
					if id, ok := berth.ParseID(name); ok && !follows {
						of[id] = declaration{fingerprint, l, &trial.Of}
					}
				}
			}
			if follows {
				l.over(e.declared, of)
			} else {
				maps.Copy(e.declared, of)
			}
		}
	}
	for id, d := range e.declared {
		if b := e.berths[id]; b != nil {
			v := b.shown
			v.SyncStatus = syncStatusOf(v.SyncStatus, v.Applied, d.fingerprint)
			b.show(v)
		}
	}
	e.unpictured.Store(true)
}

// syncStatusOf is how a berth is shown to stand until it was compared with what is declared by now: no face may take it for
// aligned with that, such as a sync that was asked for right after a push.
func syncStatusOf(stand compare.SyncStatus, applied *berth.Revision, declared declare.Fingerprint) compare.SyncStatus {
	if stand == compare.Aligned && declared != "" && applied != nil && applied.Fingerprint != declared {
		return compare.Behind
	}
	return stand
}

// over lays what a followed branch says of its site over what its link declares: all that the branch says, and no more.
// Where both say the same it stays the link's, so that it takes the course of all sites.
func (l *link) over(declared, of map[berth.ID]declaration) {
	for id, d := range declared {
		if id.Site != l.follow.Site || d.link.source.Name != l.follow.Link {
			continue
		}
		if branch, ok := of[id]; !ok {
			delete(declared, id)
		} else if branch.fingerprint == d.fingerprint {
			delete(of, id)
		}
	}
	maps.Copy(declared, of)
}

// declaration is what is declared for a berth, and by which link.
type declaration struct {
	fingerprint declare.Fingerprint
	link        *link
	trial       *berth.Trial // the branch that the berth is there for; nil for none
}

// meet starts the loops of berths that are declared for the first time.
func (e *Engine) meet() {
	e.mu.Lock()
	defer e.mu.Unlock()
	for id := range e.declared {
		if e.berths[id] != nil || e.drivers[id.Site] == nil {
			continue
		}
		b := newLoop(e, id)
		b.show(status.Berth{ID: id}) // until its first step, which is about to come
		e.berths[id] = b
		e.clock.Join()
		e.start(b)
	}
	for _, b := range e.berths {
		b.nudge()
	}
}
