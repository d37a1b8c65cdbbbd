package source

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"go.yaml.in/yaml/v4"

	"aditus/internal/core/declare"
)

const good = `aditus: 1
workload: boarding
sites: [north]
parts:
  gate:
    kind: service
    artifact: registry.example/boarding/gate:1.0.0
    ports: {http: 8080}
    probes:
      ready: {http: {port: http, path: /ready}}
    metrics: {port: http}
  texts:
    kind: settings
    values: {hours: 6}
rollout:
  stages:
    - {share: 5 %, soak: 1m}
    - {share: 100 %}
guards:
  - name: slow share
    signal: {share-above: {histogram: h, bound: 250ms}}
    limit: {at-most: 5 %}
`

func readOne(file, text string) (declare.Desired, declare.Problems) {
	found, problems := Load(context.Background(), []File{{Name: file, Text: []byte(text)}}, Options{})
	if len(problems.Wrong()) > 0 || len(found.Declarations) == 0 {
		return declare.Desired{}, problems.Wrong()
	}
	return found.Declarations[0].Desired, nil
}

// TestProblems changes the good declaration in one place each and wants the problem at its place, with what to do.
func TestProblems(t *testing.T) {
	if _, problems := readOne("a.yaml", good); len(problems) > 0 {
		t.Fatal(problems)
	}
	tests := []struct{ name, from, to, want string }{
		{"misspelt key", "workload:", "workloda:", `a.yaml:2:1: a declaration has no key "workloda"; did you mean "workload"?`},
		{"missing key", "sites: [north]\n", "", `a.yaml:1:1: a declaration needs the key "sites"`},
		{"newer format", "aditus: 1", "aditus: 2", `a.yaml:1:9: this program reads format 1, not "2"; write aditus: 1`},
		{"name", "workload: boarding", "workload: Boarding", `a.yaml:2:11: the name of a workload is made of`},
		{"misspelt kind", "kind: service", "kind: servce", `a.yaml:6:11: there is no kind of part "servce"; did you mean "service"?`},
		{"kind that is no kind", "kind: service", "kind: elephant", `known are service, task, settings, secret, route, volume`},
		{"artifact without tag", "gate:1.0.0", "gate", `is no OCI reference with a tag or digest; write HOST/PATH:TAG`},
		{"instances", "ports: {", "instances: many\n    ports: {", `a.yaml:8:16: instances must be a whole number from 0 to 10000`},
		{"port that is not there", "http: {port: http,", "http: {port: htp,", `a.yaml:10:28: the part has no port "htp"; did you mean "http"?`},
		{"two ways to probe", "ready: {http:", "ready: {tcp: {port: http}, http:", `a.yaml:10:14: a probe asks in exactly one way`},
		{"path", "path: /ready", "path: ready", `a path starts with /; write /ready`},
		{"metrics with a secret that is not there", "metrics: {port: http}", "metrics: {port: http, secret: texts}", `the metrics of gate are asked for with "texts", and there is no such secret`},
		{"a name without a certificate", "metrics: {port: http}", "metrics: {port: http, host: gate.example}", `without https there is none; write scheme: https beside it`},
		{"time", "soak: 1m", "soak: 1 minute", `a.yaml:17:26: expected a length of time, not "1 minute"; write it like 90s`},
		{"share", "share: 5 %", "share: 5", `a.yaml:17:15: expected a share above 0 % and up to 100 %, not "5"; write it like 5 %`},
		{"shares that fall", "share: 5 %", "share: 100 %", `each stage's share must be larger`},
		{"no full stage", "    - {share: 100 %}\n", "", `the last stage must have the share 100 %; add a stage`},
		{"limit of another unit", "at-most: 5 %", "at-most: 250ms", `a.yaml:22:12: the limit's unit does not fit the signal; write a share such as 5 %`},
		{"two limits", "at-most: 5 %", "at-most: 5 %, above-old-by: 1 points", `a limit is one of`},
		{"two signals", "signal: {", "signal: {rate: {counter: c}, ", `exactly one way`},
		{"rate against old", "signal: {share-above: {histogram: h, bound: 250ms}}\n    limit: {at-most: 5 %}", "signal: {rate: {counter: c}}\n    limit: {above-old-by: 5}", `one cannot be held against the other; write at-most, or compare a ratio`},
		{"action", "    limit:", "    then: rollback\n    limit:", `expected one of roll back, hold, tell, not "rollback"; did you mean "roll back"?`},
		{"a pattern that means nothing", "share-above: {histogram: h, bound: 250ms}", "ratio: {of: {counter: r_total, where: {code: 5xx}}, to: {counter: r_total}}", `"5xx" is one value, which no request has: it is no pattern; write 5*`},
		{"another", "share-above: {histogram: h, bound: 250ms}", "ratio: {of: {counter: r_total, where: {code: ['404', '5.*']}}, to: {counter: r_total}}", `"5.*" is one value`},
		{"a star in the middle", "share-above: {histogram: h, bound: 250ms}", "ratio: {of: {counter: r_total, where: {path: '/a*b'}}, to: {counter: r_total}}", `a star stands at the end of "/a*b" alone`},
		{"count that cannot be", "    limit:", "    breach: {intervals: 6, of: 5}\n    limit:", `can never be reached`},
		{"twice the same key", "sites: [north]", "sites: [north]\nsites: [south]", `a.yaml:4:1: the key "sites" stands here twice, first on line 3; remove one of them`},
		{"twice the same site", "[north]", "[north, north]", `"north" stands here twice`},
		{"list in place of mapping", "ports: {http: 8080}", "ports: [8080]", `a.yaml:8:12: ports must be a mapping of names, not a list`},
		{"broken YAML", "parts:\n", "parts: {\n", `a.yaml:`},
		{"a variable in braces", "ports: {http: 8080}", "ports: {http: ${tide}, other: 1}", `within braces and brackets quote what has ${…} in it`},
		{"one in brackets", "[north]", "[north, ${tide} ]", `such as "${tide}"`},
		{"tab", "  gate:", "\tgate:", `not valid YAML`},
		{"alias that eats itself", "sites: [north]", "sites: &s [*s]", `a.yaml:`},
		{"two documents", "rollout:", "---\nrollout:", `more than one YAML document`},
		{"nothing at all", good, "", `a.yaml:1:1: the file is empty; start with aditus: 1`},
		{"something else", good, "hello", `a declaration must be a mapping with keys such as aditus, workload, sites, parts, not text`},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			if !strings.Contains(good, test.from) {
				t.Fatalf("%q is not in the good declaration", test.from)
			}
			_, problems := readOne("a.yaml", strings.Replace(good, test.from, test.to, 1))
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

func TestCheckAcrossFiles(t *testing.T) {
	files := []File{{Name: "a.yaml", Text: []byte(good)}, {Name: "b.yaml", Text: []byte(strings.Replace(good, "[north]", "[nroth]", 1))}, {Name: "c.yaml", Text: []byte(":\t")}}
	_, problems := Load(t.Context(), files, Options{Sites: []string{"north", "south"}})
	var all []string
	for _, p := range problems {
		all = append(all, p.Error())
	}
	for _, want := range []string{`b.yaml:1:1: workload "boarding" is declared in a.yaml already`, `there is no site "nroth"; known are north, south`, `c.yaml:1:`} {
		if !strings.Contains(strings.Join(all, "\n"), want) {
			t.Errorf("%q is not among\n%s", want, strings.Join(all, "\n"))
		}
	}
}

func TestDefaults(t *testing.T) {
	d, problems := readOne("a.yaml", "aditus: 1\nworkload: w\nsites: [b, a]\nparts: {p: {kind: service, artifact: r.example/p:1}}\n")
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	if d.Parts["p"].Instances != 1 || len(d.Rollout.Stages) != 2 || d.Rollout.Proving.Minutes() != 10 {
		t.Errorf("%+v", d)
	}
	other, _ := readOne("b.yaml", "# the same in another order\nworkload: w\nparts:\n  p:\n    artifact: r.example/p:1\n    kind: service\nsites:\n- a\n- b\naditus: 1\n")
	if d.Fingerprint() != other.Fingerprint() {
		t.Error("the same declaration written in another way has another revision")
	}
}

func schema(t testing.TB) *jsonschema.Schema {
	t.Helper()
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(declare.Schema))
	if err != nil {
		t.Fatal(err)
	}
	compiler := jsonschema.NewCompiler()
	if err := compiler.AddResource("declaration.json", value); err != nil {
		t.Fatal(err)
	}
	compiled, err := compiler.Compile("declaration.json")
	if err != nil {
		t.Fatal(err)
	}
	return compiled
}

func asJSON(t testing.TB, text string) (any, bool) {
	t.Helper()
	var value any
	if yaml.Unmarshal([]byte(text), &value) != nil {
		return nil, false
	}
	plain, err := json.Marshal(value)
	if err != nil {
		return nil, false
	}
	out, err := jsonschema.UnmarshalJSON(bytes.NewReader(plain))
	return out, err == nil
}

// TestSchema holds the schema against the reader: it takes all declarations of the demo, and refuses what the reader
// refuses for its shape.
func TestSchema(t *testing.T) {
	s := schema(t)
	names, _ := filepath.Glob("../demo/declarations/*.yaml")
	more, _ := filepath.Glob("../demo/bundles/*.yaml")
	if len(names)+len(more) < 8 {
		t.Fatal("the demo's declarations are not where they were")
	}
	for _, name := range append(names, more...) {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		if base := filepath.Base(name); base == variablesFile || base == rulesFile {
			continue
		}
		if value, ok := asJSON(t, string(text)); !ok || s.Validate(value) != nil {
			t.Errorf("%s: %v", name, s.Validate(value))
		}
	}
	for _, folder := range []string{"../demo/declarations", "../demo/bundles"} {
		files, err := FromFolder(folder)
		if err != nil {
			t.Fatal(err)
		}
		if _, problems := Load(t.Context(), files, Options{}); len(problems.Wrong()) > 0 {
			t.Errorf("%s: %v", folder, problems)
		}
	}
	for _, change := range [][2]string{{"workload:", "workloda:"}, {"kind: service", "kind: elephant"}, {"share: 5 %", "share: 5"}, {"sites: [north]\n", ""}, {"at-most: 5 %", "at-most: 5 %, above-old-by: 1 points"}, {"soak: 1m", "soak: soon"}} {
		value, ok := asJSON(t, strings.Replace(good, change[0], change[1], 1))
		if !ok || s.Validate(value) == nil {
			t.Errorf("the schema takes %q in place of %q", change[1], change[0])
		}
	}
}

// TestEditors takes a file that tells editors where its schema is, as a key and as a comment: what it declares is the same.
func TestEditors(t *testing.T) {
	with := "# yaml-schema: workload.json\n$schema: ../schemas/workload.json\n" + good
	if value, ok := asJSON(t, with); !ok || schema(t).Validate(value) != nil {
		t.Error("the schema does not take it")
	}
	plain, problems := readOne("a.yaml", good)
	told, more := readOne("a.yaml", with)
	if len(problems)+len(more) > 0 || plain.Fingerprint() != told.Fingerprint() {
		t.Errorf("it is another revision: %v %v", problems, more)
	}
	if _, problems := readOne("a.yaml", "$schema: {}\n"+good); len(problems) != 1 {
		t.Errorf("a schema that is no address: %v", problems)
	}
}

// FuzzRead feeds the reader anything: it never panics, says where every problem is, and what it takes has a revision
// that survives writing and reading back.
func FuzzRead(f *testing.F) {
	f.Add([]byte(good))
	f.Add([]byte("a: &a [*a, *a]\n"))
	f.Add([]byte("parts: {p: {kind: settings, values: {a: [1]}}}\nguards: [{name: x, signal: {ratio: {of: {counter: 1}}}}]"))
	f.Add([]byte("rollout: {stages: [{share: 1e999 %}], interval: -5s}"))
	f.Fuzz(func(t *testing.T, text []byte) {
		node, err := ReadYAML("a.yaml", text)
		var problems declare.Problems
		if err != nil {
			if !errors.As(err, &problems) {
				t.Fatalf("a problem without a place: %v", err)
			}
		} else {
			var desired declare.Desired
			if desired, problems = declare.Read(node); len(problems) == 0 {
				var back declare.Desired
				if err := json.Unmarshal(desired.Canonical(), &back); err != nil || back.Fingerprint() != desired.Fingerprint() {
					t.Fatalf("%s does not survive (%v)", desired.Canonical(), err)
				}
			}
		}
		for _, p := range problems {
			if p.Line < 0 || p.Message == "" {
				t.Fatalf("a problem that says nothing: %+v", p)
			}
		}
	})
}

// TestBomb reads what grows without bounds: it is refused with a place, and at once.
func TestBomb(t *testing.T) {
	bomb := "a0: &a0 [x, x, x, x, x, x, x, x, x]\n"
	for i := 1; i < 12; i++ {
		bomb += fmt.Sprintf("a%d: &a%d [%s]\n", i, i, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*a%d, ", i-1), 9), ", "))
	}
	for name, text := range map[string]string{"aliases of aliases": bomb, "deep": strings.Repeat("[", 5000) + strings.Repeat("]", 5000), "deep keys": strings.Repeat("a: {", 500) + strings.Repeat("}", 500), "wide": "a: [" + strings.Repeat("1,", maxNodes+1) + "1]"} {
		_, problems := readOne("a.yaml", text)
		if len(problems) == 0 || problems[0].Line < 1 || !strings.HasPrefix(problems[0].Error(), "a.yaml:") {
			t.Errorf("%s: %v", name, problems)
		}
	}
	if _, problems := readOne("a.yaml", bomb); !strings.Contains(problems.Error(), "write it out with fewer aliases") {
		t.Errorf("aliases of aliases: %v", problems)
	}
}
