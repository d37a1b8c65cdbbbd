package simulate

import "testing"

// TestRisk plays rollouts without a regression, in every kind of traffic: hardly any may breach.
func TestRisk(t *testing.T) {
	const rollouts = 40
	kinds := Kinds(1000, 0.01)
	for _, kind := range Kinds(4000, 0.02) {
		if kind.Clusters > 0 { // of which old shows few beside 95 %
			kinds = append(kinds, kind)
		}
	}
	for _, kind := range kinds {
		if kind.Unlike {
			continue // measured, but not promised: see docs/guards.md
		}
		false := 0
		for seed := range uint64(rollouts) {
			plan := Careful(Ratio(0.005), 0.01)
			if kind.Cold > 0 {
				plan.Warm = 5
			}
			if plan.Play(kind, 0, 0, seed).Back {
				false++
			}
		}
		if false > 2 { // with a risk of 1 % three or more of 40 have a chance of 0.7 %, and the seeds are fixed
			t.Errorf("%s: %d of %d rollouts without a regression breach", kind.Name, false, rollouts)
		}
	}
}

// TestDelay sees that a regression is found, and not before it could be.
func TestDelay(t *testing.T) {
	const rollouts = 60
	steady, bound := Kinds(1000, 0.01)[0], Bound(0.01, 0.005, 0.015, 0.05, 0.01, 0.01)
	requests := 0.0
	for seed := range uint64(rollouts) {
		o := Long(Ratio(0.005), 0.01, 0.05, 1000).Play(steady, 0.02, 0, seed)
		if !o.Back {
			t.Errorf("seed %d: a regression was not found", seed)
		}
		requests += o.Requests / rollouts
	}
	if requests < 0.8*bound || requests > 2*bound {
		t.Errorf("found after %.0f requests on average; no sequential test does it in fewer than %.0f", requests, bound)
	}
}
