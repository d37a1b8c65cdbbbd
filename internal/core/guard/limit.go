package guard

import (
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// Limit is what a guard's signal is held against. The zero Limit is none.
type Limit struct {
	Kind   LimitKind
	Value  float64 // in base units: shares from 0 to 1, bytes, seconds
	Unit   Unit
	OfBase bool // Value is a share of what the limit lies above or below
}

// LimitKind is a kind of limit, by its key in a declaration.
type LimitKind string

// Kinds of limits.
const (
	AtMost    LimitKind = "at-most"
	AboveOld  LimitKind = "above-old-by"
	AbovePast LimitKind = "above-past-by"
	AtLeast   LimitKind = "at-least"
	BelowOld  LimitKind = "below-old-by"
	BelowPast LimitKind = "below-past-by"
)

// Base is what a limit lies above, or below.
type Base int

// Bases of limits.
const (
	Nought  Base = iota // nothing: it lies where it is declared
	OldSide             // what the old cohort shows at the same time, or showed last
	OwnPast             // what the workload itself showed at that time of day before
)

// limitKind describes a kind of limit.
type limitKind struct {
	kind  LimitKind
	base  Base
	of    string // the base in words; empty for nothing
	below bool   // what is less than it is a breach
}

// limits has every kind of limit. Reading, judging and telling limits go by it.
var limits = []limitKind{
	{AtMost, Nought, "", false},
	{AboveOld, OldSide, "old", false},
	{AbovePast, OwnPast, "its past", false},
	{AtLeast, Nought, "", true},
	{BelowOld, OldSide, "old", true},
	{BelowPast, OwnPast, "its past", true},
}

// LimitKinds are all kinds of limits.
func LimitKinds() (all []LimitKind) {
	for _, l := range limits {
		all = append(all, l.kind)
	}
	return all
}

func (l Limit) kind() limitKind {
	for _, k := range limits {
		if k.kind == l.Kind {
			return k
		}
	}
	return limitKind{}
}

// Base is what the limit lies above, or below.
func (l Limit) Base() Base { return l.kind().base }

// Relative tells whether the limit is held against the old cohort.
func (l Limit) Relative() bool { return l.Base() == OldSide }

// Below tells whether what is less than the limit is a breach.
func (l Limit) Below() bool { return l.kind().below }

// At is where the limit lies, given what it lies above or below.
func (l Limit) At(base float64) float64 {
	by := l.Value
	switch k := l.kind(); {
	case k.base == Nought:
		return l.Value
	case l.OfBase && k.below:
		return base - by*math.Abs(base)
	case l.OfBase:
		return base + by*math.Abs(base)
	case k.below:
		return base - by
	}
	return base + by
}

// Beyond tells whether a value is a breach of the limit where it lies at a bound.
func (l Limit) Beyond(value, bound float64) bool {
	if l.Below() {
		return value < bound
	}
	return value > bound
}

// Looser tells whether the limit allows more than another one of its kind.
func (l Limit) Looser(than Limit) bool {
	if l.Kind == AtLeast {
		return l.Value < than.Value
	}
	return l.Value > than.Value
}

// Moves tells whether the limit lies elsewhere at other times.
func (l Limit) Moves() bool { return l.Base() != Nought }

// With is the limit with another value.
func (l Limit) With(value float64) Limit {
	l.Value = value
	return l
}

// String tells the limit in words: at most 5 %, at most 0.5 points above old, at most 20 % more than old.
func (l Limit) String() string {
	if against := l.Against(); against != "" {
		return l.Amount() + " " + against
	}
	return l.Amount()
}

// Amount is how much may be, or has to be: at most 0.5 points.
func (l Limit) Amount() string {
	k := l.kind()
	word := "at most "
	if k.kind == AtLeast {
		word = "at least "
	}
	switch {
	case k.kind == "":
		return "no limit"
	case l.Unit == Alerts:
		return "none may fire"
	case k.base != Nought && !l.OfBase:
		return word + l.apart()
	case l.Unit == Share || l.OfBase:
		return word + short(l.Value*100) + " %"
	case l.Unit == Plain:
		return word + short(l.Value)
	}
	return word + l.Unit.Format(l.Value)
}

// Allows tells in words what may be, or has to be: at most 5 % is allowed.
func (l Limit) Allows() string {
	switch {
	case l.Unit == Alerts:
		return "no alert may fire"
	case l.Kind == AtLeast:
		return l.String() + " is needed"
	}
	return l.String() + " is allowed"
}

// Against is what the limit lies above or below, in words: above old. It is empty where it lies where it is declared.
func (l Limit) Against() string {
	k := l.kind()
	switch {
	case k.of == "":
		return ""
	case l.OfBase && k.below:
		return "less than " + k.of
	case l.OfBase:
		return "more than " + k.of
	case k.below:
		return "below " + k.of
	}
	return "above " + k.of
}

// apart says how far two values may be apart.
func (l Limit) apart() string {
	switch {
	case l.Unit != Share:
		return l.Unit.Format(l.Value)
	case l.Value == 0.01:
		return "1 point"
	}
	return short(l.Value*100) + " points"
}

func short(value float64) string { return fmt.Sprintf("%.6g", value) }

// Declared is the limit's value as it stands in a declaration.
func (l Limit) Declared() string {
	number := func(v float64) string { return strconv.FormatFloat(v, 'g', 5, 64) }
	switch {
	case l.OfBase && l.Base() == OldSide:
		return number(l.Value*100) + ofOld
	case l.OfBase:
		return number(l.Value*100) + ofPast
	case l.Unit == Share && l.Base() == Nought:
		return number(l.Value*100) + " %"
	case l.Unit == Share:
		return number(l.Value*100) + " points"
	case l.Unit == Bytes:
		return number(l.Value/1e6) + " MB"
	case l.Unit == Seconds:
		return time.Duration(math.Round(l.Value * 1e9)).String()
	}
	return number(l.Value)
}

// How a share of what a limit lies above, or below, is declared.
const (
	ofOld  = " % of old"
	ofPast = " % of past"
)

// MarshalJSON implements json.Marshaler: {"at-most": 0.05, "unit": "share"}.
func (l Limit) MarshalJSON() ([]byte, error) {
	out := map[string]any{"unit": l.Unit}
	if l.Kind != "" {
		out[string(l.Kind)] = l.Value
	}
	if l.OfBase {
		out[ofBaseKey] = true
	}
	return json.Marshal(out)
}

// UnmarshalJSON implements json.Unmarshaler.
func (l *Limit) UnmarshalJSON(text []byte) error {
	var fields map[string]json.RawMessage
	if err := json.Unmarshal(text, &fields); err != nil {
		return err
	}
	*l = Limit{}
	for key, value := range fields {
		if key == "unit" {
			if err := json.Unmarshal(value, &l.Unit); err != nil {
				return err
			}
			continue
		}
		if key == ofBaseKey {
			if err := json.Unmarshal(value, &l.OfBase); err != nil {
				return err
			}
			continue
		}
		if l.Kind = LimitKind(key); l.kind().kind == "" {
			return fmt.Errorf("there is no limit %q; there are %s", key, strings.Join(names(LimitKinds()), ", "))
		}
		if err := json.Unmarshal(value, &l.Value); err != nil {
			return err
		}
	}
	return nil
}

// ofBaseKey says in JSON that a limit's value is a share of what it lies above or below.
const ofBaseKey = "of-base"

func names(kinds []LimitKind) (all []string) {
	for _, k := range kinds {
		all = append(all, string(k))
	}
	return all
}
