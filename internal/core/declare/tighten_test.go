package declare

import (
	"reflect"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/guard"
)

// TestTighten takes one thing after the other out of the rules of a rollout, and finds it held; what is made stricter is left.
func TestTighten(t *testing.T) {
	seconds := func(n int) Span { return Span{time.Duration(n) * time.Second} }
	control := 0.1
	before := Desired{
		Parts:   map[string]Part{"load": {Kind: Task}},
		Rollout: Rollout{Style: Canary, Stages: []Stage{{Share: 0.05, Soak: seconds(60)}, {Share: 0.25, Soak: seconds(60), SignOff: "a lead"}, {Share: 1, Soak: seconds(30), Checks: []string{"load"}}}, Proving: seconds(120), Control: &control},
		Guards: []guard.Rule{
			{Name: "errors", Limit: guard.Limit{Kind: guard.AtMost, Value: 0.05}, Then: guard.RollBack, Standing: guard.RollBack, Missing: guard.MissingHolds},
			{Name: "slow", Limit: guard.Limit{Kind: guard.AboveOld, Value: 0.02}, Then: guard.RollBack, Standing: guard.Tell, Missing: guard.MissingBreaches, Way: guard.Sequential},
		},
	}
	for _, c := range []struct {
		name   string
		change func(*Desired)
		held   string
	}{
		{"nothing", func(*Desired) {}, ""},
		{"stricter", func(d *Desired) {
			d.Guards[0].Limit.Value, d.Rollout.Proving, d.Rollout.Stages[0].SignOff = 0.01, seconds(600), "a captain"
		}, ""},
		{"no check", func(d *Desired) { d.Rollout.Stages[2].Checks = nil }, "the check load"},
		{"a check that is moved", func(d *Desired) { d.Rollout.Stages[2].Checks, d.Rollout.Stages[0].Checks = nil, []string{"load"} }, ""},
		{"a check whose task is gone", func(d *Desired) { d.Rollout.Stages[2].Checks, d.Parts = nil, nil }, ""},
		{"a set that nothing tries", func(d *Desired) {
			d.Rollout.Style, d.Rollout.Control, d.Rollout.Stages = BlueGreen, nil, []Stage{{Soak: seconds(150), SignOff: "a lead"}, {Share: 1}}
		}, "the check load"},
		{"no sign-off", func(d *Desired) { d.Rollout.Stages[1].SignOff = "" }, "the sign-off by a lead"},
		{"somebody else's", func(d *Desired) { d.Rollout.Stages[1].SignOff = "anybody" }, "the sign-off by a lead"},
		{"one stage", func(d *Desired) { d.Rollout.Stages = []Stage{{Share: 1}} }, "the sign-off by a lead, 2m30s of soak, the check load"},
		{"less soak", func(d *Desired) { d.Rollout.Stages[2].Soak = Span{} }, "30s of soak"},
		{"soak moved", func(d *Desired) { d.Rollout.Stages[2].Soak, d.Rollout.Stages[0].Soak = Span{}, seconds(90) }, ""},
		{"less proving", func(d *Desired) { d.Rollout.Proving = Span{} }, "2m0s of proving"},
		{"no control", func(d *Desired) { d.Rollout.Control = new(float64) }, "what old keeps through proving"},
		{"a guard less", func(d *Desired) { d.Guards = d.Guards[1:] }, "the guard errors"},
		{"a higher limit", func(d *Desired) { d.Guards[0].Limit.Value = 0.5 }, "the guard errors as it was"},
		{"only told", func(d *Desired) { d.Guards[1].Then = guard.Tell }, "the guard slow as it was"},
		{"only told afterwards", func(d *Desired) { d.Guards[0].Standing = guard.Tell }, "the guard errors as it was"},
		{"silence ignored", func(d *Desired) { d.Guards[0].Missing = guard.MissingIgnored }, "the guard errors as it was"},
		{"another guard under the name", func(d *Desired) { d.Guards[1].Way = guard.ByCount }, "the guard slow"},
		{"another kind of limit", func(d *Desired) { d.Guards[0].Limit = guard.Limit{Kind: guard.AboveOld, Value: 0.9} }, "the guard errors"},
		{"it counts in no stage", func(d *Desired) {
			for i := range d.Rollout.Stages {
				d.Rollout.Stages[i].Guards = []string{"slow"}
			}
		}, "the guard errors in the stages"},
		{"all of it", func(d *Desired) { d.Guards, d.Rollout = nil, Rollout{Style: Rolling, Stages: []Stage{{Share: 1}}} }, "the sign-off by a lead, 2m30s of soak, 2m0s of proving, the check load, the guard errors, the guard slow"},
	} {
		d := before
		d.Workload = "fares"
		d.Rollout.Stages, d.Guards = slices.Clone(before.Rollout.Stages), slices.Clone(before.Guards)
		c.change(&d)
		given := d
		given.Rollout.Stages, given.Guards = slices.Clone(d.Rollout.Stages), slices.Clone(d.Guards)
		own, held := Tighten(d, before)
		if got := strings.Join(held, ", "); got != c.held {
			t.Errorf("%s: held is %q, want %q", c.name, got, c.held)
		}
		if !reflect.DeepEqual(d, given) {
			t.Errorf("%s: what was given was changed", c.name)
		}
		if len(held) == 0 != reflect.DeepEqual(own, d) {
			t.Errorf("%s: held %v, and it became %+v", c.name, held, own)
		}
	}
}

// TestFloor holds declarations to a floor: what they are short of is added, whatever room they leave for it, and a floor twice is one.
func TestFloor(t *testing.T) {
	second := Span{time.Second}
	errors := guard.Rule{Name: "errors", Limit: guard.Limit{Kind: guard.AtMost, Value: 0.05}, Then: guard.RollBack, Missing: guard.MissingHolds}
	floor := Floor{Name: "the harbours", Soak: Span{time.Minute}, Proving: Span{2 * time.Minute}, SignOffs: []string{"a lead"}, Guards: []guard.Rule{errors}}
	other := errors
	other.Way, other.Limit.Value = guard.Sequential, 0.9
	for _, c := range []struct {
		name    string
		rollout Rollout
		guards  []guard.Rule
		held    string
		stages  string
	}{
		{"nothing declared", Rollout{Style: Canary, Stages: []Stage{{Share: 0.5, Soak: second}, {Share: 1}}}, nil,
			"the sign-off by a lead, 59s of soak, 2m0s of proving, the guard errors", "0.5 1m0s a lead, 1 0s "},
		{"enough", Rollout{Style: Canary, Proving: Span{time.Hour}, Stages: []Stage{{Share: 0.5, Soak: Span{time.Hour}, SignOff: "a lead"}, {Share: 1}}}, []guard.Rule{errors}, "", "0.5 1h0m0s a lead, 1 0s "},
		{"every stage is somebody else's", Rollout{Style: Canary, Proving: Span{time.Hour}, Stages: []Stage{{Share: 0.5, Soak: Span{time.Hour}, SignOff: "me"}, {Share: 1, SignOff: "me"}}}, []guard.Rule{errors}, "the sign-off by a lead", "0.25 0s a lead, 0.5 1h0m0s me, 1 0s me"},
		{"another guard under the name", Rollout{Style: Rolling, Proving: Span{time.Hour}, Stages: []Stage{{Share: 1, Soak: Span{time.Hour}, SignOff: "a lead"}}}, []guard.Rule{other}, "the guard errors", "1 1h0m0s a lead"},
	} {
		d := Desired{Workload: "fares", Rollout: c.rollout, Guards: c.guards}
		own, held := floor.Hold(d)
		stages := []string{}
		for _, s := range own.Rollout.Stages {
			stages = append(stages, strings.TrimSuffix(strings.Join([]string{strings.TrimRight(strings.TrimRight(percentOf(s.Share), "0"), "."), s.Soak.Duration.String(), s.SignOff}, " "), "\n"))
		}
		if got := strings.Join(held, ", "); got != c.held || strings.Join(stages, ", ") != c.stages {
			t.Errorf("%s: %q held, stages %q; want %q, %q", c.name, got, stages, c.held, c.stages)
		}
		if i := slices.IndexFunc(own.Guards, func(g guard.Rule) bool { return g.Missing == guard.MissingHolds && g.Limit.Value == 0.05 }); i < 0 {
			t.Errorf("%s: the guard is not among %+v", c.name, own.Guards)
		}
		if _, again := floor.Hold(own); len(again) > 0 {
			t.Errorf("%s: what is held is short of %v", c.name, again)
		}
	}
}

func percentOf(share float64) string { return strconv.FormatFloat(share, 'f', 2, 64) }
