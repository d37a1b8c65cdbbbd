package calendar

import (
	"strings"
	"testing"
	"time"
)

// TestTicks holds what comes to a clock on the wall: over both changes of the clocks, a leap day, and a half hour's change.
func TestTicks(t *testing.T) {
	for _, c := range []struct {
		what, cron, zone, after string
		want                    string // those that come, in UTC
	}{
		{"daily", "30 2 * * *", "", "2026-03-12T09:00:00Z", "03-13 02:30, 03-14 02:30"},
		{"left out in spring", "30 1 * * *", "Atlantic/Faroe", "2026-03-28T12:00:00Z", "03-29 01:30, 03-30 00:30"},
		{"twice in autumn", "30 1 * * *", "Atlantic/Faroe", "2026-10-24T12:00:00Z", "10-25 00:30, 10-26 01:30"},
		{"twice, asked in between", "30 1 * * *", "Atlantic/Faroe", "2026-10-25T00:45:00Z", "10-26 01:30"},
		{"all hours go on", "30 * * * *", "Atlantic/Faroe", "2026-10-25T00:00:00Z", "10-25 00:30, 10-25 01:30, 10-25 02:30"},
		{"a change of half an hour", "15 2 * * *", "Australia/Lord_Howe", "2026-10-03T00:00:00Z", "10-03 15:45, 10-04 15:15"},
		{"the leap day", "0 12 29 2 *", "", "2026-03-12T09:00:00Z", "02-29 12:00"},
		{"weekdays", "@weekly", "Atlantic/Faroe", "2026-03-28T12:00:00Z", "03-29 00:00, 04-04 23:00"},
	} {
		ticks, err := NewTicks(c.cron, c.zone, "")
		if err != nil {
			t.Fatal(c.what, err)
		}
		at, err := time.Parse(time.RFC3339, c.after)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for range strings.Count(c.want, ",") + 1 {
			next, comes := ticks.After(at)
			if !comes || !next.After(at) {
				t.Fatalf("%s: after %s nothing comes, or %s", c.what, at, next)
			}
			got, at = append(got, next.UTC().Format("01-02 15:04")), next
		}
		if strings.Join(got, ", ") != c.want {
			t.Errorf("%s: %s, want %s", c.what, strings.Join(got, ", "), c.want)
		}
	}
	once, err := NewTicks("", "", "2026-12-01T06:00:00+01:00")
	if at, comes := once.After(time.Date(2026, 12, 1, 5, 0, 0, 0, time.UTC)); err != nil || comes {
		t.Errorf("a moment that is now came again: %s (%v)", at, err)
	}
	for why, c := range map[string][3]string{
		"either cron: or at:": {"", "", ""}, "an offset of its own": {"", "UTC", "2026-12-01T06:00:00Z"}, "is no moment": {"", "", "tomorrow"},
		"no time zone": {"@daily", "Atlantic/Skerry", ""}, "stands in zone:": {"TZ=UTC 0 0 * * *", "", ""}, "at which minutes": {"@every 5m", "", ""},
		"is no cron expression": {"61 * * * *", "", ""}, "never comes": {"0 0 31 2 *", "", ""},
	} {
		if _, err := NewTicks(c[0], c[1], c[2]); err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%v: %v, want %s", c, err, why)
		}
	}
}

// TestDue finds the last of those that were missed, however many there were.
func TestDue(t *testing.T) {
	day := func(text string) time.Time {
		at, err := time.Parse("2006-01-02 15:04", text)
		if err != nil {
			t.Fatal(err)
		}
		return at
	}
	for _, c := range []struct {
		cron, after, now, last string
		others                 bool
	}{
		{"0 2 * * *", "2026-03-12 09:00", "2026-03-13 01:59", "", false},
		{"0 2 * * *", "2026-03-12 09:00", "2026-03-13 02:00", "2026-03-13 02:00", false},
		{"0 2 * * *", "2026-03-13 02:00", "2026-03-13 02:00", "", false},
		{"0 2 * * *", "2026-03-12 09:00", "2026-03-20 12:00", "2026-03-20 02:00", true},
		{"* * * * *", "2016-03-12 09:00", "2026-03-20 12:00", "2026-03-20 12:00", true},
		{"0 0 1 1 *", "2016-03-12 09:00", "2017-03-20 12:00", "2017-01-01 00:00", false},
		{"0 2 * * *", "2026-03-13 02:00", "2025-03-13 02:00", "", false}, // a clock that was set back
	} {
		ticks, err := NewTicks(c.cron, "", "")
		if err != nil {
			t.Fatal(err)
		}
		last, others, due := ticks.Due(day(c.after), day(c.now))
		if due != (c.last != "") || others != c.others || due && !last.Equal(day(c.last)) {
			t.Errorf("%s from %s to %s: %s, others %v, due %v", c.cron, c.after, c.now, last, others, due)
		}
	}
}
