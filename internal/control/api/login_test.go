package api_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"io"
	"log/slog"
	"maps"
	"math/big"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/zalando/go-keyring"
	"github.com/zitadel/oidc/v3/example/server/exampleop"
	"github.com/zitadel/oidc/v3/example/server/storage"
	"github.com/zitadel/oidc/v3/pkg/oidc"
	"github.com/zitadel/oidc/v3/pkg/op"

	"aditus/internal/config"
	"aditus/internal/control/api"
	"aditus/internal/core/berth"
	"aditus/internal/core/policy"
	"aditus/internal/disk"
	"aditus/internal/login"
	"aditus/internal/status"
)

// provider is one of OpenID Connect, of a library for them, with a public client for devices and groups of people.
type provider struct {
	*storage.Storage
	lifetime time.Duration
	groups   []string
}

type device struct {
	*storage.Client
	lifetime time.Duration
}

func (device) AuthMethod() oidc.AuthMethod { return oidc.AuthMethodNone }
func (device) GrantTypes() []oidc.GrantType {
	return []oidc.GrantType{oidc.GrantTypeDeviceCode, oidc.GrantTypeRefreshToken}
}
func (device) IDTokenUserinfoClaimsAssertion() bool { return true }
func (device) IsScopeAllowed(string) bool           { return true }
func (d device) IDTokenLifetime() time.Duration     { return d.lifetime }
func (device) RestrictAdditionalIdTokenScopes() func([]string) []string {
	return func(scopes []string) []string { return scopes }
}

func (p *provider) GetClientByClientID(_ context.Context, id string) (op.Client, error) {
	if id != "aditus" {
		return nil, errors.New("there is no such client")
	}
	return device{storage.DeviceClient(id, ""), p.lifetime}, nil
}

func (p *provider) AuthorizeClientIDSecret(context.Context, string, string) error { return nil }

func (p *provider) SetUserinfoFromRequest(ctx context.Context, info *oidc.UserInfo, token op.IDTokenRequest, scopes []string) error {
	err := p.SetUserinfoFromScopes(ctx, info, token.GetSubject(), token.GetClientID(), scopes)
	info.PreferredUsername = "Maren Oake"
	info.AppendClaims("groups", p.groups)
	return err
}

// TokenRequestByRefreshToken names the client, which the library's example knows of logins in a browser alone.
func (p *provider) TokenRequestByRefreshToken(ctx context.Context, token string) (op.RefreshTokenRequest, error) {
	r, err := p.Storage.TokenRequestByRefreshToken(ctx, token)
	if own, ok := r.(*storage.RefreshTokenRequest); ok {
		own.ApplicationID, own.Audience = "aditus", []string{"aditus"}
	}
	return r, err
}

// hasty has a device ask every second, and not every five.
func hasty(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		answer := httptest.NewRecorder()
		next.ServeHTTP(answer, r)
		maps.Copy(w.Header(), answer.Header())
		w.Header().Del("Content-Length")
		w.WriteHeader(answer.Code)
		io.WriteString(w, strings.Replace(answer.Body.String(), `"interval":5`, `"interval":1`, 1))
	})
}

// open serves the provider, and gives its address.
func (p *provider) open(t *testing.T) string {
	t.Helper()
	var handler http.Handler
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { handler.ServeHTTP(w, r) }))
	t.Cleanup(server.Close)
	slog.SetDefault(slog.New(slog.DiscardHandler)) // the library writes a line for each request
	handler = hasty(exampleop.SetupServer(server.URL, p, nil, false, op.WithAllowInsecure()))
	return server.URL
}

// TestLogin has somebody log in with a provider by a code, at a server whose line has teams: what the groups may is done, in the name of
// whom the provider names, the login is made anew in time, and is over when the provider says so.
func TestLogin(t *testing.T) {
	keyring.MockInitWithError(errors.New("there is none"))
	storage.RegisterClients(storage.DeviceClient("aditus", ""))
	p := &provider{storage.NewStorage(storage.NewUserStore("http://localhost")), time.Hour, []string{"gates-crew"}}
	issuer := p.open(t)
	s, server, _ := tell(t)
	s.Story.Snapshot.Policy.Teams = policy.Teams{"gates": {Groups: []string{"gates-crew"}, May: []policy.Right{{Do: []policy.Scope{policy.Sync}, Narrow: policy.Narrow{Workloads: []string{"boarding"}}}}}}
	of := &config.Login{Issuer: issuer, Client: "aditus"}
	server.Logins = api.NewLogins(func() *config.Login { return of })
	front := httptest.NewServer(server)
	defer front.Close()
	anonymous, err := api.DialWay(front.URL, api.Way{})
	if err != nil {
		t.Fatal(err)
	}
	told, err := anonymous.Provider(t.Context())
	if err != nil || told.Issuer != issuer || told.Client != "aditus" {
		t.Fatalf("one logs in with %+v (%v)", told, err)
	}
	ask := func(answer func(code string) error) (login.Login, error) {
		return login.Provider{Issuer: told.Issuer, Client: told.Client}.Ask(t.Context(), func(_, code, _ string) {
			if err := answer(code); err != nil {
				t.Error(err)
			}
		})
	}
	if _, err := ask(func(code string) error { return p.DenyDeviceAuthorization(t.Context(), code) }); err == nil || !strings.Contains(err.Error(), "declined") {
		t.Errorf("declined: %v", err)
	}
	l, err := ask(func(code string) error { return p.CompleteDeviceAuthorization(t.Context(), code, "id1") })
	if err != nil {
		t.Fatal(err)
	}
	store := login.Store{File: filepath.Join(t.TempDir(), "logins.json"), Disk: disk.Machine}
	if err := store.Put(front.URL, l); err != nil {
		t.Fatal(err)
	}
	info, err := os.Stat(store.File)
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("it is kept as %v (%v)", info, err)
	}
	source := &login.Source{Store: store, Server: front.URL}
	far, err := api.DialWay(front.URL, api.Way{Shown: source.Token})
	if err != nil {
		t.Fatal(err)
	}
	order := berth.Order{Verb: berth.Sync, Berth: berth.ID{Workload: "boarding", Site: "north"}}
	if err := far.Do(t.Context(), policy.Actor{}, order); err != nil || !strings.Contains(strings.Join(s.asked, "\n"), "by Maren Oake from 127.0.0.1 by login") {
		t.Errorf("%v: %v", err, s.asked)
	}
	other := order
	other.Verb = berth.LockIt
	if err := far.Do(t.Context(), policy.Actor{}, other); err == nil || !strings.Contains(err.Error(), "may not lock") {
		t.Errorf("what the group may not: %v", err)
	}
	seen, err := far.Renew(t.Context())
	if err != nil || len(seen.Berths) == 0 || len(seen.Berths) == len(s.Story.Snapshot.Berths) {
		t.Errorf("%d berths are seen (%v)", len(seen.Berths), err)
	}
	ended := l // it is made anew where it ends
	ended.Ends, ended.Shown = time.Now(), "over"
	if err := store.Put(front.URL, ended); err != nil {
		t.Fatal(err)
	}
	if err := far.Do(t.Context(), policy.Actor{}, order); err != nil {
		t.Errorf("made anew: %v", err)
	}
	again, err := store.Get(front.URL)
	if err != nil || again.Shown == "over" || again.Refresh == l.Refresh || !again.Ends.After(time.Now()) {
		t.Errorf("it is kept as %+v (%v)", again, err)
	}
	show := func(token string) error {
		r, err := api.DialWay(front.URL, api.Way{Token: token})
		if err != nil {
			return err
		}
		return r.Do(t.Context(), policy.Actor{}, order)
	}
	parts := strings.Split(l.Shown, ".")
	for what, token := range map[string]string{
		"no signature": parts[0] + "." + parts[1] + ".", "another signature": parts[0] + "." + parts[1] + "." + strings.Repeat("A", len(parts[2])),
		"no algorithm": "eyJhbGciOiJub25lIn0." + parts[1] + ".", "nonsense": "a.b.c", "one of another kind": "aditus_x",
	} {
		if err := show(token); err == nil || !strings.Contains(err.Error(), "not known") {
			t.Errorf("%s: %v", what, err)
		}
	}
	of = &config.Login{Issuer: issuer, Client: "another"} // a token for another program is none for this one
	if err := show(again.Shown); err == nil || !strings.Contains(err.Error(), "not known") {
		t.Errorf("of another client: %v", err)
	}
	of = &config.Login{Issuer: issuer, Client: "aditus", Name: "nickname"}
	if err := show(again.Shown); err == nil || !strings.Contains(err.Error(), "has no name") {
		t.Errorf("without a name: %v", err)
	}
	of = &config.Login{Issuer: issuer, Client: "aditus"}
	s.Story.Snapshot.Policy.Teams = nil
	if err := show(again.Shown); err == nil || !strings.Contains(err.Error(), "may only look") {
		t.Errorf("without teams: %v", err)
	}
	p.lifetime = -time.Hour
	if l, err = ask(func(code string) error { return p.CompleteDeviceAuthorization(t.Context(), code, "id1") }); err != nil {
		t.Fatal(err)
	}
	if err := show(l.Shown); err == nil || !strings.Contains(err.Error(), "is over") {
		t.Errorf("over: %v", err)
	}
	if err := errors.Join(store.Remove(front.URL)); err != nil {
		t.Error(err)
	}
	if _, err := source.Token(t.Context()); !errors.Is(err, login.ErrNone) {
		t.Errorf("forgotten: %v", err)
	}
	of = nil
	if _, err := anonymous.Provider(t.Context()); err == nil || !strings.Contains(err.Error(), "nobody logs in here") {
		t.Errorf("without a provider: %v", err)
	}
}

// TestKeyring keeps a login in the keyring, where there is one.
func TestKeyring(t *testing.T) {
	keyring.MockInit()
	defer keyring.MockInitWithError(errors.New("there is none"))
	store := login.Store{File: filepath.Join(t.TempDir(), "logins.json"), Disk: disk.Machine}
	if err := store.Put("https://a.example", login.Login{Shown: "x"}); err != nil {
		t.Fatal(err)
	}
	if l, err := store.Get("https://a.example"); err != nil || l.Shown != "x" {
		t.Errorf("%+v (%v)", l, err)
	}
	if _, err := os.Stat(store.File); err == nil {
		t.Error("it is in a file too")
	}
	if err := store.Remove("https://a.example"); err != nil {
		t.Error(err)
	}
	if err := store.Remove("https://a.example"); !errors.Is(err, login.ErrNone) {
		t.Errorf("twice: %v", err)
	}
	if err := os.WriteFile(store.File, []byte("{}"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := store.Get("https://a.example"); err == nil || !strings.Contains(err.Error(), "can be read by others") {
		t.Errorf("open to others: %v", err)
	}
}

// signed makes a certificate, signed by another one or by itself, as files.
func signed(t *testing.T, name string, units []string, by *x509.Certificate, byKey *ecdsa.PrivateKey, usage x509.ExtKeyUsage) (*x509.Certificate, *ecdsa.PrivateKey, string, string) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name, OrganizationalUnit: units}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign, ExtKeyUsage: []x509.ExtKeyUsage{usage}, BasicConstraintsValid: true, IsCA: by == nil, DNSNames: []string{"localhost"},
	}
	if by == nil {
		by, byKey = template, key
		template.ExtKeyUsage = nil
	}
	der, err := x509.CreateCertificate(rand.Reader, template, by, key.Public(), byKey)
	if err != nil {
		t.Fatal(err)
	}
	made, err1 := x509.ParseCertificate(der)
	private, err2 := x509.MarshalPKCS8PrivateKey(key)
	folder := t.TempDir()
	cert, keyFile := filepath.Join(folder, "cert.pem"), filepath.Join(folder, "key.pem")
	err3 := os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600)
	err4 := os.WriteFile(keyFile, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}), 0o600)
	if err := errors.Join(err1, err2, err3, err4); err != nil {
		t.Fatal(err)
	}
	return made, key, cert, keyFile
}

// TestClientCertificate lets in who shows a certificate of the right hand, by its names, and nobody else.
func TestClientCertificate(t *testing.T) {
	ca, caKey, caFile, _ := signed(t, "Skerry CA", nil, nil, nil, 0)
	_, _, serverCert, serverKey := signed(t, "server", nil, ca, caKey, x509.ExtKeyUsageServerAuth)
	_, _, cert, key := signed(t, "fares-build", []string{"builders"}, ca, caKey, x509.ExtKeyUsageClientAuth)
	_, _, strangerCert, strangerKey := signed(t, "fares-build", []string{"builders"}, nil, nil, 0)
	_, _, wrongCert, wrongKey := signed(t, "fares-build", []string{"builders"}, ca, caKey, x509.ExtKeyUsageServerAuth)
	s, server, tokens := tell(t)
	s.Story.Snapshot.Policy.Teams = policy.Teams{"builders": {Groups: []string{"builders"}, May: []policy.Right{{Do: []policy.Scope{policy.Sync}}}}}
	ctx, cancel := context.WithCancel(t.Context())
	address, ended := make(chan string, 1), make(chan error, 1)
	go func() {
		ended <- api.ServeTCP(ctx, api.TCP{Address: "localhost:0", Cert: serverCert, Key: serverKey, ClientCA: caFile}, server, func(at string) { address <- at })
	}()
	defer func() {
		cancel()
		if err := <-ended; err != nil {
			t.Error(err)
		}
	}()
	at := <-address
	at = "https://localhost" + at[strings.LastIndex(at, ":"):]
	token, err := tokens.Add("builders", []policy.Scope{policy.Look}, time.Time{})
	if err != nil {
		t.Fatal(err)
	}
	for what, test := range map[string]struct {
		way  api.Way
		want string
	}{
		"its certificate":           {api.Way{Cert: cert, Key: key}, ""},
		"none":                      {api.Way{}, "show a token"},
		"one of a stranger":         {api.Way{Cert: strangerCert, Key: strangerKey}, "show a token"},
		"one for a server":          {api.Way{Cert: wrongCert, Key: wrongKey}, "certificate"},
		"a token, which goes first": {api.Way{Cert: cert, Key: key, Token: token}, "that is for builders"},
	} {
		test.way.CA = caFile
		far, err := api.DialWay(at, test.way)
		var seen status.Snapshot
		if err == nil {
			seen, err = far.Renew(t.Context())
		}
		if test.want == "" && (err != nil || len(seen.Berths) == 0) || test.want != "" && (err == nil || !strings.Contains(err.Error(), test.want)) {
			t.Errorf("%s: %d berths (%v), want %q", what, len(seen.Berths), err, test.want)
		}
	}
	far, err := api.DialWay(at, api.Way{Cert: cert, Key: key, CA: caFile})
	if err == nil {
		err = far.Do(t.Context(), policy.Actor{}, berth.Order{Verb: berth.Sync, Berth: berth.ID{Workload: "boarding", Site: "north"}})
	}
	if err != nil || !strings.Contains(strings.Join(s.asked, "\n"), "by fares-build from 127.0.0.1 with the certificate of fares-build") {
		t.Errorf("%v: %v", err, s.asked)
	}
}

// TestOrigins asks as pages of browsers do: one of another origin, and one whose name leads to this machine, are told nothing.
func TestOrigins(t *testing.T) {
	_, server, tokens := tell(t)
	token, err := tokens.Add("x", policy.Scopes, time.Time{})
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	address, ended := make(chan string, 1), make(chan error, 1)
	go func() {
		ended <- api.ServeTCP(ctx, api.TCP{Address: "127.0.0.1:0"}, server, func(at string) { address <- at })
	}()
	defer func() {
		cancel()
		if err := <-ended; err != nil {
			t.Error(err)
		}
	}()
	at := <-address
	for name, test := range map[string]struct {
		method, host string
		header       [2]string
		want         int
	}{
		"a shell":                 {"GET", at, [2]string{"X", "y"}, 200},
		"a shell that changes":    {"POST", at, [2]string{"X", "y"}, 200},
		"by name":                 {"GET", "localhost:1", [2]string{"X", "y"}, 200},
		"a name that leads here":  {"GET", "evil.example:80", [2]string{"X", "y"}, 421},
		"another origin":          {"POST", at, [2]string{"Origin", "https://evil.example"}, 403},
		"another origin, looking": {"GET", at, [2]string{"Sec-Fetch-Site", "cross-site"}, 421},
		"its own":                 {"POST", at, [2]string{"Origin", "http://" + at}, 200},
	} {
		path, body := "/v1/snapshot", ""
		if test.method == "POST" {
			path, body = "/v1/look", `{"links":["a"]}`
		}
		r, err := http.NewRequestWithContext(t.Context(), test.method, "http://"+at+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		r.Host = test.host
		r.Header.Set("Authorization", "Bearer "+token)
		r.Header.Set(test.header[0], test.header[1])
		response, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		response.Body.Close()
		if response.StatusCode != test.want {
			t.Errorf("%s: status %d, want %d", name, response.StatusCode, test.want)
		}
	}
}
