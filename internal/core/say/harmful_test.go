package say

import (
	"encoding/json"
	"strings"
	"testing"
)

// TestJSON sees that what is harmful in JSON is escaped, and means what it meant.
func TestJSON(t *testing.T) {
	harmful := "\u007f\u0085\u009b\u061c\u200b\u200f\u2028\u202e\u2066\u2069\ufeff\U000e0001\U000e007f"
	want := map[string]string{"a": "x" + harmful + "y é 漢 🚢", "b": "plain"}
	text, err := json.Marshal(want)
	if err != nil {
		t.Fatal(err)
	}
	out := JSON(text)
	if strings.ContainsFunc(string(out), Harmful) {
		t.Errorf("something harmful is left in %q", out)
	}
	var got map[string]string
	if err := json.Unmarshal(out, &got); err != nil || got["a"] != want["a"] || got["b"] != want["b"] {
		t.Errorf("it came back as %q (%v)", got, err)
	}
	if plain := []byte(`{"a":"é"}`); string(JSON(plain)) != string(plain) {
		t.Error("what is harmless is changed")
	}
}
