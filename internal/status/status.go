// Package status is what faces are shown: all that is known at one moment, as values. It is a leaf: it knows the core's
// words and nothing of who made it or who draws it.
package status

import (
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/health"
	"aditus/internal/core/policy"
	"aditus/internal/core/rollout"
	"aditus/internal/core/signal"
)

// Snapshot is all that a face can see at one moment. It is a value: nothing in it changes once it is given out.
type Snapshot struct {
	Seq      uint64            `json:"seq"` // one more for each change of anything but Now
	Line     string            `json:"line"`
	Now      time.Time         `json:"now"`
	Sites    []string          `json:"sites"`           // in course order
	Teams    map[string]string `json:"teams,omitempty"` // whose sites they are, by the line's rules
	Policy   policy.Policy     `json:"policy,omitzero"` // who may do what, where the line says so
	Links    []Link            `json:"links"`
	Berths   []Berth           `json:"berths"` // by workload, then in course order
	Problems []Problem         `json:"problems,omitempty"`
	Leader   *Leader           `json:"leader,omitempty"` // where several servers share a ledger: the one that leads

	Lost *Lost `json:"-"` // nil while what made it is heard of
}

// Leader is the server that leads a ledger which several share. The others stand by: they tell what is on record.
type Leader struct {
	Name    string    `json:"name"`              // empty where it is not known
	Address string    `json:"address,omitempty"` // where it is asked
	Since   time.Time `json:"since,omitzero"`
	Here    bool      `json:"here"` // it is the one that tells
}

// Lost tells that whoever made a snapshot is not heard of any more: all of it is as old as that.
type Lost struct {
	Since time.Time
	Why   string
}

// Measured is what a site itself measured of one instance.
type Measured struct {
	berth.ID
	Revision declare.Fingerprint
	Instance string
	Page     signal.Page
}

// Problem is trouble with Aditus itself or what it stands on, told in a sentence.
type Problem struct {
	About string    `json:"about"`
	Text  string    `json:"text"`
	Since time.Time `json:"since"`
}

// Link is a connection to a repository with its last answer.
type Link struct {
	Name       string        `json:"name"`
	Repository string        `json:"repository"`
	Ref        string        `json:"ref"` // the branch, tag, commit or version that is watched
	Branch     string        `json:"branch,omitempty"`
	Folder     string        `json:"folder"`
	Bundle     bool          `json:"bundle,omitempty"`
	Version    string        `json:"version,omitempty"` // of a bundle: what was taken
	Berths     int           `json:"berths"`            // declared by it
	Follows    string        `json:"follows,omitempty"` // the site that follows this branch for a while
	Until      time.Time     `json:"until,omitzero"`
	Warnings   []string      `json:"warnings,omitempty"`
	Wrong      []string      `json:"wrong,omitempty"` // all for which what it declares is not taken, each with its place
	Every      time.Duration `json:"every"`
	Off        bool          `json:"off,omitempty"` // it is not read; what it declared stays declared
	Commit     string        `json:"commit"`
	Looked     time.Time     `json:"looked,omitzero"`
	Took       time.Duration `json:"took"`
	Problem    *Problem      `json:"problem,omitempty"`
	Rewritten  bool          `json:"rewritten,omitempty"` // a person may accept the new history
}

// Berth is one workload at one site as it stands.
type Berth struct {
	berth.ID
	Applied     *berth.Revision         `json:"applied,omitempty"`
	AppliedAt   time.Time               `json:"applied_at,omitzero"`
	ProvenAt    time.Time               `json:"proven_at,omitzero"`
	Declared    *berth.Revision         `json:"declared,omitempty"` // nil where Git no longer declares it
	SyncStatus  compare.SyncStatus      `json:"stand"`
	BehindBy    int                     `json:"behind_by,omitempty"` // revisions
	Differences []compare.Difference    `json:"differences,omitempty"`
	Live        compare.Live            `json:"live,omitempty"`
	Cohorts     []Cohort                `json:"cohorts,omitempty"`
	Link        string                  `json:"link,omitempty"`    // that declares it
	Bundle      bool                    `json:"bundle,omitempty"`  // and is to a bundle in a registry
	Follows     string                  `json:"follows,omitempty"` // another branch than the other sites
	Until       time.Time               `json:"until,omitzero"`
	InPart      bool                    `json:"in_part,omitempty"` // a person took some parts of what is declared
	Corrects    time.Time               `json:"corrects,omitzero"` // when drift is put back by itself
	Fights      string                  `json:"fights,omitempty"`  // why drift is put back no more; empty where nobody sets it again and again
	Changes     []string                `json:"changes,omitempty"` // what a sync would change, in words
	Trial       []string                `json:"trial,omitempty"`   // what the site would make otherwise than it is declared, as it says
	DriftSince  time.Time               `json:"drift_since,omitzero"`
	Health      health.Summary          `json:"health"`
	HealthSince time.Time               `json:"health_since,omitzero"` // since when it is in that word, as far as this program saw
	Looked      time.Time               `json:"looked,omitzero"`
	Waits       string                  `json:"waits,omitempty"`      // why the declared revision does not come yet
	WaitsSince  time.Time               `json:"waits_since,omitzero"` // as far as this program saw
	Asks        *berth.Ask              `json:"asks,omitempty"`       // whom it waits for, by the line's rules
	Offer       *berth.Offer            `json:"offer,omitempty"`      // of what is declared to the site's team
	Cools       time.Time               `json:"cools,omitzero"`       // until when nothing comes by itself after a rollback
	Bar         *berth.Bar              `json:"bar,omitempty"`        // of the declared revision
	Problem     *Problem                `json:"problem,omitempty"`
	Guards      int                     `json:"guards,omitempty"`  // of what is applied
	Lasting     []string                `json:"lasting,omitempty"` // tasks of what is applied that cannot be undone
	Style       declare.Style           `json:"style,omitempty"`   // in which what is declared would come
	Lock        *berth.Lock             `json:"lock,omitempty"`
	Branch      *berth.Trial            `json:"branch,omitempty"` // that it is there for
	Life        *berth.Life             `json:"life,omitempty"`   // how long it has, by the line's rules
	Ending      *berth.TornDown         `json:"ending,omitempty"` // it is being torn down
	Gone        *berth.TornDown         `json:"gone,omitempty"`   // it was
	Needs       []string                `json:"needs,omitempty"`  // workloads that what is applied needs at the site
	Sized       map[string]berth.Sized  `json:"sized,omitempty"`  // by part: numbers of instances that were set other than declared
	Restarting  *berth.Restarting       `json:"restarting,omitempty"`
	Found       *berth.Found            `json:"found,omitempty"` // what is applied was found at the site, and is unproven here
	Left        *berth.Left             `json:"left,omitempty"`  // a revision that was left halfway
	Calls       string                  `json:"calls,omitempty"` // why a person is called though no rollout is under way
	Back        *berth.Revision         `json:"back,omitempty"`  // the last proven revision before what is applied, where it is not barred
	Verdicts    []guard.Verdict         `json:"verdicts,omitempty"`
	Rollout     *Rollout                `json:"rollout,omitempty"` // under way
	MayNot      map[policy.Scope]string `json:"may_not,omitempty"` // what whoever is shown it may not do here, and for whom it is
	LastRollout int64                   `json:"last_rollout,omitempty"`

	Rev uint64 `json:"-"` // another one whenever anything but Looked changed; 0 where nobody counts
}

// Cohort is what is there at one revision.
type Cohort struct {
	Revision  declare.Fingerprint `json:"revision"`
	Version   string              `json:"version,omitempty"`
	Share     float64             `json:"share"`
	Preview   bool                `json:"preview,omitempty"` // the preview routes lead to it
	Parts     []Part              `json:"parts"`             // by name
	Instances []Instance          `json:"instances,omitempty"`
	Objects   []Object            `json:"objects,omitempty"` // of parts of objects
}

// Object is an object of a cluster's API, as a part of objects has it.
type Object struct {
	Part         string `json:"part"`
	ID           string `json:"id"`              // KIND/NAME
	There        bool   `json:"there"`           // as the revision has it
	Stays        bool   `json:"stays,omitempty"` // it is never taken away: it was there before, or is to be kept
	health.State `json:"state"`
}

// Part is a part as it is live, beside what was declared for it.
type Part struct {
	Name        string            `json:"name"`
	Kind        declare.Kind      `json:"kind"`
	Live        map[string]any    `json:"live"` // its observed fields
	Needs       []string          `json:"needs,omitempty"`
	Wanted      int               `json:"wanted"`                // instances declared
	Environment map[string]string `json:"environment,omitempty"` // as declared
	Orphan      bool              `json:"orphan,omitempty"`      // the revision does not declare it
}

// Instance is one running copy of a part as it was seen last.
type Instance struct {
	ID          string            `json:"id"`
	Part        string            `json:"part"`
	Address     string            `json:"address,omitempty"`
	Health      health.Instance   `json:"health"`
	Probes      []Probe           `json:"probes,omitempty"`
	Done        bool              `json:"done,omitempty"` // a task that ran to its end
	Environment map[string]string `json:"environment,omitempty"`
	Events      []Event           `json:"events,omitempty"`
	Ports       map[string]int    `json:"ports,omitempty"`
	Cores       float64           `json:"cores,omitempty"`  // of the processor, used lately
	Memory      uint64            `json:"memory,omitempty"` // bytes resident
	Found       bool              `json:"found,omitempty"`  // it ran before Aditus, and would run on without
}

// Event is something that happened to an instance, in the target's words.
type Event struct {
	At   time.Time `json:"at"`
	Text string    `json:"text"`
	Bad  bool      `json:"bad,omitempty"`
}

// Probe is a probe of an instance with its last answer.
type Probe struct {
	Name   string    `json:"name"`
	Asks   string    `json:"asks"`
	At     time.Time `json:"at,omitzero"`
	Passed bool      `json:"passed"`
	Reason string    `json:"reason,omitempty"`
	Passes int       `json:"passes"` // in a row
	Fails  int       `json:"fails"`
}

// Rollout is a rollout under way, with what was seen of it last.
type Rollout struct {
	rollout.State
	From     *berth.Revision `json:"from,omitempty"`
	To       *berth.Revision `json:"to"`
	OldSide  health.Summary  `json:"old_side"`
	NewSide  health.Summary  `json:"new_side"`
	Observed *guard.Estimate `json:"observed,omitempty"` // share of the requests that the new cohort answered
	Stale    string          `json:"stale,omitempty"`    // why nothing advances on what is known
}

// Moving tells whether something changes at the berth right now, by itself.
func (b Berth) Moving() bool {
	return b.Rollout != nil && b.Rollout.Phase != rollout.Waiting && b.Rollout.Phase != rollout.Held && b.Rollout.Phase != rollout.Proven
}

// Keeps tells whether a rollout is over but for the old set, which is kept for the way back to be at once.
func (b Berth) Keeps() bool { return b.Rollout != nil && b.Rollout.Phase == rollout.Proven }

// Find gives a berth of the snapshot.
func (s Snapshot) Find(id berth.ID) (Berth, bool) {
	for i := range s.Berths {
		if s.Berths[i].ID == id {
			return s.Berths[i], true
		}
	}
	return Berth{}, false
}
