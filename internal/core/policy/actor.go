package policy

import (
	"fmt"
	"slices"

	"aditus/internal/core/fault"
)

// Actor is who asks for something. Nobody says it of oneself: whoever takes the request in knows it. The zero Actor may
// only look.
type Actor struct {
	Name   string // in whose name it goes on record
	Known  Known  // how that is known
	From   string // where it comes from, for the record
	Scopes []Scope
}

// Known says how a name is known.
type Known string

// Ways to know a name.
const (
	ByAccount Known = "account" // of the operating system, by its word
	ByToken   Known = "token"   // the name that was given to it when it was made
)

// May tells why the actor may not do what needs a scope; nil where it may.
func (a Actor) May(scope Scope) error {
	switch {
	case scope == Look || slices.Contains(a.Scopes, scope):
		return nil
	case a.Known == ByToken:
		return fault.New(fault.ErrForbidden, "the token %s may not %s: make one with aditus token add NAME --scope %q", a.Name, scope, scope)
	}
	return fault.New(fault.ErrForbidden, "%s may not %s", nameOf(a), scope)
}

func nameOf(a Actor) string {
	if a.Name == "" {
		return "who has no name"
	}
	return fmt.Sprintf("%s (%s)", a.Name, a.From)
}
