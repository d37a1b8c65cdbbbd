package declare

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"aditus/internal/core/guard"
	"aditus/internal/core/signal"
)

// metricPattern is what names of metrics look like, those with dots and letters of all scripts too.
var metricPattern = regexp.MustCompile(`^[^\s{}"\\\pC]+$`)

// source reads a signal: a mapping with one key, which says how it is computed.
func (r *reader) source(n Node, pointer string) signal.Source {
	s := signal.Source{}
	ways := 0
	set := func(kind signal.Kind, read func(Node, string)) func(Node, string) {
		return func(n Node, p string) {
			s.Kind, ways = kind, ways+1
			read(n, p)
		}
	}
	where := func(series *signal.Series) func(Node, string) {
		return func(n Node, p string) { series.Where = r.where(n, p, "where") }
	}
	except := func(series *signal.Series) func(Node, string) {
		return func(n Node, p string) { series.Except = r.where(n, p, "except") }
	}
	one := func(metric, what string, more map[string]func(Node, string), required ...string) func(Node, string) {
		return func(n Node, p string) {
			known := map[string]func(Node, string){
				metric:   func(n Node, p string) { s.Of.Metric = r.metric(n, p) },
				"where":  where(&s.Of),
				"except": except(&s.Of),
			}
			for key, read := range more {
				known[key] = read
			}
			r.fields(n, p, what, append([]string{metric}, required...), known)
		}
	}
	counted := func(what string, into *signal.Series) func(Node, string) {
		return func(n Node, p string) {
			ok := r.fields(n, p, what, nil, map[string]func(Node, string){
				"counter": func(n Node, p string) { into.Metric = r.metric(n, p) }, "where": where(into), "except": except(into),
				"lines": func(n Node, p string) { into.Lines = r.expression(n, p) },
			})
			switch {
			case !ok:
			case (into.Metric == "") == (into.Lines == ""):
				r.wrong(n, p, "", "%s takes one of counter and lines", what)
			case into.Lines != "" && len(into.Where)+len(into.Except) > 0:
				r.wrong(n, p, "leave where and except out", "lines of a log have no labels")
			case into.Lines != "":
				into.Metric = signal.LinesOf(into.Lines)
			}
		}
	}
	two := func(what string, more map[string]func(Node, string), required ...string) func(Node, string) {
		return func(n Node, p string) {
			s.To = &signal.Series{}
			known := map[string]func(Node, string){"of": counted("a counter", &s.Of), "to": counted("a counter", s.To)}
			maps.Copy(known, more)
			r.fields(n, p, what, append([]string{"of", "to"}, required...), known)
		}
	}
	bound := map[string]func(Node, string){"bound": func(n Node, p string) { s.Bound, _ = r.measure(n, p) }}
	over, selects := "", ""
	ok := r.fields(n, pointer, "a signal", nil, map[string]func(Node, string){
		"store":    func(n Node, p string) { s.Store = r.text(n, p, "store") },
		"cohort":   func(n Node, p string) { s.Cohort = r.mark(n, p) },
		"each":     func(n Node, p string) { s.Each = r.text(n, p, "each") },
		"workload": func(n Node, p string) { s.Workload = r.text(n, p, "workload") },
		"query":    set(signal.Query, func(n Node, p string) { s.Query = r.text(n, p, "query") }),
		"ratio":    set(signal.Ratio, two("a ratio", nil)),
		"per":      set(signal.Per, two("per", nil)),
		"burn": set(signal.Burn, two("burn", map[string]func(Node, string){
			"objective": func(n Node, p string) { s.Allows = r.objective(n, p) },
			"over":      func(n Node, p string) { s.Over, s.Lately = r.burnWindows(n, p) },
		}, "objective", "over")),
		"weighted": set(signal.Weighted, one("histogram", "weighted", map[string]func(Node, string){
			"weights": func(n Node, p string) { s.Weights = r.weights(n, p) },
		}, "weights")),
		"apdex":       set(signal.Apdex, one("histogram", "apdex", bound, "bound")),
		"share-above": set(signal.ShareAbove, one("histogram", "share-above", bound, "bound")),
		"quantile": set(signal.Quantile, one("histogram", "quantile", map[string]func(Node, string){
			"at": func(n Node, p string) { s.Quantile = r.percent(n, p) },
		}, "at")),
		"slope": set(signal.Slope, one("metric", "slope", map[string]func(Node, string){
			"over": func(n Node, p string) { s.Over = r.slopeOver(n, p) },
		}, "over")),
		"alert":  set(signal.Alert, func(n Node, p string) { s.Of.Metric = r.text(n, p, "alert") }),
		"where":  func(n Node, p string) { s.Of.Where, selects = r.where(n, p, "where"), "where" },
		"except": func(n Node, p string) { s.Of.Except, selects = r.where(n, p, "except"), "except" },
		"mean":   set(signal.Mean, one("histogram", "mean", nil)),
		"rate":   set(signal.Rate, counted("rate", &s.Of)),
		"gauge": set(signal.Gauge, one("metric", "gauge", map[string]func(Node, string){
			"take": func(n Node, p string) {
				if oneOf(r, n, p, "mean", "max") == "max" {
					s.Kind = signal.GaugeMax
				}
			},
			"over": func(n Node, p string) { over = r.metric(n, p) },
		})),
	})
	if over != "" {
		if s.Kind == signal.GaugeMax {
			r.wrong(n, pointer, "leave take out", "of one gauge over another the mean over the instances is taken")
		}
		s.Kind, s.To = signal.GaugeShare, &signal.Series{Metric: over, Where: s.Of.Where, Except: s.Of.Except}
	}
	if ok && ways != 1 {
		r.wrong(n, pointer, "", "a signal is computed in exactly one way: ratio, per, burn, share-above, apdex, weighted, quantile, mean, rate, slope or gauge, the query of a store, or alert")
	}
	if selects != "" && s.Kind != signal.Alert {
		r.wrong(n, pointer, "write it under "+string(s.Kind), "%s beside the signal selects alerts by their labels", selects)
	}
	r.stored(n, pointer, &s)
	return s
}

// Blanks are what stands for a cohort in a query of a metrics store.
const (
	VersionBlank   = "%version%"
	RevisionBlank  = "%revision%"
	InstancesBlank = "%instances%"
	AddressesBlank = "%addresses%"
)

// Asks tells whether a signal is asked of each cohort by itself: a query without a blank is about all of them.
func Asks(s signal.Source) bool {
	return s.Kind != signal.Query || slices.ContainsFunc([]string{VersionBlank, RevisionBlank, InstancesBlank, AddressesBlank}, func(blank string) bool { return strings.Contains(s.Query, blank) })
}

// pushed is the store of what instances push themselves.
const pushed = "otlp"

// stored settles what is asked of a metrics store.
func (r *reader) stored(n Node, pointer string, s *signal.Source) {
	if s.Each != "" && (s.Kind == signal.Query || s.Kind == signal.Alert || len(s.Lines()) > 0) {
		r.wrong(n, pointer, "leave each out", "each is a label of a metric, each value of which is judged by itself; there is none")
	}
	switch {
	case s.Store != "" && s.Workload != "":
		r.wrong(n, pointer, "leave workload out, and select its series by their labels", "a metrics store is not asked by workload")
	case s.Workload != "" && s.Kind == signal.Alert:
		r.wrong(n, pointer, "leave workload out", "the labels of alerts say which workload they are about")
	case s.Store != "" && len(s.Lines()) > 0:
		r.wrong(n, pointer, "leave store out", "a metrics store has no logs")
	case s.Workload != "" && len(s.Lines()) > 0:
		r.wrong(n, pointer, "guard a counter", "lines are counted in the workload's own logs alone")
	case s.Store == "" && s.Kind == signal.Query:
		r.wrong(n, pointer, "write store: NAME beside it, a metrics store of the settings", "a query is asked of a metrics store")
	case s.Store == "" && s.Cohort != nil:
		r.wrong(n, pointer, "leave cohort out", "the instances themselves tell which cohort they are of; cohort is for series of a store")
	case s.Kind == signal.Query && s.Cohort != nil:
		r.wrong(n, pointer, "leave cohort out, and write "+VersionBlank+" or "+AddressesBlank+" into the query", "a query tells its cohorts apart by itself")
	case s.Store == pushed && s.Kind == signal.Query:
		r.wrong(n, pointer, "select it by metric and labels", "what is pushed takes no queries")
	case s.Store == pushed && s.Cohort == nil:
		s.Cohort = &signal.Mark{Label: "service.instance.id", Is: signal.ByInstance}
	case s.Store != "" && s.Kind != signal.Query && s.Cohort == nil:
		s.Cohort = &signal.Mark{Label: "instance", Is: signal.ByAddress}
	}
}

// mark reads by what a store's series are told apart.
func (r *reader) mark(n Node, pointer string) *signal.Mark {
	m := &signal.Mark{Is: signal.ByVersion}
	r.fields(n, pointer, "cohort", []string{"label", "is"}, map[string]func(Node, string){
		"label": func(n Node, p string) { m.Label = r.text(n, p, "label") },
		"is":    func(n Node, p string) { m.Is = oneOf(r, n, p, signal.Namings...) },
	})
	return m
}

// weights reads what observations count, by the bounds that they are at most.
func (r *reader) weights(n Node, pointer string) (all []signal.Weight) {
	r.entries(n, pointer, "weights", func(name string, key, value Node, p string) {
		bound, _ := r.measure(Node{Kind: Text, Text: name, File: key.File, Line: key.Line, Column: key.Column}, p)
		weight, unit, ok := quantity(value.Text)
		if unit == "%" {
			weight, unit = weight/100, ""
		}
		if !ok || unit != "" || weight < 0 || weight > 1 {
			r.wrong(value, p, "write it like weights: {250ms: 1, 1s: 0.5}", "a weight is a number from 0 to 1, not %q", value.Text)
		}
		all = append(all, signal.Weight{Bound: bound, Is: weight})
	})
	slices.SortFunc(all, func(a, b signal.Weight) int { return cmp.Compare(a.Bound, b.Bound) })
	if n.Kind == Map && (len(all) == 0 || len(all) > mostWeights) {
		r.wrong(n, pointer, "write it like weights: {250ms: 1, 1s: 0.5}", "there are 1 to %d weights, not %d", mostWeights, len(all))
		return []signal.Weight{{}}
	}
	if len(all) == 0 {
		return []signal.Weight{{}}
	}
	return all
}

// mostWeights is how many bounds may have one.
const mostWeights = 20

// objective reads how much must be good, and gives how much may be bad.
func (r *reader) objective(n Node, pointer string) float64 {
	share, unit := r.measure(n, pointer)
	if unit != guard.Share || share <= 0 || share >= 1 {
		r.wrong(n, pointer, "write it like 99.9 %", "an objective is the share that must be good, between 0 %% and 100 %%, not %q", n.Text)
		return 0
	}
	return 1 - share
}

// Windows of an error budget.
const (
	longestWindow = 24 * time.Hour
	timesWindow   = 48 // times that the longer one is as long as the shorter one
)

// burnWindows reads the longer and the shorter window of an error budget.
func (r *reader) burnWindows(n Node, pointer string) (over, lately float64) {
	if n.Kind != List || len(n.Items) != 2 {
		r.wrong(n, pointer, "write over: [1h, 5m]", "a budget burns over two windows, a longer and a shorter one")
		return 0, 0
	}
	long, short := r.span(n.Items[0], pointer+"/0", 0).Duration, r.span(n.Items[1], pointer+"/1", 0).Duration
	if short < time.Minute || long <= short || long > longestWindow || long > timesWindow*short {
		r.wrong(n, pointer, "write over: [1h, 5m]", "the shorter window is 1m at least, the longer one 24h and %d times that at most", timesWindow)
	}
	return long.Seconds(), short.Seconds()
}

// The shortest and the longest while that a slope is told over.
const (
	shortestSlope = time.Minute
	longestSlope  = 6 * time.Hour
)

func (r *reader) slopeOver(n Node, pointer string) float64 {
	over := r.span(n, pointer, 0).Duration
	if over < shortestSlope || over > longestSlope {
		r.wrong(n, pointer, "write it like 30m", "a slope is told over a while from %s to %s", shortestSlope, longestSlope)
	}
	return over.Seconds()
}

func (r *reader) metric(n Node, pointer string) string {
	if !metricPattern.MatchString(n.Text) {
		r.wrong(n, pointer, "", "%q is no name of a metric", n.Text)
	}
	return n.Text
}

func (r *reader) expression(n Node, pointer string) string {
	text := r.text(n, pointer, "lines")
	if _, err := regexp.Compile(text); err != nil {
		r.wrong(n, pointer, "write it as RE2 has it, such as panic|out of memory", "%q is no regular expression: %v", text, err)
	}
	return text
}

func (r *reader) where(n Node, pointer, what string) map[string][]string {
	found := map[string][]string{}
	accept := func(label string, value Node, p string) {
		if head, _, star := strings.Cut(value.Text, "*"); star && strings.Contains(value.Text[:len(value.Text)-1], "*") {
			r.wrong(value, p, "write "+head+"* for all that begin with "+head, "a star stands at the end of %q alone: nothing else means anything", value.Text)
		} else if code := statusPattern.FindString(value.Text); code != "" {
			r.wrong(value, p, "write "+code[:1]+"*", "%q is one value, which no request has: it is no pattern", value.Text)
		}
		found[label] = append(found[label], value.Text)
	}
	r.entries(n, pointer, what, func(label string, key, value Node, p string) {
		switch value.Kind {
		case Map, Null:
			r.wrong(value, p, "", "a label's value is text or a list of texts, not %s", value.Kind)
		case List:
			for i, item := range value.Items {
				accept(label, item, fmt.Sprintf("%s/%d", p, i))
			}
		default:
			accept(label, value, p)
		}
	})
	return found
}

// statusPattern are ways in which people write all statuses that begin with a digit and that mean nothing here.
var statusPattern = regexp.MustCompile(`^[1-5](?:[xX?.][xX?.]|\.\*|\[0-9\]\[0-9\]|\\d\\d|\.\+)$`)
