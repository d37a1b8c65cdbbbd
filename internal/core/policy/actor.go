package policy

import "fmt"

// Actor is who asks for something. Nobody says it of oneself: whoever takes the request in knows it. The zero Actor may
// only look.
type Actor struct {
	Name   string   // of the account, the token, or the login
	Known  Known    // how that is known
	Owner  string   // of a token: whose it is; empty where it is a program's own
	Groups []string // as whoever they log in with tells
	From   string   // where it comes from, for the record
	Scopes []Scope
	Within Narrow // where these hold
}

// Known says how a name is known.
type Known string

// Ways to know a name.
const (
	ByAccount     Known = "account"     // of the operating system, by its word
	ByToken       Known = "token"       // the name that was given to it when it was made
	ByLogin       Known = "login"       // by the word of an identity provider
	ByCertificate Known = "certificate" // of a client, by who signed it
)

// named tells whether somebody else says who it is, and nobody here gave it any scope.
func (a Actor) named() bool { return a.Known == ByLogin || a.Known == ByCertificate }

func nameOf(a Actor) string {
	switch {
	case a.Person() == "":
		return "who has no name"
	case a.From == "":
		return a.Person()
	}
	return fmt.Sprintf("%s (%s)", a.Person(), a.From)
}
