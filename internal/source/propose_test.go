package source

import (
	"encoding/pem"
	"errors"
	"io"
	"log"
	"maps"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-git/go-git/v5/plumbing"

	"aditus/internal/config"
	"aditus/internal/core/declare"
)

const limited = `aditus: 1
workload: gate
guards:
  # slow is what people notice first
  - name: slow share
    limit: {at-most: 5 %} # since spring
  - name: errors
    limit:
      above-old-by: "0.5 points"
`

// TestPropose offers changes by a local repository and over https, and looks at what is on the branch then.
func TestPropose(t *testing.T) {
	for _, remote := range []bool{false, true} {
		r := newRepo(t)
		first := r.commit("First", map[string]string{"workloads/gate.yaml": limited, "workloads/gate/north.yaml": "parts: {}\n", "workloads/other.yaml": "a: 1\n", "README": "read me\n"})
		head := r.commit("Second", map[string]string{"workloads/gate.yaml": strings.Replace(limited, "5 %", "9 %", 1), "workloads/gate/south.yaml": "parts: {}\n", "workloads/other.yaml": "a: 2\n"})
		link, access := r.link(), Access{}
		link.Push = true
		if remote {
			config, err := r.git.Config()
			if err != nil {
				t.Fatal(err)
			}
			config.Raw.Section("http").SetOption("receivepack", "true")
			if err := r.git.SetConfig(config); err != nil {
				t.Fatal(err)
			}
			server := httptest.NewUnstartedServer(behind("maren", "secret", gitBackend(t, filepath.Dir(r.folder))))
			server.Config.ErrorLog = log.New(io.Discard, "", 0)
			server.StartTLS()
			defer server.Close()
			link.CA = filepath.Join(t.TempDir(), "ca.pem")
			if err := os.WriteFile(link.CA, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw}), 0o600); err != nil {
				t.Fatal(err)
			}
			link.Repository = server.URL + "/" + filepath.Base(r.folder) + "/.git"
			access = Access{Credential: Credential{User: "maren", Password: "secret"}, Cache: filepath.Join(t.TempDir(), "copy")}
		}
		change := Change{Branch: "aditus/revert-gate", Message: "Revert gate\n\nwhy\n", Author: "Maren Oake", At: time.Unix(1773300000, 0)}
		p, err := Restore(t.Context(), link, access, "gate", first, func([]File) bool { return true }, change)
		if err != nil || strings.Join(p.Files, " ") != "workloads/gate.yaml workloads/gate/south.yaml" {
			t.Fatalf("remote %v: %+v (%v)", remote, p, err)
		}
		ref, err := r.git.Reference(plumbing.NewBranchReferenceName(change.Branch), true)
		if err != nil || ref.Hash().String() != p.Commit {
			t.Fatalf("remote %v: the branch is at %v (%v)", remote, ref, err)
		}
		commit, err := r.git.CommitObject(ref.Hash())
		if err != nil || commit.ParentHashes[0].String() != head || commit.Message != change.Message {
			t.Fatalf("remote %v: %+v (%v)", remote, commit, err)
		}
		for name, want := range map[string]string{"workloads/gate.yaml": limited, "workloads/other.yaml": "a: 2\n", "README": "read me\n", "workloads/gate/north.yaml": "parts: {}\n", "workloads/gate/south.yaml": ""} {
			file, err := commit.File(name)
			text := ""
			if err == nil {
				text, err = file.Contents()
			}
			if text != want {
				t.Errorf("remote %v: %s is %q (%v), want %q", remote, name, text, err, want)
			}
		}
		if now, err := r.git.Reference(plumbing.NewBranchReferenceName("main"), true); err != nil || now.Hash().String() != head {
			t.Errorf("remote %v: the branch that is watched was written to", remote)
		}
		if _, err := Restore(t.Context(), link, access, "gate", first, func([]File) bool { return true }, change); !errors.Is(err, ErrTaken) {
			t.Errorf("remote %v: offered twice: %v", remote, err)
		}
	}
}

func TestProposeProblems(t *testing.T) {
	r := newRepo(t)
	first := r.commit("First", map[string]string{"workloads/gate.yaml": limited})
	open := r.link()
	open.Push = true
	tag, bundle := open, config.Link{Name: "b", Repository: "oci://h/x", Version: "1.0.0", Push: true}
	tag.Branch, tag.Tag = "", "v1"
	for _, test := range []struct {
		link   config.Link
		commit string
		want   error
	}{{r.link(), first, ErrNotWritable}, {tag, first, ErrNotWritable}, {bundle, first, ErrNotWritable}, {open, first, ErrNoChange}, {open, strings.Repeat("0", 40), ErrNoFolder}} {
		if _, err := Restore(t.Context(), test.link, Access{}, "gate", test.commit, func([]File) bool { return true }, Change{Branch: "b"}); !errors.Is(err, test.want) {
			t.Errorf("%+v at %.7s: %v, want %v", test.link, test.commit, err, test.want)
		}
	}
}

func TestSetLimit(t *testing.T) {
	for _, test := range []struct{ guard, kind, limit, from, to string }{
		{"slow share", "at-most", "4.5 %", "at-most: 5 %} # since spring", "at-most: 4.5 %} # since spring"},
		{"errors", "above-old-by", "1 points", `above-old-by: "0.5 points"`, "above-old-by: 1 points"},
		{"errors", "at-most", "1 %", "", ""}, {"speed", "at-most", "1 %", "", ""},
	} {
		got, changed, err := SetLimit([]byte(limited), test.guard, test.kind, test.limit)
		want := strings.Replace(limited, test.from, test.to, 1)
		if err != nil || changed != (test.from != "") || changed && string(got) != want {
			t.Errorf("%s %s: %v, %v\n%s", test.guard, test.kind, changed, err, got)
		}
	}
	if _, _, err := SetLimit([]byte("guards:\n  - name: a\n    limit:\n      at-most: >-\n        5 %\n"), "a", "at-most", "1 %"); err == nil || !strings.Contains(err.Error(), "change it by hand") {
		t.Errorf("a folded limit: %v", err)
	}
}

// TestWayBack sees that a revision comes back that variables, objects or a site's file changed, and that nothing is taken back with it that
// has nothing to do with it.
func TestWayBack(t *testing.T) {
	was := map[string]string{
		"variables.yaml": "aditus: 1\nvariables: {gates: 2, log: info, tide: low} # all\nsites:\n  north: {berths: 4}\n",
		"gate.yaml":      "aditus: 1\nworkload: gate\nsites: [north, south]\nparts:\n  app: {kind: service, artifact: \"r.example/gate:1\", instances: \"${gates}\", environment: {LOG: \"${log}\", N: \"${berths:-1}\"}}\n",
		"other.yaml":     "aditus: 1\nworkload: other\nsites: [north]\nparts:\n  app: {kind: service, artifact: \"r.example/other:1\", environment: {TIDE: \"${tide}\"}}\n",
	}
	for name, test := range map[string]struct {
		change map[string]string // old, new
		files  []string
		gives  string // is in the one file
		none   bool   // nothing there makes it so
	}{
		"a variable":         {map[string]string{"gates: 2": "gates: 9", "tide: low": "tide: high"}, []string{"variables.yaml"}, "{gates: 2, log: info, tide: high} # all", false},
		"two, one of a site": {map[string]string{"log: info": "log: debug", "berths: 4": "berths: 8", "other:1": "other:2"}, []string{"variables.yaml"}, "berths: 4", false},
		"its own file":       {map[string]string{"gate:1": "gate:2", "tide: low": "tide: high"}, []string{"gate.yaml"}, "gate:1", false},
		"both":               {map[string]string{"gate:1": "gate:2", "gates: 2": "gates: 7"}, []string{"gate.yaml", "variables.yaml"}, "", false},
		"another's":          {map[string]string{"other:1": "other:2"}, nil, "", false},
		"what is elsewhere":  {map[string]string{"gate:1": "gate:2"}, []string{"gate.yaml"}, "", true},
	} {
		t.Run(name, func(t *testing.T) {
			files := func(of map[string]string) (all []File) {
				for _, name := range slices.Sorted(maps.Keys(of)) {
					all = append(all, File{Name: name, Text: []byte(of[name])})
				}
				return all
			}
			is := maps.Clone(was)
			for old, new := range test.change {
				for name := range is {
					is[name] = strings.Replace(is[name], old, new, 1)
				}
			}
			revision := func(all []File) declare.Fingerprint {
				loaded, problems := Load(t.Context(), all, Options{Sites: []string{"north", "south"}})
				if len(problems.Wrong()) > 0 {
					t.Fatal(problems)
				}
				for _, d := range loaded.Declarations {
					if d.Workload == "gate" && d.Site == "north" {
						return d.Desired.Fingerprint()
					}
				}
				t.Fatal("gate is not declared")
				return ""
			}
			wanted, tries := revision(files(was)), 0
			back := wayBack{is: textsOf(files(is)), files: files(is), declares: func(all []File) bool { tries++; return !test.none && revision(all) == wanted }}
			if err := back.part(textsOf(files(was)), "gate"); err != nil {
				t.Fatal(err)
			}
			if all := back.makes(back.others); all == test.none {
				t.Fatalf("all that differs makes it: %v", all)
			}
			var units []unit
			if !test.none {
				units = back.fewest()
			}
			changed, err := back.changed(units)
			if err != nil {
				t.Fatal(err)
			}
			if names := slices.Sorted(maps.Keys(changed)); !slices.Equal(names, test.files) || len(names) == 1 && !strings.Contains(string(changed[names[0]]), test.gives) {
				t.Errorf("changed is %q, with %v, in %d tries", changed, units, tries)
			}
		})
	}
}
