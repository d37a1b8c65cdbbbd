// Package limit holds processes to a share of the machine: memory, processors, and how many there are, by control groups of either version.
package limit

import "errors"

// Limits are the most that an instance may have of the machine; 0 where nothing is said.
type Limits struct {
	CPU       float64 `json:"cpu,omitempty"`    // processors
	Memory    int64   `json:"memory,omitempty"` // bytes
	Processes int     `json:"processes,omitempty"`
}

// LeastCPU is the least processor time that a group can be held to.
const LeastCPU = 0.01

// ErrCannot means that this system, or the account, holds nobody to limits.
var ErrCannot = errors.New("limits are not held here: it takes control groups that this account may make")
