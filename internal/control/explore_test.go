package control

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	git "github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/object"
	"go.yaml.in/yaml/v4"

	"aditus/internal/clock"
	"aditus/internal/config"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/core/policy"
	"aditus/internal/engine"
	"aditus/internal/ledger"
	"aditus/internal/source"
	"aditus/internal/target"
	"aditus/internal/target/local"
	"aditus/internal/target/sim"
)

// TestExploreFar offers whoever is elsewhere nothing that is of the machine, and does not try it.
func TestExploreFar(t *testing.T) {
	l := settled(t, config.Settings{Line: "Skerry Line", Beat: time.Second})
	watched := local.Kind
	watched.Ready = func(made config.Target) error {
		if len(made.Reach) > 0 {
			t.Error("it was tried")
		}
		return nil
	}
	l.Kinds = []target.Kind{watched}
	for _, far := range []bool{true, false} {
		var offer Offer
		err := l.targets(t.Context(), far, []string{"quay"}, false, map[string]string{"quay": "kind: local, reach: [/srv/media]"}, &offer)
		at := slices.IndexFunc(offer.Targets["quay"], func(t Target) bool { return t.Chosen })
		if err != nil || at < 0 || far != strings.Contains(offer.Targets["quay"][at].Wrong, "of the machine") {
			t.Errorf("far %v: %+v, %v", far, offer.Targets, err)
		}
		l.Kinds[0].Ready = nil
	}
}

// committed makes a repository of files, with the branches main and next.
func committed(t *testing.T, files map[string]string) (folder string) {
	t.Helper()
	folder = t.TempDir()
	r, err := git.PlainInitWithOptions(folder, &git.PlainInitOptions{InitOptions: git.InitOptions{DefaultBranch: plumbing.NewBranchReferenceName("main")}})
	if err != nil {
		t.Fatal(err)
	}
	tree, err := r.Worktree()
	for name, text := range files {
		os.MkdirAll(filepath.Join(folder, filepath.Dir(name)), 0o700)
		if err == nil {
			err = os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600)
		}
		if err == nil {
			_, err = tree.Add(name)
		}
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
	return folder
}

// settled has an engine that does not run, with a data folder of its own.
func settled(t *testing.T, settings config.Settings) Live {
	t.Helper()
	folder := t.TempDir()
	book, err := ledger.Open(folder, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { book.Close() })
	opened, err := sim.Kind.Open(target.Ground{Folder: folder, Settings: settings}, settings.Sites)
	if err != nil {
		t.Fatal(err)
	}
	e, err := engine.New(settings, book, opened.Drivers, clock.New(time.Now(), 1), engine.Access{})
	if err != nil {
		t.Fatal(err)
	}
	return Live{Engine: e, Ledger: book, Folder: folder}
}

// TestExplore looks at what a repository offers: branches, folders, and for each site that there isn't yet what it can run on, at addresses of their
// own. Whoever is far away has no folder of the machine looked at.
func TestExplore(t *testing.T) {
	repository := committed(t, map[string]string{"deploy/tides.yaml": "aditus: 1\nworkload: tides\nsites: [north, quay, isle]\nparts: {app: {kind: service, command: [/bin/sleep, '9'], ports: {http: 80}, instances: 1}, entry: {kind: route, to: {service: app, port: http}}}\n"})
	l := settled(t, config.Settings{Line: "Skerry Line", Beat: time.Second, Sites: []config.Site{{Name: "north", Target: config.Target{Kind: sim.Kind.Name}}}})
	broken := sim.Kind
	broken.Name, broken.Ready = "broken", func(config.Target) error { return errors.New("there is none here") }
	broken.New = func(string, []config.Site, string) (config.Target, error) { return config.Target{Kind: "broken"}, nil }
	hung := sim.Kind
	hung.Name, hung.Try = "hung", func(ctx context.Context, _ config.Target) ([]string, error) {
		if _, bounded := ctx.Deadline(); !bounded {
			t.Error("nothing ends a try that hangs")
		}
		return nil, context.DeadlineExceeded
	}
	l.Kinds = []target.Kind{local.Kind, broken, hung}
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
	if want := []string{"app", "any host to app"}; len(offer.Berths) != 3 || !slices.Equal(offer.Berths[0].Parts, want) || offer.Folder != "deploy" || offer.May != nil {
		t.Errorf("it would be %+v", offer)
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
		"no repository":          {own, Asked{Repository: l.Folder}, "is a Git repository"},
		"a bundle of no version": {own, Asked{Repository: "oci://registry.skerry.example/base"}, "a bundle has a version"},
	} {
		if _, err := l.Explore(t.Context(), test.who, test.ask); err == nil || !strings.Contains(err.Error(), test.want) || strings.Contains(err.Error(), "link connect") {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := l.Explore(t.Context(), far, Asked{Repository: repository}); !errors.Is(err, fault.ErrForbidden) {
		t.Error(err)
	}
	for text, want := range map[string]string{
		"local=127.0.0.1:9000":                          "listen: 127.0.0.1:9000",
		"kind: local, listen: 127.0.0.1:9000":           "listen: 127.0.0.1:9000",
		"{kind: local, reach: [/srv/media]}":            "reach: [/srv/media]",
		"local":                                         "listen: 127.0.0.1:8080",
		"broken":                                        "there is none here",
		"no such kind":                                  "there is no kind of target",
		"{kind: local, lisen: 127.0.0.1:9000}":          "lisen",
		"kind: local, listen: 'nowhere'":                "listen",
		"{kind: broken, engine: ssh://shore/run/socket": "cannot be read",
	} {
		offer, err := l.Explore(t.Context(), own, Asked{Repository: repository, Targets: map[string]string{"quay": text}})
		at := slices.IndexFunc(offer.Targets["quay"], func(t Target) bool { return t.Chosen })
		if err != nil || at < 0 {
			t.Errorf("%s: %v, %+v", text, err, offer.Targets["quay"])
			continue
		}
		chosen, _ := yaml.Marshal(offer.Targets["quay"][at].Value)
		if told := string(chosen) + offer.Targets["quay"][at].Wrong; !strings.Contains(strings.ReplaceAll(told, "\n    - ", " ["), strings.TrimSuffix(want, "]")) {
			t.Errorf("%s: it is %s", text, told)
		}
		if typed := strings.Contains(want, "9000"); typed && offer.Targets["isle"][0].Value["listen"] != "127.0.0.1:8081" {
			t.Errorf("%s: isle is offered %v", text, offer.Targets["isle"])
		}
	}
}

// TestExploreNothing offers what new sites could run on where nothing is known, as in a made-up world.
func TestExploreNothing(t *testing.T) {
	repository := committed(t, map[string]string{"tides.yaml": "aditus: 1\nworkload: tides\nsites: [quay]\nparts: {app: {kind: service, command: [/bin/sleep, '9'], instances: 1}}\n"})
	l := settled(t, config.Settings{Line: "Skerry Line", Beat: time.Second})
	offer, err := l.Explore(t.Context(), policy.Actor{Name: "root", Known: policy.ByAccount, Scopes: policy.Scopes}, Asked{Repository: repository, Targets: map[string]string{"quay": "local"}})
	if err != nil || len(offer.Targets["quay"]) != 1 || offer.Targets["quay"][0].Wrong == "" {
		t.Errorf("quay can run on %+v, %v", offer.Targets["quay"], err)
	}
}

// placing is a site that tells what it would make of a revision.
type placing struct{ target.Driver }

func (placing) Try(_ context.Context, workload string, d declare.Desired) (all []target.Trial, err error) {
	for name := range d.Parts {
		all = append(all, target.Trial{Part: name, ID: "Deployment/lantern", Told: []string{workload + " is there, and is taken over"}}, target.Trial{Part: name, ID: "Role/lantern", Refused: "it may not be made"})
	}
	return all, nil
}

// TestExploreObjects looks at a folder of objects: as which workload and where is asked for, and the site says what it would make of it.
func TestExploreObjects(t *testing.T) {
	repository := committed(t, map[string]string{
		"manifests/all.yaml": "apiVersion: apps/v1\nkind: Deployment\nmetadata: {name: lantern}\nspec: {selector: {matchLabels: {app: lantern}}, template: {metadata: {labels: {app: lantern}}, spec: {containers: [{name: lantern, image: 'registry.skerry.example/lantern:1'}]}}}\n",
		"deploy/tides.yaml":  "aditus: 1\nworkload: tides\nsites: [north]\nparts: {app: {kind: servce}}\n",
	})
	shore := sim.Kind
	shore.Name, shore.Objects = "shore", func(config.Site, declare.Desired) ([]map[string]any, error) { return nil, nil }
	shore.New = func(site string, _ []config.Site, _ string) (config.Target, error) {
		return config.Target{Kind: "shore", Namespace: site}, nil
	}
	shore.Can = map[string]string{target.CanObjects: "yes"}
	closed := 0
	shore.Open = func(g target.Ground, sites []config.Site) (target.Opened, error) {
		if !g.ReadOnly {
			t.Error("it is opened to be changed")
		}
		opened, err := sim.Kind.Open(target.Ground{Folder: t.TempDir()}, []config.Site{{Name: sites[0].Name, Target: config.Target{Kind: sim.Kind.Name}}})
		for name, d := range opened.Drivers {
			opened.Drivers[name] = placing{d}
		}
		opened.Close = func() { closed++ }
		return opened, err
	}
	l := settled(t, config.Settings{Line: "Skerry Line", Beat: time.Second, Sites: []config.Site{{Name: "north", Target: config.Target{Kind: sim.Kind.Name}}}})
	l.Kinds = []target.Kind{local.Kind, shore, sim.Kind}
	own := policy.Actor{Name: "root", Known: policy.ByAccount, Scopes: policy.Scopes}
	offer, err := l.Explore(t.Context(), own, Asked{Repository: repository})
	if err != nil || len(offer.Wrong) != 2 || !strings.Contains(offer.Wrong[1], "deploy/tides.yaml:4:21") || len(offer.Berths) != 0 {
		t.Errorf("what is wrong: %q %+v %v", offer.Wrong, offer.Berths, err)
	}
	offer, err = l.Explore(t.Context(), own, Asked{Repository: repository, Folder: "manifests"})
	if err != nil || len(offer.Berths) != 0 || len(offer.Targets) != 0 {
		t.Errorf("before it is said where: %+v %v", offer, err)
	}
	offer, err = l.Explore(t.Context(), own, Asked{Repository: repository, Folder: "manifests", Workload: "lanterns", Sites: []string{"harbour"}})
	want := Foreseen{Workload: "lanterns", Site: "harbour", Version: "1", Parts: []string{"objects: Deployment"}, Told: []string{"Deployment/lantern: lanterns is there, and is taken over"}, Refused: []string{"Role/lantern: it may not be made"}}
	if err != nil || len(offer.Berths) != 1 || !reflect.DeepEqual(offer.Berths[0], want) || closed != 1 {
		t.Errorf("it would be %+v, %d closed, %v", offer.Berths, closed, err)
	}
	if on := offer.Targets["harbour"]; len(on) != 1 || on[0].Kind != "shore" {
		t.Errorf("objects can be on %+v", on)
	}
	if _, err := l.Explore(t.Context(), own, Asked{Repository: repository, Folder: "nowhere"}); !errors.Is(err, fault.ErrNotFound) {
		t.Errorf("a folder that is none: %v", err)
	}
}

// TestSecondLink connects another repository: from then on the first one may declare what it declares now, and no more.
func TestSecondLink(t *testing.T) {
	first := committed(t, map[string]string{"tides.yaml": "aditus: 1\nworkload: tides\nsites: [north]\nparts: {app: {kind: service, command: [/bin/sleep, '9'], instances: 1}}\n"})
	other := committed(t, map[string]string{"buoys.yaml": "aditus: 1\nworkload: buoys\nsites: [north]\nparts: {app: {kind: service, command: [/bin/sleep, '9'], instances: 1}}\n", "tides.yaml": "aditus: 1\nworkload: tides\nsites: [north]\nparts: {app: {kind: service, command: [/bin/sleep, '9'], instances: 1}}\n"})
	settings := config.Settings{Line: "Skerry Line", Beat: time.Second, Links: []config.Link{{Name: "line", Repository: first, Branch: "main", Every: time.Minute}}, Sites: []config.Site{{Name: "north", Target: config.Target{Kind: sim.Kind.Name}}}}
	l := settled(t, settings)
	l.Kinds = []target.Kind{sim.Kind}
	if _, err := config.Put(l.Folder, settings, nil, false, nil); err != nil {
		t.Fatal(err)
	}
	ctx, end := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- l.Run(ctx) }()
	defer func() {
		end()
		<-ended
	}()
	changed := l.Changed(ctx)
	for l.Snapshot(ctx).Links[0].Commit == "" {
		<-changed
	}
	own := policy.Actor{Name: "root", Known: policy.ByAccount, Scopes: policy.Scopes}
	offer, err := l.Explore(ctx, own, Asked{Repository: other})
	if err != nil || !slices.Equal(offer.Narrowed, []string{"line"}) || len(offer.Wrong) != 1 || !strings.Contains(offer.Wrong[0], `"tides" is declared by the link line already`) {
		t.Fatalf("it offers %+v %v", offer, err)
	}
	if told := fmt.Sprint(offer.May["workloads"], offer.May["sites"], offer.May["kinds"]); told != "[buoys tides] [north] [service]" {
		t.Errorf("it would be allowed %s", told)
	}
	link := map[string]any{"repository": other, "branch": "main", "folder": ".", "every": "1m", "may": offer.May}
	if err := l.PutSettings(ctx, own, nil, config.Entry{Section: "links", Name: "shore", Value: link}); err != nil {
		t.Fatal(err)
	}
	after, _ := l.Rules()
	if len(after.Links) != 2 || after.Links[0].May == nil || !slices.Equal(after.Links[0].May.Workloads, []string{"tides"}) || after.Links[1].May == nil {
		t.Errorf("the links are %+v", after.Links)
	}
	files := committed(t, map[string]string{"masts.yaml": "aditus: 1\nworkload: masts\nsites: [north]\nparts: {app: {kind: service, artifact: 'file:/srv/none/masts.tar'}}\n"})
	for _, far := range []bool{true, false} { // from elsewhere nothing is told of what files there are
		var offer Offer
		err := l.foresee(ctx, far, config.Link{Name: "masts", Repository: files, Branch: "main", Folder: ".", Every: time.Minute}, source.Access{}, []string{"north"}, &offer)
		if told := strings.Join(offer.Wrong, "; "); err != nil || far == strings.Contains(told, "masts.tar") || far != strings.Contains(told, "files: that is of the machine") {
			t.Errorf("far %v: %s %v", far, told, err)
		}
	}
	third := committed(t, map[string]string{"cranes.yaml": "aditus: 1\nworkload: cranes\nsites: [north]\nparts: {app: {kind: service, command: [/bin/sleep, '9'], instances: 1}}\n"})
	if offer, err := l.Explore(ctx, own, Asked{Repository: third}); err != nil || len(offer.Wrong) != 0 || len(offer.Narrowed) != 0 || len(offer.Berths) != 1 {
		t.Errorf("a third one: %+v %v", offer, err)
	}
}
