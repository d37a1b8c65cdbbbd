package source

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"aditus/internal/config"
)

// Merged is what a link's branch would hold if another one were merged into it.
type Merged struct {
	Answer
	Behind    bool     // the branch went on since the other one was made from it; what it changed stays
	Conflicts []string // files that both changed since, each in its own way: as the other one has them
}

// Merge reads what a link's folder would be like with another branch, tag or commit merged, file by file: what that changed since it was
// made from the link's branch, and all else as it is there. Where the two have no history in common it is the other one as it is.
func Merge(ctx context.Context, link config.Link, access Access, ref string) (Merged, error) {
	access, done, err := access.placed(link)
	if err != nil {
		return Merged{}, err
	}
	defer done()
	at := At(link, ref)
	answer, err := askGit(ctx, at, access, Seen{}, true)
	m := Merged{Answer: answer}
	if err != nil || link.Branch == "" {
		return m, err
	}
	onto, hash, err := reach(ctx, link, access, "")
	if err != nil {
		return m, err
	}
	ours, err := commitAt(onto, hash)
	if err != nil {
		return m, fmt.Errorf("%w: %s: commit %.7s: %v", ErrUnreachable, link.Repository, hash, err)
	}
	from, hash, err := reach(ctx, at, access, "")
	if err != nil {
		return m, err
	}
	theirs, err := commitAt(from, hash)
	if err != nil || ours.Hash == theirs.Hash {
		return m, err
	}
	bases, err := theirs.MergeBase(ours)
	if err != nil || len(bases) == 0 || bases[0].Hash == ours.Hash {
		return m, nil // it holds all of the link's branch, or nothing of it is known
	}
	m.Behind = true
	baseFolder, err1 := folderOf(bases[0], link.Folder)
	ourFolder, err2 := folderOf(ours, link.Folder)
	if err1 != nil || err2 != nil {
		return m, nil
	}
	base, err := readTree(ctx, bases[0], baseFolder, link.Folder)
	if err != nil {
		return m, err
	}
	mine, err := readTree(ctx, ours, ourFolder, link.Folder)
	if err != nil {
		return m, err
	}
	was, here, there := byName(base), byName(mine), byName(answer.Files)
	names := map[string]bool{}
	for _, of := range []map[string]File{was, there} {
		for name := range of {
			names[name] = true
		}
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		if same(was, there, name) {
			continue
		}
		if !same(was, here, name) && !same(here, there, name) {
			m.Conflicts = append(m.Conflicts, name)
		}
		if file, ok := there[name]; ok {
			here[name] = file
		} else {
			delete(here, name)
		}
	}
	m.Files = slices.SortedFunc(maps.Values(here), func(a, b File) int { return strings.Compare(a.Name, b.Name) })
	return m, nil
}

func byName(files []File) map[string]File {
	all := make(map[string]File, len(files))
	for _, f := range files {
		all[f.Name] = f
	}
	return all
}

// same tells whether two states have a file alike, or both have none.
func same(a, b map[string]File, name string) bool {
	x, has := a[name]
	y, too := b[name]
	return has == too && string(x.Text) == string(y.Text)
}
