package source

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"reflect"
	"slices"
	"strings"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/object"

	"aditus/internal/config"
)

// Restore offers a workload as it was at an earlier commit: its own files, and of what else the folder has as little as it takes for
// declares to be true of it, such as some variables, rules or files of objects. Everything else stays as it is now. Where nothing there
// makes it true, its own files alone are offered, and the message says so.
func Restore(ctx context.Context, link config.Link, access Access, workload, commit string, declares func([]File) bool, change Change) (Proposal, error) {
	var beside []string
	exact := true
	change.more = func() string {
		switch {
		case !exact:
			return "\nWhat comes of these files is not the revision that serves: something beside the folder changed since, such as a floor, a variable of the settings, or what a tag stands for.\n"
		case len(beside) > 0:
			return fmt.Sprintf("\nTaken back with it, as others may use it too: %s.\n", strings.Join(beside, ", "))
		}
		return ""
	}
	return propose(ctx, link, access, change, func(repository *git.Repository, head *object.Commit, folder *object.Tree) (map[string][]byte, error) {
		then, err := commitAt(repository, plumbing.NewHash(commit))
		if err != nil {
			return nil, fmt.Errorf("%w: commit %.7s is not in its history any more", ErrNoFolder, commit)
		}
		before, err := folderOf(then, link.Folder)
		if err != nil {
			return nil, fmt.Errorf("%w: commit %.7s had no folder %q", ErrNoFolder, commit, link.Folder)
		}
		was, err := readTree(ctx, then, before, link.Folder)
		if err != nil {
			return nil, err
		}
		is, err := readTree(ctx, head, folder, link.Folder)
		if err != nil {
			return nil, err
		}
		back := wayBack{is: textsOf(is), files: is, declares: declares}
		if err := back.part(textsOf(was), workload); err != nil {
			return nil, err
		}
		switch {
		case back.makes(nil):
			back.others = nil
		case back.makes(back.others):
			back.others = back.fewest()
		default:
			exact, back.others = false, nil
		}
		for _, u := range back.others {
			beside = append(beside, u.String())
		}
		return back.changed(back.others)
	})
}

func textsOf(files []File) map[string][]byte {
	texts := make(map[string][]byte, len(files))
	for _, f := range files {
		texts[f.Name] = f.Text
	}
	return texts
}

// unit is something that is taken back as one: a file, or a field of the variables.
type unit struct {
	name  string
	path  []string // nil for the whole file
	text  []byte   // of the file as it was; nil where it was not there
	value any      // of the field
}

// String tells what it is.
func (u unit) String() string {
	if u.path == nil {
		return u.name
	}
	return strings.Join(u.path, " ") + " of " + u.name
}

// wayBack is what there is to be taken back, and what comes of it.
type wayBack struct {
	is       map[string][]byte
	files    []File
	own      []unit // of the workload
	others   []unit // in which the folder differs beside
	declares func([]File) bool
}

// part parts what differs into what is the workload's own, and the rest, without what other workloads declare.
func (w *wayBack) part(was map[string][]byte, workload string) error {
	base, _ := baseOf(w.files, workload)
	mine := func(name string) bool {
		first, _, _ := strings.Cut(name, "/")
		return stem(first) == workload || base != "" && stem(first) == stem(base)
	}
	names := map[string]bool{}
	maps.Copy(names, keysOf(was))
	maps.Copy(names, keysOf(w.is))
	for _, name := range slices.Sorted(maps.Keys(names)) {
		switch u := (unit{name: name, text: was[name]}); {
		case string(was[name]) == string(w.is[name]) && (was[name] == nil) == (w.is[name] == nil):
		case mine(name):
			w.own = append(w.own, u)
		case name == variablesFile:
			fields, err := fieldsOf(name, was[name], w.is[name])
			if err != nil {
				fields = []unit{u}
			}
			w.others = append(w.others, fields...)
		case !declaresWorkload(was[name]) && !declaresWorkload(w.is[name]) && !small(names, name):
			w.others = append(w.others, u)
		}
	}
	return nil
}

func keysOf(texts map[string][]byte) map[string]bool {
	keys := map[string]bool{}
	for name := range texts {
		keys[name] = true
	}
	return keys
}

// small tells whether a file is that of a site of a workload.
func small(names map[string]bool, name string) bool {
	folder := path.Dir(name)
	return folder != "." && (names[folder+".yaml"] || names[folder+".yml"])
}

func declaresWorkload(text []byte) bool {
	_, values, err := documents(text)
	if err != nil || len(values) == 0 {
		return false
	}
	document, _ := values[0].(map[string]any)
	return document["aditus"] != nil && document["parts"] != nil
}

// fieldsOf are the fields in which two texts differ.
func fieldsOf(name string, was, is []byte) (units []unit, err error) {
	_, a, err1 := documents(was)
	_, b, err2 := documents(is)
	if err := errors.Join(err1, err2); err != nil || len(a) != 1 || len(b) != 1 {
		return nil, errors.Join(errNotEdited, err)
	}
	var walk func(path []string, was, is any)
	walk = func(path []string, was, is any) {
		x, both := was.(map[string]any)
		y, too := is.(map[string]any)
		if !both || !too {
			if !reflect.DeepEqual(was, is) {
				units = append(units, unit{name: name, path: slices.Clone(path), value: was})
			}
			return
		}
		keys := map[string]bool{}
		for _, m := range []map[string]any{x, y} {
			for key := range m {
				keys[key] = true
			}
		}
		for _, key := range slices.Sorted(maps.Keys(keys)) {
			walk(append(path, key), x[key], y[key])
		}
	}
	walk(nil, a[0], b[0])
	return units, nil
}

// changed gives the files that some units change, beside the workload's own.
func (w *wayBack) changed(units []unit) (map[string][]byte, error) {
	files := map[string][]byte{}
	for _, u := range slices.Concat(w.own, units) {
		if u.path == nil {
			files[u.name] = u.text
			continue
		}
		text, has := files[u.name]
		if !has {
			text = w.is[u.name]
		}
		text, err := setField(text, 0, u.path, u.value)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", u, err)
		}
		files[u.name] = text
	}
	return files, nil
}

// makes tells whether what is wanted would be declared.
func (w *wayBack) makes(units []unit) bool {
	changed, err := w.changed(units)
	if err != nil {
		return false
	}
	files := make([]File, 0, len(w.files)+len(changed))
	for _, f := range w.files {
		if text, is := changed[f.Name]; is {
			f.Text = text
			delete(changed, f.Name)
		}
		if f.Text != nil {
			files = append(files, f)
		}
	}
	for name, text := range changed {
		if text != nil {
			files = append(files, File{Name: name, Text: text})
		}
	}
	slices.SortFunc(files, func(a, b File) int { return strings.Compare(a.Name, b.Name) })
	return w.declares(files)
}

// fewest leaves out whatever is not needed: halves first, then less and less.
func (w *wayBack) fewest() []unit {
	needed := w.others
	for size := (len(needed) + 1) / 2; size > 0; size /= 2 {
		for at := 0; at < len(needed); {
			without := slices.Delete(slices.Clone(needed), at, min(at+size, len(needed)))
			if w.makes(without) {
				needed = without
			} else {
				at += size
			}
		}
	}
	return needed
}
