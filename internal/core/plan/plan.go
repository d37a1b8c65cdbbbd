// Package plan turns differences into changes, in waves: what a later wave needs is in an earlier one. It does not say
// how fast a change comes in; that is package rollout's part.
package plan

import (
	"cmp"
	"fmt"
	"slices"

	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
)

// Act is what happens to a part.
type Act string

const (
	Add    Act = "add"
	Change Act = "change"
	Keep   Act = "mark"   // nothing changes at the site
	Remove Act = "remove" // an orphan; done only where that was asked for
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

// wave is the order of kinds: what others read comes first, what is no longer wanted goes last.
func wave(step Step) int {
	switch {
	case step.Act == Remove:
		return 2
	case step.Kind == declare.Settings:
		return 0
	}
	return 1
}

// New plans how to get from what is applied and live to what is declared. declared may be nil where nothing is.
func New(declared *declare.Desired, differences []compare.Difference) Plan {
	var p Plan
	steps := map[string]*Step{}
	for _, d := range differences {
		name := d.Part()
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
	waves := make([][]Step, 3)
	for _, step := range steps {
		w := wave(*step)
		waves[w] = append(waves[w], *step)
	}
	for _, steps := range waves {
		slices.SortFunc(steps, func(a, b Step) int { return cmp.Compare(a.Part, b.Part) })
		if len(steps) > 0 {
			p.Waves = append(p.Waves, steps)
		}
	}
	return p
}

func act(d compare.Difference, part string) Act {
	whole := d.Pointer == "/parts/"+declare.Escape(part)
	switch {
	case d.Kind == compare.MarkOnly:
		return Keep
	case whole && d.Declared == nil:
		return Remove
	case whole && d.Live == nil:
		return Add
	}
	return Change
}

func strongest(a, b Act) Act {
	order := []Act{Keep, Change, Add, Remove}
	return order[max(slices.Index(order, a), slices.Index(order, b))]
}
