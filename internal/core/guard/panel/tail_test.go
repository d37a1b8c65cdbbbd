package panel

import (
	"math"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/rollout"
	"aditus/internal/core/signal"
)

// TestQuantiles plays rollouts under a guard on a quantile, with answers whose times have a long tail, counted in buckets: what
// is as slow as old is hardly ever rolled back, however the quantile itself jumps from interval to interval and whatever slows
// both, and what is slower is found.
func TestQuantiles(t *testing.T) {
	above, most := guard.Limit{Kind: guard.AboveOld, Value: 0.05, Unit: guard.Seconds}, guard.Limit{Kind: guard.AtMost, Value: 0.6, Unit: guard.Seconds}
	for _, test := range []struct {
		name     string
		limit    guard.Limit
		requests int // in an interval, a quarter of them to new
		slower   float64
		storms   bool // both are three times as slow now and then
		breaches [2]int
		clears   [2]int
		silent   string
	}{
		{"as old", above, 400, 1, false, [2]int{0, 0}, [2]int{0, 8}, ""},
		{"as old, and both are slow at times", above, 400, 1, true, [2]int{0, 0}, [2]int{0, 8}, ""},
		{"slower by less than is allowed", guard.Limit{Kind: guard.AboveOld, Value: 0.3, Unit: guard.Seconds}, 400, 1.4, false, [2]int{0, 0}, [2]int{0, 8}, ""},
		{"twice as slow", above, 400, 2, false, [2]int{8, 8}, [2]int{0, 0}, ""},
		{"far within a fixed limit", most, 400, 0.5, false, [2]int{0, 0}, [2]int{7, 8}, ""},
		{"beyond a fixed limit", most, 400, 2, false, [2]int{7, 8}, [2]int{0, 1}, ""},
		{"too few to know what is usual", above, 4, 1, false, [2]int{0, 0}, [2]int{0, 0}, "the quantile 0.99 of old takes 1000 observations of it to be known"},
		{"beyond all buckets", guard.Limit{Kind: guard.AtMost, Value: 9, Unit: guard.Seconds}, 400, 1, false, [2]int{0, 0}, [2]int{0, 0}, "no bucket of took_seconds reaches 9.0 s"},
	} {
		breaches, clears, why := 0, 0, ""
		for seed := range uint64(8) {
			v := played(test.limit, test.requests, test.slower, test.storms, seed)
			switch v.Word {
			case guard.Breach:
				if breaches++; v.New == nil || v.New.Value < 0.6 || v.New.Value > 3 || v.New.Low >= v.New.Value || v.New.High <= v.New.Value || test.limit.Relative() && (v.Difference == nil || v.Difference.Value < 0.2) {
					t.Errorf("%s: it shows %+v, %+v", test.name, v.New, v.Difference)
				}
			case guard.Clear:
				clears++
			case guard.Silent:
				why = v.Why
			}
		}
		if breaches < test.breaches[0] || breaches > test.breaches[1] || clears < test.clears[0] || clears > test.clears[1] || !strings.Contains(why, test.silent) || test.silent == "" && why != "" {
			t.Errorf("%s: %d breaches, %d clear of 8, silent as %q", test.name, breaches, clears, why)
		}
	}
}

// played plays half an hour of a quarter of the traffic and gives the verdict at the end, or the first breach.
func played(limit guard.Limit, requests int, slower float64, storms bool, seed uint64) guard.Verdict {
	chance := rand.New(rand.NewPCG(seed, 9))
	rule := guard.Rule{Name: "tail", Limit: limit, Way: guard.Sequential, Missing: guard.MissingHolds, Then: guard.RollBack, Signal: signal.Source{Kind: signal.Quantile, Of: signal.Series{Metric: "took_seconds"}, Quantile: 0.99}}
	rules := declare.Rollout{Risk: 0.01, Interval: declare.Span{Duration: every}, Stages: []declare.Stage{{Share: 0.25}, {Share: 1}}}
	side := func(name declare.Fingerprint) rollout.Side {
		return rollout.Side{Revision: name, Parts: map[string]int{"app": 1}}
	}
	s := Subject{Rules: &declare.Desired{Rollout: rules, Guards: []guard.Rule{rule}}, Roll: &rollout.State{ID: 7, Phase: rollout.Settling, Began: start.Add(24 * every), Rules: rules, Old: side("old"), New: side("new")}, Applied: "old"}
	edges := []float64{0.025, 0.05, 0.1, 0.2, 0.3, 0.4, 0.5, 0.65, 0.8, 1, 1.5, 2.5, 5}
	var p Panel
	counts := map[string]map[float64]float64{"old": {}, "new": {}}
	totals := map[string]float64{}
	var v guard.Verdict
	storm := 0
	for n := range 184 {
		now := start.Add(time.Duration(n) * every)
		if n == 24 {
			s.Roll.Phase, s.Roll.Shared = rollout.Soaking, now.Add(-every)
		}
		common := 1.0
		if storm--; storm > 0 {
			common = 3
		} else if storms && chance.IntN(30) == 0 {
			storm = 8
		}
		var scrapes []Scrape
		for id, of := range map[string]int{"old": requests * 3 / 4, "new": requests / 4} {
			times := common
			if id == "new" {
				times *= slower
			}
			r := rand.New(rand.NewPCG(seed, uint64(n)<<1|uint64(len(id)+int(id[0]))&1))
			for range of {
				took := 0.1 * times * math.Exp(0.7*r.NormFloat64())
				for _, edge := range edges {
					if took <= edge {
						counts[id][edge]++
					}
				}
			}
			totals[id] += float64(of)
			page := signal.Page{"took_seconds_count": {signal.NewSample(nil, totals[id])}, "took_seconds_sum": {signal.NewSample(nil, totals[id])}}
			for _, edge := range edges {
				page["took_seconds_bucket"] = append(page["took_seconds_bucket"], signal.NewSample(map[string]string{"le": strconv.FormatFloat(edge, 'g', -1, 64)}, counts[id][edge]))
			}
			page["took_seconds_bucket"] = append(page["took_seconds_bucket"], signal.NewSample(map[string]string{"le": "+Inf"}, totals[id]))
			scrapes = append(scrapes, Scrape{Instance: id, Part: "app", Revision: declare.Fingerprint(id), Page: page})
		}
		p.Evaluate(s, scrapes, func(string) bool { return true }, now)
		if j := p.Judge(s, true, now); len(j.Verdicts) > 0 {
			if v = j.Verdicts[0]; v.Word == guard.Breach {
				return v
			}
		}
	}
	return v
}
