// Package source is where declarations come from: it reads a folder at a commit of a Git repository and parses what is
// there. What a declaration means is package declare's part.
package source

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/filemode"
	"github.com/go-git/go-git/v5/plumbing/object"

	"aditus/internal/core/declare"
)

// Link is a connection to a repository: which branch and folder of it to watch.
type Link struct {
	Name       string        `yaml:"name"`
	Repository string        `yaml:"repository"` // a local path
	Branch     string        `yaml:"branch"`
	Folder     string        `yaml:"folder"`
	Every      time.Duration `yaml:"every"` // between two looks
}

// What can be wrong with a link. Each comes wrapped in a sentence that says what to do.
var (
	ErrUnreachable = errors.New("the repository cannot be reached")
	ErrNoBranch    = errors.New("the branch is missing")
	ErrNoFolder    = errors.New("the folder is missing")
	ErrRewritten   = errors.New("the branch was rewritten")
)

// Commit is where a declaration came from.
type Commit struct {
	Hash    string    `json:"hash"`
	Subject string    `json:"subject"`
	Author  string    `json:"author"`
	At      time.Time `json:"at"`
}

// Seen is what is known of a link already: what was read last.
type Seen struct {
	Commit string `json:"commit"` // its hash
	Tree   string `json:"tree"`   // the folder's tree hash: what decides whether anything changed
}

// File is a file of the watched folder with the commit that changed it last.
type File struct {
	Name   string
	Text   []byte
	Commit Commit
}

// Look is what a look at a link gave.
type Look struct {
	Seen
	Head    Commit
	Changed bool   // the folder's content differs from what was seen before
	Files   []File // when Changed: the declarations in it, by name
}

// LookAt reads a link. It is not Changed when the folder is as in seen. A branch whose history no longer holds the
// commit seen before gives ErrRewritten, unless accept is set.
func LookAt(ctx context.Context, link Link, seen Seen, accept bool) (Look, error) {
	repository, err := git.PlainOpenWithOptions(link.Repository, &git.PlainOpenOptions{EnableDotGitCommonDir: true})
	if err != nil {
		return Look{}, fmt.Errorf("%w: %s: %v; check that the folder is there and is a Git repository", ErrUnreachable, link.Repository, err)
	}
	ref, err := repository.Reference(plumbing.NewBranchReferenceName(link.Branch), true)
	if errors.Is(err, plumbing.ErrReferenceNotFound) {
		return Look{}, fmt.Errorf("%w: %s has no branch %q; push it, or name another in the settings", ErrNoBranch, link.Repository, link.Branch)
	} else if err != nil {
		return Look{}, fmt.Errorf("%w: %s: %v", ErrUnreachable, link.Repository, err)
	}
	if ref.Hash().String() == seen.Commit {
		return Look{Seen: seen}, nil
	}
	head, err := repository.CommitObject(ref.Hash())
	if err != nil {
		return Look{}, fmt.Errorf("%w: %s: commit %.7s: %v", ErrUnreachable, link.Repository, ref.Hash(), err)
	}
	if seen.Commit != "" && !accept {
		if err := follows(repository, head, seen.Commit); err != nil {
			return Look{}, fmt.Errorf("%w: %s no longer holds %.7s, which was taken from it; put that history back, or accept the new one", ErrRewritten, link.Branch, seen.Commit)
		}
	}
	folder, err := folderOf(head, link.Folder)
	if err != nil {
		return Look{}, fmt.Errorf("%w: commit %.7s on %s has no folder %q; put it back, or name another in the settings", ErrNoFolder, head.Hash, link.Branch, link.Folder)
	}
	look := Look{Seen: Seen{Commit: head.Hash.String(), Tree: folder.Hash.String()}, Head: commitOf(head)}
	if look.Tree == seen.Tree {
		return look, nil
	}
	look.Changed = true
	look.Files, err = read(ctx, head, folder, link.Folder)
	return look, err
}

func commitOf(c *object.Commit) Commit {
	subject, _, _ := strings.Cut(strings.TrimSpace(c.Message), "\n")
	return Commit{Hash: c.Hash.String(), Subject: subject, Author: c.Author.Name, At: c.Author.When}
}

func follows(repository *git.Repository, head *object.Commit, before string) error {
	old, err := repository.CommitObject(plumbing.NewHash(before))
	if err != nil {
		return err
	}
	is, err := old.IsAncestor(head)
	if err == nil && !is {
		err = ErrRewritten
	}
	return err
}

func folderOf(c *object.Commit, folder string) (*object.Tree, error) {
	tree, err := c.Tree()
	if err != nil || folder == "" || folder == "." {
		return tree, err
	}
	return tree.Tree(path.Clean(folder))
}

// IsDeclaration tells whether a file's name says that it is a declaration.
func IsDeclaration(name string) bool {
	return strings.HasSuffix(name, ".yaml") || strings.HasSuffix(name, ".yml")
}

func read(ctx context.Context, head *object.Commit, tree *object.Tree, folder string) ([]File, error) {
	var files []File
	for _, entry := range tree.Entries {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if !IsDeclaration(entry.Name) || (entry.Mode != filemode.Regular && entry.Mode != filemode.Executable && entry.Mode != filemode.Deprecated) {
			continue
		}
		blob, err := tree.File(entry.Name)
		if err != nil {
			return nil, fmt.Errorf("read %s at %.7s: %w", entry.Name, head.Hash, err)
		}
		text, err := blob.Contents()
		if err != nil {
			return nil, fmt.Errorf("read %s at %.7s: %w", entry.Name, head.Hash, err)
		}
		files = append(files, File{Name: path.Join(folder, entry.Name), Text: []byte(text), Commit: commitOf(lastChange(head, folder, entry))})
	}
	return files, nil
}

// maxWalk is how far back the commit that last changed a file is looked for.
const maxWalk = 500

// lastChange walks back along first parents to the commit that gave the file its present content.
func lastChange(head *object.Commit, folder string, entry object.TreeEntry) *object.Commit {
	commit := head
	for range maxWalk {
		parent, err := commit.Parent(0)
		if err != nil {
			return commit
		}
		tree, err := folderOf(parent, folder)
		if err != nil {
			return commit
		}
		before, err := tree.FindEntry(entry.Name)
		if err != nil || before.Hash != entry.Hash {
			return commit
		}
		commit = parent
	}
	return commit
}

// FromFolder reads the declarations in a folder on disk, or a single file.
func FromFolder(name string) ([]File, error) {
	info, err := os.Stat(name)
	if err != nil {
		return nil, fmt.Errorf("read declarations: %w; give a folder of declarations or one file", err)
	}
	names := []string{name}
	if info.IsDir() {
		entries, err := os.ReadDir(name)
		if err != nil {
			return nil, fmt.Errorf("read declarations: %w", err)
		}
		names = nil
		for _, entry := range entries {
			if entry.Type().IsRegular() && IsDeclaration(entry.Name()) {
				names = append(names, filepath.Join(name, entry.Name()))
			}
		}
		if len(names) == 0 {
			return nil, fmt.Errorf("there are no declarations (*.yaml) in %s", name)
		}
	}
	var files []File
	for _, name := range names {
		text, err := os.ReadFile(name)
		if err != nil {
			return nil, fmt.Errorf("read declarations: %w", err)
		}
		files = append(files, File{Name: name, Text: text})
	}
	return files, nil
}

// Declaration is a checked file.
type Declaration struct {
	declare.Desired
	Commit Commit
}

// Check reads all files and gives what they declare, sorted by workload, or all that is wrong with them. sites are the
// sites that exist; nil when that is not known.
func Check(files []File, sites []string) ([]Declaration, declare.Problems) {
	var found []Declaration
	var problems declare.Problems
	names := map[string]string{}
	for _, file := range files {
		node, err := ReadYAML(file.Name, file.Text)
		var wrong declare.Problems
		if errors.As(err, &wrong) {
			problems = append(problems, wrong...)
			continue
		}
		desired, wrong := declare.Read(file.Name, node)
		problems = append(problems, wrong...)
		if first, twice := names[desired.Workload]; twice && desired.Workload != "" {
			problems = append(problems, declare.Problem{File: file.Name, Line: 1, Column: 1, Message: fmt.Sprintf("workload %q is declared in %s already", desired.Workload, first), Suggestion: "give one of them another name"})
		}
		names[desired.Workload] = file.Name
		for _, site := range desired.Sites {
			if sites != nil && !slices.Contains(sites, site) {
				problems = append(problems, declare.Problem{File: file.Name, Line: node.Line, Column: node.Column, Pointer: "/sites", Message: fmt.Sprintf("there is no site %q", site), Suggestion: "known are " + strings.Join(sites, ", ")})
			}
		}
		found = append(found, Declaration{desired, file.Commit})
	}
	problems.Sort()
	slices.SortFunc(found, func(a, b Declaration) int { return strings.Compare(a.Workload, b.Workload) })
	return found, problems
}
