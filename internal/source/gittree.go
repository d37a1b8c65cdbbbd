package source

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"path/filepath"
	"strings"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/filemode"
	"github.com/go-git/go-git/v5/plumbing/object"
)

// commitAt gives the commit that a hash leads to, through an annotated tag where it is one.
func commitAt(repository *git.Repository, hash plumbing.Hash) (*object.Commit, error) {
	if tag, err := repository.TagObject(hash); err == nil {
		return tag.Commit()
	}
	return repository.CommitObject(hash)
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

// readTree reads the declarations of a folder, and of the folders in it.
func readTree(ctx context.Context, head *object.Commit, folder *object.Tree, name string) ([]File, error) {
	var files []File
	hashes := map[string]plumbing.Hash{}
	size := int64(0)
	var walk func(tree *object.Tree, prefix string, depth int) error
	walk = func(tree *object.Tree, prefix string, depth int) error {
		for _, entry := range tree.Entries {
			if err := ctx.Err(); err != nil {
				return err
			}
			at := path.Join(prefix, entry.Name)
			switch {
			case entry.Mode == filemode.Dir && depth == 0:
				below, err := tree.Tree(entry.Name)
				if err != nil {
					return spoilt(at, head, err)
				}
				if err := walk(below, at, depth+1); err != nil {
					return err
				}
				continue
			case !IsDeclaration(entry.Name) || entry.Mode == filemode.Dir:
				continue
			case entry.Mode == filemode.Symlink:
				return fmt.Errorf("%s at %.7s is a symbolic link, which is not followed; write the file out", path.Join(name, at), head.Hash)
			case !safeName(entry.Name):
				return fmt.Errorf("%s at %.7s has a name that is not taken; rename it", path.Join(name, at), head.Hash)
			}
			blob, err := tree.File(entry.Name)
			if err != nil {
				return spoilt(at, head, err)
			}
			if size += min(blob.Size, maxFileSize+1); size > maxFolderSize || len(files) >= maxFiles {
				return fmt.Errorf("the folder %q at %.7s holds more than %d files or %d MB; watch a smaller one", name, head.Hash, maxFiles, maxFolderSize>>20)
			}
			reader, err := blob.Reader()
			if err != nil {
				return spoilt(at, head, err)
			}
			text, err := io.ReadAll(io.LimitReader(reader, maxFileSize+1)) // one too large is told as such when it is parsed
			if err = errors.Join(err, reader.Close()); err != nil {
				return spoilt(at, head, err)
			}
			hashes[at] = entry.Hash
			files = append(files, File{Name: at, Text: text})
		}
		return nil
	}
	if err := walk(folder, "", 0); err != nil {
		return nil, err
	}
	changed := lastChanges(head, folder, name, hashes)
	for i := range files {
		files[i].Commit = commitOf(changed[files[i].Name])
	}
	return files, nil
}

func spoilt(at string, head *object.Commit, err error) error {
	if errors.Is(err, errTooLarge) {
		return fmt.Errorf("read %s at %.7s: %w", at, head.Hash, err)
	}
	return fmt.Errorf("read %s at %.7s: %w: %v", at, head.Hash, errSpoilt, err)
}

// safeName refuses names that could lead elsewhere once they are written to a disk.
func safeName(name string) bool {
	return name != "" && name != "." && name != ".." && !strings.ContainsAny(name, "/\\\x00") && filepath.IsLocal(name)
}

// maxWalk is how far back the commit that last changed a file is looked for.
const maxWalk = 500

// lastChanges walks back along first parents to the commits that gave the files their present content.
func lastChanges(head *object.Commit, folder *object.Tree, name string, hashes map[string]plumbing.Hash) map[string]*object.Commit {
	found := make(map[string]*object.Commit, len(hashes))
	commit, tree := head, folder
	for step := 0; len(found) < len(hashes); step++ {
		var before *object.Tree
		parent, err := commit.Parent(0)
		if err == nil {
			before, err = folderOf(parent, name)
		}
		if err != nil || step == maxWalk {
			for at := range hashes {
				if found[at] == nil {
					found[at] = commit
				}
			}
			break
		}
		if before.Hash != tree.Hash {
			for at, hash := range hashes {
				if found[at] != nil {
					continue
				}
				if entry, err := before.FindEntry(at); err != nil || entry.Hash != hash {
					found[at] = commit
				}
			}
		}
		commit, tree = parent, before
	}
	return found
}
