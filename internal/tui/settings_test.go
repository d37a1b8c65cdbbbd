package tui

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/config"
	"aditus/internal/control"
	"aditus/internal/core/policy"
	"aditus/internal/source"
	"aditus/internal/status"
	"aditus/internal/view/storytest"
)

// settled are settings that are changed by what they are asked to, and tokens.
type settled struct {
	changes []string
	offer   control.Offer
	shown   *source.Credential // to whom was asked last
	refuse  error
}

func (s *settled) Settings(context.Context, policy.Actor) (map[string]any, error) {
	return map[string]any{
		"links": []any{
			map[string]any{"name": "line", "branch": "main", "every": "10s", "folder": "declarations", "repository": "https://git.skerry.example/line.git"},
			map[string]any{"name": "shore-base", "repository": "oci://registry.skerry.example/shore/base", "version": "^1.4", "every": "5m0s"},
		},
		"sites": []any{map[string]any{"name": "drydock", "automatic": true, "target": map[string]any{"kind": "local", "listen": "127.0.0.1:8080"}}},
		"sinks": []any{map[string]any{"name": "bridge", "webhook": map[string]any{"url": "https://hooks.skerry.example/…", "credential": "bridge"}}},
	}, nil
}

func (s *settled) Explore(_ context.Context, _ policy.Actor, a control.Asked) (control.Offer, error) {
	s.changes, s.shown = append(s.changes, "explore "+a.Repository+" "+a.Branch), a.Credential
	if s.refuse != nil {
		return control.Offer{}, s.refuse
	}
	offer := s.offer
	offer.Where, offer.Branch, offer.Folder = a.Repository, cmp.Or(a.Branch, "main"), cmp.Or(a.Folder, offer.Folders[0].Folder)
	offer.Targets = map[string][]control.Target{}
	for site, all := range s.offer.Targets {
		all, asked := slices.Clone(all), a.Targets[site]
		at := max(0, slices.IndexFunc(all, func(t control.Target) bool { return strings.Contains(asked, "kind: "+t.Kind) }))
		if strings.Contains(asked, "quay:90") {
			at, all = len(all), append(all, control.Target{Kind: "local", Means: "processes at quay:90", Value: map[string]any{"kind": "local", "listen": "quay:90"}})
		}
		all[at].Chosen = true
		offer.Targets[site] = all
	}
	if offer.Folder != offer.Folders[0].Folder {
		offer.Berths = nil
		for _, site := range a.Sites {
			offer.Berths = append(offer.Berths, control.Foreseen{Workload: a.Workload, Site: site, Parts: []string{"objects: Deployment, Service"}, Told: []string{"Deployment/lantern is there and is taken over"}})
		}
	}
	return offer, nil
}

func (s *settled) PutSettings(_ context.Context, _ policy.Actor, _ map[string]source.Credential, entries ...config.Entry) error {
	for _, e := range entries {
		s.changes = append(s.changes, fmt.Sprint(e.Section, " ", e.Name, " ", e.Value))
	}
	return s.refuse
}

func (s *settled) DropSetting(_ context.Context, _ policy.Actor, section, name string) error {
	s.changes = append(s.changes, "without "+section+" "+name)
	return s.refuse
}

func (s *settled) PutCredential(_ context.Context, _ policy.Actor, name string, c *source.Credential) error {
	s.changes = append(s.changes, fmt.Sprintf("credential %s %s %s", name, c.User, c.Password))
	return s.refuse
}

func (s *settled) MakeHook(_ context.Context, _ policy.Actor, link string) (string, error) {
	s.changes = append(s.changes, "webhook of "+link)
	return "HOOKSECRET", s.refuse
}

func (s *settled) Tokens(context.Context, policy.Actor) ([]control.TokenShown, error) {
	return []control.TokenShown{{NewToken: control.NewToken{Name: "wall", Scopes: []policy.Scope{policy.Look}}, Made: time.Date(2026, 3, 1, 12, 0, 0, 0, time.Local)}}, s.refuse
}

func (s *settled) MakeToken(_ context.Context, _ policy.Actor, n control.NewToken) (string, error) {
	s.changes = append(s.changes, fmt.Sprint("token ", n.Name, n.Scopes, n.Sites))
	return "aditus_ONCE", s.refuse
}

func (s *settled) RemoveToken(_ context.Context, _ policy.Actor, name string) error {
	s.changes = append(s.changes, "without token "+name)
	return s.refuse
}

// TestSettings writes entries, gives credentials, makes and takes out tokens, and loses nothing of what was written where it is refused or left.
func TestSettings(t *testing.T) {
	a, f := app(t)
	s := &f.settings
	shows := func(want string) {
		t.Helper()
		if text := frame(a, 158, 47); !strings.Contains(text, want) {
			t.Errorf("%q is not on the screen:\n%s", want, text)
		}
	}
	did := func(want ...string) {
		t.Helper()
		if !slices.Equal(s.changes, want) {
			t.Errorf("it was asked for %q, want %q", s.changes, want)
		}
		s.changes = nil
	}
	press(a, ", down enter")
	s.refuse = errors.New("every: it is too short")
	press(a, "down down down end x ctrl+s")
	shows("Every: it is too short.")
	did("links line map[branch:main every:10sx folder:declarations repository:https://git.skerry.example/line.git]")
	press(a, "esc")
	shows("What you wrote is there when you come back.")
	press(a, "enter")
	shows("every: 10sx")
	shows("This is as you left it")
	s.refuse = nil
	press(a, "ctrl+r ctrl+s")
	did("links line map[branch:main every:10s folder:declarations repository:https://git.skerry.example/line.git]")
	shows("The link line is written.")
	press(a, "enter")
	shows("every: 10s\n")
	press(a, "esc N w a l l enter")
	shows("link wall")
	press(a, "esc c m a r e n enter h i d d e n")
	shows("••••••")
	press(a, "enter")
	did("credential line maren hidden")
	press(a, "W enter")
	did("webhook of line")
	shows("shown this once: HOOKSECRET")
	press(a, "X l i n enter")
	did()
	press(a, "X l i n e enter")
	did("without links line")
	press(a, "end enter")
	shows("A token stays what it was made as")
	press(a, "N t a b enter down space s i t e s : ctrl+s")
	shows("line 2")
	press(a, "ctrl+r down s i t e s : enter - space d r y ctrl+s")
	did("token tab[look] [dry]")
	shows("The token tab, shown this once: aditus_ONCE")
	press(a, "X w a l l enter")
	did("without token wall")
	press(a, "home N l i n e enter")
	shows("There is a link line already")
	s.refuse = errors.New("you may not change the line")
	press(a, "esc ,")
	shows("You may not change the line.")
}

// TestLinkSettings switches a link off, and goes to its entry in the settings.
func TestLinkSettings(t *testing.T) {
	a, f := app(t)
	name := f.Story.Snapshot.Links[0].Name
	press(a, "L p")
	if text := frame(a, 158, 47); !strings.Contains(text, "Switch the link "+name+" off? It is not read any more") {
		t.Errorf("it is not asked:\n%s", text)
	}
	press(a, "enter")
	if text := frame(a, 158, 47); !strings.Contains(text, "The link "+name+" does not stand in the settings") {
		t.Errorf("what is not there is changed:\n%s", text)
	}
	for off, want := range map[bool]string{false: "links line map[branch:main every:10s folder:declarations off:true repository:https://git.skerry.example/line.git]", true: "links line map[branch:main every:10s folder:declarations repository:https://git.skerry.example/line.git]"} {
		a, f = app(t)
		f.Story.Snapshot.Links = []status.Link{{Name: "line", Off: off}}
		a.snapshot = f.Story.Snapshot
		press(a, "L p enter")
		if got := strings.Join(f.settings.changes, " "); got != want {
			t.Errorf("off %v: changed %q, want %q\n%s", off, got, want, frame(a, 158, 47))
		}
		if text := frame(a, 158, 47); strings.Contains(text, "switched off: it is not read") != off {
			t.Errorf("off %v is not told:\n%s", off, text)
		}
		press(a, "enter enter")
		if text := frame(a, 158, 47); !strings.Contains(text, "link line") || !strings.Contains(text, "repository: https://git.skerry.example/line.git") {
			t.Errorf("its entry is not written:\n%s", text)
		}
	}
}

// connectable is what a repository offers: two folders for a site that there is and one that there isn't.
func connectable() control.Offer {
	return control.Offer{
		Took: 84 * time.Millisecond, Branches: []string{"main", "next"}, Head: source.Commit{Hash: "948c7d4e", Subject: "Declare the quay", Author: "Maren Oake"},
		Folders: []source.Found{
			{Folder: "deploy/workloads", Workloads: []source.FoundWorkload{{Name: "quay", Sites: []string{"drydock", "harbour"}}, {Name: "berths", Sites: []string{"harbour"}}}},
			{Folder: "manifests", Objects: []string{"Deployment/lantern", "Service/lantern"}},
		},
		Targets: map[string][]control.Target{"harbour": {
			{Kind: "local", Means: "processes on this machine, HTTP at 127.0.0.1:8081", Value: map[string]any{"kind": "local", "listen": "127.0.0.1:8081"}},
			{Kind: "cluster", Means: "the namespace harbour of a cluster", Value: map[string]any{"kind": "cluster", "namespace": "harbour"}, Wrong: "there is no kubeconfig"},
		}},
		Berths: []control.Foreseen{
			{Workload: "quay", Site: "drydock", Version: "2.4.1", Parts: []string{"app × 3 of quay:2.4.1", "any host to app"}},
			{Workload: "quay", Site: "harbour", Version: "2.4.1", Parts: []string{"app × 3 of quay:2.4.1", "any host to app"}},
			{Workload: "berths", Site: "harbour", Parts: []string{"app of berths:1.0.0"}, Refused: []string{"app: image pulls are not for processes"}},
		},
		May: map[string]any{"workloads": []any{"quay", "berths"}}, Narrowed: []string{"line"},
	}
}

// TestConnectBundle looks at the values of a bundle's variables, and gives one another.
func TestConnectBundle(t *testing.T) {
	a, f := app(t)
	s := &f.settings
	s.offer = connectable()
	s.offer.Branches, s.offer.Branch = nil, ""
	s.offer.Folders = []source.Found{{Folder: ".", Workloads: []source.FoundWorkload{{Name: "lanterns", Sites: []string{"drydock"}}}, Variables: []source.FoundVariable{
		{Name: "log-level", Values: []string{"info", "debug"}, Workloads: []string{"lanterns"}}, {Name: "tide", Values: []string{"low"}, Workloads: []string{"lanterns"}},
	}}}
	press(a, "C o c i : / / h / l enter down down enter ^ 1 enter")
	storytest.Golden(t, "connect-bundle-100x30.txt", frame(a, 100, 30))
	press(a, "end enter h i g h enter")
	if got := frame(a, 158, 47); !strings.Contains(got, "high, instead of low; used by lanterns") || !strings.Contains(got, "with 1 variable of your own") {
		t.Errorf("it is not told:\n%s", got)
	}
	press(a, "w")
	if text := fmt.Sprint(s.changes); !strings.Contains(text, "tide:high") || strings.Contains(text, "log-level") {
		t.Errorf("written is %s", text)
	}
}

// TestConnectKey goes in with an ssh key, which is read where the screens are.
func TestConnectKey(t *testing.T) {
	a, f := app(t)
	t.Setenv("HOME", t.TempDir())
	if err := os.WriteFile(filepath.Join(os.Getenv("HOME"), "key"), []byte("-----BEGIN"), 0o600); err != nil {
		t.Fatal(err)
	}
	press(a, "C g i t @ h : l enter down enter ~ / k e y enter s e a enter")
	if c := f.settings.shown; c == nil || c.Key != "-----BEGIN" || c.Passphrase != "sea" {
		t.Errorf("it is asked with %#v", c)
	}
	if got := frame(a, 158, 47); !strings.Contains(got, "with an ssh key; kept encrypted") {
		t.Errorf("it is not told:\n%s", got)
	}
	press(a, "enter ~ / n o n e enter enter")
	if got := frame(a, 158, 47); !strings.Contains(got, "The ssh key cannot be read") {
		t.Errorf("a file that is none:\n%s", got)
	}
	press(a, "enter enter enter enter") // no file, no user, no password
	if f.settings.shown != nil {
		t.Error("it is still asked with the key")
	}
}

// TestConnect connects a repository by answering one line after another, in any order, with what is wrong told in place, and writes nothing before
// all of it is right.
func TestConnect(t *testing.T) {
	a, f := app(t)
	s := &f.settings
	s.offer = connectable()
	shows := func(want ...string) {
		t.Helper()
		for _, text := range want {
			if got := frame(a, 158, 47); !strings.Contains(got, text) {
				t.Errorf("%q is not on the screen:\n%s", text, got)
			}
		}
	}
	did := func(want ...string) {
		t.Helper()
		if !slices.Equal(s.changes, want) {
			t.Errorf("it was asked for %q, want %q", s.changes, want)
		}
		s.changes = nil
	}
	press(a, "C esc w")
	shows("It cannot be written yet: the repository has not answered yet.")
	s.refuse = errors.New("the repository cannot be reached: check the address")
	press(a, "enter h t t p s : / / g i t / Q u a y . g i t enter")
	did("explore https://git/Quay.git ")
	shows("The repository cannot be reached: check the address.")
	s.refuse = nil
	press(a, "esc C v") // what was given is there
	did("explore https://git/Quay.git ", "explore https://git/Quay.git ")
	shows("answers in 84 ms: “Declare the quay” by Maren Oake is the newest", "main, at 948c7d4; 1 more to choose from", "settings.yaml gets the link quay and 1 site: harbour.", "The first look finds 3 berths.", "quay 2.4.1 at drydock and harbour: app × 3 of quay:2.4.1, any host to app", "berths at harbour: app of berths:1.0.0", "berths cannot be at harbour: app: image pulls are not for processes", "so may line from then on")
	press(a, "down enter m a r e n enter s e c r e t enter")
	did("explore https://git/Quay.git ")
	shows("as maren, with a password or token")
	press(a, "down right")
	did("explore https://git/Quay.git next")
	press(a, "down right")
	shows("manifests: all of these objects together", "enter names one or several: drydock", "it is not said yet at which sites the objects run")
	press(a, "w down enter ctrl+u l i g h t enter down enter h a r b o u r enter")
	shows("light: all of these objects together", "light at harbour: objects: Deployment, Service", "light at harbour: Deployment/lantern is there and is taken over")
	s.changes = nil
	press(a, "up up left down enter end right")
	s.changes = nil
	shows("by itself: new sites take", "The namespace harbour of a cluster: there is no kubeconfig. Write it otherwise with enter, or choose local.", "harbour cannot run on what is chosen for it")
	press(a, "w")
	did()
	press(a, "enter ctrl+u l o c a l = q u a y : 9 0 enter")
	shows("processes at quay:90; or cluster")
	press(a, "right right right") // what was typed is among the choices
	shows("processes at quay:90; or cluster")
	press(a, "right")
	shows("processes on this machine, HTTP at 127.0.0.1:8081; or cluster")
	s.refuse = errors.New("a link quay is there already")
	press(a, "w")
	shows("A link quay is there already")
	s.changes, s.refuse = nil, nil
	f.Story.Snapshot.Links[0].Name = "quay"
	run(a, a.snap())
	press(a, "w")
	did()
	shows("there is a link quay already: give this one another name")
	press(a, "up enter x enter w")
	did("sites harbour map[automatic:true target:map[kind:local listen:127.0.0.1:8081]]", "links quayx map[branch:next every:1m folder:deploy/workloads may:map[workloads:[quay berths]] repository:https://git/Quay.git]")
	shows("The link quayx is written, and read at once.", "NEEDS YOU")
	press(a, "C")
	shows("an address: https://HOST/PATH")
}

// memory keeps what is left as JSON, as a file does.
type memory map[string][]byte

func (m memory) Recall(name string, into any) {
	if text := m[name]; text != nil {
		json.Unmarshal(text, into)
	}
}

func (m memory) Remember(name string, what any) {
	if m[name], _ = json.Marshal(what); what == nil {
		delete(m, name)
	}
}

// TestLeft finds the screens as they were left by another start of the program, but for what is secret.
func TestLeft(t *testing.T) {
	left := memory{}
	open := func() (*App, *fake) {
		f := &fake{Story: storytest.Load(t), settings: settled{offer: connectable()}}
		a := New(t.Context(), f, Options{Who: policy.Actor{Name: "Maren Oake"}, Settings: &f.settings, Memory: left})
		a.Update(tea.WindowSizeMsg{Width: 158, Height: 47})
		return a, f
	}
	a, _ := open()
	press(a, "z > / s i t e : n o r t h enter")
	run(a, a.snap())
	press(a, "C h t t p s : / / g i t / Q u a y . g i t enter down enter m a r e n enter s e c r e t enter")
	a, f := open()
	if got := frame(a, 158, 47); !strings.Contains(got, "site:north") || !strings.Contains(got, "BY NEED") || !strings.Contains(got, "▾ needs you") {
		t.Errorf("the board is not as it was left:\n%s", got)
	}
	press(a, "C")
	if got := frame(a, 158, 47); !strings.Contains(got, "https://git/Quay.git answers") || !strings.Contains(got, "without a credential") || len(f.settings.changes) != 1 {
		t.Errorf("what was given is not there, %q:\n%s", f.settings.changes, got)
	}
	if _, cmd := a.Update(tea.KeyPressMsg{Code: 'v', Text: "v"}); cmd == nil || !strings.Contains(frame(a, 158, 47), "it is being asked") {
		t.Errorf("it can be written while it is asked:\n%s", frame(a, 158, 47))
	}
	press(a, "v end w")
	if left["connect"] != nil {
		t.Errorf("what was written is still there: %s", left["connect"])
	}
	press(a, "C h t t p s : / / m a r e n : s e c r e t @ g i t / Q u a y . g i t enter")
	for name, text := range left {
		if strings.Contains(string(text), "secret") {
			t.Errorf("%s keeps a secret: %s", name, text)
		}
	}
}
