package source

import (
	"encoding/json"
	"strings"
	"testing"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
)

const workload = `aditus: 1
workload: web
sites: [north]
parts:
  app: {kind: service, artifact: r.example/web:1, instances: 10}
  smoke: {kind: task, artifact: r.example/smoke:1}
`

// TestStyles reads rollouts of all styles, what they leave out too, and holds them against the schema.
func TestStyles(t *testing.T) {
	for _, test := range []struct{ name, rollout, want string }{
		{"nothing", "", `{"style":"canary","stages":[{"share":0.1,"soak":"2m"},{"share":1,"soak":"0s"}],"extra":"1","newer":"supersedes","false-rollbacks":0.01,`},
		{"rolling", "{style: rolling}", `{"style":"rolling","stages":[{"share":1,"soak":"0s"}],"extra":"1",`},
		{"batches", "{style: rolling, batch: 4, soak: 5s, extra: 25 %, missing: 1, steady: 10s}", `"stages":[{"share":0.4,"soak":"5s"},{"share":0.8,"soak":"5s"},{"share":1,"soak":"5s"}],"extra":"25 %","missing":"1","steady":"10s",`},
		{"a check", "{stages: [{share: 20 %, soak: 10s, check: smoke}, {share: 100 %}]}", `"stages":[{"share":0.2,"soak":"10s","checks":["smoke"]},{"share":1,"soak":"0s"}]`},
		{"a check of the first batch", "{style: rolling, batch: 5, check: smoke}", `"stages":[{"share":0.5,"soak":"0s","checks":["smoke"]},{"share":1,"soak":"0s"}]`},
		{"one batch", "{style: rolling, batch: 100 %}", `"stages":[{"share":1,"soak":"0s"}]`},
		{"blue-green", "{style: blue-green, try: {for: 30s, task: smoke, sign-off: a lead}, keep: 1h}", `{"style":"blue-green","stages":[{"share":0,"soak":"30s","sign-off":"a lead"},{"share":1,"soak":"0s"}],"try":"smoke","keep":"1h",`},
		{"blue-green as it is", "{style: blue-green, newer: waits, false-rollbacks: 2 %}", `"keep":"30m","newer":"waits","false-rollbacks":0.02,`},
	} {
		text := workload
		if test.rollout != "" {
			text += "rollout: " + test.rollout + "\n"
		}
		d, problems := readOne("a.yaml", text)
		if len(problems) > 0 {
			t.Errorf("%s: %v", test.name, problems)
			continue
		}
		got, err := json.Marshal(d.Rollout)
		if err != nil || !strings.Contains(string(got), test.want) {
			t.Errorf("%s is read as %s (%v), want %s", test.name, got, err, test.want)
		}
		var again declare.Rollout
		if err := json.Unmarshal(got, &again); err != nil || again.Extra != d.Rollout.Extra || again.Missing != d.Rollout.Missing {
			t.Errorf("%s: %s comes back as %+v (%v)", test.name, got, again, err)
		}
	}
}

func TestStyleProblems(t *testing.T) {
	for rollout, want := range map[string]string{
		"{style: rollin}":                        `expected one of canary, rolling, blue-green, not "rollin"; did you mean "rolling"?`,
		"{style: rolling, stages: []}":           `a rolling rollout has no key "stages"`,
		"{style: rolling, extra: 0}":             "nothing can ever be exchanged; write extra: 1, or missing: 1",
		"{style: rolling, extra: some}":          `expected a number of instances or a share of them, not "some"; write it like 2 or 25 %`,
		"{style: blue-green, extra: 1}":          `a blue-green rollout has no key "extra"`,
		"{style: blue-green, try: {task: smok}}": `there is no task "smok" among the parts; did you mean "smoke"?`,
		"{style: blue-green, try: {task: app}}":  `there is no task "app" among the parts`,
		"{stages: [{share: 10 %, check: smoke}, {share: 20 %, check: smoke}, {share: 100 %}]}": "the task smoke is the check of a stage before",
		"{style: rolling, check: smok}": `there is no task "smok" among the parts; did you mean "smoke"?`,
		"{false-rollbacks: 50 %}":       "more than 20 % of all good revisions rolled back is no guard",
		"{newer: never}":                `expected one of supersedes, waits, not "never"`,
		"{stages: [{share: 10 %, guards: [slow]}, {share: 100 %}]}": `there is no guard "slow"`,
	} {
		_, problems := readOne("a.yaml", workload+"rollout: "+rollout+"\n")
		if len(problems) == 0 || !strings.Contains(problems[0].Error(), want) {
			t.Errorf("%s: %v, want %s", rollout, problems, want)
		}
	}
	many := strings.Replace(workload, "instances: 10", "instances: 1000", 1)
	if _, problems := readOne("a.yaml", many+"rollout: {style: rolling, batch: 2}\n"); len(problems) != 1 || !strings.Contains(problems[0].Error(), "500 batches are more than 100; write batch: 10 or more") {
		t.Errorf("%v", problems)
	}
}

// TestWays sees how a guard decides where that is left out.
func TestWays(t *testing.T) {
	for guardText, want := range map[string]guard.Way{
		"signal: {ratio: {of: {counter: a}, to: {counter: b}}}\n    limit: {at-most: 5 %}":                                    guard.Sequential,
		"signal: {mean: {histogram: h}}\n    limit: {above-past-by: 20ms}":                                                    guard.Sequential,
		"signal: {ratio: {of: {counter: a}, to: {counter: b}}}\n    limit: {at-most: 5 %}\n    breach: {intervals: 2, of: 3}": guard.ByCount,
		"signal: {ratio: {of: {counter: a}, to: {counter: b}}}\n    limit: {at-most: 5 %}\n    decide: count":                 guard.ByCount,
		"signal: {quantile: {histogram: h, at: 99 %}}\n    limit: {at-most: 500ms}":                                           guard.Sequential,
		"signal: {gauge: {metric: m}}\n    limit: {at-most: 5}":                                                               guard.ByCount,
	} {
		d, problems := readOne("a.yaml", workload+"guards:\n  - name: g\n    "+guardText+"\n")
		if len(problems) > 0 || d.Guards[0].Way != want || (d.Guards[0].Breach != nil) != (want == guard.ByCount) {
			t.Errorf("%s: %+v (%v), want %s", guardText, d.Guards, problems, want)
		}
	}
	for text, want := range map[string]string{
		"limit: {above-old-by: 1 points}\n    safe: no worse than old": "",
		"limit: {above-old-by: 1 points}\n    safe: within the limit":  "",
		"limit: {at-most: 5 %}\n    safe: no worse than old":           "safe says what a limit above old protects",
		"limit: {above-old-by: 1 points}\n    safe: nobody":            `expected one of within the limit, no worse than old, not "nobody"`,
	} {
		d, problems := readOne("a.yaml", workload+"guards:\n  - name: g\n    signal: {ratio: {of: {counter: a}, to: {counter: b}}}\n    "+text+"\n")
		switch {
		case want != "" && (len(problems) != 1 || !strings.Contains(problems[0].Error(), want)):
			t.Errorf("%s: %v, want %q", text, problems, want)
		case want == "" && (len(problems) > 0 || (d.Guards[0].Safe == guard.NoWorse) != strings.Contains(text, "no worse")):
			t.Errorf("%s: %+v, %v", text, d.Guards, problems)
		}
	}
	_, problems := readOne("a.yaml", workload+"guards:\n  - name: g\n    signal: {gauge: {metric: m}}\n    limit: {at-most: 5}\n    decide: sequential\n")
	if len(problems) != 1 || !strings.Contains(problems[0].Error(), "not a gauge; write decide: count") {
		t.Errorf("%v", problems)
	}
}
