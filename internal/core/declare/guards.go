package declare

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"aditus/internal/core/calendar"
	"aditus/internal/core/guard"
	"aditus/internal/core/say"
	"aditus/internal/core/signal"
)

// metricPattern is what names of metrics look like, those with dots and letters of all scripts too.
var metricPattern = regexp.MustCompile(`^[^\s{}"\\\pC]+$`)

func (r *reader) guards(n Node, pointer string) []guard.Rule {
	if n.Kind != List {
		r.wrong(n, pointer, "", "guards must be a list, not %s", n.Kind)
		return nil
	}
	var rules []guard.Rule
	seen := map[string]bool{}
	for i, item := range n.Items {
		rules, r.guardNodes = append(rules, r.guard(item, pointer+"/"+strconv.Itoa(i), seen)), append(r.guardNodes, item)
	}
	return rules
}

// ReadGuard reads one guard that stands in a document of its own.
func ReadGuard(document Node) (guard.Rule, Problems) {
	r := &reader{}
	rule := r.guard(document, "", map[string]bool{})
	return rule, r.problems
}

// ReadRollout reads how a revision comes in and the guards on that, from a document that has nothing else of a declaration.
func ReadRollout(document Node) (Desired, Problems) {
	r := &reader{}
	d, written := Desired{Rollout: defaultRollout}, Node{Kind: Map}
	r.fields(document, "", "a rollout with its guards", []string{"rollout", "guards"}, map[string]func(Node, string){
		"rollout": func(n Node, p string) { written = n },
		"guards":  func(n Node, p string) { d.Guards = r.guards(n, p) },
	})
	d.Rollout = r.rollout(written, "/rollout", d)
	r.knownGuards(d)
	r.problems.Sort()
	return d, r.problems
}

// ReadMeasure reads a number with its unit, which must be the one that is wanted.
func ReadMeasure(text string, unit guard.Unit) (float64, error) {
	r := &reader{}
	value, found := r.measure(Node{Kind: Text, Text: text}, "")
	switch {
	case len(r.problems) > 0:
		return 0, fmt.Errorf("%s; %s", r.problems[0].Message, r.problems[0].Suggestion)
	case found != unit:
		return 0, fmt.Errorf("%q is no limit for this guard, which is counted in another unit", text)
	}
	return value, nil
}

// ReadLimit reads the value of a limit that is another one's but for that.
func ReadLimit(text string, like guard.Limit) (float64, error) {
	if like.OfBase {
		return ReadMeasure(strings.TrimSuffix(text, baseWords[like.Base()]), guard.Share)
	}
	return ReadMeasure(text, like.Unit)
}

func (r *reader) guard(item Node, p string, seen map[string]bool) guard.Rule {
	rule := guard.Rule{Missing: guard.MissingHolds, Then: guard.RollBack, Standing: guard.Tell}
	var limit, count, safe, hours Node
	r.fields(item, p, "a guard", []string{"name", "signal"}, map[string]func(Node, string){
		"name": func(n Node, p string) {
			rule.Name = r.text(n, p, "name")
			if seen[rule.Name] {
				r.wrong(n, p, "give each guard a name of its own", "there are two guards %q", rule.Name)
			}
			seen[rule.Name] = true
		},
		"signal": func(n Node, p string) { rule.Signal = r.source(n, p) },
		"limit":  func(n Node, p string) { limit, rule.Limit = n, r.limit(n, p) },
		"decide": func(n Node, p string) { rule.Way = oneOf(r, n, p, guard.ByCount, guard.Sequential) },
		"breach": func(n Node, p string) { count, rule.Breach = n, r.breach(n, p) },
		"safe": func(n Node, p string) {
			if safe = n; oneOf(r, n, p, withinLimit, guard.NoWorse) == guard.NoWorse {
				rule.Safe = guard.NoWorse
			}
		},
		"hours": func(n Node, p string) { hours, rule.Hours = n, r.hours(n, p) },
		"missing": func(n Node, p string) {
			rule.Missing = oneOf(r, n, p, guard.MissingHolds, guard.MissingBreaches, guard.MissingIgnored)
		},
		"then":     func(n Node, p string) { rule.Then = oneOf(r, n, p, guard.RollBack, guard.Hold, guard.Tell) },
		"standing": func(n Node, p string) { rule.Standing = oneOf(r, n, p, guard.Tell, guard.RollBack) },
	})
	switch {
	case rule.Signal.Kind == signal.Alert:
		return r.alerted(item, p, rule, limit, count, hours)
	case limit.Kind == 0 && item.Kind == Map:
		r.wrong(item, p, "", "a guard needs a limit")
	}
	r.ofBase(limit, p+"/limit", &rule)
	r.way(item, p, &rule, count)
	if fits := rule.Signal.Kind.Share() == (rule.Limit.Unit == guard.Share); limit.Kind == Map && !fits && !eitherUnit(rule) {
		want := "a number with a unit such as 250ms, 260 MB or a bare number"
		if rule.Signal.Kind.Share() {
			want = "a share such as 5 %, or points above old such as 0.5 points"
		}
		r.wrong(limit, p+"/limit", "write "+want, "the limit's unit does not fit the signal")
	}
	if limit.Kind == Map && rule.Way == guard.Sequential && rule.Limit.Value <= 0 {
		r.wrong(limit, p+"/limit", "write a limit above 0, such as 0.1 points", "that nothing at all is above the limit can never be shown")
	}
	if safe.Kind != 0 && limit.Kind == Map && (rule.Way != guard.Sequential || !rule.Limit.Relative() || rule.Signal.Kind == signal.Quantile) {
		r.wrong(safe, p+"/safe", "leave it out", "safe says what a limit above old protects, of a ratio, a share above a bound or a mean that is decided sequentially")
	}
	if limit.Kind == Map && rule.Way == guard.Sequential && countsAlone(rule.Limit) {
		r.wrong(limit, p+"/limit", "leave decide: sequential out, or write a limit in points above old, or at-most of the opposite share", "a lower limit, and one that is a share of old or of the past, is decided by counting intervals")
	}
	if rule.Signal.Each != "" && rule.Limit.Base() == guard.OwnPast {
		r.wrong(limit, p+"/limit", "write at-most, or above-old-by", "the past is kept of all values together, and of none by itself")
	}
	for i, h := range rule.Hours {
		if h.Limit.Kind != rule.Limit.Kind || h.Limit.Unit != rule.Limit.Unit || rule.Limit.Moves() {
			r.wrong(hours, fmt.Sprintf("%s/hours/%d/limit", p, i), "write at-most or at-least in both, with the same unit", "limits by hours of the day are of one kind, and lie where they are declared")
		}
	}
	if !Asks(rule.Signal) && rule.Limit.Relative() {
		r.wrong(limit, p+"/limit", "write "+VersionBlank+" or "+AddressesBlank+" into the query, or at-most", "the query is about both cohorts at once, so that one cannot be held against the other")
	}
	if rule.Signal.Workload != "" && rule.Limit.Relative() {
		r.wrong(limit, p+"/limit", "write at-most, at-least, or above-past-by", "what %s shows is the same for old and new, so that one cannot be held against the other", rule.Signal.Workload)
	}
	if rule.Signal.Kind == signal.Rate && rule.Limit.Relative() {
		r.wrong(limit, p+"/limit", "write at-most, or compare a ratio, a mean or a quantile", "the rates of two cohorts differ with their shares of the traffic, so one cannot be held against the other")
	}
	return rule
}

// alerted settles a guard on alerts: one that fires is a breach, so that it has no limit and counts nothing.
func (r *reader) alerted(item Node, p string, rule guard.Rule, limit, count, hours Node) guard.Rule {
	for key, n := range map[string]Node{"limit": limit, "breach": count, "hours": hours} {
		if n.Kind != 0 {
			r.wrong(n, p+"/"+key, "leave "+key+" out", "an alert fires or not: one that does is a breach")
		}
	}
	if rule.Way == guard.Sequential {
		r.wrong(item, p, "leave decide out", "an alert fires or not: there is nothing to decide sequentially")
	}
	rule.Way, rule.Safe, rule.Limit = guard.ByCount, guard.WithinLimit, guard.Limit{Kind: guard.AtMost, Unit: guard.Alerts}
	rule.Breach = &guard.Count{Intervals: 1, Of: 1, Samples: 1}
	return rule
}

// hours reads in which hours of the day another limit holds.
func (r *reader) hours(n Node, pointer string) (all []guard.Hours) {
	if n.Kind != List {
		r.wrong(n, pointer, "write hours: [{from: 22:00, to: 06:00, limit: {at-most: 10 %}}]", "hours must be a list, not %s", n.Kind)
		return nil
	}
	for i, item := range n.Items {
		var h guard.Hours
		clock := func(into *guard.Clock) func(Node, string) {
			return func(n Node, p string) {
				at, err := guard.ReadClock(n.Text)
				if *into = at; err != nil {
					r.wrong(n, p, "", "%v", err)
				}
			}
		}
		r.fields(item, fmt.Sprintf("%s/%d", pointer, i), "hours", []string{"from", "to", "limit"}, map[string]func(Node, string){
			"from": clock(&h.From), "to": clock(&h.To),
			"zone": func(n Node, p string) {
				h.Zone = n.Text
				if _, err := calendar.Zone(n.Text); err != nil {
					r.wrong(n, p, "", "%v", err)
				}
			},
			"limit": func(n Node, p string) { h.Limit = r.limit(n, p) },
		})
		all = append(all, h)
	}
	return all
}

// countsAlone tells whether a limit is decided by counting intervals alone.
func countsAlone(l guard.Limit) bool { return l.Below() || l.OfBase }

// eitherUnit tells whether a guard's signal may be written as a share or as a bare number.
func eitherUnit(rule guard.Rule) bool {
	return rule.Limit.OfBase || rule.Limit.Unit == guard.Share && either(rule.Signal.Kind)
}

// either tells whether values of a kind are shares where the declaration says so.
func either(kind signal.Kind) bool {
	return kind == signal.GaugeShare || kind == signal.Apdex || kind == signal.Query
}

// ofBase settles what a per cent means in a limit above or below old, or the past: a share of that where the signal is none itself, or where it
// says so.
func (r *reader) ofBase(n Node, pointer string, rule *guard.Rule) {
	l := &rule.Limit
	if n.Kind != Map || len(n.Entries) != 1 || !l.Moves() {
		return
	}
	written := n.Entries[0].Value
	switch bare := strings.HasSuffix(strings.TrimSpace(written.Text), "%"); {
	case bare && (rule.Signal.Kind.Share() || either(rule.Signal.Kind)):
		of := strings.TrimPrefix(baseWords[l.Base()], " ")
		r.wrong(written, pointer+"/"+string(l.Kind), fmt.Sprintf("write %s points, or %s%s", strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(written.Text), "%")), written.Text, baseWords[l.Base()]), "%s can be so many points, or a share %s", written.Text, of)
	case bare:
		l.OfBase = true
	}
	if l.OfBase {
		l.Unit = unitOf(rule.Signal)
	}
}

// baseWords say that a limit is a share of what it lies above or below.
var baseWords = map[guard.Base]string{guard.OldSide: " of old", guard.OwnPast: " of past"}

// unitOf is the unit of a signal by the name of its metric, as OpenMetrics has it.
func unitOf(s signal.Source) guard.Unit {
	name := strings.TrimSuffix(s.Of.Metric, "_total")
	switch {
	case s.Kind.Share():
		return guard.Share
	case either(s.Kind):
		return guard.Plain
	case strings.HasSuffix(name, "_seconds"):
		return guard.Seconds
	case strings.HasSuffix(name, "_bytes"):
		return guard.Bytes
	}
	return guard.Plain
}

// withinLimit is how the default of what is safe is written.
const withinLimit guard.Safe = "within the limit"

// sequential tells whether a kind of signal can be decided sequentially.
func sequential(kind signal.Kind) bool {
	return kind.Share() || kind == signal.Mean || kind == signal.Quantile
}

// way settles how a guard decides where that was left out: sequentially for ratios, quantiles and means, and by counting
// for all else and where the count is declared.
func (r *reader) way(n Node, pointer string, rule *guard.Rule, count Node) {
	sequential := sequential(rule.Signal.Kind) && !countsAlone(rule.Limit)
	switch {
	case rule.Way == guard.Sequential && rule.Breach != nil:
		r.wrong(count, pointer+"/breach", "leave breach out, or write decide: count", "a guard that decides sequentially counts no intervals")
	case rule.Way == guard.Sequential && countsAlone(rule.Limit): // told where its limit stands
	case rule.Way == guard.Sequential && !sequential && rule.Signal.Kind != "":
		r.wrong(n, pointer, "write decide: count", "only ratios, shares above a bound, quantiles and means can be decided sequentially, not a %s", rule.Signal.Kind)
	case rule.Way == "" && (rule.Breach != nil || !sequential):
		rule.Way = guard.ByCount
	case rule.Way == "":
		rule.Way = guard.Sequential
	}
	if rule.Way == guard.ByCount && rule.Breach == nil {
		count := defaultCount
		if rule.Signal.Kind == signal.GaugeShare || rule.Signal.Kind == signal.Slope || rule.Signal.Kind == signal.Query {
			count.Samples = 1 // each instance's reading is one
		}
		rule.Breach = &count
	}
}

func oneOf[W ~string](r *reader, n Node, pointer string, words ...W) W {
	var names []string
	for _, word := range words {
		if n.Text == string(word) {
			return word
		}
		names = append(names, string(word))
	}
	r.wrong(n, pointer, didYouMean(n.Text, names), "expected one of %s, not %q", quoted(names), n.Text)
	return words[0]
}

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
		r.wrong(n, pointer, "", "a signal is computed in exactly one way: ratio, per, burn, share-above, apdex, quantile, mean, rate, slope or gauge, the query of a store, or alert")
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

func (r *reader) limit(n Node, pointer string) guard.Limit {
	var limit guard.Limit
	kinds, names := map[string]func(Node, string){}, []string{}
	for _, kind := range guard.LimitKinds() {
		names = append(names, string(kind))
		kinds[string(kind)] = func(n Node, p string) {
			limit.Kind = kind
			if text, is := strings.CutSuffix(n.Text, baseWords[limit.Base()]); is && limit.Moves() {
				n.Text, limit.OfBase = text, true
			}
			limit.Value, limit.Unit = r.measure(n, p)
			if limit.OfBase && limit.Unit != guard.Share {
				r.wrong(n, p, "write it like 20 %"+baseWords[limit.Base()], "expected a per cent%s, not %q", baseWords[limit.Base()], n.Text)
			}
		}
	}
	if ok := r.fields(n, pointer, "a limit", nil, kinds); ok && len(n.Entries) != 1 {
		r.wrong(n, pointer, "", "a limit is one of %s", say.List(names))
	}
	return limit
}

func (r *reader) breach(n Node, pointer string) *guard.Count {
	c := defaultCount
	r.fields(n, pointer, "breach", nil, map[string]func(Node, string){
		"intervals": func(n Node, p string) { c.Intervals = r.count(n, p, "intervals", 1, 100) },
		"of":        func(n Node, p string) { c.Of = r.count(n, p, "of", 1, 100) },
		"samples":   func(n Node, p string) { c.Samples = float64(r.count(n, p, "samples", 1, 1e9)) },
	})
	if c.Intervals > c.Of {
		r.wrong(n, pointer, "", "%d intervals of the last %d can never be reached", c.Intervals, c.Of)
	}
	return &c
}

// units give each unit's base unit and factor.
var units = map[string]struct {
	factor float64
	unit   guard.Unit
}{
	"%": {0.01, guard.Share}, "points": {0.01, guard.Share}, "point": {0.01, guard.Share},
	"B": {1, guard.Bytes}, "kB": {1e3, guard.Bytes}, "MB": {1e6, guard.Bytes}, "GB": {1e9, guard.Bytes},
	"KiB": {1 << 10, guard.Bytes}, "MiB": {1 << 20, guard.Bytes}, "GiB": {1 << 30, guard.Bytes},
	"": {1, guard.Plain},
}

// measure reads a number with its unit: 5 %, 0.5 points, 260 MB, 250ms, 12.
func (r *reader) measure(n Node, pointer string) (float64, guard.Unit) {
	if value, name, ok := quantity(n.Text); ok {
		if unit, known := units[name]; known {
			return value * unit.factor, unit.unit
		}
	}
	if d, err := time.ParseDuration(strings.ReplaceAll(n.Text, " ", "")); err == nil {
		return d.Seconds(), guard.Seconds
	}
	r.wrong(n, pointer, "write it like 5 %, 0.5 points, 260 MB, 250ms or 12", "expected a number with a unit, not %q", n.Text)
	return 0, guard.Plain
}

var quantityPattern = regexp.MustCompile(`^(-?[0-9]+(?:\.[0-9]+)?)\s*([A-Za-z%]*)$`)

func quantity(text string) (value float64, unit string, ok bool) {
	match := quantityPattern.FindStringSubmatch(text)
	if match == nil {
		return 0, "", false
	}
	value, err := strconv.ParseFloat(match[1], 64)
	return value, match[2], err == nil
}

// Standing is how many guards go back by themselves from what is proven, where they are judged by the sequential test.
func (d *Desired) Standing() (guards int) {
	for _, rule := range d.Guards {
		if rule.Way == guard.Sequential && rule.Standing == guard.RollBack && !rule.Limit.Relative() {
			guards++
		}
	}
	return guards
}

// RiskEach is the part of a rollout's risk of a false rollback that each guard has which may stop it by the sequential
// test.
func (d *Desired) RiskEach() float64 {
	sharing := 0
	for _, rule := range d.Guards {
		if rule.Way == guard.Sequential && rule.Then != guard.Tell {
			sharing++
		}
	}
	return d.Rollout.Risk / float64(max(1, sharing))
}
