package declare

import (
	"fmt"
	"path"
	"slices"
	"time"

	"github.com/robfig/cron/v3"

	"aditus/internal/core/calendar"
	"aditus/internal/core/policy"
)

// Line is what may happen in a line, when and by whom. Where things are is not its matter.
type Line struct {
	Roles   map[string][]string `json:"roles,omitempty"` // who has each; * for anyone
	Sites   map[string]LineSite `json:"sites,omitempty"`
	Courses []Course            `json:"courses,omitempty"`
	Trains  map[string][]string `json:"trains,omitempty"` // workloads that move through their course together, by the train's name
	Windows []Window            `json:"windows,omitempty"`
	Freezes []Window            `json:"freezes,omitempty"`

	Schedules []Schedule `json:"schedules,omitempty"`
	Ends      []End      `json:"ends,omitempty"`
	Branches  []Branches `json:"branches,omitempty"`
	Floors    []Floor    `json:"floors,omitempty"`
	Notices   []Notice   `json:"notices,omitempty"`

	Teams      policy.Teams `json:"teams,omitempty"`
	TwoPersons bool         `json:"two-persons,omitempty"` // who made a commit signs none of what it brings off
}

// LineSite is what a line says of one of its sites.
type LineSite struct {
	Team  string    `json:"team,omitempty"` // a role, whose site it is
	Drift LineDrift `json:"drift,omitzero"`
}

// LineDrift says what becomes of changes made by hand at a site.
type LineDrift struct {
	Look   string `json:"look,omitempty"` // a cron schedule; empty for always
	Then   string `json:"then,omitempty"` // tell or correct; empty for tell
	Notice Span   `json:"notice,omitzero"`
}

// Course is the way of revisions through sites.
type Course struct {
	Name      string   `json:"name"`
	On        bool     `json:"on,omitempty"`
	Workloads []string `json:"workloads,omitempty"` // patterns; empty for all that no other course names
	Override  []string `json:"override,omitempty"`  // names and roles that may pass over its waits, with a reason
	Steps     []Step   `json:"steps"`
}

// Step is a part of a course: sites that take revisions alike.
type Step struct {
	Sites   []string `json:"sites"`
	Off     bool     `json:"off,omitempty"`
	After   []string `json:"after,omitempty"` // sites that must have proven a revision
	Any     bool     `json:"any,omitempty"`   // one of these is enough
	For     Span     `json:"for,omitzero"`    // since it was proven there
	SignOff *SignOff `json:"sign-off,omitempty"`
	Consent *Consent `json:"consent,omitempty"`
	AtOnce  int      `json:"at-once,omitempty"` // sites that take it at a time; 0 for all
	Back    Back     `json:"back,omitempty"`
}

// SignOff is whose go-ahead a step asks for.
type SignOff struct {
	By     []string `json:"by"` // names and roles
	Count  int      `json:"count"`
	Others bool     `json:"others,omitempty"` // the author of the commit does not count
}

// Consent is that a site takes a revision when its team says so.
type Consent struct {
	By      []string `json:"by,omitempty"`      // names and roles; the site's team where there are none
	LastDay Span     `json:"last-day,omitzero"` // after the offer: then it is taken without; 0 for never
	Notice  Span     `json:"notice,omitzero"`   // how long before that it is announced
}

// Back is what becomes of a step's other sites when a revision is rolled back at one of them.
type Back string

const (
	BackStops  Back = "stop"  // those that have not taken it do not
	BackGoesOn Back = "go on" // they are not concerned
	BackAll    Back = "all"   // those that have it go back too
)

// Window is times in which things may move, or in which nothing may.
type Window struct {
	Name string `json:"name"`
	Selector
	calendar.Times
	Caught   Caught   `json:"caught,omitempty"`
	Override []string `json:"override,omitempty"` // names and roles that may pass over it, with a reason
}

// Caught is what becomes of a rollout that is under way when a window ends or a freeze begins.
type Caught string

const (
	CaughtFinishes Caught = "finish"
	CaughtHolds    Caught = "hold"
)

// mostWindows is how many windows, and freezes, a line may have.
const mostWindows = 100

// LineFile is the name of the file that has a line's rules, in the folder of the link that the settings name for it.
const LineFile = "line.yaml"

// ReadLine checks a document and gives the rules that it declares; they are only worth using where there are no problems.
func ReadLine(document Node) (Line, Problems) {
	r := &reader{}
	var l Line
	courses, trains := map[string]Node{}, map[string]Node{}
	r.fields(document, "", "a line", []string{"aditus"}, map[string]func(Node, string){
		"aditus": r.format,
		"roles": func(n Node, p string) {
			l.Roles = map[string][]string{}
			r.entries(n, p, "roles", func(name string, _, value Node, p string) { l.Roles[name] = r.people(value, p, "a role") })
		},
		"sites": func(n Node, p string) {
			l.Sites = map[string]LineSite{}
			r.entries(n, p, "sites", func(name string, key, value Node, p string) {
				if r.name(key, p, "a site") != "" {
					l.Sites[name] = r.lineSite(value, p)
				}
			})
		},
		"courses": func(n Node, p string) {
			r.entries(n, p, "courses", func(name string, key, value Node, p string) {
				if r.name(key, p, "a course") != "" {
					courses[name] = value
					l.Courses = append(l.Courses, r.course(name, value, p))
				}
			})
		},
		"trains": func(n Node, p string) {
			l.Trains = map[string][]string{}
			r.entries(n, p, "trains", func(name string, key, value Node, p string) {
				if r.name(key, p, "a train") != "" {
					trains[name], l.Trains[name] = value, r.names(value, p, "a train", "a workload")
				}
			})
		},
		"windows":   func(n Node, p string) { l.Windows = r.windows(n, p, "windows") },
		"freezes":   func(n Node, p string) { l.Freezes = r.windows(n, p, "freezes") },
		"schedules": func(n Node, p string) { l.Schedules = r.schedules(n, p) },
		"ends":      func(n Node, p string) { l.Ends = r.ends(n, p) },
		"branches":  func(n Node, p string) { l.Branches = r.branches(n, p) },
		"floors":    func(n Node, p string) { l.Floors = r.floors(n, p) },
		"notices":   func(n Node, p string) { l.Notices = r.notices(n, p) },
		"teams": func(n Node, p string) {
			l.Teams = policy.Teams{}
			r.entries(n, p, "teams", func(name string, _, value Node, p string) { l.Teams[name] = r.team(value, p) })
		},
		"two-persons": func(n Node, p string) { l.TwoPersons = r.bool(n, p, "two-persons") },
	})
	r.whole(&l, document, courses, trains)
	r.problems.Sort()
	return l, r.problems
}

// whole checks what shows only when all is read: who plays a role, whose window it is, which course is a workload's.
func (r *reader) whole(l *Line, document Node, courses, trains map[string]Node) {
	rest := ""
	for _, c := range l.Courses {
		if len(c.Workloads) == 0 {
			if rest != "" {
				r.wrong(courses[c.Name], "/courses/"+Escape(c.Name), "name its workloads: with patterns", "it is for all workloads, as the course %s is", rest)
			}
			rest = c.Name
		}
	}
	riding := map[string]string{}
	for _, train := range keysOf(l.Trains) {
		for _, workload := range l.Trains[train] {
			if other := riding[workload]; other != "" {
				r.wrong(trains[train], "/trains/"+Escape(train), "let it ride in one of them", "%s rides in the train %s already", workload, other)
			}
			riding[workload] = train
			first := l.CourseOf(l.Trains[train][0])
			if c := l.CourseOf(workload); c == nil || first == nil || c.Name != first.Name {
				r.wrong(trains[train], "/trains/"+Escape(train), "", "%s and %s have not the same course", l.Trains[train][0], workload)
			}
		}
	}
	for name, team := range l.Teams {
		if _, listed := l.Roles[name]; !listed && len(team.People) > 0 {
			if l.Roles == nil {
				l.Roles = map[string][]string{}
			}
			l.Roles[name] = team.People
		}
	}
	teams := func(name string, s Selector) {
		for _, team := range s.Teams {
			if !slices.ContainsFunc(keysOf(l.Sites), func(site string) bool { return l.Sites[site].Team == team }) {
				r.wrong(document, "", "write sites: {SITE: {team: "+team+"}}", "%s is for the team %s, which has no site", name, team)
			}
		}
	}
	for _, w := range slices.Concat(l.Windows, l.Freezes) {
		teams(w.Name, w.Selector)
	}
	for _, s := range l.Schedules {
		teams(s.Name, s.Selector)
	}
	for _, e := range l.Ends {
		teams(e.Name, e.Selector)
	}
	for _, f := range l.Floors {
		teams(f.Name, f.Selector)
	}
	for _, n := range l.Notices {
		teams(n.Name, n.Selector)
	}
}

// SitesNamed gives the sites, and patterns of sites, that the rules name, by JSON Pointer.
func (l *Line) SitesNamed() map[string][]string {
	named := map[string][]string{}
	for site := range l.Sites {
		named["/sites/"+Escape(site)] = []string{site}
	}
	for _, c := range l.Courses {
		for i, step := range c.Steps {
			named[fmt.Sprintf("/courses/%s/steps/%d/sites", Escape(c.Name), i)] = step.Sites
		}
	}
	for key, windows := range map[string][]Window{"windows": l.Windows, "freezes": l.Freezes} {
		for i, w := range windows {
			named[fmt.Sprintf("/%s/%d/sites", key, i)] = w.Sites
		}
	}
	for i, s := range l.Schedules {
		named[fmt.Sprintf("/schedules/%d/sites", i)] = s.Sites
	}
	for i, e := range l.Ends {
		named[fmt.Sprintf("/ends/%d/sites", i)] = e.Sites
	}
	for i, n := range l.Notices {
		named[fmt.Sprintf("/notices/%d/sites", i)] = n.Sites
	}
	for i, f := range l.Floors {
		named[fmt.Sprintf("/floors/%d/sites", i)] = f.Sites
	}
	for i, b := range l.Branches {
		named[fmt.Sprintf("/branches/%d/site", i)] = []string{b.Site}
	}
	return named
}

// Selects tells whether something is for a berth.
func (l *Line) Selects(s *Selector, workload, site string) bool {
	return (len(s.Sites) == 0 || Matches(s.Sites, site)) && (len(s.Workloads) == 0 || Matches(s.Workloads, workload)) &&
		(len(s.Teams) == 0 || slices.Contains(s.Teams, l.Sites[site].Team))
}

// FloorsOf gives the floors that are for a berth.
func (l *Line) FloorsOf(workload, site string) (all []Floor) {
	for _, f := range l.Floors {
		if l.Selects(&f.Selector, workload, site) {
			all = append(all, f)
		}
	}
	return all
}

// CourseOf gives a workload's course: the first that names it, or else the one that names none; nil where there is none.
func (l *Line) CourseOf(workload string) *Course {
	var rest *Course
	for i := range l.Courses {
		switch c := &l.Courses[i]; {
		case len(c.Workloads) == 0:
			rest = c
		case Matches(c.Workloads, workload):
			return c
		}
	}
	return rest
}

// StepOf gives the step that has a site; nil where none has.
func (c *Course) StepOf(site string) *Step {
	for i := range c.Steps {
		if slices.Contains(c.Steps[i].Sites, site) {
			return &c.Steps[i]
		}
	}
	return nil
}

// TrainOf gives the workloads that ride with one, without itself.
func (l *Line) TrainOf(workload string) (name string, with []string) {
	for _, train := range keysOf(l.Trains) {
		if riding := l.Trains[train]; slices.Contains(riding, workload) {
			for _, other := range riding {
				if other != workload {
					with = append(with, other)
				}
			}
			return train, with
		}
	}
	return "", nil
}

// Matches tells whether one of several patterns, in which * stands for any text, fits a name.
func Matches(patterns []string, name string) bool {
	return slices.ContainsFunc(patterns, func(pattern string) bool { fits, _ := path.Match(pattern, name); return fits })
}

func (r *reader) people(n Node, p, what string) []string {
	people := r.list(n, p, what)
	if n.Kind == List && len(people) == 0 {
		r.wrong(n, p, "write [NAME], or [\"*\"] for anyone", "%s is nobody's", what)
	}
	return people
}

func (r *reader) patterns(n Node, p, what string) []string {
	all := r.people(n, p, what)
	for _, pattern := range all {
		if _, err := path.Match(pattern, ""); err != nil {
			r.wrong(n, p, "write a name, or one with * for any text", "%q is no pattern", pattern)
		}
	}
	return all
}

func (r *reader) lineSite(n Node, p string) (s LineSite) {
	r.fields(n, p, "a site", nil, map[string]func(Node, string){
		"team": func(n Node, p string) { s.Team = r.text(n, p, "team") },
		"drift": func(n Node, p string) {
			r.fields(n, p, "drift", nil, map[string]func(Node, string){
				"look": func(n Node, p string) {
					if s.Drift.Look = r.text(n, p, "look"); s.Drift.Look != "" {
						if _, err := cron.ParseStandard(s.Drift.Look); err != nil {
							r.wrong(n, p, "write it like */15 * * * *", "%q is no cron schedule: %v", s.Drift.Look, err)
						}
					}
				},
				"then":   func(n Node, p string) { s.Drift.Then = oneOf(r, n, p, "tell", "correct") },
				"notice": func(n Node, p string) { s.Drift.Notice = r.span(n, p, 0) },
			})
		},
	})
	return s
}

func (r *reader) course(name string, n Node, p string) Course {
	c := Course{Name: name}
	var steps Node
	r.fields(n, p, "a course", []string{"steps"}, map[string]func(Node, string){
		"on":        func(n Node, p string) { c.On = r.bool(n, p, "on") },
		"workloads": func(n Node, p string) { c.Workloads = r.patterns(n, p, "workloads") },
		"override":  func(n Node, p string) { c.Override = r.people(n, p, "override") },
		"steps": func(n Node, p string) {
			if steps = n; n.Kind != List || len(n.Items) == 0 {
				r.wrong(n, p, "", "steps must be a list of at least one, such as [{sites: [drydock]}]")
				return
			}
			for i, item := range n.Items {
				c.Steps = append(c.Steps, r.step(item, fmt.Sprintf("%s/%d", p, i)))
			}
		},
	})
	before := map[string]bool{}
	for i, s := range c.Steps {
		at := steps.Items[i]
		for _, site := range s.After {
			if !before[site] {
				r.wrong(at, fmt.Sprintf("%s/steps/%d/after", p, i), "write the steps in the order in which a revision comes to them", "%s does not stand in a step before this one", site)
			}
		}
		for _, site := range s.Sites {
			if before[site] {
				r.wrong(at, fmt.Sprintf("%s/steps/%d/sites", p, i), "", "%s stands in two steps of the course", site)
			}
		}
		for _, site := range s.Sites {
			before[site] = true
		}
	}
	return c
}

func (r *reader) step(n Node, p string) Step {
	s := Step{Back: BackStops}
	r.fields(n, p, "a step", []string{"sites"}, map[string]func(Node, string){
		"sites": func(n Node, p string) { s.Sites = r.names(n, p, "sites", "a site") },
		"on":    func(n Node, p string) { s.Off = !r.bool(n, p, "on") },
		"after": func(n Node, p string) { s.After, s.Any = r.after(n, p) },
		"for":   func(n Node, p string) { s.For = r.span(n, p, 0) },
		"sign-off": func(n Node, p string) {
			s.SignOff = &SignOff{Count: 1}
			r.fields(n, p, "a sign-off", []string{"by"}, map[string]func(Node, string){
				"by":     func(n Node, p string) { s.SignOff.By = r.people(n, p, "by") },
				"count":  func(n Node, p string) { s.SignOff.Count = r.count(n, p, "count", 1, 100) },
				"author": func(n Node, p string) { s.SignOff.Others = !r.bool(n, p, "author") },
			})
		},
		"consent": func(n Node, p string) {
			s.Consent = &Consent{Notice: Span{24 * time.Hour}}
			r.fields(n, p, "consent", nil, map[string]func(Node, string){
				"by":       func(n Node, p string) { s.Consent.By = r.people(n, p, "by") },
				"last-day": func(n Node, p string) { s.Consent.LastDay = r.span(n, p, time.Minute) },
				"notice":   func(n Node, p string) { s.Consent.Notice = r.span(n, p, 0) },
			})
		},
		"at-once": func(n Node, p string) { s.AtOnce = r.count(n, p, "at-once", 1, 10000) },
		"back":    func(n Node, p string) { s.Back = oneOf(r, n, p, BackStops, BackGoesOn, BackAll) },
	})
	if s.For.Duration > 0 && len(s.After) == 0 {
		r.wrong(n, p+"/for", "write after: with the site that has to have proven it for so long", "it waits for nothing that was proven")
	}
	return s
}

// after reads a site, several that all must have proven a revision, or {any: [SITE, …]}, of which one is enough.
func (r *reader) after(n Node, p string) (sites []string, any bool) {
	switch n.Kind {
	case Text:
		if name := r.name(n, p, "a site"); name != "" {
			sites = []string{name}
		}
	case Map:
		r.fields(n, p, "after", nil, map[string]func(Node, string){
			"any": func(n Node, p string) { sites, any = r.names(n, p, "any", "a site"), true },
			"all": func(n Node, p string) { sites = r.names(n, p, "all", "a site") },
		})
		if len(n.Entries) != 1 {
			r.wrong(n, p, "write after: SITE, after: [SITE, SITE], or after: {any: [SITE, SITE]}", "it must be all or any of several sites")
		}
	default:
		sites = r.names(n, p, "after", "a site")
	}
	return sites, any
}

// team reads who is of a team, and what they may.
func (r *reader) team(n Node, p string) (t policy.Team) {
	r.fields(n, p, "a team", nil, map[string]func(Node, string){
		"people": func(n Node, p string) { t.People = r.people(n, p, "people") },
		"groups": func(n Node, p string) { t.Groups = r.people(n, p, "groups") },
		"may": func(n Node, p string) {
			if n.Kind != List {
				r.wrong(n, p, "write [{do: [sync, sign off], sites: [north]}]", "may must be a list, not %s", n.Kind)
				return
			}
			for i, item := range n.Items {
				var right policy.Right
				r.fields(item, fmt.Sprintf("%s/%d", p, i), "a right", []string{"do"}, map[string]func(Node, string){
					"do": func(n Node, p string) {
						for j, word := range r.people(n, p, "do") {
							scope := policy.Scope(word)
							if !slices.Contains(policy.Scopes, scope) && j < len(n.Items) {
								r.wrong(n.Items[j], fmt.Sprintf("%s/%d", p, j), "there are "+policy.Words(), "there is no %q", word)
							}
							right.Do = append(right.Do, scope)
						}
					},
					"workloads": func(n Node, p string) { right.Workloads = r.patterns(n, p, "workloads") },
					"sites":     func(n Node, p string) { right.Sites = r.patterns(n, p, "sites") },
					"teams":     func(n Node, p string) { right.Teams = r.people(n, p, "teams") },
				})
				t.May = append(t.May, right)
			}
		},
	})
	return t
}

func (r *reader) windows(n Node, pointer, what string) (all []Window) {
	r.several(n, pointer, what, func(item Node, p string) (string, bool) {
		w := Window{Caught: CaughtFinishes}
		text := func(to *string, key string) func(Node, string) {
			return func(n Node, p string) { *to = r.text(n, p, key) }
		}
		moment := func(to *string) func(Node, string) { return func(n Node, _ string) { *to = n.Text } } // YAML may take it for a date
		known := map[string]func(Node, string){
			"name": text(&w.Name, "name"), "zone": text(&w.Zone, "zone"), "rule": text(&w.Rule, "rule"), "lasts": text(&w.Lasts, "lasts"),
			"from": moment(&w.From), "until": moment(&w.Until), "starts": moment(&w.Starts),
			"caught":   func(n Node, p string) { w.Caught = oneOf(r, n, p, CaughtFinishes, CaughtHolds) },
			"override": func(n Node, p string) { w.Override = r.people(n, p, "override") },
		}
		r.selector(known, &w.Selector)
		if !r.fields(item, p, "one of the "+what, []string{"name"}, known) {
			return "", false
		}
		if _, err := calendar.New(w.Times, time.Time{}); err != nil {
			r.wrong(item, p, "", "%s: %v", w.Name, err)
		}
		all = append(all, w)
		return w.Name, true
	})
	return all
}

func (r *reader) bool(n Node, p, what string) bool {
	if n.Kind != Bool {
		r.wrong(n, p, "write "+what+": true or "+what+": false", "%s must be true or false", what)
	}
	return n.Text == "true"
}
