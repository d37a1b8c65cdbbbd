// Package standin is a small stand-in for a metrics store: it keeps nothing, and answers with what instances show when it is asked.
// It answers selectors over a while, as package metricstore asks them, and nothing else of the query language.
package standin

import (
	"encoding/json"
	"net/http"
	"slices"
	"time"

	"github.com/prometheus/common/model"
	"github.com/prometheus/prometheus/model/labels"
	"github.com/prometheus/prometheus/promql/parser"

	"aditus/internal/core/signal"
)

// Instance is what an instance shows, with the labels that all its series have.
type Instance struct {
	Labels map[string]string
	Page   signal.Page
	At     time.Time // when it was read
}

// Handler answers the HTTP query API.
func Handler(instances func(*http.Request) []Instance) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("/api/v1/query", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		expression, err := parser.NewParser(parser.Options{}).ParseExpr(r.FormValue("query"))
		over, ok := expression.(*parser.MatrixSelector)
		if err != nil || !ok {
			w.WriteHeader(http.StatusBadRequest)
			json.NewEncoder(w).Encode(map[string]string{"status": "error", "errorType": "bad_data", "error": "this stand-in answers a selector over a while, such as {__name__=\"a\"}[1m], and nothing else"})
			return
		}
		streams := model.Matrix{}
		for _, in := range instances(r) {
			streams = append(streams, in.selected(over.VectorSelector.(*parser.VectorSelector).LabelMatchers)...)
		}
		json.NewEncoder(w).Encode(map[string]any{"status": "success", "data": map[string]any{"resultType": streams.Type(), "result": streams}})
	})
	return mux
}

// selected are the series of an instance that all matchers take.
func (in Instance) selected(matchers []*labels.Matcher) (streams model.Matrix) {
	for name, samples := range in.Page {
		for _, sample := range samples {
			series := model.Metric{model.MetricNameLabel: model.LabelValue(name)}
			for _, all := range []map[string]string{sample.Labels, in.Labels} {
				for label, value := range all {
					series[model.LabelName(label)] = model.LabelValue(value)
				}
			}
			other := func(m *labels.Matcher) bool { return !m.Matches(string(series[model.LabelName(m.Name)])) }
			if sample.Unread == "" && !slices.ContainsFunc(matchers, other) {
				streams = append(streams, &model.SampleStream{Metric: series, Values: []model.SamplePair{{Timestamp: model.TimeFromUnixNano(in.At.UnixNano()), Value: model.SampleValue(sample.Value)}}})
			}
		}
	}
	return streams
}
