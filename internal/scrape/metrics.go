package scrape

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"

	dto "github.com/prometheus/client_model/go"
	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"

	"aditus/internal/core/signal"
)

// ErrNoMetrics means that what was fetched is no metrics page.
var ErrNoMetrics = errors.New("the page is not OpenMetrics text")

// ReadMetrics parses OpenMetrics text 1.0 (and the older text format it grew from). The parser knows the older format, so
// a page that it does not take is tried again without what OpenMetrics added behind values, exemplars and timestamps with
// fractions, neither of which is needed here. The other additions are comments to the parser.
func ReadMetrics(r io.Reader) (signal.Page, error) {
	text, err := io.ReadAll(r)
	if err != nil {
		return nil, err
	}
	families, err := parse(text)
	if err != nil {
		if families, err = parse(valuesAlone(text)); err != nil {
			return nil, fmt.Errorf("%w: %v", ErrNoMetrics, err)
		}
	}
	if len(families) == 0 {
		return nil, fmt.Errorf("%w: it holds no sample", ErrNoMetrics)
	}
	page := signal.Page{}
	for name, family := range families {
		for _, metric := range family.GetMetric() {
			flatten(page, name, metric)
		}
	}
	return page, nil
}

func parse(text []byte) (map[string]*dto.MetricFamily, error) {
	parser := expfmt.NewTextParser(model.UTF8Validation)
	return parser.TextToMetricFamilies(bytes.NewReader(text))
}

// valuesAlone cuts off whatever stands behind the value of a sample.
func valuesAlone(text []byte) []byte {
	var out bytes.Buffer
	lines := bufio.NewScanner(bytes.NewReader(text))
	lines.Buffer(nil, maxPage)
	for lines.Scan() {
		line := lines.Text()
		if !strings.HasPrefix(line, "#") {
			if at := strings.LastIndex(line, " # {"); at >= 0 {
				line = line[:at]
			}
			behind := max(strings.LastIndexByte(line, '}'), strings.IndexByte(line, ' ')) + 1
			if fields := strings.Fields(line[behind:]); len(fields) == 2 {
				line = line[:behind] + " " + fields[0]
			}
		}
		out.WriteString(line)
		out.WriteByte('\n')
	}
	return out.Bytes()
}

// flatten writes a metric as the plain samples that it was in the text.
func flatten(page signal.Page, name string, metric *dto.Metric) {
	labels := make(map[string]string, len(metric.GetLabel()))
	for _, pair := range metric.GetLabel() {
		labels[pair.GetName()] = pair.GetValue()
	}
	add := func(name string, labels map[string]string, value float64) {
		if !math.IsNaN(value) {
			page[name] = append(page[name], signal.NewSample(labels, value))
		}
	}
	with := func(name, value string) map[string]string {
		more := make(map[string]string, len(labels)+1)
		for k, v := range labels {
			more[k] = v
		}
		more[name] = value
		return more
	}
	switch {
	case metric.Counter != nil:
		add(name, labels, metric.Counter.GetValue())
	case metric.Gauge != nil:
		add(name, labels, metric.Gauge.GetValue())
	case metric.Untyped != nil:
		add(name, labels, metric.Untyped.GetValue())
	case metric.Histogram != nil:
		add(name+"_sum", labels, metric.Histogram.GetSampleSum())
		add(name+"_count", labels, float64(metric.Histogram.GetSampleCount()))
		for _, bucket := range metric.Histogram.GetBucket() {
			bound := "+Inf"
			if !math.IsInf(bucket.GetUpperBound(), 1) {
				bound = strconv.FormatFloat(bucket.GetUpperBound(), 'g', -1, 64)
			}
			add(name+"_bucket", with("le", bound), float64(bucket.GetCumulativeCount()))
		}
	case metric.Summary != nil:
		add(name+"_sum", labels, metric.Summary.GetSampleSum())
		add(name+"_count", labels, float64(metric.Summary.GetSampleCount()))
		for _, q := range metric.Summary.GetQuantile() {
			add(name, with("quantile", strconv.FormatFloat(q.GetQuantile(), 'g', -1, 64)), q.GetValue())
		}
	}
}
