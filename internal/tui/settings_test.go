package tui

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"aditus/internal/config"
	"aditus/internal/control"
	"aditus/internal/core/policy"
	"aditus/internal/source"
)

// settled are settings that are changed by what they are asked to, and tokens.
type settled struct {
	changes []string
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
