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
	for _, kind := range LimitKinds() {
		if inSchema[string(kind)] == nil {
			t.Errorf("verdict.schema.json does not know %s", kind)
		}
		limit := Limit{Kind: kind, Value: 0.05, Unit: Share}
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
		"5 %": {AtMost, 0.05, Share}, "0.5 points": {AboveOld, 0.005, Share}, "3 points": {AbovePast, 0.03, Share},
		"260 MB": {AtMost, 260e6, Bytes}, "250ms": {AboveOld, 0.25, Seconds}, "12": {AtMost, 12, Plain},
	} {
		if got := limit.Declared(); got != want {
			t.Errorf("%+v is declared as %q, not %q", limit, got, want)
		}
	}
	if !slices.Equal([]bool{Limit{Kind: AtMost}.Moves(), Limit{Kind: AboveOld}.Moves(), Limit{Kind: AbovePast}.Moves()}, []bool{false, true, true}) {
		t.Error("which limits move is wrong")
	}
}
