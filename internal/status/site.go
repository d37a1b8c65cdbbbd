package status

import (
	"time"

	"aditus/internal/core/compare"
	"aditus/internal/core/course"
	"aditus/internal/core/declare"
)

// Site is one site as it stands: what it runs on, whether that answers, what runs there, and how revisions come to it.
type Site struct {
	Name      string         `json:"site"`
	Machine   string         `json:"machine,omitempty"` // the other machine that it is on
	Ground    Ground         `json:"ground"`
	Answers   bool           `json:"answers"`
	Took      time.Duration  `json:"took,omitempty"`     // until it had answered, in nanoseconds
	Trouble   string         `json:"trouble,omitempty"`  // why it does not, or what is to be mended there though it does
	Since     time.Time      `json:"since,omitzero"`     // since when it is silent, as far as this program saw
	Team      string         `json:"team,omitempty"`     // whose it is
	Rules     string         `json:"rules,omitempty"`    // the link whose line.yaml says how revisions come there, and what becomes of drift; empty where the settings do
	Automatic bool           `json:"automatic"`          // it takes revisions by itself
	Corrects  bool           `json:"corrects,omitempty"` // what is changed by hand there is put back by itself
	Notice    time.Duration  `json:"notice,omitempty"`   // for how long that is announced before, in nanoseconds
	After     []string       `json:"after,omitempty"`    // the sites that come before it in courses of the line
	SignOff   []string       `json:"sign_off,omitempty"` // who signs off there, by the courses
	Windowed  bool           `json:"windowed,omitempty"` // something may begin there only in windows, by the line's rules
	Times     []course.Entry `json:"times,omitempty"`    // its windows and freezes of the next days
	Lists     bool           `json:"lists,omitempty"`    // it can tell what is there and nobody put there through Aditus
	Berths    int            `json:"berths"`
	Absent    int            `json:"absent,omitempty"` // of those
	Moving    int            `json:"moving,omitempty"`
	Instances int            `json:"instances"`
}

// Count counts those of some berths that are at the site. It is silent where one of them cannot be read.
func (s *Site) Count(berths []Berth) {
	s.Berths, s.Absent, s.Moving, s.Instances = 0, 0, 0, 0
	for i := range berths {
		b := &berths[i]
		if b.Site != s.Name {
			continue
		}
		s.Berths++
		if b.Applied == nil && len(b.Cohorts) == 0 {
			s.Absent++
		}
		if b.Rollout != nil {
			s.Moving++
		}
		for _, c := range b.Cohorts {
			s.Instances += len(c.Instances)
		}
		if b.SyncStatus == compare.Unread && b.Problem != nil && (s.Since.IsZero() || b.Problem.Since.Before(s.Since)) {
			s.Answers, s.Trouble, s.Since = false, b.Problem.Text, b.Problem.Since
		}
	}
}

// Ground is what a site stands on.
type Ground struct {
	On      string         `json:"on"` // in words
	Version string         `json:"version,omitempty"`
	Room    []Room         `json:"room,omitempty"`
	Takes   []declare.Kind `json:"takes,omitempty"` // kinds of parts
	Told    []string       `json:"told,omitempty"`  // what it said of itself, and of what Aditus may do there
	Wrong   string         `json:"wrong,omitempty"` // what is to be mended there; empty for nothing
}

// Room is how much there is of something, and how much of it is taken.
type Room struct {
	Of   string  `json:"of"` // processors, memory, disk, pods
	Used float64 `json:"used"`
	Has  float64 `json:"has"` // both in bytes, or in number
}
