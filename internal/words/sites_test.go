package words_test

import (
	"testing"
	"time"

	"aditus/internal/core/course"
	"aditus/internal/status"
	"aditus/internal/words"
)

// TestSites tells what a list has of a site.
func TestSites(t *testing.T) {
	now := time.Date(2026, 3, 12, 9, 32, 0, 0, time.UTC)
	window := func(from, until time.Duration, sort course.Sort) course.Entry {
		return course.Entry{Sort: sort, From: now.Add(from), Until: now.Add(until)}
	}
	well := status.Site{Answers: true, Took: 2 * time.Millisecond}
	for name, test := range map[string]struct {
		site                       status.Site
		answers, room, comes, open string
		tight, bad                 bool
	}{
		"nothing is known": {status.Site{}, "no answer", "", "by hand", "always", false, true},
		"well":             {well, "2 ms", "", "by hand", "always", false, false},
		"silent":           {status.Site{Since: now.Add(-4 * time.Minute), Automatic: true}, "silent 4 min", "", "by itself", "always", false, true},
		"full": {status.Site{Answers: true, Ground: status.Ground{Room: []status.Room{{Of: "processors", Used: 2.5, Has: 2}, {Of: "memory", Used: 5, Has: 10}, {Of: "disk", Used: 9, Has: 10}, {Of: "pods", Used: 1}}}, After: []string{"a", "b", "c"}, SignOff: []string{"leads"}},
			"answers", "2.5 of 2, disk 90 %", "after a and 2 more, signed off", "always", true, false},
		"busy is not full": {status.Site{Answers: true, Ground: status.Ground{Room: []status.Room{{Of: "processors", Used: 2, Has: 2}, {Of: "memory", Used: 5, Has: 10}}}}, "answers", "2 of 2, memory 50 %", "by hand", "always", false, false},
		"in its window":    {status.Site{Answers: true, Windowed: true, Times: []course.Entry{window(-time.Hour, 2*time.Hour, course.SortWindow)}}, "answers", "", "by hand", "open until 11:32", false, false},
		"before one":       {status.Site{Answers: true, Windowed: true, Times: []course.Entry{window(26*time.Hour, 27*time.Hour, course.SortWindow), window(time.Hour, 2*time.Hour, course.SortWindow)}}, "answers", "", "by hand", "from 10:32", false, false},
		"another day":      {status.Site{Answers: true, Windowed: true, Times: []course.Entry{window(26*time.Hour, 27*time.Hour, course.SortWindow)}}, "answers", "", "by hand", "from Fri 11:32", false, false},
		"no window comes":  {status.Site{Answers: true, Windowed: true}, "answers", "", "by hand", "no window these days", false, false},
		"frozen":           {status.Site{Answers: true, Times: []course.Entry{window(-time.Hour, 2*time.Hour, course.SortFreeze)}}, "answers", "", "by hand", "frozen until 11:32", false, false},
		"lacks something":  {status.Site{Answers: true, Took: time.Millisecond, Trouble: "the account may not create pods"}, "to be mended", "", "by hand", "always", false, true},
		"frozen for some":  {status.Site{Answers: true, Times: []course.Entry{{Sort: course.SortFreeze, From: now.Add(-time.Hour), Until: now.Add(time.Hour), Some: true}}}, "answers", "", "by hand", "always", false, false},
		"a quota is full":  {status.Site{Answers: true, Ground: status.Ground{Room: []status.Room{{Of: "processors, limits", Used: 48, Has: 48}}}}, "answers", "processors, limits 48 of 48", "by hand", "always", true, false},
		"a freeze comes":   {status.Site{Answers: true, Times: []course.Entry{window(time.Hour, 2*time.Hour, course.SortFreeze)}}, "answers", "", "by hand", "always", false, false},
	} {
		answers, tone := words.SiteAnswers(test.site, now)
		room, tight := words.SiteRoom(test.site)
		if got := [4]string{answers, room, words.SiteComesBriefly(test.site), words.SiteOpen(test.site, now)}; got != [4]string{test.answers, test.room, test.comes, test.open} || (tight == words.Asks) != test.tight || (tone == words.Bad) != test.bad {
			t.Errorf("%s: %q, tight %v, bad %v", name, got, tight, tone)
		}
	}
}
