package berth

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/health"
	"aditus/internal/core/rollout"
)

var (
	start = time.Date(2026, 3, 12, 9, 0, 0, 0, time.UTC)
	north = ID{Workload: "boarding", Site: "north"}
)

// beat is how long a step of a model lasts.
const beat = 2 * time.Second

// model is a berth in a simulation: a site that does what it is told within a beat, a ledger, and what goes on around them.
type model struct {
	now       time.Time
	state     State
	world     World
	line      declare.Line
	again     map[string]time.Time // when instances were started anew
	revisions []*Revision
	cohorts   map[declare.Fingerprint]*cohort
	facts     []string // on record
	kinds     map[Kind]int

	down, stale, fails bool // the site cannot be reached; a probe is silent; records fail
	verdict            guard.Word
	then               guard.Action
	dead               bool
	orders             []Order
	kept               State // on record
}

type cohort struct {
	share float64
	parts map[string]declare.Part
	born  map[string]time.Time // by part, when its youngest instance came
}

// revision is a version of boarding: an app of two instances and, from 2 on, settings beside it.
func revision(version string) *Revision {
	app := declare.Part{Kind: declare.Service, Artifact: "r.example/boarding:" + version, Instances: 2}
	d := &declare.Desired{Workload: north.Workload, Parts: map[string]declare.Part{"app": app}}
	if version != "1" {
		d.Parts["sizes"] = declare.Part{Kind: declare.Settings, Values: map[string]string{"version": version}}
	}
	d.Rollout = declare.Rollout{
		Style: declare.Canary, Stages: []declare.Stage{{Share: 0.25, Soak: span(6 * time.Second)}, {Share: 1, Soak: span(4 * time.Second)}},
		Deadline: span(30 * time.Second), Proving: span(8 * time.Second), CoolDown: span(time.Minute), Interval: span(2 * time.Second), Newer: declare.NewerSupersedes,
	}
	return &Revision{Fingerprint: d.Fingerprint(), Workload: north.Workload, Version: version, Commit: "abc", Subject: "Version " + version, Author: "Tove Lind", At: start, Desired: d}
}

func span(d time.Duration) declare.Span { return declare.Span{Duration: d} }

func newModel() *model {
	m := &model{now: start, cohorts: map[declare.Fingerprint]*cohort{}, again: map[string]time.Time{}, kinds: map[Kind]int{}, verdict: guard.Clear, then: guard.RollBack}
	m.state.Change.SyncStatus = compare.Unread
	m.world = World{Automatic: true, AfterProven: true, Revisions: map[declare.Fingerprint]*Revision{}, Named: map[string][]*Revision{}, Roles: map[string][]string{}, Drift: Drift{Notice: 10 * time.Second}}
	m.push("1")
	return m
}

// push has Git declare a version.
func (m *model) push(version string) {
	r := revision(version)
	if m.world.Revisions[r.Fingerprint] == nil {
		m.revisions = append(m.revisions, r)
		m.world.Revisions[r.Fingerprint] = r
		m.world.Named[version] = []*Revision{r}
	}
	m.world.Declared = m.world.Revisions[r.Fingerprint]
}

// hand has somebody at the site scale what has the most traffic.
func (m *model) hand(instances int) {
	if c := m.serving(); c != nil {
		app := c.parts["app"]
		app.Instances = instances
		c.parts["app"] = app
	}
}

func (m *model) serving() (most *cohort) {
	for _, f := range slices.Sorted(maps.Keys(m.cohorts)) {
		if c := m.cohorts[f]; most == nil || c.share > most.share {
			most = c
		}
	}
	return most
}

// seen is what one look gives.
func (m *model) seen() Seen {
	if m.down {
		return Seen{Stale: "the site cannot be reached"}
	}
	s := Seen{Reached: true, Evaluated: true}
	if m.stale {
		s.Stale = "a probe is silent"
	}
	for _, f := range slices.Sorted(maps.Keys(m.cohorts)) {
		c := Cohort{Revision: f, Share: m.cohorts[f].share, Live: compare.Live{}}
		for name, part := range m.cohorts[f].parts {
			c.Live[name] = compare.Show(part)
			for i := range part.Instances {
				since := m.cohorts[f].born[name]
				if again := m.again[fmt.Sprintf("%s-%s-%d", name, f.Short(), i+1)]; again.After(since) {
					since = again
				}
				h := health.Instance{Word: health.Healthy, Since: since, Started: since}
				if m.dead && i == 0 {
					h = health.Instance{Word: health.Failing, Reason: "does not answer", Dead: true}
				}
				in := Instance{ID: fmt.Sprintf("%s-%s-%d", name, f.Short(), i+1), Part: name, Health: &h}
				if c.Instances = append(c.Instances, in); h.Dead {
					s.Dead = append(s.Dead, in.ID)
				}
			}
		}
		s.Cohorts = append(s.Cohorts, c)
	}
	if m.state.Roll == nil && m.state.Applied != "" || m.state.Roll != nil {
		limit := 0.05
		s.Verdicts = []guard.Verdict{{Guard: "slow", Word: m.verdict, Limit: guard.Limit{Kind: guard.AtMost, Value: limit, Unit: guard.Share}, Then: m.then, Missing: guard.MissingHolds, New: &guard.Estimate{Value: 0.09}}}
	}
	return s
}

// step takes one step as the engine does, and gives what was decided and whether it counts: it could be recorded.
func (m *model) step() (d Decision, counts bool) {
	d = Decide(north, m.state, m.seen(), m.world, m.orders, m.now)
	if d.Begins() {
		d.Number(int64(len(m.facts) + 1))
	}
	counts = !d.Durable || !m.fails
	if counts {
		m.state, m.kept = d.State, d.State
		if d.Revision != nil {
			m.world.Revisions[d.Revision.Fingerprint] = d.Revision
		}
		for _, f := range d.Facts {
			m.facts, m.kinds[f.Kind] = append(m.facts, string(f.Kind)), m.kinds[f.Kind]+1
		}
		for _, i := range d.Intents {
			m.do(i)
		}
		for _, id := range d.Restarts {
			m.again[id] = m.now
		}
	} else {
		var now []rollout.Intent
		m.state, now, _ = d.Unrecorded(m.state)
		for _, i := range now {
			m.do(i)
		}
	}
	orders := m.orders
	m.orders = nil
	for i, a := range d.Answers {
		if counts && a.Again {
			m.orders = append(m.orders, orders[i])
		}
	}
	m.now = m.now.Add(beat)
	return d, counts
}

// do is what the site does.
func (m *model) do(i rollout.Intent) {
	if m.down {
		return
	}
	c := m.cohorts[i.Revision]
	switch i.Do {
	case rollout.Prepare:
		if c == nil {
			c = &cohort{parts: map[string]declare.Part{}, born: map[string]time.Time{}}
			m.cohorts[i.Revision] = c
		}
		for name, part := range m.world.Revisions[i.Revision].Desired.Parts {
			part.Instances = c.parts[name].Instances
			c.parts[name] = part
		}
	case rollout.Scale:
		if c != nil {
			part := c.parts[i.Part]
			part.Instances, c.born[i.Part] = i.Count, m.now
			c.parts[i.Part] = part
		}
	case rollout.SetShare:
		rest := declare.Fingerprint("")
		if m.state.Roll != nil {
			rest = m.state.Roll.Old.Revision
		}
		for f, other := range m.cohorts {
			switch f {
			case i.Revision:
				other.share = i.Share
			case rest:
				other.share = 1 - i.Share
			default:
				other.share = 0
			}
		}
	case rollout.MovePart:
		if from := m.cohorts[i.From]; from != nil && c != nil {
			c.parts[i.Part] = from.parts[i.Part]
			delete(from.parts, i.Part)
		}
	case rollout.RemovePart:
		if c != nil {
			delete(c.parts, i.Part)
		}
	case rollout.Relabel:
		if from := m.cohorts[i.From]; from != nil {
			m.cohorts[i.Revision] = from
			delete(m.cohorts, i.From)
		}
	case rollout.Delete:
		delete(m.cohorts, i.Revision)
	}
}

// restart has the program end and begin again: what was not on record is gone.
func (m *model) restart() error {
	again, err := reread(m.kept)
	if again.Roll != nil {
		s := again.Roll.Resume(m.now)
		again.Roll, again.Resumed = &s, true
	}
	m.state, m.orders = again, nil
	return err
}

// reread is a state as it comes back from the ledger.
func reread(s State) (again State, err error) {
	text, err := json.Marshal(s)
	if err == nil {
		err = json.Unmarshal(text, &again)
	}
	if err == nil && s.Roll != nil {
		again.Roll = &rollout.State{}
		if text, err = json.Marshal(s.Roll); err == nil {
			err = json.Unmarshal(text, again.Roll)
		}
	}
	again.Change.SyncStatus = compare.Unread
	return again, err
}
