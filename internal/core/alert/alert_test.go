package alert

import (
	"strings"
	"testing"
	"time"

	"aditus/internal/core/signal"
)

// TestTake says one thing after the other, and looks at what comes of each and what fires then.
func TestTake(t *testing.T) {
	now := time.Date(2026, 3, 12, 9, 0, 0, 0, time.UTC)
	from := Source{Name: "pager", Workload: "service", Site: "place"}
	sites := func(workload string) ([]string, bool) { return []string{"drydock", "north"}, workload == "web" }
	say := func(id string, state State, minutes int, labels ...string) Alert {
		a := Alert{ID: id, State: state, Since: now.Add(time.Duration(minutes) * time.Minute), Labels: map[string]string{}, Text: id + " is down"}
		for i := 0; i+1 < len(labels); i += 2 {
			a.Labels[labels[i]] = labels[i+1]
		}
		return a
	}
	var b Book
	for _, step := range []struct {
		says    Alert
		outcome Outcome
		why     string
		fires   string // at drydock
	}{
		{say("a", Resolved, -9, "service", "web"), Same, "not known to fire", ""},
		{say("a", Firing, -5, "service", "web"), Taken, "web at all its sites: firing since 2026-03-12T08:55:00Z", "a is down, since 08:55:00"},
		{say("a", Firing, -5, "service", "web"), Same, "known since 2026-03-12T08:55:00Z", "a is down, since 08:55:00"},
		{say("a", Firing, -1, "service", "web"), Same, "known since 2026-03-12T08:55:00Z", "a is down, since 08:55:00"},
		{say("a", Resolved, -6, "service", "web"), Late, "firing since 2026-03-12T08:55:00Z", "a is down, since 08:55:00"},
		{say("b", Firing, -2, "service", "web", "place", "north"), Taken, "web at north", "a is down, since 08:55:00"},
		{say("c", Firing, -2, "service", "web", "place", "drydock"), Taken, "web at drydock", "a is down, since 08:55:00; c is down, since 08:58:00"},
		{say("d", Firing, -1, "service", "web", "severity", "info"), Taken, "web at all", "a is down, since 08:55:00; c is down, since 08:58:00"},
		{say("a", Resolved, 0, "service", "web"), Taken, "resolved since 2026-03-12T09:00:00Z", "c is down, since 08:58:00"},
		{say("a", Firing, -3, "service", "web"), Late, "resolved since", "c is down, since 08:58:00"},
		{say("a", Firing, 1, "service", "web"), Taken, "firing", "c is down, since 08:58:00; a is down, since 09:01:00"},
		{say("e", Firing, 0, "service", "tides"), Unknown, `no workload "tides", which the label service names`, "c is down, since 08:58:00; a is down, since 09:01:00"},
		{say("e", Firing, 0, "service", "web", "place", "isles"), Unknown, `at no site "isles"`, "c is down, since 08:58:00; a is down, since 09:01:00"},
		{say("e", Firing, 0), Unknown, "no label service", "c is down, since 08:58:00; a is down, since 09:01:00"},
		{say("", Firing, 0, "service", "web"), Wrong, "no id", "c is down, since 08:58:00; a is down, since 09:01:00"},
		{say("e", "on", 0, "service", "web"), Wrong, `state is "on"`, "c is down, since 08:58:00; a is down, since 09:01:00"},
		{say("e", Firing, 60, "service", "web"), Wrong, "since is 1 h from now", "c is down, since 08:58:00; a is down, since 09:01:00"},
		{say("e", Firing, 0, "service", strings.Repeat("x", mostText+1)), Wrong, "more than 1000 bytes", "c is down, since 08:58:00; a is down, since 09:01:00"},
		{Alert{ID: "e", State: Firing, Labels: map[string]string{"service": "web"}}, Wrong, "no since", "c is down, since 08:58:00; a is down, since 09:01:00"},
	} {
		answer, is := b.Take(from, step.says, sites, now)
		if answer.Outcome != step.outcome || !strings.Contains(answer.Why, step.why) || (is != nil) != (step.outcome == Taken) {
			t.Errorf("%+v: %+v, want %s: %s", step.says, answer, step.outcome, step.why)
		}
		notInfo := signal.Series{Except: map[string][]string{"severity": {"info"}}}
		if fires := Tell(b.Fires("pager", "web", "drydock", notInfo)); fires != step.fires {
			t.Errorf("after %+v there fires %q, want %q", step.says, fires, step.fires)
		}
	}
	if len(b.Fires("another", "web", "drydock", signal.Series{})) > 0 {
		t.Error("what one source says counts as another's")
	}
	for i := range mostKnown + 10 {
		answer, _ := b.Take(from, say(strings.Repeat("z", i%100)+string(rune('a'+i%26))+time.Duration(i).String(), Firing, 0, "service", "web"), sites, now)
		if (answer.Outcome == Wrong) != (len(b.Known) >= mostKnown && answer.Outcome != Taken) {
			t.Fatalf("alert %d of %d: %+v", i, len(b.Known), answer)
		}
	}
	if len(b.Known) != mostKnown {
		t.Errorf("%d are known", len(b.Known))
	}
	if told := Tell(b.Fires("pager", "web", "drydock", signal.Series{})); !strings.HasSuffix(told, "more") || len(told) > 500 {
		t.Error(told)
	}
}
