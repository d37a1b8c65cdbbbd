package guard

import "math"

// betShares bets on an interval of a share.
func (p *Process) betShares(i Interval, new sample) (up [alternatives]float64, down [keepers]float64, ok bool) {
	limit := p.rule.Limit.Value
	switch {
	case p.paired(i):
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
			if null := usual + limit; null < mostRate { // beyond it there is nothing that new could be
				high := null + smallest*math.Exp2(float64(k))*null
				up[k] = trust * pairBet(old, new, usual, min(high, (1+null)/2), limit)
			}
		}
		for k, better := range [keepers]float64{limit / 2, limit, limit + usual/2} {
			down[k] = trust * pairBet(old, new, usual, max(usual+limit-better, leastRate), limit)
		}
		p.pool(i, trust/explained)
		worse := max(usual, min((p.whole.new.part+1)/(p.whole.new.whole+1/usual), 1-leastRate)) // what is worse scatters more by its counts alone
		p.spread.add((new.part/new.whole-old.part/old.whole)/usual, (usual*(1-usual)/old.whole+worse*(1-worse)/new.whole)/(usual*usual))
		p.see(i.Old)
		return up, down, true
	case p.bound != nil:
		limit = *p.bound
	case p.rule.Limit.Moves():
		return up, down, false
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
	p.pool(i, trust/explained)
	return up, down, true
}

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
	if variance, known := p.spread.scaled(counts); known {
		size := smallest * max(p.rule.Limit.Value, leastEffect*math.Abs(p.base.part/max(1, p.base.whole))) // told before the interval
		for k := range up {
			up[k] = meanBet(min(value-limit, tail*math.Sqrt(variance)), size*math.Exp2(float64(k)), variance)
		}
		for k, better := range [keepers]float64{0.5, 1, 2} {
			down[k] = meanBet(limit-value, better*size/smallest/2, variance)
		}
		p.pool(i, 1/variance)
		ok = true
	}
	p.spread.step(value, counts)
	return up, down, ok
}

// tail bounds how far beyond the limit a mean counts, in standard deviations: one very slow answer is not the rule.
const tail = 2

// leastEffect is the smallest limit on a mean that is taken as such, as a share of what old usually shows.
const leastEffect = 0.02

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
