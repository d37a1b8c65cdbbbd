package api

import (
	"cmp"
	"context"
	"net/http"
	"net/url"
	"slices"

	"aditus/internal/config"
	"aditus/internal/control"
	"aditus/internal/core/fault"
	"aditus/internal/core/policy"
	"aditus/internal/source"
)

// Secret is something that is shown this once.
type Secret struct {
	Secret string `json:"secret"`
}

// Settings are entries of the settings by section and name, and credentials by name.
type Settings struct {
	Links         map[string]map[string]any    `json:"links,omitempty"`
	Sites         map[string]map[string]any    `json:"sites,omitempty"`
	Sinks         map[string]map[string]any    `json:"sinks,omitempty"`
	Follow        map[string]map[string]any    `json:"follow,omitempty"`
	Registries    map[string]map[string]any    `json:"registries,omitempty"`
	MetricsStores map[string]map[string]any    `json:"metrics-stores,omitempty"`
	Alerts        map[string]map[string]any    `json:"alerts,omitempty"`
	Credentials   map[string]source.Credential `json:"credentials,omitempty"`
}

// section gives the entries of one; nil where there is none of that name.
func (s *Settings) section(name string) *map[string]map[string]any {
	return map[string]*map[string]map[string]any{"links": &s.Links, "sites": &s.Sites, "sinks": &s.Sinks, "follow": &s.Follow, "registries": &s.Registries, "metrics-stores": &s.MetricsStores, "alerts": &s.Alerts}[name]
}

// Entries are all but the credentials, in order.
func (s Settings) Entries() (entries []config.Entry) {
	for _, section := range config.Sections {
		for name, value := range *s.section(section) {
			entries = append(entries, config.Entry{Section: section, Name: name, Value: value})
		}
	}
	slices.SortFunc(entries, func(a, b config.Entry) int {
		return cmp.Or(cmp.Compare(a.Section, b.Section), cmp.Compare(a.Name, b.Name))
	})
	return entries
}

// TokenList is all tokens.
type TokenList struct {
	Tokens []control.TokenShown `json:"tokens"`
}

// whole tells why whoever asks may not do something for the whole line.
func (c call) whole(ctx context.Context, scopes ...policy.Scope) error {
	return c.Policy(ctx).May(c.who, "", "", scopes...)
}

func (c call) listTokens(ctx context.Context) (list TokenList, err error) {
	if err = c.whole(ctx, policy.Change); err != nil {
		return list, err
	}
	list.Tokens, err = c.tokens.Shown()
	return list, err
}

// Shown gives all tokens as they may be shown.
func (t *Tokens) Shown() ([]control.TokenShown, error) {
	all, err := t.List()
	used, shown := t.Used(), []control.TokenShown{}
	for _, o := range all {
		shown = append(shown, control.TokenShown{NewToken: control.NewToken{Name: o.Name, Owner: o.Owner, Scopes: o.Scopes, Expires: o.Expires, Narrow: o.Narrow}, Made: o.Made, Used: used[o.Name]})
	}
	return shown, err
}

// makeToken makes a token. Nobody gives away what they may not themselves, nor makes one that counts as somebody else.
func (c call) makeToken(ctx context.Context, n control.NewToken) (string, error) {
	if err := c.whole(ctx, append(slices.Clone(n.Scopes), policy.Change)...); err != nil {
		return "", err
	}
	if c.who.Known != policy.ByAccount {
		if n.Owner != "" && n.Owner != c.who.Person() {
			return "", fault.New(fault.ErrForbidden, "a token of %s is made by %s, or on the machine", n.Owner, n.Owner)
		}
		for name, team := range c.Policy(ctx).Teams {
			if n.Owner == "" && n.Name != c.who.Person() && slices.Contains(team.People, n.Name) {
				return "", fault.New(fault.ErrForbidden, "%s is of the team %s: a token that counts as such a one is made on the machine", n.Name, name)
			}
		}
	}
	token, err := c.tokens.Make(Token{Name: n.Name, Owner: n.Owner, Scopes: n.Scopes, Expires: n.Expires, Narrow: n.Narrow})
	if err != nil {
		return "", err
	}
	return token, c.Record(ctx, c.who, "the token "+n.Name+" made")
}

func (c call) removeToken(ctx context.Context) error {
	if err := c.whole(ctx, policy.Change); err != nil {
		return err
	}
	if err := c.tokens.Remove(c.name); err != nil {
		return errNotFound(err.Error())
	}
	return c.Record(ctx, c.who, "the token "+c.name+" removed")
}

// Settings implements control.Settler.
func (r *Remote) Settings(ctx context.Context, _ policy.Actor) (s map[string]any, err error) {
	err = r.ask(ctx, http.MethodGet, "/v1/settings", nil, nil, &s)
	return s, err
}

// PutSettings implements control.Settler.
func (r *Remote) PutSettings(ctx context.Context, _ policy.Actor, given map[string]source.Credential, entries ...config.Entry) error {
	all := Settings{Credentials: given}
	for _, e := range entries {
		of := all.section(e.Section)
		if of == nil {
			return fault.New(fault.ErrNotFound, "there is no section %q", e.Section)
		}
		if *of == nil {
			*of = map[string]map[string]any{}
		}
		(*of)[e.Name] = e.Value
	}
	return r.ask(ctx, http.MethodPut, "/v1/settings", nil, all, &Done{})
}

// DropSetting implements control.Settler.
func (r *Remote) DropSetting(ctx context.Context, _ policy.Actor, section, name string) error {
	return r.ask(ctx, http.MethodDelete, "/v1/settings/"+url.PathEscape(section)+"/"+url.PathEscape(name), nil, nil, &Done{})
}

// PutCredential implements control.Settler.
func (r *Remote) PutCredential(ctx context.Context, _ policy.Actor, name string, c *source.Credential) error {
	if c == nil {
		return r.ask(ctx, http.MethodDelete, "/v1/credentials/"+url.PathEscape(name), nil, nil, &Done{})
	}
	return r.ask(ctx, http.MethodPut, "/v1/credentials/"+url.PathEscape(name), nil, c, &Done{})
}

// MakeHook implements control.Settler.
func (r *Remote) MakeHook(ctx context.Context, _ policy.Actor, link string) (string, error) {
	var made Secret
	err := r.ask(ctx, http.MethodPost, "/v1/links/"+url.PathEscape(link)+"/webhook", nil, nil, &made)
	return made.Secret, err
}

// Explore implements control.Settler.
func (r *Remote) Explore(ctx context.Context, _ policy.Actor, a control.Asked) (offer control.Offer, err error) {
	err = r.ask(ctx, http.MethodPost, "/v1/explore", nil, a, &offer)
	return offer, err
}

// Tokens implements control.Tokener.
func (r *Remote) Tokens(ctx context.Context, _ policy.Actor) ([]control.TokenShown, error) {
	var list TokenList
	err := r.ask(ctx, http.MethodGet, "/v1/tokens", nil, nil, &list)
	return list.Tokens, err
}

// MakeToken implements control.Tokener.
func (r *Remote) MakeToken(ctx context.Context, _ policy.Actor, n control.NewToken) (string, error) {
	var made Secret
	err := r.ask(ctx, http.MethodPost, "/v1/tokens", nil, n, &made)
	return made.Secret, err
}

// RemoveToken implements control.Tokener.
func (r *Remote) RemoveToken(ctx context.Context, _ policy.Actor, name string) error {
	return r.ask(ctx, http.MethodDelete, "/v1/tokens/"+url.PathEscape(name), nil, nil, &Done{})
}
