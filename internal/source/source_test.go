package source

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/object"

	"aditus/internal/config"
)

// repo is a repository that a test commits to.
type repo struct {
	t      *testing.T
	folder string
	git    *git.Repository
	count  int
}

func newRepo(t *testing.T) *repo {
	t.Helper()
	folder := t.TempDir()
	r, err := git.PlainInitWithOptions(folder, &git.PlainInitOptions{InitOptions: git.InitOptions{DefaultBranch: plumbing.NewBranchReferenceName("main")}})
	if err != nil {
		t.Fatal(err)
	}
	return &repo{t: t, folder: folder, git: r}
}

func (r *repo) commit(subject string, files map[string]string) string {
	r.t.Helper()
	tree, err := r.git.Worktree()
	if err != nil {
		r.t.Fatal(err)
	}
	for name, text := range files {
		full := filepath.Join(r.folder, name)
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			r.t.Fatal(err)
		}
		if text == "" {
			if _, err := tree.Remove(name); err != nil {
				r.t.Fatal(err)
			}
			continue
		}
		if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
			r.t.Fatal(err)
		}
		if _, err := tree.Add(name); err != nil {
			r.t.Fatal(err)
		}
	}
	r.count++
	by := &object.Signature{Name: "Tove Lind", Email: "tove@skerry.example", When: time.Unix(1773300000+int64(r.count), 0)}
	hash, err := tree.Commit(subject+"\n\nmore words\n", &git.CommitOptions{Author: by, Committer: by})
	if err != nil {
		r.t.Fatal(err)
	}
	return hash.String()
}

func (r *repo) link() config.Link {
	return config.Link{Name: "test", Repository: r.folder, Branch: "main", Folder: "workloads", Every: time.Second}
}

func (r *repo) look(seen Seen, accept bool) (Answer, error) {
	return Ask(r.t.Context(), r.link(), Access{}, seen, accept)
}

func TestLookAt(t *testing.T) {
	r := newRepo(t)
	r.commit("First", map[string]string{"workloads/a.yaml": "a: 1\n", "workloads/b.yaml": "b: 1\n", "workloads/notes.md": "x\n", "README.md": "x\n"})
	second := r.commit("Second", map[string]string{"workloads/b.yaml": "b: 2\n"})
	look, err := r.look(Seen{}, false)
	if err != nil || !look.Changed || look.Commit != second || len(look.Files) != 2 {
		t.Fatalf("%+v (%v)", look, err)
	}
	if a, b := look.Files[0], look.Files[1]; a.Commit.Subject != "First" || b.Commit.Subject != "Second" || string(b.Text) != "b: 2\n" || b.Name != "b.yaml" || b.Commit.Author != "Tove Lind" {
		t.Errorf("the files do not know the commits that changed them: %+v", look.Files)
	}
	if again, err := r.look(look.Seen, false); err != nil || again.Changed || again.Seen != look.Seen {
		t.Errorf("nothing happened, and yet: %+v (%v)", again, err)
	}
	third := r.commit("Beside it", map[string]string{"README.md": "y\n"})
	if beside, err := r.look(look.Seen, false); err != nil || beside.Changed || beside.Commit != third || beside.Tree != look.Tree {
		t.Errorf("a commit beside the folder: %+v (%v)", beside, err)
	}
}

func TestLookAtProblems(t *testing.T) {
	r := newRepo(t)
	first := r.commit("First", map[string]string{"workloads/a.yaml": "a: 1\n"})
	r.commit("Second", map[string]string{"workloads/a.yaml": "a: 2\n"})
	look, err := r.look(Seen{}, false)
	if err != nil {
		t.Fatal(err)
	}
	check := func(name string, err, want error, words string) {
		t.Helper()
		if !errors.Is(err, want) || !strings.Contains(err.Error(), words) {
			t.Errorf("%s: %v, want %v with %q", name, err, want, words)
		}
	}
	link := r.link()
	link.Branch = "release"
	_, err = Ask(t.Context(), link, Access{}, Seen{}, false)
	check("no such branch", err, ErrNoBranch, `no branch "release"`)
	link = r.link()
	link.Folder = "elsewhere"
	_, err = Ask(t.Context(), link, Access{}, Seen{}, false)
	check("no such folder", err, ErrNoFolder, `no folder "elsewhere"`)
	link = r.link()
	link.Repository = filepath.Join(r.folder, "gone")
	_, err = Ask(t.Context(), link, Access{}, Seen{}, false)
	check("no repository", err, ErrUnreachable, "check that the folder is there")

	// The branch is set back and goes on elsewhere, as after a forced push.
	if err := r.git.Storer.SetReference(plumbing.NewHashReference(plumbing.NewBranchReferenceName("main"), plumbing.NewHash(first))); err != nil {
		t.Fatal(err)
	}
	tree, _ := r.git.Worktree()
	if err := tree.Reset(&git.ResetOptions{Mode: git.HardReset}); err != nil {
		t.Fatal(err)
	}
	other := r.commit("Other", map[string]string{"workloads/a.yaml": "a: 3\n"})
	_, err = r.look(look.Seen, false)
	check("rewritten", err, ErrRewritten, "accept the new one")
	if taken, err := r.look(look.Seen, true); err != nil || taken.Commit != other {
		t.Errorf("an accepted history: %+v (%v)", taken, err)
	}
	removed := r.commit("Remove it all", map[string]string{"workloads/a.yaml": "", "README.md": "x"})
	_, err = r.look(Seen{}, false)
	check("folder removed by "+removed[:7], err, ErrNoFolder, "put it back")
}

func TestFromFolder(t *testing.T) {
	folder := t.TempDir()
	if _, err := FromFolder(folder); err == nil || !strings.Contains(err.Error(), "no declarations") {
		t.Errorf("an empty folder: %v", err)
	}
	if _, err := FromFolder(filepath.Join(folder, "gone")); err == nil {
		t.Error("a folder that is not there was read")
	}
	for name, text := range map[string]string{"b.yaml": "b", "a.yml": "a", "c.txt": "c"} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	files, err := FromFolder(folder)
	if err != nil || len(files) != 2 || string(files[0].Text) != "a" {
		t.Errorf("%+v (%v)", files, err)
	}
	if one, err := FromFolder(filepath.Join(folder, "c.txt")); err != nil || len(one) != 1 {
		t.Errorf("a file that is named is read whatever its ending: %+v (%v)", one, err)
	}
}
