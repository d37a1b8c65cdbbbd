package view_test

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-ical"

	"aditus/internal/core/course"
	"aditus/internal/status"
	"aditus/internal/view"
	"aditus/internal/view/storytest"
)

// TestICalendar has another reader of iCalendar agree with what is written: each entry, when it is, and a name of its own that stays.
func TestICalendar(t *testing.T) {
	c := storytest.Load(t).Calendar
	c.Entries = append(c.Entries, course.Entry{Sort: course.SortFreeze, Name: "odd; \\ names,\nover lines", From: c.From, Until: c.From.Add(time.Hour), Text: strings.Repeat("long—", 60)})
	write := func(c status.Calendar) string {
		var out bytes.Buffer
		if err := view.WriteICalendar(&out, c); err != nil {
			t.Fatal(err)
		}
		return out.String()
	}
	text := write(c)
	for line := range strings.SplitSeq(strings.TrimSuffix(text, "\r\n"), "\r\n") {
		if len(line) > 75 || strings.ContainsAny(line, "\r\n") {
			t.Fatalf("a line of %d octets: %q", len(line), line)
		}
	}
	read, err := ical.NewDecoder(strings.NewReader(text)).Decode()
	if err != nil {
		t.Fatal(err)
	}
	events := read.Events()
	if len(events) != len(c.Entries) || len(events) < 60 {
		t.Fatalf("%d entries became %d events", len(c.Entries), len(events))
	}
	names := map[string]bool{}
	for i, e := range c.Entries {
		from, err1 := events[i].DateTimeStart(time.UTC)
		until, err2 := events[i].DateTimeEnd(time.UTC)
		text, err3 := events[i].Props.Text(ical.PropDescription)
		name, err4 := events[i].Props.Text(ical.PropUID)
		switch want := e.From.Truncate(time.Second); {
		case err1 != nil || err3 != nil || err4 != nil || name == "" || names[name]:
			t.Errorf("entry %d: %v, %v, %v, named %q", i, err1, err3, err4, name)
		case !from.Equal(want) || text != e.Text:
			t.Errorf("entry %d begins %s and says %q, want %s and %q", i, from, text, want, e.Text)
		case !e.Until.IsZero() && (err2 != nil || !until.Equal(e.Until.Truncate(time.Second))):
			t.Errorf("entry %d ends %s (%v), want %s", i, until, err2, e.Until)
		}
		names[name] = true
	}
	c.Now = c.Now.Add(time.Hour)
	again, err := ical.NewDecoder(strings.NewReader(write(c))).Decode()
	if err != nil {
		t.Fatal(err)
	}
	for _, event := range again.Events() {
		if name, _ := event.Props.Text(ical.PropUID); !names[name] {
			t.Errorf("an hour later it is named %s", name)
		}
	}
}

// TestCalendarRange lays days out over both changes of the clocks.
func TestCalendarRange(t *testing.T) {
	zone, err := time.LoadLocation("Atlantic/Faroe")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		zoom  view.Zoom
		steps int
		now   string
		want  string
	}{
		{view.Day, 0, "2026-03-29T12:00:00Z", "2026-03-29T00:00:00Z 2026-03-30T00:00:00+01:00 8"},
		{view.TwoWeeks, 1, "2026-10-20T12:00:00Z", "2026-10-27T00:00:00Z 2026-11-10T00:00:00Z 14"},
		{view.Week, -2, "2026-10-25T12:00:00Z", "2026-10-19T00:00:00+01:00 2026-10-26T00:00:00Z 7"},
		{view.Month, 0, "2026-11-25T12:00:00Z", "2026-11-25T00:00:00Z 2026-12-25T00:00:00Z 5"},
		{view.Quarter, 0, "2026-11-30T12:00:00Z", "2026-11-30T00:00:00Z 2027-03-01T00:00:00Z 13"},
	} {
		now, err := time.Parse(time.RFC3339, c.now)
		if err != nil {
			t.Fatal(err)
		}
		from, until := c.zoom.Range(now, c.steps, zone)
		cal := view.NewCalendar(status.Calendar{Now: now, From: from, Until: until}, c.zoom, zone)
		if got := fmt.Sprintf("%s %s %d", from.Format(time.RFC3339), until.Format(time.RFC3339), len(cal.Ticks())); got != c.want {
			t.Errorf("%s: %s, want %s", c.zoom, got, c.want)
		}
	}
}
