package view

import (
	"context"
	"errors"
	"fmt"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/ledger"
	"aditus/internal/source"
	"aditus/internal/status"
)

// Against says what a berth is compared with: nothing set, what Git declares for it now; otherwise one of its lines.
type Against struct {
	Ref      string // what a branch, tag or commit of its link, or a revision on record, declares
	Site     string // what is declared for the workload at another site
	From, To string // two revisions on record, with each other
}

// Check refuses what cannot be meant.
func (a Against) Check() error {
	if (a.From == "") != (a.To == "") || a.From != "" && (a.Ref != "" || a.Site != "") || a.Ref != "" && a.Site != "" {
		return errors.New("compare with one thing: with REF, with another SITE, or from one REVISION to another")
	}
	return nil
}

// Preview reads what another branch, tag or commit declares for a berth.
type Preview func(ctx context.Context, id berth.ID, ref string) (*declare.Desired, source.Commit, error)

// CompareAgainst compares a berth as it was seen. preview is nil where branches cannot be read.
func CompareAgainst(ctx context.Context, book *ledger.Ledger, s status.Snapshot, b status.Berth, against Against, preview Preview) (Comparison, error) {
	if err := against.Check(); err != nil {
		return Comparison{}, err
	}
	switch {
	case against.Site != "":
		return compareSites(book, s, b, against.Site)
	case against.From == "" && against.Ref == "":
		return NewComparison(book, b, nil)
	}
	if against.From != "" {
		from, err1 := FindRevision(book, b.Workload, against.From)
		to, err2 := FindRevision(book, b.Workload, against.To)
		if err := errors.Join(err1, err2); err != nil {
			return Comparison{}, err
		}
		return CompareTwo(b.ID, named(from), named(to), from.Desired, to.Desired), nil
	}
	found, err := FindRevision(book, b.Workload, against.Ref)
	if err == nil {
		return NewComparison(book, b, found)
	}
	if preview == nil {
		return Comparison{}, fmt.Errorf("%w; branches are read while Aditus runs", err)
	}
	desired, commit, err := preview(ctx, b.ID, against.Ref)
	if err != nil {
		return Comparison{}, fmt.Errorf("compare %s with %s: %w", b.ID, against.Ref, err)
	}
	return NewComparison(book, b, PreviewRevision(b.ID, desired, commit))
}

// compareSites compares what is declared for a workload at two sites.
func compareSites(book *ledger.Ledger, s status.Snapshot, b status.Berth, site string) (Comparison, error) {
	here, err1 := Declared(book, s, b.ID)
	there, err2 := Declared(book, s, berth.ID{Workload: b.Workload, Site: site})
	if err := errors.Join(err1, err2); err != nil {
		return Comparison{}, err
	}
	return CompareTwo(b.ID, b.Site, site, here, there), nil
}

// Declared gives what Git declares for a berth.
func Declared(book *ledger.Ledger, s status.Snapshot, id berth.ID) (*declare.Desired, error) {
	b, ok := s.Find(id)
	switch {
	case !ok:
		return nil, fault.New(fault.ErrNotFound, "there is no berth %s", id)
	case b.Declared == nil:
		return nil, fault.New(fault.ErrNotFound, "nothing is declared for %s", id)
	}
	r, err := book.Revision(id.Workload, b.Declared.Fingerprint)
	return r.Desired, err
}

// Compare compares a berth of a snapshot.
func Compare(ctx context.Context, book *ledger.Ledger, s status.Snapshot, id berth.ID, against Against, preview Preview) (Comparison, error) {
	b, ok := s.Find(id)
	if !ok {
		return Comparison{}, fault.New(fault.ErrNotFound, "there is no berth %s", id)
	}
	return CompareAgainst(ctx, book, s, b, against, preview)
}
