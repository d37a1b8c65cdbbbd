package declare

import (
	"fmt"
	"time"

	"aditus/internal/core/calendar"
)

// Selector says which berths something is for: all that its patterns leave; with none of the three it is the line's.
type Selector struct {
	Sites     []string `json:"sites,omitempty"`     // patterns
	Workloads []string `json:"workloads,omitempty"` // patterns
	Teams     []string `json:"teams,omitempty"`     // whose sites
}

// None tells whether it selects nothing in particular.
func (s Selector) None() bool { return len(s.Sites)+len(s.Workloads)+len(s.Teams) == 0 }

// Schedule is something that is done at certain times.
type Schedule struct {
	Name string `json:"name"`
	Do   Act    `json:"do"`
	Selector
	Cron   string `json:"cron,omitempty"` // or else At
	Zone   string `json:"zone,omitempty"` // of Cron; UTC where it is left out
	At     string `json:"at,omitempty"`   // RFC 3339
	Missed Missed `json:"missed,omitempty"`
	Part   string `json:"part,omitempty"` // Scale: which service; all where it is left out
	To     *int   `json:"to,omitempty"`   // Scale: how many instances; nil for as many as are declared
}

// Act is what a schedule does.
type Act string

// Acts of schedules.
const (
	ActLook     Act = "look"           // at Git
	ActDrift    Act = "look for drift" // also where that is only looked for at certain times
	ActSync     Act = "sync"           // what is declared, as far as it may come
	ActPreview  Act = "preview"        // what a sync would do, kept and told
	ActScale    Act = "scale"
	ActRestart  Act = "restart"
	ActTearDown Act = "tear down"
)

// Missed is what becomes of what a schedule had to do while nothing ran, or the site could not be reached.
type Missed string

const (
	MissedOnce  Missed = "once" // it is done at the next start, once, however often it was missed
	MissedSkips Missed = "skip"
)

// End is the end of life of sites or berths: of what it selects all is torn down then.
type End struct {
	Name string `json:"name"`
	Selector
	At      string `json:"at,omitempty"` // a date, or a date and a time of day, in Zone
	Zone    string `json:"zone,omitempty"`
	After   Span   `json:"after,omitzero"` // or else so long after a berth was first applied
	Notice  Span   `json:"notice,omitzero"`
	Volumes bool   `json:"volumes,omitempty"` // they go too
}

// Keys of both are read here.

const (
	defaultNotice = 72 * time.Hour
	leastLife     = time.Minute
	mostInstances = 10000
)

func (r *reader) selector(known map[string]func(Node, string), s *Selector) {
	known["sites"] = func(n Node, p string) { s.Sites = r.patterns(n, p, "sites") }
	known["workloads"] = func(n Node, p string) { s.Workloads = r.patterns(n, p, "workloads") }
	known["teams"] = func(n Node, p string) { s.Teams = r.people(n, p, "teams") }
}

// several reads a list of things that each have a name.
func (r *reader) several(n Node, pointer, what string, read func(item Node, pointer string) (name string, ok bool)) {
	if n.Kind != List {
		r.wrong(n, pointer, "", "%s must be a list, not %s", what, n.Kind)
		return
	}
	if len(n.Items) > mostWindows {
		r.wrong(n, pointer, "", "there are %d %s; %d at most", len(n.Items), what, mostWindows)
		return
	}
	named := map[string]bool{}
	for i, item := range n.Items {
		p := fmt.Sprintf("%s/%d", pointer, i)
		name, ok := read(item, p)
		if ok && named[name] {
			r.wrong(item, p+"/name", "give each a name of its own", "there are two %s named %q", what, name)
		}
		named[name] = true
	}
}

func (r *reader) schedules(n Node, pointer string) (all []Schedule) {
	r.several(n, pointer, "schedules", func(item Node, p string) (string, bool) {
		s := Schedule{Missed: MissedOnce}
		var to Node
		known := map[string]func(Node, string){
			"name": func(n Node, p string) { s.Name = r.text(n, p, "name") },
			"do": func(n Node, p string) {
				s.Do = oneOf(r, n, p, ActLook, ActDrift, ActSync, ActPreview, ActScale, ActRestart, ActTearDown)
			},
			"cron":   func(n Node, p string) { s.Cron = r.text(n, p, "cron") },
			"zone":   func(n Node, p string) { s.Zone = r.text(n, p, "zone") },
			"at":     func(n Node, _ string) { s.At = n.Text }, // YAML may take it for a date
			"missed": func(n Node, p string) { s.Missed = oneOf(r, n, p, MissedOnce, MissedSkips) },
			"part":   func(n Node, p string) { s.Part = r.name(n, p, "a part") },
			"to": func(n Node, p string) {
				if to = n; n.Text != "declared" {
					count := r.count(n, p, "to", 0, mostInstances)
					s.To = &count
				}
			},
		}
		r.selector(known, &s.Selector)
		ok := r.fields(item, p, "one of the schedules", []string{"name", "do"}, known)
		if !ok {
			return "", false
		}
		if _, err := calendar.NewTicks(s.Cron, s.Zone, s.At); err != nil {
			r.wrong(item, p, "", "%s: %v", s.Name, err)
		}
		switch given := to.Kind != 0 || to.Text != ""; {
		case s.Do == ActScale && !given:
			r.wrong(item, p, "write to: NUMBER, or to: declared", "%s does not say to how many instances it scales", s.Name)
		case s.Do != ActScale && (given || s.Part != ""):
			r.wrong(item, p, "leave out to: and part:", "%s does not scale", s.Name)
		}
		if s.Selector.None() && (s.Do == ActScale || s.Do == ActRestart || s.Do == ActTearDown) {
			r.wrong(item, p, "name its sites: or workloads:, [\"*\"] for all", "%s would %s all that the line has", s.Name, s.Do)
		}
		all = append(all, s)
		return s.Name, true
	})
	return all
}

func (r *reader) ends(n Node, pointer string) (all []End) {
	r.several(n, pointer, "ends", func(item Node, p string) (string, bool) {
		e, noticed := End{Notice: Span{defaultNotice}}, false
		known := map[string]func(Node, string){
			"name":   func(n Node, p string) { e.Name = r.text(n, p, "name") },
			"at":     func(n Node, _ string) { e.At = n.Text },
			"zone":   func(n Node, p string) { e.Zone = r.text(n, p, "zone") },
			"after":  func(n Node, p string) { e.After = r.span(n, p, leastLife) },
			"notice": func(n Node, p string) { e.Notice, noticed = r.span(n, p, 0), true },
			"volumes": func(n Node, p string) {
				e.Volumes = oneOf(r, n, p, "keep", "remove") == "remove"
			},
		}
		r.selector(known, &e.Selector)
		if !r.fields(item, p, "one of the ends", []string{"name"}, known) {
			return "", false
		}
		zone, err := calendar.Zone(e.Zone)
		if err == nil && e.At != "" {
			_, err = calendar.Moment(e.At, zone)
		}
		switch {
		case (e.At == "") == (e.After.Duration == 0):
			r.wrong(item, p, "write at: DATE, or after: a length of time", "%s says not when it is, or twice", e.Name)
		case err != nil:
			r.wrong(item, p, "", "%s: %v", e.Name, err)
		}
		if half := e.After.Duration / 2; !noticed && e.After.Duration > 0 {
			e.Notice.Duration = min(e.Notice.Duration, half)
		}
		if e.After.Duration > 0 && e.Notice.Duration > e.After.Duration {
			r.wrong(item, p+"/notice", "write a shorter one", "%s would be announced before it began", e.Name)
		}
		if e.Selector.None() {
			r.wrong(item, p, "name its sites: or workloads:", "%s would be the end of all that the line has", e.Name)
		}
		all = append(all, e)
		return e.Name, true
	})
	return all
}
