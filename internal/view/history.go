package view

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/rollout"
	"aditus/internal/ledger"
)

// Refine selects facts: those that have all of it. The zero Refine selects all.
type Refine struct {
	Words     []string // in the text, in the berth, the kind or the name of whoever did it; letters of either case
	Workloads []string // globs; one of them
	Sites     []string // globs
	By        []string // globs, of names or of the first letters of a part of one
	Kinds     []string // globs
	Since     time.Time
	Until     time.Time
}

// RefineFields are the fields that ReadRefine knows, as they are written.
var RefineFields = []string{"site:", "workload:", "by:", "kind:", "on:", "since:", "until:"}

// ReadRefine reads what people type: words, "several words" in quotes, and fields such as site:north, by:edda, kind:rolled, on:tue, since:mon,
// since:7d or until:2026-11-26. A field that stands there several times selects what any of them does.
func ReadRefine(text string, now time.Time) (r Refine, err error) {
	for _, token := range tokens(text) {
		field, value, is := strings.Cut(token, ":")
		switch {
		case is && value == "" && slices.Contains(RefineFields, field+":"):
			continue // it is being typed
		case is && field == "site":
			r.Sites = append(r.Sites, strings.ToLower(value))
		case is && field == "workload":
			r.Workloads = append(r.Workloads, strings.ToLower(value))
		case is && field == "by":
			r.By = append(r.By, strings.ToLower(value))
		case is && field == "kind":
			r.Kinds = append(r.Kinds, strings.ToLower(value))
		case is && field == "on":
			at, err := ReadMoment(value, now)
			if err != nil {
				return r, err
			}
			r.Since = time.Date(at.Year(), at.Month(), at.Day(), 0, 0, 0, 0, at.Location())
			r.Until = r.Since.AddDate(0, 0, 1)
		case is && field == "since":
			if r.Since, err = ReadMoment(value, now); err != nil {
				return r, err
			}
		case is && field == "until":
			if r.Until, err = ReadMoment(value, now); err != nil {
				return r, err
			}
		default:
			r.Words = append(r.Words, strings.ToLower(token))
		}
	}
	return r, nil
}

// tokens are the words of a text; those in quotes are one.
func tokens(text string) (all []string) {
	quoted, token := false, ""
	for _, letter := range text {
		switch {
		case letter == '"':
			quoted = !quoted
		case letter == ' ' && !quoted:
			all, token = append(all, token), ""
		default:
			token += string(letter)
		}
	}
	return slices.DeleteFunc(append(all, token), func(t string) bool { return t == "" })
}

// ReadMoment reads a day by its name or date, a moment, or so long ago.
func ReadMoment(text string, now time.Time) (time.Time, error) {
	day := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())
	text = strings.ToLower(text)
	switch text {
	case "today":
		return day, nil
	case "yesterday":
		return day.AddDate(0, 0, -1), nil
	}
	for back := range 7 { // the last one of the name
		at := day.AddDate(0, 0, -back)
		if name := strings.ToLower(at.Weekday().String()); len(text) >= 3 && strings.HasPrefix(name, text) {
			return at, nil
		}
	}
	if at, err := time.ParseInLocation(time.DateOnly, text, now.Location()); err == nil {
		return at, nil
	}
	if at, err := time.Parse(time.RFC3339, strings.ToUpper(text)); err == nil {
		return at, nil
	}
	if days, ok := strings.CutSuffix(text, "d"); ok {
		if n, err := strconv.Atoi(days); err == nil && n >= 0 {
			return now.AddDate(0, 0, -n), nil
		}
	}
	if ago, err := time.ParseDuration(text); err == nil && ago >= 0 {
		return now.Add(-ago), nil
	}
	return time.Time{}, fmt.Errorf("%q is no moment: write 2h or 3d for so long ago, mon, yesterday, 2026-11-26, or 2026-11-26T08:00:00Z", text)
}

// Has tells whether a fact is selected.
func (r Refine) Has(f ledger.Fact) bool {
	if !r.Since.IsZero() && f.At.Before(r.Since) || !r.Until.IsZero() && !f.At.Before(r.Until) {
		return false
	}
	by := strings.ToLower(f.By)
	if !oneOf(r.Workloads, strings.ToLower(f.Workload)) || !oneOf(r.Sites, strings.ToLower(f.Site)) || !oneOf(r.Kinds, string(f.Kind)) || !oneOf(r.By, append(strings.Fields(by), by)...) {
		return false
	}
	all := strings.ToLower(strings.Join([]string{f.Text, f.Workload, f.Site, string(f.Kind), f.By, f.Revision.Short()}, "\n"))
	return !slices.ContainsFunc(r.Words, func(word string) bool { return !strings.Contains(all, word) })
}

// oneOf tells whether a name is one of patterns, or begins with one; also where there is no pattern.
func oneOf(patterns []string, names ...string) bool {
	if len(patterns) == 0 {
		return true
	}
	return slices.ContainsFunc(patterns, func(p string) bool {
		return slices.ContainsFunc(names, func(name string) bool {
			fits, err := path.Match(p, name)
			return err == nil && fits || name != "" && strings.HasPrefix(name, p)
		})
	})
}

// Happening is what happened at one moment, or a rollout with all that happened in it.
type Happening struct {
	Rollout  int64         // 0 for a single fact
	Facts    []ledger.Fact // newest first; one of a single fact
	Began    time.Time     // of a rollout, as far as it is among the facts
	Revision declare.Fingerprint
}

// Last is the newest of its facts.
func (e Happening) Last() ledger.Fact { return e.Facts[0] }

// outcomes are the kinds of facts that say what became of a rollout.
var outcomes = []berth.Kind{berth.Kind(rollout.FactRolledBack), berth.Kind(rollout.FactProven), berth.Kind(rollout.FactAbandoned)}

// Outcome is the fact that says what became of it: the newest one while nothing has.
func (e Happening) Outcome() ledger.Fact {
	for _, f := range e.Facts {
		if slices.Contains(outcomes, f.Kind) {
			return f
		}
	}
	return e.Last()
}

// Happenings make of facts what is listed, newest first: each that is selected for itself, or rollouts of which anything is as a whole, at the moment
// of the newest.
func Happenings(facts []ledger.Fact, r Refine, byRollout bool) (events []Happening) {
	type key struct {
		berth   berth.ID
		rollout int64
	}
	at := map[key]int{}
	facts = slices.Clone(facts)
	slices.SortStableFunc(facts, func(a, b ledger.Fact) int { return a.At.Compare(b.At) }) // what was brought from elsewhere is older than its number
	for _, f := range slices.Backward(facts) {
		k := key{f.Berth(), f.Rollout}
		if i, known := at[k]; byRollout && f.Rollout != 0 && known {
			events[i].Facts, events[i].Began = append(events[i].Facts, f), f.At
			continue
		}
		e := Happening{Facts: []ledger.Fact{f}, Began: f.At, Revision: f.Revision}
		if byRollout && f.Rollout != 0 {
			e.Rollout, at[k] = f.Rollout, len(events)
		}
		events = append(events, e)
	}
	return slices.DeleteFunc(events, func(e Happening) bool { return !slices.ContainsFunc(e.Facts, r.Has) })
}
