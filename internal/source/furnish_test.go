package source

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"aditus/internal/config"
	"aditus/internal/core/declare"
)

const furnished = `aditus: 1
workload: web
sites: [north]
needs: [tide]
parts:
  app:
    kind: service
    artifact: r.example/web:1
    ports: {http: 80}
    command: [serve, --cabin, "${cabin.host}:${cabin.port.inside}"]
    environment: {LEVEL: "${level}", TIDE: "${tide.gauge.port}"}
    files:
      etc/web.conf:
        text: "listen ${PORT_HTTP} for ${ID} with ${WORD}, ${level}, $${PORT} and $uri"
        mode: 0640
      motd: hello
    folder: run
    umask: 0027
  cabin: {kind: service, command: [/usr/bin/cabin], ports: {inside: 5432, admin: 5433}, fixed-ports: true}
  words: {kind: settings, values: {word: ahoy, id: x}}
`

const furnishedTide = "aditus: 1\nworkload: tide\nsites: [north]\nparts:\n  gauge: {kind: service, artifact: r.example/tide:1, ports: {http: 80}}\n"

// TestFurnished reads what instances find where they run, and says what of it cannot be.
func TestFurnished(t *testing.T) {
	load := func(text string) (declare.Desired, declare.Problems) {
		files := []File{{Name: "web.yaml", Text: []byte(text)}, {Name: "tide.yaml", Text: []byte(furnishedTide)}}
		loaded, problems := Load(t.Context(), files, Options{Set: map[string]string{"level": "calm"}})
		for _, d := range loaded.Declarations {
			if d.Workload == "web" {
				return d.Desired, problems
			}
		}
		return declare.Desired{}, problems
	}
	d, problems := load(furnished)
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	app, cabin := d.Parts["app"], d.Parts["cabin"]
	if got, want := app.Files["etc/web.conf"], (declare.File{Text: "listen ${PORT_HTTP} for ${ID} with ${WORD}, calm, $${PORT} and $uri", Mode: "0640"}); got != want {
		t.Errorf("the file is %+v", got)
	}
	if app.Files["motd"].Mode != declare.DefaultMode || app.Folder != "run" || app.Umask != "0027" || app.Environment["LEVEL"] != "calm" || !cabin.Fixed || !cabin.Keeps() || cabin.Artifact != "" {
		t.Errorf("%+v %+v", app, cabin)
	}
	if d.Version() != "1" {
		t.Errorf("its version is %q", d.Version())
	}
	if alone, _ := load(strings.NewReplacer("    artifact: r.example/web:1\n", "", "command: [serve", "command: [/bin/serve").Replace(furnished)); alone.Version() == "" || alone.Version() != alone.Fingerprint().Short() {
		t.Errorf("without an artifact its version is %q", alone.Version())
	}
	if got := fmt.Sprint(app.References()); got != "[{tide gauge  false} { cabin  true} { cabin inside false}]" {
		t.Errorf("it is told %s", got)
	}
	for _, test := range []struct{ from, to, want string }{
		{"${cabin.port.inside}", "${cabin.port}", "app is told the port of cabin, which has several; write ${cabin.port.admin}"},
		{"${cabin.port.inside}", "${cabin.port.insid}", `the port "insid" of cabin, which it has not; did you mean "inside"?`},
		{"${cabin.host}", "${cabn.host}", `app is told where "cabn" is, and there is no such service; did you mean "cabin"?`},
		{"${cabin.host}", "${words.host}", `and there is no such service`},
		{"needs: [tide]\n", "", "which web does not need; write needs: [tide] above parts"},
		{"${WORD}", "${WROD}", `the file etc/web.conf of app has ${WROD}, which its instances are not told; known are ID, INSTANCE, LEVEL`},
		{"for ${ID}", "for ${id}", "the variable id is not given"},
		{"mode: 0640", "mode: rw", `the mode of a file is three octal digits, not "rw"; write it like 0600`},
		{"umask: 0027", "umask: 9", "umask is three octal digits"},
		{"umask: 0027", "umask: 0777", "umask 0777 takes from the owner what is its own"},
		{"motd: hello", "motd: hello\n      ./motd: again", "motd is declared twice"},
		{"folder: run", "folder: ../run", "does not lie within the instance's folder"},
		{"motd: hello", "../motd: hello", "does not lie within the instance's folder"},
		{"motd: hello", "motd: {mode: 600}", `a file needs the key "text"`},
		{"fixed-ports: true", "fixed-ports: true, instances: 2", "2 instances of cabin cannot have the same ports on one machine"},
		{"fixed-ports: true", "fixed-ports: maybe", "fixed-ports must be true or false"},
		{"command: [/usr/bin/cabin]", "command: [cabin]", `artifact`},
	} {
		if !strings.Contains(furnished, test.from) {
			t.Fatalf("%q is not in the declaration", test.from)
		}
		if _, problems := load(strings.Replace(furnished, test.from, test.to, 1)); len(problems) == 0 || !strings.Contains(fmt.Sprint(problems), test.want) {
			t.Errorf("%s: %v, want %q", test.to, problems, test.want)
		}
	}
}

// TestRebuilt tells of an archive that is another one under the same name, and no longer once it is as declared.
func TestRebuilt(t *testing.T) {
	name := filepath.Join(t.TempDir(), "web.tar")
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("first")
	r := NewRegistries(map[string]config.Registry{}, nil)
	reference := declare.FileScheme + name
	pinned := r.Resolve(t.Context(), []string{reference}).Pinned[reference]
	if err := r.Rebuilt([]string{pinned, "r.example/web:1@sha256:" + strings.Repeat("0", 64), reference}); err != nil {
		t.Error(err)
	}
	write("second one")
	err := r.Rebuilt([]string{pinned})
	if err == nil || !strings.Contains(err.Error(), "built anew under the same name") || !strings.Contains(err.Error(), reference+"@sha256:") {
		t.Errorf("it was built anew: %v", err)
	}
	if again := r.Resolve(t.Context(), []string{reference}).Pinned[reference]; again != pinned {
		t.Errorf("and is %s now", again)
	}
	write("first")
	if err := r.Rebuilt([]string{pinned}); err != nil {
		t.Errorf("it is as it was: %v", err)
	}
}
