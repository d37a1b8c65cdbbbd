package calendar

import (
	"strings"
	"testing"
	"time"
)

func at(t testing.TB, text string) time.Time {
	t.Helper()
	moment, err := time.Parse(time.RFC3339, text)
	if err != nil {
		t.Fatal(err)
	}
	return moment
}

// TestAt looks at spans around changes of the clocks, leap days, ends of years, and where they meet.
func TestAt(t *testing.T) {
	weekdays := Times{Zone: "Europe/Oslo", Starts: "2026-01-05T09:00", Rule: "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR", Lasts: "2h30m"}
	nights := Times{Zone: "Europe/Oslo", Starts: "2026-01-01T22:00", Rule: "FREQ=DAILY", Lasts: "8h"}
	leap := Times{Starts: "2024-02-29", Rule: "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29", Lasts: "24h"}
	whole := Times{Starts: "2026-01-01", Rule: "FREQ=DAILY;UNTIL=20260110T000000Z", Lasts: "24h"}
	skipped := Times{Zone: "Europe/Oslo", Starts: "2026-03-28T02:30", Rule: "FREQ=DAILY", Lasts: "1h"}
	festival := Times{Zone: "Europe/Oslo", From: "2026-12-01T06:00", Until: "2026-12-03T20:00"}
	for _, test := range []struct {
		name        string
		times       Times
		at          string
		from, until string // of the span around it; empty where it is in none
		next        string // when the next begins
	}{
		{"a Monday morning", weekdays, "2026-01-05T08:00:00Z", "2026-01-05T08:00:00Z", "2026-01-05T10:30:00Z", "2026-01-06T08:00:00Z"},
		{"its end is not within", weekdays, "2026-01-05T10:30:00Z", "", "", "2026-01-06T08:00:00Z"},
		{"a Saturday", weekdays, "2026-01-10T09:00:00Z", "", "", "2026-01-12T08:00:00Z"},
		{"before it starts", weekdays, "2026-01-02T09:00:00Z", "", "", "2026-01-05T08:00:00Z"},
		{"in summer an hour earlier", weekdays, "2026-07-01T07:30:00Z", "2026-07-01T07:00:00Z", "2026-07-01T09:30:00Z", "2026-07-02T07:00:00Z"},
		{"over the hour that is left out", nights, "2026-03-29T00:30:00Z", "2026-03-28T21:00:00Z", "2026-03-29T05:00:00Z", "2026-03-29T20:00:00Z"},
		{"over the hour that comes twice", nights, "2026-10-25T02:30:00Z", "2026-10-24T20:00:00Z", "2026-10-25T04:00:00Z", "2026-10-25T21:00:00Z"},
		{"a start that is left out", skipped, "2026-03-29T01:45:00Z", "2026-03-29T01:30:00Z", "2026-03-29T02:30:00Z", "2026-03-30T00:30:00Z"},
		{"a leap day", leap, "2028-02-29T12:00:00Z", "2028-02-29T00:00:00Z", "2028-03-01T00:00:00Z", "2032-02-29T00:00:00Z"},
		{"no leap day", leap, "2027-02-28T12:00:00Z", "", "", "2028-02-29T00:00:00Z"},
		{"days that meet are one", whole, "2026-01-03T12:00:00Z", "2026-01-01T00:00:00Z", "2026-01-11T00:00:00Z", ""},
		{"a rule that ended", whole, "2026-02-01T00:00:00Z", "", "", ""},
		{"once", festival, "2026-12-02T00:00:00Z", "2026-12-01T05:00:00Z", "2026-12-03T19:00:00Z", ""},
		{"once, before", festival, "2026-11-26T00:00:00Z", "", "", "2026-12-01T05:00:00Z"},
	} {
		t.Run(test.name, func(t *testing.T) {
			r, err := New(test.times, at(t, test.at))
			if err != nil {
				t.Fatal(err)
			}
			moment := at(t, test.at)
			s, within := r.At(moment)
			if within != (test.from != "") || within && (!s.From.Equal(at(t, test.from)) || !s.Until.Equal(at(t, test.until))) {
				t.Errorf("it is in %s to %s (%t)", s.From.UTC(), s.Until.UTC(), within)
			}
			next, comes := r.After(moment)
			if comes != (test.next != "") || comes && !next.From.Equal(at(t, test.next)) {
				t.Errorf("the next begins at %s (%t)", next.From.UTC(), comes)
			}
		})
	}
}

// TestRefused has times that cannot be meant.
func TestRefused(t *testing.T) {
	for want, times := range map[string]Times{
		"no time zone":                  {Zone: "Skerry/Harbour", From: "2026-12-01", Until: "2026-12-02"},
		"differs from machine":          {Zone: "Local", From: "2026-12-01", Until: "2026-12-02"},
		"either from: and until:":       {},
		"from: and until: stand":        {From: "2026-12-01"},
		"before it begins":              {From: "2026-12-02", Until: "2026-12-01"},
		"from: \"tomorrow\"":            {From: "tomorrow", Until: "2026-12-01"},
		"until: \"then\"":               {From: "2026-12-01", Until: "then"},
		"needs starts:, rule: and":      {Rule: "FREQ=DAILY"},
		"starts: \"9\"":                 {Starts: "9", Rule: "FREQ=DAILY", Lasts: "1h"},
		"is long ago":                   {Starts: "1970-12-01", Rule: "FREQ=DAILY", Lasts: "1h"},
		"no length from a minute":       {Starts: "2026-12-01", Rule: "FREQ=DAILY", Lasts: "-1h"},
		"is no recurrence rule":         {Starts: "2026-12-01", Rule: "every day", Lasts: "1h"},
		"more often than every day":     {Starts: "2026-12-01", Rule: "FREQ=MINUTELY", Lasts: "1m"},
		"never comes":                   {Starts: "2026-12-01", Rule: "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", Lasts: "1h"},
		"a start of its own":            {Starts: "2026-12-01", Rule: "DTSTART=20260101T000000Z;FREQ=DAILY", Lasts: "1h"},
		"more than two dozen times":     {Starts: "2026-12-01", Rule: "FREQ=DAILY;BYMINUTE=" + strings.Repeat("1,", 30) + "2", Lasts: "1m"},
		"write either from: and until:": {From: "2026-12-01", Until: "2026-12-02", Rule: "FREQ=DAILY"},
	} {
		if _, err := New(times, time.Time{}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v, want %q", times, err, want)
		}
	}
}

// FuzzNew has any rule: it is refused or answers in bounds, and a span has the moments that it is found by.
func FuzzNew(f *testing.F) {
	f.Add("FREQ=WEEKLY;BYDAY=MO", "2h", int64(1790000000))
	f.Add("FREQ=MONTHLY;BYSETPOS=-1;BYDAY=FR", "24h", int64(1000000000))
	f.Add("FREQ=YEARLY;BYYEARDAY=366;COUNT=2", "366h", int64(0))
	f.Fuzz(func(t *testing.T, rule, lasts string, when int64) {
		r, err := New(Times{Zone: "Europe/Oslo", Starts: "2026-01-01T09:00", Rule: rule, Lasts: lasts}, time.Unix(when%4e9, 0))
		if err != nil {
			return
		}
		moment := time.Unix(when%4e9, 0)
		if s, within := r.At(moment); within && !s.Has(moment) {
			t.Errorf("%v does not have %s", s, moment)
		}
		if s, comes := r.After(moment); comes && !s.From.After(moment) {
			t.Errorf("%v does not come after %s", s, moment)
		}
	})
}
