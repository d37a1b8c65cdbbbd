// Package view is what one looks at, with its numbers and words and without a layout: a rollout over time (Watch), a
// comparison field by field, a guard's bench, the anatomy of what runs. Each is made from the ledger and a snapshot, and
// drawn by every face in its own way.
package view

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
	"aditus/internal/ledger"
	"aditus/internal/status"
	"aditus/internal/words"
)

// Watch is the picture of one rollout on one time axis. The screen and the drawing are both made from it.
type Watch struct {
	Berth      berth.ID
	Line       string
	Rollout    rollout.State
	From, To   *berth.Revision
	Now        time.Time
	Start, End time.Time // of the axis
	Stages     []Stretch
	Traffic    []Sample // share of the new cohort, asked for and reached
	Old, New   []Sample // instances
	Lanes      []Lane
	Events     []Event // oldest first
	Verdicts   []guard.Verdict
	Observed   *guard.Estimate
	Behind     []string // sites that wait behind this one
	Met        Met
}

// Stretch is a stage, or what comes after the stages, on the axis.
type Stretch struct {
	Label    string
	From, To time.Time
	Tone     StretchTone
}

// StretchTone says who has the say in a stretch.
type StretchTone int

const (
	Entering StretchTone = iota // the new cohort is on its way in
	Back                        // going back
	Alone                       // the old cohort alone
	Holds                       // proving or proven
)

// Sample is a value at a moment; it holds until the next one where it is a count or a share.
type Sample struct {
	At    time.Time
	Value float64
}

func (s Sample) compare(other Sample) int {
	return cmp.Or(s.At.Compare(other.At), cmp.Compare(s.Value, other.Value))
}

// Lane is one guard's signal.
type Lane struct {
	Guard    string
	Limit    guard.Limit
	Old, New []Sample
	Low      float64 // of the value axis
	High     float64
	Bound    []Sample // where the limit runs; follows old where it is relative
}

// Event is a fact on the axis.
type Event struct {
	At   time.Time
	Kind berth.Kind
	Text string
	By   string
	Tone words.Tone
}

// Met is what people met on the new cohort, in the terms of the guard that turned the rollout round.
type Met struct {
	Guard    string
	Count    float64 // requests that count for the guard's share
	Requests float64 // all requests of the new cohort
	Version  string  // of the new cohort
}

// String says it in words.
func (m Met) String() string {
	return fmt.Sprintf("%s: %s of %s requests on %s", m.Guard, say.Number(m.Count), say.Number(m.Requests), m.Version)
}

// axisLead and axisTail are shown before a rollout's begin and after its end.
const (
	axisLead = 20 * time.Second
	axisTail = 60 * time.Second
)

// NewWatch makes the picture of a berth's rollout from the ledger, with the newest from a snapshot. 0 is the newest
// rollout.
func NewWatch(book *ledger.Ledger, s status.Snapshot, berth berth.ID, id int64) (Watch, error) {
	var err error
	if id == 0 {
		if id, err = book.LastRollout(berth); err != nil {
			return Watch{}, err
		}
	}
	w := Watch{Berth: berth, Line: s.Line, Now: s.Now}
	if w.Rollout, _, err = book.Rollout(id); err != nil {
		return Watch{}, err
	}
	shown, _ := s.Find(berth)
	if shown.Rollout != nil && shown.Rollout.ID == id {
		w.Rollout, w.Verdicts, w.Observed = shown.Rollout.State, shown.Verdicts, shown.Rollout.Observed
	}
	w.Behind = words.WaitingBehind(s, berth)
	w.Start, w.End = w.Rollout.Began.Add(-axisLead), s.Now
	if over := w.Rollout.Ended; !over.IsZero() && over.Add(axisTail).Before(w.End) {
		w.End = over.Add(axisTail)
	}
	if w.End.Before(w.Start.Add(time.Minute)) {
		w.End = w.Start.Add(time.Minute)
	}
	if w.To, err = book.Revision(berth.Workload, w.Rollout.New.Revision); err != nil {
		return Watch{}, err
	}
	if !w.Rollout.Old.None() {
		if w.From, err = book.Revision(berth.Workload, w.Rollout.Old.Revision); err != nil {
			return Watch{}, err
		}
	}
	facts, err := book.Facts(ledger.Query{Berth: berth, Rollout: id})
	if err != nil {
		return Watch{}, err
	}
	w.readFacts(facts)
	looks, err := book.Traffic(id)
	if err != nil {
		return Watch{}, err
	}
	w.readTraffic(looks)
	points, err := book.Points(berth, w.Start, w.End)
	if err != nil {
		return Watch{}, err
	}
	w.readPoints(points)
	return w, nil
}

// readFacts makes the stages and the events.
func (w *Watch) readFacts(facts []ledger.Fact) {
	open := func(label string, at time.Time, tone StretchTone) {
		if n := len(w.Stages); n > 0 {
			w.Stages[n-1].To = at
		}
		w.Stages = append(w.Stages, Stretch{label, at, w.End, tone})
	}
	for _, f := range facts {
		e := Event{At: f.At, Kind: f.Kind, Text: f.Text, By: f.By}
		switch f.Kind {
		case berth.Taken:
			open("settling", f.At, Entering)
		case rollout.FactStage:
			var reached rollout.Reached
			_ = json.Unmarshal(f.Data, &reached) // without it the label is shorter, no more
			open(w.stageLabel(reached), f.At, Entering)
		case rollout.FactProving:
			open("proving", f.At, Holds)
		case rollout.FactProven:
			open("proven", f.At, Holds)
			w.decided(f)
			e.Tone = words.Good
		case berth.Rollback:
			open("back", f.At, Back)
			if !w.Rollout.Return {
				w.decided(f)
			}
			e.Tone = words.Bad
		case rollout.FactRolledBack:
			open(w.Rollout.Old.Version+" alone", f.At, Alone)
		case rollout.FactBreach, berth.Barred:
			e.Tone = words.Bad
		case rollout.FactWaiting, rollout.FactHeld:
			e.Tone = words.Asks
		}
		w.Events = append(w.Events, e)
	}
}

// stageLabel names a stage on the track: its share and soak, or what it is in the rollout's style. Two spaces part what
// may be left out where there is no room.
func (w *Watch) stageLabel(r rollout.Reached) string {
	soak := ""
	if r.Soak.Duration > 0 {
		soak = "  " + say.Span(r.Soak.Duration)
	}
	switch {
	case w.Rollout.Return:
		return "back on " + w.Rollout.New.Version
	case w.Rollout.Rules.Style == declare.BlueGreen && r.Share == 0:
		return "trial" + soak
	case w.Rollout.Rules.Style == declare.BlueGreen:
		return "switched"
	case w.Rollout.Rules.Style == declare.Rolling && r.Of > 1:
		return fmt.Sprintf("batch %d%s", r.Stage, soak)
	case w.Rollout.Rules.Style == declare.Rolling:
		return "all new" + soak
	}
	return say.Share(r.Share) + soak
}

// decided takes the verdicts that a rollout was decided on in place of later ones.
func (w *Watch) decided(f ledger.Fact) {
	var verdicts []guard.Verdict
	if json.Unmarshal(f.Data, &verdicts) == nil {
		w.Verdicts = verdicts
	}
}

func (w *Watch) readTraffic(looks []ledger.Traffic) {
	for _, k := range looks {
		w.Traffic = append(w.Traffic, Sample{k.At, k.Share})
		w.Old = append(w.Old, Sample{k.At, float64(k.Old)})
		w.New = append(w.New, Sample{k.At, float64(k.New)})
	}
}

func (w *Watch) readPoints(points []ledger.Point) {
	culprit := w.culprit()
	for _, rule := range w.To.Desired.Guards {
		lane := Lane{Guard: rule.Name, Limit: rule.LimitAt(w.End)}
		for _, p := range points {
			if p.Guard != rule.Name {
				continue
			}
			switch p.Revision {
			case w.Rollout.Old.Revision:
				lane.Old = append(lane.Old, Sample{p.At, p.Value})
			case w.Rollout.New.Revision:
				lane.New = append(lane.New, Sample{p.At, p.Value})
				if rule.Name == culprit && rule.Signal.Kind.Share() {
					w.Met = Met{rule.Name, w.Met.Count + p.Part, w.Met.Requests + p.Whole, w.To.Version}
				}
			}
		}
		lane.scale(rule, w.Start, w.End)
		w.Lanes = append(w.Lanes, lane)
	}
	w.breachFirst()
}

// culprit is the guard that turned the rollout round; empty where none did.
func (w *Watch) culprit() string {
	for _, cause := range w.Rollout.Causes {
		if cause.Verdict != nil {
			return cause.Verdict.Guard
		}
	}
	return ""
}

// breachFirst puts the lane of the guard that turned the rollout round on top.
func (w *Watch) breachFirst() {
	if i := slices.IndexFunc(w.Lanes, func(l Lane) bool { return l.Guard == w.culprit() }); i > 0 {
		lane := w.Lanes[i]
		w.Lanes = slices.Insert(slices.Delete(w.Lanes, i, i+1), 0, lane)
	}
}

// scale sets the lane's value axis so that all values and the limit are within it, and lays the limit out.
func (l *Lane) scale(rule guard.Rule, from, to time.Time) {
	low, high := 0.0, 0.0
	each := func(samples []Sample) {
		for _, s := range samples {
			if high == 0 && low == 0 {
				low = s.Value
			}
			low, high = min(low, s.Value), max(high, s.Value)
		}
	}
	each(l.Old)
	each(l.New)
	if l.Limit.Relative() {
		for _, s := range l.Old {
			l.Bound = append(l.Bound, Sample{s.At, l.Limit.At(s.Value)})
		}
		each(l.Bound)
	} else if l.Limit.Base() == guard.Nought { // what lies above the past moves; the verdict tells where it is
		l.Bound = []Sample{{from, rule.LimitAt(from).Value}}
		for at := from.Truncate(time.Minute).Add(time.Minute); len(rule.Hours) > 0 && at.Before(to); at = at.Add(time.Minute) {
			last := l.Bound[len(l.Bound)-1].Value
			if now := rule.LimitAt(at).Value; now != last {
				l.Bound = append(l.Bound, Sample{at, last}, Sample{at, now})
			}
		}
		l.Bound = append(l.Bound, Sample{to, rule.LimitAt(to).Value})
		for _, s := range l.Bound {
			high = max(high, s.Value)
		}
	}
	if l.Limit.Unit == guard.Share || low < high/3 {
		low = 0
	}
	room := (high - low) * 0.15
	l.High = high + room
	if l.Low = low; low > 0 {
		l.Low = max(0, low-room)
	}
	if l.High <= l.Low {
		l.High = l.Low + 1
	}
}

// Why tells in sentences why the rollout is where it is.
func (w Watch) Why() []string {
	s := w.Rollout
	if len(s.Causes) == 0 {
		return []string{say.Sentence(s.Why)}
	}
	var lines []string
	for _, c := range s.Causes {
		v := c.Verdict
		if v == nil || v.New == nil || v.Why != "" {
			lines = append(lines, say.Sentence(c.Text))
			continue
		}
		unit := v.Limit.Unit
		lines = append(lines, fmt.Sprintf("%s of the new cohort was %s (%s to %s)%s; %s.",
			say.Capital(v.Name()), unit.Format(v.New.Value), unit.Format(max(0, v.New.Low)), unit.Format(v.New.High), rested(*v), v.Limit.Allows()))
		if v.Old != nil {
			lines = append(lines, fmt.Sprintf("The old cohort was at %s meanwhile.", unit.Format(v.Old.Value)))
		}
	}
	return lines
}

// rested tells on what a breach rests.
func rested(v guard.Verdict) string {
	if v.Way == guard.Sequential {
		return "" // its interval stands beside it
	}
	return fmt.Sprintf(" in %d of %d intervals", v.Beyond, v.Judged)
}

// Done lists what was done at the turning point, with the time of each.
func (w Watch) Done() []Event {
	var done []Event
	for _, e := range w.Events {
		switch e.Kind {
		case rollout.FactBreach:
			done = append(done, Event{At: e.At, Text: "breach seen", Tone: words.Bad})
		case berth.Rollback:
			done = append(done, Event{At: e.At, Text: "turned back", Tone: words.Bad})
		case rollout.FactTrafficBack:
			done = append(done, Event{At: e.At, Text: "traffic on " + w.Rollout.Old.Version})
		case rollout.FactStopped:
			done = append(done, Event{At: e.At, Text: "new instances stopped"})
		case berth.Barred:
			left := w.Rollout.New
			if w.Rollout.Return {
				left = w.Rollout.Old
			}
			done = append(done, Event{At: e.At, Text: left.Version + " barred"})
		}
	}
	return done
}

// Seen tells the observed split of the traffic with its uncertainty; empty where it is no longer of interest.
func (w Watch) Seen() string {
	o := w.Observed
	if o == nil || w.Rollout.Phase.Over() {
		return ""
	}
	return fmt.Sprintf("%s of %s asked", words.PlusMinus(*o), say.Share(w.Rollout.AskedShare()))
}

// leastTop keeps the traffic's axis from blowing a small share up.
const leastTop = 0.05

// TopShare is the top of the traffic's axis: the largest share the new cohort had.
func (w Watch) TopShare() float64 {
	top := leastTop
	for _, s := range w.Traffic {
		top = max(top, s.Value)
	}
	return top
}

// Title tells how the rollout is doing, in a few words.
func (w Watch) Title() (string, words.Tone) {
	s := w.Rollout
	at := s.Ended.Local().Format(time.TimeOnly)
	switch s.Phase {
	case rollout.RolledBack:
		return fmt.Sprintf("rolled back at %s, from %s", at, s.Where()), words.Bad
	case rollout.Abandoned:
		return fmt.Sprintf("abandoned at %s, in %s", at, s.Where()), words.Asks
	case rollout.Proven:
		return "proven at " + at, words.Good
	}
	return words.Headline(status.Berth{Rollout: &status.Rollout{State: s}, Verdicts: w.Verdicts}, w.Now)
}

// Next tells what happens next.
func (w Watch) Next() []string {
	s := w.Rollout
	var lines []string
	switch {
	case s.Phase == rollout.Abandoned:
		lines = append(lines, "Both cohorts stay as they are until a person syncs, or Git moves on.")
	case s.Phase == rollout.Proven && s.KeptFor(w.Now) > 0:
		lines = append(lines, fmt.Sprintf("The set of %s is kept until %s, so that the way back is at once.", s.Old.Version, w.Now.Add(s.KeptFor(w.Now)).Local().Format(time.TimeOnly)))
	case s.Phase == rollout.RolledBack && s.Bar:
		lines = append(lines, fmt.Sprintf("%s stays barred here until Git moves on or a person lifts the bar.", s.New.Version))
	case s.Phase == rollout.RolledBack:
		lines = append(lines, "The newer revision comes next.")
	case s.Phase == rollout.Proven:
		lines = append(lines, fmt.Sprintf("%s serves alone; it is the revision to go back to from now on.", s.New.Version))
	default:
		lines = append(lines, say.Sentence(words.Next(status.Berth{Rollout: &status.Rollout{State: s}, Verdicts: w.Verdicts}, w.Now)))
	}
	if len(w.Behind) > 0 {
		verb := "waits"
		if len(w.Behind) > 1 {
			verb = "wait"
		}
		lines = append(lines, say.Sentence(fmt.Sprintf("%s %s behind %s", say.List(w.Behind), verb, w.Berth.Site)))
	}
	return lines
}
