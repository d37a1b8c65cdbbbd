package source

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/go-git/go-git/v5/plumbing/filemode"
	"github.com/go-git/go-git/v5/plumbing/object"

	"aditus/internal/config"
	"aditus/internal/core/declare"
)

// Found is a folder of a repository with the workloads declared in it.
type Found struct {
	Folder    string          `json:"folder"`
	Workloads []FoundWorkload `json:"workloads"`
	Objects   []string        `json:"objects,omitempty"`   // of a folder without declarations: the objects of a cluster's API in it
	Variables []FoundVariable `json:"variables,omitempty"` // of a bundle: what whoever takes it may give other values
}

// FoundVariable is a variable that a bundle's declarations use.
type FoundVariable struct {
	Name      string   `json:"name"`
	Values    []string `json:"values"`    // that it has where nobody gives another: one, or one for some sites each
	Workloads []string `json:"workloads"` // that use it
}

// FoundWorkload is a workload with the sites it is for.
type FoundWorkload struct {
	Name  string   `json:"name"`
	Sites []string `json:"sites"`
}

// notName is what is no part of a workload's name.
var notName = regexp.MustCompile(`[^a-z0-9]+`)

// BareName is the name of the workload that a folder of objects is.
func BareName(folder, otherwise string) string {
	name := path.Base(filepath.ToSlash(folder))
	if name == "." || name == "/" {
		name = otherwise
	}
	return strings.Trim(notName.ReplaceAllString(strings.ToLower(name), "-"), "-")
}

// Sites gives the sites of all workloads of a folder, in the order in which they stand first.
func (f Found) Sites() []string {
	var sites []string
	for _, w := range f.Workloads {
		for _, site := range w.Sites {
			if !slices.Contains(sites, site) {
				sites = append(sites, site)
			}
		}
	}
	return sites
}

// Find looks through all folders of a repository for declarations, so that nobody needs to type their paths.
func Find(ctx context.Context, link config.Link, access Access) ([]Found, Commit, error) {
	if link.Bundle() {
		look, err := askBundle(ctx, link, access, Seen{})
		if err != nil {
			return nil, Commit{}, err
		}
		found := group(look.Files)
		if len(found) == 1 {
			found[0].Variables = variablesOf(ctx, look.Files)
		}
		return found, look.Head, nil
	}
	access, done, err := access.placed(link)
	if err != nil {
		return nil, Commit{}, err
	}
	defer done()
	repository, hash, err := reach(ctx, link, access, "")
	if err != nil {
		return nil, Commit{}, err
	}
	head, err := commitAt(repository, hash)
	if err != nil {
		return nil, Commit{}, fmt.Errorf("%w: %s: commit %.7s: %v", ErrUnreachable, link.Where(), hash, err)
	}
	tree, err := head.Tree()
	if err != nil {
		return nil, Commit{}, fmt.Errorf("%w: %s: commit %.7s: %v", ErrUnreachable, link.Where(), hash, err)
	}
	var files []File
	size := int64(0)
	walker := object.NewTreeWalker(tree, true, nil)
	defer walker.Close()
	for ctx.Err() == nil {
		name, entry, err := walker.Next()
		if errors.Is(err, io.EOF) {
			return group(files), commitOf(head), nil
		}
		if err != nil {
			return nil, Commit{}, fmt.Errorf("look through %s: %w", link.Where(), err)
		}
		if !IsDeclaration(name) || entry.Mode == filemode.Dir || entry.Mode == filemode.Symlink {
			continue
		}
		large, err := repository.Storer.EncodedObjectSize(entry.Hash)
		if err != nil || large > maxFileSize {
			continue
		}
		if size += large; size > maxFolderSize || len(files) >= maxFiles {
			return nil, Commit{}, fmt.Errorf("%s holds more than %d files or %d MB of YAML: name the folder with --folder", link.Where(), maxFiles, maxFolderSize>>20)
		}
		blob, err := tree.TreeEntryFile(&entry)
		if err != nil {
			continue
		}
		text, err := blob.Contents()
		if err == nil {
			files = append(files, File{Name: name, Text: []byte(text)})
		}
	}
	return nil, Commit{}, ctx.Err()
}

// variablesOf are the variables that declarations use, with the values that they have by themselves.
func variablesOf(ctx context.Context, files []File) []FoundVariable {
	sites := map[string]bool{}
	for _, f := range group(files) {
		for _, name := range f.Sites() {
			sites[name] = true
		}
	}
	asked, seen := Options{Sites: slices.Sorted(maps.Keys(sites))}, map[string]*FoundVariable{}
	loaded, _ := Load(ctx, files, asked) // what is wrong with it is told once it is connected
	of := func(name string) *FoundVariable {
		if seen[name] == nil {
			seen[name] = &FoundVariable{Name: name, Values: []string{}, Workloads: []string{}}
		}
		return seen[name]
	}
	for _, use := range loaded.Uses {
		v := of(use.Variable)
		if !slices.Contains(v.Workloads, use.Workload) {
			v.Workloads = append(v.Workloads, use.Workload)
		}
		value := use.Value // of the default that stands there
		if given, is := loaded.Variables.For(use.Site, nil)[use.Variable]; is {
			value = given.Value
		}
		if !slices.Contains(v.Values, value) {
			v.Values = append(v.Values, value)
		}
	}
	var all []FoundVariable
	for _, name := range slices.Sorted(maps.Keys(seen)) {
		all = append(all, *seen[name])
	}
	return all
}

// group puts files that declare a workload, or have objects of a cluster's API, together by their folder.
func group(files []File) []Found {
	byFolder := map[string]*Found{}
	in := func(name string) *Found {
		folder := strings.TrimSuffix(path.Dir(name), "/")
		if byFolder[folder] == nil {
			byFolder[folder] = &Found{Folder: folder}
		}
		return byFolder[folder]
	}
	for _, f := range files {
		ours := bytes.Contains(f.Text, []byte("workload:")) && bytes.Contains(f.Text, []byte("aditus:"))
		if !ours && !(bytes.Contains(f.Text, []byte("apiVersion:")) && bytes.Contains(f.Text, []byte("kind:"))) {
			continue // most YAML of a repository is something else
		}
		documents, err := ReadDocuments(f.Name, f.Text)
		if err != nil {
			continue
		}
		for _, node := range flat(documents) {
			version, _ := node.Get("aditus")
			switch workload, sites, _ := declare.Heading(node); {
			case version.Text == fmt.Sprint(declare.Format) && workload != "":
				in(f.Name).Workloads = append(in(f.Name).Workloads, FoundWorkload{workload, sites})
			case isObject(node):
				in(f.Name).Objects = append(in(f.Name).Objects, idOf(node))
			}
		}
	}
	declared := func(folder string) bool { return byFolder[folder] != nil && len(byFolder[folder].Workloads) > 0 }
	var found []Found
	for _, folder := range sortedKeys(byFolder) {
		at := *byFolder[folder]
		switch {
		case declared(folder):
			at.Objects = nil // they are for its declarations
		case declared(path.Dir(folder)):
			continue
		}
		found = append(found, at)
	}
	return found
}
