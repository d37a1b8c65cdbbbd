package target

import (
	"encoding/json"
	"fmt"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/rollout"
)

// Want is one thing that is wanted of a workload's site: what was decided, with what it takes to do it.
type Want struct {
	rollout.Intent
	Desired *declare.Desired    // Prepare: with its secrets opened
	First   []string            // Scale: the instances that go first where there are too many
	Rest    declare.Fingerprint // SetShare: the revision that gets the rest; empty for none
	Opened  map[string]string   // Place: the part's sealed values, opened

	Found    *Found      // Scale: what runs already, as the first instance that is added; nil for none
	Remember *Remembered // Prepare: the revision itself, to be kept at the site; nil for nothing to keep
	Step     int64       // Note
}

// Found is a process, or a container, that ran before anybody had it run here, and is to be an instance.
type Found struct {
	PID       int            `json:"pid,omitempty"`
	Created   int64          `json:"created,omitempty"`   // when the system says that the process was made, in milliseconds since 1970
	Container string         `json:"container,omitempty"` // its ID; empty for a process
	Ports     map[string]int `json:"ports,omitempty"`     // of the machine, that lead there
}

// Is tells whether both are the same.
func (f Found) Is(other Found) bool {
	return f.PID == other.PID && f.Created == other.Created && f.Container == other.Container
}

// String says what it is.
func (f Found) String() string {
	if f.Container != "" {
		return fmt.Sprintf("container %.12s", f.Container)
	}
	return fmt.Sprintf("process %d", f.PID)
}

// Note has the site keep the number of the last step on record that asked something of it, so that a record which is older
// than the site is known for that.
const Note rollout.Deed = "note"

// Noted has the site keep the number of a step.
func Noted(step int64) Want { return Want{Intent: rollout.Intent{Do: Note}, Step: step} }

// Remembered is a revision as a site keeps it.
type Remembered struct {
	Of       berth.Revision  `json:"of"`
	Declares json.RawMessage `json:"declares"` // in canonical form
}

// Remember makes what a site keeps of a revision.
func Remember(r *berth.Revision) *Remembered {
	return &Remembered{Of: *r, Declares: r.Desired.Canonical()}
}

// Revision is the revision that was kept; nil where none was, another one, or what is no longer what its fingerprint says.
func (m *Remembered) Revision(wanted declare.Fingerprint) *berth.Revision {
	if m == nil || m.Of.Fingerprint != wanted {
		return nil
	}
	r := m.Of
	r.Desired = &declare.Desired{}
	if err := json.Unmarshal(m.Declares, r.Desired); err != nil || r.Desired.Fingerprint() != r.Fingerprint {
		return nil
	}
	return &r
}

// Prepare puts a revision's settings in place and makes its parts known. It starts no instance.
func Prepare(revision declare.Fingerprint, desired declare.Desired) Want {
	return Want{Intent: rollout.Intent{Do: rollout.Prepare, Revision: revision}, Desired: &desired}
}

// Scale makes one part's cohort of a revision the given size. When it gets smaller, those named in first go first.
func Scale(revision declare.Fingerprint, part string, instances int, first ...string) Want {
	return Want{Intent: rollout.Intent{Do: rollout.Scale, Revision: revision, Part: part, Count: instances}, First: first}
}

// SetShare gives a revision's cohort a share of the traffic, from 0 to 1, and another revision the rest. With an empty
// rest all else gets nothing.
func SetShare(revision declare.Fingerprint, share float64, rest declare.Fingerprint) Want {
	return Want{Intent: rollout.Intent{Do: rollout.SetShare, Revision: revision, Share: share}, Rest: rest}
}

// Preview leads the preview routes to a revision's cohort.
func Preview(revision declare.Fingerprint) Want {
	return Want{Intent: rollout.Intent{Do: rollout.Preview, Revision: revision}}
}

// Run runs a task of a revision to its end, once: what has run, or runs, is not started again.
func Run(revision declare.Fingerprint, part string) Want {
	return Want{Intent: rollout.Intent{Do: rollout.Run, Revision: revision, Part: part}}
}

// MovePart moves a part with its instances as they are from one revision's cohort to another's. It does no harm where
// the part is there already.
func MovePart(from, to declare.Fingerprint, part string) Want {
	return Want{Intent: rollout.Intent{Do: rollout.MovePart, From: from, Revision: to, Part: part}}
}

// Take has a revision's cohort take the instances of a part over from another one, as they are. The part is the same in both.
// It does no harm where they are there already.
func Take(from, to declare.Fingerprint, part string) Want {
	return Want{Intent: rollout.Intent{Do: rollout.Take, From: from, Revision: to, Part: part}}
}

// RemovePart takes one part of a cohort away, with its instances. Volumes lose their data.
func RemovePart(revision declare.Fingerprint, part string) Want {
	return Want{Intent: rollout.Intent{Do: rollout.RemovePart, Revision: revision, Part: part}}
}

// Relabel makes a cohort, with its instances and traffic as they are, that of another revision.
func Relabel(from, to declare.Fingerprint) Want {
	return Want{Intent: rollout.Intent{Do: rollout.Relabel, From: from, Revision: to}}
}

// Delete takes a revision's cohort and settings away. A revision that has traffic is refused.
func Delete(revision declare.Fingerprint) Want {
	return Want{Intent: rollout.Intent{Do: rollout.Delete, Revision: revision}}
}

// Place makes the objects of a part as a revision has them, up to a wave, from 1. What is so already is left alone.
func Place(revision declare.Fingerprint, part string, wave int, opened map[string]string) Want {
	return Want{Intent: rollout.Intent{Do: rollout.Place, Revision: revision, Part: part, Count: wave}, Opened: opened}
}

// LetGo takes the marks off the objects of a part of a cohort, and forgets it: all of it stays as it is, and is nobody's.
func LetGo(revision declare.Fingerprint, part string) Want {
	return Want{Intent: rollout.Intent{Do: rollout.LetGo, Revision: revision, Part: part}}
}

// Withdraw takes away the objects of a part that a revision has and another one has not, but for those that are kept.
func Withdraw(revision, stays declare.Fingerprint, part string) Want {
	return Want{Intent: rollout.Intent{Do: rollout.Withdraw, Revision: revision, From: stays, Part: part}}
}

// RemoveObject takes one object of a part away that no revision there has.
func RemoveObject(revision declare.Fingerprint, part, object string) Want {
	return Want{Intent: rollout.Intent{Do: rollout.RemoveObject, Revision: revision, Part: part, Object: object}}
}
