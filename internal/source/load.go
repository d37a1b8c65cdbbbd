package source

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/notice"
)

// Options say what Load needs beside the files. The zero Options check what can be checked without them.
type Options struct {
	Sites   []string                                                                   // that exist; nil when that is not known
	Set     map[string]string                                                          // variables from the command line
	Opener  *Opener                                                                    // opens secrets; nil where no key is at hand
	Resolve func(context.Context, []string) Resolutions                                // finds artifacts in their registries; nil to not ask
	Runs    func(context.Context, Declaration, declare.Part) (doubt string, err error) // tries whether a part can be run at its site; nil to not try
	Lacks   func(Declaration, declare.Part) []string                                   // what a part asks for that its site cannot do; nil to not look
	Silent  func(guard.Rule) error                                                     // why a guard's signal cannot be read where this is to be taken; nil to not look
	Grant   *declare.Grant                                                             // what may be declared; nil for everything
	Taken   func(site, claim string) (by string)                                       // the workload of another repository that has a host name or port already; nil where there is none
	NotLine bool                                                                       // line.yaml is not for these: another link has the line's
	Floors  func(workload, site string) []declare.Floor                                // what holds for a berth, whatever is declared; nil where nothing does
	Bare    Bare                                                                       // what a folder is that has only objects of a cluster's API
}

// Declaration is what is declared for one berth.
type Declaration struct {
	declare.Desired
	Site   string
	Commit Commit // that changed any of its files last
}

// SiteUse is a place where a variable is used, at one site.
type SiteUse struct {
	Workload string `json:"workload"`
	Site     string `json:"site"`
	declare.Use
}

// Loaded is all that a folder declares.
type Loaded struct {
	Declarations []Declaration // by workload, then site
	Uses         []SiteUse
	Variables    declare.Variables
	Line         *declare.Line     // nil where there is none
	Places       map[string]string // of objects of a cluster's API, by PlaceOf: FILE:LINE
}

// Load reads all files and gives what they declare for each berth, and all that is wrong with them. There is nothing
// wrong where all problems are warnings.
//
// NAME.yaml is a workload's base; NAME/SITE.yaml is merged over it for that site; variables.yaml gives variables;
// rules.yaml has the rules of the house. Files of objects of a cluster's API are for the parts that name them.
func Load(ctx context.Context, files []File, o Options) (Loaded, declare.Problems) {
	l := loader{options: o, bases: map[string]*base{}, loaded: Loaded{Places: map[string]string{}}}
	l.sort(files)
	l.bare()
	for _, b := range l.ordered() {
		if l.budget.over || ctx.Err() != nil {
			break
		}
		l.workload(b)
	}
	if err := ctx.Err(); err != nil {
		l.wrong(declare.Problem{File: ".", Line: 1, Column: 1, Message: "the folder could not be read in time: " + err.Error(), Suggestion: "part it into several links"})
	}
	l.across()
	l.hold()
	l.granted()
	l.claims()
	l.unused()
	if len(l.problems.Wrong()) == 0 && l.options.Silent != nil {
		l.trySignals()
	}
	if len(l.problems.Wrong()) == 0 && l.options.Lacks != nil {
		l.tryLacks()
	}
	if len(l.problems.Wrong()) == 0 {
		l.resolve(ctx)
	}
	if len(l.problems.Wrong()) == 0 && l.options.Runs != nil {
		l.tryRuns(ctx)
	}
	if len(l.problems.Wrong()) == 0 {
		l.judge(ctx)
	}
	l.problems.Sort()
	l.problems = slices.CompactFunc(l.problems, func(a, b declare.Problem) bool { return a == b }) // what is wrong in a base is wrong at every site
	l.loaded.Variables = l.variables
	return l.loaded, l.problems
}

// base is a workload's base file with the small files of its sites.
type base struct {
	file     File
	node     declare.Node
	workload string
	sites    map[string]part
}

type part struct {
	file File
	node declare.Node
}

type loader struct {
	options   Options
	bases     map[string]*base // by file name without its ending
	variables declare.Variables
	varFile   File
	objects   map[string]objectFile // by file name
	rules     []Rule
	health    map[string]declare.Rule // by kind of objects
	loaded    Loaded
	problems  declare.Problems
	at        map[string]declare.Node // the document of each workload
	budget    budget
}

func (l *loader) wrong(p ...declare.Problem) { l.problems = append(l.problems, p...) }

func stem(name string) string { return strings.TrimSuffix(strings.TrimSuffix(name, ".yaml"), ".yml") }

// sort parses all files and puts each where it belongs.
func (l *loader) sort(files []File) {
	l.at, l.objects = map[string]declare.Node{}, map[string]objectFile{}
	for _, file := range files {
		documents, err := ReadDocuments(file.Name, file.Text)
		var wrong declare.Problems
		if errors.As(err, &wrong) {
			l.wrong(wrong...)
			continue
		}
		parsed := 0
		for _, document := range documents {
			parsed += size(document)
		}
		if !l.take(declare.Node{File: file.Name}, parsed, 0, 0) {
			return
		}
		if slices.ContainsFunc(documents, isObject) {
			l.objects[file.Name] = objectFile{file, documents, false}
			continue
		}
		node, err := ReadYAML(file.Name, file.Text)
		if errors.As(err, &wrong) {
			l.wrong(wrong...)
			continue
		}
		folder, name := path.Split(file.Name)
		switch {
		case folder == "" && name == variablesFile:
			l.variables, wrong = declare.ReadVariables(node)
			l.varFile = file
			l.wrong(wrong...)
		case folder == "" && name == declare.LineFile:
			l.line(node)
		case folder == "" && name == rulesFile:
			l.rules, wrong = ReadRules(node)
			l.wrong(wrong...)
			l.health, wrong = ReadHealth(node)
			l.wrong(wrong...)
		case folder == "":
			l.base(stem(name)).file, l.base(stem(name)).node = file, node
		default:
			b := l.base(path.Base(folder))
			if b.sites == nil {
				b.sites = map[string]part{}
			}
			b.sites[stem(name)] = part{file, node}
		}
	}
}

// line reads the line's rules.
func (l *loader) line(node declare.Node) {
	line, wrong := declare.ReadLine(node)
	if l.options.Sites != nil {
		known := func(pointer, site string) {
			if strings.ContainsAny(site, "*?[") || slices.Contains(l.options.Sites, site) {
				return
			}
			wrong = append(wrong, declare.Problem{File: node.File, Line: 1, Column: 1, Pointer: pointer, Message: fmt.Sprintf("there is no site %q", site), Suggestion: "known are " + strings.Join(l.options.Sites, ", ")})
		}
		for pointer, sites := range line.SitesNamed() {
			for _, site := range sites {
				known(pointer, site)
			}
		}
		wrong.Sort()
	}
	l.wrong(wrong...)
	for _, n := range line.Notices {
		if _, err := notice.New(n, &line, time.Time{}); err != nil {
			l.wrong(declare.Problem{File: node.File, Line: 1, Column: 1, Pointer: "/notices", Message: fmt.Sprintf("the notice %s: %v", n.Name, err)})
		}
	}
	for _, floor := range line.Floors {
		_, wrong := compileRules(floor.Rules)
		l.wrong(wrong...)
	}
	if l.options.NotLine {
		l.wrong(declare.Problem{Warning: true, File: node.File, Line: 1, Column: 1, Message: "the settings do not name this link for the line's rules, so that this file says nothing", Suggestion: "write policy: LINK into the settings, or take the file out"})
		return
	}
	l.loaded.Line = &line
}

func (l *loader) base(name string) *base {
	if l.bases[name] == nil {
		l.bases[name] = &base{}
	}
	return l.bases[name]
}

func (l *loader) ordered() []*base {
	var all []*base
	for _, name := range sortedKeys(l.bases) {
		all = append(all, l.bases[name])
	}
	return all
}

// workload reads one workload for all its sites.
func (l *loader) workload(b *base) {
	if b.file.Name == "" {
		for _, p := range b.sites {
			l.wrong(declare.Problem{File: p.file.Name, Line: 1, Column: 1, Message: "there is no base for this site's file", Suggestion: "put the workload's base beside its folder, in " + path.Dir(p.file.Name) + ".yaml"})
		}
		return
	}
	workload, sites, problems := declare.Heading(b.node)
	if len(problems) > 0 {
		l.wrong(problems...)
		return
	}
	b.workload = workload
	if first, twice := l.at[workload]; twice && workload != "" {
		l.wrong(declare.Problem{File: b.file.Name, Line: 1, Column: 1, Message: fmt.Sprintf("workload %q is declared in %s already", workload, first.File), Suggestion: "give one of them another name"})
	}
	l.at[workload] = b.node
	for _, site := range sites {
		if l.options.Sites != nil && !slices.Contains(l.options.Sites, site) {
			at, _ := b.node.Get("sites")
			l.wrong(declare.Problem{File: at.File, Line: at.Line, Column: at.Column, Pointer: "/sites", Message: fmt.Sprintf("there is no site %q", site), Suggestion: "known are " + strings.Join(l.options.Sites, ", ")})
		}
	}
	for _, site := range sortedKeys(b.sites) {
		if !slices.Contains(sites, site) {
			l.wrong(declare.Problem{File: b.sites[site].file.Name, Line: 1, Column: 1, Message: fmt.Sprintf("%s does not run at %s", workload, site), Suggestion: "name the site in sites: of " + b.file.Name + ", or remove this file"})
		}
	}
	if len(sites) == 0 { // still tell what else is wrong
		_, problems := l.read(b, "")
		l.wrong(problems...)
		return
	}
	sites = slices.Sorted(slices.Values(sites))
	var shared *Declaration // what all sites have that differ in nothing
	for _, site := range sites {
		_, differs := b.sites[site]
		if !differs && shared != nil {
			d := *shared
			d.Site = site
			l.loaded.Declarations = append(l.loaded.Declarations, d)
			continue
		}
		uses := len(l.loaded.Uses)
		d, problems := l.read(b, site)
		l.wrong(problems...)
		l.loaded.Declarations = append(l.loaded.Declarations, d)
		if !differs && len(l.loaded.Uses) == uses {
			shared = &d
		}
	}
}

// read makes one berth's desired state: the base, the site's small file over it, variables in it, checked.
func (l *loader) read(b *base, site string) (Declaration, declare.Problems) {
	node, commit := b.node, b.file.Commit
	if p, ok := b.sites[site]; ok {
		for _, fixed := range []string{"aditus", "workload", "sites"} {
			if at, is := p.node.Get(fixed); is {
				return Declaration{}, declare.Problems{{File: at.File, Line: at.Line, Column: at.Column, Pointer: "/" + fixed, Message: fmt.Sprintf("a site's file cannot change %s", fixed), Suggestion: "change it in " + b.file.Name}}
			}
		}
		if p.node.Kind != declare.Map {
			return Declaration{}, declare.Problems{{File: p.file.Name, Line: 1, Column: 1, Message: "a site's file must be a mapping of what differs there, not " + p.node.Kind.String()}}
		}
		node, commit = declare.Merge(node, p.node), newer(commit, p.file.Commit)
	}
	node, changed, problems := l.withObjects(node)
	if len(problems) > 0 {
		return Declaration{}, problems
	}
	commit = newer(commit, changed)
	if !l.take(b.node, 0, size(node), 0) {
		return Declaration{}, nil
	}
	node, uses, problems := declare.Fill(node, l.variables.For(site, l.options.Set))
	for _, use := range uses {
		l.loaded.Uses = append(l.loaded.Uses, SiteUse{b.workload, site, use})
	}
	if len(uses) > 0 && l.varFile.Name != "" {
		commit = newer(commit, l.varFile.Commit)
	}
	desired, wrong := declare.Read(node)
	problems = append(problems, wrong...)
	l.judged(desired)
	if len(problems.Wrong()) == 0 {
		problems = append(problems, l.open(&desired, node)...)
	}
	return Declaration{desired, site, commit}, problems
}

func newer(a, b Commit) Commit {
	if b.At.After(a.At) {
		return b
	}
	return a
}

// open puts the fingerprints of a declaration's secrets in their places, and sees that a key here opens them.
func (l *loader) open(d *declare.Desired, node declare.Node) declare.Problems {
	var problems declare.Problems
	for _, name := range sortedKeys(d.Parts) {
		part := d.Parts[name]
		if part.Kind == declare.Secret {
			part.Values = map[string]string{}
		}
		for _, key := range sortedKeys(part.Sealed) {
			fingerprint, err := l.options.Opener.Fingerprint(part.Sealed[key])
			if err == nil {
				err = l.options.Opener.May(part.Sealed[key], Place{d.Workload, name, key}, l.options.Grant != nil && !l.options.Grant.Everything)
			}
			if part.Kind == declare.Secret {
				part.Values[key] = fingerprint
			} else {
				part.ShowSealed(key, fingerprint)
			}
			if err == nil {
				continue
			}
			at := place(node, "parts", name, "values", key)
			problems = append(problems, declare.Problem{
				Warning: errors.Is(err, ErrNoKeyHere), File: at.File, Line: at.Line, Column: at.Column, Pointer: "/parts/" + name + "/values/" + declare.Escape(key),
				Message: fmt.Sprintf("the secret %s of %s: %v", key, name, err), Suggestion: "encrypt it with: aditus secret seal --for " + Place{d.Workload, name, key}.String(),
			})
		}
		d.Parts[name] = part
	}
	return problems
}

// place finds where a value was written.
func place(node declare.Node, keys ...string) declare.Node {
	for _, key := range keys {
		below, ok := node.Get(key)
		if !ok {
			break
		}
		node = below
	}
	return node
}

// across checks what only shows when all workloads are known: whom they need.
func (l *loader) across() {
	needs := map[string][]string{}
	for _, d := range l.loaded.Declarations {
		for _, need := range d.Needs {
			at := place(l.at[d.Workload], "needs")
			problem := declare.Problem{File: at.File, Line: at.Line, Column: at.Column, Pointer: "/needs"}
			other, known := l.at[need]
			_, sites, _ := declare.Heading(other)
			switch {
			case !known:
				problem.Message, problem.Suggestion = fmt.Sprintf("%s needs %q, and there is no such workload", d.Workload, need), "known are "+strings.Join(sortedKeys(l.at), ", ")
				l.wrong(problem)
			case !slices.Contains(sites, d.Site):
				problem.Message, problem.Suggestion = fmt.Sprintf("%s needs %s, which does not run at %s", d.Workload, need, d.Site), "declare it there too, or let it go without"
				l.wrong(problem)
			default:
				needs[d.Workload+" at "+d.Site] = append(needs[d.Workload+" at "+d.Site], need+" at "+d.Site)
			}
		}
	}
	l.problems = append(l.problems, l.sameObjects()...)
	if circle := declare.Circle(needs); circle != nil {
		workload, _, _ := strings.Cut(circle[0], " at ")
		at := place(l.at[workload], "needs")
		l.wrong(declare.Problem{File: at.File, Line: at.Line, Column: at.Column, Pointer: "/needs", Message: "workloads need each other in a circle: " + strings.Join(circle, " needs "), Suggestion: "let one of them go without"})
	}
	slices.SortFunc(l.loaded.Declarations, func(a, b Declaration) int {
		return cmp.Or(cmp.Compare(a.Workload, b.Workload), cmp.Compare(a.Site, b.Site))
	})
}

// resolve pins every artifact to the digest that its registry tells.
func (l *loader) resolve(ctx context.Context) {
	if l.options.Resolve == nil {
		return
	}
	wanted := map[string]bool{}
	for _, d := range l.loaded.Declarations {
		for _, part := range d.Parts {
			if part.Artifact != "" {
				wanted[part.Artifact] = true
			}
		}
	}
	found := l.options.Resolve(ctx, sortedKeys(wanted))
	for i, d := range l.loaded.Declarations {
		parts := make(map[string]declare.Part, len(d.Parts))
		for name, part := range d.Parts {
			switch err := found.Problems[part.Artifact]; {
			case part.Artifact == "":
			case err != nil:
				at := place(l.at[d.Workload], "parts", name, "artifact")
				l.wrong(declare.Problem{File: at.File, Line: at.Line, Column: at.Column, Pointer: "/parts/" + name + "/artifact", Message: err.Error()})
			default:
				part.Artifact = cmp.Or(found.Pinned[part.Artifact], part.Artifact)
			}
			parts[name] = part
		}
		l.loaded.Declarations[i].Parts = parts
	}
}

// tryLacks tells what is declared for sites that cannot do it.
func (l *loader) tryLacks() {
	for _, d := range l.loaded.Declarations {
		for _, name := range slices.Sorted(maps.Keys(d.Parts)) {
			lacks := l.options.Lacks(d, d.Parts[name])
			if len(lacks) == 0 {
				continue
			}
			at := place(l.at[d.Workload], "parts", name)
			l.wrong(declare.Problem{File: at.File, Line: at.Line, Column: at.Column, Pointer: "/parts/" + name, Message: fmt.Sprintf("%s cannot be at %s: what it runs on has no %s; see docs/targets.md", name, d.Site, strings.Join(lacks, ", no "))})
		}
	}
}

// trySignals warns of guards whose signals cannot be read.
func (l *loader) trySignals() {
	told := map[string]bool{}
	for _, d := range l.loaded.Declarations {
		for i, rule := range d.Guards {
			why, key := l.options.Silent(rule), d.Workload+" "+rule.Name
			if why == nil || told[key] {
				continue
			}
			told[key] = true
			at := place(l.at[d.Workload], "guards")
			if i < len(at.Items) {
				at = at.Items[i]
			}
			l.wrong(declare.Problem{File: at.File, Line: at.Line, Column: at.Column, Pointer: fmt.Sprint("/guards/", i), Message: fmt.Sprintf("the guard %s of %s is silent: %v", rule.Name, d.Workload, why), Warning: true})
		}
	}
}

// tryRuns tries whether what is declared can be run.
func (l *loader) tryRuns(ctx context.Context) {
	for _, d := range l.loaded.Declarations {
		for _, name := range d.Running() {
			doubt, err := l.options.Runs(ctx, d, d.Parts[name])
			at, key := place(l.at[d.Workload], "parts", name), "artifact"
			if _, has := at.Get("command"); has {
				key = "command"
			}
			at = place(at, key)
			problem := declare.Problem{File: at.File, Line: at.Line, Column: at.Column, Pointer: "/parts/" + name + "/" + key}
			switch {
			case err != nil:
				problem.Message = fmt.Sprintf("%s cannot be run at %s: %v", name, d.Site, err)
				l.wrong(problem)
			case doubt != "":
				problem.Message, problem.Warning = fmt.Sprintf("%s of %s: %s", name, d.Workload, doubt), true
				l.wrong(problem)
			}
		}
	}
}

// floors are what holds for a berth, whatever is declared: by the line's rules, where they are among what is read, and by what is given.
func (l *loader) floors(d Declaration) (all []declare.Floor) {
	if line := l.loaded.Line; line != nil {
		all = line.FloorsOf(d.Workload, d.Site)
	}
	if l.options.Floors != nil {
		all = append(all, l.options.Floors(d.Workload, d.Site)...)
	}
	return all
}

// hold holds every berth to the floors that are for it.
func (l *loader) hold() {
	for i := range l.loaded.Declarations {
		d := &l.loaded.Declarations[i]
		var held []string
		d.Desired, held = declare.HoldAll(l.floors(*d), d.Desired)
		for _, short := range held {
			p := l.where(*d, "", "rollout")
			p.Warning, p.Message, p.Suggestion = true, fmt.Sprintf("what is declared for %s at %s is less than what holds whatever is declared: %s", d.Workload, d.Site, short), "it is added; declare it, so that it can be seen here"
			l.wrong(p)
		}
	}
}

// judge holds every berth against the rules of the house, and those of the floors that are for it.
func (l *loader) judge(ctx context.Context) {
	ready := map[*declare.HouseRule][]Rule{} // of a floor, by the first of its rules
	for _, d := range l.loaded.Declarations {
		for _, floor := range l.floors(d) {
			if len(floor.Rules) == 0 {
				continue
			}
			first := &floor.Rules[0]
			if ready[first] == nil {
				ready[first], _ = compileRules(floor.Rules) // which was tried when they were read
			}
			l.judgeBy(ctx, ready[first], []Declaration{d})
		}
	}
	l.judgeBy(ctx, l.rules, l.loaded.Declarations)
}

func (l *loader) judgeBy(ctx context.Context, rules []Rule, declarations []Declaration) {
	for _, rule := range rules {
		for _, d := range declarations {
			at := l.at[d.Workload]
			ok, cost, err := rule.Holds(ctx, d)
			if !l.take(at, 0, 0, cost) {
				return
			}
			problem := declare.Problem{Rule: rule.Name, Warning: rule.Warns, File: at.File, Line: at.Line, Column: at.Column}
			switch {
			case err != nil:
				problem.Message, problem.Suggestion = fmt.Sprintf("the rule %s cannot be asked about %s at %s: %v", rule.Name, d.Workload, d.Site, err), "write it so that it holds for every workload, with has() where a field may be missing"
				l.wrong(problem)
			case !ok:
				problem.Message = fmt.Sprintf("%s (rule %s, %s at %s)", rule.Says, rule.Name, d.Workload, d.Site)
				l.wrong(problem)
			}
		}
	}
}
