package kit

import "aditus/internal/core/berth"

// Revisions writes where a rollout comes from and goes to, and gives the column after it. Where there is room the
// fingerprints stand beside the versions; either revision may be nil.
func (p *Page) Revisions(x, y int, from, to *berth.Revision) int {
	one := func(role Role, r *berth.Revision) {
		x = p.Put(x, y, role, r.Version)
		if p.W >= 100 {
			x = p.Put(x+1, y, Dim, r.Fingerprint.Short())
		}
		x += 2
	}
	if from != nil {
		one(Old, from)
		x = p.Put(x, y, Dim, "▸") + 2
	}
	if to != nil {
		one(New, to)
	}
	return x
}
