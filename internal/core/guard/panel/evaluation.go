package panel

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/say"
	"aditus/internal/core/signal"
)

// Scrape is what one instance showed at one moment.
type Scrape struct {
	Instance string
	Part     string
	Revision declare.Fingerprint
	Both     bool // it is the old cohort's just as well as the new one's, as nothing of it differs
	Started  time.Time
	At       time.Time // when it was measured; zero for now
	Unread   string    // why its own page could not be read; empty where it was
	Requests string    // the counter of its requests
	Page     signal.Page
	Measured signal.Page // what its site measured of it
	Told     string      // what is behind what it showed, in words, where that is more than a number
}

// page is all that is known of the instance. Where both have a metric, it is the instance's own that counts.
func (s Scrape) page() signal.Page {
	if len(s.Measured) == 0 {
		return s.Page
	}
	both := make(signal.Page, len(s.Page)+len(s.Measured))
	maps.Copy(both, s.Measured)
	maps.Copy(both, s.Page)
	return both
}

// at is when it was measured, where that is evaluated at a moment.
func (s Scrape) at(evaluated time.Time) time.Time {
	if s.At.IsZero() {
		return evaluated
	}
	return s.At
}

// late tells that what is known of a signal is no newer than what was, so that nothing is known of this interval yet; empty where it
// is. Its cohorts are read at once or not at all, as what comes of them is held against each other.
func (p *Panel) late(rule guard.Rule, scrapes []Scrape, now time.Time) string {
	for _, s := range scrapes {
		if before := p.tracker(rule.Name).At(s.Instance); !s.At.IsZero() && !s.At.After(before) {
			return fmt.Sprintf("the last sample of %s is %s old", s.Instance, say.Span(now.Sub(s.At)))
		}
	}
	return ""
}

// evaluation is what every guard's signal was within one interval, by revision.
type evaluation struct {
	at       time.Time
	stage    int // of the rollout under whose share all of it lies; noStage for none
	points   map[string]map[declare.Fingerprint]*signal.Point
	each     map[string]guard.Each // what each instance showed, by guard
	requests map[declare.Fingerprint]float64
	young    map[string]signal.Tally // what new's instances showed that are warming up, by guard
	silent   map[string]string       // why guards have no signal of the newest revision that should have one, by guard
	told     map[string]string       // what is behind what new showed, in words, by guard
	pasts    map[string]*float64     // where limits above the past lay, by guard, once that was asked for
	kept     bool                    // on record
}

// past is where a limit above the workload's own past lay.
func (e *evaluation) past(rule guard.Rule, s Subject) *float64 {
	bound, known := e.pasts[rule.Name]
	if !known {
		bound = guard.Past(rule, s.Past[rule.Name], e.at)
		if e.pasts == nil {
			e.pasts = map[string]*float64{}
		}
		e.pasts[rule.Name] = bound
	}
	return bound
}

// requestsGuard names the tracker that counts requests, for the traffic's observed split.
const requestsGuard = ""

// Evaluate makes one evaluation of all signals from what the instances showed since the one before. there tells which
// instances are still at the site: the readings of others are forgotten.
func (p *Panel) Evaluate(s Subject, scrapes []Scrape, there func(instance string) bool, now time.Time) {
	p.latest = now
	e := &evaluation{at: now, stage: noStage, points: map[string]map[declare.Fingerprint]*signal.Point{}, requests: map[declare.Fingerprint]float64{}, silent: map[string]string{}, told: map[string]string{}, each: map[string]guard.Each{}, young: map[string]signal.Tally{}}
	if stage := s.stage(); stage != noStage && whole(now, s.Roll.Shared, s.Roll.Rules.Interval.Duration) {
		e.stage = stage
	}
	for i := range scrapes {
		scrapes[i].Page = scrapes[i].page()
	}
	for _, rule := range s.Rules.Guards {
		shown := scrapes
		if rule.Signal.Elsewhere() {
			shown = s.Elsewhere[rule.Name]
		}
		if rule.Signal.Each != "" {
			p.learn(rule, shown)
		}
		for _, one := range append(p.each(rule), rule) {
			p.points(e, one, shown, s)
		}
		if rule.Signal.Each != "" && len(p.each(rule)) == 0 && len(e.points[rule.Name]) > 0 { // nothing would ever be judged by itself
			clear(e.points[rule.Name])
			e.silent[rule.Name] = "no sample has the label " + rule.Signal.Each
		}
	}
	source := signal.Source{Kind: signal.Rate}
	for _, scrape := range scrapes {
		source.Of.Metric = scrape.Requests
		if scrape.Both {
			continue // they tell nothing of how the traffic is split
		}
		if tally, ok, _ := p.tracker(requestsGuard).Take(source, scrape.Instance, scrape.Page, now); ok {
			e.requests[scrape.Revision] += tally.Part
		}
	}
	elsewhere := map[string]bool{}
	for _, shown := range s.Elsewhere {
		for _, scrape := range shown {
			elsewhere[scrape.Instance] = true
		}
	}
	for _, tracker := range p.trackers {
		tracker.Forget(func(instance string) bool { return elsewhere[instance] || there(instance) })
	}
	p.series = append(p.series, e)
	p.keepSteady(e, s)
}

// points adds to an evaluation what a guard's signal was since the one before, by revision. A cohort of which one instance that
// should tell cannot be read has none: what the others show says nothing of it. What instances show that are warming up
// stands by itself.
func (p *Panel) points(e *evaluation, rule guard.Rule, scrapes []Scrape, s Subject) {
	type group struct {
		revision declare.Fingerprint
		part     string
	}
	tallies, whys := map[declare.Fingerprint]signal.Tally{}, map[group]string{}
	tells, read := map[string]bool{}, map[declare.Fingerprint]bool{}
	old, new := s.sides()
	each := gathered{old: old, new: new}
	var both signal.Tally
	shown, unread, hidden := false, "", false // of what is both cohorts'; and whether anything is hidden of what is not
	if late := p.late(rule, scrapes, e.at); late != "" {
		e.points[rule.Name], e.silent[rule.Name] = map[declare.Fingerprint]*signal.Point{}, late
		return
	}
	for _, scrape := range scrapes {
		before := p.tracker(rule.Name).At(scrape.Instance)
		tally, ok, why := p.tracker(rule.Name).Take(rule.Signal, scrape.Instance, scrape.Page, scrape.at(e.at))
		if !scrape.At.IsZero() && before.Before(s.about().shared) {
			ok = false // of what came under another share
		}
		at := group{scrape.Revision, scrape.Part}
		if scrape.Both {
			switch {
			case why != "":
				unread = cmp.Or(unread, scrape.Unread)
			case ok:
				both, shown = both.Add(tally), true
			}
			continue
		}
		hidden = hidden || scrape.Unread != ""
		if scrape.Told != "" {
			e.told[rule.Name] = scrape.Told
		}
		switch {
		case why == "":
			tells[scrape.Part], read[scrape.Revision] = true, true
			switch {
			case ok && !rule.Signal.OfOthers() && s.warms(scrape, e.at):
				e.young[rule.Name] = e.young[rule.Name].Add(tally)
			case ok:
				tallies[scrape.Revision] = tallies[scrape.Revision].Add(tally)
				each.add(scrape, tally)
			}
		case whys[at] == "":
			whys[at] = cmp.Or(scrape.Unread, why)
			if scrape.Instance != "" {
				whys[at] = scrape.Instance + ": " + whys[at]
			}
		}
	}
	for _, scrape := range scrapes { // in their order, so that the same is told each time
		at := group{scrape.Revision, scrape.Part}
		if w := whys[at]; w != "" && (tells[scrape.Part] || !read[scrape.Revision]) {
			delete(tallies, scrape.Revision)
			e.silent[rule.Name] = cmp.Or(e.silent[rule.Name], w)
		}
	}
	if len(tells) == 0 && !hidden { // only what is the same in both shows it: what holds for the one holds for the other
		switch {
		case unread != "":
			e.silent[rule.Name] = cmp.Or(e.silent[rule.Name], unread)
		case shown:
			tallies[old], tallies[new] = both, both
			delete(e.silent, rule.Name)
		}
	}
	if rule.Signal.Kind == signal.Quantile && rule.Way == guard.Sequential {
		p.tails(rule, e, s, tallies)
	}
	points := map[declare.Fingerprint]*signal.Point{}
	if e.points[rule.Name] = points; rule.Signal.Kind.Share() && rule.Way == guard.Sequential && rule.Limit.Relative() {
		e.each[rule.Name] = each.known(tallies)
	}
	for revision, tally := range tallies {
		if value, ok := rule.Signal.Value(tally); ok && !math.IsNaN(value) && !math.IsInf(value, 0) {
			points[revision] = &signal.Point{At: e.at, Value: value, Tally: tally}
		}
	}
}

// gathered is what the instances of both cohorts showed.
type gathered struct {
	guard.Each
	old, new declare.Fingerprint
}

func (e *gathered) add(s Scrape, tally signal.Tally) {
	by := &e.Old
	switch s.Revision {
	case e.old:
	case e.new:
		by = &e.New
	default:
		return
	}
	if *by == nil {
		*by = map[string]signal.Tally{}
	}
	(*by)[s.Instance] = tally
}

// known is what was gathered of cohorts that could be read whole and have instances enough to be told apart.
func (e *gathered) known(tallies map[declare.Fingerprint]signal.Tally) (all guard.Each) {
	if tallies[e.old].Whole > 0 && len(e.Old) >= guard.LeastInstances {
		all.Old = e.Old
	}
	if tallies[e.new].Whole > 0 && len(e.New) >= guard.LeastInstances {
		all.New = e.New
	}
	return all
}

func (p *Panel) tracker(guard string) *signal.Tracker {
	if p.trackers[guard] == nil {
		if p.trackers == nil {
			p.trackers = map[string]*signal.Tracker{}
		}
		p.trackers[guard] = &signal.Tracker{}
	}
	return p.trackers[guard]
}
