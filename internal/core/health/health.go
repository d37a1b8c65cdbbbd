// Package health tells how instances, and what is made of them, are doing: from the outcomes of their probes and what
// the target says of them. Probing itself is package probe's work.
package health

import (
	"fmt"
	"time"
)

// Word is a state of health.
type Word string

const (
	Healthy  Word = "healthy"
	Starting Word = "starting"
	Failing  Word = "failing"
	Stopped  Word = "stopped" // scaled to none, on purpose
	Silent   Word = "silent"  // no fresh observation
)

// Thresholds are a probe's rules.
type Thresholds struct {
	Every   time.Duration
	Timeout time.Duration
	Passes  int           // in a row, to become healthy
	Fails   int           // in a row, to become failing
	Grace   time.Duration // after its start an instance may fail without being called failing
	Alive   bool          // it asks whether the instance runs at all, rather than whether it may have traffic
}

// Outcome is what one probe saw.
type Outcome struct {
	At     time.Time
	Passed bool
	Reason string // why it failed, for a person
}

// Track follows one probe of one instance. The zero Track has seen nothing.
type Track struct {
	Last   Outcome
	Passes int // in a row
	Fails  int // in a row
	up     bool
	down   bool
	since  time.Time
}

// Observe adds an outcome.
func (t Track) Observe(o Outcome, rules Thresholds) Track {
	t.Last = o
	if o.Passed {
		t.Passes, t.Fails = t.Passes+1, 0
		if t.Passes >= rules.Passes {
			if !t.up {
				t.since = o.At
			}
			t.up, t.down = true, false
		}
		return t
	}
	t.Passes, t.Fails = 0, t.Fails+1
	if t.Fails >= rules.Fails {
		if !t.down {
			t.since = o.At
		}
		t.up, t.down = false, true
	}
	return t
}

// Tell adds what somebody says who asks the probe by the same rules: it stands so, whatever came before.
func (t Track) Tell(o Outcome) Track {
	if t.up != o.Passed || t.down == o.Passed {
		t = Track{up: o.Passed, down: !o.Passed, since: o.At}
	}
	t.Last = o
	return t
}

// silentAfter is how many probe periods may go without an outcome before an instance counts as silent.
const silentAfter = 3

// Judge tells how the probed instance is doing as of now, and why where it is not healthy.
func (t Track) Judge(started, now time.Time, rules Thresholds) (Word, string) {
	if t.Last.At.IsZero() {
		if now.Sub(started) > rules.Grace+silentAfter*rules.Every {
			return Silent, "no probe has answered yet"
		}
		return Starting, "not probed yet"
	}
	if age := now.Sub(t.Last.At); age > silentAfter*rules.Every+rules.Timeout {
		return Silent, fmt.Sprintf("last probe %s ago", age.Round(time.Second))
	}
	switch {
	case t.up:
		return Healthy, ""
	case t.down && now.Sub(started) > rules.Grace:
		return Failing, t.Last.Reason
	}
	return Starting, t.Last.Reason
}

// Instance is what is known of one instance.
type Instance struct {
	Word     Word      `json:"word"`
	Reason   string    `json:"reason,omitempty"`
	Restarts int       `json:"restarts,omitempty"`
	Started  time.Time `json:"started"`
	Since    time.Time `json:"since,omitzero"` // Healthy: since all of its probes pass
	Dead     bool      `json:"dead,omitempty"` // a probe that asks whether it runs says no: it is to be started anew
}

// crashLoop is how many restarts within crashSpan of each other make a crash loop.
const (
	crashLoop = 3
	crashSpan = 5 * time.Minute
)

// JudgeInstance puts together what the probes say and how often the instance had to be started again. restarts are
// the times of its restarts; again is when the target starts it again, where it waits with that.
func JudgeInstance(tracks []Track, rules []Thresholds, started time.Time, restarts []time.Time, again, now time.Time) Instance {
	in := Instance{Word: Healthy, Restarts: len(restarts), Started: started, Since: started}
	recent := 0
	for _, at := range restarts {
		if now.Sub(at) <= crashSpan {
			recent++
		}
	}
	if recent >= crashLoop {
		in.Word, in.Reason = Failing, fmt.Sprintf("crashes again and again: %d restarts in %s", recent, crashSpan)
		if wait := again.Sub(now); wait > 0 {
			in.Reason += fmt.Sprintf(", the next start in %s", wait.Round(time.Second))
		}
		return in
	}
	for i, track := range tracks {
		word, reason := track.Judge(started, now, rules[i])
		if rules[i].Alive && word == Failing {
			in.Dead, reason = true, "does not run: "+reason
		}
		if track.since.After(in.Since) {
			in.Since = track.since
		}
		if worse(word) > worse(in.Word) {
			in.Word, in.Reason = word, reason
		}
	}
	return in
}

func worse(w Word) int {
	switch w {
	case Healthy:
		return 0
	case Stopped:
		return 1
	case Starting:
		return 2
	case Silent:
		return 3
	}
	return 4
}

// Summary is the health of several instances, counted.
type Summary struct {
	Word     Word   `json:"word"`
	Wanted   int    `json:"wanted"`
	Total    int    `json:"total"`
	Healthy  int    `json:"healthy"`
	Starting int    `json:"starting"`
	Failing  int    `json:"failing"`
	Silent   int    `json:"silent"`
	Restarts int    `json:"restarts"`
	Reason   string `json:"reason,omitempty"` // of the first one that is worst
}

// Sum rolls instances up. wanted is how many there should be.
func Sum(instances []Instance, wanted int) Summary {
	s := Summary{Word: Healthy, Wanted: wanted, Total: len(instances)}
	worst := Healthy
	for _, in := range instances {
		s.Restarts += in.Restarts
		switch in.Word {
		case Healthy:
			s.Healthy++
		case Starting:
			s.Starting++
		case Failing:
			s.Failing++
		case Silent:
			s.Silent++
		}
		if worse(in.Word) > worse(worst) {
			worst, s.Reason = in.Word, in.Reason
		}
	}
	switch {
	case wanted == 0 && s.Total == 0:
		s.Word = Stopped
	case s.Failing > 0:
		s.Word = Failing
	case s.Silent > 0:
		s.Word = Silent
	case s.Healthy < wanted:
		s.Word = Starting
	}
	return s
}
