package status

import (
	"time"

	"aditus/internal/core/course"
)

// Course is what would move when, for one workload.
type Course struct {
	Workload string       `json:"workload"`
	Course   string       `json:"course"` // its name; empty where none is for the workload
	On       bool         `json:"on"`
	Version  string       `json:"version,omitempty"` // that is foreseen
	Train    string       `json:"train,omitempty"`
	With     []string     `json:"with,omitempty"` // the workloads that ride in the train too
	Legs     []course.Leg `json:"legs"`
	Now      time.Time    `json:"now"`
}

// Calendar is what happens in a line between two moments, as far as it is known.
type Calendar struct {
	Line    string            `json:"line"`
	Now     time.Time         `json:"now"`
	From    time.Time         `json:"from"`
	Until   time.Time         `json:"until"`
	Sites   []string          `json:"sites"` // in course order
	Teams   map[string]string `json:"teams,omitempty"`
	Entries []course.Entry    `json:"entries"` // by when they begin
}
