package course

import (
	"slices"
	"time"

	"aditus/internal/core/declare"
)

// Leg is one site on the way of a revision through its course.
type Leg struct {
	Site  string   `json:"site"`
	Step  int      `json:"step"`  // from 1
	After []string `json:"after"` // the sites that it waits for, as far as the workload is there
	Any   bool     `json:"any,omitempty"`

	Proven  time.Time `json:"proven,omitzero"`   // it has it
	Begins  time.Time `json:"begins,omitzero"`   // at the earliest; zero for never
	Ends    time.Time `json:"ends,omitzero"`     // proven at the earliest
	Never   bool      `json:"never,omitempty"`   // no window is long enough, or what it waits for never comes
	Asks    []string  `json:"asks,omitempty"`    // people and roles without whom it does not come, in words
	Waits   string    `json:"waits,omitempty"`   // what is in the way now, in words
	ByHand  bool      `json:"by_hand,omitempty"` // only a person brings it there
	LastDay time.Time `json:"last_day,omitzero"` // when it is taken without its team's answer
	Rolling bool      `json:"rolling,omitempty"`
}

// Comes tells in words when it comes there.
func (l Leg) Comes(zone *time.Location) string {
	switch {
	case !l.Proven.IsZero():
		return ""
	case l.Never:
		return "never"
	case l.Rolling:
		return "under way"
	case l.ByHand:
		return "by hand"
	}
	return l.Begins.In(zone).Format("Mon 2 Jan 15:04")
}

// Waiting is what it waits for, and whom, one after the other, in words.
func (l Leg) Waiting() (all []string) {
	if !l.Proven.IsZero() || l.Rolling {
		return nil
	}
	for _, text := range append([]string{l.Waits}, l.Asks...) {
		if text != "" && !slices.Contains(all, text) {
			all = append(all, text)
		}
	}
	return all
}

// Plan tells when a revision may come to each site of its course at the earliest, if every rollout does well and nobody keeps
// others waiting. ask gives the query for a site; those that do not declare the workload are left out.
func (r *Rules) Plan(workload string, now time.Time, ask func(site string) (q Query, declared bool)) (legs []Leg) {
	c := r.CourseOf(workload)
	if c == nil {
		return nil
	}
	ends := map[string]time.Time{}
	for i := range c.Steps {
		step := &c.Steps[i]
		var taken []time.Time // when those of this step end
		for _, site := range step.Sites {
			q, declared := ask(site)
			if !declared {
				continue
			}
			leg := Leg{Site: site, Step: i + 1, After: before(c, step, q), Any: step.Any, Proven: q.Here.Proven, Rolling: q.Here.Rolling}
			if !leg.Proven.IsZero() {
				ends[site] = leg.Proven
				legs = append(legs, leg)
				continue
			}
			r.foresee(c, step, q, &leg, now, ends, taken)
			if !leg.Never {
				ends[site] = leg.Ends
				taken = append(taken, leg.Ends)
				slices.SortFunc(taken, time.Time.Compare)
			}
			legs = append(legs, leg)
		}
	}
	return legs
}

// foresee fills in when one site may have it.
func (r *Rules) foresee(c *declare.Course, step *declare.Step, q Query, leg *Leg, now time.Time, ends map[string]time.Time, taken []time.Time) {
	if leg.Rolling {
		leg.Begins, leg.Ends = now, now.Add(q.Takes)
		return
	}
	if q.Here.Turned != "" {
		leg.Never, leg.Waits = true, "was rolled back: "+q.Here.Turned
		return
	}
	answer := r.Judge(q)
	leg.Waits, leg.ByHand = answer.Why, answer.Kind == Hand
	if step.SignOff != nil {
		if a := r.signed(step, q); !a.May() {
			leg.Asks = append(leg.Asks, a.Why)
		}
	}
	if a := r.agreed(step, q); !a.May() && !leg.ByHand {
		leg.Asks, leg.LastDay = append(leg.Asks, a.Why), LastDay(step, q.Offer)
	}
	if answer.Kind == Stopped {
		leg.Never = true
		return
	}
	begins := now
	var due []time.Time
	for _, site := range leg.After {
		if at, comes := ends[site]; comes {
			due = append(due, at)
		} else if !step.Any {
			leg.Never = true
			return
		}
	}
	if len(due) > 0 {
		slices.SortFunc(due, time.Time.Compare)
		at := due[len(due)-1]
		if step.Any {
			at = due[0]
		}
		begins = later(begins, at.Add(step.For.Duration))
	} else if len(leg.After) > 0 {
		leg.Never = true
		return
	}
	if n := step.AtOnce; n > 0 && len(taken) >= n {
		begins = later(begins, taken[len(taken)-n])
	}
	opens, ever := r.Opens(begins, q.Workload, q.Site, q.Takes)
	if leg.Never = !ever; ever {
		leg.Begins, leg.Ends = opens, opens.Add(q.Takes)
	}
}
