package declare

import (
	"encoding/json"
	"maps"
	"slices"
	"testing"

	"aditus/internal/core/guard"
)

// TestSchema sees that the schema lists the kinds of limits that there are.
func TestSchema(t *testing.T) {
	var schema struct {
		Defs struct {
			Guard struct {
				Properties struct {
					Limit struct{ Properties map[string]json.RawMessage }
				}
			}
		} `json:"$defs"`
	}
	if err := json.Unmarshal(Schema, &schema); err != nil {
		t.Fatal(err)
	}
	var want []string
	for _, kind := range guard.LimitKinds() {
		want = append(want, string(kind))
	}
	if got := slices.Sorted(maps.Keys(schema.Defs.Guard.Properties.Limit.Properties)); !slices.Equal(got, slices.Sorted(slices.Values(want))) {
		t.Errorf("schema.json has the limits %v, and there are %v", got, want)
	}
}
