package declare

import (
	"maps"
	"path"
	"strings"
)

// Branches makes a berth of its own for each branch that fits a pattern, at one site, for as long as there is the branch.
type Branches struct {
	Name      string            `json:"name"`
	Link      string            `json:"link,omitempty"` // whose branches; those of the link that has the line's rules where it is left out
	Branches  string            `json:"branches"`       // a pattern
	Site      string            `json:"site"`
	Workloads []string          `json:"workloads"` // patterns
	Variables map[string]string `json:"variables,omitempty"`
	Host      string            `json:"host,omitempty"` // of its routes, with {branch}, {workload} and {route}
	After     Span              `json:"after,omitzero"` // its life ends so long after it was first applied; 0 for never
	Notice    Span              `json:"notice,omitzero"`
	Volumes   bool              `json:"volumes,omitempty"` // they go too, at its end
}

// BranchVariable is a variable that has the branch's short name.
const BranchVariable = "branch"

// Slug is a branch in a form that fits into names: what of it the pattern leaves open, in small letters, digits and hyphens. It is empty
// where the branch does not fit.
func (b Branches) Slug(branch string) string {
	if fits, _ := path.Match(b.Branches, branch); !fits {
		return ""
	}
	fixed, _, _ := strings.Cut(b.Branches, "*")
	var out strings.Builder
	for _, r := range strings.ToLower(strings.TrimPrefix(branch, fixed)) {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			out.WriteRune(r)
		} else if text := out.String(); text != "" && !strings.HasSuffix(text, "-") {
			out.WriteByte('-')
		}
	}
	return strings.Trim(out.String(), "-")
}

// Of gives what a branch's own berth of a workload should be, under a name of its own; false where that would be too long. Routes of
// TCP connections are left out: their ports are the workload's own. So are guards, and all stages but one: there are no visitors to
// measure, nor to protect, and guards would wait for them for ever.
func (b Branches) Of(desired Desired, slug string) (own Desired, fits bool) {
	own = desired
	own.Workload = desired.Workload + "-" + slug
	own.Parts = maps.Clone(desired.Parts)
	own.Guards, own.Rollout.Style, own.Rollout.Stages, own.Rollout.Try, own.Rollout.Control, own.Rollout.Proving = nil, Canary, []Stage{{Share: 1}}, "", new(float64), Span{}
	fits = slug != "" && len(own.Workload) <= maxName
	for name, part := range own.Parts {
		if part.Kind != Route {
			continue
		}
		if part.TCP != 0 {
			delete(own.Parts, name)
			continue
		}
		if part.Preview, part.PreviewBy = "", nil; b.Host != "" {
			host, ok := HostName(strings.NewReplacer("{branch}", slug, "{workload}", desired.Workload, "{route}", name).Replace(b.Host))
			part.Host, fits = host, fits && ok
		}
		own.Parts[name] = part
	}
	return own, fits
}

func (r *reader) branches(n Node, pointer string) (all []Branches) {
	r.several(n, pointer, "branches", func(item Node, p string) (string, bool) {
		b := Branches{Notice: Span{defaultNotice}}
		noticed := false
		known := map[string]func(Node, string){
			"name":      func(n Node, p string) { b.Name = r.text(n, p, "name") },
			"link":      func(n Node, p string) { b.Link = r.text(n, p, "link") },
			"branches":  func(n Node, p string) { b.Branches = r.text(n, p, "branches") },
			"site":      func(n Node, p string) { b.Site = r.name(n, p, "a site") },
			"workloads": func(n Node, p string) { b.Workloads = r.patterns(n, p, "workloads") },
			"variables": func(n Node, p string) { b.Variables = r.texts(n, p, "variables", nil) },
			"host":      func(n Node, p string) { b.Host = r.text(n, p, "host") },
			"after":     func(n Node, p string) { b.After = r.span(n, p, leastLife) },
			"notice":    func(n Node, p string) { b.Notice, noticed = r.span(n, p, 0), true },
			"volumes":   func(n Node, p string) { b.Volumes = oneOf(r, n, p, "keep", "remove") == "remove" },
		}
		if !r.fields(item, p, "one of the branches", []string{"name", "branches", "site", "workloads"}, known) {
			return "", false
		}
		if _, err := path.Match(b.Branches, ""); err != nil || strings.Count(b.Branches, "*") == 0 {
			r.wrong(item, p+"/branches", "write it like preview/*", "%q is no pattern of branches", b.Branches)
		}
		if b.Host != "" && !strings.Contains(b.Host, "{branch}") {
			r.wrong(item, p+"/host", "write it like {branch}.fares.example", "the host name is the same for all branches")
		}
		if !noticed && b.After.Duration > 0 {
			b.Notice.Duration = min(b.Notice.Duration, b.After.Duration/2)
		}
		if b.After.Duration > 0 && b.Notice.Duration > b.After.Duration {
			r.wrong(item, p+"/notice", "write a shorter one", "the end would be announced before it began")
		}
		all = append(all, b)
		return b.Name, true
	})
	return all
}
