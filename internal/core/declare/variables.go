package declare

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Variable is a variable's value with where it was given.
type Variable struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	From  string `json:"from"` // all sites, team NAME, site NAME, command line
	kind  NodeKind
}

// Use is one place where a variable stands.
type Use struct {
	Variable string `json:"variable"`
	File     string `json:"file"`
	Line     int    `json:"line"`
	Column   int    `json:"column"`
	Pointer  string `json:"pointer"`         // JSON Pointer into the declaration
	Value    string `json:"value"`           // what the whole text became
	Given    string `json:"given,omitempty"` // where the variable's value comes from; empty for the default that stands there
}

// Scope is what the variables of one site are.
type Scope map[string]Variable

// CommandLine is where a variable comes from that was given with --set.
const CommandLine = "command line"

// Variables are the values given for all sites, teams and single sites. The nearest to a site wins.
type Variables struct {
	All   Scope
	Teams []Team
	Sites map[string]Scope
}

// Team is a group of sites that share variables.
type Team struct {
	Name  string
	Sites []string
	Scope Scope
}

// For gives the variables of a site: what was given on the command line goes before the site, the site before its
// team, the team before all.
func (v Variables) For(site string, commandLine map[string]string) Scope {
	scope := Scope{}
	put := func(from Scope) {
		for name, variable := range from {
			scope[name] = variable
		}
	}
	put(v.All)
	for _, team := range v.Teams {
		if slices.Contains(team.Sites, site) {
			put(team.Scope)
		}
	}
	put(v.Sites[site])
	for name, value := range commandLine {
		scope[name] = Variable{Name: name, Value: value, From: CommandLine, kind: kindOf(value)}
	}
	return scope
}

// kindOf takes what was given on the command line as YAML would take it.
func kindOf(value string) NodeKind {
	switch {
	case numberPattern.MatchString(value):
		return Number
	case value == "true" || value == "false":
		return Bool
	}
	return Text
}

var numberPattern = regexp.MustCompile(`^-?(0|[1-9][0-9]*)(\.[0-9]+)?$`)

// ReadVariables reads a file of variables.
func ReadVariables(document Node) (Variables, Problems) {
	r := &reader{}
	v := Variables{All: Scope{}, Sites: map[string]Scope{}}
	r.fields(document, "", "a file of variables", []string{"aditus"}, map[string]func(Node, string){
		"aditus":    func(n Node, p string) { r.format(n, p) },
		"variables": func(n Node, p string) { v.All = r.scope(n, p, "all sites") },
		"teams": func(n Node, p string) {
			r.entries(n, p, "teams", func(name string, key, value Node, p string) {
				team := Team{Name: name}
				r.fields(value, p, "a team", []string{"sites", "variables"}, map[string]func(Node, string){
					"sites":     func(n Node, p string) { team.Sites = r.names(n, p, "sites", "a site") },
					"variables": func(n Node, p string) { team.Scope = r.scope(n, p, "team "+name) },
				})
				for _, other := range v.Teams {
					for _, site := range team.Sites {
						if slices.Contains(other.Sites, site) {
							r.wrong(key, p, "let it be in one", "the site %s is in the teams %s and %s", site, other.Name, name)
						}
					}
				}
				v.Teams = append(v.Teams, team)
			})
		},
		"sites": func(n Node, p string) {
			r.entries(n, p, "sites", func(name string, key, value Node, p string) { v.Sites[name] = r.scope(value, p, "site "+name) })
		},
	})
	r.problems.Sort()
	return v, r.problems
}

func (r *reader) scope(n Node, pointer, from string) Scope {
	scope := Scope{}
	r.entries(n, pointer, "variables", func(name string, key, value Node, p string) {
		switch {
		case !nameOfVariable.MatchString(name):
			r.wrong(key, p, "write it like log-level", "%q is no name of a variable", name)
		case value.Kind == List || value.Kind == Map || value.Kind == Null:
			r.wrong(value, p, "", "a variable is text, a number, or true or false, not %s", value.Kind)
		case strings.Contains(value.Text, "${"):
			r.wrong(value, p, "write its value out", "a variable cannot be made of other variables")
		default:
			scope[name] = Variable{Name: name, Value: value.Text, From: from, kind: value.Kind}
		}
	})
	return scope
}

var nameOfVariable = regexp.MustCompile(`^[a-zA-Z][a-zA-Z0-9_.-]{0,62}$`)

// Fill puts variables into a document, in the forms of POSIX parameter expansion: ${name} must be given,
// ${name:-default} stands for a default where it is not, ${name:?why} says in the author's words why it must be given,
// and $${ is a plain ${. A text that is one variable alone takes the kind of its value, so that a number stays one. In objects
// of a cluster's API, which may hold scripts of any language, only ${name} of a variable that is given is filled in.
func Fill(document Node, scope Scope) (Node, []Use, Problems) {
	f := filler{scope: scope}
	return f.node(document, ""), f.uses, f.reader.problems
}

type filler struct {
	reader
	scope Scope
	uses  []Use
}

func (f *filler) node(n Node, pointer string) Node {
	switch n.Kind {
	case Map:
		var entries []Entry // made once something below changed
		for i, entry := range n.Entries {
			filled := f.node(entry.Value, pointer+"/"+Escape(entry.Key.Text))
			if entries == nil && !same(filled, entry.Value) {
				entries = slices.Clone(n.Entries)
			}
			if entries != nil {
				entries[i].Value = filled
			}
		}
		if entries != nil {
			n.Entries = entries
		}
	case List:
		var items []Node
		for i, item := range n.Items {
			filled := f.node(item, fmt.Sprintf("%s/%d", pointer, i))
			if items == nil && !same(filled, item) {
				items = slices.Clone(n.Items)
			}
			if items != nil {
				items[i] = filled
			}
		}
		if items != nil {
			n.Items = items
		}
	case Text:
		if strings.Contains(n.Text, "${") {
			if inObject.MatchString(pointer) {
				return f.given(n, pointer)
			}
			return f.text(n, pointer)
		}
	}
	return n
}

// inObject is a place within an object of a cluster's API.
var inObject = regexp.MustCompile(`^/parts/[^/]+/objects/[^/]+/`)

// inFile is a place within the text of a file that is laid for an instance.
var inFile = regexp.MustCompile(`^/parts/[^/]+/files/`)

// given fills in what is given, and leaves all else as it stands.
func (f *filler) given(n Node, pointer string) Node {
	known := Scope{}
	for _, m := range variableForm.FindAllStringSubmatch(n.Text, -1) {
		if v, ok := f.scope[m[1]]; ok && m[2] == "" {
			known[m[1]] = v
		}
	}
	if len(known) == 0 {
		return n
	}
	const plain = "\x00" // no text of YAML has it
	written := variableForm.ReplaceAllStringFunc(n.Text, func(whole string) string {
		if m := variableForm.FindStringSubmatch(whole); m[2] == "" && known[m[1]].Name != "" {
			return whole
		}
		return strings.ReplaceAll(whole, "${", plain)
	})
	filled := f.text(Node{Kind: Text, File: n.File, Line: n.Line, Column: n.Column, Text: written}, pointer)
	filled.Text = strings.ReplaceAll(filled.Text, plain, "${")
	return filled
}

// same tells cheaply whether a node was left as it was.
func same(a, b Node) bool {
	return a.Kind == b.Kind && a.Text == b.Text && len(a.Entries) == len(b.Entries) && len(a.Items) == len(b.Items) &&
		(len(a.Entries) == 0 || &a.Entries[0] == &b.Entries[0]) && (len(a.Items) == 0 || &a.Items[0] == &b.Items[0])
}

var variableForm = regexp.MustCompile(`\$?\$\{([^}:]*)(?:(:[-?])([^}]*))?\}`)

func (f *filler) text(n Node, pointer string) Node {
	matches := variableForm.FindAllStringSubmatchIndex(n.Text, -1)
	if len(matches) == 0 {
		f.wrong(n, pointer, "write ${name}, ${name:-default}, ${name:?why}, or $${ for a plain ${", "%q holds a variable that does not end", n.Text)
		return n
	}
	var out strings.Builder
	end, kind := 0, Text
	var used []Use
	for _, m := range matches {
		out.WriteString(n.Text[end:m[0]])
		end = m[1]
		whole := n.Text[m[0]:m[1]]
		if strings.HasPrefix(whole, "$$") {
			if inFile.MatchString(pointer) { // it is taken away when the file is laid
				whole = "$" + whole
			}
			out.WriteString(whole[1:])
			continue
		}
		form, rest := "", ""
		if name := n.Text[m[2]:m[3]]; m[4] < 0 && f.scope[name].Name == "" && leftToInstance(pointer, name) {
			out.WriteString(whole)
			continue
		}
		if m[4] >= 0 {
			form, rest = n.Text[m[4]:m[5]], n.Text[m[6]:m[7]]
		}
		value, given := f.value(n, pointer, n.Text[m[2]:m[3]], form, rest)
		if whole == n.Text {
			kind = value.kind
		}
		out.WriteString(value.Value)
		used = append(used, Use{Variable: value.Name, File: n.File, Line: n.Line, Column: n.Column, Pointer: pointer, Given: given})
	}
	out.WriteString(n.Text[end:])
	n.Text, n.Kind = out.String(), kind
	for i := range used {
		used[i].Value = n.Text
	}
	f.uses = append(f.uses, used...)
	return n
}

// value gives a variable's value and where it comes from.
func (f *filler) value(n Node, pointer, name, form, rest string) (Variable, string) {
	if v, ok := f.scope[name]; ok {
		return v, v.From
	}
	known := quoted(keysOf(f.scope))
	switch {
	case !nameOfVariable.MatchString(name):
		f.wrong(n, pointer, "write ${name}, ${name:-default} or ${name:?why}", "%q is no name of a variable", name)
	case form == ":-":
		return Variable{Name: name, Value: rest, kind: kindOf(rest)}, ""
	case form == ":?":
		f.wrong(n, pointer, "give it in variables.yaml or with --set "+name+"=…", "the variable %s is needed: %s", name, rest)
	default:
		suggestion := "give it in variables.yaml or with --set " + name + "=…; given are " + known
		if near := didYouMean(name, keysOf(f.scope)); strings.HasPrefix(near, "did") {
			suggestion = near
		}
		f.wrong(n, pointer, suggestion, "the variable %s is not given", name)
	}
	return Variable{Name: name, kind: Text}, ""
}

// EnvironmentName is the name of a port, a key or a volume as that of an environment variable: upper case, with underscores.
func EnvironmentName(name string) string {
	return strings.Map(func(c rune) rune {
		switch {
		case c >= 'a' && c <= 'z':
			return c - 'a' + 'A'
		case c >= 'A' && c <= 'Z', c >= '0' && c <= '9':
			return c
		}
		return '_'
	}, name)
}
