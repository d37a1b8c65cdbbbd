package source

import (
	"context"
	"fmt"
	"strings"
	"testing"
)

// TestDoubts sees that guards that cannot do what they seem to promise are told at check, and refused by nobody.
func TestDoubts(t *testing.T) {
	for _, test := range []struct{ parts, guard, want string }{
		{"", "signal: {ratio: {of: {counter: a_total}, to: {counter: b_total}}}\n    limit: {at-most: 5 %}", "nothing feeds the guard g: no part says where its metrics page with a_total is"},
		{"\n    metrics: {port: http}", "signal: {ratio: {of: {counter: a_total}, to: {counter: b_total}}}\n    limit: {at-most: 5 %}", ""},
		{"", "signal: {gauge: {metric: process_resident_memory_bytes}}\n    limit: {at-most: 5 GB}", ""},
		{"", "signal: {mean: {histogram: route_request_duration_seconds}}\n    limit: {at-most: 1s}", "nothing feeds the guard g: route_request_duration_seconds is what routes count, and there is none"},
		{"\n  entry: {kind: route, host: a.example, to: {service: app, port: http}}", "signal: {mean: {histogram: route_request_duration_seconds}}\n    limit: {at-most: 1s}", ""},
		{"\n    metrics: {port: http}", "signal: {ratio: {of: {counter: a_total}, to: {counter: b_total}}}\n    limit: {at-most: 100 %}", "the guard g never breaches: nothing can be beyond the limit of at most 100 %"},
		{"\n    metrics: {port: http}", "signal: {ratio: {of: {counter: a_total}, to: {counter: b_total}}}\n    limit: {above-old-by: 1 points}\n    breach: {intervals: 3, of: 5}", "holds new against old by counting"},
		{"\n    metrics: {port: http}", "signal: {ratio: {of: {counter: a_total}, to: {counter: b_total}}}\n    limit: {above-old-by: 1 points}\n    breach: {intervals: 3, of: 5}\n    then: tell", ""},
		{"", many(11, "signal: {mean: {histogram: process_cpu_seconds_total}}\n    limit: {at-most: 1s}"), "11 guards share the 1 % of false-rollbacks: each has 0.09 %, and takes 1.5 times the evidence that one alone would"},
		{"", many(10, "signal: {mean: {histogram: process_cpu_seconds_total}}\n    limit: {at-most: 1s}"), ""},
		{"", many(11, "signal: {mean: {histogram: process_cpu_seconds_total}}\n    limit: {at-most: 1s}\n    then: tell"), ""},
		{"", many(6, "signal: {gauge: {metric: process_resident_memory_bytes}}\n    limit: {at-most: 5 GB}"), "6 guards roll back by counting"},
	} {
		text := "aditus: 1\nworkload: web\nsites: [north, south]\nparts:\n  app:\n    kind: service\n    artifact: registry.skerry.example/web/app:1.0.0\n    ports: {http: 80}" + test.parts + "\nguards:\n  - name: g\n    " + test.guard + "\n"
		found, problems := Load(context.Background(), []File{{Name: "a.yaml", Text: []byte(text)}}, Options{})
		switch {
		case len(found.Declarations) != 2 || len(problems.Wrong()) > 0:
			t.Errorf("%s: it is refused: %v", test.guard, problems)
		case test.want == "" && len(problems) > 0:
			t.Errorf("%s: %v", test.guard, problems)
		case test.want != "" && (len(problems) != 1 || !strings.Contains(problems[0].Error(), test.want) || !strings.HasPrefix(problems[0].Error(), "a.yaml:")):
			t.Errorf("%s: %v, want %q", test.guard, problems, test.want)
		}
	}
}

// many is so many guards alike, of which the first has its name before it.
func many(n int, guard string) string {
	text := guard
	for i := 1; i < n; i++ {
		text += fmt.Sprintf("\n  - name: g%d\n    %s", i, guard)
	}
	return text
}
