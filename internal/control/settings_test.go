package control

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"aditus/internal/clock"
	"aditus/internal/config"
	"aditus/internal/core/fault"
	"aditus/internal/core/policy"
	"aditus/internal/engine"
	"aditus/internal/ledger"
	"aditus/internal/source"
)

// TestElsewhere has somebody far away point links, sinks and registries at a host of their own: what others gave as credentials is shown
// nowhere else than before, and what is not right keeps no credential either.
func TestElsewhere(t *testing.T) {
	folder := t.TempDir()
	const text = `line: Skerry Line
beat: 1s
registries: {registry.skerry.example: {}}
links:
  - {name: fares, repository: "https://git.skerry.example/fares", branch: main, every: 24h}
sinks:
  - {name: crew, mail: {server: "smtp.skerry.example:587", from: a@skerry.example, to: [b@skerry.example], credential: post}}
sites: []
`
	if err := os.WriteFile(filepath.Join(folder, config.FileName), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	settings, err1 := config.Read("x", []byte(text))
	key, err2 := source.OpenKey(folder)
	if err := errors.Join(err1, err2); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"fares", "post", "registry.skerry.example"} {
		if err := key.KeepCredential(folder, name, &source.Credential{User: "aditus", Password: "theirs"}); err != nil {
			t.Fatal(err)
		}
	}
	book, err := ledger.Open(folder, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer book.Close()
	e, err := engine.New(settings, book, nil, clock.New(time.Now(), 1), engine.Access{})
	if err != nil {
		t.Fatal(err)
	}
	l := Live{Engine: e, Ledger: book, Folder: folder}
	far := policy.Actor{Name: "script", Known: policy.ByToken, Scopes: policy.Scopes}
	link := func(repository string) map[string]any {
		return map[string]any{"repository": repository, "branch": "main", "every": "24h", "may": "everything"}
	}
	mail := func(server, credential string) map[string]any {
		return map[string]any{"mail": map[string]any{"server": server, "from": "a@skerry.example", "to": []any{"b@skerry.example"}, "credential": credential}}
	}
	for name, test := range map[string]struct {
		section, name string
		value         map[string]any
		given         string // a credential that is given with it
		want          string // what is wrong; empty for nothing
	}{
		"the same host":                {"links", "fares", link("https://git.skerry.example/other"), "", ""},
		"another host":                 {"links", "fares", link("https://evil.example/fares"), "", "the credential fares was not given for https://evil.example"},
		"in plain text":                {"links", "fares", link("http://git.skerry.example/fares"), "", "was not given for http://git"},
		"another host, with its own":   {"links", "fares", link("https://evil.example/fares"), "fares", ""},
		"a link of a sink's name":      {"links", "post", link("https://evil.example/x"), "", "the credential post was not given"},
		"a sink by a link's name":      {"sinks", "mine", mail("smtp.evil.example:587", "fares"), "", "the credential fares was not given for smtp.evil.example:587"},
		"another mailbox":              {"sinks", "crew", mail("smtp.evil.example:587", "post"), "", "the credential post was not given"},
		"the same mailbox":             {"sinks", "crew", mail("smtp.skerry.example:587", "post"), "", ""},
		"a chat by it":                 {"sinks", "mine", map[string]any{"chat": map[string]any{"credential": "post"}}, "", "the credential post was not given"},
		"a registry in plain text":     {"registries", "registry.skerry.example", map[string]any{"plain": true}, "", "in plain text"},
		"one without a credential":     {"links", "tides", link("https://git.tides.example/x"), "", ""},
		"what is not right keeps none": {"links", "fares", map[string]any{"repository": "https://evil.example/x"}, "fares", "name one of branch"},
	} {
		if err := os.WriteFile(filepath.Join(folder, config.FileName), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := errors.Join(e.Apply(settings), key.KeepCredential(folder, "fares", &source.Credential{Password: "theirs"})); err != nil {
			t.Fatal(err)
		}
		given := map[string]source.Credential{}
		if test.given != "" {
			given[test.given] = source.Credential{Password: "mine"}
		}
		err := l.PutSettings(t.Context(), far, given, config.Entry{Section: test.section, Name: test.name, Value: test.value})
		if test.want == "" && err != nil || test.want != "" && (err == nil || !strings.Contains(err.Error(), test.want)) {
			t.Errorf("%s: %v, want %q", name, err, test.want)
		}
		if kept := l.Credentials("fares").Password; (kept == "mine") != (test.given != "" && test.want == "") {
			t.Errorf("%s: the credential is %s", name, kept)
		}
	}
	own := policy.Actor{Name: "root", Known: policy.ByAccount, Scopes: policy.Scopes}
	if err := l.PutSettings(t.Context(), own, nil, config.Entry{Section: "links", Name: "fares", Value: link("https://git.elsewhere.example/x")}); err != nil {
		t.Errorf("on the machine: %v", err)
	}
	if err := l.PutSettings(t.Context(), policy.Actor{Name: "reader"}, nil); !errors.Is(err, fault.ErrForbidden) {
		t.Errorf("by nobody: %v", err)
	}
}
