package health

import (
	"strings"
	"testing"
	"time"
)

var (
	start = time.Date(2026, 3, 12, 9, 0, 0, 0, time.UTC)
	rules = Thresholds{Every: 5 * time.Second, Timeout: time.Second, Passes: 2, Fails: 3, Grace: 30 * time.Second}
)

func at(seconds int) time.Time { return start.Add(time.Duration(seconds) * time.Second) }

func TestTrack(t *testing.T) {
	tests := []struct {
		name     string
		outcomes string // + and - five seconds apart, from second 0
		now      int
		want     Word
		reason   string
	}{
		{"not probed yet", "", 1, Starting, "not probed yet"},
		{"never probed", "", 60, Silent, "no probe has answered yet"},
		{"one pass is not enough", "+", 1, Starting, ""},
		{"two passes", "++", 6, Healthy, ""},
		{"failing within the grace", "---", 11, Starting, "refused"},
		{"failing beyond the grace", "--------", 36, Failing, "refused"},
		{"two fails leave it healthy", "++--", 16, Healthy, ""},
		{"three fails within the grace", "++---", 21, Starting, "refused"},
		{"three fails later", "+++++++---", 46, Failing, "refused"},
		{"back after a pass too few", "+++++++---+", 51, Failing, ""},
		{"back after two passes", "+++++++---++", 56, Healthy, ""},
		{"stale", "++", 60, Silent, "last probe 55s ago"},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			var track Track
			for i, c := range test.outcomes {
				o := Outcome{At: at(i * 5), Passed: c == '+'}
				if !o.Passed {
					o.Reason = "refused"
				}
				track = track.Observe(o, rules)
			}
			word, reason := track.Judge(start, at(test.now), rules)
			if word != test.want || reason != test.reason {
				t.Errorf("%s (%s), want %s (%s)", word, reason, test.want, test.reason)
			}
		})
	}
}

func TestJudgeInstance(t *testing.T) {
	healthy := Track{}.Observe(Outcome{At: at(0), Passed: true}, rules).Observe(Outcome{At: at(5), Passed: true}, rules)
	failing := Track{}
	for i := range 8 {
		failing = failing.Observe(Outcome{At: at(i * 5), Reason: "status 503"}, rules)
	}
	if in := JudgeInstance([]Track{healthy, failing}, []Thresholds{rules, rules}, start, nil, time.Time{}, at(8)); in.Word != Starting {
		t.Errorf("one of two probes still fails within the grace: %+v", in)
	}
	if in := JudgeInstance(nil, nil, start, nil, time.Time{}, at(8)); in.Word != Healthy {
		t.Errorf("without probes there is nothing against it: %+v", in)
	}
	crashes := []time.Time{at(10), at(20), at(30)}
	if in := JudgeInstance([]Track{healthy}, []Thresholds{rules}, start, crashes, time.Time{}, at(31)); in.Word != Failing || in.Restarts != 3 {
		t.Errorf("three restarts in half a minute are a crash loop: %+v", in)
	}
	if in := JudgeInstance(nil, nil, start, crashes, at(71), at(31)); !strings.Contains(in.Reason, "3 restarts in 5m0s, the next start in 40s") {
		t.Errorf("a target that waits with the next start: %+v", in)
	}
	alive := Thresholds{Every: rules.Every, Timeout: rules.Timeout, Passes: 1, Fails: 1, Alive: true}
	dead := Track{}.Observe(Outcome{At: at(7), Reason: "no answer"}, alive)
	if in := JudgeInstance([]Track{healthy, dead}, []Thresholds{rules, alive}, start, nil, time.Time{}, at(8)); !in.Dead || in.Word != Failing || in.Reason != "does not run: no answer" {
		t.Errorf("ready but not alive: %+v", in)
	}
	if in := JudgeInstance([]Track{healthy}, []Thresholds{rules}, start, nil, time.Time{}, at(8)); !in.Since.After(start) || in.Since.After(at(8)) {
		t.Errorf("healthy since %s, started at %s", in.Since, start)
	}
	if in := JudgeInstance(nil, nil, start, crashes, time.Time{}, at(1000)); in.Word != Healthy {
		t.Errorf("a crash loop that is long over: %+v", in)
	}
}

func TestSum(t *testing.T) {
	h, s, f := Instance{Word: Healthy}, Instance{Word: Starting, Reason: "warming up"}, Instance{Word: Failing, Reason: "gone"}
	for _, test := range []struct {
		name      string
		instances []Instance
		wanted    int
		want      Word
		reason    string
	}{
		{"all", []Instance{h, h}, 2, Healthy, ""}, {"one short", []Instance{h}, 2, Starting, ""}, {"one starting", []Instance{h, s}, 2, Starting, "warming up"},
		{"one failing", []Instance{s, f, h}, 3, Failing, "gone"}, {"stopped on purpose", nil, 0, Stopped, ""}, {"silent", []Instance{{Word: Silent, Reason: "quiet"}}, 1, Silent, "quiet"},
	} {
		if got := Sum(test.instances, test.wanted); got.Word != test.want || got.Reason != test.reason {
			t.Errorf("%s: %s (%s), want %s (%s)", test.name, got.Word, got.Reason, test.want, test.reason)
		}
	}
}
