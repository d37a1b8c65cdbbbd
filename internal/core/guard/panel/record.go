package panel

import (
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/signal"
)

// Point is a guard's signal of one revision's cohort over one evaluation interval, as it is kept on record.
type Point struct {
	Guard    string
	Revision declare.Fingerprint
	At       time.Time
	Value    float64
	Part     float64
	Whole    float64
	Stage    int // of the rollout under whose share the whole interval lay, from 0; -1 for none
}

// Signal is the point as a guard takes it. What a quantile was computed from is not kept, its value is.
func (p Point) Signal() signal.Point {
	return signal.Point{At: p.At, Value: p.Value, Tally: signal.Tally{Part: p.Part, Whole: p.Whole, Instances: 1}}
}

// Unkept gives the evaluations that are not on record yet, but for those long before.
func (p *Panel) Unkept() (points []Point) {
	for _, e := range p.series[max(0, len(p.series)-LeadIn):] {
		if e.kept {
			continue
		}
		for name, byRevision := range e.points {
			for revision, v := range byRevision {
				points = append(points, Point{Guard: name, Revision: revision, At: e.at, Value: v.Value, Part: v.Part, Whole: v.Whole, Stage: e.stage})
			}
		}
	}
	return points
}

// Kept notes that all evaluations so far are on record.
func (p *Panel) Kept() {
	for _, e := range p.series {
		e.kept = true
	}
}

// Recall brings evaluations back that were kept before a restart, so that evidence is not lost with it. They come
// oldest first.
func (p *Panel) Recall(points []Point) {
	byTime := map[int64]*evaluation{}
	for _, kept := range points {
		e := byTime[kept.At.UnixMilli()]
		if e == nil {
			e = &evaluation{at: kept.At, stage: kept.Stage, points: map[string]map[declare.Fingerprint]*signal.Point{}, kept: true}
			byTime[kept.At.UnixMilli()] = e
			p.series = append(p.series, e)
		}
		if e.points[kept.Guard] == nil {
			e.points[kept.Guard] = map[declare.Fingerprint]*signal.Point{}
		}
		point := kept.Signal()
		e.points[kept.Guard][kept.Revision] = &point
	}
	if n := len(p.series); n > 0 {
		p.latest = p.series[n-1].at
	}
}

// SteadyEvery is the interval over which what a revision shows while it serves alone is summed up, to be kept for good.
const SteadyEvery = 5 * time.Minute

// steady is what is summed up, since when.
type steady struct {
	from time.Time
	sums map[string]*Point // by guard
}

// keepSteady adds an evaluation of what serves alone to what is kept for good.
func (p *Panel) keepSteady(e *evaluation, s Subject) {
	if !s.stands() {
		p.steady = nil
		return
	}
	if p.steady == nil {
		p.steady = &steady{e.at, map[string]*Point{}}
	}
	for _, rule := range s.Rules.Guards {
		v := e.points[rule.Name][s.Applied]
		if v == nil {
			continue
		}
		sum := p.steady.sums[rule.Name]
		if sum == nil {
			sum = &Point{Guard: rule.Name, Revision: s.Applied, Stage: noStage}
			p.steady.sums[rule.Name] = sum
		}
		// Weighted by what is behind each value, so that a mean and a rate come out right as well.
		sum.Value = (sum.Value*sum.Whole + v.Value*v.Whole) / max(1e-12, sum.Whole+v.Whole)
		sum.Part, sum.Whole, sum.At = sum.Part+v.Part, sum.Whole+v.Whole, e.at
	}
}

// Steady gives the sums that are due to be kept; none before.
func (p *Panel) Steady(now time.Time) (points []Point) {
	if p.steady == nil || now.Sub(p.steady.from) < SteadyEvery {
		return nil
	}
	for _, sum := range p.steady.sums {
		points = append(points, *sum)
	}
	return points
}

// KeptSteady notes that those sums are on record, and begins the next.
func (p *Panel) KeptSteady() { p.steady = nil }
