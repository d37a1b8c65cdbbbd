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

	breach  [alternatives]float64 // evidence that the limit is exceeded, by alternative
	keeps   [keepers]float64      // evidence of the present stage that it is kept
	taken   int                   // intervals
	stage   int                   // the present one, -1 before the first
	stages  int                   // of which there was an interval
	inside  int                   // intervals of the present stage
	base    sample                // old, recent intervals weighing more
	scatter scatter
	each    [2]instances // of old and new
	apart   bool         // scatter is of differences from old
	whole   pooled       // of the present stage
	ones    ones         // what each instance of new showed
	lately  []pooled     // the last intervals, each by itself
	began   time.Time
	spoke   time.Time
	beyond  time.Time // since when the evidence is that of a breach
	broke   bool
	kept    bool // this stage was clear once while a moving limit was told without old

	outlasts int // intervals that an outage has lasted
	standing bool
	bound    *float64 // where the limit lay last, where it moves
}

const (
	alternatives = 6 // sizes of regressions that are looked out for
	keepers      = 3 // ways to keep a limit that are looked out for

	// KeptRisk is the chance that a verdict is clear though the limit is exceeded.
	KeptRisk = 0.05

	// The chance of a false breach is shared among the moments at which a regression may set in.
	firstStart  = 0.8  // with the first interval of a rollout
	stageStarts = 0.12 // with the first one of a later stage, half of what is left for each
	anyStart    = 0.08 // with any interval, beside that

	// fading is how much less each interval weighs in what old usually shows than the one after it.
	fading = 0.9
	// fadingFew is the same while old shows fewer bad answers than fewParts, which say little.
	fadingFew = 0.97
	fewParts  = 40
	// breachLast and standingLast are how many intervals are told of a breach, which is what made it and not what was
	// before it, and of a guard that stands.
	breachLast   = 6
	standingLast = 24
	// mostKept bounds the evidence that a limit is kept, so that it can turn within a few intervals.
	mostKept = 40 / KeptRisk
)

// NewProcess makes a process that breaches falsely with at most the chance risk.
func NewProcess(rule Rule, risk float64, every time.Duration) *Process {
	return &Process{rule: rule, risk: risk, every: every, stage: -1, scatter: scatter{unscaled: !inShares(rule)}}
}

// inShares tells whether a rule is decided on shares: of a quantile it is the share of what lies above it.
func inShares(rule Rule) bool { return rule.Signal.Kind.Share() || rule.Signal.Kind == signal.Quantile }

// rarely is how often, on average and at most, any of the standing guards of a line goes back falsely.
const rarely = 100 * 24 * time.Hour

// NewStanding makes a process that goes on for ever, for a revision that is proven. A regression may set in at any
// time, so it sums the evidence over all beginnings, after A. N. Shiryaev (Theory Probab. Appl. 8, 1963) and S. W.
// Roberts (Technometrics 8, 1966), and all so many of them together breach falsely once in a hundred days at most. Once the limit is kept
// again for a while it is as if nothing had been.
func NewStanding(rule Rule, every time.Duration, among int) *Process {
	p := NewProcess(rule, float64(every)/float64(rarely)/float64(max(1, among)), every)
	p.standing = true
	return p
}

// Awake tells that nobody watched until now, so that silence counts from here.
func (p *Process) Awake(at time.Time) {
	if at.After(p.began) {
		p.began = at
	}
}

// Lead takes what old showed in an interval before the rollout, and each of its instances, where that is known.
func (p *Process) Lead(old *signal.Point, each map[string]signal.Tally) {
	if old == nil || old.Whole <= 0 {
		return
	}
	old = p.each[0].ordinary(old, each)
	s := sample{old.Part, old.Whole}
	if inShares(p.rule) && p.base.whole > 0 && p.outage(old) {
		return
	}
	p.each[0].add(each)
	defer p.see(old)
	if p.base.whole == 0 {
		return
	}
	if inShares(p.rule) {
		rate := p.rate()
		p.apart = p.rule.Limit.Base() == OldSide
		switch {
		case !p.apart: // new alone, in the terms of betShares
			p.scatter.add(s.part/s.whole, rate*(1-rate)/s.whole)
		default: // two cohorts scatter twice as much as one
			p.scatter.add(math.Sqrt2*s.part/s.whole/rate, 2*(1-rate)/rate/s.whole)
		}
	} else {
		p.scatter.add(old.Value, 1/s.whole)
	}
}

// see adds to what old usually shows.
func (p *Process) see(old *signal.Point) {
	fading := fading
	if inShares(p.rule) && p.base.part < fewParts {
		fading = fadingFew
	}
	p.base.part, p.base.whole = p.base.part*fading+old.Part, p.base.whole*fading+old.Whole
}

// rate is what old usually shows, drawn a little towards the middle as nothing is ever quite 0.
func (p *Process) rate() float64 {
	return max(leastRate, min(1-leastRate, (p.base.part+0.5)/(p.base.whole+1)))
}

// Begin starts a stage at a moment: what is said of keeping the limit starts anew, as what was shown under one share
// says little of another.
func (p *Process) Begin(stage int, at time.Time) {
	if stage == p.stage {
		return
	}
	if p.stage < 0 {
		p.scatter.gap()
	}
	p.stage, p.inside, p.began = stage, 0, at
	p.keeps = [keepers]float64{}
	p.whole, p.kept = pooled{}, false
}

// Add takes an interval that lies wholly under the present stage's share.
func (p *Process) Add(i Interval) {
	if i.New == nil || i.New.Whole <= 0 {
		return
	}
	if p.bound = i.Bound; p.paired(i) {
		p.bound = nil // old itself tells where the limit lies
	}
	if p.rule.Limit.Base() == Nought || p.bound != nil || p.paired(i) {
		p.spoke = i.At
	}
	new := sample{i.New.Part, i.New.Whole}
	var up [alternatives]float64
	var down [keepers]float64
	ok := false
	if inShares(p.rule) {
		up, down, ok = p.betShares(i, new)
	} else {
		up, down, ok = p.betMeans(i)
	}
	if !ok {
		return
	}
	p.taken++
	if p.inside++; p.inside == 1 {
		p.stages++
	}
	start, most := p.start(), 1e12
	if p.lasts() {
		most = 30 / p.risk // so that it turns within a few intervals
	}
	for k := range p.breach {
		p.breach[k] = min((p.breach[k]+start*prior[k])*math.Exp(min(up[k], math.Log(1/p.risk))), most)
	}
	begun := 1 / float64(p.inside*(p.inside+1))
	if p.standing {
		begun = standingBegins
	}
	for k := range p.keeps {
		p.keeps[k] = min((p.keeps[k]+begun/keepers)*math.Exp(min(down[k], 50)), mostKept)
	}
	p.broke = p.broke || p.reached(i.At)
	p.kept = p.kept || p.bound != nil && sum(p.keeps[:]) >= 1/KeptRisk
	if p.standing && p.broke && sum(p.keeps[:]) >= 1/KeptRisk {
		p.broke, p.breach = false, [alternatives]float64{}
	}
}

// reached tells whether the evidence is that of a breach: where it must last, only once it has been for so long without a break.
func (p *Process) reached(at time.Time) bool {
	switch {
	case sum(p.breach[:]) < 1/p.risk:
		p.beyond = time.Time{}
		return false
	case p.beyond.IsZero():
		p.beyond = at
	}
	return (!p.lasts() || at.Sub(p.beyond) >= LeastStanding) && p.exceeds() && p.ones.lone(p.rule.Limit.Value) == ""
}

// lasts tells whether a breach must last, as what is over by itself within minutes is no fault of a revision that has served well until
// then: of a guard that stands, and of one that has no control any more, once it was clear.
func (p *Process) lasts() bool {
	return p.standing || p.kept && p.bound != nil && p.rule.Limit.Relative()
}

// margin is by how many standard errors an estimate must lie beyond the limit where the evidence alone does not say that it does.
const margin = 1.5

// exceeds tells whether what this stage showed lies beyond the limit, where the evidence alone does not say so.
func (p *Process) exceeds() bool {
	if p.rule.Safe != NoWorse || !p.whole.paired {
		return true
	}
	_, _, difference := p.estimates(p.whole)
	return difference != nil && difference.Value-margin/math.Sqrt(p.whole.information) > p.rule.Limit.Value
}

// LeastStanding is how long what must last does at least.
const LeastStanding = 5 * time.Minute

// paired tells whether new is held against old in an interval.
func (p *Process) paired(i Interval) bool {
	return p.rule.Limit.Relative() && i.Old != nil && i.Old.Whole > 0
}

// standingBegins is what each interval of a standing guard adds to the evidence that the limit is kept from there on.
const standingBegins = 0.01

// sizes are the regressions that are looked out for, beyond the limit, as a share of where it lies: each about twice the one
// before, and one that is large, so that what is rare decides fast.
var sizes = [alternatives]float64{0.25, 0.5, 1, 2, 4, 16}

// prior is how the chance is shared among the sizes of regressions.
var prior = [alternatives]float64{0.11, 0.24, 0.26, 0.24, 0.10, 0.05}

// start is the chance set aside for a regression that sets in with the interval just taken.
func (p *Process) start() float64 {
	if p.standing {
		return 1
	}
	share := anyStart / float64(p.taken*(p.taken+1))
	switch {
	case p.inside != 1:
	case p.stages == 1:
		share += firstStart
	default:
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

// Verdict is the verdict as of now.
func (p *Process) Verdict(now time.Time) Verdict {
	v := Verdict{
		Guard: p.rule.Name, Limit: p.rule.LimitAt(now), Then: p.rule.Then, Missing: p.rule.Missing, From: p.rule.Signal.From(), At: now, Way: Sequential, Judged: p.taken, Bound: p.bound,
		Evidence: math.Log(max(sum(p.breach[:]), 1e-9)) / math.Log(1/p.risk),
	}
	told := p.whole
	switch {
	case p.broke:
		told = p.last(breachLast)
	case p.standing:
		told = p.last(standingLast)
	}
	v.Old, v.New, v.Difference = p.estimates(told)
	v.Odd = p.odd()
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
		v.Why = p.blames(v.Evidence)
	}
	return v
}

// Broke tells whether the evidence ever reached what a breach takes.
func (p *Process) Broke() bool { return p.broke }

// Longest is the longest wait that is told; a guard that would take longer is too close to its limit to tell.
const Longest = 24 * time.Hour

// surely is how many times as long as the evidence says so far it may take: that holds in four of five cases and more.
const surely = 3

// wait is within how long the verdict is decided, in four of five cases, if all goes on as in this stage so far: the evidence that
// is missing over what an interval adds, and surely times that.
func (p *Process) wait(v Verdict) time.Duration {
	reached, limit := v.Held()
	if reached == nil || p.inside == 0 {
		return p.every
	}
	missing := math.Log(1/KeptRisk) - math.Log(max(sum(p.keeps[:]), 1e-3))
	if reached.Value > limit {
		missing = math.Log(1/p.risk) - math.Log(max(sum(p.breach[:]), 1e-3))
	}
	if p.rule.Signal.Kind == signal.Quantile { // its evidence is in shares: what it came to so far tells how it grows
		gained := math.Log(max(sum(p.keeps[:]), 1e-3)) - math.Log(1e-3)
		return p.within(missing / max(gained, 1e-6) * float64(p.inside))
	}
	effect := reached.Value - limit
	gain := effect * effect / 2 * p.whole.information / float64(p.inside)
	if new := p.whole.new; p.rule.Signal.Kind.Share() && reached == v.New && new.whole > 0 {
		gain = likelier(sample{new.part + 0.5, new.whole + 1}, (new.part+0.5)/(new.whole+1), max(limit, 1e-6)) / float64(p.inside)
	}
	if gain <= 0 {
		return Longest
	}
	return p.within(missing / gain)
}

// within is the wait for what takes about so many intervals.
func (p *Process) within(intervals float64) time.Duration {
	return max(p.every, min(Longest, time.Duration(math.Ceil(surely*min(intervals, 1e6)))*p.every))
}
