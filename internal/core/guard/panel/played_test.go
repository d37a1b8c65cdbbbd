package panel

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/health"
	"aditus/internal/core/rollout"
	"aditus/internal/core/signal"
)

// site is a site on which both cohorts are always well and have the traffic that they are to have.
type site struct {
	share  float64
	counts map[declare.Fingerprint][2]float64 // failed and all
	chance *rand.Rand
}

// serve answers the requests of a beat, of which new fails so many more than 1 %.
func (s *site) serve(requests int, worse float64) {
	for range requests {
		revision, bad := OldSide, 0.01
		if s.chance.Float64() < s.share {
			revision, bad = NewSide, 0.01+worse
		}
		c := s.counts[revision]
		if c[1]++; s.chance.Float64() < bad {
			c[0]++
		}
		s.counts[revision] = c
	}
}

func (s *site) scrapes() (all []Scrape) {
	for _, revision := range []declare.Fingerprint{OldSide, NewSide} {
		c := s.counts[revision]
		all = append(all, Scrape{Instance: string(revision), Revision: revision, Page: signal.Page{"failed": {signal.NewSample(nil, c[0])}, "all": {signal.NewSample(nil, c[1])}}})
	}
	return all
}

func (s *site) observe(verdicts []guard.Verdict) rollout.Observation {
	one := map[string]int{"": 1}
	cohort := rollout.Cohort{Laid: true, Parts: one, Healthy: one, Ready: one, Health: health.Summary{Word: health.Healthy, Total: 1, Healthy: 1}}
	return rollout.Observation{Reached: true, Fresh: true, Old: cohort, New: cohort, Splits: true, Share: s.share, Verdicts: verdicts}
}

// TestPlayedAsLive takes a rollout through its own state machine, evaluation by evaluation, records what its site showed, and
// plays the recording: it comes to the same end, in the same stage, for the same reason, within a beat.
func TestPlayedAsLive(t *testing.T) {
	span := func(d time.Duration) declare.Span { return declare.Span{Duration: d} }
	rules := declare.Rollout{
		Style: declare.Canary, Stages: []declare.Stage{{Share: 0.25, Soak: span(200 * time.Second)}, {Share: 1, Soak: span(100 * time.Second)}},
		Proving: span(200 * time.Second), Deadline: span(time.Minute), Risk: 0.01, Interval: span(every),
	}
	rule := func(name string, limit guard.Limit) guard.Rule {
		return guard.Rule{Name: name, Limit: limit, Way: guard.Sequential, Missing: guard.MissingHolds, Then: guard.RollBack, Signal: signal.Source{Kind: signal.Ratio, Of: signal.Series{Metric: "failed"}, To: &signal.Series{Metric: "all"}}}
	}
	d := &declare.Desired{Rollout: rules, Guards: []guard.Rule{rule("against old", guard.Limit{Kind: guard.AboveOld, Value: 0.02, Unit: guard.Share}), rule("at most", guard.Limit{Kind: guard.AtMost, Value: 0.1, Unit: guard.Share})}}
	for _, test := range []struct {
		worse  float64
		from   float64 // share from which on new is worse
		ending Ending
		where  string
	}{
		{0, 0, EndsProven, ""},
		{0.1, 0, EndsBack, "stage 1 of 3"},
		{0.1, 0.5, EndsBack, "stage 2 of 3"},
		{0.3, 0.97, EndsBack, "stage 3 of 3"},
	} {
		side := func(name declare.Fingerprint) rollout.Side {
			return rollout.Side{Revision: name, Version: string(name), Parts: map[string]int{"": 1}, Proven: true}
		}
		s := &site{counts: map[declare.Fingerprint][2]float64{}, chance: rand.New(rand.NewPCG(1, uint64(1000*test.worse)))}
		state := rollout.Begin(side(OldSide), side(NewSide), rules, rollout.Automatic, "taken", time.Time{}, start)
		state.ID = 7
		var p Panel
		var verdicts []guard.Verdict
		var moments []Moment
		where, ended := "", Ending("")
		const beat = 2 * time.Second
		for now := start; ended == "" && now.Sub(start) < time.Hour; now = now.Add(beat) {
			worse := 0.0
			if s.share >= test.from {
				worse = test.worse
			}
			s.serve(400, worse)
			subject := Subject{Rules: d, Roll: &state, Applied: OldSide}
			evaluates := now.Sub(p.Evaluated()) >= every
			if evaluates {
				p.Evaluate(subject, s.scrapes(), func(string) bool { return true }, now)
				if !state.Given.IsZero() {
					moments = append(moments, Moment{At: now.Sub(state.Given), Scrapes: s.scrapes()})
				}
			}
			verdicts = p.Judge(subject, evaluates, now).Verdicts
			where = state.Where()
			out := rollout.Step(state, s.observe(verdicts), nil, now)
			state = out.State
			for _, i := range out.Intents {
				if i.Do == rollout.SetShare {
					s.share = i.Share
				}
			}
			switch state.Phase {
			case rollout.Proven:
				ended, where = EndsProven, ""
			case rollout.RollingBack:
				ended = EndsBack
			}
		}
		got := Play(d, slices.Values(moments))
		if ended != test.ending || where != test.where {
			t.Errorf("%v from %v: live it was %s in %q, want %s in %q", test.worse, test.from, ended, where, test.ending, test.where)
		}
		if got.Ending != ended && got.Ending != EndsTruncated || got.Ending == EndsBack && (got.Where != where || got.Guard != verdicts[len(verdicts)-1].Guard && got.Guard != verdicts[0].Guard) {
			t.Errorf("%v from %v: live it was %s in %q, and played it is %+v", test.worse, test.from, ended, where, got)
		}
	}
}

// TestPlay plays recordings that are not whole, or go wrong in their own ways.
func TestPlay(t *testing.T) {
	span := func(d time.Duration) declare.Span { return declare.Span{Duration: d} }
	rules := declare.Rollout{Style: declare.Canary, Stages: []declare.Stage{{Share: 0.5, Soak: span(100 * time.Second)}, {Share: 1}}, Proving: span(100 * time.Second), Risk: 0.01, Interval: span(every), WarmUp: span(30 * time.Second)}
	rule := guard.Rule{Name: "errors", Limit: guard.Limit{Kind: guard.AboveOld, Value: 0.02, Unit: guard.Share}, Way: guard.Sequential, Missing: guard.MissingHolds, Then: guard.RollBack, Signal: signal.Source{Kind: signal.Ratio, Of: signal.Series{Metric: "failed"}, To: &signal.Series{Metric: "all"}}}
	record := func(n int, each float64, bad func(i int) float64) (moments []Moment) {
		counts := map[declare.Fingerprint][2]float64{}
		for i := -10; i < n; i++ {
			m := Moment{At: time.Duration(i+1) * every}
			for _, revision := range []declare.Fingerprint{OldSide, NewSide} {
				c := counts[revision]
				share := 0.01
				if revision == NewSide {
					share = bad(i)
				}
				c[0], c[1] = c[0]+each*share, c[1]+each
				counts[revision] = c
				m.Scrapes = append(m.Scrapes, Scrape{Instance: string(revision), Revision: revision, Page: signal.Page{"failed": {signal.NewSample(nil, c[0])}, "all": {signal.NewSample(nil, c[1])}}})
			}
			moments = append(moments, m)
		}
		return moments
	}
	good := func(int) float64 { return 0.01 }
	for _, test := range []struct {
		name    string
		then    guard.Action
		moments []Moment
		want    string // ending at where: guard, waited
	}{
		{"good", guard.RollBack, record(30, 1000, good), "proven at 200 : , []"},
		{"cold", guard.RollBack, record(30, 1000, func(i int) float64 { return map[bool]float64{true: 0.3, false: 0.01}[i < 2] }), "proven at 200 : , []"},
		{"bad and cold", guard.RollBack, record(30, 1000, func(i int) float64 { return map[bool]float64{true: 0.8, false: 0.01}[i < 2] }), "rolled back at 10 stage 1 of 3: errors, []"},
		{"bad while it proves", guard.RollBack, record(30, 1000, func(i int) float64 { return map[bool]float64{true: 0.3, false: 0.01}[i > 13] }), "rolled back at 170 proving: errors, []"},
		{"held", guard.Hold, record(30, 1000, func(i int) float64 { return map[bool]float64{true: 0.3, false: 0.01}[i > 13] }), "held at 170 proving: errors, []"},
		{"told", guard.Tell, record(30, 1000, func(i int) float64 { return 0.3 }), "proven at 200 : , []"},
		{"too few to say", guard.RollBack, record(30, 3, good), "waiting at 100 stage 1 of 3: errors, [stage 1 of 3 proving]"},
		{"a gap in it", guard.RollBack, slices.Concat(record(30, 1000, good)[:15], record(30, 1000, good)[21:]), "waiting at 100 stage 1 of 3: errors, [stage 1 of 3]"},
		{"nothing but its end", guard.RollBack, record(30, 1000, good)[29:], "waiting at 100 stage 1 of 3: errors, [stage 1 of 3 proving]"},
		{"half of it", guard.RollBack, record(12, 1000, good), "unfinished at 120 proving: , []"},
		{"nothing", guard.RollBack, nil, "unfinished at 0 stage 1 of 3: , []"},
	} {
		rule.Then = test.then
		got := Play(&declare.Desired{Rollout: rules, Guards: []guard.Rule{rule}}, slices.Values(test.moments))
		if text := fmt.Sprintf("%s at %.0f %s: %s, %v", got.Ending, got.At, got.Where, got.Guard, got.Waited); text != test.want {
			t.Errorf("%s: %s, want %s", test.name, text, test.want)
		}
		if text, err := json.Marshal(got); err != nil || strings.Contains(string(text), "Inf") {
			t.Errorf("%s: %s, %v", test.name, text, err)
		}
	}
}
