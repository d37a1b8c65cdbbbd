package declare

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// needs gives what a part with instances, or a route, waits for by name. Settings, secrets and volumes wait for nothing;
// all others come after them.
func (d Desired) needs(name string) []string {
	part := d.Parts[name]
	if part.Service == "" || slices.Contains(part.Needs, part.Service) {
		return part.Needs
	}
	return append(slices.Clone(part.Needs), part.Service)
}

// Waves gives parts in the order in which they need each other; the parts of one wave may go together. Settings,
// secrets and volumes come first. Names that are no parts are left out.
func (d Desired) Waves(names ...string) [][]string {
	depth := make(map[string]int, len(names)) // from 1
	var measure func(name string) int
	measure = func(name string) int {
		if known, ok := depth[name]; ok {
			return known
		}
		depth[name] = 1 // ends a circle, which Read refuses
		deepest := 1
		if kind := d.Parts[name].Kind; kind.Runs() || kind == Route || kind == Objects {
			deepest = 2
		}
		for _, need := range d.needs(name) {
			deepest = max(deepest, measure(need)+1)
		}
		depth[name] = deepest
		return deepest
	}
	byDepth := map[int][]string{}
	for _, name := range names {
		if _, ok := d.Parts[name]; ok {
			n := measure(name)
			byDepth[n] = append(byDepth[n], name)
		}
	}
	var waves [][]string
	for _, n := range slices.Sorted(maps.Keys(byDepth)) {
		slices.Sort(byDepth[n])
		waves = append(waves, byDepth[n])
	}
	return waves
}

// RunningNeeds gives, for each part with instances or objects, the parts of these that must be healthy or done before it.
func (d Desired) RunningNeeds() map[string][]string {
	comes := func(k Kind) bool { return k.Runs() || k == Objects }
	needs := map[string][]string{}
	for name, part := range d.Parts {
		for _, need := range part.Needs {
			if comes(part.Kind) && comes(d.Parts[need].Kind) {
				needs[name] = append(needs[name], need)
			}
		}
	}
	return needs
}

// Circle gives names that need each other in a circle, the first one again at the end; nil where there is none.
func Circle(needs map[string][]string) []string {
	const (
		fresh = iota
		open
		done
	)
	state := map[string]int{}
	var path, found []string
	var visit func(name string) bool
	visit = func(name string) bool {
		switch state[name] {
		case done:
			return false
		case open:
			found = append(slices.Clone(path[slices.Index(path, name):]), name)
			return true
		}
		state[name] = open
		path = append(path, name)
		for _, need := range needs[name] {
			if visit(need) {
				return true
			}
		}
		path = path[:len(path)-1]
		state[name] = done
		return false
	}
	for _, name := range keysOf(needs) {
		if visit(name) {
			return found
		}
	}
	return nil
}

// needed checks what parts name of each other.
func (r *reader) needed(d Desired, at map[string]Node) {
	needs := map[string][]string{}
	for _, name := range keysOf(d.Parts) {
		part := d.Parts[name]
		needs[name] = d.needs(name)
		p := "/parts/" + Escape(name)
		place := func(key string) Node {
			if n, ok := at[name].Get(key); ok {
				return n
			}
			return at[name]
		}
		if m := part.Metrics; m != nil && m.Secret != "" && d.Parts[m.Secret].Kind != Secret {
			r.wrong(place("metrics"), p+"/metrics/secret", didYouMean(m.Secret, d.secrets()), "the metrics of %s are asked for with %q, and there is no such secret", name, m.Secret)
		}
		for _, need := range part.Needs {
			if _, ok := d.Parts[need]; !ok {
				r.wrong(place("needs"), p+"/needs", didYouMean(need, keysOf(d.Parts)), "%s needs %q, and there is no such part", name, need)
			}
		}
		r.furnished(d, name, place)
		for volume := range part.Volumes {
			if d.Parts[volume].Kind != Volume {
				r.wrong(place("volumes"), p+"/volumes", "declare a part of kind volume", "there is no volume %q", volume)
			}
		}
		if part.Kind != Route || part.Service == "" {
			continue
		}
		to, ok := d.Parts[part.Service]
		switch {
		case !ok || to.Kind != Service:
			r.wrong(place("to"), p+"/to", didYouMean(part.Service, d.Running()), "there is no service %q to lead to", part.Service)
		case part.To != nil:
			if _, ok := to.Ports[part.To.Port]; !ok {
				r.wrong(place("to"), p+"/to/port", didYouMean(part.To.Port, keysOf(to.Ports)), "the service %s has no port %q", part.Service, part.To.Port)
			}
		}
	}
	owner := map[string]string{} // of objects
	for _, name := range keysOf(d.Parts) {
		for _, id := range keysOf(d.Parts[name].Objects) {
			if other, twice := owner[id]; twice {
				r.wrong(at[name], "/parts/"+Escape(name)+"/objects/"+Escape(id), "let one part have it", "%s is in the parts %s and %s", id, other, name)
			}
			owner[id] = name
		}
	}
	if circle := Circle(needs); circle != nil {
		r.wrong(at[circle[0]], "/parts/"+Escape(circle[0])+"/needs", "let one of them go without", "parts need each other in a circle: %s", strings.Join(circle, " needs "))
	}
	for i, pointer := range d.Leave {
		if !strings.HasPrefix(pointer, "/parts/") {
			r.wrong(at[""], fmt.Sprintf("/leave/%d", i), "write it like /parts/gate/instances", "%q is no JSON Pointer to a field of a part", pointer)
		}
	}
}

// secrets names the secrets among the parts.
func (d *Desired) secrets() (names []string) {
	for _, name := range keysOf(d.Parts) {
		if d.Parts[name].Kind == Secret {
			names = append(names, name)
		}
	}
	return names
}
