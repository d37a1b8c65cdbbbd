package api

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"aditus/internal/core/policy"
	"aditus/internal/disk"
)

// Token lets whoever bears it do something over TCP. Only its hash is kept.
type Token struct {
	Name          string         `json:"name"`
	Owner         string         `json:"owner,omitempty"` // in whose name its orders are given; empty where it is a program's own, in its name
	Hash          string         `json:"hash"`            // SHA-256, hex; the token itself has 256 random bits, so that no more is needed
	Scopes        []policy.Scope `json:"scopes"`
	Made          time.Time      `json:"made"`
	Expires       time.Time      `json:"expires,omitzero"`
	policy.Narrow                // where its scopes hold
}

// TokensFile is the file of a data folder that has the tokens.
const TokensFile = "tokens.json"

// prefix is that by which a token that lies around is known for one.
const prefix = "aditus_"

// Tokens are those of a data folder, read whenever they changed.
type Tokens struct {
	file string
	disk disk.Disk

	mu   sync.Mutex
	read time.Time
	all  []Token
	used map[string]time.Time // when the use of each was written down last
}

// OpenTokens gives the tokens of a data folder.
func OpenTokens(folder string) *Tokens {
	return &Tokens{file: filepath.Join(folder, TokensFile), disk: disk.Machine}
}

// List gives all tokens.
func (t *Tokens) List() ([]Token, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	info, err := os.Stat(t.file)
	if errors.Is(err, fs.ErrNotExist) {
		t.all = nil
		return nil, nil
	}
	if err == nil && info.ModTime().Equal(t.read) {
		return t.all, nil
	}
	var text []byte
	if err == nil {
		text, err = os.ReadFile(t.file)
	}
	var all []Token
	if err == nil {
		err = json.Unmarshal(text, &all)
	}
	if err != nil {
		return nil, fmt.Errorf("read the tokens %s: %w; put the file back from a copy, or move it away and make them anew", t.file, err)
	}
	t.all, t.read = all, info.ModTime()
	return all, nil
}

// Add makes a token and gives it; it is never shown again.
func (t *Tokens) Add(name string, scopes []policy.Scope, expires time.Time) (token string, err error) {
	return t.Make(Token{Name: name, Scopes: scopes, Expires: expires})
}

// Make makes a token that is like another one, and gives it; it is never shown again.
func (t *Tokens) Make(like Token) (token string, err error) {
	err = disk.Alone(filepath.Dir(t.file), func() error {
		token, err = t.make(like)
		return err
	})
	return token, err
}

func (t *Tokens) make(like Token) (string, error) {
	name, scopes := like.Name, like.Scopes
	all, err := t.List()
	if err != nil {
		return "", err
	}
	if name == "" || slices.ContainsFunc(all, func(o Token) bool { return o.Name == name }) {
		return "", fmt.Errorf("there is a token %q already, or it has no name: give each its own", name)
	}
	for _, s := range scopes {
		if !slices.Contains(policy.Scopes, s) {
			return "", fmt.Errorf("there is no scope %q; there are %s", s, policy.Words())
		}
	}
	if len(scopes) == 0 {
		return "", errors.New("a token without a scope is good for nothing; there are " + policy.Words())
	}
	random := make([]byte, 32)
	rand.Read(random)
	token := prefix + base64.RawURLEncoding.EncodeToString(random)
	for _, pattern := range slices.Concat(like.Workloads, like.Sites) {
		if _, err := path.Match(pattern, ""); err != nil || pattern == "" {
			return "", fmt.Errorf("%q is no pattern of names: write a name, or one with * for any text", pattern)
		}
	}
	like.Hash, like.Made = hash(token), time.Now().UTC().Truncate(time.Second)
	return token, t.keep(append(slices.Clone(all), like))
}

// Remove makes a token good for nothing, at once.
func (t *Tokens) Remove(name string) error {
	return disk.Alone(filepath.Dir(t.file), func() error { return t.remove(name) })
}

func (t *Tokens) remove(name string) error {
	all, err := t.List()
	if err != nil {
		return err
	}
	left := slices.DeleteFunc(slices.Clone(all), func(o Token) bool { return o.Name == name })
	if len(left) == len(all) {
		return fmt.Errorf("there is no token %q", name)
	}
	return t.keep(left)
}

func (t *Tokens) keep(all []Token) error {
	text, err := json.MarshalIndent(all, "", "  ")
	if err == nil {
		err = disk.Keep(t.disk, t.file, append(text, '\n'), 0o600)
	}
	if err != nil {
		return fmt.Errorf("keep the tokens: %w", err)
	}
	t.mu.Lock()
	t.read = time.Time{}
	t.mu.Unlock()
	return nil
}

// UsedFile is the file of a data folder that has when each token was used last, to the minute or so.
const UsedFile = "tokens-used.json"

// usedEvery is how often a token's use is written down at most.
const usedEvery = time.Minute

// Used gives when each token was used last, as far as it is known.
func (t *Tokens) Used() map[string]time.Time {
	used := map[string]time.Time{}
	if text, err := os.ReadFile(filepath.Join(filepath.Dir(t.file), UsedFile)); err == nil {
		json.Unmarshal(text, &used) // what cannot be read is not known
	}
	return used
}

// use notes that a token is used. It is of no account where that cannot be written down.
func (t *Tokens) use(name string, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.used == nil {
		t.used = map[string]time.Time{}
	}
	if now.Sub(t.used[name]) < usedEvery {
		return
	}
	t.used[name] = now
	all := t.Used()
	all[name] = now.UTC().Truncate(time.Second)
	if text, err := json.MarshalIndent(all, "", "  "); err == nil {
		disk.Keep(t.disk, filepath.Join(filepath.Dir(t.file), UsedFile), append(text, '\n'), 0o600)
	}
}

func hash(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

// find gives the token that was shown. All of them are looked at, each in constant time.
func (t *Tokens) find(shown string, now time.Time) (found Token, ok bool, err error) {
	all, err := t.List()
	own := []byte(hash(shown))
	for _, o := range all {
		if subtle.ConstantTimeCompare(own, []byte(o.Hash)) == 1 && (o.Expires.IsZero() || now.Before(o.Expires)) {
			found, ok = o, true
		}
	}
	return found, ok, err
}

// Tokens that are wrong are answered this often for each address, and refused beyond.
const (
	wrongEvery = time.Second
	wrongBurst = 10
	mostHosts  = 10_000
)

// limits bound how often each address may be wrong.
type limits struct {
	mu    sync.Mutex
	hosts map[string]*rate.Limiter
}

// wrong notes that an address showed a token that is none, and tells whether it may go on trying.
func (l *limits) wrong(host string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.hosts == nil || len(l.hosts) > mostHosts {
		l.hosts = map[string]*rate.Limiter{}
	}
	if l.hosts[host] == nil {
		l.hosts[host] = rate.NewLimiter(rate.Every(wrongEvery), wrongBurst)
	}
	return l.hosts[host].Allow()
}

// barred tells whether an address has to wait.
func (l *limits) barred(host string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.hosts[host] != nil && l.hosts[host].Tokens() < 1
}

// socketKey is under which a request that comes over the socket has who asks.
type socketKey struct{}

// who tells who asks.
func (s *Server) who(r *http.Request) (policy.Actor, error) {
	if owner, ok := r.Context().Value(socketKey{}).(policy.Actor); ok {
		return owner, nil
	}
	host := remote(r)
	shown, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	if !ok {
		if who, ok := certified(r); ok {
			return who, nil
		}
		return policy.Actor{}, &Problem{Status: http.StatusUnauthorized, Detail: "show a token: Authorization: Bearer …; aditus token add makes one"}
	}
	if !strings.HasPrefix(shown, prefix) && s.Logins.Of() != nil {
		who, err := s.Logins.verify(r.Context(), shown)
		if problem := (*Problem)(nil); errors.As(err, &problem) && problem.Status == http.StatusUnauthorized {
			if s.failed.barred(host) {
				return who, tooMany(host)
			}
			s.failed.wrong(host)
		}
		who.From = fmt.Sprintf("%s by login", host)
		return who, err
	}
	found, ok, err := s.tokens.find(shown, time.Now())
	switch {
	case err != nil:
		return policy.Actor{}, &Problem{Status: http.StatusInternalServerError, Detail: err.Error()}
	case !ok && s.failed.barred(host): // one that is right is let in, whoever else tries wrong ones from there
		return policy.Actor{}, tooMany(host)
	case !ok:
		s.failed.wrong(host)
		s.serves.Load().Refused(r.Context(), policy.Actor{Name: "nobody", From: host}, "a token that is not known, or has expired")
		return policy.Actor{}, &Problem{Status: http.StatusUnauthorized, Detail: "this token is not known, or has expired"}
	}
	s.tokens.use(found.Name, time.Now())
	return policy.Actor{Name: found.Name, Owner: found.Owner, Known: policy.ByToken, Scopes: found.Scopes, Within: found.Narrow, From: fmt.Sprintf("%s with the token %s", host, found.Name)}, nil
}

func tooMany(host string) error {
	return &Problem{Status: http.StatusTooManyRequests, Detail: "too many wrong tokens came from " + host + "; wait a few seconds"}
}
