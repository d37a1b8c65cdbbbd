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
