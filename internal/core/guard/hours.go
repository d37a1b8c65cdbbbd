package guard

import (
	"fmt"
	"time"
)

// Hours are a part of each day in which another limit holds.
type Hours struct {
	From  Clock  `json:"from"`
	To    Clock  `json:"to"` // not itself among them; before From where midnight lies between
	Zone  string `json:"zone,omitempty"`
	Limit Limit  `json:"limit"`
}

// Clock is a time of day, in minutes.
type Clock int

// ReadClock reads a time of day such as 22:30.
func ReadClock(text string) (Clock, error) {
	at, err := time.Parse("15:04", text)
	if err != nil {
		return 0, fmt.Errorf("%q is no time of day; write it like 22:30", text)
	}
	return Clock(at.Hour()*60 + at.Minute()), nil
}

// String writes it as it is read.
func (c Clock) String() string { return fmt.Sprintf("%02d:%02d", c/60, c%60) }

// holds tells whether a moment lies within the hours.
func (h Hours) holds(at time.Time) bool {
	zone, err := time.LoadLocation(h.Zone)
	if err != nil { // it was one when it was read
		zone = time.UTC
	}
	at = at.In(zone)
	now := Clock(at.Hour()*60 + at.Minute())
	if h.From <= h.To {
		return h.From <= now && now < h.To
	}
	return h.From <= now || now < h.To
}

// LimitAt is the limit that holds at a moment.
func (r Rule) LimitAt(at time.Time) Limit {
	for _, h := range r.Hours {
		if h.holds(at) {
			return h.Limit
		}
	}
	return r.Limit
}

// HourlyBound is where the limit lies at a moment, where it is another one in some hours; nil where it is not.
func (r Rule) HourlyBound(at time.Time) *float64 {
	if len(r.Hours) == 0 {
		return nil
	}
	return new(r.LimitAt(at).Value)
}
