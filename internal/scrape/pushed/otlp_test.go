package pushed

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/exporters/otlp/otlpmetric/otlpmetrichttp"
	"go.opentelemetry.io/otel/metric"
	sdk "go.opentelemetry.io/otel/sdk/metric"
	"go.opentelemetry.io/otel/sdk/metric/metricdata"
	"go.opentelemetry.io/otel/sdk/resource"
	common "go.opentelemetry.io/proto/otlp/common/v1"
	metrics "go.opentelemetry.io/proto/otlp/metrics/v1"
	res "go.opentelemetry.io/proto/otlp/resource/v1"
	"google.golang.org/protobuf/proto"

	"aditus/internal/core/signal"
	"aditus/internal/scrape/metricstore"
)

var byInstance = &signal.Mark{Label: "service.instance.id", Is: signal.ByInstance}

func both() []metricstore.One {
	return []metricstore.One{{Name: "old", Names: []string{"gate-1"}}, {Name: "new", Names: []string{"gate-2"}}}
}

// TestExporter has the exporter of OpenTelemetry push in each of its ways, and reads what came.
func TestExporter(t *testing.T) {
	for name, options := range map[string][]otlpmetrichttp.Option{
		"as it is by itself": nil,
		"packed":             {otlpmetrichttp.WithCompression(otlpmetrichttp.GzipCompression)},
		"what came since":    {otlpmetrichttp.WithTemporalitySelector(func(sdk.InstrumentKind) metricdata.Temporality { return metricdata.DeltaTemporality })},
		"exponential": {otlpmetrichttp.WithAggregationSelector(func(k sdk.InstrumentKind) sdk.Aggregation {
			if k == sdk.InstrumentKindHistogram {
				return sdk.AggregationBase2ExponentialHistogram{MaxSize: 160, MaxScale: 20}
			}
			return sdk.DefaultAggregationSelector(k)
		})},
		"exponential, what came since": {otlpmetrichttp.WithTemporalitySelector(func(sdk.InstrumentKind) metricdata.Temporality { return metricdata.DeltaTemporality }), otlpmetrichttp.WithAggregationSelector(func(k sdk.InstrumentKind) sdk.Aggregation {
			if k == sdk.InstrumentKindHistogram {
				return sdk.AggregationBase2ExponentialHistogram{MaxSize: 20, MaxScale: 20}
			}
			return sdk.DefaultAggregationSelector(k)
		})},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := New()
			server := httptest.NewServer(s.Handler(func(r *http.Request) bool { return r.Header.Get("Authorization") == "Bearer tide" }, time.Now))
			t.Cleanup(server.Close)
			instance := func(id string) (metric.Meter, func()) {
				exporter, err := otlpmetrichttp.New(t.Context(), append([]otlpmetrichttp.Option{otlpmetrichttp.WithEndpointURL(server.URL + "/v1/metrics"), otlpmetrichttp.WithHeaders(map[string]string{"Authorization": "Bearer tide"})}, options...)...)
				if err != nil {
					t.Fatal(err)
				}
				provider := sdk.NewMeterProvider(sdk.WithReader(sdk.NewPeriodicReader(exporter, sdk.WithInterval(time.Hour))), sdk.WithResource(resource.NewSchemaless(attribute.String("service.name", "gate"), attribute.String("service.instance.id", id))))
				t.Cleanup(func() { provider.Shutdown(context.Background()) })
				return provider.Meter("test"), func() {
					if err := provider.ForceFlush(t.Context()); err != nil {
						t.Fatal(err)
					}
				}
			}
			trackers := map[string]*signal.Tracker{}
			signals := map[string]signal.Source{
				"errors": {Kind: signal.Ratio, Of: signal.Series{Metric: "http.requests", Where: map[string][]string{"code": {"5*"}}}, To: &signal.Series{Metric: "http.requests"}},
				"slow":   {Kind: signal.ShareAbove, Of: signal.Series{Metric: "http.server.request.duration"}, Bound: 0.25},
				"queue":  {Kind: signal.Gauge, Of: signal.Series{Metric: "queue"}},
			}
			read := func() map[string]signal.Tally {
				sums := map[string]signal.Tally{}
				for name, source := range signals {
					source.Store, source.Cohort = "otlp", byInstance
					if trackers[name] == nil {
						trackers[name] = &signal.Tracker{}
					}
					shown, err := s.Read(t.Context(), source, both(), time.Now(), time.Minute)
					if err != nil || len(shown) != 2 {
						t.Fatalf("%s: %v %v", name, shown, err)
					}
					for _, one := range shown {
						tally, _, why := trackers[name].Take(source, one.Of, one.Page, one.Time)
						if why != "" || one.Unread != "" {
							t.Errorf("%s of %s: %s%s", name, one.Of, why, one.Unread)
						}
						sums[name+" "+one.Of] = tally
					}
				}
				return sums
			}
			var flushes []func()
			observe := map[string]func(code string, took float64){}
			for _, id := range []string{"gate-1", "gate-2"} {
				meter, flush := instance(id)
				asked, _ := meter.Int64Counter("http.requests")
				took, _ := meter.Float64Histogram("http.server.request.duration", metric.WithUnit("s"), metric.WithExplicitBucketBoundaries(0.1, 0.25, 1))
				queue, _ := meter.Int64Gauge("queue")
				observe[id] = func(code string, seconds float64) {
					asked.Add(t.Context(), 1, metric.WithAttributes(attribute.String("code", code)))
					took.Record(t.Context(), seconds)
					queue.Record(t.Context(), 7)
				}
				flushes = append(flushes, flush)
				observe[id]("200", 0.01)
			}
			push := func() {
				for _, flush := range flushes {
					flush()
				}
			}
			push()
			read()
			for range 100 {
				observe["gate-1"]("200", 0.05)
				observe["gate-2"]("200", 0.05)
			}
			push() // twice, so that what comes each time adds up
			for range 25 {
				observe["gate-1"]("200", 0.05)
				observe["gate-2"]("503", 0.5)
			}
			push()
			sums := read()
			for what, want := range map[string][2]float64{"errors old": {0, 125}, "errors new": {25, 125}, "slow old": {0, 125}, "slow new": {25, 125}, "queue new": {7, 1}} {
				if got := sums[what]; math.Abs(got.Part-want[0]) > 0.01 || got.Whole != want[1] {
					t.Errorf("%s: %v of %v, want %v of %v", what, got.Part, got.Whole, want[0], want[1])
				}
			}
		})
	}
}

// TestTake goes through what may be pushed, and what is told of what is not taken.
func TestTake(t *testing.T) {
	now := time.Unix(1_790_000_000, 0)
	s := New()
	server := httptest.NewServer(s.Handler(func(r *http.Request) bool { return r.Header.Get("Authorization") != "Bearer guess" }, func() time.Time { return now }))
	defer server.Close()
	of := func(id string, points ...*metrics.Metric) []byte {
		body, err := proto.Marshal(&metrics.MetricsData{ResourceMetrics: []*metrics.ResourceMetrics{{
			Resource:     &res.Resource{Attributes: []*common.KeyValue{{Key: "service.instance.id", Value: &common.AnyValue{Value: &common.AnyValue_StringValue{StringValue: id}}}}},
			ScopeMetrics: []*metrics.ScopeMetrics{{Metrics: points}},
		}}})
		if err != nil {
			t.Fatal(err)
		}
		return body
	}
	gauge := func(name string, at time.Time, value float64) *metrics.Metric {
		return &metrics.Metric{Name: name, Data: &metrics.Metric_Gauge{Gauge: &metrics.Gauge{DataPoints: []*metrics.NumberDataPoint{{TimeUnixNano: uint64(at.UnixNano()), Value: &metrics.NumberDataPoint_AsDouble{AsDouble: value}}}}}}
	}
	histogram := func(bounds []float64, counts []uint64) *metrics.Metric {
		return &metrics.Metric{Name: "h", Data: &metrics.Metric_Histogram{Histogram: &metrics.Histogram{DataPoints: []*metrics.HistogramDataPoint{{TimeUnixNano: uint64(now.UnixNano()), ExplicitBounds: bounds, BucketCounts: counts}}}}}
	}
	many := gauge("many", now, 1)
	for i := range mostSeries + 5 {
		many.GetGauge().DataPoints = append(many.GetGauge().DataPoints, &metrics.NumberDataPoint{TimeUnixNano: uint64(now.UnixNano()), Attributes: []*common.KeyValue{{Key: "n", Value: &common.AnyValue{Value: &common.AnyValue_IntValue{IntValue: int64(i)}}}}})
	}
	for _, test := range []struct {
		name, kind, packed, token string
		body                      []byte
		status                    int
		want                      string
	}{
		{"protobuf", asProtobuf, "", "", of("gate-1", gauge("queue", now, 3)), 200, ""},
		{"JSON", asJSON, "", "", []byte(fmt.Sprintf(`{"resourceMetrics":[{"resource":{"attributes":[{"key":"service.instance.id","value":{"stringValue":"gate-2"}}]},"scopeMetrics":[{"metrics":[{"name":"queue","new":1,"gauge":{"dataPoints":[{"timeUnixNano":"%d","asDouble":4}]}}]}]}]}`, now.UnixNano())), 200, "{}"},
		{"nothing", asProtobuf, "", "", nil, 200, ""},
		{"older than before", asProtobuf, "", "", of("gate-1", gauge("queue", now.Add(-time.Second), 9)), 200, "older than what was pushed before"},
		{"of tomorrow", asProtobuf, "", "", of("gate-1", gauge("queue", now.Add(time.Hour), 9)), 200, "one of the clocks is wrong"},
		{"no number", asProtobuf, "", "", of("gate-1", gauge("queue", now, math.NaN())), 200, "no number to reckon with"},
		{"buckets that do not fit", asProtobuf, "", "", of("gate-1", histogram([]float64{1, 2}, []uint64{1})), 200, "1 buckets for 2 bounds"},
		{"a summary", asProtobuf, "", "", of("gate-1", &metrics.Metric{Name: "s", Data: &metrics.Metric_Summary{Summary: &metrics.Summary{DataPoints: []*metrics.SummaryDataPoint{{}}}}}), 200, "summaries cannot be added up"},
		{"a scale beyond all", asProtobuf, "", "", of("gate-1", &metrics.Metric{Name: "e", Data: &metrics.Metric_ExponentialHistogram{ExponentialHistogram: &metrics.ExponentialHistogram{DataPoints: []*metrics.ExponentialHistogramDataPoint{{Scale: 99}}}}}), 200, "its scale is 99"},
		{"an explosion", asProtobuf, "", "", of("gate-3", many), 200, "its labels have too many values"},
		{"half of it", asProtobuf, "", "", of("gate-1", gauge("queue", now, 3))[:20], 400, "cannot be read"},
		{"no JSON", asJSON, "", "", []byte("{"), 400, `"message"`},
		{"another type", "text/plain", "", "", nil, 415, "it takes"},
		{"packed otherwise", asProtobuf, "br", "", nil, 400, "packed as"},
		{"not packed", asProtobuf, "gzip", "", []byte("x"), 400, "cannot be read"},
		{"too large", asJSON, "", "", bytes.Repeat([]byte(" "), mostBody+1), 413, "larger than 16 MB"},
		{"a wrong token", asJSON, "", "guess", []byte("{}"), 401, "it takes the token"},
	} {
		request, err := http.NewRequestWithContext(t.Context(), http.MethodPost, server.URL+"/v1/metrics", bytes.NewReader(test.body))
		if err != nil {
			t.Fatal(err)
		}
		request.Header.Set("Content-Type", test.kind)
		request.Header.Set("Content-Encoding", test.packed)
		request.Header.Set("Authorization", "Bearer "+test.token)
		answer, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		said, _ := io.ReadAll(answer.Body)
		answer.Body.Close()
		if answer.StatusCode != test.status || !strings.Contains(string(said), test.want) || test.want == "" && len(said) > 0 {
			t.Errorf("%s: %d %q, want %d %q", test.name, answer.StatusCode, said, test.status, test.want)
		}
	}
	queue := signal.Source{Kind: signal.Gauge, Of: signal.Series{Metric: "queue"}, Store: "otlp", Cohort: byInstance}
	shown, err := s.Read(t.Context(), queue, both(), now.Add(time.Second), 30*time.Second)
	if err != nil || len(shown) != 2 || shown[0].Page["queue"][0].Value != 3 || shown[1].Page["queue"][0].Value != 4 || !shown[0].Time.Equal(now) {
		t.Errorf("%+v, %v", shown, err)
	}
	shown, err = s.Read(t.Context(), queue, both(), now.Add(time.Minute), 30*time.Second)
	if err != nil || !strings.Contains(shown[0].Unread, "is 1 min old, and 30 s is the most") {
		t.Errorf("late: %+v, %v", shown, err)
	}
	if n := len(s.sources["client.address\x01127.0.0.1\x02service.instance.id\x01gate-3\x02"].series); n != mostSeries {
		t.Errorf("%d series are held", n)
	}
	now = now.Add(keptFor + 2*time.Minute)
	s.take(&metrics.MetricsData{}, "", now)
	if len(s.sources) > 0 {
		t.Errorf("%d sources are kept for ever", len(s.sources))
	}
}

// FuzzTake sees that nothing a stranger pushes ends the server, and that what is kept is bounded.
func FuzzTake(f *testing.F) {
	body, err := proto.Marshal(&metrics.MetricsData{ResourceMetrics: []*metrics.ResourceMetrics{{ScopeMetrics: []*metrics.ScopeMetrics{{Metrics: []*metrics.Metric{
		{Name: "e", Data: &metrics.Metric_ExponentialHistogram{ExponentialHistogram: &metrics.ExponentialHistogram{DataPoints: []*metrics.ExponentialHistogramDataPoint{{Scale: 3, Count: 4, Positive: &metrics.ExponentialHistogramDataPoint_Buckets{Offset: -2, BucketCounts: []uint64{1, 3}}}}}}},
	}}}}}})
	if err != nil {
		f.Fatal(err)
	}
	f.Add(body)
	f.Fuzz(func(t *testing.T, body []byte) {
		var data metrics.MetricsData
		if proto.Unmarshal(body, &data) != nil {
			return
		}
		s, now := New(), time.Unix(1_790_000_000, 0)
		s.take(&data, "", now)
		s.take(&data, "", now)
		for _, from := range s.sources {
			for _, one := range from.series {
				if len(one.buckets) > mostBuckets || math.IsNaN(one.value) {
					t.Errorf("%+v is kept", one)
				}
			}
		}
	})
}
