package target

import (
	"maps"
	"slices"
	"strconv"

	"aditus/internal/core/signal"
)

// Measured is the page of what a site's router counted of an instance: requests by status, and how long they took, counts
// by bucket with one for those beyond all bounds, and all of it together in seconds.
func Measured(requests map[int]uint64, bounds, counts []float64, seconds float64) signal.Page {
	page := signal.Page{}
	for _, status := range slices.Sorted(maps.Keys(requests)) {
		page[RequestsMetric] = append(page[RequestsMetric], signal.NewSample(map[string]string{"code": strconv.Itoa(status)}, float64(requests[status])))
	}
	total := 0.0
	for i, count := range counts {
		bound := "+Inf"
		if total += count; i < len(bounds) {
			bound = strconv.FormatFloat(bounds[i], 'g', -1, 64)
		}
		page[TookMetric+"_bucket"] = append(page[TookMetric+"_bucket"], signal.NewSample(map[string]string{"le": bound}, total))
	}
	one := func(name string, value float64) { page[name] = []signal.Sample{signal.NewSample(nil, value)} }
	one(TookMetric+"_sum", seconds)
	one(TookMetric+"_count", total)
	return page
}
