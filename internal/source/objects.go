package source

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"aditus/internal/core/declare"
)

// Bare says of a folder that has only objects of a cluster's API which workload they are, and where it runs.
type Bare struct {
	Workload string
	Sites    []string
}

// PlaceOf names an object of a workload among Loaded.Places.
func PlaceOf(workload, id string) string { return workload + " " + id }

// objectFile is a file of objects of a cluster's API.
type objectFile struct {
	File
	documents []declare.Node
	used      bool
}

// isObject tells whether a document is an object of a cluster's API, or a list of such.
func isObject(n declare.Node) bool {
	_, versioned := n.Get("apiVersion")
	_, kind := n.Get("kind")
	_, ours := n.Get("aditus")
	return versioned && kind && !ours
}

// flat gives the objects of documents, those of lists one by one.
func flat(documents []declare.Node) (objects []declare.Node) {
	for _, document := range documents {
		items, isList := document.Get("items")
		if kind, _ := document.Get("kind"); isList && items.Kind == declare.List && strings.HasSuffix(kind.Text, "List") {
			objects = append(objects, flat(items.Items)...)
			continue
		}
		objects = append(objects, document)
	}
	return objects
}

// idOf names an object as it was written.
func idOf(n declare.Node) string {
	o := declare.Object{}
	for _, key := range []string{"apiVersion", "kind"} {
		at, _ := n.Get(key)
		o[key] = at.Text
	}
	metadata := map[string]any{}
	at, _ := n.Get("metadata")
	for _, key := range []string{"name", "namespace"} {
		if of, ok := at.Get(key); ok {
			metadata[key] = of.Text
		}
	}
	o["metadata"] = metadata
	return declare.ObjectID(o)
}

// bare makes a workload of a folder that has only objects.
func (l *loader) bare() {
	if len(l.bases) > 0 || len(l.objects) == 0 {
		return
	}
	first := sortedKeys(l.objects)[0]
	if l.options.Bare.Workload == "" || len(l.options.Bare.Sites) == 0 {
		l.wrong(declare.Problem{File: first, Line: 1, Column: 1, Message: "the folder has only objects of a cluster's API, and nothing says which workload they are", Suggestion: "name the workload and its sites in the link's settings, or write NAME.yaml with a part of kind objects"})
		return
	}
	text := func(text string) declare.Node {
		return declare.Node{Kind: declare.Text, File: first, Line: 1, Column: 1, Text: text}
	}
	list := func(texts []string) declare.Node {
		n := declare.Node{Kind: declare.List, File: first, Line: 1, Column: 1}
		for _, one := range texts {
			n.Items = append(n.Items, text(one))
		}
		return n
	}
	mapping := func(entries ...any) declare.Node {
		n := declare.Node{Kind: declare.Map, File: first, Line: 1, Column: 1}
		for i := 0; i < len(entries); i += 2 {
			n.Entries = append(n.Entries, declare.Entry{Key: text(entries[i].(string)), Value: entries[i+1].(declare.Node)})
		}
		return n
	}
	format := text(fmt.Sprint(declare.Format))
	format.Kind = declare.Number
	name := l.options.Bare.Workload
	b := l.base(name)
	b.file = l.objects[first].File
	b.node = mapping("aditus", format, "workload", text(name), "sites", list(l.options.Bare.Sites),
		"parts", mapping("objects", mapping("kind", text(string(declare.Objects)), "files", list(sortedKeys(l.objects)))))
}

// withObjects puts the objects of files into the parts that name them; what such a part writes of them itself is merged over
// them. It gives the newest commit of these files.
func (l *loader) withObjects(document declare.Node) (declare.Node, Commit, declare.Problems) {
	var commit Commit
	var problems declare.Problems
	parts, _ := document.Get("parts")
	workload, _ := document.Get("workload")
	put := func(n declare.Node, key string, value declare.Node) declare.Node {
		n.Entries = slices.Clone(n.Entries)
		for i, entry := range n.Entries {
			if entry.Key.Text == key {
				n.Entries[i].Value = value
				return n
			}
		}
		n.Entries = append(n.Entries, declare.Entry{Key: declare.Node{Kind: declare.Text, File: value.File, Line: value.Line, Column: value.Column, Text: key}, Value: value})
		return n
	}
	for i, entry := range parts.Entries {
		part := entry.Value
		if from, has := part.Get("from"); has {
			template, replicas, newest, wrong := l.template(from)
			problems, commit = append(problems, wrong...), newer(commit, newest)
			if len(wrong) > 0 {
				continue
			}
			if over, written := part.Get("template"); written {
				template = declare.Merge(template, over)
			}
			part = put(part, "template", template)
			if _, said := part.Get("instances"); !said && replicas.Kind == declare.Number {
				part = put(part, "instances", replicas)
			}
			parts = put(parts, parts.Entries[i].Key.Text, part)
			continue
		}
		files, has := part.Get("files")
		if kind, _ := part.Get("kind"); !has || kind.Text != string(declare.Objects) {
			continue
		}
		objects := declare.Node{Kind: declare.Map, File: files.File, Line: files.Line, Column: files.Column}
		from := map[string]declare.Node{}
		for _, pattern := range files.Items {
			found, newest, wrong := l.named(pattern)
			problems, commit = append(problems, wrong...), newer(commit, newest)
			for _, o := range found {
				id := idOf(o)
				if first, twice := from[id]; twice {
					if first.File != o.File || first.Line != o.Line {
						problems = append(problems, declare.Problem{File: o.File, Line: o.Line, Column: o.Column, Message: fmt.Sprintf("%s stands here again, first in %s:%d", id, first.File, first.Line), Suggestion: "remove one of them"})
					}
					continue
				}
				from[id] = o
				l.loaded.Places[PlaceOf(workload.Text, id)] = fmt.Sprintf("%s:%d", o.File, o.Line)
				objects.Entries = append(objects.Entries, declare.Entry{Key: declare.Node{Kind: declare.Text, File: o.File, Line: o.Line, Column: o.Column, Text: id}, Value: o})
			}
		}
		if over, written := part.Get("objects"); written {
			objects = declare.Merge(objects, over)
		}
		parts = put(parts, parts.Entries[i].Key.Text, put(part, "objects", objects))
	}
	if len(parts.Entries) == 0 {
		return document, commit, problems
	}
	return put(document, "parts", parts), commit, problems
}

// template finds the pod template that a service's pods come from, FILE#KIND/NAME, and how many of them the object asks for.
func (l *loader) template(from declare.Node) (template, replicas declare.Node, newest Commit, problems declare.Problems) {
	wrong := func(suggestion, format string, args ...any) {
		problems = append(problems, declare.Problem{File: from.File, Line: from.Line, Column: from.Column, Message: fmt.Sprintf(format, args...), Suggestion: suggestion})
	}
	file, id, ok := strings.Cut(from.Text, "#")
	if !ok {
		wrong("write from: FILE#KIND/NAME, such as web.yaml#Deployment/web", "%q names no object in a file", from.Text)
		return
	}
	pattern := from
	pattern.Text = file
	objects, newest, problems := l.named(pattern)
	if len(problems) > 0 {
		return
	}
	var known []string
	for _, o := range objects {
		if known = append(known, idOf(o)); known[len(known)-1] != id {
			continue
		}
		spec, _ := o.Get("spec")
		replicas, _ = spec.Get("replicas")
		if template, ok = spec.Get("template"); !ok {
			wrong("name a Deployment, StatefulSet or another object with a pod template", "%s has no pod template", id)
		}
		return
	}
	wrong("it has "+strings.Join(known, ", "), "there is no %s in %s", id, file)
	return
}

// named gives the objects of the files that a pattern names.
func (l *loader) named(pattern declare.Node) (objects []declare.Node, newest Commit, problems declare.Problems) {
	wrong := func(suggestion, format string, args ...any) {
		problems = declare.Problems{{File: pattern.File, Line: pattern.Line, Column: pattern.Column, Message: fmt.Sprintf(format, args...), Suggestion: suggestion}}
	}
	any := false
	for _, name := range sortedKeys(l.objects) {
		matches, err := path.Match(pattern.Text, name)
		if err != nil {
			wrong("write NAME.yaml, FOLDER/NAME.yaml or FOLDER/*.yaml", "%q is no pattern of file names", pattern.Text)
			return nil, newest, problems
		}
		if !matches {
			continue
		}
		file := l.objects[name]
		file.used, any = true, true
		l.objects[name] = file
		for _, o := range flat(file.documents) {
			if !isObject(o) {
				problems = append(problems, declare.Problem{File: o.File, Line: o.Line, Column: o.Column, Message: "this is no object of a cluster's API: it has no apiVersion or no kind", Suggestion: "take it out of the file, or write both"})
				continue
			}
			objects = append(objects, o)
		}
		newest = newer(newest, file.Commit)
	}
	if !any {
		wrong("the folder's files of objects are "+strings.Join(append(sortedKeys(l.objects), "none")[:max(1, len(l.objects))], ", "), "no file of objects is named %s", pattern.Text)
	}
	return objects, newest, problems
}

// sameObjects tells of objects that two workloads would have at one site.
func (l *loader) sameObjects() (problems declare.Problems) {
	owner := map[string]string{} // by site and object
	for _, d := range l.loaded.Declarations {
		for _, name := range sortedKeys(d.Parts) {
			for _, id := range sortedKeys(d.Parts[name].Objects) {
				other, twice := owner[d.Site+" "+id]
				if twice && other != d.Workload {
					at := place(l.at[d.Workload], "parts", name)
					problems = append(problems, declare.Problem{File: at.File, Line: at.Line, Column: at.Column, Pointer: "/parts/" + declare.Escape(name), Message: fmt.Sprintf("%s is %s's at %s already", id, other, d.Site), Suggestion: "let one workload have it"})
				}
				owner[d.Site+" "+id] = d.Workload
			}
		}
	}
	return problems
}

// judged gives parts of objects the line's own rules of health for kinds that they have.
func (l *loader) judged(d declare.Desired) {
	for name, part := range d.Parts {
		for id := range part.Objects {
			if rule, has := l.health[declare.KindOfID(id)]; has {
				if part.Rules == nil {
					part.Rules = map[string]declare.Rule{}
				}
				part.Rules[declare.KindOfID(id)] = rule
			}
		}
		d.Parts[name] = part
	}
}

// unused warns of files of objects that no part names.
func (l *loader) unused() {
	for _, name := range sortedKeys(l.objects) {
		if file := l.objects[name]; !file.used && len(l.bases) > 0 {
			l.wrong(declare.Problem{Warning: true, File: name, Line: 1, Column: 1, Message: "no part names this file of objects, so nothing is done with it", Suggestion: "add it to files: of a part of kind objects"})
		}
	}
}
