package source

import (
	"fmt"
	"maps"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
)

// TestMerge holds what a merge would declare against what git itself makes of it, where that has no conflict, and tells of those that
// it would have.
func TestMerge(t *testing.T) {
	r := newRepo(t)
	r.commit("First", map[string]string{"workloads/a.yaml": "a: 1\n", "workloads/b.yaml": "b: 1\n", "workloads/c.yaml": "c: 1\n", "workloads/d.yaml": "d: 1\n", "other.txt": "x\n"})
	tree, err := r.git.Worktree()
	if err != nil {
		t.Fatal(err)
	}
	on := func(branch string, create bool) {
		t.Helper()
		if err := tree.Checkout(&git.CheckoutOptions{Branch: plumbing.NewBranchReferenceName(branch), Create: create}); err != nil {
			t.Fatal(err)
		}
	}
	on("feature", true)
	r.commit("Change a, drop b, add e", map[string]string{"workloads/a.yaml": "a: 2\n", "workloads/b.yaml": "", "workloads/e.yaml": "e: 1\n"})
	on("main", false)
	show := func(m Merged) string {
		var all []string
		for _, f := range m.Files {
			all = append(all, f.Name+" "+strings.TrimSpace(string(f.Text)))
		}
		return strings.Join(all, ", ") + fmt.Sprintf("; behind %v, conflicts %v", m.Behind, m.Conflicts)
	}
	merge := func(ref string) Merged {
		t.Helper()
		m, err := Merge(t.Context(), r.link(), Access{}, ref)
		if err != nil {
			t.Fatal(err)
		}
		return m
	}
	if got := show(merge("feature")); got != "a.yaml a: 2, c.yaml c: 1, d.yaml d: 1, e.yaml e: 1; behind false, conflicts []" {
		t.Errorf("ahead alone: %s", got)
	}
	r.commit("Go on", map[string]string{"workloads/c.yaml": "c: 2\n", "workloads/d.yaml": "", "workloads/f.yaml": "f: 1\n"})
	m := merge("feature")
	if !m.Behind || len(m.Conflicts) > 0 || m.Head.Subject != "Change a, drop b, add e" {
		t.Errorf("behind: %s", show(m))
	}
	clone := t.TempDir()
	for _, args := range [][]string{{"clone", "-q", r.folder, clone}, {"-C", clone, "-c", "user.name=Tove Lind", "-c", "user.email=tove@skerry.example", "merge", "-q", "-m", "Merge", "origin/feature"}} {
		if out, err := exec.Command("git", args...).CombinedOutput(); err != nil {
			t.Fatalf("git %v: %v: %s", args, err, out)
		}
	}
	files, err := FromFolder(filepath.Join(clone, "workloads"))
	if err != nil {
		t.Fatal(err)
	}
	want, got := byName(files), byName(m.Files)
	if !slices.Equal(slices.Sorted(maps.Keys(got)), slices.Sorted(maps.Keys(want))) {
		t.Errorf("%v, and git makes %v", slices.Sorted(maps.Keys(got)), slices.Sorted(maps.Keys(want)))
	}
	for name := range want {
		if !same(want, got, name) {
			t.Errorf("%s is %q, and git makes %q", name, got[name].Text, want[name].Text)
		}
	}
	r.commit("Change a too", map[string]string{"workloads/a.yaml": "a: 3\n"})
	if m := merge("feature"); !slices.Equal(m.Conflicts, []string{"a.yaml"}) || !strings.Contains(show(m), "a.yaml a: 2") {
		t.Errorf("both changed: %s", show(m))
	}
	if m := merge("main"); m.Behind || !strings.Contains(show(m), "a.yaml a: 3") {
		t.Errorf("itself: %s", show(m))
	}
	if _, err := Merge(t.Context(), r.link(), Access{}, "nowhere"); err == nil {
		t.Error("a branch that is not there was merged")
	}
}
