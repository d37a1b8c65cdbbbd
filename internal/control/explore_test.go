package control

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	git "github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/object"

	"aditus/internal/clock"
	"aditus/internal/config"
	"aditus/internal/core/fault"
	"aditus/internal/core/policy"
	"aditus/internal/engine"
	"aditus/internal/ledger"
	"aditus/internal/target"
	"aditus/internal/target/local"
	"aditus/internal/target/sim"
)

// TestExplore looks at what a repository offers: branches, folders, and for each site that there isn't yet what it can run on, at addresses of their
// own. Whoever is far away has no folder of the machine looked at.
func TestExplore(t *testing.T) {
	repository := t.TempDir()
	r, err := git.PlainInitWithOptions(repository, &git.PlainInitOptions{InitOptions: git.InitOptions{DefaultBranch: plumbing.NewBranchReferenceName("main")}})
	if err != nil {
		t.Fatal(err)
	}
	tree, err := r.Worktree()
	if err != nil {
		t.Fatal(err)
	}
	const tides = "aditus: 1\nworkload: tides\nsites: [north, quay, isle]\nparts: {app: {kind: service, command: [/bin/sleep, '9'], instances: 1}}\n"
	os.Mkdir(filepath.Join(repository, "deploy"), 0o700)
	err = os.WriteFile(filepath.Join(repository, "deploy", "tides.yaml"), []byte(tides), 0o600)
	if err == nil {
		_, err = tree.Add("deploy/tides.yaml")
	}
	if err == nil {
		_, err = tree.Commit("Declare the tides", &git.CommitOptions{Author: &object.Signature{Name: "Maren Oake", When: time.Now()}})
	}
	if err == nil {
		err = tree.Checkout(&git.CheckoutOptions{Branch: plumbing.NewBranchReferenceName("next"), Create: true})
	}
	if err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	book, err := ledger.Open(folder, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer book.Close()
	settings := config.Settings{Line: "Skerry Line", Beat: time.Second, Sites: []config.Site{{Name: "north", Target: config.Target{Kind: sim.Kind.Name}}}}
	opened, err := sim.Kind.Open(target.Ground{Folder: folder, Settings: settings}, settings.Sites)
	if err != nil {
		t.Fatal(err)
	}
	e, err := engine.New(settings, book, opened.Drivers, clock.New(time.Now(), 1), engine.Access{})
	if err != nil {
		t.Fatal(err)
	}
	broken := sim.Kind
	broken.Name, broken.Ready = "broken", func(config.Target) error { return errors.New("there is none here") }
	hung := sim.Kind
	hung.Name, hung.Try = "hung", func(ctx context.Context, _ config.Target) ([]string, error) {
		if _, bounded := ctx.Deadline(); !bounded {
			t.Error("nothing ends a try that hangs")
		}
		return nil, context.DeadlineExceeded
	}
	l := Live{Engine: e, Ledger: book, Folder: folder, Kinds: []target.Kind{local.Kind, broken, hung}}
	own := policy.Actor{Name: "root", Known: policy.ByAccount, Scopes: policy.Scopes}
	offer, err := l.Explore(t.Context(), own, Asked{Repository: repository})
	if err != nil {
		t.Fatal(err)
	}
	if offer.Branch != "main" || !slices.Equal(offer.Branches, []string{"main", "next"}) || offer.Head.Subject != "Declare the tides" || len(offer.Folders) != 1 || offer.Folders[0].Folder != "deploy" {
		t.Errorf("it offers %+v", offer)
	}
	if offer.Targets["north"] != nil || len(offer.Targets["quay"]) != 3 || offer.Targets["isle"][2].Wrong == "" || offer.Targets["quay"][0].Value["listen"] != "127.0.0.1:8080" || offer.Targets["isle"][0].Value["listen"] != "127.0.0.1:8081" || offer.Targets["quay"][1].Wrong != "there is none here" || offer.Targets["quay"][0].Wrong != "" {
		t.Errorf("new sites can run on %+v", offer.Targets)
	}
	far := policy.Actor{Name: "script", Known: policy.ByToken, Scopes: policy.Scopes}
	for name, test := range map[string]struct {
		who  policy.Actor
		ask  Asked
		want string
	}{
		"a folder from far away": {far, Asked{Repository: repository}, "of the machine itself"},
		"by whoever may look":    {policy.Actor{Name: "reader", Scopes: []policy.Scope{policy.Look}}, Asked{Repository: repository}, "change"},
		"a branch that is none":  {own, Asked{Repository: repository, Branch: "nowhere"}, "nowhere"},
		"no repository":          {own, Asked{Repository: folder}, "is a Git repository"},
	} {
		if _, err := l.Explore(t.Context(), test.who, test.ask); err == nil || !strings.Contains(err.Error(), test.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := l.Explore(t.Context(), far, Asked{Repository: repository}); !errors.Is(err, fault.ErrForbidden) {
		t.Error(err)
	}
}
