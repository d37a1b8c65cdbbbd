package guard

import (
	"encoding/json"
	"slices"
	"testing"
)

// TestLimits sees that every kind of limit is told, comes through JSON as it is, and stands in the schema of verdicts.
func TestLimits(t *testing.T) {
	var schema struct {
		Properties struct {
			Limit struct{ Properties map[string]json.RawMessage }
		}
	}
	if err := json.Unmarshal(VerdictSchema, &schema); err != nil {
		t.Fatal(err)
	}
	inSchema := schema.Properties.Limit.Properties
	delete(inSchema, "unit")
	delete(inSchema, "of-base")
	for _, kind := range LimitKinds() {
		if inSchema[string(kind)] == nil {
			t.Errorf("verdict.schema.json does not know %s", kind)
		}
		limit := Limit{Kind: kind, Value: 0.05, Unit: Share, OfBase: kind == BelowOld}
		text, err := json.Marshal(limit)
		var back Limit
		if err == nil {
			err = json.Unmarshal(text, &back)
		}
		if err != nil || back != limit {
			t.Errorf("%s came back as %+v: %v", text, back, err)
		}
	}
	if len(inSchema) != len(LimitKinds()) {
		t.Errorf("verdict.schema.json knows limits that there are not: %d, not %d", len(inSchema), len(LimitKinds()))
	}
	if err := json.Unmarshal([]byte(`{"about": 3, "unit": "plain"}`), &Limit{}); err == nil {
		t.Error("a limit of no kind is read")
	}
	for want, limit := range map[string]Limit{
		"5 %": {AtMost, 0.05, Share, false}, "0.5 points": {AboveOld, 0.005, Share, false}, "3 points": {AbovePast, 0.03, Share, false},
		"260 MB": {AtMost, 260e6, Bytes, false}, "250ms": {AboveOld, 0.25, Seconds, false}, "12": {AtMost, 12, Plain, false},
		"20 % of old": {AboveOld, 0.2, Seconds, true}, "30 % of past": {BelowPast, 0.3, Plain, true},
	} {
		if got := limit.Declared(); got != want {
			t.Errorf("%+v is declared as %q, not %q", limit, got, want)
		}
	}
	for want, limit := range map[string]Limit{
		"at most 5 %": {AtMost, 0.05, Share, false}, "at least 12": {AtLeast, 12, Plain, false}, "at most 0.5 points above old": {AboveOld, 0.005, Share, false},
		"at most 40.0 ms below its past": {BelowPast, 0.04, Seconds, false}, "at most 20 % more than old": {AboveOld, 0.2, Seconds, true}, "at most 30 % less than its past": {BelowPast, 0.3, Plain, true},
		"no limit": {},
	} {
		if got := limit.String(); got != want {
			t.Errorf("%+v is told as %q, not %q", limit, got, want)
		}
	}
	for limit, want := range map[Limit]float64{
		{AtMost, 12, Plain, false}: 12, {AtLeast, 12, Plain, false}: 12, {AboveOld, 0.5, Plain, false}: 10.5, {BelowOld, 0.5, Plain, false}: 9.5,
		{AboveOld, 0.2, Plain, true}: 12, {BelowPast, 0.2, Plain, true}: 8,
	} {
		if got := limit.At(10); got != want {
			t.Errorf("%s of 10 lies at %v, not %v", limit, got, want)
		}
	}
	if got := (Limit{AboveOld, 0.2, Plain, true}).At(-10); got != -8 {
		t.Errorf("a fifth more than -10 is %v", got)
	}
	if !(Limit{Kind: AtLeast, Value: 1}).Looser(Limit{Kind: AtLeast, Value: 2}) || (Limit{Kind: BelowOld, Value: 1}).Looser(Limit{Kind: BelowOld, Value: 2}) {
		t.Error("which limit allows more is wrong")
	}
	if !slices.Equal([]bool{Limit{Kind: AtMost}.Moves(), Limit{Kind: AboveOld}.Moves(), Limit{Kind: AbovePast}.Moves()}, []bool{false, true, true}) {
		t.Error("which limits move is wrong")
	}
}
