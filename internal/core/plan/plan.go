// Package plan turns differences into changes, in waves: what a later wave needs is in an earlier one. It does not say
// how fast a change comes in; that is package rollout's part.
package plan

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
)

// Act is what happens to a part.
type Act string

const (
	Add    Act = "add"
	Change Act = "change"
	Keep   Act = "mark"   // nothing changes at the site
	Orphan Act = "orphan" // it stays live and is declared no longer; only a person removes it
)

// Step is the change of one part.
type Step struct {
	Part   string               `json:"part"`
	Kind   declare.Kind         `json:"kind"`
	Act    Act                  `json:"act"`
	Fields []compare.Difference `json:"fields"`
}

// String tells the step in words.
func (s Step) String() string {
	if s.Act == Orphan {
		return s.Part + " becomes an orphan: it stays live"
	}
	if len(s.Fields) == 1 {
		return fmt.Sprintf("%s %s: %s", s.Act, s.Part, s.Fields[0])
	}
	return fmt.Sprintf("%s %s: %d fields", s.Act, s.Part, len(s.Fields))
}

// Plan is all that a sync would change.
type Plan struct {
	Waves [][]Step             `json:"waves"` // in order; the steps of one wave may go together
	Rules []compare.Difference `json:"rules"` // outside of parts: how to roll out, guards
}

// Steps counts the steps of all waves.
func (p Plan) Steps() (count int) {
	for _, wave := range p.Waves {
		count += len(wave)
	}
	return count
}

// OnlyMarks tells whether nothing that runs would change: only what is on record, how to roll out, or how parts are
// looked after.
func (p Plan) OnlyMarks() bool {
	for _, wave := range p.Waves {
		for _, step := range wave {
			if step.Act != Keep {
				return false
			}
		}
	}
	return true
}

// New plans how to get from what is applied and live to what is declared. declared may be nil where nothing is.
func New(declared *declare.Desired, differences []compare.Difference) Plan {
	var p Plan
	steps := map[string]*Step{}
	for _, d := range differences {
		name := d.Part()
		if d.Kind == compare.Left || d.Kind == compare.Orphan {
			continue
		}
		if name == "" {
			p.Rules = append(p.Rules, d)
			continue
		}
		step := steps[name]
		if step == nil {
			step = &Step{Part: name, Act: Keep}
			if declared != nil {
				step.Kind = declared.Parts[name].Kind
			}
			steps[name] = step
		}
		step.Fields = append(step.Fields, d)
		step.Act = strongest(step.Act, act(d, name))
	}
	if len(steps) == 0 {
		return p
	}
	if declared != nil {
		for _, parts := range declared.Waves(slices.Collect(maps.Keys(steps))...) {
			var wave []Step
			for _, name := range parts {
				if step := steps[name]; step != nil {
					wave = append(wave, *step)
					delete(steps, name)
				}
			}
			if len(wave) > 0 {
				p.Waves = append(p.Waves, wave)
			}
		}
	}
	var last []Step // what is not declared any more
	for _, step := range steps {
		last = append(last, *step)
	}
	if len(last) > 0 {
		slices.SortFunc(last, func(a, b Step) int { return cmp.Compare(a.Part, b.Part) })
		p.Waves = append(p.Waves, last)
	}
	return p
}

func act(d compare.Difference, part string) Act {
	at := "/parts/" + declare.Escape(part)
	switch field, _, _ := strings.Cut(strings.TrimPrefix(d.Pointer, at+"/"), "/"); {
	case d.Kind == compare.MarkOnly, d.Pointer != at && slices.Contains(compare.Kept, field):
		return Keep
	case d.Pointer == at && d.Declared == nil:
		return Orphan
	case d.Pointer == at && d.Live == nil:
		return Add
	}
	return Change
}

func strongest(a, b Act) Act {
	order := []Act{Keep, Change, Add, Orphan}
	return order[max(slices.Index(order, a), slices.Index(order, b))]
}
