// Package login has people log in with a provider of OpenID Connect by the device authorization grant (RFC 8628): an address to open and a
// code to type, on whatever machine has a browser. What comes of it is kept in the system's keyring, or in a file that is its owner's alone.
package login

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"
)

// Provider says who people log in with.
type Provider struct {
	Issuer string   `json:"issuer"`
	Client string   `json:"client"`
	Scopes []string `json:"scopes,omitempty"`
}

// Login is somebody's at a server: what is shown there, and what it is made anew with.
type Login struct {
	Provider
	Shown   string    `json:"shown"` // the ID token
	Refresh string    `json:"refresh,omitempty"`
	Ends    time.Time `json:"ends"` // of Shown
}

// early is how long before its end what is shown is made anew.
const early = 30 * time.Second

// oauth gives what the provider offers.
func (p Provider) oauth(ctx context.Context) (*oauth2.Config, error) {
	provider, err := oidc.NewProvider(ctx, p.Issuer)
	if err != nil {
		return nil, fmt.Errorf("%s, which the server has people log in with, does not answer as a provider of OpenID Connect: %w", p.Issuer, err)
	}
	scopes := append([]string{oidc.ScopeOpenID, "profile", oidc.ScopeOfflineAccess}, p.Scopes...)
	return &oauth2.Config{ClientID: p.Client, Endpoint: provider.Endpoint(), Scopes: scopes}, nil
}

// With has requests to the provider go through a client of its own.
func With(ctx context.Context, client *http.Client) context.Context {
	return oidc.ClientContext(ctx, client)
}

// Ask has somebody log in: tell is told the address to open, and the code to type there.
func (p Provider) Ask(ctx context.Context, tell func(address, code string, whole string)) (Login, error) {
	oauth, err := p.oauth(ctx)
	if err != nil {
		return Login{}, err
	}
	if oauth.Endpoint.DeviceAuthURL == "" {
		return Login{}, fmt.Errorf("%s does not offer the device authorization grant (RFC 8628): have it switched on for the client %s", p.Issuer, p.Client)
	}
	device, err := oauth.DeviceAuth(ctx)
	if err != nil {
		return Login{}, explain(p, err)
	}
	tell(device.VerificationURI, device.UserCode, device.VerificationURIComplete)
	token, err := oauth.DeviceAccessToken(ctx, device)
	if err != nil {
		return Login{}, explain(p, err)
	}
	return p.login(token, "")
}

func explain(p Provider, err error) error {
	var refused *oauth2.RetrieveError
	if errors.As(err, &refused) {
		switch refused.ErrorCode {
		case "access_denied":
			return errors.New("the login was declined")
		case "expired_token":
			return errors.New("the code was not typed in time: ask for another one with aditus login")
		case "invalid_grant":
			return errors.New("the login is over: log in again with aditus login")
		}
		return fmt.Errorf("%s refuses: %s %s", p.Issuer, refused.ErrorCode, refused.ErrorDescription)
	}
	return fmt.Errorf("ask %s: %w", p.Issuer, err)
}

// login takes what the provider gave. A refresh token that it did not change stays.
func (p Provider) login(token *oauth2.Token, refresh string) (Login, error) {
	shown, _ := token.Extra("id_token").(string)
	ends, err := endOf(shown)
	if err != nil {
		return Login{}, fmt.Errorf("%s gave no ID token: %w", p.Issuer, err)
	}
	if token.RefreshToken != "" {
		refresh = token.RefreshToken
	}
	return Login{Provider: p, Shown: shown, Refresh: refresh, Ends: ends}, nil
}

// endOf is when an ID token ends, as it says itself. Whether it is right the server sees.
func endOf(shown string) (time.Time, error) {
	parts := strings.Split(shown, ".")
	if len(parts) != 3 {
		return time.Time{}, errors.New("it has not three parts")
	}
	text, err := base64.RawURLEncoding.DecodeString(parts[1])
	var claims struct {
		Expires int64 `json:"exp"`
	}
	if err == nil {
		err = json.Unmarshal(text, &claims)
	}
	return time.Unix(claims.Expires, 0), err
}

// Renew makes what is shown anew.
func (l Login) Renew(ctx context.Context) (Login, error) {
	if l.Refresh == "" {
		return l, errors.New("the login is over: log in again with aditus login")
	}
	oauth, err := l.oauth(ctx)
	if err != nil {
		return l, err
	}
	token, err := oauth.TokenSource(ctx, &oauth2.Token{RefreshToken: l.Refresh}).Token()
	if err != nil {
		return l, explain(l.Provider, err)
	}
	return l.login(token, l.Refresh)
}

// Source shows a login at a server, made anew in time, and keeps it.
type Source struct {
	Store  Store
	Server string
	// Way is a client for the provider; nil for the usual one.
	Way *http.Client

	mu sync.Mutex
}

// ErrNone means that nobody logged in at a server from here.
var ErrNone = errors.New("nobody is logged in there")

// Token is what is shown now.
func (s *Source) Token(ctx context.Context) (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	l, err := s.Store.Get(s.Server)
	if err != nil {
		return "", err
	}
	if time.Until(l.Ends) > early {
		return l.Shown, nil
	}
	if s.Way != nil {
		ctx = With(ctx, s.Way)
	}
	if l, err = l.Renew(ctx); err != nil {
		return "", err
	}
	return l.Shown, s.Store.Put(s.Server, l)
}
