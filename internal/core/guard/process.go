package guard

import (
	"math"
	"time"

	"aditus/internal/core/signal"
)

// Process decides a guard sequentially: it takes one interval after the other and gives the verdict after each. It may be
// looked at as often as one likes; looking does not raise the chance of a false breach. That chance, over all
// intervals that a process ever takes, is at most its risk, by the inequality of J. Ville (Étude critique de la notion
// de collectif, 1939). Make it with NewProcess. Its state follows from what it was given alone, so that one that is fed
// the same intervals again after a restart says the same.
type Process struct {
	rule  Rule
	risk  float64
	every time.Duration

	breach [alternatives]float64 // evidence that the limit is exceeded, by alternative
	keeps  [keepers]float64      // evidence of the present stage that it is kept
	taken  int                   // intervals
	stage  int                   // the present one, -1 before the first
	stages int                   // begun so far
	inside int                   // intervals of the present stage
	base   sample                // old, recent intervals weighing more
	spread spread
	whole  pooled // of the present stage; of a standing process, the last intervals weighing more
	recent pooled // of the last few intervals
	began  time.Time
	spoke  time.Time
	broke  bool

	outlasts int // intervals that an outage has lasted
	standing bool
	bound    *float64 // where the limit lay last, where it moves
}

// pooled is what the estimates beside a verdict are made of.
type pooled struct {
	information float64 // sum of the reciprocal variances
	old, new    sample  // of shares; of means the values, weighted by information
	oldCount    float64
	newCount    float64
	paired      bool
}

// add adds an interval, with all before it weighing so much less.
func (s *pooled) add(fade, information float64, old, new sample, oldCount, newCount float64, paired bool) {
	fold := func(into *sample, s sample) {
		into.part, into.whole = into.part*fade+s.part, into.whole*fade+s.whole
	}
	s.information = s.information*fade + information
	fold(&s.old, old)
	fold(&s.new, new)
	s.oldCount, s.newCount, s.paired = s.oldCount*fade+oldCount, s.newCount*fade+newCount, paired
}

// pool adds an interval to what the estimates are made of.
func (p *Process) pool(i Interval, information float64, paired bool) {
	var old, new sample
	var oldCount float64
	if p.rule.Signal.Kind.Share() {
		new = sample{i.New.Part, i.New.Whole}
	} else {
		new = sample{i.New.Value * information, information}
	}
	if i.Old != nil {
		oldCount = i.Old.Whole
		old = sample{i.Old.Part, i.Old.Whole}
		if !p.rule.Signal.Kind.Share() {
			old = sample{i.Old.Value * information, information}
		}
	}
	fade := 1.0
	if p.standing {
		fade = fading
	}
	p.whole.add(fade, information, old, new, oldCount, i.New.Whole, paired)
	p.recent.add(recently, information, old, new, oldCount, i.New.Whole, paired)
}

const (
	alternatives = 6 // sizes of regressions that are looked out for
	keepers      = 3 // ways to keep a limit that are looked out for

	// KeptRisk is the chance that a verdict is clear though the limit is exceeded.
	KeptRisk = 0.05

	// The chance of a false breach is shared among the moments at which a regression may set in.
	firstStart  = 0.62 // with the first interval of a rollout
	stageStarts = 0.24 // with the first one of a later stage, half of what is left for each
	anyStart    = 0.14 // with any other

	// smallest is the smallest regression looked out for, beyond the limit, as a share of where the limit lies; each
	// further one is twice as large.
	smallest = 0.25

	// fading is how much less each interval weighs in what old usually shows than the one after it.
	fading = 0.9
	// recently is the same for what is told of a breach: what made it, not what was before it.
	recently = 0.7
	// mostKept bounds the evidence that a limit is kept, so that it can turn within a few intervals.
	mostKept = 40 / KeptRisk
)

// NewProcess makes a process that breaches falsely with at most the chance risk.
func NewProcess(rule Rule, risk float64, every time.Duration) *Process {
	return &Process{rule: rule, risk: risk, every: every, stage: -1}
}

// rarely is how often, on average and at most, a standing guard breaches falsely.
const rarely = 100 * 24 * time.Hour

// NewStanding makes a process that goes on for ever, for a revision that is proven. A regression may set in at any
// time, so it sums the evidence over all beginnings, after A. N. Shiryaev (Theory Probab. Appl. 8, 1963) and S. W.
// Roberts (Technometrics 8, 1966), and breaches falsely once in a hundred days at most. Once the limit is kept again for
// a while it is as if nothing had been.
func NewStanding(rule Rule, every time.Duration) *Process {
	p := NewProcess(rule, float64(every)/float64(rarely), every)
	p.standing = true
	return p
}

// Awake tells that nobody watched until now, so that silence counts from here.
func (p *Process) Awake(at time.Time) {
	if at.After(p.began) {
		p.began = at
	}
}

// Lead takes what old showed in an interval before the rollout.
func (p *Process) Lead(old *signal.Point) {
	if old == nil || old.Whole <= 0 {
		return
	}
	s := sample{old.Part, old.Whole}
	defer p.see(old)
	if p.base.whole == 0 {
		return
	}
	if p.rule.Signal.Kind.Share() {
		rate := p.rate()
		switch {
		case p.rule.Limit.AboveOldBy == nil: // new alone, in the terms of betShares
			p.spread.add(s.part/s.whole, rate*(1-rate)/s.whole)
		default: // two cohorts scatter twice as much as one
			p.spread.add(math.Sqrt2*s.part/s.whole/rate, 2*(1-rate)/rate/s.whole)
		}
	} else {
		p.spread.step(old.Value, 1/s.whole)
	}
}

// see adds to what old usually shows.
func (p *Process) see(old *signal.Point) {
	p.base.part, p.base.whole = p.base.part*fading+old.Part, p.base.whole*fading+old.Whole
}

// rate is what old usually shows, drawn a little towards the middle as nothing is ever quite 0.
func (p *Process) rate() float64 {
	return max(leastRate, min(1-leastRate, (p.base.part+0.5)/(p.base.whole+1)))
}

// outage tells whether old itself is so much worse than usual that the interval says nothing of new.
func (p *Process) outage(old sample) bool {
	return old.part > outageParts && old.part/old.whole > outageTimes*p.rate()
}

// An outage of both cohorts is what old shows with so many bad answers, so many times the usual share.
const (
	outageParts = 5
	outageTimes = 3
	usualAfter  = 30 // intervals after which an outage counts as usual
)

// Begin starts a stage at a moment: what is said of keeping the limit starts anew, as what was shown under one share
// says little of another.
func (p *Process) Begin(stage int, at time.Time) {
	if stage == p.stage {
		return
	}
	if p.stage < 0 {
		p.spread.gap()
	}
	p.stage, p.stages, p.inside, p.began = stage, p.stages+1, 0, at
	p.keeps = [keepers]float64{}
	p.whole = pooled{}
}

// Add takes an interval that lies wholly under the present stage's share.
func (p *Process) Add(i Interval) {
	if i.New == nil || i.New.Whole <= 0 {
		return
	}
	if p.rule.Limit.AtMost != nil || i.Bound != nil || p.rule.Limit.Relative() && i.Old != nil && i.Old.Whole > 0 {
		p.spoke = i.At
	}
	p.bound = i.Bound
	new := sample{i.New.Part, i.New.Whole}
	var up [alternatives]float64
	var down [keepers]float64
	ok := false
	if p.rule.Signal.Kind.Share() {
		up, down, ok = p.betShares(i, new)
	} else {
		up, down, ok = p.betMeans(i)
	}
	if !ok {
		return
	}
	p.taken++
	p.inside++
	start := p.start()
	for k := range p.breach {
		p.breach[k] = min((p.breach[k]+start*prior[k])*math.Exp(min(up[k], math.Log(1/p.risk))), 1e12)
	}
	begun := 1 / float64(p.inside*(p.inside+1))
	if p.standing {
		begun = standingBegins
	}
	for k := range p.keeps {
		p.keeps[k] = min((p.keeps[k]+begun/keepers)*math.Exp(min(down[k], 50)), mostKept)
	}
	p.broke = p.broke || sum(p.breach[:]) >= 1/p.risk
	if p.standing && p.broke && sum(p.keeps[:]) >= 1/KeptRisk {
		p.broke, p.breach = false, [alternatives]float64{}
	}
}

// standingBegins is what each interval of a standing guard adds to the evidence that the limit is kept from there on.
const standingBegins = 0.01

// prior is how the chance is shared among the sizes of regressions.
var prior = [alternatives]float64{0.12, 0.2, 0.22, 0.2, 0.15, 0.11}

// start is the chance set aside for a regression that sets in with the interval just taken.
func (p *Process) start() float64 {
	if p.standing {
		return 1
	}
	if p.inside == 1 && p.stages == 1 {
		return firstStart
	}
	share := anyStart / float64(p.taken*(p.taken+1))
	if p.inside == 1 {
		share += stageStarts / math.Exp2(float64(p.stages-1))
	}
	return share
}

func sum(values []float64) (total float64) {
	for _, v := range values {
		total += v
	}
	return total
}

// betShares bets on an interval of a share.
func (p *Process) betShares(i Interval, new sample) (up [alternatives]float64, down [keepers]float64, ok bool) {
	limit := p.rule.Limit.Value()
	switch {
	case p.rule.Limit.AboveOldBy != nil && i.Old != nil && i.Old.Whole > 0:
		old := sample{i.Old.Part, i.Old.Whole}
		if p.base.whole == 0 {
			p.see(i.Old) // nothing to bet on yet
			return up, down, false
		}
		usual := p.rate()
		if p.outage(old) {
			p.spread.gap()
			if p.outlasts++; p.outlasts > usualAfter {
				p.see(i.Old)
			}
			return up, down, false
		}
		p.outlasts = 0
		explained := usual * (1 - usual) * (1/old.whole + 1/new.whole)
		scatter := explained / (usual * usual)
		trust := scatter / (scatter + p.spread.beyond(scatter))
		for k := range up {
			high := usual + limit + smallest*math.Exp2(float64(k))*(usual+limit)
			up[k] = trust * pairBet(old, new, usual, min(high, 0.98), limit)
		}
		for k, better := range [keepers]float64{limit / 2, limit, limit + usual/2} {
			down[k] = trust * pairBet(old, new, usual, max(usual+limit-better, leastRate), limit)
		}
		p.pool(i, trust/explained, true)
		worse := max(usual, min((p.whole.new.part+1)/(p.whole.new.whole+1/usual), 1-leastRate)) // what is worse scatters more by its counts alone
		p.spread.add((new.part/new.whole-old.part/old.whole)/usual, (usual*(1-usual)/old.whole+worse*(1-worse)/new.whole)/(usual*usual))
		p.see(i.Old)
		return up, down, true
	case p.rule.Limit.AtMost == nil && i.Bound == nil:
		return up, down, false
	}
	if i.Bound != nil {
		limit = *i.Bound
	}
	limit = max(limit, 1e-6)
	explained := limit * (1 - limit) / new.whole
	trust := explained / (explained + p.spread.beyond(explained))
	for k := range up {
		up[k] = trust * alone(new, min(limit*(1+smallest*math.Exp2(float64(k))), (1+limit)/2), limit)
	}
	for k, part := range [keepers]float64{0.8, 0.5, 0.15} {
		down[k] = trust * alone(new, limit*part, limit)
	}
	rate := max(new.part, 0.5) / new.whole
	p.spread.add(new.part/new.whole, min(rate, 0.5)*(1-min(rate, 0.5))/new.whole)
	p.pool(i, trust/explained, false)
	return up, down, true
}

// betMeans bets on an interval of a mean.
func (p *Process) betMeans(i Interval) (up [alternatives]float64, down [keepers]float64, ok bool) {
	value, counts, limit, paired := i.New.Value, 1/i.New.Whole, p.rule.Limit.Value(), false
	switch {
	case p.rule.Limit.AboveOldBy != nil && i.Old != nil && i.Old.Whole > 0:
		value, counts = value-i.Old.Value, counts+1/i.Old.Whole
		defer p.see(i.Old)
		paired = true
	case i.Bound != nil:
		limit = *i.Bound
	case p.rule.Limit.AtMost == nil:
		return up, down, false
	}
	if variance, known := p.spread.scaled(counts); known {
		size := smallest * max(p.rule.Limit.Value(), leastEffect*math.Abs(i.New.Value))
		for k := range up {
			up[k] = meanBet(min(value-limit, tail*math.Sqrt(variance)), size*math.Exp2(float64(k)), variance)
		}
		for k, better := range [keepers]float64{0.5, 1, 2} {
			down[k] = meanBet(limit-value, better*size/smallest/2, variance)
		}
		p.pool(i, 1/variance, paired)
		ok = true
	}
	p.spread.step(value, counts)
	return up, down, ok
}

// tail bounds how far beyond the limit a mean counts, in standard deviations: one very slow answer is not the rule.
const tail = 2

// leastEffect is the smallest limit on a mean that is taken as such, as a share of the mean.
const leastEffect = 0.02

// Verdict is the verdict as of now.
func (p *Process) Verdict(now time.Time) Verdict {
	v := Verdict{
		Guard: p.rule.Name, Limit: p.rule.Limit, Then: p.rule.Then, Missing: p.rule.Missing, At: now, Way: Sequential, Judged: p.taken, Bound: p.bound,
		Evidence: math.Log(max(sum(p.breach[:]), 1e-9)) / math.Log(1/p.risk),
	}
	v.Old, v.New, v.Difference = p.estimates(p.whole)
	if p.broke {
		v.Old, v.New, v.Difference = p.estimates(p.recent)
	}
	spoke := p.spoke
	if p.began.After(spoke) {
		spoke = p.began
	}
	switch {
	case p.broke:
		v.Word = Breach
	case now.Sub(spoke) > silentAfter*p.every:
		v.Word, v.Since = Silent, spoke
		if p.rule.Missing == MissingBreaches {
			v.Word = Breach
		}
	case sum(p.keeps[:]) >= 1/KeptRisk:
		v.Word = Clear
	default:
		v.Word, v.Wait = Undecided, p.wait(v)
	}
	return v
}

// Broke tells whether the evidence ever reached what a breach takes.
func (p *Process) Broke() bool { return p.broke }

// Longest is the longest wait that is told; a guard that would take longer is too close to its limit to tell.
const Longest = 24 * time.Hour

// wait is about how long it takes until the verdict is decided if all goes on as in this stage so far: the evidence that
// is missing over what an interval adds.
func (p *Process) wait(v Verdict) time.Duration {
	reached := v.New
	if p.rule.Limit.AboveOldBy != nil && v.Difference != nil {
		reached = v.Difference
	}
	if reached == nil || p.inside == 0 {
		return p.every
	}
	limit := p.rule.Limit.Value()
	missing := math.Log(1/KeptRisk) - math.Log(max(sum(p.keeps[:]), 1e-3))
	if reached.Value > limit {
		missing = math.Log(1/p.risk) - math.Log(max(sum(p.breach[:]), 1e-3))
	}
	effect := reached.Value - limit
	gain := effect * effect / 2 * p.whole.information / float64(p.inside)
	if new := p.whole.new; p.rule.Signal.Kind.Share() && p.rule.Limit.AboveOldBy == nil && new.whole > 0 {
		gain = likelier(sample{new.part + 0.5, new.whole + 1}, (new.part+0.5)/(new.whole+1), max(limit, 1e-6)) / float64(p.inside)
	}
	if gain <= 0 {
		return Longest
	}
	return max(p.every, min(Longest, time.Duration(math.Ceil(missing/gain))*p.every))
}

// estimates are what was pooled, with its confidence sequence around what is held against the limit.
func (p *Process) estimates(s pooled) (old, new, difference *Estimate) {
	if s.new.whole <= 0 {
		return nil, nil, nil
	}
	estimate := func(side sample, count float64) *Estimate {
		if p.rule.Signal.Kind.Share() {
			e := Proportion(side.part, side.whole)
			return &e
		}
		value := side.part / side.whole
		return &Estimate{Value: value, Low: value, High: value, Count: count}
	}
	new = estimate(s.new, s.newCount)
	if s.old.whole > 0 {
		old = estimate(s.old, s.oldCount)
	}
	radius := p.radius(s.information)
	if s.paired && old != nil {
		d := new.Value - old.Value
		return old, new, &Estimate{Value: d, Low: d - radius, High: d + radius, Count: min(old.Count, new.Count)}
	}
	new.Low, new.High = new.Value-radius, new.Value+radius
	if p.rule.Signal.Kind.Share() {
		new.Low, new.High = max(0, new.Low), min(1, new.High)
	}
	return old, new, nil
}

// radius is half the width of the confidence sequence around what is held against the limit: the normal mixture of H.
// Robbins, "Statistical methods related to the law of the iterated logarithm", Ann. Math. Statist. 41 (1970), in the
// form of S. R. Howard, A. Ramdas, J. McAuliffe and J. Sekhon, "Time-uniform, nonparametric, nonasymptotic confidence
// sequences", Ann. Statist. 49 (2021), narrowest about where its width is that of the limit. It holds at all times
// together, approximately where counts are small. Of a standing process, and of what made a breach, it is that of as
// much information, and an interval for the eye.
func (p *Process) radius(information float64) float64 {
	if information <= 0 {
		return math.Inf(1)
	}
	width := max(p.rule.Limit.Value(), 1e-9)
	if p.rule.Limit.AboveOldBy == nil {
		width /= 2
	}
	mixed := 1 / (width * width)
	alpha := 1 - Confidence
	return math.Sqrt((information+mixed)*math.Log((information+mixed)/(mixed*alpha*alpha))) / information
}
