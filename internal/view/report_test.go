package view

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/ledger"
)

// TestReport counts releases of two months by what their facts tell: by the month in which they began, in the zone that is asked for.
func TestReport(t *testing.T) {
	var facts []ledger.Fact
	at := time.Date(2026, 2, 28, 22, 30, 0, 0, time.UTC)
	say := func(after time.Duration, text string) { // workload/site rollout kind [by] [data]
		at = at.Add(after)
		words := strings.SplitN(text, " ", 5)
		workload, site, _ := strings.Cut(words[0], "/")
		f := ledger.Fact{At: at, Workload: workload, Site: site, By: "aditus"}
		fmt.Sscan(words[1], &f.Rollout)
		f.Kind = berth.Kind(strings.ReplaceAll(words[2], "-", " "))
		if len(words) > 3 {
			f.By = words[3]
		}
		if len(words) > 4 {
			f.Data = []byte(words[4])
		}
		facts = append(facts, f)
	}
	say(0, "fares/north 1 taken")
	say(time.Minute, "fares/north 1 proven")
	say(time.Hour, "fares/north 9 proven") // which began before all that is told
	say(0, "fares/south 2 taken")
	say(time.Minute, `fares/south 2 breach aditus {"kind":"guard","verdict":{"guard":"errors"}}`)
	say(time.Second, "fares/south 2 rollback")
	say(2*time.Second, "fares/south 2 rolled-back")
	say(time.Hour, "gate/south 3 taken")
	say(time.Second, "gate/south 3 rollback maren")
	say(9*time.Second, "gate/south 3 rolled-back")
	say(time.Hour, "gate/south 4 taken")
	say(time.Second, "gate/south 5 taken")
	say(time.Second, "gate/south 5 rollback")
	say(time.Second, "gate/south 5 rolled-back")
	say(time.Hour, "fares/north 6 taken")
	say(3*time.Minute, "fares/north 6 proven")
	say(time.Hour, "fares/north 7 taken")
	r := NewReport("Skerry Line", facts, time.FixedZone("", 3600))
	var told strings.Builder
	line := func(month string, l ReportLine) {
		fmt.Fprintf(&told, "%s %s: %d, %d proven in %s, %s, %s; %d back in %s; %s\n", month, l.Workload, l.Releases, l.Proven, l.Typical, l.Slow, l.Longest, l.Back, l.TurnBack, l.Told())
	}
	for _, m := range r.Months {
		for _, l := range m.Workloads {
			line(m.Month, l)
		}
		line(m.Month, m.All)
	}
	line("all", r.All)
	want := `2026-03 fares: 3, 1 proven in 3m0s, 3m0s, 3m0s; 1 back in 3s; 1 errors, 1 under way
2026-03 gate: 3, 0 proven in 0s, 0s, 0s; 1 back in 9s; 1 a person, 2 left for a newer one, or abandoned
2026-03 : 6, 1 proven in 3m0s, 3m0s, 3m0s; 2 back in 3s; 1 a person, 1 errors, 2 left for a newer one, or abandoned, 1 under way
2026-02 fares: 1, 1 proven in 1m0s, 1m0s, 1m0s; 0 back in 0s; 
2026-02 : 1, 1 proven in 1m0s, 1m0s, 1m0s; 0 back in 0s; 
all : 7, 2 proven in 1m0s, 3m0s, 3m0s; 2 back in 3s; 1 a person, 1 errors, 2 left for a newer one, or abandoned, 1 under way
`
	if told.String() != want {
		t.Errorf("told is\n%swant\n%s", told.String(), want)
	}
	if r := NewReport("", nil, time.UTC); r.All.Releases != 0 || len(r.Months) != 0 {
		t.Errorf("of nothing %+v", r)
	}
}
