package panel

import (
	"fmt"

	"aditus/internal/core/guard"
	"aditus/internal/core/signal"
)

// A guard may judge what has each value of a label by itself too, each route say. All together decides whether it is clear, as of what has little
// traffic nothing is ever known; any of them alone may breach.

// mostEach is how many values are judged by themselves: those that had the most when the guard was evaluated first, and what came then.
const mostEach = 30

// learn notes which values there are.
func (p *Panel) learn(rule guard.Rule, scrapes []Scrape) {
	found := map[string]float64{}
	for _, s := range scrapes {
		for value, n := range rule.Signal.Values(s.Page) {
			found[value] += n
		}
	}
	if p.values == nil {
		p.values, p.valued = map[string][]string{}, map[string]map[string]bool{}
	}
	key := labelled(rule)
	if p.valued[key] == nil {
		p.valued[key] = map[string]bool{}
	}
	for _, value := range signal.Most(found) {
		if known := p.valued[key]; !known[value] && len(known) < mostEach {
			known[value], p.values[key] = true, append(p.values[key], value)
		}
	}
}

// labelled names a guard with the label whose values it judges.
func labelled(rule guard.Rule) string { return rule.Name + "\x00" + rule.Signal.Each }

// each gives the guards on what has one value alone.
func (p *Panel) each(rule guard.Rule) (ones []guard.Rule) {
	if rule.Signal.Each == "" {
		return nil
	}
	for _, value := range p.values[labelled(rule)] {
		one := rule
		one.Name, one.Signal = fmt.Sprintf("%s, %s=%s", rule.Name, rule.Signal.Each, value), rule.Signal.OfValue(value)
		one.Missing = guard.MissingIgnored // nobody asks for it any more
		ones = append(ones, one)
	}
	return ones
}

// all are all guards that are judged: those that are declared, and those of single values.
func (p *Panel) all(s Subject) (rules []guard.Rule) {
	for _, rule := range s.Rules.Guards {
		rules = append(append(rules, rule), p.each(rule)...)
	}
	return rules
}

// worst gives the verdict of a guard in the light of those on what has one value alone: the breach of one is its own, and else the one that is
// closest to the limit is told beside it.
func (p *Panel) worst(rule guard.Rule, v guard.Verdict, judge func(guard.Rule) guard.Verdict) guard.Verdict {
	nearest := 0.0
	for i, one := range p.each(rule) {
		value := rule.Signal.Each + "=" + p.values[labelled(rule)][i]
		is := judge(one)
		margin, known := is.Margin()
		if is.Word == guard.Breach && (v.Word != guard.Breach || v.Each != "" && margin < nearest) {
			is.Guard, is.Each, is.Missing, nearest = rule.Name, value, rule.Missing, margin
			v = is
		}
		if v.Word != guard.Breach && known && (v.Worst == nil || margin < nearest) {
			reached, _ := is.Held()
			v.Worst, nearest = &guard.Worst{Each: value, Word: is.Word, Held: *reached}, margin
		}
	}
	return v
}
