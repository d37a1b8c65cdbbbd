//go:build !linux

package limit

import "os/exec"

// Group is a control group, which this system has none of.
type Group struct{}

// Make makes no group.
func Make(Limits, ...string) (Group, error) { return Group{}, ErrCannot }

// Can tells that none can be made.
func Can() bool { return false }

// Find finds none.
func Find(...string) Group { return Group{} }

// Enter holds a command to nothing.
func (Group) Enter(*exec.Cmd) (done func(), err error) { return func() {}, nil }

// Of tells nothing.
func Of(int, ...string) (Limits, bool, error) { return Limits{}, false, ErrCannot }

// Holds tells that it holds nothing.
func (Group) Holds() bool { return false }

// OutOfMemory is never.
func (Group) OutOfMemory() uint64 { return 0 }

// End ends nothing.
func (Group) End() error { return nil }
