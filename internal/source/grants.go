package source

import (
	"fmt"

	"aditus/internal/core/declare"
)

// at is where a field of a part is written, or what is nearest to it.
func (l *loader) where(d Declaration, part, field string) declare.Problem {
	at, pointer := l.at[d.Workload], ""
	keys := []string{}
	if part != "" {
		keys = append(keys, "parts", part)
	}
	if field != "" {
		keys = append(keys, field)
	}
	for _, key := range keys {
		below, ok := at.Get(key)
		if !ok {
			break
		}
		at, pointer = below, pointer+"/"+declare.Escape(key)
	}
	return declare.Problem{File: at.File, Line: at.Line, Column: at.Column, Pointer: pointer}
}

// granted tells what is declared that this repository may not.
func (l *loader) granted() {
	if l.options.Grant == nil {
		return
	}
	if g := l.options.Grant; !g.Everything && len(g.Workloads) == 0 && len(l.loaded.Declarations) > 0 {
		p := l.where(l.loaded.Declarations[0], "", "workload")
		p.Message = "the settings do not say what this repository may declare, and there is more than one"
		p.Suggestion = "whoever keeps them writes may: under its link, or has it written: aditus link allow"
		l.wrong(p)
		return
	}
	for _, d := range l.loaded.Declarations {
		for _, r := range l.options.Grant.Refuse(d.Desired, d.Site) {
			p := l.where(d, r.Part, r.Field)
			p.Message, p.Suggestion = r.Message, r.Suggestion
			l.wrong(p)
		}
	}
}

// claims tells which host names and ports are claimed at a site that another workload has, the first by name among those of this
// repository.
func (l *loader) claims() {
	has, shared := map[string]string{}, map[string]bool{} // shared are those that objects of this repository have
	for _, d := range l.loaded.Declarations {             // by workload
		for _, name := range sortedKeys(d.Parts) {
			for _, claim := range d.Parts[name].Claims() {
				key := d.Site + " " + claim.What
				by := has[key]
				if by == "" && l.options.Taken != nil {
					by = l.options.Taken(d.Site, claim.What)
				}
				if own := d.Workload + " by " + name; by == "" || by == own || claim.Shared && shared[key] {
					shared[key] = claim.Shared
					has[key] = own
					continue
				}
				p := l.where(d, name, claim.Pointer)
				p.Message, p.Suggestion = fmt.Sprintf("%s claims %s at %s, which %s has", d.Workload, claim.What, d.Site, by), "give it another one; what has it keeps it"
				l.wrong(p)
			}
		}
	}
}
