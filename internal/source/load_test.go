package source

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"aditus/internal/core/declare"
)

// tree makes files of a text in which each begins with a line --- NAME.
func tree(text string) []File {
	var files []File
	for _, part := range strings.Split(text, "--- ")[1:] {
		name, body, _ := strings.Cut(part, "\n")
		files = append(files, File{Name: name, Text: []byte(body)})
	}
	return files
}

const twoWorkloads = `--- web.yaml
aditus: 1
workload: web
sites: [north, south]
needs: [base]
parts:
  app: {kind: service, artifact: "r.example/web:1", instances: 2, environment: {LEVEL: "${level:-info}", PLACE: "${place}"}, ports: {http: 80}, needs: [prepare], volumes: {data: /data}}
  prepare: {kind: task, artifact: "r.example/prepare:1", undoable: false}
  data: {kind: volume, size: 10 GiB}
  entry: {kind: route, host: web.example, to: {service: app, port: http}}
--- web/south.yaml
parts: {app: {instances: 5, environment: {PLACE: null, EXTRA: yes}}}
--- base.yaml
aditus: 1
workload: base
sites: [south, north]
parts: {db: {kind: service, artifact: "r.example/db:1"}}
--- variables.yaml
aditus: 1
teams: {all: {sites: [north, south], variables: {place: here}}}
sites: {north: {level: debug}}
`

func TestLoad(t *testing.T) {
	loaded, problems := Load(t.Context(), tree(twoWorkloads), Options{Sites: []string{"north", "south"}})
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	byBerth := map[string]Declaration{}
	for _, d := range loaded.Declarations {
		byBerth[d.Workload+"/"+d.Site] = d
	}
	north, south := byBerth["web/north"].Parts["app"], byBerth["web/south"].Parts["app"]
	if fmt.Sprint(north.Environment, north.Instances) != "map[LEVEL:debug PLACE:here] 2" || fmt.Sprint(south.Environment, south.Instances) != "map[EXTRA:yes LEVEL:info] 5" {
		t.Errorf("north %v %d, south %v %d", north.Environment, north.Instances, south.Environment, south.Instances)
	}
	if byBerth["base/north"].Fingerprint() != byBerth["base/south"].Fingerprint() || byBerth["web/north"].Fingerprint() == byBerth["web/south"].Fingerprint() {
		t.Error("sites that declare the same must have the same revision, and others not")
	}
	part := byBerth["web/north"].Parts
	if !part["prepare"].NotUndoable || part["data"].Size != 10<<30 || part["entry"].Service != "app" || part["entry"].To.Path != "/" || part["prepare"].Instances != 0 {
		t.Errorf("%+v", part)
	}
	var uses []string
	for _, u := range loaded.Uses {
		uses = append(uses, fmt.Sprintf("%s %s/%s=%s by %q", u.Variable, u.Workload, u.Site, u.Value, u.Given))
	}
	if text := strings.Join(uses, "; "); text != `level web/north=debug by "site north"; place web/north=here by "team all"; level web/south=info by ""` {
		t.Errorf("uses are %s", text)
	}
	if set, _ := Load(t.Context(), tree(twoWorkloads), Options{Set: map[string]string{"place": "there"}}); set.Declarations[2].Parts["app"].Environment["PLACE"] != "there" {
		t.Errorf("--set does not go before: %+v", set.Declarations[2].Parts["app"])
	}
}

// TestLoadProblems changes the tree in one place each.
func TestLoadProblems(t *testing.T) {
	for _, test := range []struct{ name, from, to, want string }{
		{"a circle of parts", "prepare: {kind: task,", "prepare: {kind: task, needs: [app],", "web.yaml:6:8: parts need each other in a circle: app needs prepare needs app"},
		{"a part that is not there", "needs: [prepare]", "needs: [prepear]", `app needs "prepear", and there is no such part; did you mean "prepare"?`},
		{"a workload that is not there", "needs: [base]", "needs: [bass]", `web.yaml:4:8: web needs "bass", and there is no such workload; known are base, web`},
		{"a workload not at the site", "sites: [south, north]", "sites: [south]", "web needs base, which does not run at north"},
		{"workloads in a circle", "workload: base\n", "workload: base\nneeds: [web]\n", "workloads need each other in a circle: base at north needs web at north needs base at north"},
		{"a site's file for no site", "--- web/south.yaml", "--- web/east.yaml", "web/east.yaml:1:1: web does not run at east"},
		{"a site's file without base", "--- web/south.yaml", "--- wbe/south.yaml", "there is no base for this site's file"},
		{"a site's file that renames", "parts: {app: {instances: 5", "workload: other\nparts: {app: {instances: 5", "web/south.yaml:1:11: a site's file cannot change workload; change it in web.yaml"},
		{"a site's file that is wrong", "{app: {instances: 5", "{app: {instances: many", "web/south.yaml:1:26: instances must be a whole number"},
		{"a site's file that is a list", "parts: {app: {instances: 5, environment: {PLACE: null, EXTRA: yes}}}", "[1]", "must be a mapping of what differs there, not a list"},
		{"a variable nobody gives", "${place}", "${plaice}", `web.yaml:6:113: the variable plaice is not given; did you mean "place"?`},
		{"no such volume", "volumes: {data:", "volumes: {date:", `there is no volume "date"`},
		{"no such service", "to: {service: app,", "to: {service: ap,", `there is no service "ap" to lead to; did you mean "app"?`},
		{"no such port", "port: http}}\n---", "port: htp}}\n---", `the service app has no port "htp"`},
		{"a size", "10 GiB", "10 apples", `expected an amount of bytes, not "10 apples"`},
		{"undoable", "undoable: false", "undoable: never", "undoable must be true or false"},
		{"leave", "needs: [base]", "leave: [instances]\nneeds: [base]", `"instances" is no JSON Pointer to a field of a part`},
		{"command", "kind: task,", "kind: task, command: run it,", "command must be a list of texts"},
		{"two with one name", "workload: base", "workload: web", `workload "web" is declared in base.yaml already`},
		{"a value of a part's other kind", "data: {kind: volume,", "data: {kind: volume, instances: 3,", `a volume part has no key "instances"`},
		{"a part without a kind", "data: {kind: volume, size: 10 GiB}", "data: {size: 10 GiB}", `a part needs the key "kind"`},
		{"a site nobody has", "sites: [north, south]", "sites: [north, sout]", `there is no site "sout"; known are north, south`},
	} {
		t.Run(test.name, func(t *testing.T) {
			if !strings.Contains(twoWorkloads, test.from) {
				t.Fatalf("%q is not in the tree", test.from)
			}
			_, problems := Load(t.Context(), tree(strings.Replace(twoWorkloads, test.from, test.to, 1)), Options{Sites: []string{"north", "south"}})
			var all []string
			for _, p := range problems {
				all = append(all, p.Error())
			}
			if text := strings.Join(all, "\n"); !strings.Contains(text, test.want) {
				t.Errorf("got  %s\nwant %s", text, test.want)
			}
		})
	}
}

const house = `--- rules.yaml
aditus: 1
rules:
  - name: two
    must: site != "north" || parts.all(p, parts[p].kind != "service" || parts[p].instances >= 2)
    say: In service there are two of each.
  - name: about
    must: has(desired.about)
    then: warn
    say: Say what it is for.
`

func TestRules(t *testing.T) {
	loaded, problems := Load(t.Context(), tree(twoWorkloads+house), Options{})
	var got []string
	for _, p := range problems {
		got = append(got, p.Error())
	}
	if text := strings.Join(got, "\n"); len(loaded.Declarations) != 4 || len(problems.Wrong()) != 1 || !strings.Contains(text, "base.yaml:1:1: In service there are two of each. (rule two, base at north)") ||
		!strings.Contains(text, "web.yaml:1:1: warning: Say what it is for. (rule about, web at south)") || len(problems) != 5 {
		t.Errorf("got %s", text)
	}
	for change, want := range map[[2]string]string{
		{"has(desired.about)", "has(desired.about"}: "rules.yaml:7:11: the rule about is not understood", {"has(desired.about)", "1 + 1"}: "must be true or false, and is int",
		{"then: warn", "then: shout"}: `a rule refuses or warns, and does not "shout"`, {"name: about", "name: two"}: `there are two rules "two"`, {"    say: Say what it is for.\n", ""}: "a rule needs a name, what must be true, and the sentence",
		{"must: has", "mist: has"}: `a rule has no key "mist"`, {"has(desired.about)", "parts.app.instances > 1"}: "the rule about cannot be asked about base at north: no such key: app",
		{"aditus: 1\nrules", "rules"}: "rules need the version of their format", {"rules:\n", "rulez:\n"}: "rules must be a list", {"has(desired.about)", "workload"}: "must be true or false, and is string",
		{"has(desired.about)", "true && [1,2,3,4,5,6,7,8,9,0].all(a,[1,2,3,4,5,6,7,8,9,0].all(b,[1,2,3,4,5,6,7,8,9,0].all(c,[1,2,3,4,5,6,7,8,9,0].all(d,[1,2,3,4,5,6,7,8,9,0].all(e,[1,2,3,4,5,6,7,8,9,0].all(f,[1,2,3,4,5,6,7,8,9,0].all(g,true)))))))"}: "cost limit exceeded",
	} {
		if !strings.Contains(house, change[0]) {
			t.Fatalf("%q is not in the rules", change[0])
		}
		_, problems := Load(t.Context(), tree(twoWorkloads+strings.Replace(strings.Replace(house, change[0], change[1], 1), `site != "north"`, `site != ""`, 1)), Options{})
		text := ""
		for _, p := range problems {
			text += p.Error() + "\n"
		}
		if !strings.Contains(text, want) {
			t.Errorf("%s: %v, want %q", change[1], problems, want)
		}
	}
}

func TestSARIF(t *testing.T) {
	_, problems := Load(t.Context(), tree(twoWorkloads+house), Options{})
	var out bytes.Buffer
	if err := WriteSARIF(&out, "deploy", problems); err != nil {
		t.Fatal(err)
	}
	var log sarifLog
	if err := json.Unmarshal(out.Bytes(), &log); err != nil || log.Version != "2.1.0" || len(log.Runs) != 1 || log.Runs[0].Tool.Driver.Name == "" {
		t.Fatalf("it is no SARIF 2.1.0: %v %s", err, out.String())
	}
	results, rules := log.Runs[0].Results, log.Runs[0].Tool.Driver.Rules
	if len(results) != 5 || len(rules) != 3 {
		t.Fatalf("%d results of %d rules", len(results), len(rules))
	}
	levels := map[string]int{}
	for _, r := range results {
		levels[r.RuleID+" "+r.Level]++
		if r.Message.Text == "" || rules[r.RuleIndex].ID != r.RuleID {
			t.Errorf("a result that says nothing, or of another rule: %+v", r)
		}
		place := r.Locations[0].PhysicalLocation
		if !strings.HasPrefix(place.ArtifactLocation.URI, "deploy/") || place.Region.StartLine < 1 || place.Region.StartColumn < 1 {
			t.Errorf("the place is %+v", place)
		}
	}
	if fmt.Sprint(levels) != "map[about warning:4 two error:1]" {
		t.Errorf("levels are %v", levels)
	}
	out.Reset()
	if err := WriteSARIF(&out, "", nil); err != nil || !json.Valid(out.Bytes()) {
		t.Errorf("no problems: %s (%v)", out.String(), err)
	}
}

const withSecret = `--- web.yaml
aditus: 1
workload: web
sites: [north]
parts:
  app: {kind: service, artifact: "r.example/web:1"}
  key:
    kind: secret
    values:
      token: |
`

func TestSecrets(t *testing.T) {
	folder, elsewhere := t.TempDir(), t.TempDir()
	key, err := OpenKey(folder)
	if err != nil {
		t.Fatal(err)
	}
	other, err := OpenKey(elsewhere)
	if err != nil {
		t.Fatal(err)
	}
	with := func(sealed string) []File {
		return tree(withSecret + "        " + strings.ReplaceAll(strings.TrimSpace(sealed), "\n", "\n        ") + "\n")
	}
	one, _ := key.Seal("open sesame")
	again, _ := key.Seal("open sesame")
	foreign, _ := other.Seal("open sesame")
	both, err := key.Seal("open sesame", key.Recipient(), other.Recipient())
	if err != nil {
		t.Fatal(err)
	}
	first, problems := Load(t.Context(), with(one), Options{Opener: key})
	second, _ := Load(t.Context(), with(again), Options{Opener: key})
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	a, b := first.Declarations[0], second.Declarations[0]
	if a.Parts["key"].Values["token"] != b.Parts["key"].Values["token"] || a.Fingerprint() == b.Fingerprint() {
		t.Errorf("the same value sealed twice: %v and %v, revisions %s and %s", a.Parts["key"].Values, b.Parts["key"].Values, a.Fingerprint().Short(), b.Fingerprint().Short())
	}
	if text := string(a.Canonical()); strings.Contains(text, "sesame") || !strings.HasPrefix(a.Parts["key"].Values["token"], "secret ") {
		t.Errorf("the value is in %s", text)
	}
	if plain, err := other.Open(both); err != nil || plain != "open sesame" {
		t.Errorf("sealed for two, opened by the second: %q (%v)", plain, err)
	}
	for sealed, want := range map[string]string{foreign: "the secret token of key: no key here opens it; encrypt it with: aditus secret seal", "plain text": "it is not encrypted with age, or was damaged", strings.Replace(one, "YWdl", "YWdm", 1): "it is not encrypted with age"} {
		if _, problems := Load(t.Context(), with(sealed), Options{Opener: key}); len(problems.Wrong()) != 1 || !strings.Contains(problems[0].Error(), want) || !strings.HasPrefix(problems[0].Error(), "web.yaml:9:14: ") {
			t.Errorf("%v, want %q", problems, want)
		}
	}
	if _, problems := Load(t.Context(), with(one), Options{}); len(problems.Wrong()) != 0 || len(problems) != 1 {
		t.Errorf("without any key it is a warning: %v", problems)
	}
	if _, err := key.Seal("x", "age1nonsense"); err == nil {
		t.Error("sealed for nobody")
	}
}

func TestCredentials(t *testing.T) {
	folder := t.TempDir()
	key, err := OpenKey(folder)
	if err != nil {
		t.Fatal(err)
	}
	c := Credential{User: "maren", Password: "hunter2"}
	if err := key.KeepCredential(folder, "line", &c); err != nil {
		t.Fatal(err)
	}
	if text := fmt.Sprintf("%v %+v %#v %s", c, c, c, Access{Credential: c}); strings.Contains(text, "hunter2") || strings.Contains(text, "maren") {
		t.Errorf("a credential prints itself: %s", text)
	}
	for _, name := range []string{KeyFile, credentialsFile} {
		info, err := os.Stat(filepath.Join(folder, name))
		if err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s has the mode %v (%v)", name, info.Mode(), err)
		}
		text, _ := os.ReadFile(filepath.Join(folder, name))
		if bytes.Contains(text, []byte("hunter2")) {
			t.Errorf("%s holds the password", name)
		}
	}
	again, err := OpenKey(folder)
	if err != nil {
		t.Fatal(err)
	}
	if kept, err := again.Credentials(folder); err != nil || kept["line"] != c {
		t.Errorf("kept is %d (%v)", len(kept), err)
	}
	if err := again.KeepCredential(folder, "line", nil); err != nil {
		t.Fatal(err)
	}
	if kept, err := again.Credentials(folder); err != nil || len(kept) != 0 {
		t.Errorf("forgotten, and yet: %d (%v)", len(kept), err)
	}
	if err := os.Chmod(filepath.Join(folder, KeyFile), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := OpenKey(folder); err == nil || !strings.Contains(err.Error(), "can be read by others: chmod 600") {
		t.Errorf("a key that all can read: %v", err)
	}
	broken := t.TempDir()
	if err := os.WriteFile(filepath.Join(broken, KeyFile), []byte("not a key"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := OpenKey(broken); err == nil || !strings.Contains(err.Error(), "it is no age identity") {
		t.Errorf("a key that is none: %v", err)
	}
}

// manyParts is a tree of so many parts in so many workloads, with a small file for the one site.
func manyParts(parts, workloads int) []File {
	var files []File
	for w := range workloads {
		var text strings.Builder
		fmt.Fprintf(&text, "aditus: 1\nworkload: w%d\nsites: [north]\nparts:\n", w)
		for p := range parts / workloads {
			fmt.Fprintf(&text, "  part-%d:\n    kind: service\n    artifact: r.example/a/b:1.0.%d\n    instances: 3\n    environment: {LINE: skerry, LEVEL: \"${level:-info}\"}\n    ports: {http: 8080}\n", p, p)
		}
		files = append(files, File{Name: fmt.Sprintf("w%d.yaml", w), Text: []byte(text.String())}, File{Name: fmt.Sprintf("w%d/north.yaml", w), Text: []byte("parts: {part-1: {instances: 5}}\n")})
	}
	return files
}

// BenchmarkLoad reads, overlays, fills, checks and fingerprints 10 000 parts.
func BenchmarkLoad(b *testing.B) {
	files := manyParts(10_000, 10)
	b.ReportAllocs()
	for b.Loop() {
		loaded, problems := Load(context.Background(), files, Options{})
		if len(problems) > 0 || len(loaded.Declarations) != 10 {
			b.Fatal(problems)
		}
		for _, d := range loaded.Declarations {
			d.Fingerprint()
		}
	}
}

// FuzzLoad feeds whole trees: base, site file and variables. Whatever comes, nothing panics, every problem has a place,
// and what is taken has a revision for each site.
func FuzzLoad(f *testing.F) {
	f.Add(twoWorkloads)
	f.Add("--- gate.yaml\n" + good + "--- gate/north.yaml\nparts: {gate: null}\n--- variables.yaml\naditus: 1\nvariables: {a: 1}\n")
	f.Add("--- a.yaml\nworkload: ${a}\n--- a/b.yaml\na: &a [*a]\n--- variables.yaml\nsites: {a: {b: ${c}}}\n")
	f.Fuzz(func(t *testing.T, text string) {
		loaded, problems := Load(context.Background(), tree(text), Options{})
		for _, p := range problems {
			if p.Message == "" {
				t.Fatalf("a problem that says nothing: %+v", p)
			}
		}
		if len(problems.Wrong()) > 0 {
			return
		}
		for _, d := range loaded.Declarations {
			var back declare.Desired
			if err := json.Unmarshal(d.Canonical(), &back); err != nil || back.Fingerprint() != d.Fingerprint() {
				t.Fatalf("%s does not survive (%v)", d.Canonical(), err)
			}
			d.Waves(sortedKeys(d.Parts)...)
		}
	})
}

// FuzzRules feeds rules: whatever comes, each that is taken can be asked.
func FuzzRules(f *testing.F) {
	f.Add("site != 'north' || parts.all(p, parts[p].instances >= 2)")
	f.Add("has(desired.about) && desired.about.matches('(a+)+$')")
	f.Fuzz(func(t *testing.T, must string) {
		node := declare.Node{Kind: declare.Map, File: "rules.yaml"}
		text := func(s string) declare.Node { return declare.Node{Kind: declare.Text, Text: s} }
		rule := declare.Node{Kind: declare.Map, Entries: []declare.Entry{{Key: text("name"), Value: text("a")}, {Key: text("must"), Value: text(must)}, {Key: text("say"), Value: text("b")}}}
		node.Entries = []declare.Entry{{Key: text("aditus"), Value: text("1")}, {Key: text("rules"), Value: declare.Node{Kind: declare.List, Items: []declare.Node{rule}}}}
		rules, _ := ReadRules(node)
		for _, r := range rules {
			r.Holds(context.Background(), Declaration{Desired: declare.Desired{Workload: "w", About: strings.Repeat("a", 40)}, Site: "s"})
		}
	})
}
