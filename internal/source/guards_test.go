package source

import (
	"fmt"
	"math"
	"os"
	"regexp"
	"strings"
	"testing"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
)

// TestGuards reads guards as people write them, and tells what each is held against and how it is decided.
func TestGuards(t *testing.T) {
	s := schema(t)
	for _, test := range []struct{ signal, limit, want string }{
		{"ratio: {of: {counter: r_total, where: {code: '5*'}, except: {path: [/health, '/internal/*']}}, to: {counter: r_total}}", "above-old-by: 0.5 points", "ratio at most 0.5 points above old, sequential"},
		{"ratio: {of: {counter: r_total}, to: {counter: a_total}}", "at-least: 95 %", "ratio at least 95 %, count"},
		{"ratio: {of: {counter: r_total}, to: {counter: a_total}}", "above-old-by: 20 % of old", "ratio at most 20 % more than old, count"},
		{"quantile: {histogram: took_seconds, at: 99 %}", "above-old-by: 20 %", "quantile at most 20 % more than old, count"},
		{"quantile: {histogram: took_seconds, at: 99 %}", "above-old-by: 40ms", "quantile at most 40.0 ms above old, sequential"},
		{"mean: {histogram: took_seconds}", "below-old-by: 1s", "mean at most 1.0 s below old, count"},
		{"rate: {counter: bookings_total}", "at-least: 0.5", "rate at least 0.5, count"},
		{"rate: {counter: bookings_total}", "below-past-by: 30 % of past", "rate at most 30 % less than its past, count"},
		{"per: {of: {counter: sent_bytes_total}, to: {counter: r_total}}", "at-most: 2 MB", "per at most 2.00 MB, count"},
		{"per: {of: {counter: queries_total}, to: {counter: r_total}}", "above-old-by: 10 %", "per at most 10 % more than old, count"},
		{"gauge: {metric: pool_used, over: pool_size, where: {pool: main}}", "at-most: 80 %", "gauge-share at most 80 %, count"},
		{"gauge: {metric: pool_used, over: pool_size}", "above-old-by: 0.2", "gauge-share at most 0.200 above old, count"},
		{"apdex: {histogram: took_seconds, bound: 300ms}", "at-least: 0.9", "apdex at least 0.9, count"},
		{"apdex: {histogram: took_seconds, bound: 300ms}", "below-old-by: 2 points", "apdex at most 2 points below old, count"},
		{"weighted: {histogram: took_seconds, weights: {1s: 0.5, 250ms: 1}}", "at-least: 90 %", "weighted at least 90 %, count"},
		{"slope: {metric: process_resident_memory_bytes, over: 30m}", "at-most: 20 MB", "slope at most 20.0 MB, count"},
		{"rate: {counter: instance_restarts_total}", "at-most: 0.01", "rate at most 0.01, count"},
		{"gauge: {metric: http.server.active, take: max}", "at-most: 40", "gauge-max at most 40, count"},
		{"store: harbour, ratio: {of: {counter: r_total, where: {code: '5*'}}, to: {counter: r_total}}", "above-old-by: 0.5 points", "ratio at most 0.5 points above old, sequential"},
		{"store: harbour, cohort: {label: app_version, is: version}, quantile: {histogram: took_seconds, at: 99 %}", "at-most: 300ms", "quantile at most 300 ms, sequential"},
		{"store: harbour, query: 'max(queue{version=\"%version%\"})'", "above-old-by: 20 % of old", "query at most 20 % more than old, count"},
		{"burn: {of: {counter: r_total, where: {code: '5*'}}, to: {counter: r_total}, objective: 99.9 %, over: [1h, 5m]}", "at-most: 14.4", "burn at most 14.4, count"},
		{"mean: {histogram: took_seconds}", "at-most: 200ms}\n    hours:\n      - {from: 22:00, to: 6:00, zone: Atlantic/Reykjavik, limit: {at-most: 2s}", "mean at most 200 ms, sequential"},
		{"each: path, ratio: {of: {counter: r_total, where: {code: '5*'}}, to: {counter: r_total}}", "above-old-by: 2 points", "ratio at most 2 points above old, sequential"},
		{"workload: tides, rate: {counter: calls_total}", "below-past-by: 30 % of past", "rate at most 30 % less than its past, count"},
		{"rate: {lines: 'panic|out of memory'}", "at-most: 0.1", "rate at most 0.1, count"},
		{"per: {of: {lines: '(?i)error'}, to: {counter: r_total}}", "above-old-by: 20 %", "per at most 20 % more than old, count"},
		{"store: harbour, query: 'sum(up)'", "at-least: 95 %", "query at least 95 %, count"},
	} {
		text := strings.NewReplacer("share-above: {histogram: h, bound: 250ms}", test.signal, "at-most: 5 %", test.limit).Replace(good)
		d, problems := readOne("a.yaml", text)
		if len(problems) > 0 {
			t.Errorf("%s, %s: %v", test.signal, test.limit, problems)
			continue
		}
		rule := d.Guards[0]
		if got := fmt.Sprintf("%s %s, %s", rule.Signal.Kind, rule.Limit, rule.Way); got != test.want {
			t.Errorf("%s, %s: %s, want %s", test.signal, test.limit, got, test.want)
		}
		if value, err := declare.ReadLimit(rule.Limit.Declared(), rule.Limit); err != nil || math.Abs(value-rule.Limit.Value) > 1e-9*value {
			t.Errorf("%s is read as %v: %v", rule.Limit.Declared(), value, err)
		}
		if value, ok := asJSON(t, text); !ok || s.Validate(value) != nil {
			t.Errorf("%s, %s: %v", test.signal, test.limit, s.Validate(value))
		}
		if again, problems := readOne("a.yaml", strings.Replace(text, test.limit, strings.SplitN(test.limit, ":", 2)[0]+": "+rule.Limit.Declared(), 1)); len(problems) > 0 || again.Guards[0].Limit != rule.Limit {
			t.Errorf("%s is declared as %s: %v", rule.Limit, rule.Limit.Declared(), problems)
		}
	}
	text, err := os.ReadFile("../../docs/guards.md")
	if err != nil {
		t.Fatal(err)
	}
	_, section, _ := strings.Cut(string(text), "## Guards as people write them")
	section, _, _ = strings.Cut(section, "\n## ")
	written := 0
	for _, row := range strings.Split(section, "\n") {
		if !strings.Contains(row, "`signal: ") || strings.Contains(row, "…") {
			continue
		}
		declaration := "aditus: 1\nworkload: web\nsites: [drydock]\nparts:\n  app: {kind: service, artifact: r.example/web:1, instances: 1, ports: {http: 80}, metrics: {port: http}}\nguards:\n  - name: g\n"
		for i, span := range strings.Split(row, "`") {
			if i%2 == 1 && regexp.MustCompile("^(signal|limit|hours|breach|then): ").MatchString(span) {
				declaration += "    " + span + "\n"
			}
		}
		if _, problems := readOne("a.yaml", declaration); len(problems.Wrong()) > 0 {
			t.Errorf("%s: %v", row, problems)
		}
		if value, ok := asJSON(t, declaration); !ok || s.Validate(value) != nil {
			t.Errorf("%s: %v", row, s.Validate(value))
		}
		written++
	}
	if written < 15 {
		t.Errorf("docs/guards.md has %d guards as people write them", written)
	}
	for _, test := range []struct{ signal, limit, more, want string }{
		{"ratio: {of: {counter: r_total}, to: {counter: a_total}}", "above-old-by: 20 %", "", "20 % can be so many points, or a share of old; write 20 points, or 20 % of old"},
		{"share-above: {histogram: h, bound: 250ms}", "below-past-by: 1%", "", "write 1 points, or 1% of past"},
		{"ratio: {of: {counter: r_total}, to: {counter: a_total}}", "at-least: 95 %", "\n    decide: sequential", "a lower limit, and one that is a share of old or of the past, is decided by counting intervals"},
		{"mean: {histogram: h}", "above-old-by: 20 % of past", "", "expected a number with a unit"},
		{"mean: {histogram: h}", "above-old-by: 20 MB of old", "", "expected a per cent of old"},
		{"rate: {counter: c}", "below-old-by: 20 % of old", "", "one cannot be held against the other"},
		{"gauge: {metric: a, over: b, take: max}", "at-most: 5 %", "", "the mean over the instances is taken"},
		{"per: {of: {counter: a}, to: {counter: b}}", "at-most: 5 %", "", "the limit's unit does not fit the signal"},
		{"slope: {metric: a, over: 10s}", "at-most: 5", "", "a slope is told over a while from 1m0s to 6h0m0s"},
		{"query: 'sum(up)'", "at-most: 5", "", "a query is asked of a metrics store; write store: NAME beside it"},
		{"store: a, query: 'sum(up)'", "above-old-by: 5", "", "the query is about both cohorts at once"},
		{"store: a, query: 'up', cohort: {label: v, is: version}", "at-most: 5", "", "a query tells its cohorts apart by itself"},
		{"cohort: {label: v, is: version}, mean: {histogram: h}", "at-most: 5s", "", "the instances themselves tell which cohort they are of"},
		{"store: a, cohort: {label: v, is: tag}, mean: {histogram: h}", "at-most: 5s", "", "expected one of"},
		{"store: a, rate: {counter: c}, mean: {histogram: h}", "at-most: 5s", "", "exactly one way"},
		{"workload: tides, mean: {histogram: h}", "above-old-by: 5s", "", "what tides shows is the same for old and new"},
		{"store: a, workload: tides, mean: {histogram: h}", "at-most: 5s", "", "a metrics store is not asked by workload"},
		{"store: a, rate: {lines: x}", "at-most: 5", "", "a metrics store has no logs"},
		{"rate: {lines: '(x'}", "at-most: 5", "", "is no regular expression"},
		{"rate: {lines: x, counter: a}", "at-most: 5", "", "takes one of counter and lines"},
		{"rate: {lines: x, where: {a: b}}", "at-most: 5", "", "lines of a log have no labels"},
		{"rate: {}", "at-most: 5", "", "takes one of counter and lines"},
		{"burn: {of: {counter: a}, to: {counter: b}, objective: 100 %, over: [1h, 5m]}", "at-most: 14", "", "an objective is the share that must be good, between 0 % and 100 %"},
		{"burn: {of: {counter: a}, to: {counter: b}, objective: 99 %, over: [5m, 1h]}", "at-most: 14", "", "the shorter window is 1m at least"},
		{"burn: {of: {counter: a}, to: {counter: b}, objective: 99 %, over: [24h, 1m]}", "at-most: 14", "", "48 times that at most"},
		{"burn: {of: {counter: a}, to: {counter: b}, objective: 99 %, over: 1h}", "at-most: 14", "", "over two windows"},
		{"burn: {of: {counter: a}, to: {counter: b}, over: [1h, 5m]}", "at-most: 14", "", "objective"},
		{"mean: {histogram: h}", "at-most: 2s", "\n    hours: [{from: 25:00, to: 6:00, limit: {at-most: 2s}}]", "no time of day"},
		{"mean: {histogram: h}", "at-most: 2s", "\n    hours: [{from: 22:00, to: 6:00, limit: {at-most: 5}}]", "limits by hours of the day are of one kind"},
		{"mean: {histogram: h}", "above-old-by: 2s", "\n    hours: [{from: 22:00, to: 6:00, limit: {above-old-by: 5s}}]", "limits by hours of the day are of one kind"},
		{"mean: {histogram: h}", "at-most: 2s", "\n    hours: [{from: 22:00, to: 6:00, zone: Nowhere, limit: {at-most: 5s}}]", "there is no time zone"},
		{"mean: {histogram: h}", "at-most: 2s", "\n    hours: {from: 22:00}", "hours must be a list"},
		{"each: path, rate: {counter: c}", "below-past-by: 20 % of past", "", "the past is kept of all values together"},
		{"each: path, rate: {lines: c}", "at-most: 2", "", "each is a label of a metric"},
		{"weighted: {histogram: h, weights: {250ms: 2}}", "at-least: 0.9", "", "a weight is a number from 0 to 1"},
		{"weighted: {histogram: h, weights: {soon: 1}}", "at-least: 0.9", "", "expected a number with a unit"},
		{"weighted: {histogram: h, weights: {}}", "at-least: 0.9", "", "there are 1 to 20 weights"},
		{"alert: pager", "at-most: 5", "", "an alert fires or not: one that does is a breach; leave limit out"},
		{"where: {code: a}, mean: {histogram: h}", "at-most: 5s", "", "selects alerts by their labels; write it under mean"},
		{"gauge: {metric: two words}", "at-most: 5", "", `"two words" is no name of a metric`},
	} {
		text := strings.NewReplacer("share-above: {histogram: h, bound: 250ms}", test.signal, "at-most: 5 %}", test.limit+"}"+test.more).Replace(good)
		_, problems := readOne("a.yaml", text)
		var all []string
		for _, p := range problems {
			all = append(all, p.Error())
		}
		if told := strings.Join(all, "\n"); !strings.Contains(told, test.want) {
			t.Errorf("%s, %s: %s, want %q", test.signal, test.limit, told, test.want)
		}
	}
}

// TestSilent warns of guards whose signals nobody can read where the declaration is to be taken, once each, at their place.
func TestSilent(t *testing.T) {
	text := strings.Replace(good, "share-above:", "store: pier, share-above:", 1)
	asked := 0
	_, problems := Load(t.Context(), []File{{Name: "a.yaml", Text: []byte(text)}}, Options{Silent: func(rule guard.Rule) error {
		asked++
		return fmt.Errorf("there is no %s", rule.Signal.Store)
	}})
	if len(problems) != 1 || !problems[0].Warning || problems[0].Line < 10 || !strings.Contains(problems[0].Message, "is silent: there is no pier") || asked == 0 {
		t.Errorf("%v, asked %d times", problems, asked)
	}
}
