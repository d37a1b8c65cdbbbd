package api

import (
	"cmp"
	"context"
	"net/http"
	"net/url"
	"slices"
	"time"

	"aditus/internal/config"
	"aditus/internal/core/fault"
	"aditus/internal/core/policy"
	"aditus/internal/source"
)

// Secret is something that is shown this once.
type Secret struct {
	Secret string `json:"secret"`
}

// NewToken is a token to be made.
type NewToken struct {
	Name    string         `json:"name"`
	Owner   string         `json:"owner,omitempty"`
	Scopes  []policy.Scope `json:"scopes"`
	Expires time.Time      `json:"expires,omitzero"`
	policy.Narrow
}

// Settings are entries of the settings by section and name, and credentials by name.
type Settings struct {
	Links       map[string]map[string]any    `json:"links,omitempty"`
	Sites       map[string]map[string]any    `json:"sites,omitempty"`
	Sinks       map[string]map[string]any    `json:"sinks,omitempty"`
	Follow      map[string]map[string]any    `json:"follow,omitempty"`
	Registries  map[string]map[string]any    `json:"registries,omitempty"`
	Credentials map[string]source.Credential `json:"credentials,omitempty"`
}

// Entries are all but the credentials, in order.
func (s Settings) Entries() (entries []config.Entry) {
	for section, of := range map[string]map[string]map[string]any{"links": s.Links, "sites": s.Sites, "sinks": s.Sinks, "follow": s.Follow, "registries": s.Registries} {
		for name, value := range of {
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
	Tokens []TokenShown `json:"tokens"`
}

// TokenShown is a token as it may be shown.
type TokenShown struct {
	NewToken
	Made time.Time `json:"made"`
	Used time.Time `json:"used,omitzero"` // last, as far as it is known
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
func (t *Tokens) Shown() ([]TokenShown, error) {
	all, err := t.List()
	used, shown := t.Used(), []TokenShown{}
	for _, o := range all {
		shown = append(shown, TokenShown{NewToken{o.Name, o.Owner, o.Scopes, o.Expires, o.Narrow}, o.Made, used[o.Name]})
	}
	return shown, err
}

// makeToken makes a token. Nobody gives away what they may not themselves, nor makes one that counts as somebody else.
func (c call) makeToken(ctx context.Context, n NewToken) (string, error) {
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

// Settings gives the settings of the server.
func (r *Remote) Settings(ctx context.Context) (s map[string]any, err error) {
	err = r.ask(ctx, http.MethodGet, "/v1/settings", nil, nil, &s)
	return s, err
}

// PutSettings writes entries of the settings, all or none.
func (r *Remote) PutSettings(ctx context.Context, s Settings) error {
	return r.ask(ctx, http.MethodPut, "/v1/settings", nil, s, &Done{})
}

// DropSetting takes one out.
func (r *Remote) DropSetting(ctx context.Context, section, name string) error {
	return r.ask(ctx, http.MethodDelete, "/v1/settings/"+url.PathEscape(section)+"/"+url.PathEscape(name), nil, nil, &Done{})
}

// PutCredential keeps a credential at the server.
func (r *Remote) PutCredential(ctx context.Context, name string, c source.Credential) error {
	return r.ask(ctx, http.MethodPut, "/v1/credentials/"+url.PathEscape(name), nil, c, &Done{})
}

// MakeToken makes a token at the server, and gives it.
func (r *Remote) MakeToken(ctx context.Context, n NewToken) (string, error) {
	var made Secret
	err := r.ask(ctx, http.MethodPost, "/v1/tokens", nil, n, &made)
	return made.Secret, err
}

// ListTokens gives all tokens of the server.
func (r *Remote) ListTokens(ctx context.Context) ([]TokenShown, error) {
	var list TokenList
	err := r.ask(ctx, http.MethodGet, "/v1/tokens", nil, nil, &list)
	return list.Tokens, err
}

// RemoveToken makes a token of the server good for nothing.
func (r *Remote) RemoveToken(ctx context.Context, name string) error {
	return r.ask(ctx, http.MethodDelete, "/v1/tokens/"+url.PathEscape(name), nil, nil, &Done{})
}
