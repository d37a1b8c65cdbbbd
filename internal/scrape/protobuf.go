package scrape

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"

	"aditus/internal/core/signal"

	dto "github.com/prometheus/client_model/go"
	"google.golang.org/protobuf/encoding/protodelim"
)

// families reads a page in protobuf, each family behind its length.
func (r *reading) families(page []byte) error {
	in := bytes.NewReader(page)
	for n := 0; ; n++ {
		family := &dto.MetricFamily{}
		err := protodelim.UnmarshalFrom(in, family)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("what follows %d families cannot be read: %w", n, err) // nobody knows what else there was
		}
		for _, metric := range family.GetMetric() {
			if !r.stale(family.GetName(), metric.TimestampMs) {
				r.metric(family.GetName(), metric)
			}
		}
	}
}

// metric reads a metric as the plain samples that it would be in text.
func (r *reading) metric(name string, metric *dto.Metric) {
	labels := make(map[string]string, len(metric.GetLabel()))
	for _, pair := range metric.GetLabel() {
		labels[pair.GetName()] = pair.GetValue()
	}
	with := func(name string, value float64) map[string]string {
		more := maps.Clone(labels)
		more[name] = number(value)
		return more
	}
	switch {
	case metric.Counter != nil:
		r.add(name, labels, metric.Counter.GetValue())
	case metric.Gauge != nil:
		r.add(name, labels, metric.Gauge.GetValue())
	case metric.Untyped != nil:
		r.add(name, labels, metric.Untyped.GetValue())
	case metric.Histogram != nil:
		h := metric.Histogram
		count := h.GetSampleCountFloat()
		if count == 0 {
			count = float64(h.GetSampleCount())
		}
		r.add(name+"_sum", labels, h.GetSampleSum())
		r.add(name+"_count", labels, count)
		for _, b := range bucketsOf(h, count) {
			r.add(name+"_bucket", with("le", b.Bound), b.Count)
		}
	case metric.Summary != nil:
		r.add(name+"_sum", labels, metric.Summary.GetSampleSum())
		r.add(name+"_count", labels, float64(metric.Summary.GetSampleCount()))
		for _, q := range metric.Summary.GetQuantile() {
			r.add(name, with("quantile", q.GetQuantile()), q.GetValue())
		}
	}
}

// bucketsOf are the buckets of a histogram: those that are declared, and else those that it grew by itself, exponential ones, of which each ends
// 2^(2^-schema) times further than the one before. They never end short of an observation.
func bucketsOf(h *dto.Histogram, count float64) (all []signal.Bucket) {
	if len(h.GetBucket()) > 0 {
		for _, b := range h.GetBucket() {
			n := b.GetCumulativeCountFloat()
			if n == 0 {
				n = float64(b.GetCumulativeCount())
			}
			all = append(all, signal.Bucket{Bound: b.GetUpperBound(), Count: n})
		}
		if !math.IsInf(all[len(all)-1].Bound, 1) {
			all = append(all, signal.Bucket{Bound: math.Inf(1), Count: count})
		}
		return all
	}
	if h.Schema == nil || h.GetSchema() < leastSchema || h.GetSchema() > mostSchema {
		return nil
	}
	ends := func(index int32) float64 { return math.Exp2(float64(index) * math.Exp2(-float64(h.GetSchema()))) }
	var grown signal.Ranges
	negative := spread(h.GetNegativeSpan(), h.GetNegativeDelta(), h.GetNegativeCount())
	for i := len(negative) - 1; i >= 0; i-- { // the one furthest from nought first; each ends where the next one to nought begins
		grown.Add(-ends(negative[i].index), -ends(negative[i].index-1), negative[i].count)
	}
	zero := h.GetZeroCountFloat()
	if zero == 0 {
		zero = float64(h.GetZeroCount())
	}
	grown.Add(-h.GetZeroThreshold(), h.GetZeroThreshold(), zero)
	for _, b := range spread(h.GetPositiveSpan(), h.GetPositiveDelta(), h.GetPositiveCount()) {
		grown.Add(ends(b.index-1), ends(b.index), b.count)
	}
	return grown.Cumulative(count)
}

// The schemas of exponential buckets, and how many buckets of a histogram are read.
const (
	leastSchema = -4
	mostSchema  = 8
	mostBuckets = 2000
)

// indexed is a bucket by its place.
type indexed struct {
	index int32
	count float64
}

// spread gives the buckets that spans name, with their counts: each told by how much it is more than the one before, or as it is.
func spread(spans []*dto.BucketSpan, deltas []int64, counts []float64) (all []indexed) {
	index, at, last := int32(0), 0, int64(0)
	for _, span := range spans {
		index += span.GetOffset()
		for range span.GetLength() {
			one := indexed{index: index}
			switch {
			case at < len(counts):
				one.count = counts[at]
			case at < len(deltas):
				last += deltas[at]
				one.count = float64(last)
			default:
				return all // fewer than its spans name
			}
			if len(all) >= mostBuckets {
				return all
			}
			all = append(all, one)
			index++
			at++
		}
	}
	return all
}
