package source

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/go-git/go-git/v5"
	gitconfig "github.com/go-git/go-git/v5/config"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/filemode"
	"github.com/go-git/go-git/v5/plumbing/object"

	"aditus/internal/config"
	"aditus/internal/core/say"
)

// Change is a commit that is offered on a branch of its own, for people to look at and take over. Nothing is ever
// written to the branch that a link watches.
type Change struct {
	Branch  string
	Message string
	Author  string
	At      time.Time

	more func() string // what is to be said in the message of what was found out meanwhile; nil for nothing
}

// Proposal is a change that was offered.
type Proposal struct {
	Branch  string   `json:"branch"`
	Commit  string   `json:"commit"`
	Files   []string `json:"files"`
	Setting string   `json:"setting,omitempty"` // what was written in the settings instead, as a bundle has no branches
}

// Told tells what a proposal came to.
func (p Proposal) Told() string {
	switch {
	case p.Setting != "":
		return "It is written in the settings: " + p.Setting + "."
	case len(p.Files) == 0:
		return fmt.Sprintf("It is offered on the branch %s.", p.Branch)
	}
	return fmt.Sprintf("It is offered on the branch %s, in %s.", p.Branch, say.List(p.Files))
}

// What can be in the way of a proposal.
var (
	ErrNotWritable = errors.New("nothing may be written to the repository")
	ErrNoChange    = errors.New("nothing would change")
	ErrTaken       = errors.New("the branch is there already")
)

// Rewrite offers a workload's files with the changes that edit makes: it is given the name of each and its text, and
// gives the new text, or false where that file has nothing to change. The small file of the site comes first; the first
// file that changes is the only one.
func Rewrite(ctx context.Context, link config.Link, access Access, workload, site string, edit func(name string, text []byte) ([]byte, bool, error), change Change) (Proposal, error) {
	return propose(ctx, link, access, change, func(_ *git.Repository, _ *object.Commit, head *object.Tree) (map[string][]byte, error) {
		own, err := ownFiles(head, workload)
		if err != nil {
			return nil, err
		}
		names := slices.SortedFunc(maps.Keys(own), func(a, b string) int { return strings.Count(b, "/") - strings.Count(a, "/") })
		for _, name := range names {
			if strings.Contains(name, "/") && stem(path.Base(name)) != site {
				continue
			}
			text, changed, err := edit(name, own[name])
			if err != nil {
				return nil, err
			}
			if changed {
				return map[string][]byte{name: text}, nil
			}
		}
		return nil, nil
	})
}

// ownFiles are the declarations of one workload: its own, and those of the folder beside it.
func ownFiles(folder *object.Tree, workload string) (map[string][]byte, error) {
	files := map[string][]byte{}
	take := func(tree *object.Tree, prefix string, wanted func(string) bool) error {
		for _, entry := range tree.Entries {
			if !entry.Mode.IsFile() || !IsDeclaration(entry.Name) || !safeName(entry.Name) || !wanted(entry.Name) {
				continue
			}
			file, err := tree.File(entry.Name)
			if err != nil {
				return err
			}
			text, err := file.Contents()
			if err != nil {
				return err
			}
			files[path.Join(prefix, entry.Name)] = []byte(text)
		}
		return nil
	}
	err := take(folder, "", func(name string) bool { return stem(name) == workload })
	if below, missing := folder.Tree(workload); err == nil && missing == nil {
		err = take(below, workload, func(string) bool { return true })
	}
	return files, err
}

// propose makes a commit on top of what the link watches and puts it on a branch of its own.
func propose(ctx context.Context, link config.Link, access Access, change Change, make func(*git.Repository, *object.Commit, *object.Tree) (map[string][]byte, error)) (Proposal, error) {
	switch {
	case link.Bundle():
		return Proposal{}, fmt.Errorf("%w: %s is a bundle; publish another version of it, or have the link take an older one, as version: in the settings", ErrNotWritable, link.Name)
	case link.Branch == "":
		return Proposal{}, fmt.Errorf("%w: the link %s watches %s, which never moves", ErrNotWritable, link.Name, link.Ref())
	case !link.Push:
		return Proposal{}, fmt.Errorf("%w: the link %s is only read; allow it with push: true beside the link in settings.yaml", ErrNotWritable, link.Name)
	}
	access, done, err := access.placed(link)
	if err != nil {
		return Proposal{}, err
	}
	defer done()
	repository, hash, err := reach(ctx, link, access, "")
	if err != nil {
		return Proposal{}, err
	}
	head, err := commitAt(repository, hash)
	if err != nil {
		return Proposal{}, err
	}
	folder, err := folderOf(head, link.Folder)
	if err != nil {
		return Proposal{}, fmt.Errorf("%w: commit %.7s has no folder %q", ErrNoFolder, head.Hash, link.Folder)
	}
	files, err := make(repository, head, folder)
	if err != nil {
		return Proposal{}, err
	}
	whole, err := head.Tree()
	if err != nil {
		return Proposal{}, err
	}
	under := map[string][]byte{}
	p := Proposal{Branch: change.Branch}
	for name, text := range files {
		at := path.Join(link.Folder, name)
		if same, err := whole.File(at); err == nil && text != nil {
			if now, err := same.Contents(); err == nil && bytes.Equal([]byte(now), text) {
				continue
			}
		}
		under[at] = text
		p.Files = append(p.Files, at)
	}
	slices.Sort(p.Files)
	if len(under) == 0 {
		return p, fmt.Errorf("%w: %s at %.7s has those files as they are wanted", ErrNoChange, link.Branch, head.Hash)
	}
	tree, err := written(repository, whole, under)
	if err != nil {
		return p, fmt.Errorf("write the change for %s: %w", link.Where(), err)
	}
	commit, err := committed(repository, head, tree, change)
	if err != nil {
		return p, fmt.Errorf("write the change for %s: %w", link.Where(), err)
	}
	p.Commit = commit.String()
	return p, branch(ctx, repository, link, access, change.Branch, commit)
}

// written writes a tree with some files changed, or taken out where their text is nil, and gives its hash.
func written(repository *git.Repository, tree *object.Tree, files map[string][]byte) (plumbing.Hash, error) {
	entries := map[string]object.TreeEntry{}
	if tree != nil {
		for _, entry := range tree.Entries {
			entries[entry.Name] = entry
		}
	}
	below := map[string]map[string][]byte{}
	for name, text := range files {
		first, rest, deeper := strings.Cut(name, "/")
		switch {
		case deeper && below[first] == nil:
			below[first] = map[string][]byte{rest: text}
		case deeper:
			below[first][rest] = text
		case text == nil:
			delete(entries, first)
		default:
			blob := repository.Storer.NewEncodedObject()
			blob.SetType(plumbing.BlobObject)
			w, err := blob.Writer()
			if err == nil {
				_, err = w.Write(text)
				err = errors.Join(err, w.Close())
			}
			hash := plumbing.ZeroHash
			if err == nil {
				hash, err = repository.Storer.SetEncodedObject(blob)
			}
			if err != nil {
				return plumbing.ZeroHash, err
			}
			mode := filemode.Regular
			if was, ok := entries[first]; ok {
				mode = was.Mode
			}
			entries[first] = object.TreeEntry{Name: first, Mode: mode, Hash: hash}
		}
	}
	for name, inside := range below {
		var there *object.Tree
		if _, ok := entries[name]; ok {
			var err error
			if there, err = tree.Tree(name); err != nil {
				return plumbing.ZeroHash, err
			}
		}
		hash, err := written(repository, there, inside)
		if err != nil {
			return plumbing.ZeroHash, err
		}
		if hash == plumbing.ZeroHash {
			delete(entries, name)
			continue
		}
		entries[name] = object.TreeEntry{Name: name, Mode: filemode.Dir, Hash: hash}
	}
	if len(entries) == 0 {
		return plumbing.ZeroHash, nil // Git knows no empty folder
	}
	next := &object.Tree{Entries: slices.Collect(maps.Values(entries))}
	slices.SortFunc(next.Entries, func(a, b object.TreeEntry) int { return strings.Compare(inTree(a), inTree(b)) })
	return encoded(repository, next)
}

// inTree is an entry's name as Git sorts it: a folder as if a slash stood behind it.
func inTree(e object.TreeEntry) string {
	if e.Mode == filemode.Dir {
		return e.Name + "/"
	}
	return e.Name
}

func encoded(repository *git.Repository, o interface {
	Encode(plumbing.EncodedObject) error
}) (plumbing.Hash, error) {
	raw := repository.Storer.NewEncodedObject()
	if err := o.Encode(raw); err != nil {
		return plumbing.ZeroHash, err
	}
	return repository.Storer.SetEncodedObject(raw)
}

func committed(repository *git.Repository, parent *object.Commit, tree plumbing.Hash, change Change) (plumbing.Hash, error) {
	by := object.Signature{Name: change.Author, Email: "aditus@localhost", When: change.At}
	message := change.Message
	if change.more != nil {
		message += change.more()
	}
	return encoded(repository, &object.Commit{Author: by, Committer: by, Message: message, TreeHash: tree, ParentHashes: []plumbing.Hash{parent.Hash}})
}

// branch puts a commit on a new branch, where the repository is.
func branch(ctx context.Context, repository *git.Repository, link config.Link, access Access, name string, commit plumbing.Hash) error {
	ref := plumbing.NewBranchReferenceName(name)
	taken := fmt.Errorf("%w: %s has %s; look at it, or delete it", ErrTaken, link.Where(), name)
	if link.Local() != "" {
		if _, err := repository.Reference(ref, false); err == nil {
			return taken
		}
		return repository.Storer.SetReference(plumbing.NewHashReference(ref, commit))
	}
	auth, err := auth(link, access.Credential)
	if err != nil {
		return err
	}
	var bundle []byte
	if link.CA != "" {
		if bundle, err = os.ReadFile(link.CA); err != nil {
			return fmt.Errorf("link %s: read the certificates to trust: %w", link.Name, err)
		}
	}
	remote := git.NewRemote(repository.Storer, &gitconfig.RemoteConfig{Name: git.DefaultRemoteName, URLs: []string{link.Repository}})
	refs, err := remote.ListContext(ctx, &git.ListOptions{Auth: auth, CABundle: bundle})
	if err != nil {
		return explainGit(link, err)
	}
	if slices.ContainsFunc(refs, func(r *plumbing.Reference) bool { return r.Name() == ref }) {
		return taken
	}
	// The commit goes to a name that no fetch touches, and from there to the branch.
	local := plumbing.ReferenceName("refs/proposed/" + name)
	if err := repository.Storer.SetReference(plumbing.NewHashReference(local, commit)); err != nil {
		return err
	}
	err = remote.PushContext(ctx, &git.PushOptions{
		RemoteName: git.DefaultRemoteName, RemoteURL: link.Repository, Auth: auth, CABundle: bundle,
		RefSpecs: []gitconfig.RefSpec{gitconfig.RefSpec(local + ":" + ref)},
	})
	if err != nil && !errors.Is(err, git.NoErrAlreadyUpToDate) {
		return fmt.Errorf("push %s: %w; check that these credentials may write", name, explainGit(link, err))
	}
	return nil
}
