package api

import (
	"cmp"
	"context"
	"crypto/tls"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"

	"aditus/internal/config"
	"aditus/internal/core/policy"
	"aditus/internal/dial"
)

// Logins let in whoever logged in with the provider that the settings name.
type Logins struct {
	settings func() *config.Login // nil where nobody does

	mu       sync.Mutex
	of       config.Login
	verifier *oidc.IDTokenVerifier
}

// NewLogins makes Logins that go by settings, which may change.
func NewLogins(settings func() *config.Login) *Logins { return &Logins{settings: settings} }

// providerWait is how long a provider may take to say what it offers.
const providerWait = 5 * time.Second

// Of gives the provider; nil where there is none.
func (l *Logins) Of() *config.Login {
	if l == nil {
		return nil
	}
	return l.settings()
}

// verify tells who shows an ID token.
func (l *Logins) verify(ctx context.Context, shown string) (policy.Actor, error) {
	of := l.Of()
	verifier, err := l.ready(*of)
	if err != nil {
		return policy.Actor{}, &Problem{Status: http.StatusServiceUnavailable, Detail: fmt.Sprintf("who you are cannot be told: %s does not answer (%v); a token of Aditus still lets one in", of.Issuer, err)}
	}
	ctx, cancel := context.WithTimeout(ctx, providerWait)
	defer cancel()
	token, err := verifier.Verify(ctx, shown)
	if err != nil {
		return policy.Actor{}, &Problem{Status: http.StatusUnauthorized, Detail: "this login is not known, or is over: log in again with aditus login"}
	}
	var claims map[string]any
	if err := token.Claims(&claims); err != nil {
		return policy.Actor{}, &Problem{Status: http.StatusUnauthorized, Detail: "what the login says is not understood: " + err.Error()}
	}
	name, _ := claims[cmp.Or(of.Name, "preferred_username")].(string)
	if name == "" || strings.TrimSpace(name) != name || name == policy.Anyone {
		return policy.Actor{}, &Problem{Status: http.StatusForbidden, Detail: fmt.Sprintf("the login has no name: the claim %s of it is empty; whoever keeps the settings may name another one", cmp.Or(of.Name, "preferred_username"))}
	}
	var groups []string
	switch told := claims[cmp.Or(of.Groups, "groups")].(type) {
	case string:
		groups = []string{told}
	case []any:
		for _, group := range told {
			if text, ok := group.(string); ok {
				groups = append(groups, text)
			}
		}
	}
	return policy.Actor{Name: name, Known: policy.ByLogin, Groups: groups, Scopes: policy.Scopes}, nil
}

// ready gives what verifies the tokens of a provider, which is asked what it offers once.
func (l *Logins) ready(of config.Login) (*oidc.IDTokenVerifier, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.verifier != nil && l.of.Issuer == of.Issuer && l.of.Client == of.Client && l.of.CA == of.CA && slices.Equal(l.of.Scopes, of.Scopes) {
		return l.verifier, nil
	}
	client := &http.Client{Timeout: providerWait}
	if of.CA != "" {
		var err error
		if client, err = Trusting(of.CA); err != nil {
			return nil, err
		}
	}
	ctx := oidc.ClientContext(context.Background(), client) // it asks for new keys with it, later
	provider, err := oidc.NewProvider(ctx, of.Issuer)
	if err != nil {
		return nil, err
	}
	l.of, l.verifier = of, provider.Verifier(&oidc.Config{ClientID: of.Client})
	return l.verifier, nil
}

// Trusting gives a client that trusts the certificates of a file too.
func Trusting(file string) (*http.Client, error) {
	pool, err := dial.Trusted(file)
	if err != nil {
		return nil, err
	}
	way := http.DefaultTransport.(*http.Transport).Clone()
	way.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	return &http.Client{Transport: way, Timeout: providerWait}, nil
}

// certified tells who shows a certificate that one of those signed that clients' are to be of; the groups are its organizational units.
func certified(r *http.Request) (policy.Actor, bool) {
	if r.TLS == nil || len(r.TLS.VerifiedChains) == 0 {
		return policy.Actor{}, false
	}
	subject := r.TLS.VerifiedChains[0][0].Subject
	if subject.CommonName == "" || subject.CommonName == policy.Anyone {
		return policy.Actor{}, false
	}
	return policy.Actor{Name: subject.CommonName, Known: policy.ByCertificate, Groups: subject.OrganizationalUnit, Scopes: policy.Scopes, From: remote(r) + " with the certificate of " + subject.CommonName}, true
}

// provider tells whom one logs in with.
func (s *Server) provider(w http.ResponseWriter, r *http.Request) {
	of := s.Logins.Of()
	if of == nil {
		refuse(w, r, errNotFound("nobody logs in here: the settings name no provider (login:); a token lets one in"))
		return
	}
	w.Header().Set("Content-Type", "application/json")
	write(w, of)
}
