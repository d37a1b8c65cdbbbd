package notice

import (
	"maps"
	"slices"
	"time"
)

// Need is something that needs a person, at one moment.
type Need struct {
	ID             string `json:"id"` // the same as long as it is the same need
	Workload, Site string
	Text           string
}

// Open is a need that was there lately.
type Open struct {
	Need
	Came time.Time `json:"came"`
	Seen time.Time `json:"seen"` // last
	Told bool      `json:"told"`
}

// A need is told once it lasted so long, and over once it was not there for so long: what comes and goes is told once.
const (
	lasts = 5 * time.Second
	over  = 30 * time.Second
)

// Tracker remembers what needs a person, and what of it was told.
type Tracker struct {
	Needs map[string]Open `json:"needs"`
}

// Step takes what needs a person now, and gives what is to be told as new, and as over. told is called by whoever told it.
func (t *Tracker) Step(now time.Time, needs []Need) (began, ended []Open) {
	if t.Needs == nil {
		t.Needs = map[string]Open{}
	}
	for _, n := range needs {
		open, known := t.Needs[n.ID]
		if !known {
			open.Came = now
		}
		open.Need, open.Seen = n, now
		t.Needs[n.ID] = open
	}
	for _, id := range slices.Sorted(maps.Keys(t.Needs)) {
		switch open := t.Needs[id]; {
		case open.Seen.Equal(now) && !open.Told && now.Sub(open.Came) >= lasts:
			began = append(began, open)
		case !open.Seen.Equal(now) && !open.Told && now.Sub(open.Seen) >= lasts:
			delete(t.Needs, id) // it was never told
		case !open.Seen.Equal(now) && open.Told && now.Sub(open.Seen) >= over:
			ended = append(ended, open)
		}
	}
	return began, ended
}

// Told notes that needs were told, as new and as over.
func (t *Tracker) Told(began, ended []Open) {
	for _, o := range began {
		o.Told = true
		t.Needs[o.ID] = o
	}
	for _, o := range ended {
		delete(t.Needs, o.ID)
	}
}
