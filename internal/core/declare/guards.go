package declare

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"aditus/internal/core/calendar"
	"aditus/internal/core/guard"
	"aditus/internal/core/say"
	"aditus/internal/core/signal"
)

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
	return kind == signal.GaugeShare || kind == signal.Apdex || kind == signal.Weighted || kind == signal.Query
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
