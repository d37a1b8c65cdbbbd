// Package agent has a site of a container host on another machine work there: a container of this very program keeps its containers, leads its
// traffic and asks their probes, and goes on when the server that leads ends or cannot reach it. Run is that program. Link is the server's end: it
// brings the program to the machine, speaks with it through the engine's API alone, and gives each site there as a target.Driver. What only the
// server has, images and opened secrets, is asked for from there.
package agent

import (
	"context"
	"time"

	"aditus/internal/core/signal"
	"aditus/internal/status"
	"aditus/internal/target"
)

// Site is a site as it works on its machine.
type Site interface {
	target.Driver
	target.Follower
	target.Rememberer
	target.Finder
	target.Grounded
	target.Pledger
}

// Setup is what an agent is told when it is reached.
type Setup struct {
	Server string    `json:"server"` // who tells it
	Now    time.Time `json:"now"`    // by the server's clock
	Sites  []Works   `json:"sites"`  // that work there: all of them, and no others

	Engine Credentials `json:"engine,omitzero"` // with which the engine is asked there too
	Called string      `json:"called"`          // what the server calls the engine
}

// Credentials are those that an engine by tcp+tls asks for, in PEM.
type Credentials struct {
	CA          string `json:"ca,omitempty"`
	Certificate string `json:"certificate,omitempty"`
	Key         string `json:"key,omitempty"`
}

// Works is a site that is to work on its machine.
type Works struct {
	Name   string `json:"name"`
	Listen string `json:"listen,omitempty"` // where HTTP traffic comes in
	Ports  [2]int `json:"ports"`            // the first and the last that instances are given
}

// Hello is how an agent introduces itself.
type Hello struct {
	Program string `json:"program"` // what it was brought as
	PID     int    `json:"pid"`
	Leads   bool   `json:"leads"` // all that works there is of this program
}

// News is what an agent says by itself. One that says nothing is a sign that it still can.
type News struct {
	Site     string   `json:"site,omitempty"` // something is new there,
	Workload string   `json:"workload,omitempty"`
	Used     []string `json:"used,omitempty"`   // artifacts that its sites are asked to have, all of them
	Asked    []string `json:"asked,omitempty"`  // of these, those that are not at the engine
	Gone     []string `json:"gone,omitempty"`   // of these, those that were there and are no more
	Sealed   []string `json:"sealed,omitempty"` // values of secrets that are to be opened
}

// Artifact is what became of one that was asked for.
type Artifact struct {
	Image   string `json:"image,omitempty"` // as the engine has it; empty while it does not
	Why     string `json:"why,omitempty"`   // it does not
	Working bool   `json:"working,omitempty"`
	Final   bool   `json:"final,omitempty"` // asking again changes nothing
}

// Opened is a value of a secret.
type Opened struct {
	Plain string `json:"plain,omitempty"`
	Mark  string `json:"mark,omitempty"` // its fingerprint
	Why   string `json:"why,omitempty"`  // it cannot be opened
}

// The questions to a site, each at /sites/NAME/QUESTION.
const (
	askObserve    = "observe"
	askApply      = "apply"
	askExec       = "exec"
	askRestart    = "restart"
	askMeasure    = "measure"
	askLog        = "log"
	askStrays     = "strays"
	askPledge     = "pledge"
	askGround     = "ground"
	askRemembered = "remembered"
	askRemembers  = "remembers"
)

// about is what a question is about. Each has what it needs of it.
type about struct {
	Workload string            `json:"workload,omitempty"`
	Instance string            `json:"instance,omitempty"`
	Revision string            `json:"revision,omitempty"`
	Command  []string          `json:"command,omitempty"`
	Since    time.Time         `json:"since,omitzero"`
	Most     int               `json:"most,omitempty"`
	Wants    []target.Want     `json:"wants,omitempty"`
	Opened   map[string]Opened `json:"opened,omitempty"` // the sealed values of what is wanted
	Parts    map[string]string `json:"parts,omitempty"`
}

// answer is what a site says. An error is told beside what is known all the same.
type answer struct {
	Observed   *target.Observation    `json:"observed,omitempty"`
	Said       string                 `json:"said,omitempty"`
	Measured   map[string]signal.Page `json:"measured,omitempty"`
	Lines      []target.LogLine       `json:"lines,omitempty"`
	Strays     []status.Stray         `json:"strays,omitempty"`
	Ground     *status.Ground         `json:"ground,omitempty"`
	Remembered *target.Remembered     `json:"remembered,omitempty"`
	Workloads  []string               `json:"workloads,omitempty"`
	Error      string                 `json:"error,omitempty"`
	Is         string                 `json:"is,omitempty"` // which of the errors that are told apart it is
}

// apart are the errors that are told apart, by name.
var apart = map[string]error{"unreachable": target.ErrUnreachable, "no-instance": target.ErrNoInstance, "no-artifact": target.ErrNoArtifact, "cancelled": context.Canceled, "late": context.DeadlineExceeded}
