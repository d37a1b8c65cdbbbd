package guard

import (
	"math"

	"aditus/internal/core/signal"
)

// betShares bets on an interval of a share.
func (p *Process) betShares(i Interval, new sample) (up [alternatives]float64, down [keepers]float64, ok bool) {
	switch limit := p.rule.Limit.Value; {
	case p.paired(i):
		i.Old = p.each[0].ordinary(i.Old, i.Each.Old)
		return p.betPair(i, sample{i.Old.Part, i.Old.Whole}, new)
	case p.bound == nil && p.rule.Limit.Moves():
		return up, down, false
	case p.rule.Signal.Kind == signal.Quantile:
		up, down = p.betAlone(i, new, 1-p.rule.Signal.Quantile)
	case p.bound != nil:
		up, down = p.betAlone(i, new, *p.bound)
	default:
		up, down = p.betAlone(i, new, limit)
	}
	return up, down, true
}

// betPair bets on an interval in which new is held against old.
func (p *Process) betPair(i Interval, old, new sample) (up [alternatives]float64, down [keepers]float64, ok bool) {
	if p.base.whole == 0 {
		p.see(i.Old) // nothing to bet on yet
		return up, down, false
	}
	if p.outage(i.Old) {
		return up, down, false
	}
	usual, limit := p.rate(), p.rule.Limit.Value
	betters := [keepers]float64{limit / 2, limit, limit + usual/2}
	if p.rule.Signal.Kind == signal.Quantile { // what of old lies above its quantile, and what of new above that and the limit, are held against each other
		limit, betters = 0, [keepers]float64{usual / 4, usual / 2, usual * 3 / 4}
	}
	explained := usual * (1 - usual) * (1/old.whole + 1/new.whole)
	p.scattersAs(true, explained/(usual*usual))
	p.scatter.among = 1 + p.among(usual, i)/explained
	trust := 1 / p.scatter.factor()
	alike := p.each[1].ordinary(i.New, i.Each.New)
	rest := sample{alike.Part, alike.Whole}
	bet := func(new sample, rate, gap float64) float64 {
		if trust < leastTrust {
			return normalBet(new.part/new.whole-old.part/old.whole-gap, rate-usual-gap, explained/trust)
		}
		return trust * pairBet(old, new, usual, rate, gap)
	}
	gap := limit
	if p.rule.Safe == NoWorse {
		gap = 0
	}
	for k := range up {
		if usual+gap < mostRate { // beyond it there is nothing that new could be
			up[k] = bet(rest, worse(usual+gap, usual+limit, k), gap)
		}
	}
	for k, better := range betters {
		down[k] = bet(new, max(usual+limit-better, leastRate), limit)
	}
	p.pool(i, trust/explained)
	p.ones.add(i.Each.New, old, 1/trust)
	p.learn(i, old, rest, usual)
	return up, down, true
}

// among is the variance of the difference of both cohorts in an interval by how far instances go their own ways: that of the mean of a window,
// as an interval of it would have. Where the limit itself is not protected most good versions lie where the risk is, and it counts twice, as it
// is known of few instances.
func (p *Process) among(usual float64, i Interval) float64 {
	variance := window * p.each[0].own() * usual * usual * (1/float64(max(1, len(i.Each.Old))) + 1/float64(max(1, i.New.Instances)))
	if p.rule.Safe == NoWorse {
		variance *= 2
	}
	return variance
}

// learn takes what an interval tells of those to come, where new without its odd instances showed rest: how much cohorts scatter, what old
// usually shows, and how far instances go their own ways.
func (p *Process) learn(i Interval, old, rest sample, usual float64) {
	// What is worse scatters more by its counts alone: by what new showed in this stage, drawn to what is usual with the weight of an interval.
	one := i.New.Whole + 1
	shown := max(usual, min((p.whole.new.part+usual*one)/(p.whole.new.whole+one), 1-leastRate))
	p.scatter.add((rest.part/rest.whole-old.part/old.whole)/usual, (usual*(1-usual)/old.whole+shown*(1-shown)/i.New.Whole)/(usual*usual))
	p.see(i.Old)
	p.each[0].add(i.Each.Old)
	p.each[1].add(i.Each.New)
}

// worse is the rate of the k-th size of regression that is looked out for, beyond a rate, where the limit lies at another.
func worse(rate, limit float64, k int) float64 {
	return min(rate+limit*sizes[k], (1+rate)/2)
}

// betAlone bets on an interval in which new is held against a rate.
func (p *Process) betAlone(i Interval, new sample, limit float64) (up [alternatives]float64, down [keepers]float64) {
	limit = max(limit, 1e-6)
	explained := limit * (1 - limit) / new.whole
	shown := min(max(new.part, 0.5)/new.whole, 0.5)
	counts := shown * (1 - shown) / new.whole
	p.scattersAs(false, counts)
	trust := 1 / p.scatter.factor()
	bet := func(rate float64) float64 {
		if trust < leastTrust {
			return normalBet(new.part/new.whole-limit, rate-limit, explained/trust)
		}
		return trust * alone(new, rate, limit)
	}
	for k := range up {
		up[k] = bet(worse(limit, limit, k))
	}
	for k, part := range [keepers]float64{0.8, 0.5, 0.15} {
		down[k] = bet(limit * part)
	}
	p.scatter.add(new.part/new.whole, counts)
	p.pool(i, trust/explained)
	return up, down
}

// scattersAs goes on with the scatter of differences from old, or of new alone, where the counts explain so much.
func (p *Process) scattersAs(apart bool, explained float64) {
	switch {
	case p.taken > 0 && apart != p.apart:
		p.scatter.gap()
		p.scatter.explained = explained
	case p.inside == 0:
		p.scatter.change(explained)
	}
	p.apart = apart
}

// leastTrust is where answers scatter so much more than by themselves that their counts are no longer bet on, but how far
// off the limit they are, as a normal value.
const leastTrust = 0.7

// mostRate is where a limit lies that hardly anything can exceed.
const mostRate = 1 - 1e-4

// betMeans bets on an interval of a mean.
func (p *Process) betMeans(i Interval) (up [alternatives]float64, down [keepers]float64, ok bool) {
	value, counts, limit := i.New.Value, 1/i.New.Whole, p.rule.Limit.Value
	switch {
	case p.paired(i):
		value, counts = value-i.Old.Value, counts+1/i.Old.Whole
		defer p.see(i.Old)
	case p.bound != nil:
		limit = *p.bound
	case p.rule.Limit.Moves():
		return up, down, false
	}
	if p.inside == 0 && p.taken > 0 {
		p.scatter.change(counts)
	}
	if variance := counts * p.scatter.factor(); variance > 0 {
		size := max(p.rule.Limit.Value, leastEffect*math.Abs(p.base.part/max(1, p.base.whole))) // told before the interval
		null := limit
		if p.rule.Safe == NoWorse && p.paired(i) {
			null = 0
		}
		for k := range up {
			up[k] = meanBet(min(value-null, tail*math.Sqrt(variance)), size*sizes[k], variance)
		}
		for k, better := range [keepers]float64{0.5, 1, 2} {
			down[k] = meanBet(limit-value, better*size/2, variance)
		}
		p.pool(i, 1/variance)
		ok = true
	}
	p.scatter.add(value, counts)
	return up, down, ok
}

// tail bounds how far beyond the limit a mean counts, in standard deviations: one very slow answer is not the rule.
const tail = 2

// leastEffect is the smallest limit on a mean that is taken as such, as a share of what old usually shows.
const leastEffect = 0.02

// outage tells whether old itself is so much worse than usual that the interval says nothing of new. A group of bad answers
// is none: to pass over those of old and not those of new would be to favour old.
func (p *Process) outage(old *signal.Point) bool {
	usual := p.rate() * old.Whole
	if old.Part <= outageTimes*usual || old.Part-usual <= outageDeviations*math.Sqrt(p.scatter.factor()*max(1, usual)) {
		p.outlasts = 0
		return false
	}
	p.scatter.gap()
	if p.outlasts++; p.outlasts > usualAfter {
		p.see(old)
	}
	return true
}

// An outage of both cohorts is what old shows with so many times the usual share, and so many standard deviations above it.
const (
	outageTimes      = 3
	outageDeviations = 8
	usualAfter       = 30 // intervals after which an outage counts as usual
)
