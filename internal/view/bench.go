package view

import (
	"fmt"
	"math"
	"slices"
	"sort"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/guard/panel"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
	"aditus/internal/core/signal"
	"aditus/internal/ledger"
	"aditus/internal/status"
	"aditus/internal/words"
)

// Bench is where a guard's limit is set: the signal's history at a berth, with the releases of that time.
type Bench struct {
	Berth    berth.ID
	Line     string
	Guards   []string // of the berth
	Rule     guard.Rule
	Risk     float64 // of a false rollback, this guard's part
	Every    time.Duration
	Control  float64       // the share of the traffic that old keeps to be compared with through proving
	WarmUp   time.Duration // for which instances are not judged by the limit
	Now      time.Time
	Since    time.Time
	History  []Sample       // what served, oldest first
	Past     []signal.Point // steady times, where the limit is held against the past
	Releases []Release
	Current  *guard.Estimate
	Moves    bool // the limit is held against old or the past, so that History cannot be held against it
}

// Release is a rollout of the past with what the guard's signal showed during it.
type Release struct {
	ID         int64
	Version    string
	Began, End time.Time
	Phase      rollout.Phase
	Old, New   []Sample
	Lead       []*signal.Point // what old showed before
	Intervals  []guard.Staged
}

// Tried is what a limit would have made of a release.
type Tried struct {
	Release
	guard.Tested
}

// Trial is what a limit would have done.
type Trial struct {
	Limit    float64
	Releases []Tried
	Beyond   int // intervals of steady times beyond it, of so many
	Of       int
}

// benchBack is how far back a bench looks.
const benchBack = ledger.SteadyKept

// Fixed tells that there is no limit to be moved: an alert fires, or it does not.
func (b Bench) Fixed() bool { return b.Rule.Signal.Kind == signal.Alert }

// NewBench gives a guard's signal over a berth's history. Of its guards it is the one that is named, or the first.
func NewBench(book *ledger.Ledger, s status.Snapshot, id berth.ID, name string) (Bench, error) {
	shown, ok := s.Find(id)
	if !ok || shown.Applied == nil {
		return Bench{}, fmt.Errorf("nothing is applied at %s, so there is no guard to look at", id)
	}
	revision, err := book.Revision(id.Workload, shown.Applied.Fingerprint)
	if err != nil {
		return Bench{}, err
	}
	desired := revision.Desired
	b := Bench{Berth: id, Line: s.Line, Now: s.Now, Every: desired.Rollout.Interval.Duration, Since: s.Now.Add(-benchBack)}
	at := -1
	for i, rule := range desired.Guards {
		b.Guards = append(b.Guards, rule.Name)
		if rule.Name == name || name == "" && at < 0 {
			at = i
		}
	}
	if at < 0 {
		return Bench{}, fmt.Errorf("%s declares no guard %q; it has %s", id, name, say.List(b.Guards))
	}
	b.Rule, b.Risk = desired.Guards[at], desired.RiskEach()
	b.Control, b.WarmUp = desired.Rollout.Controls(), desired.Rollout.WarmUp.Duration
	b.Moves = b.Rule.Limit.Moves()
	var steady []ledger.Point
	var group errgroup.Group
	group.Go(func() error { return b.readReleases(book) })
	group.Go(func() (err error) {
		steady, err = book.Steady(id, b.Rule.Name, b.Since)
		return err
	})
	if err := group.Wait(); err != nil {
		return Bench{}, err
	}
	for _, p := range steady {
		b.History = append(b.History, Sample{p.At, p.Value})
		if b.Rule.Limit.Base() == guard.OwnPast {
			b.Past = append(b.Past, p.Signal())
		}
	}
	b.spread()
	for _, v := range shown.Verdicts {
		if v.Guard == b.Rule.Name {
			b.Current = v.New
		}
	}
	return b, nil
}

func (b *Bench) readReleases(book *ledger.Ledger) error {
	states, err := book.Rollouts(b.Berth, b.Since)
	if err != nil {
		return err
	}
	b.Releases = make([]Release, len(states))
	var group errgroup.Group
	group.SetLimit(ledger.ReadersAtOnce)
	for i, s := range states {
		group.Go(func() error {
			r := Release{ID: s.ID, Version: s.New.Version, Began: s.Began, End: s.Ended, Phase: s.Phase}
			if r.End.IsZero() {
				r.End = b.Now
			}
			points, err := book.PointsOf(b.Berth, b.Rule.Name, [2]declare.Fingerprint{s.Old.Revision, s.New.Revision}, s.Began.Add(-panel.LeadIn*b.Every), r.End)
			r.read(points, s)
			b.Releases[i] = r
			return err
		})
	}
	return group.Wait()
}

// read makes the intervals of a release.
func (r *Release) read(points []ledger.Point, s rollout.State) {
	old, new := s.Old.Revision, s.New.Revision
	signals := make([]signal.Point, len(points))
	r.Intervals = make([]guard.Staged, 0, len(points)/2)
	for i, p := range points {
		if p.Revision != old && p.Revision != new {
			continue
		}
		signals[i] = p.Signal()
		point := &signals[i]
		if p.At.Before(r.Began) {
			if p.Revision == old {
				r.Lead = append(r.Lead, point)
			}
			continue
		}
		i := len(r.Intervals) - 1 // they come in order
		if i < 0 || !r.Intervals[i].At.Equal(p.At) {
			i++
			r.Intervals = append(r.Intervals, guard.Staged{Interval: guard.Interval{At: p.At}, Stage: s.EvidenceOf(p.Stage), Alone: p.Stage >= 0 && s.AloneIn(p.Stage)})
		}
		if p.Revision == old {
			r.Intervals[i].Old, r.Old = point, append(r.Old, Sample{p.At, p.Value})
		} else {
			r.Intervals[i].New, r.New = point, append(r.New, Sample{p.At, p.Value})
		}
	}
}

// merged puts two into one, of tens of thousands in order each.
func merged(x, y []Sample) []Sample {
	all := make([]Sample, 0, len(x)+len(y))
	for len(x) > 0 && len(y) > 0 {
		if x[0].compare(y[0]) <= 0 {
			all, x = append(all, x[0]), x[1:]
		} else {
			all, y = append(all, y[0]), y[1:]
		}
	}
	return append(append(all, x...), y...)
}

// spread adds what old and new showed during the releases to the history, where steady times left a gap.
func (b *Bench) spread() {
	var during []Sample
	for _, r := range b.Releases {
		for _, p := range r.Lead {
			during = append(during, Sample{p.At, p.Value})
		}
		if r.Phase == rollout.Proven {
			during = append(during, merged(r.Old, r.New)...)
		} else {
			during = append(during, r.Old...)
		}
	}
	if !slices.IsSortedFunc(during, Sample.compare) { // one began right after another
		slices.SortFunc(during, Sample.compare)
	}
	b.History = merged(b.History, during)
	if len(b.History) > 0 {
		b.Since = b.History[0].At
	}
	for _, r := range b.Releases {
		if r.Began.Before(b.Since) {
			b.Since = r.Began
		}
	}
}

// With is the rule with another limit.
func (b Bench) With(limit float64) guard.Rule {
	rule := b.Rule
	rule.Limit = rule.Limit.With(limit)
	return rule
}

// Try tells what a limit would have done over the history.
func (b Bench) Try(limit float64) Trial {
	rule := b.With(limit)
	past := func(at time.Time) *float64 { return guard.Past(rule, b.Past, at) }
	t := Trial{Limit: limit}
	for _, r := range b.Releases {
		if len(r.Intervals) > 0 {
			t.Releases = append(t.Releases, Tried{r, guard.Backtest(rule, b.Risk, b.Every, r.Lead, r.Intervals, past)})
		}
	}
	if !b.Moves {
		for _, s := range b.History {
			t.Of++
			if rule.Limit.Beyond(s.Value, limit) {
				t.Beyond++
			}
		}
	}
	return t
}

// Count is how many releases a limit would have stopped, and how many it could not have been told of.
func (t Trial) Count() (stopped, undecided int) {
	for _, r := range t.Releases {
		if r.Stopped {
			stopped++
		}
		if r.Undecided {
			undecided++
		}
	}
	return stopped, undecided
}

// Summary tells what a limit would have done, in a few sentences.
func (t Trial) Summary(b Bench) string {
	rule := b.With(t.Limit)
	stopped, _ := t.Count()
	text := fmt.Sprintf("Over the last %s at %s, %d of %s would have been stopped by %s %s.", say.Span(b.Now.Sub(b.Since)), b.Berth, stopped, say.Count(len(t.Releases), "release"), rule.Name, rule.Limit)
	for _, r := range t.Releases {
		text += "\n  " + r.String()
	}
	return text
}

// String tells what a limit would have made of a release.
func (r Tried) String() string {
	outcome, _ := r.Outcome()
	return fmt.Sprintf("%s, %s, %s then: %s", r.Version, r.Began.Local().Format("2 Jan 15:04"), r.Phase, outcome)
}

// Outcome tells in a few words what would have come of it.
func (r Tried) Outcome() (string, words.Tone) {
	near := "came to " + say.Share(math.Round(r.Nearest*100)/100) + " of the limit"
	if r.Lower && r.Nearest > 0 {
		near = "came down to " + say.Share(math.Round(100/r.Nearest)/100) + " of the limit"
	}
	switch {
	case r.Stopped:
		return fmt.Sprintf("stopped at %s, %s in", r.At.Local().Format(time.TimeOnly), say.Span(r.At.Sub(r.Began))), words.Bad
	case r.Undecided:
		return "undecided; " + near, words.Quiet
	case r.Judged == 0:
		return "nothing to judge before it ended", words.Quiet
	}
	if r.Nearest == 0 { // as of alerts, of which none fired
		return "passes", words.Good
	}
	return "passes; " + near, words.Good
}

// Tone is that of how the release came out.
func (r Release) Tone() words.Tone {
	switch r.Phase {
	case rollout.Proven:
		return words.Good
	case rollout.RolledBack, rollout.RollingBack:
		return words.Bad
	}
	return words.Quiet
}

// Declared writes a limit as it stands in a declaration: its key and its value.
func (b Bench) Declared(limit float64) (key, value string) {
	l := b.With(limit).Limit
	return string(l.Kind), l.Declared()
}

// Text is the guard's declaration with a limit, ready to be put into a file.
func (b Bench) Text(limit float64) []string {
	key, value := b.Declared(limit)
	return []string{"- name: " + b.Rule.Name, "  limit: {" + key + ": " + value + "}"}
}

// Step is by how much a limit moves at once: about a fiftieth of where it lies, as a round number.
func (b Bench) Step(limit float64) float64 {
	size := math.Max(math.Abs(limit), 1e-4) / 40
	magnitude := math.Pow(10, math.Floor(math.Log10(size)))
	for _, round := range []float64{1, 2, 5, 10} {
		if round*magnitude >= size*0.999 {
			return round * magnitude
		}
	}
	return magnitude
}

// Top is the top of the value axis: the largest value and the limits, but for single outliers.
func (b Bench) Top(limits ...float64) float64 {
	top := 0.0
	values := make([]float64, 0, len(b.History))
	add := func(samples []Sample) {
		for _, s := range samples {
			values = append(values, s.Value)
		}
	}
	add(b.History)
	for _, r := range b.Releases {
		add(r.New)
	}
	sort.Float64s(values)
	if n := len(values); n > 0 {
		top = values[min(n-1, n*995/1000)]
	}
	if !b.Moves {
		for _, l := range limits {
			top = max(top, l)
		}
	}
	if b.Fixed() {
		top = max(slices.Max(append(values, 1)), top)
	}
	return max(top*1.15, 1e-6)
}

// Words tells the current value and what is usual.
func (b Bench) Words() []string {
	unit := b.Rule.Limit.Unit
	var lines []string
	if b.Current != nil {
		lines = append(lines, fmt.Sprintf("now %s (%s to %s)", unit.Format(b.Current.Value), unit.Format(max(0, b.Current.Low)), unit.Format(b.Current.High)))
	}
	if len(b.History) > 0 {
		values := make([]float64, len(b.History))
		for i, s := range b.History {
			values[i] = s.Value
		}
		sort.Float64s(values)
		at := func(q float64) string { return unit.Format(values[min(len(values)-1, int(q*float64(len(values))))]) }
		text := fmt.Sprintf("usually %s, 99 of 100 below %s, most %s", at(0.5), at(0.99), unit.Format(values[len(values)-1]))
		if b.Rule.Limit.Below() {
			text = fmt.Sprintf("usually %s, 99 of 100 above %s, least %s", at(0.5), at(0.01), unit.Format(values[0]))
		}
		lines = append(lines, text)
	}
	return append(lines, b.judged()...)
}

// judged tells what new is held against, and from when on.
func (b Bench) judged() (lines []string) {
	switch {
	case !b.Rule.Limit.Relative():
	case b.Control > 0:
		lines = append(lines, fmt.Sprintf("old keeps %s of the traffic through the proving, to compare with", say.Share(b.Control)))
	default:
		lines = append(lines, "old keeps none of the traffic once new has all: the limit then lies above where old is likely to have come to")
	}
	if b.WarmUp > 0 {
		lines = append(lines, fmt.Sprintf("warming up: instances are not judged in their first %s of traffic", say.Span(b.WarmUp)))
	}
	return lines
}

// Heading names the bench.
func (b Bench) Heading() string {
	return strings.Join([]string{b.Berth.Workload, b.Berth.Site}, " · ")
}
