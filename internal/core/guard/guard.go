// Package guard judges signals: it holds a rule's limit against what the old and the new cohort showed and gives a
// verdict with its evidence. It decides nothing about a rollout; that is package rollout's part.
package guard

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"aditus/internal/core/signal"
)

// Rule is a guard as declared.
type Rule struct {
	Name     string        `json:"name"`
	Signal   signal.Source `json:"signal"`
	Limit    Limit         `json:"limit"`
	Hours    []Hours       `json:"hours,omitempty"` // in which another limit holds, the first that fits
	Way      Way           `json:"decide"`
	Breach   *Count        `json:"breach,omitempty"` // ByCount alone
	Safe     Safe          `json:"safe,omitempty"`   // Sequential, above old: which good version is hardly ever rolled back
	Missing  Missing       `json:"missing"`
	Then     Action        `json:"then"`
	Standing Action        `json:"standing"` // what a breach does once the revision is proven: roll back or tell
}

// Way is how a guard comes to its verdict.
type Way string

const (
	ByCount    Way = "count"      // so many of the last so many intervals beyond the limit
	Sequential Way = "sequential" // evidence that adds up over the intervals, see Process
)

// Safe says which good version a guard with a limit above old rolls back with at most the chance of its risk.
type Safe string

const (
	WithinLimit Safe = ""                  // one that is worse than old by no more than the limit
	NoWorse     Safe = "no worse than old" // one that is no worse than old at all; beyond that it goes back as soon as it is seen to be worse, and its estimate is beyond the limit
)

// Count decides by counting: a breach is Intervals of the last Of intervals beyond the limit, where an interval counts
// once it holds Samples samples. Neighbours that hold fewer are judged together.
type Count struct {
	Intervals int     `json:"intervals"`
	Of        int     `json:"of"`
	Samples   float64 `json:"samples"`
}

// Missing says what it means when a signal is silent.
type Missing string

const (
	MissingHolds    Missing = "hold"   // nothing advances until it speaks again
	MissingBreaches Missing = "breach" // silence is as bad as a breach
	MissingIgnored  Missing = "ignore" // silence counts as clear
)

// Action is what a breach does.
type Action string

const (
	RollBack Action = "roll back"
	Hold     Action = "hold"
	Tell     Action = "tell"
)

// Word is a verdict in one word.
type Word string

const (
	Clear     Word = "clear"
	Undecided Word = "undecided"
	Breach    Word = "breach"
	Silent    Word = "silent"
)

// Interval is one evaluation: what each cohort showed, nil where it showed nothing.
type Interval struct {
	At       time.Time
	Old, New *signal.Point
	Each     Each     `json:"-"`          // what each instance showed, where that is known
	Bound    *float64 `json:",omitempty"` // where the limit lies in this interval, where that is neither fixed nor as far from Old as declared
}

// Each is what the instances of both cohorts showed, by their names.
type Each struct{ Old, New map[string]signal.Tally }

// Verdict is a guard's judgement with its evidence.
type Verdict struct {
	Guard      string        `json:"guard"`
	Word       Word          `json:"word"`
	Limit      Limit         `json:"limit"`
	Then       Action        `json:"then"`
	Missing    Missing       `json:"missing"`
	Old        *Estimate     `json:"old,omitempty"`
	New        *Estimate     `json:"new,omitempty"`
	Difference *Estimate     `json:"difference,omitempty"` // new less old
	Beyond     int           `json:"beyond"`               // intervals beyond the limit, of the last Judged
	Judged     int           `json:"judged"`
	Of         int           `json:"of"`
	Way        Way           `json:"way"`
	Bound      *float64      `json:"bound,omitempty"`    // where the limit lies now, where it moves
	Evidence   float64       `json:"evidence,omitempty"` // Sequential: of a breach, on a logarithmic scale; 1 is a breach
	Wait       time.Duration `json:"wait,omitempty"`     // Undecided: within how long it is decided, in four of five cases
	Since      time.Time     `json:"since,omitzero"`     // Silent: the last time it spoke
	Odd        []string      `json:"odd,omitempty"`      // instances of either cohort that are far worse than the rest of it: new is not held against old's, and new's make no breach
	Why        string        `json:"why,omitempty"`      // Silent: what keeps its signal from being read, where that is known; Undecided: what keeps it from being clear
	From       string        `json:"from,omitempty"`     // where its signal comes from, where that is not what the instances show
	Each       string        `json:"each,omitempty"`     // LABEL=VALUE of what breaches, where each value of a label is judged by itself
	Worst      *Worst        `json:"worst,omitempty"`    // what of these is closest to the limit, where none breaches
	Warming    bool          `json:"warming,omitempty"`  // Undecided: all that new shows comes from instances that are warming up
	At         time.Time     `json:"at"`
}

// Worst is what is closest to a limit of all that is judged by itself.
type Worst struct {
	Each string   `json:"each"` // LABEL=VALUE
	Word Word     `json:"word"`
	Held Estimate `json:"held"` // what is held against the limit
}

// Name is the guard with what of its signal breaches, where that is not all.
func (v Verdict) Name() string {
	if v.Each == "" {
		return v.Guard
	}
	return v.Guard + " of " + v.Each
}

// Stops tells whether the verdict keeps a rollout from advancing.
func (v Verdict) Stops() bool {
	switch v.Word {
	case Clear:
		return false
	case Silent:
		return v.Missing != MissingIgnored
	case Breach:
		return v.Then != Tell
	}
	return true
}

// Held gives what is held against the limit, nil where nothing was measured, and where the limit lies: the new cohort's
// value against a fixed limit or one that moves, and otherwise its difference from old.
func (v Verdict) Held() (reached *Estimate, limit float64) {
	switch {
	case v.Bound != nil:
		return v.New, *v.Bound
	case v.Limit.Relative():
		return v.Difference, v.Limit.Value
	case v.Limit.Base() == OwnPast:
		return nil, v.Limit.Value // there is no past yet to hold it against
	}
	return v.New, v.Limit.Value
}

// Margin is how far the signal is from its limit, as a share of the limit: 1 at nought, 0 at the limit, negative
// beyond it. It is false while there is nothing to measure.
func (v Verdict) Margin() (float64, bool) {
	reached, limit := v.Held()
	if reached == nil || limit == 0 || math.IsInf(limit, 0) {
		return 0, false
	}
	if v.Limit.Below() {
		return reached.Value/limit - 1, true
	}
	return 1 - reached.Value/limit, true
}

// silentAfter is how many evaluation intervals may pass without a sample before a signal counts as silent.
const silentAfter = 3

// Judge gives the verdict on history, oldest interval first, as of now. Only intervals under the same share should be
// in it: what the new cohort showed at 5 % says little about 25 %. every is the evaluation interval.
func Judge(rule Rule, history []Interval, began, now time.Time, every time.Duration) Verdict {
	v := Verdict{Guard: rule.Name, Limit: rule.LimitAt(now), Then: rule.Then, Missing: rule.Missing, From: rule.Signal.From(), Way: ByCount, Of: rule.Breach.Of, At: now}
	if rule.Limit.Base() == OwnPast { // where there is too little past, there is nothing to hold it against
		history = slices.DeleteFunc(slices.Clone(history), func(i Interval) bool { return i.Bound == nil })
	}
	judged := merge(rule, history, every)
	if len(judged) > 0 {
		v.Bound = judged[len(judged)-1].Bound
	}
	if len(judged) > rule.Breach.Of {
		judged = judged[len(judged)-rule.Breach.Of:]
	}
	var untold []Interval // which may be beyond the limit, or not: a quantile that no bucket holds
	for _, interval := range judged {
		if beyond(rule, interval) {
			v.Beyond++
		} else if !rule.Limit.Below() && rule.Signal.Beyond(interval.New.Tally) {
			untold = append(untold, interval)
		}
	}
	v.Judged = len(judged)
	evidence := recent(history, judged)
	if v.Beyond >= rule.Breach.Intervals {
		evidence = slices.DeleteFunc(judged, func(i Interval) bool { return !beyond(rule, i) })
	}
	v.Old, v.New, v.Difference = estimate(rule.Signal, evidence)

	spoke := began
	for _, interval := range history {
		if interval.New != nil && (interval.Old != nil || interval.Bound != nil || !rule.Limit.Relative()) && interval.At.After(spoke) {
			spoke = interval.At
		}
	}
	switch {
	case v.Beyond >= rule.Breach.Intervals:
		v.Word = Breach
	case now.Sub(spoke) > silentAfter*every, v.Beyond+len(untold) >= rule.Breach.Intervals:
		v.Word, v.Since = Silent, spoke
		if len(untold) > 0 {
			v.Since = untold[0].At
			v.Why = fmt.Sprintf("its quantile %g lies beyond the last bucket, %s, and may be over the limit", rule.Signal.Quantile, rule.Limit.Unit.Format(untold[0].New.Value))
		}
		if rule.Missing == MissingBreaches {
			v.Word = Breach
		}
	case v.Judged >= rule.Breach.Of:
		v.Word = Clear
	default:
		v.Word = Undecided
		v.Wait = time.Duration(rule.Breach.Of-v.Judged) * pace(len(history), v.Judged, every)
	}
	return v
}

// pace is how long one judged interval takes at the present flow of samples.
func pace(seen, judged int, every time.Duration) time.Duration {
	if judged == 0 {
		return time.Duration(max(1, seen)) * every
	}
	return max(every, every*time.Duration(seen)/time.Duration(judged))
}

// merge joins neighbouring intervals until each holds enough samples and is as long as those between two looks usually are, and
// drops a last one that is not yet.
func merge(rule Rule, history []Interval, every time.Duration) []Interval {
	judged := make([]Interval, 0, len(history))
	var open Interval
	var from time.Time // where the open one begins, where that is known
	for i, interval := range history {
		if open.At.IsZero() && i > 0 {
			from = history[i-1].At
		}
		open.At, open.Bound = interval.At, interval.Bound
		open.Old, open.New = join(rule.Signal, open.Old, interval.Old), join(rule.Signal, open.New, interval.New)
		if interval.At.Sub(from) >= every-every/10 && enough(rule, open.New) && (!rule.Limit.Relative() || open.Bound != nil || enough(rule, open.Old)) {
			if open.Bound == nil && rule.Limit.Relative() && (rule.Limit.OfBase || rule.Limit.Below()) {
				open.Bound = new(rule.Limit.At(open.Old.Value))
			}
			judged, open = append(judged, open), Interval{}
		}
	}
	return judged
}

func enough(rule Rule, p *signal.Point) bool { return p != nil && p.Whole >= rule.Breach.Samples }

func join(source signal.Source, a, b *signal.Point) *signal.Point {
	if a == nil || b == nil {
		if a == nil {
			return b
		}
		return a
	}
	if source.Kind == signal.Burn { // of windows, of which the later one has what the earlier one had
		return b
	}
	sum := signal.Point{At: b.At, Tally: a.Add(b.Tally)}
	if value, ok := source.Value(sum.Tally); ok {
		sum.Value = value
	} else {
		sum.Value = b.Value
	}
	if source.Kind == signal.Rate || source.Kind == signal.Quantile {
		sum.Value = (a.Value*a.Whole + b.Value*b.Whole) / max(1e-12, a.Whole+b.Whole)
	}
	return &sum
}

func beyond(rule Rule, interval Interval) bool {
	switch {
	case interval.Bound != nil:
		return rule.Limit.Beyond(interval.New.Value, *interval.Bound)
	case rule.Limit.Relative():
		return interval.New.Value-interval.Old.Value > rule.Limit.Value
	}
	return rule.Limit.Beyond(interval.New.Value, rule.Limit.Value)
}

// recent gives the intervals that the judged ones were made from, or all while nothing can be judged.
func recent(history, judged []Interval) []Interval {
	if len(judged) < 2 {
		return history
	}
	for i, interval := range history {
		if interval.At.Equal(judged[0].At) {
			return history[i:]
		}
	}
	return history
}

// Unit is what a limit and its signal are counted in.
type Unit string

const (
	Share   Unit = "share"   // 0 to 1, shown in per cent; differences of shares in points
	Bytes   Unit = "bytes"   // shown in kB, MB, GB (powers of 1000)
	Seconds Unit = "seconds" // shown in ms or s
	Plain   Unit = "plain"   // a bare number
	Alerts  Unit = "alerts"  // how many alerts fire
)

// Format gives a value with its unit, in the resolution a person reads: 9.1 %, 214 MB, 180 ms.
func (u Unit) Format(value float64) string {
	switch u {
	case Alerts:
		if value == 0 {
			return "none"
		}
		return trim(value, 3)
	case Share:
		return trim(value*100, 2) + " %"
	case Bytes:
		for _, step := range []struct {
			size float64
			name string
		}{{1e9, "GB"}, {1e6, "MB"}, {1e3, "kB"}} {
			if math.Abs(value) >= step.size {
				return trim(value/step.size, 3) + " " + step.name
			}
		}
		return trim(value, 3) + " B"
	case Seconds:
		if math.Abs(value) < 1 {
			return trim(value*1000, 3) + " ms"
		}
		return trim(value, 2) + " s"
	}
	return trim(value, 3)
}

// FormatDifference is Format for the difference of two values: shares differ by points.
func (u Unit) FormatDifference(value float64) string {
	sign := ""
	if value > 0 {
		sign = "+"
	}
	if u == Share {
		return sign + trim(value*100, 2) + " points"
	}
	return sign + u.Format(value)
}

// FormatInterval is FormatDifference with its interval: +7.6 (+6.0 to +9.3) points.
func (u Unit) FormatInterval(e Estimate) string {
	if u == Share {
		signed := func(v float64) string { return strings.TrimSuffix(u.FormatDifference(v), " points") }
		return fmt.Sprintf("%s (%s to %s) points", signed(e.Value), signed(e.Low), signed(e.High))
	}
	return fmt.Sprintf("%s (%s to %s)", u.FormatDifference(e.Value), u.FormatDifference(e.Low), u.FormatDifference(e.High))
}

// trim writes a number with about the given count of digits that matter and no fewer than its whole part.
func trim(value float64, digits int) string {
	if value == 0 {
		return "0"
	}
	size := math.Abs(value)
	decimals := digits
	for edge := 1.0; decimals > 0 && size >= edge; edge *= 10 {
		decimals--
	}
	return fmt.Sprintf("%.*f", decimals, value)
}
