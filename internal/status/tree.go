package status

import (
	"time"

	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/core/health"
)

// Node is one thing at a site, with what belongs to it below.
type Node struct {
	ID           string              `json:"id"` // stays the same from one look to the next
	Kind         string              `json:"kind"`
	Name         string              `json:"name"`
	Part         string              `json:"part,omitempty"`
	Revision     declare.Fingerprint `json:"revision,omitempty"` // of its cohort; empty for what all share
	health.State `json:"state"`
	Since        time.Time `json:"since,omitzero"` // it is there
	Restarts     int       `json:"restarts,omitempty"`
	Owner        string    `json:"owner,omitempty"`    // who looks after it, where that is not this line
	Note         string    `json:"note,omitempty"`     // what is to be known of it beside
	Instance     string    `json:"instance,omitempty"` // that it is, or runs in
	Below        []Node    `json:"below,omitempty"`
}

// Sheet is all that a site knows of one node.
type Sheet struct {
	ID          string               `json:"id"`
	Live        string               `json:"live"`               // as YAML; values of secrets are left out
	Declared    string               `json:"declared,omitempty"` // as YAML, where it is declared as it is
	Differences []compare.Difference `json:"differences,omitempty"`
	Conditions  []Condition          `json:"conditions,omitempty"`
	Others      []Holding            `json:"others,omitempty"` // who looks after fields of it beside this line
	Cores       float64              `json:"cores,omitempty"`  // of processors, that its pods have used lately; 0 where that is not known
	Memory      uint64               `json:"memory,omitempty"` // bytes, likewise
	Events      []Event              `json:"events,omitempty"` // oldest first
}

// Holding is fields of an object that somebody looks after.
type Holding struct {
	Owner  string    `json:"owner"`
	At     time.Time `json:"at,omitzero"` // of its last change
	Fields []string  `json:"fields"`      // such as spec.replicas; the first of them
	More   int       `json:"more,omitempty"`
}

// Condition is what a controller says of an object.
type Condition struct {
	Type    string    `json:"type"`
	Status  string    `json:"status"` // True, False or Unknown
	Reason  string    `json:"reason,omitempty"`
	Message string    `json:"message,omitempty"`
	Since   time.Time `json:"since,omitzero"`
}
