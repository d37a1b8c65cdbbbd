// Package policy says what it takes to be allowed to do something, and who is.
package policy

import (
	"slices"

	"aditus/internal/core/say"
)

// Scope is what somebody may do. Each stands for itself alone but for what it includes, and whoever has any may look.
type Scope string

// Scopes, the highest last.
const (
	Look       Scope = "look"        // see all that there is
	Sync       Scope = "sync"        // sync, advance, hold, let go on, roll back, abandon
	SignOff    Scope = "sign off"    // give a stage its sign-off
	Lock       Scope = "lock"        // lock and unlock
	Override   Scope = "override"    // pass over what the line's rules put in the way
	RemoveData Scope = "remove data" // what volumes hold
	Change     Scope = "change"      // lift bars, links, settings, offers on branches, ends of life
)

// Scopes are all of them.
var Scopes = []Scope{Look, Sync, SignOff, Lock, Override, RemoveData, Change}

// included are scopes that others have in them, in what a token may: they were parted from these.
var included = map[Scope][]Scope{Sync: {Override}, Change: {Lock, RemoveData}}

// includes tells whether what somebody may has something else in it.
func (s Scope) includes(other Scope) bool { return s == other || slices.Contains(included[s], other) }

// Highest is what is needed of what nobody knows.
const Highest = Change

// Words are all scopes, in a sentence.
func Words() string {
	var all []string
	for _, s := range Scopes {
		all = append(all, string(s))
	}
	return say.List(all)
}
