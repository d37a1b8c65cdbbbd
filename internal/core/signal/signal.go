// Package signal turns scraped numbers into signals: ratios, rates, shares above a bound, quantiles and means, for
// each cohort and interval. It computes only; fetching and parsing a metrics page is package scrape's work.
package signal

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"sort"
	"strings"
	"time"
)

// Page is one scrape of one instance: its samples by metric name. Histograms come flat, as in the OpenMetrics text:
// NAME_bucket with the label "le", NAME_sum and NAME_count.
type Page map[string][]Sample

// Sample is one number of a Page with the labels that set it apart.
type Sample struct {
	Labels map[string]string
	Value  float64
	Unread string  // why the metric cannot be read; empty where it can. It is the only sample of it then
	known  bool    // whether the rest is worked out
	series string  // its labels as one text, without "le"
	bound  float64 // of a bucket; not a number where there is none
}

// NewSample makes a sample whose series is worked out once, as several signals may ask for it.
func NewSample(labels map[string]string, value float64) Sample {
	bound, ok := parseBound(labels["le"])
	if !ok {
		bound = math.NaN()
	}
	return Sample{labels, value, "", true, key(labels), bound}
}

// parts are what the names of a family's samples have behind that of the family.
var parts = []string{"", "_total", "_bucket", "_sum", "_count"}

// Lose notes that a family cannot be read, and why.
func (p Page) Lose(family, why string) {
	for _, part := range parts {
		if len(p[family+part]) == 0 {
			p[family+part] = []Sample{{Unread: why}}
		}
	}
}

// name names the series that the sample belongs to, the buckets of a histogram being one.
func (s Sample) name() string {
	if !s.known {
		return key(s.Labels)
	}
	return s.series
}

// edge is the bound of a bucket; not a number where the sample is none.
func (s Sample) edge() float64 {
	if !s.known {
		return NewSample(s.Labels, s.Value).bound
	}
	return s.bound
}

// Kind says how a signal is computed.
type Kind string

const (
	Ratio      Kind = "ratio"       // increase of one counter over the increase of another; a share from 0 to 1
	ShareAbove Kind = "share-above" // share of a histogram's observations above a bound; from 0 to 1
	Quantile   Kind = "quantile"    // quantile of a histogram, in the histogram's unit
	Mean       Kind = "mean"        // mean observation of a histogram, in the histogram's unit
	Rate       Kind = "rate"        // increase of a counter per second
	Gauge      Kind = "gauge"       // mean of a gauge over the cohort's instances, in the gauge's unit
	GaugeMax   Kind = "gauge-max"   // largest value of a gauge over the cohort's instances
	Per        Kind = "per"         // increase of one counter for each of another, which is no share: in the first one's unit
	Slope      Kind = "slope"       // how much a gauge rises in an hour, by least squares over a while; mean over the cohort's instances
	GaugeShare Kind = "gauge-share" // mean over the cohort's instances of one gauge over another
	Apdex      Kind = "apdex"       // share of a histogram's observations at most a bound, and half of those at most four times it; from 0 to 1
	Weighted   Kind = "weighted"    // of all observations of a histogram the mean of the weight of the first bound that each is at most; from 0 to 1
	Burn       Kind = "burn"        // how many times faster than an objective allows its error budget is spent, over each of two windows: the smaller of both
	Query      Kind = "query"       // what a metrics store answers to a query in its own language
	Alert      Kind = "alert"       // how many alerts fire
)

// frustrates is how many times its bound an observation may be to count half for an Apdex.
const frustrates = 4

// Share tells whether values of this kind are shares of a whole, for which a binomial interval holds.
func (k Kind) Share() bool { return k == Ratio || k == ShareAbove }

// read tells whether a value is what was read, and not what happened since it was read before.
func (k Kind) read() bool {
	return k == Gauge || k == GaugeMax || k == GaugeShare || k == Query || k == Alert
}

// Series selects samples: a metric name and, for labels that matter, the accepted values. A value that ends in *
// accepts all that begin alike.
type Series struct {
	Metric string              `json:"metric"`
	Where  map[string][]string `json:"where,omitempty"`
	Except map[string][]string `json:"except,omitempty"` // values of labels whose samples are left out
	Only   map[string]string   `json:"-"`                // labels with the very values that are selected, whatever stands in them
	Lines  string              `json:"lines,omitempty"`  // a regular expression: what is counted are lines of the log in which it is found
}

// LinesOf is the metric that counts the lines of a log in which a regular expression is found.
func LinesOf(expression string) string { return "log lines with /" + expression + "/" }

// Accepts tells whether labels are those that are selected.
func (s Series) Accepts(labels map[string]string) bool {
	for label, accepted := range s.Where {
		if !among(accepted, labels[label]) {
			return false
		}
	}
	for label, value := range s.Only {
		if labels[label] != value {
			return false
		}
	}
	for label, refused := range s.Except {
		if among(refused, labels[label]) {
			return false
		}
	}
	return true
}

// among tells whether a label's value is one of those that are named.
func among(named []string, value string) bool {
	return slices.ContainsFunc(named, func(want string) bool {
		if prefix, star := strings.CutSuffix(want, "*"); star {
			return strings.HasPrefix(value, prefix)
		}
		return value == want
	})
}

// Source says what a signal is computed from.
type Source struct {
	Kind     Kind     `json:"kind"`
	Of       Series   `json:"of"`
	To       *Series  `json:"to,omitempty"`       // Ratio: the whole; Per and GaugeShare: what it is held against
	Bound    float64  `json:"bound,omitempty"`    // ShareAbove and Apdex: in the histogram's unit
	Weights  []Weight `json:"weights,omitempty"`  // Weighted: by ascending bound; what is above the last one weighs nothing
	Quantile float64  `json:"quantile,omitempty"` // Quantile: from 0 to 1
	Over     float64  `json:"over,omitempty"`     // Slope, Burn: seconds; of Burn the longer window
	Lately   float64  `json:"lately,omitempty"`   // Burn: seconds of the shorter window
	Allows   float64  `json:"allows,omitempty"`   // Burn: the share that may be bad, 0.001 where the objective is 99.9 %
	Each     string   `json:"each,omitempty"`     // a label: what has each value of it is judged by itself too
	Workload string   `json:"workload,omitempty"` // whose instances tell it; the guarded one's where it is empty
	Store    string   `json:"store,omitempty"`    // the metrics store that knows it, by its name in the settings; empty where the instances tell themselves
	Cohort   *Mark    `json:"cohort,omitempty"`   // Store: how its series are told apart
	Query    string   `json:"query,omitempty"`    // Query: in the store's own language
}

// Weight is what an observation counts that is at most a bound, in the histogram's unit, and above the one before.
type Weight struct {
	Bound float64 `json:"bound"`
	Is    float64 `json:"is"` // from 0 to 1
}

// weights are those of an Apdex too.
func (s Source) weights() []Weight {
	if s.Kind == Apdex {
		return []Weight{{s.Bound, 1}, {frustrates * s.Bound, 0.5}}
	}
	return s.Weights
}

// Mark is a label by which a store's series are told apart, and what its values are.
type Mark struct {
	Label string `json:"label"`
	Is    Naming `json:"is"`
}

// Naming is what the values of a Mark name.
type Naming string

const (
	ByAddress  Naming = "address"  // HOST or HOST:PORT of an instance
	ByInstance Naming = "instance" // its name
	ByVersion  Naming = "version"  // the version of its revision
	ByRevision Naming = "revision" // the fingerprint of its revision, or the first 7 or 12 digits of it
)

// Namings are all of them.
var Namings = []Naming{ByAddress, ByInstance, ByVersion, ByRevision}

// OfInstance tells whether each instance is named by itself.
func (n Naming) OfInstance() bool { return n == ByAddress || n == ByInstance }

// Metrics are those that a source is computed from, each with what all that is asked of it selects alike. What a counter counts is not
// narrowed down further: where nothing of it is there because nothing happened yet, what else there is of it tells that it can be read.
func (s Source) Metrics() []Series {
	switch s.Kind {
	case Query, Alert:
		return nil
	case Rate:
		return []Series{{Metric: s.Of.Metric}}
	case Ratio, Per, GaugeShare, Burn:
		of := Series{Metric: s.Of.Metric, Where: common(s.Of.Where, s.To.Where), Except: common(s.Of.Except, s.To.Except)}
		if s.To.Metric == s.Of.Metric {
			return []Series{of}
		}
		return []Series{of, *s.To}
	}
	return []Series{s.Of}
}

// Elsewhere tells whether it is read somewhere else than at the instances.
func (s Source) Elsewhere() bool { return s.Store != "" || s.Workload != "" || s.Kind == Alert }

// From tells where it comes from, where that is not what the instances show.
func (s Source) From() string {
	switch {
	case s.Kind == Alert:
		return "alerts of " + s.Of.Metric
	case s.Kind == Query:
		return "a query of the metrics store " + s.Store
	case s.Store != "":
		return "the metrics store " + s.Store
	case s.Workload != "":
		return "what " + s.Workload + " shows"
	}
	return ""
}

// OfOthers tells whether it is about something else than the instances of a cohort, which warms up with none of them.
func (s Source) OfOthers() bool { return s.Workload != "" || s.Kind == Alert }

// Lines are the regular expressions by which it counts lines of logs.
func (s Source) Lines() (expressions []string) {
	for _, series := range []*Series{&s.Of, s.To} {
		if series != nil && series.Lines != "" {
			expressions = append(expressions, series.Lines)
		}
	}
	return expressions
}

// Histogram tells whether the signal is of a histogram.
func (s Source) Histogram() bool {
	return s.Kind == ShareAbove || s.Kind == Quantile || s.Kind == Mean || s.Kind == Apdex || s.Kind == Weighted
}

// common is what two selections have alike.
func common(a, b map[string][]string) map[string][]string {
	both := map[string][]string{}
	for label, values := range a {
		if slices.Equal(values, b[label]) {
			both[label] = values
		}
	}
	return both
}

// answered names what is read of an answer that is one number.
const answered = "answer"

// Answered is the page of an answer that is one number.
func Answered(value float64) Page { return Page{answered: {NewSample(nil, value)}} }

// Reading is what a Source needs of one Page, series by series so that each counter's reset can be seen.
type Reading struct {
	of, to  map[string]float64
	buckets map[string]map[float64]float64 // bound → cumulative count, by series without "le"
	sum     map[string]float64
}

// Read takes from page what the source needs, or tells why it cannot, as one would say it of the page; why is empty
// where it can. What is not there is never taken for nought.
func (s Source) Read(page Page) (r Reading, why string) {
	switch s.Kind {
	case Ratio, Per, Burn:
		r = Reading{of: values(page, s.Of), to: values(page, *s.To)}
		return r, cmp.Or(s.To.missing(page, r.to, true), s.Of.missing(page, r.of, false), counts(s.To.Metric, r.to), counts(s.Of.Metric, r.of))
	case Rate:
		r = Reading{of: values(page, s.Of)}
		return r, cmp.Or(s.Of.missing(page, r.of, false), counts(s.Of.Metric, r.of))
	case GaugeShare:
		r = Reading{of: values(page, s.Of), to: values(page, *s.To)}
		return r, cmp.Or(s.To.missing(page, r.to, true), s.Of.missing(page, r.of, true), finite(s.To.Metric, r.to), finite(s.Of.Metric, r.of))
	case Query, Alert:
		r = Reading{of: values(page, Series{Metric: answered})}
		if len(r.of) == 0 {
			return r, "there is no answer"
		}
		return r, finite("the answer", r.of)
	case Gauge, GaugeMax, Slope:
		r = Reading{of: values(page, s.Of)}
		return r, cmp.Or(s.Of.missing(page, r.of, true), finite(s.Of.Metric, r.of))
	}
	of := func(suffix string) Series {
		series := s.Of
		series.Metric += suffix
		return series
	}
	count, sum := of("_count"), of("_sum")
	r = Reading{of: values(page, count), sum: values(page, sum), buckets: map[string]map[float64]float64{}}
	if why = cmp.Or(count.missing(page, r.of, true), counts(count.Metric, r.of)); why != "" {
		return r, why
	}
	if s.Kind == Mean {
		return r, cmp.Or(sum.missing(page, r.sum, true), finite(sum.Metric, r.sum))
	}
	for _, sample := range page[s.Of.Metric+"_bucket"] {
		if sample.Unread != "" || !s.Of.Accepts(sample.Labels) {
			continue
		}
		bound := sample.edge()
		if math.IsNaN(bound) {
			continue
		}
		name := bounded(r.buckets, sample.name())
		if r.buckets[name] == nil {
			r.buckets[name] = make(map[float64]float64, 16)
		}
		r.buckets[name][bound] += sample.Value
	}
	if len(r.buckets) == 0 && s.Of.Only != nil {
		return r, "" // nothing was observed of it there yet
	}
	return r, s.outOfReach(r.buckets)
}

// outOfReach tells why a histogram's buckets cannot tell what is asked; empty where they can.
func (s Source) outOfReach(buckets map[string]map[float64]float64) string {
	last := math.Inf(-1)
	for _, bounds := range buckets {
		for bound, count := range bounds {
			if !countable(count) {
				return fmt.Sprintf("%s_bucket is %g, which counts nothing", s.Of.Metric, count)
			}
			if !math.IsInf(bound, 0) {
				last = max(last, bound)
			}
		}
	}
	switch {
	case math.IsInf(last, -1):
		return s.Of.Metric + " has no bucket below +Inf"
	case s.reach() > last*(1+1e-9):
		return fmt.Sprintf("the last bucket of %s ends at %g, and %g is asked for", s.Of.Metric, last, s.reach())
	}
	return ""
}

// reach is how far a histogram's buckets have to go.
func (s Source) reach() float64 {
	switch s.Kind {
	case ShareAbove:
		return s.Bound
	case Apdex, Weighted:
		return s.weights()[len(s.weights())-1].Bound
	}
	return math.Inf(-1)
}

// missing tells why a series cannot be read from a page, of which these values were selected: its metric is not there,
// or no sample has a label by which it is selected. Where something must be selected, that nothing is counts as well;
// else nothing happened yet that would be.
func (s Series) missing(page Page, selected map[string]float64, must bool) string {
	samples := page[s.Metric]
	if len(samples) == 0 {
		return "there is no " + s.Metric
	}
	if samples[0].Unread != "" {
		return samples[0].Unread
	}
	for _, label := range append(slices.Sorted(maps.Keys(s.Where)), slices.Sorted(maps.Keys(s.Only))...) {
		if !slices.ContainsFunc(samples, func(sample Sample) bool { _, has := sample.Labels[label]; return has }) {
			return fmt.Sprintf("no sample of %s has the label %s", s.Metric, label)
		}
	}
	if must && len(selected) == 0 && s.Only == nil {
		return fmt.Sprintf("no sample of %s is as it is looked for", s.Metric)
	}
	return ""
}

// mostCounted is more than any counter comes to: the nanoseconds of ten thousand years.
const mostCounted = 1e21

func countable(value float64) bool { return value >= 0 && value <= mostCounted } // no comparison holds for what is no number

// counts tells why values are no counts; empty where they are.
func counts(metric string, values map[string]float64) string {
	for _, value := range values {
		if !countable(value) {
			return fmt.Sprintf("%s is %g, which counts nothing", metric, value)
		}
	}
	return ""
}

// finite tells why values cannot be reckoned with; empty where they can.
func finite(metric string, values map[string]float64) string {
	for _, value := range values {
		if math.IsNaN(value) || math.Abs(value) > mostCounted {
			return fmt.Sprintf("%s is %g, which is no number to reckon with", metric, value)
		}
	}
	return ""
}

func values(page Page, s Series) map[string]float64 {
	samples := page[s.Metric]
	found := make(map[string]float64, min(len(samples), MostSeries))
	for _, sample := range samples {
		if sample.Unread == "" && s.Accepts(sample.Labels) {
			found[bounded(found, sample.name())] += sample.Value
		}
	}
	return found
}

// MostSeries is how many series of one metric are told apart. Beyond that they are summed up as one, so that an
// explosion of labels costs no memory; their sum still tells the increase, but not the reset of one of them alone.
const MostSeries = 2000

// rest is the name of the series that are summed up.
const rest = "\x00rest"

// Explodes tells of which metric a page has more series than are told apart, and how many; none where it has not.
func (s Source) Explodes(page Page) (metric string, series int) {
	for _, of := range s.Metrics() {
		for _, name := range []string{of.Metric, of.Metric + "_count"} {
			if n := len(page[name]); n > MostSeries && n > series {
				metric, series = name, n
			}
		}
	}
	return metric, series
}

// bounded is the name under which a series is kept.
func bounded[V any](known map[string]V, name string) string {
	if _, ok := known[name]; !ok && len(known) >= MostSeries {
		return rest
	}
	return name
}

// key names a series by its labels, without "le".
func key(labels map[string]string) string {
	if len(labels) == 0 {
		return ""
	}
	var b strings.Builder
	for _, label := range slices.Sorted(maps.Keys(labels)) {
		if label != "le" {
			b.WriteString(label)
			b.WriteByte(1)
			b.WriteString(labels[label])
			b.WriteByte(2)
		}
	}
	return b.String()
}

// Tally is what one instance, or a cohort once tallies are added, gave within one interval. Tallies add up over
// instances and over intervals.
type Tally struct {
	Part      float64             `json:"part"`  // the counted part: errors, slow answers, sum of values, observations beyond a quantile's last bucket
	Whole     float64             `json:"whole"` // all of it: requests, observations, readings; seconds for Rate
	Largest   float64             `json:"largest,omitempty"`
	Instances int                 `json:"instances"`
	Lately    [2]float64          `json:"-"` // Burn: part and whole of the shorter window
	Buckets   map[float64]float64 `json:"-"` // Quantile: increase by bound, cumulative
}

// Between gives what happened from one reading of an instance to the next. A counter that went down was reset: its
// whole new value counts, as all of it came since.
func (s Source) Between(before, after Reading, span time.Duration) Tally {
	t := Tally{Instances: 1}
	switch s.Kind {
	case Ratio, Per, Burn:
		t.Part, t.Whole = increase(before.of, after.of), increase(before.to, after.to)
	case GaugeShare:
		of, to := sumOf(after.of), sumOf(after.to)
		if t.Whole = 1; to == 0 { // of nothing nothing is a share
			t.Whole = 0
		} else {
			t.Part = of / to
		}
		t.Largest = t.Part
	case Rate:
		t.Part, t.Whole = increase(before.of, after.of), span.Seconds()
	case Gauge, GaugeMax, Query, Alert:
		t.Part = sumOf(after.of)
		t.Whole, t.Largest = 1, t.Part
	case Mean:
		t.Part, t.Whole = increase(before.sum, after.sum), increase(before.of, after.of)
	case ShareAbove, Quantile, Apdex, Weighted:
		t.Whole = increase(before.of, after.of)
		t.Buckets = map[float64]float64{}
		for name, bounds := range after.buckets {
			t.Buckets = Together(t.Buckets, growth(before.buckets[name], bounds))
		}
		switch s.Kind {
		case ShareAbove:
			t.Part = max(0, t.Whole-within(t.Buckets, s.Bound))
		case Apdex, Weighted:
			under := 0.0
			for _, w := range s.weights() {
				count := within(t.Buckets, w.Bound)
				t.Part, under = t.Part+w.Is*(count-under), count
			}
		default:
			t.Part = max(0, t.Whole-bucketed(t.Buckets))
		}
	}
	return t
}

func sumOf(values map[string]float64) (sum float64) {
	for _, value := range values {
		sum += value
	}
	return sum
}

// within is how many observations were at most bound: the count of the smallest bucket that reaches it, so a bound
// between two buckets is judged by the larger one.
func within(buckets map[float64]float64, bound float64) float64 {
	for _, edge := range slices.Sorted(maps.Keys(buckets)) {
		if edge >= bound*(1-1e-9) {
			return buckets[edge]
		}
	}
	return 0
}

// bucketed is how many observations lie in a bucket that ends.
func bucketed(buckets map[float64]float64) (n float64) {
	for edge, count := range buckets {
		if edge <= maxFinite {
			n = max(n, count)
		}
	}
	return n
}

func increase(before, after map[string]float64) (sum float64) {
	for name, value := range after {
		sum += grown(before[name], value)
	}
	return sum
}

func grown(before, after float64) float64 {
	if after < before {
		return after
	}
	return after - before
}

// Add gives both tallies as one.
func (t Tally) Add(o Tally) Tally {
	sum := Tally{Part: t.Part + o.Part, Whole: t.Whole + o.Whole, Largest: max(t.Largest, o.Largest), Instances: t.Instances + o.Instances, Lately: [2]float64{t.Lately[0] + o.Lately[0], t.Lately[1] + o.Lately[1]}}
	if t.Buckets != nil || o.Buckets != nil {
		sum.Buckets = Together(t.Buckets, o.Buckets)
	}
	return sum
}

// Value is the signal's value over a tally, in the source's unit. It is false where the tally holds nothing to
// compute it from.
func (s Source) Value(t Tally) (float64, bool) {
	switch s.Kind {
	case GaugeMax:
		return t.Largest, t.Instances > 0
	case Rate:
		// Whole adds up the seconds of every instance; the cohort's rate is the sum of its instances' rates.
		if t.Whole <= 0 {
			return 0, false
		}
		return t.Part / t.Whole * float64(t.Instances), true
	case Burn:
		if t.Whole <= 0 {
			return 0, false
		}
		lately := 0.0 // of nothing nothing is bad
		if t.Lately[1] > 0 {
			lately = t.Lately[0] / t.Lately[1]
		}
		return min(t.Part/t.Whole, lately) / s.Allows, true
	case Quantile:
		return quantile(t.Buckets, s.Quantile)
	}
	if t.Whole <= 0 {
		return 0, false
	}
	return t.Part / t.Whole, true
}

// Above is how many of a histogram's observations lie above a value, spread evenly within their bucket. It is false where the
// value lies beyond the last bucket that ends, or nothing was observed.
func (t Tally) Above(value float64) (float64, bool) {
	low, under := 0.0, 0.0
	for _, edge := range slices.Sorted(maps.Keys(t.Buckets)) {
		count := t.Buckets[edge]
		switch {
		case edge > maxFinite:
			return 0, false
		case edge >= value*(1-1e-9):
			if edge > low && value < edge {
				count = under + (count-under)*max(0, value-low)/(edge-low)
			}
			return max(0, t.Whole-count), true
		}
		low, under = edge, count
	}
	return 0, false
}

// Beyond tells whether a quantile lies beyond the last bucket that ends: it is at least what Value gives, and nobody
// knows how much more.
func (s Source) Beyond(t Tally) bool {
	return s.Kind == Quantile && t.Part > (1-s.Quantile)*t.Whole*(1+1e-9)
}

// quantile interpolates linearly within the bucket that holds it. An observation beyond the last finite bound counts
// as that bound, so the true value may be larger.
func quantile(buckets map[float64]float64, q float64) (float64, bool) {
	bounds := slices.Collect(maps.Keys(buckets))
	sort.Float64s(bounds)
	if len(bounds) == 0 || buckets[bounds[len(bounds)-1]] <= 0 {
		return 0, false
	}
	rank := q * buckets[bounds[len(bounds)-1]]
	low, under := 0.0, 0.0
	for _, bound := range bounds {
		count := buckets[bound]
		if count >= rank {
			if bound > maxFinite {
				return low, true
			}
			if count == under {
				return bound, true
			}
			return low + (bound-low)*(rank-under)/(count-under), true
		}
		low, under = bound, count
	}
	return low, true
}
