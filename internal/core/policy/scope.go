// Package policy says what an order needs of whoever gives it.
package policy

// Scope is what somebody may do. Each stands for itself alone, and whoever has any may look.
type Scope string

// Scopes, the highest last.
const (
	Look    Scope = "look"     // see all that there is
	Sync    Scope = "sync"     // sync, advance, hold, let go on, roll back, abandon
	SignOff Scope = "sign off" // give a stage its sign-off
	Change  Scope = "change"   // lock and unlock, lift bars, links, offers on branches
)

// Scopes are all of them.
var Scopes = []Scope{Look, Sync, SignOff, Change}

// Highest is what is needed of what nobody knows.
const Highest = Change
