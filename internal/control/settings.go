package control

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"aditus/internal/config"
	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/core/policy"
	"aditus/internal/core/say"
	"aditus/internal/engine"
	"aditus/internal/source"
)

// Settler changes the settings, in the name of whoever asks. It takes the scope change for the whole line.
type Settler interface {
	// Explore looks at what a repository offers, and changes nothing.
	Explore(ctx context.Context, who policy.Actor, a Asked) (Offer, error)
	// Settings gives them, without what is secret in them.
	Settings(ctx context.Context, who policy.Actor) (map[string]any, error)
	// PutSettings keeps credentials by their names, and writes entries of links, sites, sinks, follow, registries, metrics-stores and alerts, all or none. From far away a
	// credential that is there already is shown nowhere else than before.
	PutSettings(ctx context.Context, who policy.Actor, given map[string]source.Credential, entries ...config.Entry) error
	// DropSetting takes one out.
	DropSetting(ctx context.Context, who policy.Actor, section, name string) error
	// PutCredential keeps a credential of a link, a registry's host, or a sink; nil forgets it.
	PutCredential(ctx context.Context, who policy.Actor, name string, c *source.Credential) error
	// MakeHook makes the secret of a link's webhook, and gives it.
	MakeHook(ctx context.Context, who policy.Actor, link string) (string, error)
}

// Tokener has the tokens of a server, in the name of whoever asks. It takes the scope change for the whole line.
type Tokener interface {
	Tokens(ctx context.Context, who policy.Actor) ([]TokenShown, error)
	// MakeToken makes a token, and gives it, which is shown this once.
	MakeToken(ctx context.Context, who policy.Actor, n NewToken) (string, error)
	RemoveToken(ctx context.Context, who policy.Actor, name string) error
}

// NewToken is a token to be made.
type NewToken struct {
	Name    string         `json:"name"`
	Owner   string         `json:"owner,omitempty"`
	Scopes  []policy.Scope `json:"scopes"`
	Expires time.Time      `json:"expires,omitzero"`
	policy.Narrow
}

// TokenShown is a token as it may be shown.
type TokenShown struct {
	NewToken
	Made time.Time `json:"made"`
	Used time.Time `json:"used,omitzero"` // last, as far as it is known
}

// settles tells why somebody may not change the settings.
func (l Live) settles(ctx context.Context, who policy.Actor) error {
	return l.may(ctx, who, berth.ID{}, policy.Change)
}

// Settings implements Settler.
func (l Live) Settings(ctx context.Context, who policy.Actor) (map[string]any, error) {
	if err := l.settles(ctx, who); err != nil {
		return nil, err
	}
	settings, _ := l.Rules()
	return settings.Shown()
}

// PutSettings implements Settler.
func (l Live) PutSettings(ctx context.Context, who policy.Actor, given map[string]source.Credential, entries ...config.Entry) error {
	if err := l.settles(ctx, who); err != nil {
		return err
	}
	if who.Known != policy.ByAccount {
		if err := l.shownElsewhere(given, entries); err != nil {
			return err
		}
	}
	var what []string
	for _, name := range slices.Sorted(maps.Keys(given)) {
		what = append(what, "the credential "+name)
	}
	for _, e := range entries {
		what = append(what, fmt.Sprintf("%s of the %s", e.Name, e.Section))
	}
	before, _ := l.Rules()
	s, err := Settle(l.Folder, config.Settings{}, given, entries, who.Known != policy.ByAccount, l.Check)
	if err == nil && len(s.Links) > max(1, len(before.Links)) {
		for _, name := range l.unbound(before) {
			what = append(what, "what "+name+" may declare, which is not the only link any more,")
			if s, err = config.SetMay(l.Folder, name, config.MayOf(declare.GrantOf(l.Declares(name)))); err != nil {
				break
			}
		}
	}
	return l.settled(ctx, who, s, err, "%s set", say.List(what))
}

// unbound are the links that may declare everything as long as they are the only one. What they declare now is what they may, as soon as there
// is another one.
func (l Live) unbound(settings config.Settings) (names []string) {
	declares := map[string]bool{}
	for _, link := range l.Engine.Snapshot().Links {
		declares[link.Name] = link.Berths > 0
	}
	for _, link := range settings.Links {
		if link.May == nil && declares[link.Name] {
			names = append(names, link.Name)
		}
	}
	return names
}

// errRight is that settings would be right.
var errRight = errors.New("these would be right")

// Settle keeps credentials, and writes entries into the settings of a data folder, all or none: nothing is kept where something is not right.
// Credentials are there first, so that nothing is asked with those from before.
func Settle(folder string, first config.Settings, given map[string]source.Credential, entries []config.Entry, far bool, check func(config.Settings) error) (config.Settings, error) {
	right := func(s config.Settings) error {
		if check != nil {
			if err := check(s); err != nil {
				return err
			}
		}
		return errRight
	}
	if s, err := config.Put(folder, first, entries, far, right); !errors.Is(err, errRight) {
		return s, err
	}
	if len(given) > 0 {
		key, err := source.OpenKey(folder)
		if err != nil {
			return config.Settings{}, err
		}
		for _, name := range slices.Sorted(maps.Keys(given)) {
			if err := key.KeepCredential(folder, name, new(given[name])); err != nil {
				return config.Settings{}, err
			}
		}
	}
	return config.Put(folder, first, entries, far, check)
}

// shownElsewhere tells which credential would be shown to somebody that it was not given for: whoever may change the settings from far away may
// not read what others gave. A credential that is given with them is theirs.
func (l Live) shownElsewhere(given map[string]source.Credential, entries []config.Entry) error {
	settings, _ := l.Rules()
	for _, e := range entries {
		name, at := e.Uses()
		if _, theirs := given[name]; name == "" || theirs || l.Credentials(name) == (source.Credential{}) {
			continue
		}
		before, was := settings.EntryOf(e.Section, e.Name).Uses()
		if before != name || was != at {
			return fault.New(fault.ErrForbidden, "the credential %s was not given for %s: give it together with this, under credentials", name, at)
		}
	}
	return nil
}

// DropSetting implements Settler.
func (l Live) DropSetting(ctx context.Context, who policy.Actor, section, name string) error {
	if err := l.settles(ctx, who); err != nil {
		return err
	}
	s, err := config.Drop(l.Folder, section, name, who.Known != policy.ByAccount, l.Check)
	return l.settled(ctx, who, s, err, "%s of the %s taken out", name, section)
}

// settled puts on record that the settings were changed, and has them taken at once, with a new start of the engine where it takes one.
func (l Live) settled(ctx context.Context, who policy.Actor, s config.Settings, err error, what string, args ...any) error {
	if errors.Is(err, config.ErrMachine) {
		return fault.New(fault.ErrForbidden, "%v", err)
	}
	if err = l.asked(ctx, who, berth.ID{}, err, what, args...); err != nil {
		return err
	}
	switch err := l.Apply(s); {
	case errors.Is(err, engine.ErrNewStart) && l.Anew != nil:
		l.Anew()
	case err != nil:
		return fmt.Errorf("it is written, and holds from the next start on: %w", err)
	}
	return nil
}

// PutCredential implements Settler.
func (l Live) PutCredential(ctx context.Context, who policy.Actor, name string, c *source.Credential) error {
	if err := l.settles(ctx, who); err != nil {
		return err
	}
	key, err := source.OpenKey(l.Folder)
	if err == nil {
		err = key.KeepCredential(l.Folder, name, c)
	}
	if err == nil {
		l.LookNow(ctx, who, name)
	}
	return l.asked(ctx, who, berth.ID{}, err, "another credential of %s", name)
}

// HookName is the name of the credential that is a webhook's secret.
func HookName(link string) string { return "webhook " + link }

// MakeHook implements Settler.
func (l Live) MakeHook(ctx context.Context, who policy.Actor, link string) (string, error) {
	if err := l.settles(ctx, who); err != nil {
		return "", err
	}
	settings, _ := l.Rules()
	if !slices.ContainsFunc(settings.Links, func(o config.Link) bool { return o.Name == link }) {
		return "", fault.New(fault.ErrNotFound, "%v", settings.ErrNoLink(link))
	}
	secret := rand.Text()
	key, err := source.OpenKey(l.Folder)
	if err == nil {
		err = key.KeepCredential(l.Folder, HookName(link), &source.Credential{Password: secret})
	}
	return secret, l.asked(ctx, who, berth.ID{}, err, "another secret of the webhook of %s", link)
}

// Record puts on record what somebody asked for that nothing else does.
func (l Live) Record(ctx context.Context, who policy.Actor, what string) error {
	return l.asked(ctx, who, berth.ID{}, nil, "%s", what)
}

// Settings implements Settler.
func (s *Standby) Settings(context.Context, policy.Actor) (map[string]any, error) {
	return nil, s.Missing()
}

// PutSettings implements Settler.
func (s *Standby) PutSettings(context.Context, policy.Actor, map[string]source.Credential, ...config.Entry) error {
	return s.Missing()
}

// DropSetting implements Settler.
func (s *Standby) DropSetting(context.Context, policy.Actor, string, string) error {
	return s.Missing()
}

// PutCredential implements Settler.
func (s *Standby) PutCredential(context.Context, policy.Actor, string, *source.Credential) error {
	return s.Missing()
}

// MakeHook implements Settler.
func (s *Standby) MakeHook(context.Context, policy.Actor, string) (string, error) {
	return "", s.Missing()
}

// Record puts nothing on record here.
func (s *Standby) Record(context.Context, policy.Actor, string) error { return s.Missing() }
