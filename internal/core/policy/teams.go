package policy

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"aditus/internal/core/fault"
	"aditus/internal/core/say"
)

// Teams are the teams of a line, by name. Where there are none, whoever is let in does what the scopes of the token say, or everything
// where the account owns the line.
type Teams map[string]Team

// Policy is who may do what in a line.
type Policy struct {
	Teams Teams             `json:"teams,omitempty"`
	Sites map[string]string `json:"-"` // the team whose site each is
}

// Open tells whether everybody may do all that the scopes of whoever asks say.
func (p Policy) Open() bool { return len(p.Teams) == 0 }

// May tells why somebody may not do what needs all of some scopes for a workload at a site; nil where they may. With neither it is about
// the line as a whole.
func (p Policy) May(a Actor, workload, site string, needs ...Scope) error {
	return p.Teams.May(a, Place{Workload: workload, Site: site, Team: p.Sites[site]}, needs...)
}

// Somewhere tells why somebody may do nothing that needs a scope, wherever it is; nil where there may be such a place.
func (p Policy) Somewhere(a Actor, scope Scope) error {
	own := a
	own.Within = Narrow{}
	if err := own.may(scope, Place{}); err != nil || p.Open() {
		return cmp.Or(err, p.Teams.May(own, Place{}, scope))
	}
	for _, team := range p.Teams {
		if team.has(a) && slices.ContainsFunc(team.May, func(r Right) bool { return scope == Look || slices.Contains(r.Do, scope) }) {
			return nil
		}
	}
	return p.Teams.May(a, Place{}, scope)
}

// MayNot tells what somebody may not do for a workload at a site, and for whom it is, by scope; nil where they may do everything.
func (p Policy) MayNot(a Actor, workload, site string) map[Scope]string {
	var not map[Scope]string
	at := Place{Workload: workload, Site: site, Team: p.Sites[site]}
	for _, scope := range Scopes {
		if p.Teams.May(a, at, scope) == nil {
			continue
		}
		if not == nil {
			not = map[Scope]string{}
		}
		switch {
		case a.may(scope, at) != nil && a.Known == ByToken:
			not[scope] = "another token"
		case p.Open():
			not[scope] = "nobody who logs in, as the line has no teams"
		default:
			not[scope] = p.Teams.who(scope, at)
		}
	}
	return not
}

// Team is some people and what they may.
type Team struct {
	People []string `json:"people,omitempty"` // names: of accounts, of owners of tokens, of tokens without one, of logins; * for anyone
	Groups []string `json:"groups,omitempty"` // that whoever they log in with tells
	May    []Right  `json:"may,omitempty"`
}

// Right is what a team may, and where.
type Right struct {
	Do []Scope `json:"do"`
	Narrow
}

// Narrow says where something holds: for all that its patterns leave, in which * stands for any text.
type Narrow struct {
	Workloads []string `json:"workloads,omitempty"`
	Sites     []string `json:"sites,omitempty"`
	Teams     []string `json:"teams,omitempty"` // whose sites they are
}

// Whole tells whether it leaves out nothing.
func (n Narrow) Whole() bool { return len(n.Workloads)+len(n.Sites)+len(n.Teams) == 0 }

// Place is what is asked about: a berth, or with the zero Place the line as a whole.
type Place struct {
	Workload, Site string
	Team           string // whose site it is
}

func (p Place) String() string {
	if p.Workload == "" {
		return "the line"
	}
	return p.Workload + " at " + p.Site
}

// holds tells whether it holds at a place.
func (n Narrow) holds(at Place) bool {
	if n.Whole() {
		return true
	}
	if at == (Place{}) {
		return false
	}
	return fits(n.Workloads, at.Workload) && fits(n.Sites, at.Site) && fits(n.Teams, at.Team)
}

func fits(patterns []string, name string) bool {
	return len(patterns) == 0 || slices.ContainsFunc(patterns, func(p string) bool {
		ok, _ := path.Match(p, name) // one that is none was refused when it was read
		return ok
	})
}

// has tells whether somebody is of a team.
func (t Team) has(a Actor) bool {
	return a.Name != "" && (slices.Contains(t.People, a.Person()) || slices.Contains(t.People, Anyone)) ||
		slices.ContainsFunc(a.Groups, func(group string) bool { return slices.Contains(t.Groups, group) })
}

// Anyone stands for whoever is let in.
const Anyone = "*"

// may tells whether the team may do what needs a scope.
func (t Team) may(scope Scope, at Place) bool {
	return slices.ContainsFunc(t.May, func(r Right) bool {
		return r.holds(at) && (scope == Look || slices.Contains(r.Do, scope))
	})
}

// May tells why somebody may not do what needs all of some scopes at a place; nil where they may. It is the one place where that is
// decided, for every face: what a token may, and where; and what a team of the person may, where the line has teams.
func (t Teams) May(a Actor, at Place, needs ...Scope) error {
	for _, scope := range needs {
		if err := a.may(scope, at); err != nil {
			return err
		}
		if len(t) == 0 {
			if scope != Look && a.named() {
				return fault.New(fault.ErrForbidden, "%s may not %s: the line has no teams, and without them who logs in may only look; write teams: into its line.yaml", nameOf(a), phrase(scope, at))
			}
			continue
		}
		allowed := false
		for _, team := range t {
			allowed = allowed || team.may(scope, at) && team.has(a)
		}
		if !allowed {
			return fault.New(fault.ErrForbidden, "%s may not %s: that is for %s", nameOf(a), phrase(scope, at), t.who(scope, at))
		}
	}
	return nil
}

// who names the teams that may do something at a place, with their people.
func (t Teams) who(scope Scope, at Place) string {
	var all []string
	for name, team := range t {
		if !team.may(scope, at) {
			continue
		}
		if people := slices.Concat(team.People, team.Groups); len(people) > 0 {
			name += " (" + strings.Join(people[:min(len(people), mostNamed)], ", ")
			if more := len(people) - mostNamed; more > 0 {
				name += fmt.Sprintf(" and %d more", more)
			}
			name += ")"
		}
		all = append(all, name)
	}
	if len(all) == 0 {
		return "nobody; the line's teams say so"
	}
	slices.Sort(all)
	return say.Or(all)
}

// mostNamed is how many people of a team are named.
const mostNamed = 4

// phrase says what a scope lets one do at a place.
func phrase(s Scope, at Place) string {
	switch s {
	case Look:
		return "look at " + at.String()
	case Override:
		return "pass over what is in the way of " + at.String()
	case RemoveData:
		return "remove data of " + at.String()
	}
	return string(s) + " " + at.String()
}

// may tells what the actor's own scopes say of it: those of a token, and where it holds.
func (a Actor) may(scope Scope, at Place) error {
	if !a.Within.holds(at) {
		return fault.New(fault.ErrForbidden, "%s is not for %s", a.shown(), at)
	}
	if scope == Look || slices.ContainsFunc(a.Scopes, func(own Scope) bool { return own.includes(scope) }) {
		return nil
	}
	if a.Known == ByToken {
		return fault.New(fault.ErrForbidden, "%s may not %s: make one with aditus token add NAME --scope %q", a.shown(), phrase(scope, at), scope)
	}
	return fault.New(fault.ErrForbidden, "%s may not %s", nameOf(a), phrase(scope, at))
}

// shown is what was shown to be let in.
func (a Actor) shown() string {
	if a.Known == ByToken {
		return "the token " + a.Name
	}
	return nameOf(a)
}

// Person is in whose name it goes on record: whoever owns the token, or what was let in itself.
func (a Actor) Person() string { return cmp.Or(a.Owner, a.Name) }
