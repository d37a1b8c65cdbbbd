package simulate

import (
	"testing"

	"aditus/internal/core/guard"
)

// TestSeveral sees that guards of one rollout each follow a signal of their own, in every kind of traffic, and that one that is worse turns it back.
func TestSeveral(t *testing.T) {
	rules := []guard.Rule{Ratio(0.02), Ratio(0.02)}
	for n, suffix := range []string{"0", "1"} {
		rules[n].Name = "errors" + suffix
		rules[n].Signal.Of.Metric, rules[n].Signal.To.Metric = "bad"+suffix, "all"+suffix
	}
	plan := Careful(rules[0], 0.01)
	plan.Guards = rules
	for _, kind := range Kinds(1000, 0.01) {
		o := plan.Several([]Traffic{kind, {Requests: 1000, Bad: 0.01}}, 0.2, 1)
		if !o.Back || len(o.Verdicts) != 2 {
			t.Errorf("%s: %s, %d verdicts", kind.Name, o.Ending, len(o.Verdicts))
		}
	}
}

// TestRivals sees that what is measured beside the guards finds what is much worse, in time, and that those that correct for many looks are
// seldom wrong, as they claim, where requests are independent.
func TestRivals(t *testing.T) {
	const rollouts, above = 60, 0.005
	for _, test := range []struct {
		name  string
		by    Rival
		wrong int // of the rollouts at most
	}{
		{"counting", Counts(guard.Count{Intervals: 8, Of: 10, Samples: 150}), 2},
		{"uncorrected", Uncorrected(0.01), rollouts / 2},
		{"group-sequential", GroupSequential(0.01), 2},
		{"mixture", Mixture(0.01, above), 2},
	} {
		wrong, harmed := 0, 0.0
		for seed := range uint64(rollouts) {
			kind := Traffic{Requests: 1000, Bad: 0.01}
			plan := Careful(guard.Rule{}, 0.01)
			if test.by.Judge(plan.Course(kind, 0, seed), above).Back {
				wrong++
			}
			o := test.by.Judge(plan.Course(kind, 0.1, seed), above)
			if harmed += o.Harmed / rollouts; !o.Back {
				t.Errorf("%s, seed %d: ten points worse were not found", test.name, seed)
			}
		}
		if wrong > test.wrong || harmed < 4 || harmed > 300 {
			t.Errorf("%s: %d of %d are wrong, %.0f harmed", test.name, wrong, rollouts, harmed)
		}
	}
}

// TestQuantiles sees that versions as slow as old stay, and that slower ones go back.
func TestQuantiles(t *testing.T) {
	answers := Answers{Typical: 0.1, Tail: 0.5, Wander: 0.03}
	for _, test := range []struct {
		slower float64
		back   bool
	}{{0, false}, {0.15, true}} {
		for seed := range uint64(4) {
			if o := Careful(Quantile(0.99, 0.05), 0.01).Quantiles(Traffic{Requests: 400}, answers, test.slower, seed); o.Back != test.back {
				t.Errorf("slower by %v, seed %d: %s, %s", test.slower, seed, o.Ending, o.Why)
			}
		}
	}
}

// TestStandingOutage sees that an outage of a minute does not breach a standing guard, and what stays worse does.
func TestStandingOutage(t *testing.T) {
	day := 24 * 360
	if Standing(Traffic{Requests: 1000, Bad: 0.01, Outages: 0.001, Lasts: 6}, 0.03, day, 1) {
		t.Error("an outage of a minute breaches")
	}
	if !Standing(Traffic{Requests: 1000, Bad: 0.05}, 0.03, day, 1) {
		t.Error("what is worse all day does not breach")
	}
}
