// Package rollout is the state machine of a rollout: from a state, what was observed, a person's commands and the time
// it makes the next state, what it wants of the target, and facts for the ledger. It never acts itself.
package rollout

import (
	"fmt"
	"slices"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/health"
)

// Phase is how a rollout is doing.
type Phase string

const (
	Settling    Phase = "settling" // instances coming up
	Soaking     Phase = "soaking"
	Waiting     Phase = "waiting" // for a sign-off
	Held        Phase = "held"
	RollingBack Phase = "rolling back"
	RolledBack  Phase = "rolled back"
	Proving     Phase = "proving" // full traffic, still under guard
	Proven      Phase = "proven"
	Abandoned   Phase = "abandoned" // left as it is, proven or not
)

// Over tells whether the rollout has ended.
func (p Phase) Over() bool { return p == RolledBack || p == Proven || p == Abandoned }

// Forward tells whether the new revision is on its way in, so that a breach turns the rollout round.
func (p Phase) Forward() bool {
	return p == Settling || p == Soaking || p == Waiting || p == Held || p == Proving
}

// Side is one of the two revisions of a rollout. Revision is empty where there is none, at a first rollout.
type Side struct {
	Revision declare.Fingerprint `json:"revision,omitempty"`
	Version  string              `json:"version,omitempty"`
	Parts    map[string]int      `json:"parts,omitempty"`    // instances by service part
	Tasks    map[string]Task     `json:"tasks,omitempty"`    // what runs to its end on the way in, once
	Needs    map[string][]string `json:"needs,omitempty"`    // by part: the services and tasks that come before it
	Declared []string            `json:"declared,omitempty"` // all parts, of whatever kind
	Keeps    []string            `json:"keeps,omitempty"`    // services that keep state in a volume
	Objects  map[string]int      `json:"objects,omitempty"`  // by part of objects: in how many waves they come
	Pods     int                 `json:"pods,omitempty"`     // instances that its objects ask for
	Proven   bool                `json:"proven,omitempty"`   // it was, and is not barred: one to go back to
	Alike    map[string]int      `json:"alike,omitempty"`    // instances by service part that is the same on both sides: taken over as they are
	Set      string              `json:"set,omitempty"`      // blue-green: which of the two sets it is
}

// Task is a part that runs to its end.
type Task struct {
	NotUndoable bool `json:"not-undoable,omitempty"` // what it did cannot be taken back
}

// None tells whether there is no such side.
func (s Side) None() bool { return s.Revision == "" }

// State is all there is to know to go on with a rollout. It is a value that survives writing and reading back.
type State struct {
	ID      int64           `json:"id"` // the ledger's number of the fact that began it
	Old     Side            `json:"old"`
	New     Side            `json:"new"`
	Rules   declare.Rollout `json:"rules"`
	Phase   Phase           `json:"phase"`
	Stage   int             `json:"stage"` // index into Rules.Stages
	Since   time.Time       `json:"since"` // when this phase began
	By      string          `json:"by"`    // who brought this phase about
	Why     string          `json:"why"`   // why it is in this phase, one sentence
	Began   time.Time       `json:"began"`
	Ended   time.Time       `json:"ended,omitzero"`
	Entered time.Time       `json:"entered"`         // when this stage began
	Shared  time.Time       `json:"shared,omitzero"` // when the present share was reached: evidence counts from here
	Given   time.Time       `json:"given,omitzero"`  // when new first had any of the traffic
	// Soaked and Proved count only time with fresh evidence, so a restart or a silence adds nothing.
	Soaked time.Duration `json:"soaked"`
	Proved time.Duration `json:"proved"`
	Seen   time.Time     `json:"seen,omitzero"` // the last fresh observation

	Resumed      time.Time `json:"resumed,omitzero"` // after a restart; deadlines count from here, as nobody watched before
	HeldFrom     Phase     `json:"held_from,omitempty"`
	Hurry        bool      `json:"hurry,omitempty"` // a person skipped the rest of this stage's soak
	SignedOff    []SignOff `json:"signed_off,omitempty"`
	Causes       []Cause   `json:"causes,omitempty"`
	Told         []string  `json:"told,omitempty"` // guards that only tell, and did
	Bar          bool      `json:"bar,omitempty"`  // the new revision is to be barred
	Traffic      time.Time `json:"traffic_back,omitzero"`
	LastRollback time.Time `json:"last_rollback,omitzero"` // of the berth, before this rollout
	Share        float64   `json:"share"`                  // last seen at the target

	Return     bool      `json:"return,omitempty"`    // New is an earlier revision that is gone back to
	Calls      string    `json:"calls,omitempty"`     // why a person is called while it goes on by itself; empty for not
	Progressed time.Time `json:"progressed,omitzero"` // the last time more of new was up than ever in this stage
	Most       int       `json:"most,omitempty"`      // that was so many
	LetGo      bool      `json:"let_go,omitempty"`    // the kept old set may go at once
	Switched   time.Time `json:"switched,omitzero"`   // blue-green: when all traffic was on new

	// Control is the share of the traffic that old keeps through proving; 0 for none. Where there is one, the last of the
	// stages gives it up, after the proving.
	Control float64 `json:"control,omitempty"`

	Checks []Check  `json:"checks,omitempty"` // tasks that try the new cohort, as far as they were begun
	Task   string   `json:"task,omitempty"`   // Waiting: the task that cannot be undone, for which a sign-off is asked
	Passed []string `json:"passed,omitempty"` // tasks that cannot be undone and were let run
}

// TakeOver takes services that are the same on both sides out of what is exchanged, as nothing of them is started anew.
func TakeOver(old, new Side, services []string) (Side, Side) {
	services = slices.DeleteFunc(slices.Clone(services), func(name string) bool { return old.Parts[name] == 0 || new.Parts[name] == 0 })
	return old.apart(services), new.apart(services)
}

func (s Side) apart(services []string) Side {
	if len(services) == 0 {
		return s
	}
	parts := s.Parts
	s.Parts, s.Alike = map[string]int{}, map[string]int{}
	for name, count := range parts {
		if slices.Contains(services, name) {
			s.Alike[name] = count
		} else {
			s.Parts[name] = count
		}
	}
	s.Keeps = slices.DeleteFunc(slices.Clone(s.Keeps), func(name string) bool { return slices.Contains(services, name) })
	return s
}

// SignOff is a named person's go-ahead for a stage.
type SignOff struct {
	Stage int       `json:"stage"`
	Task  string    `json:"task,omitempty"` // it was for a task, not for the stage
	By    string    `json:"by"`
	At    time.Time `json:"at"`
}

// Check is a task that tries the new cohort in a stage.
type Check struct {
	Task   string    `json:"task"`
	Stage  int       `json:"stage"`
	Began  time.Time `json:"began"`
	Ended  time.Time `json:"ended,omitzero"`
	Failed string    `json:"failed,omitempty"` // why it did not pass
}

// Checking is the task that tries the new cohort now; nil for none.
func (s State) Checking() *Check {
	for i := range s.Checks {
		if c := s.Checks[i]; c.Ended.IsZero() && s.Phase.Forward() {
			return &c
		}
	}
	return nil
}

// Cause is why a rollout was turned round.
type Cause struct {
	Kind    CauseKind      `json:"kind"`
	Text    string         `json:"text"`
	Verdict *guard.Verdict `json:"verdict,omitempty"`
	At      time.Time      `json:"at"`
}

// CauseKind says what kind of thing a cause is.
type CauseKind string

// Kinds of causes.
const (
	ByGuard    CauseKind = "guard"
	ByHealth   CauseKind = "health"
	ByArtifact CauseKind = "artifact"
	ByDeadline CauseKind = "deadline"
	ByTask     CauseKind = "task"
	ByPerson   CauseKind = "person"
	ByNewer    CauseKind = "superseded"
	ByCourse   CauseKind = "course" // it goes back with others, by the line's rules
)

// total is how many instances a side has.
func (s Side) total() (sum int) {
	for _, n := range s.Parts {
		sum += n
	}
	for _, n := range s.Alike {
		sum += n
	}
	return sum
}

// Empty tells whether a side has no instance: there is none, or it was scaled to none on purpose.
func (s Side) Empty() bool { return s.total()+s.Pods == 0 }

// rolled tells whether all instances of a side are its objects': the cluster exchanges them, as it sees fit.
func (s Side) rolled() bool { return s.total() == 0 && s.Pods > 0 }

// Begin is the first state of a rollout. Where one of the sides has no instances all traffic goes at once: there is
// nothing to compare with and nobody to protect.
func Begin(old, new Side, rules declare.Rollout, by, why string, lastRollback, now time.Time) State {
	new.Set = ""
	if rules.Style == declare.BlueGreen {
		new.Set = "blue"
		if old.Set == "blue" {
			new.Set = "green"
		}
	}
	if old.total() == 0 || new.total() == 0 {
		rules.Stages, rules.Try = []declare.Stage{{Share: 1, Checks: checks(rules)}}, ""
	}
	s := State{
		Old: old, New: new, Rules: rules, Phase: Settling, Since: now, By: by, Why: why,
		Began: now, Entered: now, LastRollback: lastRollback,
	}
	s.keepControl()
	return s
}

// checks are the tasks that try the new cohort, of all stages.
func checks(rules declare.Rollout) (all []string) {
	for i := range rules.Stages {
		all = append(all, checksOf(rules, i)...)
	}
	return all
}

// checksOf are those of a stage.
func checksOf(rules declare.Rollout, stage int) []string {
	of := rules.Stages[stage].Checks
	if stage == 0 && rules.Try != "" {
		return append([]string{rules.Try}, of...)
	}
	return of
}

// checkedIn is the stage that a task tries the new cohort in; false where it does not.
func (s State) checkedIn(task string) (int, bool) {
	for i := range s.Rules.Stages {
		if slices.Contains(checksOf(s.Rules, i), task) {
			return i, true
		}
	}
	return 0, false
}

// keepControl has old keep its control share from the last stage on until the proving is over, and makes giving it up a
// stage like others. What keeps state cannot serve on both sides, so there is none then.
func (s *State) keepControl() {
	share, n := s.Rules.Controls(), len(s.Rules.Stages)
	if share <= 0 || n == 0 || s.Old.Empty() || s.New.Empty() || len(s.Old.Keeps) > 0 || len(s.New.Keeps) > 0 {
		return
	}
	if n > 1 {
		share = min(share, (1-s.Rules.Stages[n-2].Share)/2)
	}
	last := s.Rules.Stages[n-1]
	s.Rules.Stages = append(slices.Clone(s.Rules.Stages), declare.Stage{Share: 1, Soak: last.Soak})
	s.Rules.Stages[n-1].Share, s.Control = 1-share, share
}

// dropControl has new take all of the traffic with the last stage, as nothing can be split.
func (s *State) dropControl() {
	n := len(s.Rules.Stages)
	if s.Control == 0 || s.Closes() {
		return
	}
	s.Rules.Stages = slices.Clone(s.Rules.Stages[:n-1])
	s.Rules.Stages[n-2].Share, s.Control = 1, 0
}

// Closes tells whether the rollout is in the stage after the proving, in which old gives its control share up.
func (s State) Closes() bool { return s.ClosesIn(s.Stage) }

// ClosesIn tells whether a stage is that one.
func (s State) ClosesIn(stage int) bool { return s.Control > 0 && stage == len(s.Rules.Stages)-1 }

// LastStage is the index of the stage that the proving comes after.
func (s State) LastStage() int {
	if s.Control > 0 {
		return len(s.Rules.Stages) - 2
	}
	return len(s.Rules.Stages) - 1
}

// GoBack is the first state of a way back from what is proven and applied to an earlier revision: at full speed, with
// all traffic as soon as it is up. Its tasks ran when it came in, and are not run again.
func GoBack(from, to Side, rules declare.Rollout, by string, causes []Cause, now time.Time) State {
	rules.Stages, rules.Try, rules.Control, to.Tasks = []declare.Stage{{Share: 1}}, "", new(float64), nil
	s := Begin(from, to, rules, by, causes[0].Text, time.Time{}, now)
	s.Return, s.Causes, s.Bar = true, causes, true
	return s
}

// Resume is the state to go on with after a restart: what was soaked stays soaked, and the time in between counts for
// nothing.
func (s State) Resume(now time.Time) State {
	s.Resumed = now
	return s
}

// AskedShare is the share of traffic that the new cohort should have now, or at the end of what is under way.
func (s State) AskedShare() float64 {
	switch s.Phase {
	case RollingBack, RolledBack:
		return 0
	case Abandoned:
		return s.Share
	case Proving:
		return 1 - s.Control
	case Proven:
		return 1
	}
	return s.stage().Share
}

func (s State) stage() declare.Stage {
	return s.Rules.Stages[min(s.Stage, len(s.Rules.Stages)-1)]
}

// Counts tells whether a guard counts in a stage; the proving after the last one has them all.
func (s State) Counts(guard string, stage int) bool {
	return stage >= len(s.Rules.Stages) || len(s.Rules.Stages[stage].Guards) == 0 || slices.Contains(s.Rules.Stages[stage].Guards, guard)
}

// EvidenceOf is the stage that what is shown in a stage is evidence of: the proving's goes on with the last stage's, as new's
// share is the same.
func (s State) EvidenceOf(stage int) int {
	if stage >= len(s.Rules.Stages) {
		return s.LastStage()
	}
	return stage
}

// ShareIn is the share of the traffic that new has in a stage; the proving, which is one more, has all but old's control.
func (s State) ShareIn(stage int) float64 {
	if stage >= len(s.Rules.Stages) {
		return 1 - s.Control
	}
	return s.Rules.Stages[stage].Share
}

// AloneIn tells whether new has no old one beside it in a stage: it has all of the traffic, unless the cluster still exchanges the
// two.
func (s State) AloneIn(stage int) bool {
	return s.ShareIn(stage) == 1 && !(s.New.rolled() && stage < len(s.Rules.Stages))
}

// Rolls tells whether the cluster exchanges instances now, and gives new its traffic as it comes up.
func (s State) Rolls() bool {
	return s.New.rolled() && !s.Shared.IsZero() && (s.Phase == Settling || s.HeldFrom == Settling)
}

// Ahead tells whether the new revision is on its way in, so that a breach turns it round: not while a way back is held.
func (s State) Ahead() bool {
	return s.Phase.Forward() && !(s.Phase == Held && s.HeldFrom == RollingBack)
}

// Harms tells whether the new revision is on its way out because it does harm, and not because a newer one came.
func (s State) Harms() bool {
	return s.Phase == RollingBack && !s.Return && slices.ContainsFunc(s.Causes, func(c Cause) bool { return c.Kind != ByNewer })
}

// Where names the stage that the rollout is in, in the words of its style.
func (s State) Where() string {
	switch {
	case s.Return:
		return "the way back to " + s.New.Version
	case s.Phase == Proving || s.HeldFrom == Proving:
		return "proving"
	case s.Rules.Style == declare.BlueGreen && len(s.Rules.Stages) == 2:
		return []string{"the trial", "the switch"}[s.Stage]
	case s.Rules.Style == declare.Rolling && len(s.Rules.Stages) > 1:
		return fmt.Sprintf("batch %d of %d", s.Stage+1, len(s.Rules.Stages))
	case s.Rules.Style == declare.Rolling:
		return "rolling"
	}
	return fmt.Sprintf("stage %d of %d", s.Stage+1, len(s.Rules.Stages))
}

// KeptFor is how long the old set is still kept complete after the switch, so that the way back is at once.
func (s State) KeptFor(now time.Time) time.Duration {
	if s.Rules.Style != declare.BlueGreen || s.LetGo || s.Return || s.Switched.IsZero() || s.Old.Empty() {
		return 0
	}
	return max(0, s.Rules.Keep.Duration-now.Sub(s.Switched))
}

// SoakLeft is how long this stage's soak still has to go.
func (s State) SoakLeft() time.Duration { return max(0, s.stage().Soak.Duration-s.Soaked) }

// ProvingLeft is how long the guards still have to hold.
func (s State) ProvingLeft() time.Duration { return max(0, s.Rules.Proving.Duration-s.Proved) }

// Cohort is what was observed of one side.
type Cohort struct {
	Laid   bool           // its settings are in place
	Parts  map[string]int // instances by part, whatever their health
	Health health.Summary
	// Healthy counts the healthy instances by part, Ready those that have been for as long as the rules ask.
	Healthy map[string]int
	Ready   map[string]int
	Preview bool              // its preview route leads to it
	Done    map[string]bool   // tasks that ran to their end
	Failed  map[string]string // tasks that did not, and why
	All     []string          // parts that are there, of whatever kind
	Objects map[string]Placed // by part of objects
	// CannotStart is why its instances will never come up, in the target's words; empty while they may.
	CannotStart string
}

// Placed is how far the objects of a part are as a revision has them.
type Placed struct {
	Waves int  // from the first, that are there and healthy
	Next  bool // of the wave after these something is not there
	Lacks bool // of any wave something is not there
	Moves bool // something that is there is on its way still
}

func (c Cohort) instances() (sum int) {
	for _, n := range c.Parts {
		sum += n
	}
	return sum
}

// Observation is what was seen of a berth at one moment.
type Observation struct {
	Reached  bool   // the target answered; without that nothing below is known
	Fresh    bool   // it answered and no probe is stale
	Stale    string // why it is not fresh
	Old, New Cohort
	Splits   bool                  // the target splits traffic by share; else the numbers of instances do
	Share    float64               // of the traffic on the new cohort, as the target has it
	Astray   float64               // of the traffic on neither cohort
	Idle     []declare.Fingerprint // other cohorts of ours, without traffic
	Scaled   map[string]int        // parts that someone who may scaled meanwhile, and to how many
	Verdicts []guard.Verdict
	Pace     time.Duration // the longest time between two looks that still counts as watched; 0 for what is usual
}

// Verb is what a person can ask of a rollout.
type Verb string

const (
	Advance   Verb = "advance"
	HoldOn    Verb = "hold"
	GoOn      Verb = "go on"
	TurnBack  Verb = "roll back"
	Sign      Verb = "sign off"
	Abandon   Verb = "abandon"   // left as it is
	Supersede Verb = "supersede" // by a newer revision: turned round without a bar
	Release   Verb = "release"   // the kept old set, for a newer revision to come in
)

// Command is a person's wish.
type Command struct {
	Verb Verb
	By   string
	Note string
}

// Intent is one thing the rollout wants of the target.
type Intent struct {
	Do       Deed
	Revision declare.Fingerprint
	Part     string
	Count    int                 // Scale: instances; Place: up to which wave, from 1
	From     declare.Fingerprint // Take, MovePart and Relabel: the revision that has it; Withdraw: the one whose objects stay
	Share    float64             // SetShare: of the traffic on New
	Object   string              // RemoveObject: its ID
}

// Deed is what an Intent asks to be done.
type Deed string

const (
	Prepare    Deed = "prepare"     // put a revision's settings in place
	Scale      Deed = "scale"       // make a part's cohort the size of Count
	SetShare   Deed = "share"       // give the new cohort a share of the traffic
	Preview    Deed = "preview"     // lead the preview route to a revision's cohort
	Run        Deed = "run"         // run a task to its end
	Place      Deed = "place"       // make the objects of a part as a revision has them, wave by wave
	Withdraw   Deed = "withdraw"    // take away the objects of a part that only this revision has
	Take       Deed = "take"        // let a part that is the same live on as it is, in the cohort of Revision instead of From's
	MovePart   Deed = "move"        // let a part that is not declared any more live on beside the new cohort
	Delete     Deed = "delete"      // take a revision's cohort away, with its settings
	RemovePart Deed = "remove part" // take one part away; only where a person asked for it
	// RemoveObject takes one object of a part away that nobody declares; only where a person asked for it.
	RemoveObject Deed = "remove object"
	LetGo        Deed = "let go"  // take the marks off the objects of a part and forget them; all of them stay as they are
	Relabel      Deed = "relabel" // make the cohort of From that of Revision, as it is
)

// Fact is something that happened, for the ledger.
type Fact struct {
	Kind FactKind
	By   string
	Text string
	Data any // evidence; nil where the text says all
}

// Reached is the evidence of a fact of kind "stage": which share of the traffic the new cohort got.
type Reached struct {
	Stage int          `json:"stage"` // from 1
	Of    int          `json:"of"`
	Share float64      `json:"share"`
	Soak  declare.Span `json:"soak"`
}

// Outcome is what one step gives.
type Outcome struct {
	State   State
	Intents []Intent
	Facts   []Fact
	Refused []error // by command: why it is not possible now, nil where it was carried out
	Done    bool    // over, and nothing is left to tidy up at the target
}
