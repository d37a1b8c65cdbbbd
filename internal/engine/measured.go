package engine

import (
	"context"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/signal"
)

// Measured is what a site itself measured of one instance.
type Measured struct {
	berth.ID
	Revision declare.Fingerprint
	Instance string
	Page     signal.Page
}

// Measured asks all sites what they measure of their instances. A site that does not answer is left out.
func (e *Engine) Measured(ctx context.Context) []Measured {
	var all []Measured
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
					all = append(all, Measured{b.ID, c.Revision, in.ID, page})
				}
			}
		}
	}
	return all
}
