package engine

import (
	"context"

	"aditus/internal/status"
)

// Measured asks all sites what they measure of their instances. A site that does not answer is left out.
func (e *Engine) Measured(ctx context.Context) []status.Measured {
	var all []status.Measured
	for _, b := range e.Snapshot().Berths {
		driver := e.drivers[b.Site]
		if driver == nil || len(b.Cohorts) == 0 {
			continue
		}
		pages, err := driver.Measure(ctx, b.Workload)
		if err != nil {
			continue
		}
		for _, c := range b.Cohorts {
			for _, in := range c.Instances {
				if page := pages[in.ID]; len(page) > 0 {
					all = append(all, status.Measured{ID: b.ID, Revision: c.Revision, Instance: in.ID, Page: page})
				}
			}
		}
	}
	return all
}
