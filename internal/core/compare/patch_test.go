package compare

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	jsonpatch "github.com/evanphx/json-patch/v5"

	"aditus/internal/core/declare"
)

// TestPatch applies the patches with a library: what is live becomes what is declared.
func TestPatch(t *testing.T) {
	for name, test := range map[string]struct {
		declared *declare.Desired
		live     Live
	}{
		"nothing differs":  {desired(nil), live(nil)},
		"drift":            {desired(nil), live(func(l Live) { l["gauge"].(map[string]any)["instances"] = 5.0 })},
		"a part is gone":   {desired(nil), live(func(l Live) { delete(l, "texts") })},
		"an orphan":        {desired(nil), live(func(l Live) { l["a/b~c"] = map[string]any{"kind": "service"} })},
		"new environment":  {desired(setPart("texts", func(p *declare.Part) { p.Values = map[string]string{"x/y": "1", "z": "2"} })), live(nil)},
		"nothing is there": {desired(nil), nil},
	} {
		operations := Patch(test.declared, test.live)
		text, err := json.Marshal(operations)
		if err != nil {
			t.Fatal(err)
		}
		from := any(map[string]any{})
		if test.live != nil {
			from = overlay(tree(test.declared), test.live)
		}
		before, _ := json.Marshal(from)
		want, _ := json.Marshal(tree(test.declared))
		if operations == nil {
			if !jsonpatch.Equal(before, want) {
				t.Errorf("%s: there is no patch, and %s is not %s", name, before, want)
			}
			continue
		}
		patch, err := jsonpatch.DecodePatch(text)
		if err != nil {
			t.Fatalf("%s: %s: %v", name, text, err)
		}
		if after, err := patch.Apply(before); err != nil || !jsonpatch.Equal(after, want) {
			t.Errorf("%s: %s gives %s, want %s (%v)", name, text, after, want, err)
		}
	}
	two := PatchTwo(desired(nil), desired(setPart("gauge", func(p *declare.Part) { p.Instances = 4 })))
	if fmt.Sprint(two) != "[{replace /parts/gauge/instances 4}]" {
		t.Errorf("between two revisions: %v", two)
	}
}

// TestKinds looks at what is left to others, at fields that agree, and at two declared states.
func TestKinds(t *testing.T) {
	leave := func(pointers ...string) func(*declare.Desired) {
		return func(d *declare.Desired) { d.Leave = pointers }
	}
	five := live(func(l Live) {
		l["gauge"].(map[string]any)["instances"] = 5.0
		l["gauge"].(map[string]any)["environment"] = map[string]any{"A": "1", "B": "2"}
	})
	for pointers, want := range map[string]string{
		"/parts/gauge/instances": "drift /parts/gauge/environment/B, left /parts/gauge/instances", "/parts/gauge": "left /parts/gauge/environment/B, left /parts/gauge/instances",
		"/parts/gauge/inst": "drift /parts/gauge/environment/B, drift /parts/gauge/instances", "/parts/gauge/environment": "left /parts/gauge/environment/B, drift /parts/gauge/instances",
	} {
		d := desired(leave(pointers))
		var got []string
		for _, difference := range Three(d, d, five) {
			got = append(got, string(difference.Kind)+" "+difference.Pointer)
		}
		if text := strings.Join(got, ", "); text != want {
			t.Errorf("left is %s: got %s, want %s", pointers, text, want)
		}
	}
	kept := KeepLeft(*desired(leave("/parts/gauge/instances", "/parts/gauge/environment/B", "/parts/texts/values", "/parts/none/instances")), five)
	if p := kept.Parts["gauge"]; p.Instances != 5 || p.Environment["A"] != "1" || p.Environment["B"] != "2" || kept.Parts["texts"].Values["x"] != "y" {
		t.Errorf("kept is %+v", kept.Parts)
	}
	all, differ := Fields(desired(nil), desired(nil), live(nil)), 0
	for _, d := range all {
		if d.Kind != Same {
			differ++
		}
	}
	if len(all) < 8 || differ > 0 {
		t.Errorf("%d fields, of which %d differ", len(all), differ)
	}
	if two := Two(desired(nil), desired(setPart("gauge", func(p *declare.Part) { p.Instances = 4 }))); len(two) != 1 || two[0].Kind != Pending || two[0].Declared != 4.0 {
		t.Errorf("two: %+v", two)
	}
	if l := LiveOf(desired(nil)); len(Three(desired(nil), desired(nil), l)) != 0 {
		t.Errorf("what a site would show differs: %+v", l)
	}
}
