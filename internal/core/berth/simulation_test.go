package berth

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/calendar"
	"aditus/internal/core/compare"
	"aditus/internal/core/course"
	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/rollout"
)

// seeds is how many stories TestSimulation plays; ADITUS_SEEDS asks for more.
func seeds(t *testing.T) int {
	if text := os.Getenv("ADITUS_SEEDS"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil {
			t.Fatalf("ADITUS_SEEDS must be a number: %v", err)
		}
		return n
	}
	return 200
}

// happening is something that happens before a step.
type happening struct {
	at   int
	what string
	do   func(*model) error
}

const storySteps = 250

// tale makes up what happens to a berth: pushes, orders, changes by hand, breaches, a site that is away, records that
// fail, and restarts.
func tale(seed uint64) (all []happening) {
	chance := rand.New(rand.NewPCG(seed, 7))
	happens := func(at int, what string, do func(*model)) {
		all = append(all, happening{at, what, func(m *model) error { do(m); return nil }})
	}
	offered := []Verb{TakeOffer, PutOff, Decline}
	verbs, people := append(slices.DeleteFunc(Verbs(), func(v Verb) bool { return slices.Contains(offered, v) }), "dance"), []string{"Maren Oake", "Edda Marsh"}
	for at := range storySteps {
		if chance.IntN(4) != 0 {
			continue
		}
		switch chance.IntN(14) {
		case 0, 1:
			version := strconv.Itoa(1 + chance.IntN(3))
			happens(at, "push "+version, func(m *model) { m.push(version) })
		case 2, 3, 4:
			verb := verbs[chance.IntN(len(verbs))]
			if chance.IntN(3) == 0 { // they are seldom possible
				verb = []Verb{LeaveIt, RemoveOrphans}[chance.IntN(2)]
			}
			o := Order{Verb: verb, Berth: north, By: people[chance.IntN(2)], From: "the shell"}
			if chance.IntN(2) == 0 {
				o.Note = "the regatta"
			}
			if o.Verb == RollBack && chance.IntN(2) == 0 {
				o.To = strconv.Itoa(1 + chance.IntN(5))
			}
			if o.Verb == Extend || o.Verb == Scale {
				longer := time.Duration(10+chance.IntN(60)) * time.Second
				count := chance.IntN(4)
				happens(at, fmt.Sprintf("%s by %s or to %d", o.Verb, longer, count), func(m *model) {
					o.Until, o.Count = m.now.Add(longer), &count
					m.orders = append(m.orders, o)
				})
				continue
			}
			if o.Verb == Sync && chance.IntN(3) == 0 {
				o.Parts = []string{[]string{"app", "sizes", "none"}[chance.IntN(3)]}
			}
			happens(at, fmt.Sprintf("%s by %s %s%v", o.Verb, o.By, o.To, o.Parts), func(m *model) { m.orders = append(m.orders, o) })
		case 5:
			n := chance.IntN(4)
			happens(at, fmt.Sprintf("scaled to %d by hand", n), func(m *model) { m.hand(n) })
		case 6:
			then := []guard.Action{guard.RollBack, guard.Tell}[chance.IntN(2)]
			happens(at, "a breach that "+string(then)+"s", func(m *model) { m.verdict, m.then = guard.Breach, then })
			happens(at+1+chance.IntN(20), "clear", func(m *model) { m.verdict = guard.Clear })
		case 7:
			happens(at, "away", func(m *model) { m.down = true })
			happens(at+1+chance.IntN(10)+chance.IntN(3)/2*80, "back", func(m *model) { m.down = false })
		case 8:
			happens(at, "stale", func(m *model) { m.stale = true })
			happens(at+1+chance.IntN(10), "fresh", func(m *model) { m.stale = false })
		case 9, 10:
			happens(at, "records fail", func(m *model) { m.fails = true })
			happens(at+1+chance.IntN(10), "records work", func(m *model) { m.fails = false })
		case 11:
			all = append(all, happening{at, "restart", (*model).restart})
		case 12:
			happens(at, "an instance hangs", func(m *model) { m.dead = true })
			happens(at+1+chance.IntN(50), "it runs", func(m *model) { m.dead = false })
		default:
			auto, correct, proven := chance.IntN(3) > 0, chance.IntN(2) == 0, chance.IntN(3) > 0
			happens(at, fmt.Sprintf("automatic %v, corrects %v, course %v", auto, correct, proven), func(m *model) {
				m.world.Automatic, m.world.Drift.Correct, m.world.After, m.world.AfterProven = auto, correct, "slipway", proven
			})
		}
	}
	for at, line := 0, rand.New(rand.NewPCG(seed, 11)); seed%2 == 1 && at < storySteps; at += 1 + line.IntN(20) { // every other line has rules
		o := Order{Verb: append(offered, SignOff)[line.IntN(4)], Berth: north, By: people[line.IntN(2)], From: "the shell", Note: "the regatta"}
		happens(at, fmt.Sprintf("%s by %s", o.Verb, o.By), func(m *model) { m.orders = append(m.orders, o) })
		signs, consents, freezes, none, caught := line.IntN(2) == 0, line.IntN(2) == 0, line.IntN(3) == 0, line.IntN(6) == 0, []declare.Caught{declare.CaughtFinishes, declare.CaughtHolds}[line.IntN(2)]
		if line.IntN(3) == 0 {
			happens(at, "extend", func(m *model) {
				m.orders = append(m.orders, Order{Verb: Extend, Berth: north, By: "Maren Oake", From: "the shell", Note: "the regatta", Until: m.now.Add(2 * time.Minute)})
			})
		}
		act := line.IntN(12)
		if line.IntN(4) > 0 && at > 0 {
			continue
		}
		happens(at, fmt.Sprintf("a course: signs %v, consents %v, freezes %v, none %v, caught %v, act %d", signs, consents, freezes, none, caught, act), func(m *model) {
			m.world.Course, m.world.Rules = nil, nil
			if !none {
				m.world.Course = ruledBy(m.now, signs, consents, freezes, caught, act)
				m.world.Rules = m.world.Course.Rules
			}
		})
	}
	slices.SortStableFunc(all, func(a, b happening) int { return a.at - b.at })
	return all
}

// endNotice is how long before the end of a life it is announced.
const endNotice = 20 * time.Second

// ruledBy are the rules of a line for a while.
func ruledBy(now time.Time, signs, consents, freezes bool, caught declare.Caught, act int) *Course {
	step := declare.Step{Sites: []string{north.Site}, Back: declare.BackStops}
	if signs {
		step.SignOff = &declare.SignOff{By: []string{"leads"}, Count: 1}
	}
	if consents {
		step.Consent = &declare.Consent{By: []string{"Edda Marsh"}, LastDay: declare.Span{Duration: time.Minute}, Notice: declare.Span{Duration: 10 * time.Second}}
	}
	line := declare.Line{Roles: map[string][]string{"leads": {"Maren Oake"}}, Courses: []declare.Course{{Name: "line", On: true, Steps: []declare.Step{step}}}}
	const form = "2006-01-02T15:04:05"
	all := declare.Selector{Sites: []string{"*"}}
	for i, do := range []declare.Act{declare.ActSync, declare.ActScale, declare.ActRestart, declare.ActPreview, declare.ActDrift, declare.ActTearDown} {
		if act%6 <= i {
			s := declare.Schedule{Name: fmt.Sprintf("%s of %s", do, now), Do: do, Selector: all, At: now.Add(time.Duration(15*(i+1)) * time.Second).Format(time.RFC3339), Missed: declare.MissedOnce}
			if do == declare.ActScale {
				s.To = &act
			}
			line.Schedules = append(line.Schedules, s)
		}
	}
	if act%4 == 0 {
		line.Ends = []declare.End{{Name: "the trial", Selector: all, At: now.Add(time.Minute).UTC().Format(form), Notice: span(endNotice)}}
	}
	if freezes {
		line.Freezes = []declare.Window{{Name: "freeze", Times: calendar.Times{From: now.UTC().Format(form), Until: now.Add(40 * time.Second).UTC().Format(form)}, Caught: caught}}
	}
	rules, err := course.New(line, now)
	if err != nil {
		panic(err)
	}
	return &Course{Name: fmt.Sprint(line), Rules: rules, Began: rules, Query: course.Query{Workload: north.Workload, Site: north.Site, Elsewhere: map[string]course.Berth{}}}
}

// play plays a story and gives the first law that a step breaks.
func play(all []happening) (*model, error) {
	m := newModel()
	l := laws{restarted: map[string]time.Time{}, turns: map[string]int{}}
	for at := 0; at < storySteps; at++ {
		for len(all) > 0 && all[0].at <= at {
			if err := all[0].do(m); err != nil {
				return m, err
			}
			all = all[1:]
		}
		was, seen, orders, now := m.state, m.seen(), slices.Clone(m.orders), m.now
		before, _ := json.Marshal(was)
		d, counts := m.step()
		after, _ := json.Marshal(was)
		switch again, err := reread(was); {
		case err != nil:
			return m, err
		case string(before) != string(after):
			return m, errors.New("pure: a decision changed the state that it was given")
		default:
			again.Resumed, again.Owed = was.Resumed, was.Owed
			if other := Decide(north, again, seen, m.world, orders, now); !reflect.DeepEqual(other.Answers, d.Answers) || len(other.Facts) != len(d.Facts) {
				return m, fmt.Errorf("a restart changes nothing: %v became %v", d.Facts, other.Facts)
			}
		}
		if err := l.hold(m, was, seen, orders, d, counts, now); err != nil {
			return m, fmt.Errorf("step %d: %w", at, err)
		}
	}
	return m, nil
}

// laws are what every step is held against; docs/rollout.md tells them.
type laws struct {
	restarted map[string]time.Time
	breach    bool           // a standing breach is on record
	turns     map[string]int // of schedules
	told      time.Time      // when the end of its life was announced last
}

func (l *laws) hold(m *model, was State, seen Seen, orders []Order, d Decision, counts bool, now time.Time) error {
	if len(d.Answers) != len(orders) {
		return fmt.Errorf("every order is answered: %d of %d", len(d.Answers), len(orders))
	}
	for i, o := range orders {
		if _, known := entryOf(o.Verb); !known && d.Answers[i].Err == nil {
			return fmt.Errorf("an unknown order was carried out: %q", o.Verb)
		}
	}
	next := d.State
	if !d.Durable && !reflect.DeepEqual(lasting(was), lasting(next)) {
		return fmt.Errorf("what must last is recorded: %+v became %+v without a record", lasting(was), lasting(next))
	}
	if began := next.Roll != nil && was.Roll == nil; began {
		by := d.Facts[slices.IndexFunc(d.Facts, func(f Fact) bool { return f.Kind == Taken || f.Kind == Rollback })].By
		scheduled := slices.ContainsFunc(d.Facts, func(f Fact) bool { return f.Kind == Taken && strings.Contains(f.Text, "on the schedule") })
		if err := l.mayBegin(m, was, seen, orders, *next.Roll, by != rollout.Automatic || scheduled, now); err != nil {
			return err
		}
		if by == rollout.Automatic && !scheduled && was.Gone != nil {
			return errors.New("what was torn down does not come by itself")
		}
		if slices.ContainsFunc(d.Facts, func(f Fact) bool { return f.Kind == Taken }) && m.world.Course != nil {
			if err := allowed(m.world, next, by, now); err != nil {
				return err
			}
		}
	}
	if next.Roll != nil && next.Roll.Return && next.Caught != "" && next.Caught != was.Caught {
		return fmt.Errorf("going back needs no window: %s", next.Caught)
	}
	if i := slices.IndexFunc(d.Facts, func(f Fact) bool { return f.Kind == PutBack && f.By == rollout.Automatic }); i >= 0 && m.world.Course != nil {
		if err := unfrozen(m.world.Course.Rules.Line, now); err != nil {
			return err
		}
	}
	if was.Lock != nil && next.Lock != nil && was.Roll == nil && (next.Roll != nil || next.Applied != was.Applied) {
		return errors.New("a locked berth stays as it is")
	}
	if err := l.trafficFirst(m, was, seen, d, counts); err != nil {
		return err
	}
	if err := l.life(m, was, seen, orders, d, counts, now); err != nil {
		return err
	}
	return l.onRecord(was, seen, orders, d, counts, now)
}

// allowed holds a beginning against the line's rules.
func allowed(w World, next State, by string, now time.Time) error {
	line, declared := w.Course.Rules.Line, w.Declared.Fingerprint
	if err := unfrozen(line, now); err != nil {
		return err
	}
	step := line.Courses[0].Steps[0]
	if step.SignOff != nil && !slices.ContainsFunc(next.Signs, func(s Signed) bool { return s.Revision == declared && s.By == "Maren Oake" }) {
		return fmt.Errorf("nothing begins without its sign-off: %v", next.Signs)
	}
	if o := next.Offer; step.Consent != nil && by != step.Consent.By[0] {
		if o == nil || o.Revision != declared || o.Answer != course.Takes && (o.Announce.IsZero() || now.Sub(o.Announce) < step.Consent.Notice.Duration || now.Sub(o.Since) < step.Consent.LastDay.Duration) {
			return fmt.Errorf("nothing begins without consent: %+v", o)
		}
	}
	return nil
}

// unfrozen tells of a freeze that there is now.
func unfrozen(line declare.Line, now time.Time) error {
	for _, freeze := range line.Freezes {
		from, _ := calendar.Moment(freeze.From, time.UTC)
		until, _ := calendar.Moment(freeze.Until, time.UTC)
		if !now.Before(from) && now.Before(until) {
			return fmt.Errorf("nothing moves by itself in a freeze: %s to %s", freeze.From, freeze.Until)
		}
	}
	return nil
}

// trafficFirst holds what is done of a decision that could not be recorded: traffic leaves what does harm, with the instances
// that it takes, and that is all.
func (l *laws) trafficFirst(m *model, was State, seen Seen, d Decision, counts bool) error {
	if counts {
		return nil
	}
	next, now, _ := d.Unrecorded(was)
	for _, i := range now {
		roll := d.State.Roll
		instances := i.Do == rollout.Scale || i.Do == rollout.Place
		leaves := roll.Harms() && (instances || i.Do == rollout.SetShare && i.Share == 0 && i.Revision == roll.New.Revision)
		returns := roll.Return && (instances || i.Do == rollout.Prepare || i.Do == rollout.SetShare && i.Revision == roll.New.Revision)
		if !leaves && !returns {
			return fmt.Errorf("unrecorded, %s of %v is done", i.Do, i.Share)
		}
	}
	if roll := d.State.Roll; roll != nil && was.Roll != nil && roll.Harms() && (next.Roll.Phase != rollout.RollingBack || len(next.Owed) < len(was.Owed)) {
		return errors.New("a way back that could not be recorded is forgotten")
	}
	return nil
}

// mayBegin holds a rollout that begins against what may begin one.
func (l *laws) mayBegin(m *model, was State, seen Seen, orders []Order, roll rollout.State, byHand bool, now time.Time) error {
	cooling := !was.LastRollback.IsZero() && now.Sub(was.LastRollback) < time.Minute
	lifted := slices.ContainsFunc(orders, func(o Order) bool { return o.Verb == LiftBar })
	switch {
	case !seen.Reached && !(roll.Return && byHand):
		return errors.New("nothing begins on a site that cannot be seen")
	case roll.Return && !byHand && (cooling || !slices.Contains(was.Proven, roll.New.Revision) || was.bars(roll.New.Revision)):
		return errors.New("by itself it goes back only outside of the cool-down, and to what is proven and not barred")
	case roll.Return:
		return nil
	case cooling && !slices.ContainsFunc(orders, func(o Order) bool { return o.Verb == Sync && o.Note != "" }):
		return errors.New("no sync within the cool-down, one in part neither")
	case m.world.Declared != nil && was.bars(m.world.Declared.Fingerprint) && !lifted:
		return errors.New("what is barred does not come")
	case !byHand && m.world.Course == nil && (!m.world.Automatic || m.world.After != "" && !m.world.AfterProven):
		return errors.New("by itself it comes only where the site takes it, and in its course")
	}
	return nil
}

// life holds what schedules and ends of life do: each turn once, nothing in a freeze, and nothing torn down that was not told before.
func (l *laws) life(m *model, was State, seen Seen, orders []Order, d Decision, counts bool, now time.Time) error {
	for name, at := range d.State.Had {
		if before, had := was.Had[name]; had && at.Before(before) {
			return fmt.Errorf("%s had its turn at %s, and then at %s", name, before, at)
		} else if had && at.After(before) && counts {
			if l.turns[name]++; l.turns[name] > 1 {
				return fmt.Errorf("%s had its turn twice", name)
			}
		}
	}
	for _, f := range d.Facts {
		switch f.Kind {
		case EndAnnounced:
			if counts {
				l.told = now
			}
		case TearsDown:
			byHand := slices.ContainsFunc(orders, func(o Order) bool { return o.Verb == TearDown })
			unlocked := slices.ContainsFunc(orders, func(o Order) bool { return o.Verb == Unlock })
			switch {
			case was.Lock != nil && !unlocked:
				return errors.New("what is locked is torn down")
			case f.By == rollout.Automatic && !byHand && strings.Contains(f.Text, "its life ended") && (l.told.IsZero() || now.Sub(l.told) < endNotice):
				return fmt.Errorf("torn down, and told at %s", l.told)
			}
			if m.world.Rules != nil {
				if err := unfrozen(m.world.Rules.Line, now); err != nil {
					return err
				}
			}
		case WasTornDown:
			if len(seen.Cohorts) > 0 || !seen.Reached {
				return errors.New("torn down, and something is there")
			}
		}
	}
	for _, i := range d.Intents {
		if c, _ := seen.Cohort(i.Revision); was.Ending != nil && i.Do != rollout.SetShare && c.Share > 0 {
			return fmt.Errorf("%s of what has %v of the traffic", i.Do, c.Share)
		}
	}
	return nil
}

// onRecord holds a step against what has to be on record of it, once and no more than once.
func (l *laws) onRecord(was State, seen Seen, orders []Order, d Decision, counts bool, now time.Time) error {
	kinds := map[Kind]int{}
	for _, f := range d.Facts {
		kinds[f.Kind]++
	}
	back := slices.ContainsFunc(orders, func(o Order) bool { return o.Verb == RollBack })
	if counts && kinds[WasTornDown] > 0 {
		l.breach = false
	}
	if counts && d.State.Ending == nil && kinds[WasTornDown] == 0 && was.Roll == nil && seen.Reached && seen.Stale == "" && len(seen.Verdicts) > 0 {
		broken, told := seen.Verdicts[0].Word == guard.Breach, kinds[Breached] > 0
		switch {
		case back: // it may go back at once, whatever is on record
			l.breach = broken && (l.breach || told)
		case told != (broken && !l.breach):
			return fmt.Errorf("a standing breach is on record once: known %v, broken %v, told %v", l.breach, broken, told)
		default:
			l.breach = broken
		}
	}
	if seen.Reached {
		maps.DeleteFunc(l.restarted, func(id string, _ time.Time) bool { return !there(seen, id) })
	}
	for _, id := range d.Restarts {
		if last := l.restarted[id]; !last.IsZero() && now.Sub(last) < reviveEvery && d.State.Restarting == nil {
			return fmt.Errorf("%s is started anew twice within %s", id, reviveEvery)
		}
		if counts {
			l.restarted[id] = now
		}
	}
	for _, f := range d.Facts {
		if f.Kind == PutBack && f.By == rollout.Automatic && (was.Corrects.IsZero() || now.Before(was.Corrects) || was.Lock != nil) {
			return errors.New("drift is put back only after its notice, and never under a lock")
		}
	}
	return nil
}

func there(seen Seen, id string) bool {
	return slices.ContainsFunc(seen.Cohorts, func(c Cohort) bool {
		return slices.ContainsFunc(c.Instances, func(in Instance) bool { return in.ID == id })
	})
}

// lasting is what of a state must not change without a record.
func lasting(s State) State {
	s.Roll, s.Resumed, s.Change, s.Waits, s.Asks, s.DriftLooked, s.InPart, s.Restarted, s.FirstAt, s.Life = nil, false, Change{}, "", nil, time.Time{}, "", nil, time.Time{}, nil
	if len(s.Bars)+len(s.Proven)+len(s.Breaches) == 0 {
		s.Bars, s.Proven, s.Breaches = nil, nil, nil
	}
	text, _ := json.Marshal(s)
	var plain State
	_ = json.Unmarshal(text, &plain)
	return plain
}

// TestSimulation holds every step of made-up stories against the laws, and tells of a seed that breaks one the shortest
// story that still does.
func TestSimulation(t *testing.T) {
	reached := map[Kind]int{}
	for seed := range seeds(t) {
		story := tale(uint64(seed))
		m, err := play(story)
		if err != nil {
			t.Fatalf("seed %d: %v", seed, shortest(story, err))
		}
		for kind, n := range m.kinds {
			reached[kind] += n
		}
	}
	for _, kind := range []Kind{Asked, AsApplied, Announced, Barred, BarLifted, Breached, Called, DriftLeft, Drifted, Locked, OfferMade, OfferAnswered, CaughtUp, NotDone, Resized, RestartBegins, RestartEnds, PreviewKept, EndAnnounced, LifeExtended, TearsDown, WasTornDown, OrphanGone, PutBack, Restarted, Rollback, GoesOnAfterRestart, Taken, Unlocked, rollout.FactProven} {
		if reached[kind] == 0 {
			t.Errorf("%q never came up: %v", kind, reached)
		}
	}
}

// TestBreachAnew has a breach be over in the very moment in which a person goes back: the next one is on record again.
func TestBreachAnew(t *testing.T) {
	at := func(step int, do func(*model)) happening {
		return happening{step, "", func(m *model) error { do(m); return nil }}
	}
	_, err := play([]happening{
		at(204, func(m *model) { m.push("3") }),
		at(213, func(m *model) { m.verdict, m.then = guard.Breach, guard.RollBack }),
		at(223, func(m *model) {
			m.verdict = guard.Clear
			m.orders = append(m.orders, Order{Verb: RollBack, Berth: north, By: "Edda Marsh", From: "the shell", To: "3"})
		}),
		at(233, func(m *model) { m.verdict, m.then = guard.Breach, guard.Tell }),
	})
	if err != nil {
		t.Error(err)
	}
}

// shortest takes events out of a story for as long as a law is still broken, and tells the rest.
func shortest(story []happening, err error) string {
	for i := 0; i < len(story); {
		less := slices.Delete(slices.Clone(story), i, i+1)
		if _, still := play(less); still != nil {
			story, err, i = less, still, 0
			continue
		}
		i++
	}
	text := err.Error()
	for _, h := range story {
		text += fmt.Sprintf("\n  before step %d: %s", h.at, h.what)
	}
	return text
}

// TestLockedWhileKept sees that a locked berth's sync does not take the place of a kept old set, and an unlocked one's does.
func TestLockedWhileKept(t *testing.T) {
	for _, locked := range []bool{false, true} {
		m := newModel()
		m.push("2")
		one, two := m.world.Declared, revision("3")
		m.world.Revisions[two.Fingerprint], m.world.Declared, m.world.Automatic = two, two, false
		roll := &rollout.State{ID: 1, Old: rollout.Side{Revision: revision("1").Fingerprint, Parts: map[string]int{"app": 2}}, New: rollout.Side{Revision: one.Fingerprint}, Rules: one.Desired.Rollout, Phase: rollout.Proven, Switched: start}
		roll.Rules.Style, roll.Rules.Keep = declare.BlueGreen, span(time.Hour)
		m.state.Applied, m.state.Rollout, m.state.Roll = one.Fingerprint, 1, roll
		if locked {
			m.state.Lock = &Lock{By: "Edda Marsh", Message: "the regatta"}
		}
		seen := Seen{Reached: true, Cohorts: []Cohort{{Revision: roll.Old.Revision, Instances: []Instance{{ID: "a", Part: "app"}}}, {Revision: one.Fingerprint, Share: 1}}}
		d := Decide(north, m.state, seen, m.world, []Order{{Verb: Sync, Berth: north, By: "Maren Oake"}}, start.Add(time.Minute))
		if a := d.Answers[0]; a.Again == locked || (a.Err != nil) != locked || d.State.Roll.LetGo == locked {
			t.Errorf("locked %v: answered %+v, the set let go %v", locked, a, d.State.Roll.LetGo)
		}
	}
}

// TestTearDownParts takes parts away: traffic first, and none that something else there still stands on.
func TestTearDownParts(t *testing.T) {
	live := compare.Live{
		"app": map[string]any{"kind": "service", "volumes": map[string]any{"hold": "/var/hold"}}, "entry": map[string]any{"kind": "route", "service": "app"}, "hold": map[string]any{"kind": "volume"}, "left": map[string]any{"kind": "service"},
	}
	for name, one := range map[string]struct {
		parts    []string
		volumes  bool
		corrects bool
		note     string
		goes     string
		not      string
	}{
		"traffic first":          {parts: []string{"app", "entry"}, goes: "entry app"},
		"an orphan":              {parts: []string{"left"}, corrects: true, goes: "left"},
		"what is led to":         {parts: []string{"app"}, not: "entry leads traffic to app"},
		"a volume":               {parts: []string{"hold"}, not: "what it holds would be lost"},
		"a volume that is used":  {parts: []string{"hold"}, volumes: true, not: "app uses hold"},
		"what is not there":      {parts: []string{"deck"}, not: "there is no part deck"},
		"without a reason":       {parts: []string{"left"}, note: " ", not: "it needs a reason"},
		"what is put back again": {parts: []string{"app", "entry"}, corrects: true, not: "take app out of Git"},
	} {
		m := newModel()
		m.world.Automatic, m.world.Drift.Correct, m.state.Applied = false, one.corrects, m.world.Declared.Fingerprint
		m.world.Revisions[m.state.Applied] = m.world.Declared
		seen := Seen{Reached: true, Cohorts: []Cohort{{Revision: m.state.Applied, Share: 1, Live: live, Instances: []Instance{{ID: "a", Part: "app"}}}}}
		d := Decide(north, m.state, seen, m.world, []Order{{Verb: TearDown, Berth: north, By: "Edda Marsh", Note: strings.TrimSpace(cmp.Or(one.note, "the regatta")), Parts: one.parts, Volumes: one.volumes}}, start.Add(time.Minute))
		var goes []string
		for _, i := range d.Intents {
			if i.Do == rollout.RemovePart {
				goes = append(goes, i.Part)
			}
		}
		err := d.Answers[0].Err
		if one.not == "" && (err != nil || d.State.Ending != nil) || one.not != "" && (err == nil || !strings.Contains(err.Error(), one.not)) || strings.Join(goes, " ") != one.goes {
			t.Errorf("%s: %v goes (%v), want %q (%q)", name, goes, err, one.goes, one.not)
		}
	}
}

// TestLetGo sees that what ran before is let go, part by part, and that nothing is which Aditus made.
func TestLetGo(t *testing.T) {
	live := func(kind declare.Kind) any { return map[string]any{"kind": string(kind)} }
	for name, one := range map[string]struct {
		live      compare.Live
		instances []Instance
		made      string
	}{
		"objects":                {compare.Live{"all": live(declare.Objects)}, nil, ""},
		"what was found":         {compare.Live{"app": live(declare.Service), "all": live(declare.Objects)}, []Instance{{ID: "a", Part: "app", Found: true}}, ""},
		"started anew":           {compare.Live{"app": live(declare.Service)}, []Instance{{ID: "a", Part: "app", Found: true}, {ID: "b", Part: "app"}}, "app"},
		"with a route":           {compare.Live{"app": live(declare.Service), "entry": live(declare.Route)}, []Instance{{ID: "a", Part: "app", Found: true}}, "entry"},
		"a task of its own":      {compare.Live{"sum": live(declare.Task)}, nil, "sum"},
		"a service without any":  {compare.Live{"app": live(declare.Service)}, nil, "app"},
		"a volume and its state": {compare.Live{"hold": live(declare.Volume)}, nil, "hold"},
	} {
		m := newModel()
		m.world.Automatic, m.state.Applied = false, m.world.Declared.Fingerprint
		seen := Seen{Reached: true, Cohorts: []Cohort{{Revision: m.world.Declared.Fingerprint, Share: 1, Live: one.live, Instances: one.instances}}}
		d := Decide(north, m.state, seen, m.world, []Order{{Verb: LetGo, Berth: north, By: "Edda Marsh", Note: "the regatta"}}, start.Add(time.Minute))
		err := d.Answers[0].Err
		if one.made != "" && (err == nil || !strings.Contains(err.Error(), one.made+" is of Aditus' own making")) || one.made == "" && err != nil {
			t.Errorf("%s: %v", name, err)
		}
		let := 0
		for _, i := range d.Intents {
			if i.Do == rollout.LetGo {
				let++
			}
		}
		if want := len(one.live); one.made == "" && let != want || one.made != "" && let > 0 {
			t.Errorf("%s: %d parts are let go, want %d", name, let, want)
		}
	}
}

// TestSharedWhileKept sees that what is proven, its old set still kept, goes back where it alone breaches; where something else does too it
// stays, a person is called once, and is not any more when it is over.
func TestSharedWhileKept(t *testing.T) {
	m := newModel()
	m.push("2")
	one, old := m.world.Declared, revision("1")
	m.world.Revisions[old.Fingerprint] = old
	roll := &rollout.State{ID: 1, Old: rollout.Side{Revision: old.Fingerprint, Parts: map[string]int{"app": 2}, Proven: true}, New: rollout.Side{Revision: one.Fingerprint}, Rules: one.Desired.Rollout, Phase: rollout.Proven, Switched: start, Shared: start}
	roll.Rules.Style, roll.Rules.Keep = declare.BlueGreen, span(time.Hour)
	m.state.Applied, m.state.Rollout, m.state.Roll = one.Fingerprint, 1, roll
	value := guard.Estimate{Value: 0.09}
	breach := []guard.Verdict{{Guard: "slow", Word: guard.Breach, Then: guard.RollBack, Limit: guard.Limit{Kind: guard.AtMost, Value: 0.05, Unit: guard.Share}, New: &value}}
	step := func(shared string, verdicts []guard.Verdict) (called int) {
		m.world.Shared = shared
		seen := Seen{Reached: true, Verdicts: verdicts, Cohorts: []Cohort{{Revision: old.Fingerprint, Instances: []Instance{{ID: "a", Part: "app"}}}, {Revision: one.Fingerprint, Share: 1}}}
		d := Decide(north, m.state, seen, m.world, nil, start.Add(time.Minute))
		m.state = d.State
		for _, f := range d.Facts {
			if f.Kind == Called {
				called++
			}
		}
		return called
	}
	called := step("ledger, which it needs, breaches too", breach) + step("ledger, which it needs, breaches too", breach)
	if called != 1 || m.state.Calls == "" || m.state.Roll.Phase != rollout.Proven {
		t.Errorf("while something else breaches: called %d times, %q, %s", called, m.state.Calls, m.state.Roll.Phase)
	}
	if step("", nil); m.state.Calls != "" {
		t.Errorf("it is over, and still: %s", m.state.Calls)
	}
	if step("", breach); m.state.Roll.Phase != rollout.RollingBack {
		t.Errorf("alone it is %s", m.state.Roll.Phase)
	}
}
