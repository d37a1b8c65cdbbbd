package scrape_test

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/guard/panel"
	"aditus/internal/core/signal"
	"aditus/internal/scrape"
)

func TestReadRecording(t *testing.T) {
	for _, test := range []struct{ line, want string }{
		{`{"name":"a","scrapes":[{"at":10,"cohort":"new","instance":"1","started":-5,"metrics":{"r_total{code=\"500\"}":3,"g":"+Inf","h":"NaN"}},{"at":0,"cohort":"old","instance":"1"},{"at":13,"cohort":"old","instance":"2","unread":"too busy"}]}`, ""},
		{`{}`, ""},
		{`{"name":"a","scrapes":[{"cohort":"new","instance":"1"}]}`, "scrape 1: write at and started as seconds"},
		{`{"scrapes":[{"at":1e12,"cohort":"new","instance":"1"}]}`, "scrape 1: write at and started as seconds"},
		{`{"scrapes":[{"at":1,"cohort":"green","instance":"1"}]}`, `scrape 1: the cohort is old or new, not "green"`},
		{`{"scrapes":[{"at":1,"cohort":"new"}]}`, "scrape 1 names no instance"},
		{`{"scrapes":[{"at":1,"cohort":"new","instance":"1","metrics":{"r total":1}}]}`, `"r total" is no name of a metric with its labels`},
		{`{"scrapes":[{"at":1,"cohort":"new","instance":"1","metrics":{"r 1\ns":1}}]}`, `is no name of a metric`},
		{`{"scrapes":[{"at":1,"cohort":"new","instance":"1","metrics":{"r":"many"}}]}`, `"many" is no number; write one, or "+Inf"`},
		{`{"scrapes":[{"at":1,"cohort":"new","instance":"1","metric":{}}]}`, `unknown field "metric"; aditus schema recording says`},
		{`[1]`, "it is no recording"},
		{`{"name":"a"`, "it is no recording"},
	} {
		name, moments, err := scrape.ReadRecording([]byte(test.line), 10*time.Second)
		if test.want == "" {
			if err != nil {
				t.Errorf("%s: %v", test.line, err)
			}
			continue
		}
		if err == nil || !strings.Contains(err.Error(), test.want) || len(moments) > 0 {
			t.Errorf("%s: %q, %v, want %q", test.line, name, err, test.want)
		}
	}
	name, moments, _ := scrape.ReadRecording([]byte(`{"name":"a","scrapes":[{"at":10,"cohort":"new","instance":"1","started":-5,"metrics":{"r_total{code=\"500\"}":3}},{"at":0,"cohort":"old","instance":"1"},{"at":13,"cohort":"old","instance":"2","unread":"too busy"}]}`), 10*time.Second)
	if name != "a" || len(moments) != 2 || moments[0].At != 0 || len(moments[1].Scrapes) != 2 || moments[1].At != 10*time.Second {
		t.Fatalf("%q, %+v", name, moments)
	}
	new, old := moments[1].Scrapes[0], moments[1].Scrapes[1]
	if new.Revision != "new" || !new.Started.Equal(time.Unix(-5, 0)) || new.Page["r_total"][0].Value != 3 || new.Page["r_total"][0].Labels["code"] != "500" || old.Unread != "too busy" || old.Instance == new.Instance {
		t.Errorf("%+v, %+v", new, old)
	}
}

// FuzzRecording sees that no line of a recording, however odd, does more than come to an end.
func FuzzRecording(f *testing.F) {
	f.Add(`{"name":"a","scrapes":[{"at":10,"cohort":"new","instance":"1","started":-5,"metrics":{"bad_total{code=\"500\"}":3,"all_total":"+Inf"}},{"at":0,"cohort":"old","instance":"1"},{"at":13,"cohort":"old","instance":"2","unread":"too busy"}]}`)
	f.Add(`{"scrapes":[{"at":-10,"cohort":"old","instance":"1","metrics":{"all_total":1,"bad_total":0}},{"at":0,"cohort":"old","instance":"1","metrics":{"all_total":100,"bad_total":-1}},{"at":10,"cohort":"new","instance":"1","metrics":{"all_total":1e300,"bad_total":"NaN"}}]}`)
	rules := declare.Rollout{Style: declare.Canary, Stages: []declare.Stage{{Share: 0.1, Soak: declare.Span{Duration: 20 * time.Second}}, {Share: 1}}, Proving: declare.Span{Duration: 20 * time.Second}, Risk: 0.01, Interval: declare.Span{Duration: 10 * time.Second}, WarmUp: declare.Span{Duration: 5 * time.Second}}
	d := &declare.Desired{Rollout: rules, Guards: []guard.Rule{{
		Name: "bad", Way: guard.Sequential, Limit: guard.Limit{Kind: guard.AboveOld, Value: 0.01, Unit: guard.Share}, Missing: guard.MissingHolds, Then: guard.RollBack,
		Signal: signal.Source{Kind: signal.Ratio, Of: signal.Series{Metric: "bad_total"}, To: &signal.Series{Metric: "all_total"}},
	}}}
	f.Fuzz(func(t *testing.T, line string) {
		_, moments, err := scrape.ReadRecording([]byte(line), 10*time.Second)
		if err != nil {
			return
		}
		if _, err := json.Marshal(panel.Play(d, slices.Values(moments))); err != nil {
			t.Errorf("it comes to what cannot be written: %v", err)
		}
	})
}
