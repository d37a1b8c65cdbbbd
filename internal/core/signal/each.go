package signal

import (
	"cmp"
	"maps"
	"slices"
)

// Values are those of the label that each of is judged by itself, with how much was counted of each, or observed.
func (s Source) Values(page Page) map[string]float64 {
	series := s.Of
	if s.To != nil {
		series = *s.To
	}
	if s.Histogram() {
		series.Metric += "_count"
	}
	found := map[string]float64{}
	for _, sample := range page[series.Metric] {
		if value, has := sample.Labels[s.Each]; has && sample.Unread == "" && series.Accepts(sample.Labels) {
			found[bounded(found, value)] += max(0, sample.Value)
		}
	}
	delete(found, rest)
	return found
}

// Most gives values by how much there is of each, the most first.
func Most(values map[string]float64) []string {
	return slices.SortedFunc(maps.Keys(values), func(a, b string) int { return cmp.Or(cmp.Compare(values[b], values[a]), cmp.Compare(a, b)) })
}

// OfValue is the signal of what has one value of the label alone.
func (s Source) OfValue(value string) Source {
	only := func(series Series) Series {
		series.Only = map[string]string{s.Each: value}
		return series
	}
	if s.Of = only(s.Of); s.To != nil {
		to := only(*s.To)
		s.To = &to
	}
	s.Each = ""
	return s
}

// One tells whether it is the signal of what has one value of a label alone.
func (s Source) One() bool { return s.Of.Only != nil }
