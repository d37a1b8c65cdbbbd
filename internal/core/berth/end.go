package berth

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"aditus/internal/core/course"
	"aditus/internal/core/declare"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
)

// Extended is that somebody gave a berth more time.
type Extended struct {
	Until time.Time `json:"until"`
	By    string    `json:"by"`
	Why   string    `json:"why"`
	At    time.Time `json:"at"`
}

// Life is how long a berth has, by the line's rules.
type Life struct {
	Name      string    `json:"name"`
	Ends      time.Time `json:"ends"`
	Announced time.Time `json:"announced,omitzero"`
	Extended  *Extended `json:"extended,omitempty"`
	Waits     string    `json:"waits,omitempty"` // why it is not torn down though its end is over
}

// Told is that an end was announced, and when.
type Told struct {
	End time.Time `json:"end"`
	At  time.Time `json:"at"`
}

// TornDown is that all of a berth is taken away from its site, or was.
type TornDown struct {
	Why     string    `json:"why"`
	By      string    `json:"by"`
	At      time.Time `json:"at"`
	Volumes bool      `json:"volumes,omitempty"` // they go too
	Branch  bool      `json:"branch,omitempty"`  // with its branch, and it comes again with that
	LetGo   bool      `json:"let_go,omitempty"`  // nothing of it goes: it runs on, and is nobody's
}

func (t TornDown) String() string { return t.Why }

// Trial is the branch that a berth is there for, and how long it has.
type Trial struct {
	Branch string `json:"branch"`
	Link   string `json:"link"` // whose branch it is
	Rule   string `json:"rule"` // of the line, by its name

	After, Notice time.Duration `json:"-"`
	Volumes       bool          `json:"-"`
}

// takeTrial notes for which branch the berth is there, and tears it down once that is gone.
func (d *decision) takeTrial() {
	if g := d.State.Gone; d.world.Trial != nil && g != nil && g.Branch {
		d.State.Gone, d.Durable = nil, true
	}
	switch t := d.world.Trial; {
	case t != nil && (d.State.Trial == nil || *d.State.Trial != *t):
		own := *t
		d.State.Trial, d.Durable = &own, true
	case t == nil && d.State.Trial != nil && d.world.BranchGone && d.State.Ending == nil && len(d.seen.Cohorts) > 0 && d.State.Lock == nil && !d.opens().After(d.now):
		volumes := d.State.Trial.Volumes
		_ = d.beginTearDown(TornDown{Why: "the branch " + d.State.Trial.Branch + " is gone, or no rule is for it any more", By: rollout.Automatic, Volumes: volumes, Branch: true}, false) // what keeps it up was asked
	}
}

// ends announces the end of a berth's life, and begins to tear it down once that is over, was announced for long enough, and something
// may move. It takes what a person says of that.
func (d *decision) ends() {
	d.takeTrial()
	d.each(Extend, d.extend)
	d.each(TearDown, func(o *order) error {
		if len(o.Parts) > 0 {
			return d.tearDownParts(o)
		}
		why := "torn down by " + o.who()
		if o.Note != "" {
			why += ": " + o.Note
		}
		return d.beginTearDown(TornDown{Why: why, By: o.By, Volumes: o.Volumes}, o.schedule == "" && o.Note == "")
	})
	d.each(LetGo, func(o *order) error {
		why := "let go by " + o.who()
		if o.Note != "" {
			why += ": " + o.Note
		}
		return d.beginTearDown(TornDown{Why: why, By: o.By, LetGo: true}, o.Note == "")
	})
	life, notice, volumes := d.life()
	if d.State.Life = life; life == nil || d.State.Ending != nil {
		return
	}
	told := d.State.EndTold
	if told == nil || !told.End.Equal(life.Ends) {
		if life.Announced = (time.Time{}); d.now.Before(life.Ends.Add(-notice)) {
			return
		}
		told = &Told{life.Ends, d.now}
		d.State.EndTold = told
		text := fmt.Sprintf("its life ends on %s (%s): it is torn down then", say.Moment(life.Ends), life.Name)
		if volumes {
			text += ", with what its volumes hold"
		}
		if whose := d.team(); whose != "" {
			text += "; told to " + whose
		}
		d.fact(EndAnnounced, rollout.Automatic, d.State.Applied, text, nil)
	}
	life.Announced = told.At
	if over := told.At.Add(notice); over.After(life.Ends) {
		life.Ends = over // nobody was told in time
	}
	if d.now.Before(life.Ends) || told.At.Equal(d.now) {
		return
	}
	if err := d.beginTearDown(TornDown{Why: "its life ended: " + life.Name, By: rollout.Automatic, Volumes: volumes}, false); err != nil {
		life.Waits = strings.TrimPrefix(err.Error(), tearDownNot)
	}
}

// LifeTurn is when the end of a berth's life comes; zero for never.
func (s State) LifeTurn() time.Time {
	if s.Life == nil {
		return time.Time{}
	}
	return s.Life.Ends
}

const tearDownNot = "tear down is not possible: "

// life is how long a berth has, how long before its end that is announced, and whether its volumes go too.
func (d *decision) life() (life *Life, notice time.Duration, volumes bool) {
	first := d.State.FirstAt
	if d.world.Rules == nil || d.State.Applied == "" {
		return nil, 0, false
	}
	end, is := d.end(first)
	if !is {
		return nil, 0, false
	}
	life = &Life{Name: end.Name, Ends: end.At}
	if x := d.State.Extended; x != nil && x.Until.After(end.At) {
		life.Ends, life.Extended = x.Until, x
	}
	if told := d.State.EndTold; told != nil && told.End.Equal(life.Ends) {
		life.Announced = told.At
	}
	return life, end.Notice, end.Volumes
}

// end is the one that comes first: by the line's ends, or by what it says of a branch's berth.
func (d *decision) end(first time.Time) (course.End, bool) {
	end, is := d.world.Rules.EndOf(d.id.Workload, d.id.Site, first)
	if t := d.world.Trial; t != nil && t.After > 0 && !first.IsZero() {
		if at := first.Add(t.After); !is || at.Before(end.At) {
			return course.End{Name: t.Rule, At: at, Notice: t.Notice, Volumes: t.Volumes}, true
		}
	}
	return end, is
}

// team is whose site it is; empty where nobody said.
func (d *decision) team() string { return d.world.Rules.Sites[d.id.Site].Team }

// over tells why nothing comes any more: its life ended. Empty where it did not.
func (d *decision) over() string {
	if d.world.Rules == nil {
		return ""
	}
	first := d.State.FirstAt
	if d.State.Applied == "" {
		first = time.Time{} // it would begin anew
	}
	end, is := d.end(first)
	if x := d.State.Extended; !is || d.now.Before(end.At) || x != nil && d.now.Before(x.Until) {
		return ""
	}
	return fmt.Sprintf("its life ended on %s (%s): extend it first", say.Moment(end.At), end.Name)
}

// extend gives a berth more time.
func (d *decision) extend(o *order) error {
	life, _, _ := d.life()
	ends := time.Time{}
	if life != nil {
		ends = life.Ends
	} else if why := d.over(); why == "" {
		return fmt.Errorf("extend is not possible: no end is set for %s", d.id)
	}
	switch {
	case d.State.Ending != nil:
		return fmt.Errorf("extend is not possible: %s is being torn down", d.id)
	case strings.TrimSpace(o.Note) == "":
		return fmt.Errorf("extend is not possible without a reason: who set the end will want to know")
	case o.Until.IsZero():
		return fmt.Errorf("extend is not possible: it does not say until when")
	case !o.Until.After(d.now) || !o.Until.After(ends):
		return fmt.Errorf("extend is not possible until %s: that is not later", say.Moment(o.Until))
	}
	d.State.Extended = &Extended{Until: o.Until, By: o.By, Why: o.Note, At: d.now}
	d.fact(LifeExtended, o.By, d.State.Applied, fmt.Sprintf("%s extends its life until %s: %s", o.By, say.Moment(o.Until), o.Note), nil)
	return nil
}

// beginTearDown begins to take all of a berth away, where that may be.
func (d *decision) beginTearDown(t TornDown, reasonless bool) error {
	if err := d.mayTearDown(reasonless); err != nil {
		return err
	}
	if made := d.ownMade(); t.LetGo && made != "" {
		return fmt.Errorf("let go is not possible: %s is of Aditus' own making, and would be looked after by nobody: tear it down, or declare it as objects first", made)
	}
	t.At = d.now
	d.State.Ending = &t
	kind, text := TearsDown, "it is torn down: "+t.Why
	switch {
	case t.LetGo:
		kind, text = LetsGo, "it is let go: "+t.Why+"; all of it runs on"
	case !t.Volumes:
		text += "; what its volumes hold stays"
	}
	d.fact(kind, t.By, d.State.Applied, text, nil)
	return nil
}

// mayTearDown tells why nothing can be taken away; nil where it can.
func (d *decision) mayTearDown(reasonless bool) error {
	switch {
	case d.State.Ending != nil:
		return fmt.Errorf(tearDownNot+"it is on its way already: %s", d.State.Ending)
	case d.State.Lock != nil:
		return fmt.Errorf(tearDownNot+"%s is locked by %s", d.id, d.State.Lock)
	case reasonless:
		return fmt.Errorf(tearDownNot+"it needs a reason: whoever looks for %s will want to know", d.id)
	case !d.seen.Reached:
		return fmt.Errorf(tearDownNot+"there is no fresh look at %s: %s", d.id, d.seen.Stale)
	case len(d.seen.Cohorts) == 0:
		return fmt.Errorf(tearDownNot+"nothing of %s is there", d.id)
	case d.opens().After(d.now):
		return fmt.Errorf(tearDownNot+"nothing may move until %s", say.Moment(d.opens()))
	}
	return nil
}

// tearDownParts takes some parts away at once. What Git declares of them is there again with the next sync.
func (d *decision) tearDownParts(o *order) error {
	if err := d.mayTearDown(o.Note == ""); err != nil {
		return err
	}
	var traffic, rest []rollout.Intent // that ends first
	for _, name := range o.Parts {
		there := false
		for _, c := range d.seen.Cohorts {
			live, has := c.Live[name]
			if !has {
				continue
			}
			there = true
			intent := rollout.Intent{Do: rollout.RemovePart, Revision: c.Revision, Part: name}
			if fields, _ := live.(map[string]any); fields["kind"] == string(declare.Route) {
				traffic = append(traffic, intent)
			} else {
				rest = append(rest, intent)
			}
		}
		if !there {
			return fmt.Errorf(tearDownNot+"there is no part %s at %s", name, d.id)
		}
		if err := d.mayGo(name, o); err != nil {
			return err
		}
	}
	d.Intents = append(append(d.Intents, traffic...), rest...)
	d.fact(TearsDown, o.By, d.State.Applied, fmt.Sprintf("%s tears down %s: %s; the rest stays as it is", o.By, say.List(o.Parts), o.Note), o.Parts)
	return nil
}

// mayGo tells why a part cannot be taken away without others; nil where it can.
func (d *decision) mayGo(name string, o *order) error {
	if applied := d.desired(d.State.Applied); applied != nil && d.world.Drift.Correct {
		if _, declared := applied.Parts[name]; declared {
			return fmt.Errorf(tearDownNot+"what is taken away by hand is put back by itself at %s: take %s out of Git", d.id.Site, name)
		}
	}
	for _, c := range d.seen.Cohorts {
		own, _ := c.Live[name].(map[string]any)
		volume := own["kind"] == string(declare.Volume)
		if volume && !o.Volumes {
			return fmt.Errorf(tearDownNot+"%s is a volume, and what it holds would be lost: say that volumes are to go too", name)
		}
		for _, other := range slices.Sorted(maps.Keys(c.Live)) {
			fields, _ := c.Live[other].(map[string]any)
			uses, _ := fields["volumes"].(map[string]any)
			if uses[name] != nil && volume && slices.ContainsFunc(c.Instances, func(in Instance) bool { return in.Part == other }) {
				return fmt.Errorf(tearDownNot+"%s uses %s: tear that down first", other, name)
			}
			if fields["service"] == name && !slices.Contains(o.Parts, other) {
				return fmt.Errorf(tearDownNot+"%s leads traffic to %s: name both", other, name)
			}
		}
	}
	return nil
}

// ownMade is a part at the site that would not run on by itself as it did before: that is neither objects as they are, nor a service whose
// instances were all found there. It is empty for none.
func (d *decision) ownMade() string {
	for _, c := range d.seen.Cohorts {
		for _, name := range slices.Sorted(maps.Keys(c.Live)) {
			fields, _ := c.Live[name].(map[string]any)
			if kind := fields["kind"]; kind != string(declare.Objects) && (kind != string(declare.Service) || !d.wasFound(name)) {
				return name
			}
		}
	}
	return ""
}

// wasFound tells whether all instances of a part at the site, one at least, ran before anybody had them run here.
func (d *decision) wasFound(part string) bool {
	found := false
	for _, c := range d.seen.Cohorts {
		for _, in := range c.Instances {
			if in.Part == part && !in.Found {
				return false
			}
			found = found || in.Part == part
		}
	}
	return found
}

// letGo takes the marks off all that is there, and then its records away.
func (d *decision) letGo() {
	for _, c := range d.seen.Cohorts {
		for _, name := range slices.Sorted(maps.Keys(c.Live)) {
			d.Intents = append(d.Intents, rollout.Intent{Do: rollout.LetGo, Revision: c.Revision, Part: name})
		}
		if len(c.Live) == 0 {
			d.Intents = append(d.Intents, rollout.Intent{Do: rollout.Delete, Revision: c.Revision})
		}
	}
}

// tearDown takes all of a berth away: its traffic first, then what runs, then what is left. Each step asks for what is still there.
func (d *decision) tearDown() {
	t := d.State.Ending
	if !d.seen.Reached {
		return
	}
	if len(d.seen.Cohorts) == 0 {
		gone := *t
		gone.At = d.now
		s := d.State
		d.State = State{
			Bars: s.Bars, Lock: s.Lock, Trial: s.Trial, LastRollout: s.LastRollout, LastRollback: s.LastRollback, Had: s.Had, TailEnds: s.TailEnds, Change: s.Change, agenda: s.agenda, Gone: &gone,
		}
		if t.LetGo {
			d.fact(WasLetGo, t.By, s.Applied, "all of it runs on, and nothing of it is Aditus' any more: "+t.Why, nil)
			return
		}
		d.fact(WasTornDown, t.By, s.Applied, "nothing of it is there any more: "+t.Why, nil)
		return
	}
	if t.LetGo {
		d.letGo()
		return
	}
	led, runs := false, false
	var stop []rollout.Intent
	for _, c := range d.seen.Cohorts {
		if c.Share > 0 && !d.seen.Whole {
			led = true
			d.Intents = append(d.Intents, rollout.Intent{Do: rollout.SetShare, Revision: c.Revision})
		}
		for _, in := range c.Instances {
			runs = runs || !in.Done && in.Failed == ""
		}
		for _, name := range slices.Sorted(maps.Keys(c.Live)) {
			fields, _ := c.Live[name].(map[string]any)
			switch fields["kind"] {
			case string(declare.Service):
				stop = append(stop, rollout.Intent{Do: rollout.Scale, Revision: c.Revision, Part: name})
			case string(declare.Objects):
				runs = true
				stop = append(stop, rollout.Intent{Do: rollout.RemovePart, Revision: c.Revision, Part: name})
			}
		}
	}
	switch {
	case led: // nothing stops before it
	case runs:
		d.Intents = append(d.Intents, stop...)
	default:
		for _, c := range d.seen.Cohorts {
			for _, name := range slices.Sorted(maps.Keys(c.Live)) {
				if fields, _ := c.Live[name].(map[string]any); t.Volumes && fields["kind"] == string(declare.Volume) {
					d.Intents = append(d.Intents, rollout.Intent{Do: rollout.RemovePart, Revision: c.Revision, Part: name})
				}
			}
			d.Intents = append(d.Intents, rollout.Intent{Do: rollout.Delete, Revision: c.Revision})
		}
	}
}
