package guard

import (
	"fmt"
	"maps"
	"math"
	"slices"

	"aditus/internal/core/signal"
)

// ones are what the instances of new showed, each by itself, in all intervals that were bet on. What one of several does alone is no breach,
// as it may be its host; and it is not clear.
type ones struct {
	by      map[string]one
	serving int // instances of the last interval
	taken   int // intervals
}

type one struct {
	sample
	seen     int     // the last interval that it showed anything
	excess   float64 // bad answers beyond those that it would have given at old's rate of the same interval
	variance float64 // of them
}

func (o one) rate() float64 { return o.part / max(o.whole, 1) }

// An instance is alone to blame that gives so many times as many bad answers as the others, by so many standard errors, where the others
// are not so many beyond the limit.
const (
	loneTimes  = 1.5
	loneErrors = 2
)

// add adds what each instance showed beside old in an interval; factor is how much more it scatters than its counts explain. One that
// is gone is forgotten after a while.
func (all *ones) add(each map[string]signal.Tally, old sample, factor float64) {
	if all.by == nil {
		all.by = map[string]one{}
	}
	all.taken++
	all.serving = len(each)
	rate, likely := old.part/old.whole, (old.part+0.5)/(old.whole+1)
	for name, t := range each {
		o := all.by[name]
		o.part, o.whole, o.seen = o.part+t.Part, o.whole+t.Whole, all.taken
		o.excess += t.Part - rate*t.Whole
		o.variance += factor * likely * t.Whole * (1 + t.Whole/old.whole)
		all.by[name] = o
	}
	maps.DeleteFunc(all.by, func(_ string, o one) bool { return all.taken-o.seen > window })
}

// without is what all but one showed.
func (all ones) without(name string) (rest one) {
	for other, o := range all.by {
		if other != name {
			rest.part, rest.whole, rest.excess, rest.variance = rest.part+o.part, rest.whole+o.whole, rest.excess+o.excess, rest.variance+o.variance
		}
	}
	return rest
}

// lone is the one instance without which new is not seen to be beyond a limit above old; empty for none. Where more than half of its answers
// are bad it is no matter of a host.
func (all ones) lone(limit float64) (worst string) {
	if all.serving < LeastInstances { // of those that are gone nothing is to be blamed on one
		return ""
	}
	for _, name := range slices.Sorted(maps.Keys(all.by)) {
		if worst == "" || all.by[name].rate() > all.by[worst].rate() {
			worst = name
		}
	}
	blamed, rest := all.by[worst], all.without(worst)
	usual := rest.rate() * blamed.whole
	alone := blamed.part > loneTimes*usual && blamed.part-usual > loneErrors*math.Sqrt(max(1, usual)) && blamed.rate() <= oddAtMost
	if !alone || rest.excess-loneErrors*math.Sqrt(rest.variance) > limit*rest.whole {
		return ""
	}
	return worst
}

// odd are the instances of either cohort that are.
func (p *Process) odd() []string { return append(p.each[0].odd(), p.each[1].odd()...) }

// blames tells which instance of new is alone to blame where the evidence would be that of a breach with it, or would be were it not left out.
func (p *Process) blames(evidence float64) string {
	if !p.whole.paired {
		return ""
	}
	blamed := ""
	if odd := p.each[1].odd(); len(odd) > 0 {
		blamed = odd[0]
	} else if evidence >= 1 {
		blamed = p.ones.lone(p.rule.Limit.Value)
	}
	if blamed == "" {
		return ""
	}
	if rest := p.ones.without(blamed).rate(); rest > 0 {
		return fmt.Sprintf("%s alone gives %.2g times as many bad answers as the rest of new", blamed, p.ones.by[blamed].rate()/rest)
	}
	return blamed + " alone gives bad answers, and the rest of new none"
}
