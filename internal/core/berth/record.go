package berth

import (
	"strings"
	"time"

	"aditus/internal/core/declare"
)

// ID names one workload at one site.
type ID struct {
	Workload string `json:"workload"`
	Site     string `json:"site"`
}

// String writes WORKLOAD/SITE, as the shell takes it.
func (b ID) String() string { return b.Workload + "/" + b.Site }

// ParseID reads WORKLOAD/SITE.
func ParseID(text string) (ID, bool) {
	workload, site, ok := strings.Cut(text, "/")
	return ID{workload, site}, ok && workload != "" && site != "" && !strings.Contains(site, "/")
}

// Bar keeps a revision from coming back.
type Bar struct {
	Revision declare.Fingerprint `json:"revision"`
	Version  string              `json:"version"`
	Why      string              `json:"why"`
	By       string              `json:"by"`
	At       time.Time           `json:"at"`
	Rollout  int64               `json:"rollout"`
}

// Lock keeps a berth as it is, with a message to colleagues.
type Lock struct {
	Message string    `json:"message"`
	By      string    `json:"by"`
	At      time.Time `json:"at"`
}

// String tells who locked it, and why.
func (l Lock) String() string { return l.By + ": " + l.Message }

// Left is a rollout that a person abandoned: a revision that serves beside the applied one.
type Left struct {
	Revision declare.Fingerprint `json:"revision"`
	Version  string              `json:"version"`
	Share    float64             `json:"share"`
	Why      string              `json:"why"`
	By       string              `json:"by"`
	At       time.Time           `json:"at"`
}

// Revision is a declared state with where it came from.
type Revision struct {
	Fingerprint declare.Fingerprint `json:"fingerprint"`
	Workload    string              `json:"workload"`
	Seq         int64               `json:"seq"` // order of appearance
	Version     string              `json:"version"`
	Commit      string              `json:"commit"`
	Subject     string              `json:"subject"`
	Author      string              `json:"author"`           // as the commit claims
	Signed      string              `json:"signed,omitempty"` // who vouches for it, where that is asked for
	At          time.Time           `json:"at"`
	Desired     *declare.Desired    `json:"-"`
}

// MadeBy tells whether somebody made a revision, or vouches for it.
func (r *Revision) MadeBy(name string) bool { return name == r.Author || name == r.Signed }

// By tells who made a revision, and how that is known.
func (r *Revision) By() string {
	switch r.Signed {
	case "":
		return r.Author + " (unsigned)"
	case r.Author:
		return r.Author + " (signed)"
	}
	return r.Author + " (signed by " + r.Signed + ")"
}
