// Package target is what a site runs on, behind one driver interface. Drivers are dumb: they observe, make what is
// wanted so, run commands and read logs. They take no decisions.
package target

import (
	"context"
	"net/http"
	"strings"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/core/health"
	"aditus/internal/core/signal"
	"aditus/internal/status"
)

// ErrUnreachable means that the site did not answer. Nothing is known of what is there.
var ErrUnreachable = fault.New(fault.ErrUnreachable, "the site cannot be reached")

// Berth is a workload at the driver's site.
type Berth = string

// Driver is a site's target. All of its methods may block, are safe for concurrent use, and do no harm when called
// twice with the same arguments.
type Driver interface {
	// Observe tells what is there now.
	Observe(ctx context.Context, workload Berth) (Observation, error)
	// Apply makes what is wanted so, one after the other, and goes on where one of them fails. What is not named stays as
	// it is, so that what a person changed there is never overwritten by the way.
	Apply(ctx context.Context, workload Berth, wants []Want) error
	// Exec runs a command within an instance and tells in a few words why it did not end with status 0; empty where it
	// did.
	Exec(ctx context.Context, workload Berth, instance string, command []string) (reason string, err error)
	// Restart starts an instance's process anew.
	Restart(ctx context.Context, workload Berth, instance string) error
	// Measure gives what the site itself counts and measures of each of a workload's instances, so that guards can use it
	// whatever they expose: RequestsMetric and TookMetric of what its routes lead there, and what they use of the machine.
	Measure(ctx context.Context, workload Berth) (map[string]signal.Page, error)
	// Log gives the newest lines that an instance wrote since a moment, oldest first, at most so many.
	Log(ctx context.Context, workload Berth, instance string, since time.Time, most int) ([]LogLine, error)
}

// Follower is a driver that hears of changes at its site by itself, so that they are seen at once, and what is calm need
// not be looked at time and again.
type Follower interface {
	// Follow keeps what Observe tells new until ctx ends, and calls changed with a workload whenever there is something
	// new of it. changed does not block.
	Follow(ctx context.Context, changed func(workload Berth))
}

// Rooted is a driver of a site that knows what belongs to what there, down to what runs in an instance.
type Rooted interface {
	// Tree gives all that is there of a workload.
	Tree(ctx context.Context, workload Berth) ([]status.Node, error)
	// Sheet gives all that is known of one node of the tree.
	Sheet(ctx context.Context, workload Berth, node string) (status.Sheet, error)
}

// Grounded is a driver that knows what its site stands on.
type Grounded interface {
	// Ground tells it, with what is wrong there, and fails where it does not answer. What is known is told with an error too.
	Ground(ctx context.Context) (status.Ground, error)
}

// Finder is a driver that finds what is at its site and nobody put there through Aditus.
type Finder interface {
	// Strays tells what there is that could be declared, and taken over as it is. What could not be looked for is told too, as a stray
	// that cannot be taken over.
	Strays(ctx context.Context) ([]status.Stray, error)
}

// Pledger is a driver of a site whose strays are taken over as parts, which it has to remember.
type Pledger interface {
	// Pledge has strays, by ID, be the first instances of parts of a workload, by name, once these are asked for and are still what they run.
	Pledge(workload Berth, parts map[string]string) error
}

// StrayName makes a name that a workload can have.
func StrayName(text string) string {
	return strings.Trim(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-' {
			return r
		}
		return '-'
	}, strings.ToLower(text)), "-")
}

// Rememberer is a driver of a site that knows by itself what it was asked to run, also when nobody else does any more.
type Rememberer interface {
	// Remembered gives a revision that the site was prepared for; nil where it does not know more than its name.
	Remembered(workload Berth, revision declare.Fingerprint) *berth.Revision
	// Remembers names the workloads that something was asked of, as far as that is known without asking the site.
	Remembers() []Berth
}

// Placer is a driver of a site that takes objects of a cluster's API as they are, and says beforehand what it would make of a
// revision.
type Placer interface {
	// Try asks the site what it would make of a revision, and changes nothing.
	Try(ctx context.Context, workload Berth, desired declare.Desired) ([]Trial, error)
}

// Trial is what a site would make of a part, or of one of its objects.
type Trial struct {
	Part, ID string   // ID is empty for what is not an object that is declared as it is
	Refused  string   // why it would not take it; empty where it would
	Told     []string // what it would make otherwise than it is declared, and what it would take over
}

// What a site measures of an instance, by names that no instance uses itself, and two that many do; and how often it was started anew.
const (
	RequestsMetric    = declare.RequestsMetric
	TookMetric        = declare.TookMetric
	ConnectionsMetric = declare.ConnectionsMetric
	MemoryMetric      = declare.MemoryMetric
	ProcessorMetric   = declare.ProcessorMetric
	RestartsMetric    = declare.RestartsMetric
)

// ErrNoInstance means that there is no such instance, or none any more.
var ErrNoInstance = fault.New(fault.ErrNotFound, "there is no such instance")

// LogLine is a line that an instance wrote.
type LogLine struct {
	At     time.Time `json:"at"`
	Stream string    `json:"stream,omitempty"` // out or err; empty where it is not known
	Text   string    `json:"text"`
}

// Observation is what is at a site of one workload.
type Observation struct {
	Cohorts []Cohort
	Whole   bool   // the target cannot split traffic: the numbers of instances do
	Trouble string // why traffic does not come in as it should, though the site answers; empty where it does
	Step    int64  // that the site was last told by a Note; 0 for none

	TakesOver bool     // it knows Take
	Told      []string // what a sync would take over there, as it runs
}

// Cohort is all instances at one revision.
type Cohort struct {
	Revision  declare.Fingerprint
	Share     float64 // of the traffic, from 0 to 1
	Preview   bool    // the preview routes lead to it
	Live      compare.Live
	Instances []Instance
	Objects   []Object          // of parts of objects, as this revision has them
	Owners    map[string]string // by JSON Pointer into Live: who set what is there, where that was not us
}

// Object is an object of the site's API that a part of objects has.
type Object struct {
	Part, ID string
	There    bool // it is as the revision has it
	Stays    bool // it is never taken away
	health.State
}

// Instance is one running copy of a part.
type Instance struct {
	ID          string
	Part        string
	Address     string // host of its ports, as seen from here; empty while there is none
	Ports       map[string]int
	Started     time.Time
	Restarts    []time.Time
	Again       time.Time         // when the target starts it again, where it waits with that
	CannotStart string            // why it will never come up, in the target's words
	Reason      string            // what the target knows of why it is not up now
	Waits       string            // it runs, and why nothing is led to it yet; empty where something is, or could be
	Ails        string            // it runs, and what its target says against it, beside all probes; empty for nothing
	Done        bool              // a task that ran to its end
	Failed      string            // a task that did not, and why
	Environment map[string]string // as the instance has it
	Events      []status.Event    // oldest first, the last few
	Cores       float64           // of the processor, that it has used lately; 0 where that is not known
	Memory      uint64            // bytes resident; 0 where that is not known
	Told        map[string]string // probes that the target asks by itself, and why each does not pass; empty where it does
	Found       bool              // it ran before anybody had it run here, and would run on without
	Through     http.RoundTripper `json:"-"` // the way to its HTTP ports, to all others too where it is a dial.Way; nil for the network
}

// Cohort gives the cohort of a revision.
func (o Observation) Cohort(revision declare.Fingerprint) (Cohort, bool) {
	for _, c := range o.Cohorts {
		if c.Revision == revision {
			return c, true
		}
	}
	return Cohort{}, false
}
