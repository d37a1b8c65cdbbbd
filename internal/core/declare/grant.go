package declare

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
)

// Grant is what those who may push to a repository may declare in it. The zero Grant is nothing.
type Grant struct {
	Everything bool
	Workloads  []string // globs, of names
	Sites      []string // globs
	Kinds      []Kind   // all where there are none
	Hosts      []string // globs, of host names
	Ports      []string // TCP ports: 5432, 6000-6010
	Registries []string // hosts
	Files      []string // folders, of artifacts that are files
	Stores     []string // globs, of metrics stores that guards may ask
	Reads      []string // globs, of workloads whose signals guards may read beside its own
	Instances  int      // of one workload at one site; 0 for as many as are declared
	Memory     int64    // bytes, of all of them, as limits say; 0 for as much as is declared
	Volumes    int64    // bytes, likewise
}

// Refusal is what a declaration says that it may not.
type Refusal struct {
	Part, Field string // empty for the whole
	Message     string
	Suggestion  string
}

// Refuse tells what of a declaration for a site is not granted.
func (g Grant) Refuse(d Desired, site string) (refused []Refusal) {
	if g.Everything {
		return nil
	}
	wrong := func(part, field, key, add, format string, args ...any) {
		refused = append(refused, Refusal{part, field, fmt.Sprintf(format, args...), fmt.Sprintf("whoever keeps the settings may let it: add %s to %s: under may: of the link", add, key)})
	}
	if !Matches(g.Workloads, d.Workload) {
		wrong("", "workload", "workloads", d.Workload, "this repository may not declare the workload %s", d.Workload)
	}
	if !Matches(g.Sites, site) {
		wrong("", "sites", "sites", site, "this repository may not declare anything for %s", site)
	}
	instances, memory, volumes := 0, int64(0), int64(0)
	for _, name := range keysOf(d.Parts) {
		part := d.Parts[name]
		if len(g.Kinds) > 0 && !slices.Contains(g.Kinds, part.Kind) {
			wrong(name, "kind", "kinds", string(part.Kind), "this repository may not declare a part of kind %s", part.Kind)
		}
		for _, claim := range part.Claims() {
			switch {
			case claim.Pointer == "tcp":
				if !g.port(part.TCP) {
					wrong(name, "tcp", "ports", strconv.Itoa(part.TCP), "this repository may not take the TCP port %d", part.TCP)
				}
			case claim.Host == "":
				if !slices.Contains(g.Hosts, "*") {
					wrong(name, "", "hosts", `"*"`, "this repository may not take all that comes under no other host name")
				}
			case !slices.Contains(g.Hosts, "*") && !slices.Contains(g.Hosts, claim.Host) && (strings.Contains(claim.Host, "*") || !Matches(g.Hosts, claim.Host)): // a pattern is granted as it is written alone
				wrong(name, claim.Pointer, "hosts", strconv.Quote(claim.Host), "this repository may not take the host name %s", claim.Host)
			}
		}
		switch file, is := strings.CutPrefix(part.Artifact, FileScheme); {
		case part.Artifact == "":
		case is:
			if !slices.ContainsFunc(g.Files, func(folder string) bool { return within(folder, file) }) {
				wrong(name, "artifact", "files", path.Dir(file), "this repository may not have the file %s run", file)
			}
		default:
			if host, _, _ := strings.Cut(part.Artifact, "/"); !Matches(g.Registries, host) {
				wrong(name, "artifact", "registries", host, "this repository may not have anything run that is from %s", host)
			}
		}
		volumes += part.Size
		if part.Kind == Service || part.Kind == Task {
			instances += part.Instances
			if part.Resources != nil {
				memory += int64(part.Instances) * part.Resources.Limits.Memory
			} else if g.Memory > 0 && part.Instances > 0 {
				refused = append(refused, Refusal{name, "", fmt.Sprintf("%s has no limit of memory, and this repository may declare so much alone", name), "write resources: {limits: {memory: …}}"})
			}
		}
	}
	for _, rule := range d.Guards {
		if store := rule.Signal.Store; store != "" && !Matches(g.Stores, store) {
			wrong("", "guards", "stores", store, "this repository may not ask the metrics store %s, as the guard %s does", store, rule.Name)
		}
		if other := rule.Signal.Workload; other != "" && !Matches(g.Workloads, other) && !Matches(g.Reads, other) {
			wrong("", "guards", "reads", other, "this repository may not read what %s shows, as the guard %s does", other, rule.Name)
		}
	}
	if g.Instances > 0 && instances > g.Instances {
		refused = append(refused, Refusal{"", "parts", fmt.Sprintf("this repository may have %d instances of %s at a site, not %d", g.Instances, d.Workload, instances), "declare fewer"})
	}
	if g.Memory > 0 && memory > g.Memory {
		refused = append(refused, Refusal{"", "parts", fmt.Sprintf("this repository may have %d MB of memory for %s at a site, not %d", g.Memory>>20, d.Workload, memory>>20), "declare smaller limits, or fewer instances"})
	}
	if g.Volumes > 0 && volumes > g.Volumes {
		refused = append(refused, Refusal{"", "parts", fmt.Sprintf("this repository may have %d MB of volumes for %s at a site, not %d", g.Volumes>>20, d.Workload, volumes>>20), "declare smaller ones"})
	}
	return refused
}

// within tells whether a file lies in a folder, by their names.
func within(folder, file string) bool {
	file, _, _ = strings.Cut(file, "@")
	return path.IsAbs(file) && strings.HasPrefix(path.Clean(file)+"/", strings.TrimSuffix(path.Clean(folder), "/")+"/")
}

func (g Grant) port(port int) bool {
	return slices.ContainsFunc(g.Ports, func(text string) bool {
		first, last, ok := PortRange(text)
		return ok && first <= port && port <= last
	})
}

// PortRange reads a port, or a first and a last one.
func PortRange(text string) (first, last int, ok bool) {
	from, to, isRange := strings.Cut(text, "-")
	if !isRange {
		to = from
	}
	first, err := strconv.Atoi(strings.TrimSpace(from))
	last, err2 := strconv.Atoi(strings.TrimSpace(to))
	return first, last, err == nil && err2 == nil && 0 < first && first <= last && last < 1<<16
}

// GrantOf is the least that lets all of some declarations be declared.
func GrantOf(declared map[string][]Desired) Grant {
	var g Grant
	add := func(to *[]string, value string) {
		if value != "" && !slices.Contains(*to, value) {
			*to = append(*to, value)
		}
	}
	for site, all := range declared {
		for _, d := range all {
			add(&g.Workloads, d.Workload)
			add(&g.Sites, site)
			for _, rule := range d.Guards {
				add(&g.Stores, rule.Signal.Store)
				add(&g.Reads, rule.Signal.Workload)
			}
			for _, part := range d.Parts {
				if !slices.Contains(g.Kinds, part.Kind) {
					g.Kinds = append(g.Kinds, part.Kind)
				}
				switch {
				case part.Kind == Route && part.TCP != 0:
					add(&g.Ports, strconv.Itoa(part.TCP))
				case part.Kind == Route && part.Host == "":
					add(&g.Hosts, "*")
				case part.Kind == Route:
					add(&g.Hosts, part.Host)
				}
				add(&g.Hosts, part.Preview)
				for _, host := range part.objectHosts() {
					add(&g.Hosts, host)
				}
				if file, is := strings.CutPrefix(part.Artifact, FileScheme); is {
					add(&g.Files, path.Dir(file))
				} else if part.Artifact != "" {
					host, _, _ := strings.Cut(part.Artifact, "/")
					add(&g.Registries, host)
				}
			}
		}
	}
	for _, list := range []*[]string{&g.Workloads, &g.Sites, &g.Hosts, &g.Ports, &g.Registries, &g.Files, &g.Stores, &g.Reads} {
		slices.Sort(*list)
	}
	slices.Sort(g.Kinds)
	return g
}
