package view

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/rollout"
	"aditus/internal/ledger"
)

// Report is how releases went: by workload and month.
type Report struct {
	Line   string        `json:"line"`
	From   time.Time     `json:"from"`   // of the first fact that was looked at
	Until  time.Time     `json:"until"`  // of the last
	Months []ReportMonth `json:"months"` // the newest first
	All    ReportLine    `json:"all"`
}

// ReportMonth is a month, as the zone has it that was asked for.
type ReportMonth struct {
	Month     string       `json:"month"`     // such as 2026-03
	Workloads []ReportLine `json:"workloads"` // that had releases, by name
	All       ReportLine   `json:"all"`
}

// ReportLine is how releases went, each a rollout at one site, by when it began.
type ReportLine struct {
	Workload  string        `json:"workload,omitempty"` // empty for all
	Releases  int           `json:"releases"`
	Proven    int           `json:"proven"`
	Back      int           `json:"back"`      // that came back
	Abandoned int           `json:"abandoned"` // or were left for a newer one, or torn down
	UnderWay  int           `json:"under_way"`
	Typical   time.Duration `json:"typical,omitempty"` // from its beginning to the proof: the median
	Slow      time.Duration `json:"slow,omitempty"`    // so long or less nine of ten took
	Longest   time.Duration `json:"longest,omitempty"`
	TurnBack  time.Duration `json:"turn_back,omitempty"` // from the first sign to the old revision serving alone: the median
	Why       []ReportWhy   `json:"why,omitempty"`       // those that came back, the most common first

	took, turns []time.Duration
}

// ReportWhy is a reason, and how many came back for it.
type ReportWhy struct {
	Reason string `json:"reason"` // a guard's name, or what sort of thing it was
	Times  int    `json:"times"`
}

// released is one rollout, as its facts tell it.
type released struct {
	workload string
	began    time.Time
	ended    time.Time
	signed   time.Time // of what it turned for
	how      berth.Kind
	why      string
}

// reasons are what rollouts turn for, beside guards, in words.
var reasons = map[rollout.CauseKind]string{
	rollout.ByHealth: "unhealthy instances", rollout.ByArtifact: "cannot start", rollout.ByDeadline: "deadline", rollout.ByTask: "a task failed", rollout.ByPerson: "a person", rollout.ByNewer: "superseded", rollout.ByCourse: "went back with others",
}

// NewReport tells how releases went that facts tell of, oldest first, by the months of a zone.
func NewReport(line string, facts []ledger.Fact, zone *time.Location) Report {
	r := Report{Line: line, Months: []ReportMonth{}}
	all, order, latest := map[int64]*released{}, []int64{}, map[berth.ID]*released{}
	for _, f := range facts {
		if r.From.IsZero() {
			r.From = f.At
		}
		r.Until = f.At
		id := berth.ID{Workload: f.Workload, Site: f.Site}
		if last := latest[id]; last != nil && last.how == "" && (f.Kind == berth.Taken && f.Rollout != 0 || f.Kind == berth.WasTornDown) {
			last.ended, last.how = f.At, rollout.FactAbandoned // nothing says so of one that a newer one took the place of
		}
		if f.Rollout == 0 {
			continue
		}
		one := all[f.Rollout]
		if one == nil {
			if f.Kind != berth.Taken { // it began before
				continue
			}
			one = &released{workload: f.Workload, began: f.At}
			all[f.Rollout], latest[id], order = one, one, append(order, f.Rollout)
		}
		one.take(f)
	}
	months := map[string]map[string]*ReportLine{}
	for _, id := range order {
		one := all[id]
		month := one.began.In(zone).Format("2006-01")
		if months[month] == nil {
			months[month] = map[string]*ReportLine{}
		}
		for _, name := range []string{one.workload, ""} {
			if months[month][name] == nil {
				months[month][name] = &ReportLine{Workload: name}
			}
			months[month][name].add(one)
		}
		r.All.add(one)
	}
	for month, lines := range months {
		m := ReportMonth{Month: month}
		for name, l := range lines {
			if l.sum(); name == "" {
				m.All = *l
			} else {
				m.Workloads = append(m.Workloads, *l)
			}
		}
		slices.SortFunc(m.Workloads, func(a, b ReportLine) int { return cmp.Compare(a.Workload, b.Workload) })
		r.Months = append(r.Months, m)
	}
	slices.SortFunc(r.Months, func(a, b ReportMonth) int { return cmp.Compare(b.Month, a.Month) })
	r.All.sum()
	return r
}

// take takes what a fact tells of it.
func (one *released) take(f ledger.Fact) {
	switch f.Kind {
	case rollout.FactBreach:
		var cause rollout.Cause
		if json.Unmarshal(f.Data, &cause) == nil && one.why == "" {
			one.why = cmp.Or(reasons[cause.Kind], string(cause.Kind))
			if cause.Verdict != nil {
				one.why = cause.Verdict.Guard
			}
		}
		if one.signed.IsZero() {
			one.signed = f.At
		}
	case rollout.FactRollback:
		if one.why == "" && f.By != rollout.Automatic {
			one.why = reasons[rollout.ByPerson]
		}
		if one.signed.IsZero() {
			one.signed = f.At
		}
	case rollout.FactProven, rollout.FactRolledBack, rollout.FactAbandoned:
		if one.ended, one.how = f.At, f.Kind; f.Kind == rollout.FactRolledBack && one.why == "" {
			one.how = rollout.FactAbandoned // it broke no limit and nobody turned it round: a newer one came
		}
	}
}

// add counts a rollout.
func (l *ReportLine) add(one *released) {
	l.Releases++
	switch one.how {
	case rollout.FactProven:
		l.Proven++
		l.took = append(l.took, one.ended.Sub(one.began))
	case rollout.FactRolledBack:
		l.Back++
		if !one.signed.IsZero() {
			l.turns = append(l.turns, one.ended.Sub(one.signed))
		}
		if at := slices.IndexFunc(l.Why, func(w ReportWhy) bool { return w.Reason == one.why }); at >= 0 {
			l.Why[at].Times++
		} else {
			l.Why = append(l.Why, ReportWhy{one.why, 1})
		}
	case rollout.FactAbandoned:
		l.Abandoned++
	default:
		l.UnderWay++
	}
}

// sum makes the lengths of what was counted.
func (l *ReportLine) sum() {
	l.Typical, l.Slow, l.Longest, l.TurnBack = part(l.took, 0.5), part(l.took, 0.9), part(l.took, 1), part(l.turns, 0.5)
	slices.SortStableFunc(l.Why, func(a, b ReportWhy) int {
		return cmp.Or(b.Times-a.Times, cmp.Compare(a.Reason, b.Reason))
	})
}

// part is the length that a share of some are not longer than: the nearest rank.
func part(all []time.Duration, share float64) time.Duration {
	if len(all) == 0 {
		return 0
	}
	sorted := slices.Sorted(slices.Values(all))
	at := int(share*float64(len(sorted))+0.999999) - 1
	return sorted[max(0, min(at, len(sorted)-1))]
}

// Told tells what became of those that were not proven, the most common reason first.
func (l ReportLine) Told() string {
	var told []string
	for _, w := range l.Why {
		told = append(told, fmt.Sprintf("%d %s", w.Times, w.Reason))
	}
	if l.Abandoned > 0 {
		told = append(told, fmt.Sprintf("%d left for a newer one, or abandoned", l.Abandoned))
	}
	if l.UnderWay > 0 {
		told = append(told, fmt.Sprintf("%d under way", l.UnderWay))
	}
	return strings.Join(told, ", ")
}
