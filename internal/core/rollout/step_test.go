package rollout

import (
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/health"
)

var start = time.Date(2026, 3, 12, 9, 0, 0, 0, time.UTC)

func span(d time.Duration) declare.Span { return declare.Span{Duration: d} }

var rules = declare.Rollout{
	Stages: []declare.Stage{
		{Share: 0.1, Soak: span(10 * time.Second)},
		{Share: 0.5, Soak: span(10 * time.Second), SignOff: "a release lead"},
		{Share: 1, Soak: span(5 * time.Second)},
	},
	Deadline: span(time.Minute), Proving: span(20 * time.Second), CoolDown: span(10 * time.Minute), Interval: span(5 * time.Second),
}

var (
	oldSide = Side{Revision: "old0000", Version: "1.0.0", Parts: map[string]int{"web": 4}, Proven: true}
	newSide = Side{Revision: "new0000", Version: "1.1.0", Parts: map[string]int{"web": 4}}
)

// site is a target that does at once what it is told; new instances are healthy after a while.
type site struct {
	old, new    int
	laid        bool
	share       float64
	readyIn     int // steps until new instances are healthy
	ready       int
	cannotStart string
	stale       string
	unreachable bool
	failing     bool // the new cohort fails
	oldDown     bool
	whole       bool // it cannot split traffic
	verdict     guard.Word
	then        guard.Action
	missing     guard.Missing
}

func (t *site) observe() Observation {
	cohort := func(n, healthy int, laid bool) Cohort {
		return Cohort{Laid: laid, Parts: map[string]int{"web": n}, Healthy: map[string]int{"web": healthy}, Ready: map[string]int{"web": healthy}, Health: health.Summary{Total: n, Healthy: healthy}}
	}
	oldHealthy := t.old
	if t.oldDown {
		oldHealthy = 0
	}
	if t.unreachable {
		return Observation{Stale: "the site cannot be reached", Verdicts: []guard.Verdict{{Guard: "slow", Word: guard.Silent}}}
	}
	o := Observation{Reached: true, Fresh: t.stale == "", Stale: t.stale, Splits: !t.whole, Share: t.share, Old: cohort(t.old, oldHealthy, t.old > 0), New: cohort(t.new, t.ready, t.laid)}
	if t.new == 0 {
		o.New.Parts = map[string]int{}
	}
	o.New.CannotStart = t.cannotStart
	if t.failing {
		o.New.Ready["web"], o.New.Healthy["web"], o.New.Health.Healthy, o.New.Health.Failing, o.New.Health.Reason = 0, 0, 0, t.new, "status 503"
	}
	if t.verdict != "" {
		limit, value := 0.05, 0.09
		o.Verdicts = []guard.Verdict{{Guard: "slow", Word: t.verdict, Then: t.then, Missing: t.missing, Limit: guard.Limit{Kind: guard.AtMost, Value: limit, Unit: guard.Share}, New: &guard.Estimate{Value: value}, Beyond: 3, Judged: 5}}
	}
	return o
}

func (t *site) act(intents []Intent) {
	for _, i := range intents {
		switch {
		case i.Do == Prepare:
			t.laid = true
		case i.Do == Scale && i.Revision == newSide.Revision:
			t.new = i.Count
			t.ready = min(t.ready, t.new)
		case i.Do == Scale:
			t.old = i.Count
		case i.Do == SetShare:
			t.share = i.Share
		case i.Do == Delete && i.Revision == newSide.Revision:
			t.laid, t.new, t.ready = false, 0, 0
		case i.Do == Delete:
			t.old = 0
		}
	}
	if t.readyIn > 0 {
		t.readyIn--
	} else {
		t.ready = t.new
	}
}

// run steps once a second until the rollout is done or for so many steps, and tells the kinds of facts.
func run(s State, t *site, steps int, at func(step int, s State, t *site) []Command) (State, []string) {
	var facts []string
	now := start
	for step := range steps {
		now = now.Add(time.Second)
		var commands []Command
		if at != nil {
			commands = at(step, s, t)
		}
		out := Step(s, t.observe(), commands, now)
		for _, f := range out.Facts {
			facts = append(facts, string(f.Kind))
		}
		s = out.State
		t.act(out.Intents)
		if out.Done {
			break
		}
	}
	return s, facts
}

func begin() State {
	return Begin(oldSide, newSide, rules, Automatic, "taken automatically", time.Time{}, start)
}

// sign signs off whenever that is asked for.
func sign(_ int, s State, _ *site) []Command {
	if s.Phase == Waiting {
		return []Command{{Verb: Sign, By: "Maren Oake"}}
	}
	return nil
}

// onceIn does something in the first step in which a phase is seen in a stage.
func onceIn(phase Phase, stage int, do func(*site) []Command) func(int, State, *site) []Command {
	done := false
	return func(step int, s State, t *site) []Command {
		if !done && s.Phase == phase && s.Stage == stage {
			done = true
			return do(t)
		}
		return sign(step, s, t)
	}
}

func TestStories(t *testing.T) {
	verdict := func(w guard.Word, then guard.Action) func(*site) []Command {
		return func(t *site) []Command {
			t.verdict, t.then, t.missing = w, then, guard.MissingHolds
			return nil
		}
	}
	command := func(verb Verb) func(*site) []Command {
		return func(*site) []Command { return []Command{{Verb: verb, By: "Maren Oake"}} }
	}
	tests := []struct {
		name  string
		state func() State
		site  site
		at    func(int, State, *site) []Command
		phase Phase
		facts string
		why   string
	}{
		{name: "through all stages", at: sign, phase: Proven, facts: "stage stage waiting signed off stage proving proven"},
		{name: "waits for a sign-off", phase: Waiting, facts: "stage stage waiting", why: "a release lead"},
		{name: "first rollout takes all traffic at once", state: func() State {
			return Begin(Side{}, newSide, rules, Automatic, "", time.Time{}, start)
		}, phase: Proven, facts: "stage proving proven"},
		{name: "a breach goes back", at: onceIn(Soaking, 1, verdict(guard.Breach, guard.RollBack)), phase: RolledBack,
			facts: "stage stage breach rollback traffic back stopped rolled back barred", why: "slow 9.0 %, at most 5 % is allowed"},
		{name: "a breach while proving goes back", at: onceIn(Proving, 2, verdict(guard.Breach, guard.RollBack)), phase: RolledBack,
			facts: "stage stage waiting signed off stage proving breach rollback traffic back stopped rolled back barred"},
		{name: "a breach that only tells", at: onceIn(Soaking, 0, verdict(guard.Breach, guard.Tell)), phase: Proven, facts: "stage told stage waiting signed off stage proving proven"},
		{name: "a breach that holds", at: onceIn(Soaking, 0, verdict(guard.Breach, guard.Hold)), phase: Held, facts: "stage held", why: "slow 9.0 %"},
		{name: "silence holds the stage", at: onceIn(Soaking, 0, verdict(guard.Silent, guard.RollBack)), phase: Soaking, facts: "stage"},
		{name: "undecided holds the stage", at: onceIn(Soaking, 0, verdict(guard.Undecided, guard.RollBack)), phase: Soaking, facts: "stage"},
		{name: "advance passes over undecided", site: site{verdict: guard.Undecided, then: guard.RollBack}, at: onceIn(Soaking, 0, command(Advance)), phase: Soaking, facts: "stage advanced stage"},
		{name: "advance does not pass over silence", site: site{verdict: guard.Silent, then: guard.RollBack}, at: onceIn(Soaking, 0, command(Advance)), phase: Soaking, facts: "stage advanced"},
		{name: "no artifact", site: site{cannotStart: "there is no artifact a:1"}, phase: RolledBack, facts: "breach rollback stopped rolled back barred", why: "there is no artifact a:1"},
		{name: "never healthy", site: site{readyIn: 1000}, phase: RolledBack, facts: "breach rollback stopped rolled back barred", why: "not healthy within 1 min"},
		{name: "fails under traffic", at: onceIn(Soaking, 0, func(t *site) []Command { t.failing = true; return nil }), phase: RolledBack,
			facts: "stage breach rollback traffic back stopped rolled back barred", why: "no instance of web is healthy any more: status 503"},
		{name: "fails under traffic while the next stage settles", at: onceIn(Settling, 1, func(t *site) []Command { t.failing, t.readyIn = true, 1000; return nil }), phase: RolledBack,
			facts: "stage breach rollback traffic back stopped rolled back barred", why: "no instance of web is healthy any more: status 503"},
		{name: "a person rolls back", at: onceIn(Soaking, 0, command(TurnBack)), phase: RolledBack, facts: "stage rollback traffic back stopped rolled back barred", why: "rolled back by Maren Oake"},
		{name: "superseded, and not barred", at: onceIn(Soaking, 0, func(*site) []Command { return []Command{{Verb: Supersede, By: Automatic, Note: "1.2.0"}} }), phase: RolledBack,
			facts: "stage rollback traffic back stopped rolled back", why: "superseded by 1.2.0"},
		{name: "held by a person", at: onceIn(Soaking, 1, command(HoldOn)), phase: Held, facts: "stage stage held"},
		{name: "a breach turns a held one round", at: onceIn(Soaking, 0, func(t *site) []Command {
			t.verdict, t.then = guard.Breach, guard.RollBack
			return []Command{{Verb: HoldOn, By: "Maren Oake"}}
		}), phase: RolledBack, facts: "stage held breach rollback traffic back stopped rolled back barred"},
		{name: "a second rollback within the cool-down is a person's", state: func() State {
			return Begin(oldSide, newSide, rules, "Maren Oake", "", start.Add(-time.Minute), start)
		}, at: onceIn(Soaking, 0, verdict(guard.Breach, guard.RollBack)), phase: Held, facts: "stage held", why: "cool-down"},
		{name: "nothing to go back to", state: func() State {
			return Begin(Side{}, newSide, rules, Automatic, "", time.Time{}, start)
		}, at: onceIn(Soaking, 0, verdict(guard.Breach, guard.RollBack)), phase: Held, facts: "stage held", why: "no revision to go back to"},
		{name: "stale evidence stops everything", at: onceIn(Soaking, 0, func(t *site) []Command { t.stale = "the site cannot be reached"; return nil }), phase: Soaking, facts: "stage"},
		{name: "an unreachable site stops everything", at: onceIn(Soaking, 0, func(t *site) []Command { t.unreachable = true; return nil }), phase: Soaking, facts: "stage"},
		{name: "an unreachable site is not taken for one without traffic", at: onceIn(Soaking, 1, func(t *site) []Command {
			t.unreachable = true
			return []Command{{Verb: TurnBack, By: "Maren Oake"}}
		}), phase: RollingBack, facts: "stage stage rollback"},
		{name: "old is down: traffic stays until it is up", at: onceIn(Soaking, 1, func(t *site) []Command {
			t.oldDown = true
			return []Command{{Verb: TurnBack, By: "Maren Oake"}}
		}), phase: RollingBack, facts: "stage stage rollback calls"},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			s := begin()
			if test.state != nil {
				s = test.state()
			}
			target := test.site
			if !s.Old.None() {
				target.old = 4
			}
			s, facts := run(s, &target, 300, test.at)
			if got := strings.Join(facts, " "); s.Phase != test.phase || got != test.facts || !strings.Contains(s.Why, test.why) {
				t.Errorf("ended %s because %q after\n     %s\nwant %s because %q after\n     %s", s.Phase, s.Why, got, test.phase, test.why, test.facts)
			}
			switch s.Phase {
			case RolledBack:
				if target.share != 0 || target.new != 0 || target.old != 4 || target.laid {
					t.Errorf("the site is left with %+v", target)
				}
			case Proven:
				if target.share != 1 || target.new != 4 || target.old != 0 {
					t.Errorf("the site is left with %+v", target)
				}
			case RollingBack:
				if target.share == 0 {
					t.Error("the traffic went to a cohort with nothing healthy")
				}
			}
		})
	}
}

// TestSeveralCauses sees that causes found at once are one rollback with all of them on record.
func TestSeveralCauses(t *testing.T) {
	s := begin()
	s.Phase, s.Shared = Soaking, start
	target := site{old: 4, new: 1, laid: true, share: 0.1, failing: true, verdict: guard.Breach, then: guard.RollBack}
	out := Step(s, target.observe(), nil, start.Add(time.Second))
	if out.State.Phase != RollingBack || len(out.State.Causes) != 2 || !strings.Contains(out.State.Why, "; ") {
		t.Fatalf("%s with the causes %+v", out.State.Phase, out.State.Causes)
	}
	rollbacks := 0
	for _, f := range out.Facts {
		if f.Kind == "rollback" {
			rollbacks++
		}
	}
	if rollbacks != 1 {
		t.Errorf("%d rollbacks", rollbacks)
	}
	if len(out.Intents) == 0 || out.Intents[0] != (Intent{Do: SetShare, Revision: newSide.Revision}) {
		t.Errorf("the traffic does not go first: %+v", out.Intents)
	}
}

func TestPossible(t *testing.T) {
	in := func(phase Phase, stage int) State {
		s := begin()
		s.Phase, s.Stage = phase, stage
		return s
	}
	returning := in(Soaking, 0)
	returning.Return = true
	for _, test := range []struct {
		state State
		verb  Verb
		why   string // empty for possible
	}{
		{in(Soaking, 0), Advance, ""}, {in(Settling, 0), Advance, "still coming up"}, {in(Waiting, 1), Advance, "sign off instead"}, {in(Held, 0), Advance, "go on first"},
		{in(Soaking, 0), GoOn, "not held"}, {in(Held, 0), GoOn, ""}, {in(Held, 0), HoldOn, "already"}, {in(Waiting, 1), Sign, ""}, {in(Soaking, 0), Sign, "no sign-off"},
		{in(Soaking, 1), Sign, "soaks for 10 s more"}, {in(RollingBack, 0), TurnBack, "already"}, {in(Proven, 2), TurnBack, "over"}, {in(Proving, 2), TurnBack, ""},
		{in(Soaking, 0), Abandon, ""}, {in(RollingBack, 0), Abandon, ""}, {in(Proven, 2), Abandon, "over"}, {in(Soaking, 0), Release, "no old set"}, {returning, TurnBack, "way back itself"},
	} {
		err := test.state.Possible(test.verb)
		if (err == nil) != (test.why == "") || err != nil && !strings.Contains(err.Error(), test.why) {
			t.Errorf("%s while %s: %v, want %q", test.verb, test.state.Phase, err, test.why)
		}
	}
}

// TestRefused sees that of several commands in one step each gets its own answer.
func TestRefused(t *testing.T) {
	s := begin()
	s.Phase, s.Shared = Soaking, start
	target := site{old: 4, new: 1, ready: 1, laid: true, share: 0.1}
	out := Step(s, target.observe(), []Command{{Verb: GoOn, By: "a"}, {Verb: HoldOn, By: "b"}, {Verb: "fly", By: "c"}}, start.Add(time.Second))
	if len(out.Refused) != 3 || out.Refused[0] == nil || out.Refused[1] != nil || out.Refused[2] == nil || out.State.Phase != Held {
		t.Errorf("%s with the answers %v", out.State.Phase, out.Refused)
	}
}

func TestMayStart(t *testing.T) {
	base := Question{SyncStatus: compare.Behind, Declared: "b", Applied: "a", Fresh: true, Automatic: true, CoolDown: time.Minute}
	for _, test := range []struct {
		name   string
		change func(*Question)
		may    bool
		why    string
	}{
		{"behind", func(*Question) {}, true, ""},
		{"aligned", func(q *Question) { q.Applied = "b" }, false, ""},
		{"barred", func(q *Question) { q.Barred, q.BarredWhy = true, "slow" }, false, "barred here: slow"},
		{"barred, even by hand", func(q *Question) { q.Barred, q.ByHand = true, true }, false, "barred"},
		{"drifted too", func(q *Question) { q.SyncStatus = compare.Diverged }, false, "changed by hand"},
		{"cooling down", func(q *Question) { q.LastRollback = start.Add(-20 * time.Second) }, false, "cools down for 40 s"},
		{"cooled down", func(q *Question) { q.LastRollback = start.Add(-2 * time.Minute) }, true, ""},
		{"the site before has not proven it", func(q *Question) { q.After = "slipway" }, false, "until slipway has proven it"},
		{"by hand, out of course", func(q *Question) { q.After, q.ByHand = "slipway", true }, true, ""},
		{"locked, even by hand", func(q *Question) { q.Locked, q.ByHand = "Sanna Brekk: the pier is closed", true }, false, "locked by Sanna Brekk: the pier"},
		{"left halfway", func(q *Question) { q.Left = "left as it is by Maren Oake" }, false, "goes on when a person syncs"},
		{"left halfway, by hand", func(q *Question) { q.Left, q.ByHand = "left as it is by Maren Oake", true }, true, ""},
		{"by hand only", func(q *Question) { q.Automatic = false }, false, "by hand"},
		{"not fresh", func(q *Question) { q.Fresh, q.Stale = false, "no answer" }, false, "fresh look: no answer"},
	} {
		q := base
		test.change(&q)
		if may, why := MayStart(q, start); may != test.may || !strings.Contains(why, test.why) {
			t.Errorf("%s: %v, %q; want %v, %q", test.name, may, why, test.may, test.why)
		}
	}
}

// TestFirstReplaced sees that a newer revision can replace a first one: it is taken away where it never served, and left
// as it is, for the newer one to come in beside it, where it does.
func TestFirstReplaced(t *testing.T) {
	for _, serves := range []bool{false, true} {
		s := Begin(Side{}, newSide, rules, Automatic, "taken", time.Time{}, start)
		target := &site{readyIn: 1000}
		if serves {
			target.readyIn = 0
		}
		s, _ = run(s, target, 8, nil)
		s, facts := run(s, target, 20, func(step int, s State, _ *site) []Command {
			if step == 0 {
				return []Command{{Verb: Supersede, By: Automatic, Note: "1.2.0"}}
			}
			return nil
		})
		want, told := RolledBack, "rollback stopped rolled back"
		if serves {
			want, told = Abandoned, "abandoned"
		}
		if s.Phase != want || !strings.Contains(strings.Join(facts, " "), told) || s.Bar {
			t.Errorf("serves %v: %s (%s), told %v", serves, s.Phase, s.Why, facts)
		}
	}
}

// TestScaledMeanwhile sees that both cohorts follow a scaler, and keep their shares.
func TestScaledMeanwhile(t *testing.T) {
	s := begin()
	s.Phase, s.Stage, s.Shared = Soaking, 1, start
	target := site{old: 4, new: 2, ready: 2, laid: true, share: 0.5}
	seen := target.observe()
	seen.Scaled = map[string]int{"web": 8}
	out := Step(s, seen, nil, start.Add(time.Second))
	want := []Intent{{Do: Scale, Revision: oldSide.Revision, Part: "web", Count: 8}, {Do: Scale, Revision: newSide.Revision, Part: "web", Count: 4}}
	if !slices.Equal(out.Intents, want) || newSide.Parts["web"] != 4 {
		t.Errorf("it asks for %+v, want %+v; the side it was given has %v", out.Intents, want, newSide.Parts)
	}
}

// BenchmarkStep is one step of a rollout with nothing to do, as most are.
func BenchmarkStep(b *testing.B) {
	s := begin()
	s.Phase, s.Stage, s.Shared = Soaking, 1, start
	target := site{old: 4, new: 2, ready: 2, laid: true, share: 0.5, verdict: guard.Undecided}
	seen := target.observe()
	b.ReportAllocs()
	for b.Loop() {
		Step(s, seen, nil, start.Add(time.Second))
	}
}

// TestLeftovers sees that cohorts which an abandoned rollout left behind lose their traffic first and go then.
func TestLeftovers(t *testing.T) {
	target := site{old: 4}
	seen := target.observe()
	seen.Astray = 0.25
	out := Step(begin(), seen, nil, start.Add(time.Second))
	if want := []Intent{{Do: Prepare, Revision: newSide.Revision}}; !slices.Equal(out.Intents, want) {
		t.Errorf("it asks for %+v, want %+v", out.Intents, want)
	}
	target.laid = true
	seen = target.observe()
	seen.Astray = 0.25
	out = Step(out.State, seen, nil, start.Add(2*time.Second))
	if want := (Intent{Do: SetShare, Revision: newSide.Revision}); !slices.Contains(out.Intents, want) {
		t.Errorf("the traffic stays where it is: %+v", out.Intents)
	}
	seen.Astray, seen.Idle = 0, []declare.Fingerprint{"left000"}
	out = Step(out.State, seen, nil, start.Add(3*time.Second))
	if want := (Intent{Do: Delete, Revision: "left000"}); !slices.Contains(out.Intents, want) {
		t.Errorf("what is left stays: %+v", out.Intents)
	}
}

// TestStandingWhileKept sees that a standing guard switches back to the set that is kept, at once, and only while it is.
func TestStandingWhileKept(t *testing.T) {
	s := begin()
	s.Rules.Style, s.Rules.Keep = declare.BlueGreen, span(time.Minute)
	s.Phase, s.Stage, s.Shared, s.Switched = Proven, 2, start, start
	target := site{old: 4, new: 4, ready: 4, laid: true, share: 1, verdict: guard.Breach, then: guard.RollBack}
	out := Step(s, target.observe(), nil, start.Add(30*time.Second))
	if out.State.Phase != RollingBack || !slices.Contains(out.Intents, Intent{Do: SetShare, Revision: newSide.Revision}) || !out.State.Bar {
		t.Errorf("%s asking for %+v", out.State.Phase, out.Intents)
	}
	if out = Step(s, target.observe(), nil, start.Add(2*time.Minute)); out.State.Phase != Proven {
		t.Errorf("without a kept set it is %s", out.State.Phase)
	}
}

// TestKept sees when a kept old set is gone back to: by itself outside of the cool-down, by a person while it is kept; and
// that traffic which is on neither cohort is led back.
func TestKept(t *testing.T) {
	now := start.Add(time.Hour)
	kept := func(change func(*State)) State {
		s := State{Old: oldSide, New: newSide, Rules: rules, Phase: Proven, Since: start, Switched: now.Add(-time.Minute), Stage: 2}
		s.Rules.Style, s.Rules.Keep = declare.BlueGreen, span(10*time.Minute)
		change(&s)
		return s
	}
	for name, test := range map[string]struct {
		state  State
		breach bool
		person bool
		back   bool
	}{
		"a standing breach":                  {kept(func(*State) {}), true, false, true},
		"one within the cool-down":           {kept(func(s *State) { s.LastRollback = now.Add(-time.Minute) }), true, false, false},
		"one where old was never proven":     {kept(func(s *State) { s.Old.Proven = false }), true, false, false},
		"one once the set is no longer kept": {kept(func(s *State) { s.Switched = now.Add(-time.Hour) }), true, false, false},
		"a person":                           {kept(func(*State) {}), false, true, true},
		"a person, once it is too late":      {kept(func(s *State) { s.Switched = now.Add(-time.Hour) }), false, true, false},
	} {
		site := &site{old: 4, new: 4, ready: 4, laid: true, share: 1, then: guard.RollBack}
		if test.breach {
			site.verdict = guard.Breach
		}
		var commands []Command
		if test.person {
			commands = []Command{{Verb: TurnBack, By: "Maren Oake"}}
		}
		out := Step(test.state, site.observe(), commands, now)
		if back := out.State.Phase == RollingBack; back != test.back || test.person && (out.Refused[0] == nil) != test.back {
			t.Errorf("%s: %s, refused %v", name, out.State.Phase, out.Refused)
		}
	}
	astray := (&site{old: 4, new: 1, ready: 1, laid: true, share: 0.1, verdict: guard.Clear}).observe()
	astray.Astray = 0.2
	out := Step(State{Old: oldSide, New: newSide, Rules: rules, Phase: Soaking, Shared: now, Since: now}, astray, nil, now)
	if !slices.ContainsFunc(out.Intents, func(i Intent) bool { return i.Do == SetShare && i.Share == 0.1 }) {
		t.Errorf("stray traffic is not led back: %+v", out.Intents)
	}
}

// TestSoakIsWatched sees that a soak and the proving count the time that somebody watched, and no other: not that before a
// restart, and not a gap that is longer than the pace at which it is looked.
func TestSoakIsWatched(t *testing.T) {
	at := func(seconds int) time.Time { return start.Add(time.Duration(seconds) * time.Second) }
	for _, test := range []struct {
		name string
		pace time.Duration
		now  int // the last look was at 10
		back int // watching went on again after a restart; 0 for no restart
		want time.Duration
	}{
		{"a beat", 3 * time.Second, 11, 0, time.Second},
		{"as long as the pace allows", 3 * time.Second, 13, 0, 3 * time.Second},
		{"longer than the pace", 3 * time.Second, 14, 0, 0},
		{"where the pace is not told", 0, 24, 0, 14 * time.Second},
		{"and longer", 0, 26, 0, 0},
		{"a restart in between", 0, 15, 14, time.Second},
		{"a restart just now", 0, 15, 15, 0},
		{"a restart long ago", 3 * time.Second, 12, 1, 2 * time.Second},
	} {
		for _, phase := range []Phase{Soaking, Proving} {
			s := State{Old: oldSide, New: newSide, Rules: rules, Phase: phase, Since: start, Shared: start, Entered: start, Seen: at(10), Share: 0.1}
			s.Rules.Stages = slices.Clone(s.Rules.Stages)
			share := s.Rules.Stages[0].Share
			if phase == Proving {
				s.Stage, share = len(s.Rules.Stages)-1, 1
			}
			if test.back > 0 {
				s.Resumed = at(test.back)
			}
			seen := (&site{old: 4, new: 4, ready: 4, laid: true, share: share, verdict: guard.Undecided}).observe()
			seen.Pace = test.pace
			out := Step(s, seen, nil, at(test.now)).State
			if got := out.Soaked + out.Proved; got != test.want {
				t.Errorf("%s, %s: %s count, not %s", test.name, phase, got, test.want)
			}
		}
	}
}

// TestControl follows old's control share through every way that it can go: given up after the proving in a stage of its
// own, dropped where nothing can be split or old is gone, and none where none is declared or possible.
func TestControl(t *testing.T) {
	none, quarter := 0.0, 0.25
	for _, test := range []struct {
		name    string
		change  func(*declare.Rollout, *Side)
		at      func(int, State, *site) []Command
		whole   bool // the target cannot split
		shares  string
		stages  int
		phase   Phase
		control bool // it is told that it ended early
	}{
		{"default", nil, nil, false, "0.1 0.5 0.95 1", 4, Proven, false},
		{"declared", func(r *declare.Rollout, _ *Side) { r.Control = &quarter }, nil, false, "0.1 0.5 0.75 1", 4, Proven, false},
		{"none", func(r *declare.Rollout, _ *Side) { r.Control = &none }, nil, false, "0.1 0.5 1", 3, Proven, false},
		{"after a large stage", func(r *declare.Rollout, _ *Side) { r.Stages[1].Share = 0.98 }, nil, false, "0.1 0.98 0.99 1", 4, Proven, false},
		{"one stage", func(r *declare.Rollout, _ *Side) { r.Stages = r.Stages[2:] }, nil, false, "0.95 1", 2, Proven, false},
		{"rolling", func(r *declare.Rollout, _ *Side) { r.Style = declare.Rolling }, nil, false, "0.1 0.25 0.5 0.75 1", 3, Proven, false},
		{"keeps state", func(_ *declare.Rollout, s *Side) { s.Keeps = []string{"store"} }, nil, false, "0.1 0.5 1", 3, Proven, false},
		{"nothing to split", nil, nil, true, "", 3, Proven, false},
		{"old is gone while it proves", nil, onceIn(Proving, 2, func(t *site) []Command { t.oldDown = true; return nil }), false, "0.1 0.5 0.95 1", 3, Proven, true},
		{"old is gone while it is held", nil, onceIn(Proving, 2, func(t *site) []Command {
			t.oldDown = true
			return []Command{{Verb: HoldOn, By: "Maren Oake"}}
		}), false, "0.1 0.5 0.95", 3, Held, false},
		{"a breach beside the control", nil, onceIn(Proving, 2, func(t *site) []Command { t.verdict, t.then = guard.Breach, guard.RollBack; return nil }), false, "0.1 0.5 0.95 0", 3, RolledBack, false},
		{"a breach alone", nil, onceIn(Soaking, 3, func(t *site) []Command { t.verdict, t.then = guard.Breach, guard.RollBack; return nil }), false, "0.1 0.5 0.95 1 0", 4, RolledBack, false},
	} {
		t.Run(test.name, func(t *testing.T) {
			r, old := rules, oldSide
			r.Style, r.Stages, r.Extra = declare.Canary, slices.Clone(rules.Stages), declare.Budget{Number: 1}
			for i := range r.Stages {
				r.Stages[i].SignOff = ""
			}
			if test.change != nil {
				test.change(&r, &old)
			}
			var shares []string
			target := &site{old: 4, verdict: guard.Clear}
			s, facts := run(Begin(old, newSide, r, Automatic, "taken", time.Time{}, start), target, 200, func(step int, s State, t *site) []Command {
				t.whole = test.whole
				if text := strconv.FormatFloat(t.share, 'f', -1, 64); t.share > 0 && (len(shares) == 0 || shares[len(shares)-1] != text) || t.share == 0 && len(shares) > 0 && shares[len(shares)-1] != "0" {
					shares = append(shares, text)
				}
				if test.at != nil {
					return test.at(step, s, t)
				}
				return nil
			})
			stages := 0
			for _, kind := range facts {
				if kind == string(FactStage) {
					stages++
				}
			}
			if got := strings.Join(shares, " "); got != test.shares || stages != test.stages || s.Phase != test.phase || slices.Contains(facts, string(FactControl)) != test.control {
				t.Errorf("shares %s, %s, %v; want %s, %s", got, s.Phase, facts, test.shares, test.phase)
			}
		})
	}
}
