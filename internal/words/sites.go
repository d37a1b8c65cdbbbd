package words

import (
	"fmt"
	"strings"
	"time"

	"aditus/internal/core/course"
	"aditus/internal/core/say"
	"aditus/internal/status"
)

// SiteAnswers tells whether what a site runs on answers, and how soon; or for how long it has been silent.
func SiteAnswers(s status.Site, now time.Time) (string, Tone) {
	switch {
	case s.Answers && s.Trouble != "":
		return "to be mended", Bad
	case s.Answers && s.Took == 0:
		return "answers", Quiet
	case s.Answers && s.Took < time.Millisecond:
		return "under 1 ms", Quiet
	case s.Answers:
		return say.Took(s.Took), Quiet
	case s.Since.IsZero():
		return "no answer", Bad
	}
	return "silent " + say.Span(now.Sub(s.Since).Truncate(time.Second)), Bad
}

// fullAbove is the share of something that is taken from which on it is told as tight.
const fullAbove = 0.9

// SiteRoom tells how many processors of a site are in use, and what else is tightest; and whether that is tight.
func SiteRoom(s status.Site) (string, Tone) {
	var all []string
	var tightest status.Room
	for _, r := range s.Ground.Room {
		switch {
		case r.Has <= 0:
		case r.Of == processors && len(all) == 0:
			all = append(all, roomOf(r))
		case r.Of == processors: // those that are busy are in use, not gone
		case tightest.Has == 0 || r.Used/r.Has > tightest.Used/tightest.Has:
			tightest = r
		}
	}
	tone := Quiet
	if tightest.Has > 0 {
		all = append(all, tightest.Of+" "+roomOf(tightest))
		if tightest.Used >= fullAbove*tightest.Has {
			tone = Asks
		}
	}
	return strings.Join(all, ", "), tone
}

// processors are what there is a number of, and that is no sign of trouble where it is used up.
const processors = "processors"

// roomOf tells how much of something is taken.
func roomOf(r status.Room) string {
	switch r.Of {
	case processors, processors + ", requests", processors + ", limits", "pods":
		return fmt.Sprintf("%.3g of %.3g", r.Used, r.Has)
	}
	return fmt.Sprintf("%.0f %%", 100*r.Used/r.Has)
}

// SiteRoomWhole tells the room of a site with its amounts.
func SiteRoomWhole(s status.Site) []string {
	var all []string
	for _, r := range s.Ground.Room {
		text := roomOf(r)
		if !strings.Contains(text, " of ") {
			text = fmt.Sprintf("%s of %s, %s", say.Bytes(int64(r.Used)), say.Bytes(int64(r.Has)), text)
		}
		all = append(all, r.Of+": "+text)
	}
	return all
}

// SiteBerths tells how many of a site's berths have something.
func SiteBerths(s status.Site) string {
	if s.Absent > 0 {
		return fmt.Sprintf("%d of %d", s.Berths-s.Absent, s.Berths)
	}
	return fmt.Sprint(s.Berths)
}

// SiteInstances tells how many instances run at a site, where that is known.
func SiteInstances(s status.Site) string {
	if !s.Answers && s.Instances == 0 {
		return "-"
	}
	return fmt.Sprint(s.Instances)
}

// SiteRuns tells how much runs at a site.
func SiteRuns(s status.Site) string {
	berths := " berths, "
	if s.Berths == 1 {
		berths = " berth, "
	}
	if !s.Answers && s.Instances == 0 {
		return SiteBerths(s) + berths + "what runs there now is not known"
	}
	return SiteBerths(s) + berths + say.Count(s.Instances, "instance")
}

// SiteComesBriefly tells it where there is little room.
func SiteComesBriefly(s status.Site) string {
	text := "by hand"
	switch {
	case len(s.After) > 0:
		text = "after " + say.Few(s.After, 1)
	case s.Automatic:
		text = "by itself"
	}
	if len(s.SignOff) > 0 {
		text += ", signed off"
	}
	return text
}

// SiteComes tells how revisions come to a site.
func SiteComes(s status.Site) string {
	text := "by hand"
	if s.Automatic {
		text = "by itself"
	}
	if len(s.After) > 0 {
		text += ", after " + say.List(s.After)
	}
	if len(s.SignOff) > 0 {
		text += ", signed off by " + say.List(s.SignOff)
	}
	return text
}

// SiteDrift tells what becomes of what is changed by hand at a site.
func SiteDrift(s status.Site) string {
	if !s.Corrects {
		return "told, and left until a person says"
	}
	return "put back by itself, " + say.Span(s.Notice) + " after it was announced"
}

// SiteOpen tells whether something may begin at a site now, by its windows and freezes, and when that changes.
func SiteOpen(s status.Site, now time.Time) string {
	var next *course.Entry
	for i, e := range s.Times {
		under := !e.From.After(now) && (e.Until.IsZero() || e.Until.After(now))
		switch {
		case e.Some: // not for the site as a whole
		case e.Sort == course.SortFreeze && under:
			return "frozen until " + dayTime(e.Until, now)
		case e.Sort == course.SortFreeze:
		case under:
			return "open until " + dayTime(e.Until, now)
		case next == nil || e.From.Before(next.From):
			next = &s.Times[i]
		}
	}
	switch {
	case next != nil:
		return "from " + dayTime(next.From, now)
	case s.Windowed:
		return "no window these days"
	}
	return "always"
}

// dayTime is a moment of the next days.
func dayTime(t, now time.Time) string {
	t, now = t.Local(), now.Local()
	switch {
	case t.IsZero():
		return "further notice"
	case t.YearDay() == now.YearDay() && t.Year() == now.Year():
		return t.Format("15:04")
	}
	return t.Format("Mon 15:04")
}
