package engine

import (
	"errors"
	"slices"
	"strings"
	"weak"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/target"
)

// history is the revisions of one workload that are on record. What they declare is read from the ledger when it is
// needed, and kept for as long as anybody holds on to it.
type history struct {
	all   []*known // oldest first
	known map[declare.Fingerprint]*known
}

// known is a revision on record by its names.
type known struct {
	fingerprint declare.Fingerprint
	version     string
	whole       weak.Pointer[berth.Revision]
}

// learn adds a revision to those that are known of its workload. It is called with the lock held.
func (e *Engine) learn(workload string, fingerprint declare.Fingerprint, version string) *known {
	h := e.revisions[workload]
	if h == nil {
		h = &history{known: map[declare.Fingerprint]*known{}}
		e.revisions[workload] = h
	}
	if h.known[fingerprint] == nil {
		k := &known{fingerprint: fingerprint, version: version}
		h.all, h.known[fingerprint] = append(h.all, k), k
	}
	return h.known[fingerprint]
}

// named gives the revisions that a name fits: the begin of a fingerprint, or a version.
func (h *history) named(name string) (found []declare.Fingerprint) {
	if h == nil {
		return nil
	}
	for _, k := range h.all {
		if strings.HasPrefix(string(k.fingerprint), name) || k.version == name {
			found = append(found, k.fingerprint)
		}
	}
	return found
}

// onRecord tells whether a revision is.
func (e *Engine) onRecord(workload string, fingerprint declare.Fingerprint) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	h := e.revisions[workload]
	return h != nil && h.known[fingerprint] != nil
}

// revision gives a revision on record, nil where it is not.
func (e *Engine) revision(workload string, fingerprint declare.Fingerprint) (*berth.Revision, error) {
	if !e.onRecord(workload, fingerprint) {
		return nil, nil
	}
	e.mu.Lock()
	r := e.revisions[workload].known[fingerprint].whole.Value()
	e.mu.Unlock()
	if r != nil {
		return r, nil
	}
	r, err := e.ledger.Revision(workload, fingerprint)
	if errors.Is(err, fault.ErrNotFound) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	k := e.revisions[workload].known[fingerprint]
	if other := k.whole.Value(); other != nil {
		return other, nil
	}
	k.whole = weak.Make(r)
	return r, nil
}

// hold holds on to the revisions that the berth is about, and lets go of others: those of its state, those that are at
// its site, what is declared, and those that somebody named.
func (b *loop) hold(seen *evidence, declared declare.Fingerprint, named []declare.Fingerprint) error {
	wanted := slices.Concat([]declare.Fingerprint{b.state.Applied, b.state.MarkedFrom, declared}, b.state.WayBack(), named)
	if roll := b.state.Roll; roll != nil {
		wanted = append(wanted, roll.Old.Revision, roll.New.Revision)
	}
	if left := b.state.Left; left != nil {
		wanted = append(wanted, left.Revision)
	}
	if seen != nil {
		for _, c := range seen.target.Cohorts {
			wanted = append(wanted, c.Revision)
		}
	}
	held := make(map[declare.Fingerprint]*berth.Revision, len(wanted))
	for _, fingerprint := range wanted {
		r := b.held[fingerprint]
		if r == nil {
			var err error
			if r, err = b.e.revision(b.id.Workload, fingerprint); err != nil {
				return err
			}
		}
		if there, ok := b.driver.(target.Rememberer); r == nil && ok {
			r = there.Remembered(b.id.Workload, fingerprint)
		}
		if r != nil {
			held[fingerprint] = r
		}
	}
	b.held = held
	return nil
}

// shown is a revision as faces see it: without what it declares.
func shown(r *berth.Revision) *berth.Revision {
	if r == nil {
		return nil
	}
	own := *r
	own.Desired = nil
	return &own
}
