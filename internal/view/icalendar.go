package view

import (
	"crypto/sha256"
	"encoding/hex"
	"io"
	"time"

	ics "github.com/arran4/golang-ical"

	"aditus/internal/core/course"
	"aditus/internal/status"
)

// WriteICalendar writes a calendar as iCalendar (RFC 5545), an event for each entry. Times are in UTC, and what recurs stands there as
// often as it does. An event that was written before has the same name again.
func WriteICalendar(w io.Writer, c status.Calendar) error {
	cal := ics.NewCalendar()
	cal.SetProductId("-//Aditus//Calendar//EN")
	cal.SetMethod(ics.MethodPublish)
	cal.SetXWRCalName(c.Line)
	for _, e := range c.Entries {
		event := cal.AddEvent(nameOf(e) + "@aditus")
		event.SetDtStampTime(c.Now.UTC())
		event.SetStartAt(e.From.UTC())
		if !e.Until.IsZero() {
			event.SetEndAt(e.Until.UTC())
		}
		event.SetSummary(summaryOf(e))
		event.SetDescription(e.Text)
		if e.Site != "" {
			event.SetLocation(e.Site)
		}
		event.AddProperty(ics.ComponentPropertyCategories, string(e.Sort))
		event.SetTimeTransparency(ics.TransparencyTransparent)
		if e.Sort == course.SortFreeze {
			event.SetTimeTransparency(ics.TransparencyOpaque)
		}
	}
	return cal.SerializeTo(w, ics.WithNewLineWindows)
}

// summaryOf is an entry in a few words.
func summaryOf(e course.Entry) string {
	text := entryName(e)
	if e.Site != "" {
		text += " · " + e.Site
	}
	return string(e.Sort) + ": " + text
}

// nameOf names an entry, the same each time: what moves and waits by what it is, what recurs by when, too.
func nameOf(e course.Entry) string {
	text := string(e.Sort) + "\x00" + e.Name + "\x00" + e.Site + "\x00" + e.Workload
	switch e.Sort {
	case course.SortWindow, course.SortFreeze, course.SortSchedule:
		text += "\x00" + e.From.UTC().Format(time.RFC3339)
	}
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:12])
}
