package pushed

import (
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"mime"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	common "go.opentelemetry.io/proto/otlp/common/v1"
	metrics "go.opentelemetry.io/proto/otlp/metrics/v1"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/encoding/protowire"
	"google.golang.org/protobuf/proto"

	"aditus/internal/core/signal"
)

// mostBody is the largest push that is read, as it is unpacked.
const mostBody = 16 << 20

const (
	asProtobuf = "application/x-protobuf"
	asJSON     = "application/json"
)

// Handler answers POST /v1/metrics, as the OTLP specification has it. Nothing is taken from who is not let in.
func (s *Store) Handler(lets func(*http.Request) bool, now func() time.Time) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("/v1/metrics", func(w http.ResponseWriter, r *http.Request) {
		kind, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
		no := func(status int, format string, args ...any) { refuse(w, kind, status, fmt.Sprintf(format, args...)) }
		switch {
		case r.Method != http.MethodPost:
			w.Header().Set("Allow", http.MethodPost)
			no(http.StatusMethodNotAllowed, "metrics are pushed with POST")
			return
		case !lets(r):
			no(http.StatusUnauthorized, "it takes the token of the settings: Authorization: Bearer TOKEN")
			return
		case kind != asProtobuf && kind != asJSON:
			no(http.StatusUnsupportedMediaType, "the content type is %q: it takes %s or %s", kind, asProtobuf, asJSON)
			return
		}
		body, err := read(w, r)
		var large *http.MaxBytesError
		if errors.As(err, &large) || len(body) > mostBody {
			no(http.StatusRequestEntityTooLarge, "it is larger than %d MB", mostBody>>20)
			return
		}
		var data metrics.MetricsData // its one field is that of what is sent
		if err == nil && kind == asJSON {
			err = protojson.UnmarshalOptions{DiscardUnknown: true}.Unmarshal(body, &data)
		} else if err == nil {
			err = proto.Unmarshal(body, &data)
		}
		if err != nil {
			no(http.StatusBadRequest, "it cannot be read: %v", err)
			return
		}
		from, _, _ := net.SplitHostPort(r.RemoteAddr)
		left, why := s.take(&data, from, now())
		accept(w, kind, left, why)
	})
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		refuse(w, asJSON, http.StatusNotFound, "there is nothing here but /v1/metrics")
	})
	return mux
}

func read(w http.ResponseWriter, r *http.Request) ([]byte, error) {
	var from io.Reader = http.MaxBytesReader(w, r.Body, mostBody)
	switch packed := r.Header.Get("Content-Encoding"); packed {
	case "", "identity":
	case "gzip":
		unpacked, err := gzip.NewReader(from)
		if err != nil {
			return nil, err
		}
		from = unpacked
	default:
		return nil, fmt.Errorf("it is packed as %q", packed)
	}
	return io.ReadAll(io.LimitReader(from, mostBody+1))
}

// refuse answers with a google.rpc.Status, as the specification has it.
func refuse(w http.ResponseWriter, kind string, status int, why string) {
	var body []byte
	if kind == asProtobuf {
		body = protowire.AppendString(protowire.AppendTag(nil, 2, protowire.BytesType), why)
	} else {
		kind, body = asJSON, []byte(fmt.Sprintf(`{"message":%s}`, strconv.Quote(why)))
	}
	w.Header().Set("Content-Type", kind)
	w.WriteHeader(status)
	w.Write(body)
}

// accept answers with an ExportMetricsServiceResponse, which tells of what could not be taken.
func accept(w http.ResponseWriter, kind string, left int64, why string) {
	w.Header().Set("Content-Type", kind)
	var body []byte
	switch {
	case kind == asJSON && left == 0:
		body = []byte("{}")
	case kind == asJSON:
		body = []byte(fmt.Sprintf(`{"partialSuccess":{"rejectedDataPoints":"%d","errorMessage":%s}}`, left, strconv.Quote(why)))
	case left > 0:
		partial := protowire.AppendVarint(protowire.AppendTag(nil, 1, protowire.VarintType), uint64(left))
		partial = protowire.AppendString(protowire.AppendTag(partial, 2, protowire.BytesType), why)
		body = protowire.AppendBytes(protowire.AppendTag(nil, 1, protowire.BytesType), partial)
	}
	w.Write(body)
}

// clientAddress is the attribute of a resource that says where it pushed from, where it says nothing of that itself; of semantic conventions.
const clientAddress = "client.address"

// take keeps what was pushed from an address, and tells how many points of it were left and why.
func (s *Store) take(data *metrics.MetricsData, address string, now time.Time) (left int64, why string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.sweep(now)
	leave := func(reason string) {
		left++
		if why == "" {
			why = reason
		}
	}
	for _, resource := range data.GetResourceMetrics() {
		labels := attributes(map[string]string{clientAddress: address}, resource.GetResource().GetAttributes())
		key := keyOf(labels)
		from := s.sources[key]
		if from == nil && len(s.sources) < mostSources {
			from = &source{labels: labels, series: map[string]*series{}}
			s.sources[key] = from
		}
		if from != nil {
			from.last = now
		}
		for _, scope := range resource.GetScopeMetrics() {
			for _, m := range scope.GetMetrics() {
				for _, point := range points(m) {
					switch {
					case from == nil:
						leave(fmt.Sprintf("more than %d resources push", mostSources))
					case point.wrong != "":
						leave(m.GetName() + ": " + point.wrong)
					default:
						if reason := from.keep(m.GetName(), point, now); reason != "" {
							leave(reason)
						}
					}
				}
			}
		}
	}
	return left, why
}

// point is a point of any kind.
type point struct {
	series
	attributes []*common.KeyValue
	adds       bool   // it is what came since the one before, to be added to it
	wrong      string // why it cannot be taken
}

// points are those of a metric.
func points(m *metrics.Metric) (all []point) {
	at := func(nanos uint64) time.Time { return time.Unix(0, int64(min(nanos, math.MaxInt64))) }
	numbers := func(of []*metrics.NumberDataPoint, adds bool) {
		for _, p := range of {
			value := p.GetAsDouble()
			if whole, is := p.GetValue().(*metrics.NumberDataPoint_AsInt); is {
				value = float64(whole.AsInt)
			}
			all = append(all, point{series: series{at: at(p.GetTimeUnixNano()), value: value}, attributes: p.GetAttributes(), adds: adds})
		}
	}
	delta := func(t metrics.AggregationTemporality) bool {
		return t == metrics.AggregationTemporality_AGGREGATION_TEMPORALITY_DELTA
	}
	switch {
	case m.GetGauge() != nil:
		numbers(m.GetGauge().GetDataPoints(), false)
	case m.GetSum() != nil:
		numbers(m.GetSum().GetDataPoints(), delta(m.GetSum().GetAggregationTemporality()))
	case m.GetHistogram() != nil:
		for _, p := range m.GetHistogram().GetDataPoints() {
			one := point{series: series{at: at(p.GetTimeUnixNano()), count: float64(p.GetCount()), sum: p.GetSum(), buckets: map[float64]float64{}}, attributes: p.GetAttributes(), adds: delta(m.GetHistogram().GetAggregationTemporality())}
			bounds, counts, sum := p.GetExplicitBounds(), p.GetBucketCounts(), 0.0
			if len(counts) > 0 && len(counts) != len(bounds)+1 || len(counts) == 0 && len(bounds) > 0 {
				one.wrong = fmt.Sprintf("it has %d buckets for %d bounds", len(counts), len(bounds))
			}
			for i, bound := range bounds {
				if one.wrong == "" {
					sum += float64(counts[i])
					one.buckets[bound] = sum
				}
			}
			one.buckets[math.Inf(1)] = one.count
			all = append(all, one)
		}
	case m.GetExponentialHistogram() != nil:
		for _, p := range m.GetExponentialHistogram().GetDataPoints() {
			one := point{series: series{at: at(p.GetTimeUnixNano()), count: float64(p.GetCount()), sum: p.GetSum(), buckets: map[float64]float64{}}, attributes: p.GetAttributes(), adds: delta(m.GetExponentialHistogram().GetAggregationTemporality())}
			if one.wrong = exponential(p, one.buckets); one.wrong == "" {
				one.buckets[math.Inf(1)] = one.count
			}
			all = append(all, one)
		}
	case m.GetSummary() != nil:
		for range m.GetSummary().GetDataPoints() {
			all = append(all, point{wrong: "summaries cannot be added up, and are not taken"})
		}
	}
	return all
}

// The scales of exponential histograms, and how many of their buckets are read.
const (
	leastScale  = -10
	mostScale   = 20
	mostBuckets = 2000
)

// exponential makes cumulative buckets of those of which each ends 2^(2^-scale) times further than the one before.
func exponential(p *metrics.ExponentialHistogramDataPoint, buckets map[float64]float64) (wrong string) {
	if p.GetScale() < leastScale || p.GetScale() > mostScale || len(p.GetPositive().GetBucketCounts())+len(p.GetNegative().GetBucketCounts()) > mostBuckets {
		return fmt.Sprintf("its scale is %d, or it has more than %d buckets", p.GetScale(), mostBuckets)
	}
	ends := func(index int) float64 { return math.Exp2(float64(index) * math.Exp2(-float64(p.GetScale()))) }
	var grown signal.Ranges
	negative := p.GetNegative()
	for i, count := range slices.Backward(negative.GetBucketCounts()) { // the one furthest from nought first
		index := int(negative.GetOffset()) + i
		grown.Add(-ends(index+1), -ends(index), float64(count))
	}
	grown.Add(-p.GetZeroThreshold(), p.GetZeroThreshold(), float64(p.GetZeroCount()))
	positive := p.GetPositive()
	for i, count := range positive.GetBucketCounts() {
		index := int(positive.GetOffset()) + i
		grown.Add(ends(index), ends(index+1), float64(count))
	}
	for _, b := range grown.Cumulative(float64(p.GetCount())) {
		buckets[b.Bound] = b.Count
	}
	return ""
}

// keep keeps a point as the latest of its series, or tells why it does not.
func (from *source) keep(name string, p point, now time.Time) (why string) {
	switch {
	case name == "":
		return "a metric has no name"
	case p.buckets == nil && (math.IsNaN(p.value) || math.IsInf(p.value, 0)):
		return fmt.Sprintf("%s is %g, which is no number to reckon with", name, p.value)
	case p.at.After(now.Add(time.Minute)):
		return fmt.Sprintf("%s is of %s, which is yet to come: one of the clocks is wrong", name, p.at.UTC().Format(time.RFC3339))
	}
	p.name, p.labels = name, attributes(from.labels, p.attributes)
	key := name + "\x00" + keyOf(p.labels)
	before := from.series[key]
	switch {
	case before == nil && len(from.series) >= mostSeries:
		return fmt.Sprintf("%d series of one resource are kept, and no more: its labels have too many values", mostSeries)
	case before != nil && p.at.Before(before.at):
		return fmt.Sprintf("%s is older than what was pushed before", name)
	case before != nil && p.adds && p.at.Equal(before.at):
		return "" // it was pushed again, as nobody had said that it came
	case before != nil && p.adds:
		p.value, p.count, p.sum = p.value+before.value, p.count+before.count, p.sum+before.sum
		if p.buckets != nil {
			p.buckets = signal.Together(p.buckets, before.buckets)
		}
	}
	if len(p.buckets) > mostBuckets {
		return fmt.Sprintf("%s has more than %d buckets", name, mostBuckets)
	}
	from.series[key] = &p.series
	return ""
}

// attributes are labels: those of a resource, and others.
func attributes(of map[string]string, more []*common.KeyValue) map[string]string {
	labels := make(map[string]string, len(of)+len(more))
	maps.Copy(labels, of)
	for _, a := range more {
		switch value := a.GetValue().GetValue().(type) {
		case *common.AnyValue_StringValue:
			labels[a.GetKey()] = value.StringValue
		case *common.AnyValue_BoolValue:
			labels[a.GetKey()] = strconv.FormatBool(value.BoolValue)
		case *common.AnyValue_IntValue:
			labels[a.GetKey()] = strconv.FormatInt(value.IntValue, 10)
		case *common.AnyValue_DoubleValue:
			labels[a.GetKey()] = strconv.FormatFloat(value.DoubleValue, 'g', -1, 64)
		}
	}
	return labels
}

// keyOf tells labels apart.
func keyOf(labels map[string]string) string {
	var b strings.Builder
	for _, label := range slices.Sorted(maps.Keys(labels)) {
		fmt.Fprintf(&b, "%s\x01%s\x02", label, labels[label])
	}
	return b.String()
}

func formatBound(bound float64) string {
	if math.IsInf(bound, 1) {
		return "+Inf"
	}
	return strconv.FormatFloat(bound, 'g', -1, 64)
}
