// Package panel is a berth's guards at work: it makes evaluations of what instances showed, knows which of them counts
// for which stage and where a limit that moves lies, and gives every guard's verdict. It computes only: no clock, no
// site, no ledger. Live evidence and replayed evidence go through it alike.
package panel

import (
	"cmp"
	"slices"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/rollout"
	"aditus/internal/core/signal"
)

const (
	// LeadIn is how many evaluations before a rollout go on record with it.
	LeadIn = 24
	// remembered is how many evaluations are, at least while they are about the same rollout.
	remembered = 240
)

// Subject is what is judged: a rollout that is under way, and otherwise what is applied.
type Subject struct {
	Rules    *declare.Desired // whose guards count
	Roll     *rollout.State   // nil where nothing is under way
	Applied  declare.Fingerprint
	Standing func() int                // how many guards of the line go back by themselves from what is proven; nil for this berth's alone
	Past     map[string][]signal.Point // what the workload showed while it served alone, by guard with a limit above its past

	Elsewhere map[string][]Scrape // what is known of signals that the instances do not tell themselves, by guard
}

// sides are the revisions that are held against each other. What stands alone is the old one.
func (s Subject) sides() (old, new declare.Fingerprint) {
	if s.Roll == nil {
		return s.Applied, ""
	}
	return s.Roll.Old.Revision, s.Roll.New.Revision
}

// stands tells whether what is judged is proven, so that guards hold it against a fixed limit or its past alone.
func (s Subject) stands() bool { return s.Roll == nil || s.Roll.Phase == rollout.Proven }

func (s Subject) every() time.Duration { return s.Rules.Rollout.Interval.Duration }

// about tells one evidence from another: no evaluation under one share says anything about the next.
func (s Subject) about() about {
	if s.Roll == nil {
		return about{}
	}
	return about{s.Roll.ID, s.Roll.Shared}
}

type about struct {
	rollout int64
	shared  time.Time
}

// noStage stands for an evaluation that is not about any stage.
const noStage = -1

// stage is the stage whose share new has now, the proving being one more; noStage while the share is on its way.
func (s Subject) stage() int {
	r := s.Roll
	if r == nil || r.Shared.IsZero() || !r.Ahead() || (r.Phase == rollout.Settling || r.HeldFrom == rollout.Settling) && !r.Rolls() {
		return noStage
	}
	if r.Phase == rollout.Proving || r.HeldFrom == rollout.Proving {
		return len(r.Rules.Stages)
	}
	return r.Stage
}

// judges tells whether a guard counts now: in this stage, and with something to measure and to compare with.
func (s Subject) judges(rule guard.Rule) bool {
	if s.stands() || s.Roll.Closes() { // old, whose control it was held against to the end, can no longer show what is usual
		return !rule.Limit.Relative()
	}
	if s.Roll.Phase != rollout.Proving && !s.Roll.Counts(rule.Name, s.Roll.Stage) {
		return false
	}
	alone := s.Roll.Old.Empty() && rule.Limit.Moves() // a first revision has neither an old one nor a past
	return s.Roll.AskedShare() > 0 && !s.Roll.New.Empty() && !alone
}

// whole tells whether an interval that ends at a moment lies wholly after another: one in which the share changed says
// little about either share. A tenth of it may lie before.
func whole(ends, since time.Time, every time.Duration) bool { return ends.Sub(since) >= every-every/10 }

// Judgement is what the guards make of the evidence.
type Judgement struct {
	Verdicts []guard.Verdict
	Requests [2]float64      // of the last interval, old and new
	Observed *guard.Estimate // new's share of the requests since its share was reached; nil where there were none
}

// Panel is the guards of one berth with the evidence that they have. The zero value has none. It is not safe for
// concurrent use.
type Panel struct {
	trackers map[string]*signal.Tracker // by guard; "" counts requests
	series   []*evaluation              // oldest first
	values   map[string][]string        // of the label that each of is judged by itself, by guard and label
	valued   map[string]map[string]bool // the same, to be looked up
	latest   time.Time                  // when the last one was
	verdicts []guard.Verdict
	judged   about // what the verdicts are about

	processes map[string]*guard.Process // by guard, of those that decide sequentially
	follows   int64                     // the rollout that they follow, standing for what is applied
	stood     declare.Fingerprint       // that is applied
	fed       time.Time                 // the last evaluation that they were given
	trends    map[string]interrupted    // of old, by guard
	steady    *steady
	beyond    map[string]time.Time    // since when guards that count are beyond their limit on what is proven, by guard
	usual     map[string]signal.Tally // what old shows, of quantiles with a limit above it, by guard
}

// standing stands for no rollout.
const standing = -1

// interrupted is what old showed until new got all of the traffic.
type interrupted struct {
	shared time.Time
	trend  *guard.Trend // nil where it showed nothing
}

// Evaluated is when the last evaluation was.
func (p *Panel) Evaluated() time.Time { return p.latest }

const (
	// nearly is the evidence, on the way from none at 0 to a breach at 1, from which on guards look twice as often.
	nearly = 0.4
	// shortest is how long is left between two looks at least.
	shortest = time.Second
)

// Due is when the next evaluation is: an interval after the last one, and half of one where a guard that acts nearly breaches,
// as then every request counts.
func (p *Panel) Due(s Subject) time.Time {
	every := s.every()
	for _, v := range p.verdicts {
		if !s.stands() && v.Word == guard.Undecided && v.Way == guard.Sequential && v.Then != guard.Tell && v.Evidence >= nearly {
			every = min(every, max(every/2, shortest))
		}
	}
	return p.latest.Add(every)
}

// Judge gives the verdicts as of a moment. Where nothing new was evaluated the last ones stand, for as long as they
// can be about the same.
func (p *Panel) Judge(s Subject, evaluated bool, now time.Time) Judgement {
	switch {
	case !evaluated && s.about() == p.judged && now.Sub(p.latest) < 2*s.every():
	case s.Roll != nil && s.Roll.Shared.IsZero():
		p.judged, p.verdicts = s.about(), nil
		return Judgement{}
	default:
		p.judged, p.verdicts = s.about(), nil
		p.feed(s)
		p.trim()
		for _, rule := range s.Rules.Guards {
			if s.judges(rule) {
				judge := func(rule guard.Rule) guard.Verdict { return p.verdict(rule, s, now) }
				p.verdicts = append(p.verdicts, p.worst(rule, judge(rule), judge))
			}
		}
	}
	j := Judgement{Verdicts: p.verdicts}
	j.Requests, j.Observed = p.split(s)
	return j
}

// verdict is a guard's judgement as of now.
func (p *Panel) verdict(rule guard.Rule, s Subject, now time.Time) guard.Verdict {
	if s.stands() {
		rule.Then = rule.Standing
	}
	if process := p.processes[rule.Name]; process != nil {
		if !s.stands() {
			if stage := s.stage(); stage != noStage {
				process.Begin(s.Roll.EvidenceOf(stage), s.Roll.Shared)
			}
		}
		if s.Roll != nil {
			process.Awake(s.Roll.Resumed)
		}
		process.Awake(p.warmedAt(rule, s))
		v := process.Verdict(now)
		v.Then = rule.Then
		return p.why(rule, p.warming(rule, s, v))
	}
	return p.why(rule, p.lasting(rule, s, p.warming(rule, s, p.count(rule, s, now))))
}

// lasting is a count's verdict on what is proven: a breach once it has been one for so long without a break.
func (p *Panel) lasting(rule guard.Rule, s Subject, v guard.Verdict) guard.Verdict {
	if v.Word != guard.Breach || !s.stands() {
		delete(p.beyond, rule.Name)
		return v
	}
	since, known := p.beyond[rule.Name]
	if !known {
		if p.beyond == nil {
			p.beyond = map[string]time.Time{}
		}
		since = v.At
		p.beyond[rule.Name] = since
	}
	if v.At.Sub(since) < guard.LeastStanding {
		v.Word, v.Wait = guard.Undecided, since.Add(guard.LeastStanding).Sub(v.At)
	}
	return v
}

// why tells of a guard that is silent what keeps its signal from being read, and of one that breaches what is behind that.
func (p *Panel) why(rule guard.Rule, v guard.Verdict) guard.Verdict {
	if n := len(p.series); n > 0 {
		switch last := p.series[n-1]; v.Word {
		case guard.Silent:
			v.Why = cmp.Or(last.silent[rule.Name], v.Why)
		case guard.Breach:
			v.Why = cmp.Or(last.told[rule.Name], v.Why)
		}
	}
	return v
}

// count is the judgement of a guard that decides by counting.
func (p *Panel) count(rule guard.Rule, s Subject, now time.Time) guard.Verdict {
	began := s.about().shared
	history := p.history(rule, s, began)
	if s.stands() {
		history = history[max(0, len(history)-2*rule.Breach.Of):]
		began = now
	}
	if s.Roll != nil && s.Roll.Resumed.After(began) { // nobody watched before
		began = s.Roll.Resumed
	}
	if at := p.warmedAt(rule, s); at.After(began) {
		began = at
	}
	return guard.Judge(rule, history, began, now, s.every())
}

// history is what a guard is judged on by counting. In steady times the applied revision stands where the new one would.
func (p *Panel) history(rule guard.Rule, s Subject, since time.Time) []guard.Interval {
	var history []guard.Interval
	old, new := s.sides()
	for _, e := range p.series {
		if !whole(e.at, since, s.every()) {
			continue
		}
		interval, points := guard.Interval{At: e.at}, e.points[rule.Name]
		if new != "" {
			interval.New = points[new]
			if !s.stands() {
				interval.Old = s.control(points, e.stage)
			}
		} else {
			interval.New = points[old]
		}
		interval.Bound = p.bound(rule, e, s)
		history = append(history, interval)
	}
	return history
}

// feed gives the processes all evaluations that they have not had. For a new rollout, and after a restart, they are
// made anew and given all of them.
func (p *Panel) feed(s Subject) {
	follows, revision, make := int64(standing), s.Applied, s.standingProcess
	if !s.stands() {
		follows, revision, make = s.Roll.ID, s.Roll.New.Revision, s.process
	}
	if p.processes == nil || p.follows != follows || p.stood != revision {
		p.processes, p.follows, p.stood, p.fed = map[string]*guard.Process{}, follows, revision, time.Time{}
	}
	rules := p.all(s)
	for _, rule := range rules {
		if rule.Way == guard.Sequential && p.processes[rule.Name] == nil {
			p.processes[rule.Name] = make(rule)
		}
	}
	first := len(p.series)
	for first > 0 && p.series[first-1].at.After(p.fed) {
		first--
	}
	for _, e := range p.series[first:] {
		p.fed = e.at
		for _, rule := range rules {
			if process := p.processes[rule.Name]; process != nil {
				p.give(process, rule, e, s)
			}
		}
	}
}

func (s Subject) process(rule guard.Rule) *guard.Process {
	return guard.NewProcess(rule, s.Rules.RiskEach()/among(rule), s.every())
}

func (s Subject) standingProcess(rule guard.Rule) *guard.Process {
	all := s.Rules.Standing()
	if s.Standing != nil {
		all = max(all, s.Standing())
	}
	return guard.NewStanding(rule, s.every(), all*int(among(rule)))
}

// among is among how many a guard's chance of a false breach is shared: half of it is that of all together, where each value of a label is judged
// by itself too, and these have the other half.
func among(rule guard.Rule) float64 {
	switch {
	case rule.Signal.One():
		return 2 * mostEach
	case rule.Signal.Each != "":
		return 2
	}
	return 1
}

// give gives a process one evaluation, where it is about what the process follows.
func (p *Panel) give(process *guard.Process, rule guard.Rule, e *evaluation, s Subject) {
	points := e.points[rule.Name]
	switch {
	case s.stands():
		process.Begin(0, e.at)
		process.Add(guard.Interval{At: e.at, New: points[s.Applied], Bound: p.bound(rule, e, s)})
	case e.at.Before(s.Roll.Began):
		process.Lead(points[s.Roll.Old.Revision], e.each[rule.Name].Old)
	case e.stage != noStage && s.Roll.Counts(rule.Name, e.stage) && !(rule.Limit.Relative() && s.Roll.ClosesIn(e.stage)):
		process.Begin(s.Roll.EvidenceOf(e.stage), e.at)
		process.Add(guard.Interval{At: e.at, Old: s.control(points, e.stage), New: points[s.Roll.New.Revision], Each: e.each[rule.Name], Bound: p.bound(rule, e, s)})
	}
}

// control is what old showed in a stage that leaves it traffic: what it shows without any is probes, and no one's requests.
func (s Subject) control(points map[declare.Fingerprint]*signal.Point, stage int) *signal.Point {
	if stage != noStage && s.Roll.AloneIn(stage) {
		return nil
	}
	return points[s.Roll.Old.Revision]
}

// bound is where a limit that moves lay at an evaluation; nil where it does not move, or cannot be told.
func (p *Panel) bound(rule guard.Rule, e *evaluation, s Subject) *float64 {
	switch {
	case len(rule.Hours) > 0:
		return rule.HourlyBound(e.at)
	case rule.Limit.Base() == guard.OwnPast:
		return e.past(rule, s)
	case rule.Limit.Relative() && s.Roll != nil && e.stage != noStage && s.Roll.AloneIn(e.stage):
		return p.sinceOld(rule, e, s)
	}
	return nil
}

// sinceOld is where a limit above old lies since the new cohort has all the traffic. What old showed is summed up once, while it is
// still remembered.
func (p *Panel) sinceOld(rule guard.Rule, e *evaluation, s Subject) *float64 {
	known, ok := p.trends[rule.Name]
	if !ok || !known.shared.Equal(s.Roll.Shared) {
		var before []guard.Interval
		for _, e := range p.series {
			if !e.at.After(s.Roll.Shared) {
				before = append(before, guard.Interval{At: e.at, Old: e.points[rule.Name][s.Roll.Old.Revision]})
			}
		}
		if p.trends == nil {
			p.trends = map[string]interrupted{}
		}
		known = interrupted{s.Roll.Shared, guard.NewTrend(rule, before)}
		p.trends[rule.Name] = known
	}
	if known.trend == nil {
		return nil
	}
	bound := known.trend.Bound(int(e.at.Sub(s.Roll.Shared)/s.every()) + 1)
	return &bound
}

// split is the requests of the last interval on both sides, and the share of the new one since its share was reached.
func (p *Panel) split(s Subject) (last [2]float64, observed *guard.Estimate) {
	old, new := s.sides()
	if new == "" || len(p.series) == 0 {
		return last, nil
	}
	newest := p.series[len(p.series)-1]
	last = [2]float64{newest.requests[old], newest.requests[new]}
	var sum [2]float64
	for _, e := range slices.Backward(p.series) {
		if !whole(e.at, s.Roll.Shared, s.every()) {
			break
		}
		sum[0], sum[1] = sum[0]+e.requests[old], sum[1]+e.requests[new]
	}
	if sum[0]+sum[1] > 0 && !s.Roll.Shared.IsZero() {
		share := guard.Proportion(sum[1], sum[0]+sum[1])
		observed = &share
	}
	return last, observed
}

// trim forgets the oldest evaluations, once they were judged: after a restart all of a rollout's are. What each instance showed is
// kept for those alone that a rollout begins with.
func (p *Panel) trim() {
	if n := len(p.series) - LeadIn; n > 0 {
		p.series[n-1].each = nil
	}
	if len(p.series) > remembered {
		p.series = slices.Delete(p.series, 0, len(p.series)-remembered)
	}
}
