package panel

import (
	"testing"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/rollout"
	"aditus/internal/core/signal"
)

// TestBoth holds what a guard sees of instances that are the same in both revisions: nothing where what changes shows the
// signal too, as their many answers would hide its few; all, for both, where only they show it; and nothing where it is not
// known whether what changes does.
func TestBoth(t *testing.T) {
	for name, test := range map[string]struct {
		metric   string // that the app shows
		unread   string
		old, new float64 // of the signal; -1 for nothing
	}{
		"what changes shows it":              {"failed", "", 0, 0.5},
		"only what is the same shows it":     {"other", "", 0.1, 0.1},
		"what changes cannot be read":        {"other", "no answer", -1, -1},
		"what changes could be read but now": {"failed", "no answer", -1, -1},
	} {
		w := newWorld(t, guard.Limit{Kind: guard.AtMost, Value: 0.2}, guard.ByCount)
		w.share(0, rollout.Soaking)
		for n := range 3 {
			step := float64(n)
			w.now = w.now.Add(every)
			page := func(metric string, failed, all float64) signal.Page {
				return signal.Page{metric: {signal.NewSample(nil, failed*step)}, "all": {signal.NewSample(nil, all*step)}}
			}
			app := func(id string, failed float64) Scrape {
				s := Scrape{Instance: id, Part: "app", Revision: declare.Fingerprint(id), Page: page(test.metric, failed, 30), Unread: test.unread}
				if s.Unread != "" {
					s.Page = nil
				}
				return s
			}
			front := Scrape{Instance: "front", Part: "front", Revision: "new", Both: true, Page: page("failed", 100, 1000)}
			w.p.Evaluate(w.s, []Scrape{app("old", 0), app("new", 15), front}, func(string) bool { return true }, w.now)
		}
		points := w.p.series[len(w.p.series)-1].points["failed"]
		for revision, want := range map[declare.Fingerprint]float64{"old": test.old, "new": test.new} {
			got := -1.0
			if p := points[revision]; p != nil {
				got = p.Value
			}
			if got != want {
				t.Errorf("%s: %s shows %v, want %v", name, revision, got, want)
			}
		}
	}
}
