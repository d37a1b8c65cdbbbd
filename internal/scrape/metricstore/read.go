package metricstore

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/prometheus/common/model"

	"aditus/internal/core/say"
	"aditus/internal/core/signal"
)

// One is somebody of whom a store is asked: an instance, or a cohort.
type One struct {
	Name  string
	Names []string // the values of the label that tell of it
	Fills []string // what stands for it in a query: names of blanks, each with what is put in there
}

// Shown is what a store knows of somebody.
type Shown struct {
	Of     string // the name of the One
	At     string // which of its instances, as the store calls it; empty where it does not tell
	Page   signal.Page
	Time   time.Time // of its latest sample
	Unread string    // why nothing is known of it; empty where something is
}

// ahead is how far the clock of a store may be ahead.
const ahead = time.Minute

// standingFor is the label by which stores tell what a sample was read from.
const standingFor = "instance"

// Read asks for what a signal is computed from, as of a moment, and takes what was measured within a while before it. Of whom nothing is known
// there is one Shown that says why.
func (s *Store) Read(ctx context.Context, source signal.Source, whose []One, at time.Time, within time.Duration) ([]Shown, error) {
	if source.Kind == signal.Query {
		return s.raw(ctx, source.Query, whose, at)
	}
	names, err := Names(whose)
	if err != nil || len(names) == 0 {
		return nil, err
	}
	values := slices.Sorted(maps.Keys(names))
	g := gathered{source: source, names: names, pages: map[place]*Shown{}}
	for _, series := range source.Metrics() {
		selector := selector(series, source.Histogram(), source.Cohort.Label, values)
		answer, err := s.ask(ctx, selector+"["+model.Duration(within).String()+"]", at)
		if err != nil {
			return nil, err
		}
		streams, ok := answer.(model.Matrix)
		if !ok {
			return nil, fmt.Errorf("it answers with a %s where series were asked for", answer.Type())
		}
		if err := g.add(streams); err != nil {
			return nil, err
		}
	}
	for _, page := range g.pages {
		if page.Time.Sub(at) > ahead {
			return nil, fmt.Errorf("its samples are of %s, which is yet to come: one of the clocks is wrong", page.Time.UTC().Format(time.RFC3339))
		}
	}
	var shown []Shown
	for _, one := range whose {
		n := len(shown)
		var last time.Time
		for _, where := range g.order {
			switch page := g.pages[where]; {
			case where.one != one.Name:
			case at.Sub(page.Time) > within: // whatever was asked for
				last = page.Time
			default:
				shown = append(shown, *page)
			}
		}
		switch {
		case len(shown) > n:
		case last.IsZero():
			shown = append(shown, Shown{Of: one.Name, Unread: s.missing(ctx, source, one, at, within)})
		default:
			shown = append(shown, Shown{Of: one.Name, Unread: Missing(source, one, last, at, within)})
		}
	}
	return shown, nil
}

// Names tells whom each value of the label tells of. One value cannot tell of two.
func Names(whose []One) (map[string]string, error) {
	names := map[string]string{}
	for _, one := range whose {
		for _, name := range one.Names {
			if other, taken := names[name]; taken && other != one.Name {
				return nil, fmt.Errorf("%s and %s are both %q: tell them apart by another label in cohort", other, one.Name, name)
			}
			names[name] = one.Name
		}
	}
	return names, nil
}

// Missing tells why nothing is known of somebody, of whom the last sample was of a moment; the zero moment stands for none.
func Missing(source signal.Source, one One, last, at time.Time, within time.Duration) string {
	metric, mark := source.Metrics()[0].Metric, source.Cohort.Label+"="+say.Or(one.Names)
	if age := at.Sub(last); !last.IsZero() && age > within {
		return fmt.Sprintf("the last sample of %s with %s is %s old, and %s is the most: have it measured more often, or write a longer interval", metric, mark, say.Span(age.Round(time.Second)), say.Span(within))
	}
	return fmt.Sprintf("there is no %s with %s", metric, mark)
}

// missing tells why a store has no sample of somebody that is new enough.
func (s *Store) missing(ctx context.Context, source signal.Source, one One, at time.Time, within time.Duration) string {
	answer, err := s.ask(ctx, "max(timestamp("+selector(source.Metrics()[0], source.Histogram(), source.Cohort.Label, one.Names)+"))", at)
	var last time.Time
	if found, ok := answer.(model.Vector); err == nil && ok && len(found) == 1 {
		last = time.UnixMilli(int64(float64(found[0].Value) * 1000))
	}
	return Missing(source, one, last, at, within)
}

// place is where a sample was read.
type place struct{ one, at string }

// gathered are answers, put together.
type gathered struct {
	source signal.Source
	names  map[string]string // whom a value of the label tells of
	pages  map[place]*Shown
	order  []place
}

// errStep means that a store answers with samples that cannot be told apart by time.
var errStep = errors.New("its samples have no time of their own")

func (g *gathered) add(streams model.Matrix) error {
	slices.SortFunc(streams, func(a, b *model.SampleStream) int { return cmp.Compare(a.Metric.String(), b.Metric.String()) })
	for _, stream := range streams {
		name := string(stream.Metric[model.MetricNameLabel])
		labels := make(map[string]string, len(stream.Metric))
		for label, value := range stream.Metric {
			if label != model.MetricNameLabel {
				labels[string(label)] = string(value)
			}
		}
		where := place{g.names[labels[g.source.Cohort.Label]], labels[standingFor]}
		if where.one == "" {
			return fmt.Errorf("it answers with series of %s=%q, which nobody asked for", g.source.Cohort.Label, labels[g.source.Cohort.Label])
		}
		page := g.pages[where]
		if page == nil {
			page = &Shown{Of: where.one, At: where.at, Page: signal.Page{}}
			g.pages[where], g.order = page, append(g.order, where)
		}
		var last model.Time
		switch {
		case len(stream.Histograms) > 0:
			h := stream.Histograms[len(stream.Histograms)-1]
			last = h.Timestamp
			page.histogram(name, labels, h.Histogram)
		case len(stream.Values) > 0:
			v := stream.Values[len(stream.Values)-1]
			last = v.Timestamp
			if !math.IsNaN(float64(v.Value)) {
				page.Page[name] = append(page.Page[name], signal.NewSample(labels, float64(v.Value)))
			}
		default:
			return errStep
		}
		if last.Time().After(page.Time) {
			page.Time = last.Time()
		}
	}
	return nil
}

// histogram adds a histogram whose buckets are its own as one whose buckets are cumulative.
func (p *Shown) histogram(name string, labels map[string]string, h *model.SampleHistogram) {
	add := func(suffix string, labels map[string]string, value float64) {
		p.Page[name+suffix] = append(p.Page[name+suffix], signal.NewSample(labels, value))
	}
	var grown signal.Ranges
	for _, bucket := range h.Buckets { // in ascending order
		grown.Add(float64(bucket.Lower), float64(bucket.Upper), float64(bucket.Count))
	}
	for _, bucket := range grown.Cumulative(float64(h.Count)) {
		with := make(map[string]string, len(labels)+1)
		maps.Copy(with, labels)
		with["le"] = strconv.FormatFloat(bucket.Bound, 'g', -1, 64)
		add("_bucket", with, bucket.Count)
	}
	add("_count", labels, float64(h.Count))
	add("_sum", labels, float64(h.Sum))
}

// selector selects the series of a metric, of those alone whom the values of a label tell of.
func selector(s signal.Series, histogram bool, label string, values []string) string {
	name := `__name__=` + strconv.Quote(s.Metric)
	if histogram {
		name = `__name__=~` + strconv.Quote(regexp.QuoteMeta(s.Metric)+"(_bucket|_sum|_count)?")
	}
	parts := []string{name, matcher(label, "=~", values)}
	for _, of := range []struct {
		how    string
		labels map[string][]string
	}{{"=~", s.Where}, {"!~", s.Except}} {
		for label, accepted := range of.labels {
			parts = append(parts, matcher(label, of.how, accepted))
		}
	}
	slices.Sort(parts[2:])
	return "{" + strings.Join(parts, ",") + "}"
}

// plainLabel are names of labels that stand in a query as they are.
var plainLabel = regexp.MustCompile(`^[a-zA-Z_][a-zA-Z0-9_]*$`)

// matcher accepts values of a label; those that end in * accept all that begin alike.
func matcher(label, how string, values []string) string {
	var alternatives []string
	for _, value := range values {
		if prefix, star := strings.CutSuffix(value, "*"); star {
			alternatives = append(alternatives, regexp.QuoteMeta(prefix)+".*")
		} else {
			alternatives = append(alternatives, regexp.QuoteMeta(value))
		}
	}
	if !plainLabel.MatchString(label) {
		label = strconv.Quote(label)
	}
	return label + how + strconv.Quote(strings.Join(alternatives, "|"))
}

// raw asks a query as somebody wrote it, once for each of those it is about.
func (s *Store) raw(ctx context.Context, query string, whose []One, at time.Time) (shown []Shown, err error) {
	for _, one := range whose {
		value, why, err := s.number(ctx, strings.NewReplacer(one.Fills...).Replace(query), at)
		if err != nil {
			return nil, err
		}
		of := Shown{Of: one.Name, Unread: why, Time: at}
		if why == "" {
			of.Page = signal.Answered(value)
		}
		shown = append(shown, of)
	}
	return shown, nil
}

// number asks for one number, or tells why there is none.
func (s *Store) number(ctx context.Context, query string, at time.Time) (float64, string, error) {
	answer, err := s.ask(ctx, query, at)
	if err != nil {
		return 0, "", err
	}
	var value float64
	switch answer := answer.(type) {
	case *model.Scalar:
		value = float64(answer.Value)
	case model.Vector:
		switch {
		case len(answer) == 0:
			return 0, "the query finds nothing", nil
		case len(answer) > 1:
			return 0, fmt.Sprintf("the query finds %d series, and one number is asked for: sum them up, or take the largest", len(answer)), nil
		case answer[0].Histogram != nil:
			return 0, "the query finds a histogram, and one number is asked for", nil
		}
		value = float64(answer[0].Value)
	default:
		return 0, fmt.Sprintf("the query finds a %s, and one number is asked for", answer.Type()), nil
	}
	if math.IsNaN(value) || math.IsInf(value, 0) {
		return 0, fmt.Sprintf("the query answers %g, which is no number to reckon with", value), nil
	}
	return value, "", nil
}
