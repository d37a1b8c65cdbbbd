package source

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing/object"

	"aditus/internal/config"
	"aditus/internal/core/declare"
)

// Amended is a field of a workload's declaration as it is to be. Value nil takes it out.
type Amended struct {
	Path  []string // of keys, from the root of the declaration; in an object, from its own root
	Value any

	List  []string // where the field is in a list: the path of that, and all of it, for where it cannot be changed by itself
	Whole any

	Kind, Name string // of the object that it is in; empty for none
}

// Amend offers a berth's declaration with some fields as they are at its site: in the site's small file, or in the base where the workload
// is declared for that site alone; what is in an object stands in the object's own file. check is given all files as they would be, and
// nothing is offered where it fails.
func Amend(ctx context.Context, link config.Link, access Access, workload, site string, fields []Amended, check func([]File) error, change Change) (Proposal, error) {
	return propose(ctx, link, access, change, func(_ *git.Repository, head *object.Commit, folder *object.Tree) (map[string][]byte, error) {
		files, err := readTree(ctx, head, folder, link.Folder)
		if err != nil {
			return nil, err
		}
		changed, err := amend(files, workload, site, fields)
		if err != nil {
			return nil, err
		}
		for name, text := range changed {
			if i := slices.IndexFunc(files, func(f File) bool { return f.Name == name }); i >= 0 {
				files[i].Text = text
			} else {
				files = append(files, File{Name: name, Text: text, Commit: Commit{Hash: head.Hash.String()}})
			}
		}
		slices.SortFunc(files, func(a, b File) int { return strings.Compare(a.Name, b.Name) })
		if err := check(files); err != nil {
			return nil, err
		}
		return changed, nil
	})
}

// amend gives the files that change, with their new texts.
func amend(files []File, workload, site string, fields []Amended) (map[string][]byte, error) {
	texts := make(map[string][]byte, len(files))
	for _, f := range files {
		texts[f.Name] = f.Text
	}
	base, alone := baseOf(files, workload)
	if base == "" {
		return nil, fmt.Errorf("%w: no file here declares %s", ErrNoFolder, workload)
	}
	own := path.Join(stem(base), site+".yaml")
	if yml := path.Join(stem(base), site+".yml"); texts[yml] != nil {
		own = yml
	} else if alone && texts[own] == nil {
		own = base
	}
	changed := map[string][]byte{}
	for _, f := range fields {
		name, document := own, 0
		if f.Kind != "" {
			if name, document = objectIn(files, f.Kind, f.Name); name == "" {
				return nil, fmt.Errorf("no file here has the %s %s by itself; change it by hand", f.Kind, f.Name)
			}
		}
		value := f.Value
		text, ok := changed[name]
		if !ok {
			if text = texts[name]; text == nil {
				text = fmt.Appendf(nil, "# What differs at %s.\n", site)
			}
		}
		edit := setField
		switch {
		case name == own && own != base && f.List != nil: // a merge patch has lists whole
			f.Path, value = f.List, f.Whole
		case value == nil && name == own && own != base:
			edit = takeOut
		}
		edited, err := edit(text, document, f.Path, value)
		if err != nil && f.List != nil {
			edited, err = setField(text, document, f.List, f.Whole)
		}
		if err != nil {
			return nil, fmt.Errorf("%s in %s: %w", strings.Join(f.Path, "/"), name, err)
		}
		changed[name] = edited
	}
	maps.DeleteFunc(changed, func(name string, text []byte) bool { return string(texts[name]) == string(text) })
	return changed, nil
}

// takeOut has a site's small file say that a field is not there: null, by the rules of a merge patch (RFC 7396).
func takeOut(text []byte, document int, path []string, _ any) ([]byte, error) {
	const stands = "aditus-takes-it-out"
	edited, err := setField(text, document, path, stands)
	if err != nil {
		return nil, err
	}
	edited = []byte(strings.Replace(string(edited), stands, "null", 1))
	_, values, err := documents(edited)
	if err != nil || len(values) == 0 {
		return nil, errors.Join(errNotEdited, err)
	}
	return edited, nil
}

// baseOf is the file that declares a workload, and whether it does so for one site alone.
func baseOf(files []File, workload string) (name string, alone bool) {
	for _, f := range files {
		if strings.Contains(f.Name, "/") || !IsDeclaration(f.Name) || slices.Contains([]string{variablesFile, rulesFile, declare.LineFile}, f.Name) {
			continue
		}
		_, values, err := documents(f.Text)
		if err != nil || len(values) == 0 {
			continue
		}
		document, _ := values[0].(map[string]any)
		if named, _ := document["workload"].(string); named == workload || named == "" && stem(f.Name) == workload && document["aditus"] != nil {
			sites, _ := document["sites"].([]any)
			return f.Name, len(sites) == 1
		}
	}
	return "", false
}

// objectIn is the file and the document that is an object of a cluster's API.
func objectIn(files []File, kind, name string) (file string, document int) {
	for _, f := range files {
		_, values, err := documents(f.Text)
		if err != nil {
			continue
		}
		for i, v := range values {
			o, _ := v.(map[string]any)
			of, _ := o["metadata"].(map[string]any)
			if o["kind"] == kind && of["name"] == name {
				return f.Name, i
			}
		}
	}
	return "", 0
}

// Add offers files that are new. check is given all files as they would be, and nothing is offered where it fails.
func Add(ctx context.Context, link config.Link, access Access, added map[string][]byte, check func([]File) error, change Change) (Proposal, error) {
	return propose(ctx, link, access, change, func(_ *git.Repository, head *object.Commit, folder *object.Tree) (map[string][]byte, error) {
		files, err := readTree(ctx, head, folder, link.Folder)
		if err != nil {
			return nil, err
		}
		for _, name := range slices.Sorted(maps.Keys(added)) {
			if slices.ContainsFunc(files, func(f File) bool { return f.Name == name }) {
				return nil, fmt.Errorf("%s is there already: choose another name", name)
			}
			files = append(files, File{Name: name, Text: added[name], Commit: Commit{Hash: head.Hash.String()}})
		}
		slices.SortFunc(files, func(a, b File) int { return strings.Compare(a.Name, b.Name) })
		if err := check(files); err != nil {
			return nil, err
		}
		return added, nil
	})
}
