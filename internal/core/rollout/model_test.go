package rollout

import (
	"fmt"
	"hash/fnv"
	"maps"
	"slices"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
)

// model is a target in a simulation: it does what it is told after a while, and what happens to it follows from the
// story's seed and events alone.
type model struct {
	seed    uint64
	splits  bool
	now     int
	made    int
	cohorts map[declare.Fingerprint]*crew
	old     Side
	new     Side
	share   float64 // of the traffic on newSide

	bad         map[declare.Fingerprint]bool // its instances fail from now on
	down        bool                         // unreachable
	stale       bool
	lie         int // what is added to a count that is seen
	verdict     guard.Word
	ran         map[string]int
	oldPart     string // a part that only the old revision declares
	calm        bool   // nothing happens any more, and everything that is well comes up
	slow        int    // how long instances take at most
	scaled      int    // to how many someone scaled web; 0 for nobody did
	taskFails   bool
	cannotStart bool
}

// crew is one revision's cohort.
type crew struct {
	laid, preview bool
	parts         map[string][]*hand
	tasks         map[string]int // when each ends
	all           []string
}

// hand is one instance.
type hand struct {
	up      int  // when it is healthy
	flapped int  // until when it is not
	old     bool // it was there from the beginning
}

func (m *model) healthy(r declare.Fingerprint, h *hand) bool {
	return m.now >= h.up && m.now >= h.flapped && !m.bad[r]
}

// chance gives a number below n that follows from the seed and what it is for.
func (m *model) chance(n int, what ...any) int {
	h := fnv.New64a()
	fmt.Fprint(h, m.seed, what)
	return int(h.Sum64() % uint64(n))
}

func newModel(seed uint64, old, new Side, splits bool) *model {
	m := &model{seed: seed, splits: splits, old: old, new: new, cohorts: map[declare.Fingerprint]*crew{},
		bad: map[declare.Fingerprint]bool{}, verdict: guard.Undecided, ran: map[string]int{}, slow: 30}
	if !old.None() {
		c := &crew{laid: true, parts: map[string][]*hand{}, tasks: map[string]int{}, all: slices.Clone(old.Declared)}
		for part, n := range old.Parts {
			for range n {
				c.parts[part] = append(c.parts[part], &hand{old: true})
			}
		}
		m.cohorts[old.Revision] = c
	}
	return m
}

// traffic is the share on new: what was set, or what the healthy instances make it where the target cannot split.
func (m *model) traffic() float64 {
	old, new := m.sum(m.old.Revision), m.sum(m.new.Revision)
	if m.splits || old+new == 0 {
		return m.share
	}
	return float64(new) / float64(old+new)
}

func (m *model) sum(r declare.Fingerprint) (n int) {
	if c := m.cohorts[r]; c != nil {
		for _, hands := range c.parts {
			for _, h := range hands {
				if m.healthy(r, h) {
					n++
				}
			}
		}
	}
	return n
}

func (m *model) observe() Observation {
	if m.down {
		return Observation{Stale: "the site cannot be reached", Verdicts: m.verdicts()}
	}
	o := Observation{Reached: true, Fresh: !m.stale, Splits: m.splits, Share: m.traffic(), Verdicts: m.verdicts()}
	if m.stale {
		o.Stale = "a probe is silent"
	}
	o.Old, o.New = m.cohort(m.old.Revision), m.cohort(m.new.Revision)
	return o
}

func (m *model) verdicts() []guard.Verdict {
	return []guard.Verdict{{Guard: "slow", Word: m.verdict, Then: guard.RollBack, Missing: guard.MissingHolds}}
}

func (m *model) cohort(r declare.Fingerprint) Cohort {
	c := Cohort{Parts: map[string]int{}, Healthy: map[string]int{}, Ready: map[string]int{}, Done: map[string]bool{}, Failed: map[string]string{}}
	crew := m.cohorts[r]
	if crew == nil {
		return c
	}
	c.Laid, c.Preview, c.All = crew.laid, crew.preview, crew.all
	if r == m.new.Revision && m.cannotStart {
		c.CannotStart = "there is no such artifact"
	}
	for part, hands := range crew.parts {
		c.Parts[part] = max(0, len(hands)+m.lie)
		for _, h := range hands {
			c.Health.Total++
			if !m.healthy(r, h) {
				if m.bad[r] {
					c.Health.Failing, c.Health.Reason = c.Health.Failing+1, "status 503"
				}
				continue
			}
			c.Health.Healthy++
			c.Healthy[part]++
			if h.old || m.now >= h.up+2 && m.now >= h.flapped+2 {
				c.Ready[part]++
			}
		}
	}
	for task, ends := range crew.tasks {
		c.Parts[task] = 1
		switch {
		case m.now < ends:
		case m.taskFails:
			c.Failed[task] = "exited with status 1"
		default:
			c.Done[task] = true
		}
	}
	return c
}

// act does what is asked, and tells what it must never be asked.
func (m *model) act(s State, intents []Intent) error {
	for _, i := range intents {
		c := m.cohorts[i.Revision]
		if c == nil && i.Do != Prepare && i.Do != SetShare {
			if i.Do == Delete {
				continue
			}
			return fmt.Errorf("%s is asked of %s, which is not there", i.Do, i.Revision)
		}
		switch i.Do {
		case Prepare:
			if c == nil {
				m.cohorts[i.Revision] = &crew{laid: true, parts: map[string][]*hand{}, tasks: map[string]int{}, all: slices.Clone(m.new.Declared)}
			}
		case Scale:
			if i.Count > len(c.parts[i.Part]) && i.Revision == m.new.Revision && s.Phase != RollingBack {
				if err := m.met(i.Part); err != nil {
					return err
				}
			}
			m.resize(c, i)
		case Run:
			if err := m.met(i.Part); err != nil {
				return err
			}
			if m.ran[i.Part]++; m.ran[i.Part] > 1 {
				return fmt.Errorf("the task %s ran twice", i.Part)
			}
			c.tasks[i.Part] = m.now + 1 + m.chance(6, i.Part)
		case SetShare:
			m.share = i.Share
		case Preview:
			c.preview = true
		case MovePart:
			c = m.cohorts[i.From]
			c.all = slices.DeleteFunc(slices.Clone(c.all), func(p string) bool { return p == i.Part })
		case Delete:
			if i.Revision == m.old.Revision && slices.Contains(c.all, m.oldPart) {
				return fmt.Errorf("the old cohort went with %s, which is not declared any more", m.oldPart)
			}
			delete(m.cohorts, i.Revision)
			if i.Revision == m.new.Revision {
				m.share = 0
			}
		}
	}
	return nil
}

// resize makes a part so large; those that are not up go first.
func (m *model) resize(c *crew, i Intent) {
	hands := c.parts[i.Part]
	slices.SortStableFunc(hands, func(a, b *hand) int {
		x, y := m.healthy(i.Revision, a), m.healthy(i.Revision, b)
		if x == y {
			return 0
		} else if x {
			return -1
		}
		return 1
	})
	hands = hands[:min(len(hands), i.Count)]
	for len(hands) < i.Count {
		m.made++
		hands = append(hands, &hand{up: m.now + 1 + m.chance(m.slow, "up", m.made)})
	}
	c.parts[i.Part] = hands
}

// met tells whether something of the new cohort may begin: all that it needs is healthy or done.
func (m *model) met(part string) error {
	for _, need := range m.new.Needs[part] {
		if ends, begun := m.cohorts[m.new.Revision].tasks[need]; begun && m.now >= ends && !m.taskFails {
			continue
		}
		found := false
		for r, c := range m.cohorts {
			found = found || slices.ContainsFunc(c.parts[need], func(h *hand) bool { return m.healthy(r, h) })
		}
		if !found && m.new.Parts[need] > 0 || m.new.Tasks[need] != (Task{}) && m.ran[need] == 0 {
			return fmt.Errorf("%s began before %s, which it needs, was there", part, need)
		}
	}
	return nil
}

// event is something that happens in a story.
type event struct {
	at   int
	what string
	do   func(*model)
	ask  Verb // a command instead
	rest bool // a restart instead
}

// loses takes one instance away.
func loses(r declare.Fingerprint) func(*model) {
	return func(m *model) {
		if c := m.cohorts[r]; c != nil {
			for _, part := range slices.Sorted(maps.Keys(c.parts)) {
				if n := len(c.parts[part]); n > 0 {
					c.parts[part] = c.parts[part][1:]
					return
				}
			}
		}
	}
}

// scales makes web of the old cohort so large, as a scaler at the site would.
func scales(r declare.Fingerprint, count int) func(*model) {
	return func(m *model) {
		if c := m.cohorts[r]; c != nil && len(c.parts["web"]) > 0 {
			m.scaled = count
			m.resize(c, Intent{Revision: r, Part: "web", Count: count})
		}
	}
}

// flaps makes one instance unhealthy for a while.
func flaps(r declare.Fingerprint, long int) func(*model) {
	return func(m *model) {
		if c := m.cohorts[r]; c != nil {
			for _, part := range slices.Sorted(maps.Keys(c.parts)) {
				if n := len(c.parts[part]); n > 0 {
					c.parts[part][n-1].flapped = m.now + long
					return
				}
			}
		}
	}
}
