package source

import (
	"strings"
	"testing"
)

const decked = `# The deck.
aditus: 1
workload: deck   # ours
sites: [north, south]

parts:
  engine:
    kind: service
    instances: 3 # by day
    artifact: "oci://registry.skerry.example/deck/engine:1.0.0"
    environment: {TIDE: 'it''s low', LÖG: warn}
    command:
    - run
    - --fast

    # what it needs
    needs: [hold]
  hold:
    kind: volume
    size: 1 GB
notes: |
  # as it is
  kind: text
`

// TestSetField changes one field, and nothing but its lines.
func TestSetField(t *testing.T) {
	for _, test := range []struct {
		path        string
		value       any
		gone, comes string // lines that are no more, and that are there instead
	}{
		{"parts engine instances", 5.0, "    instances: 3 # by day\n", "    instances: 5 # by day\n"},
		{"parts engine artifact", "oci://registry.skerry.example/deck/engine:1.1.0", `    artifact: "oci://registry.skerry.example/deck/engine:1.0.0"` + "\n", "    artifact: oci://registry.skerry.example/deck/engine:1.1.0\n"},
		{"parts engine environment TIDE", "high: yes", "    environment: {TIDE: 'it''s low', LÖG: warn}\n", "    environment: {TIDE: 'high: yes', LÖG: warn}\n"},
		{"parts engine environment LÖG", "true", "    environment: {TIDE: 'it''s low', LÖG: warn}\n", "    environment: {TIDE: 'it''s low', LÖG: \"true\"}\n"},
		{"parts engine command", []any{"walk"}, "    command:\n    - run\n    - --fast\n", "    command:\n      - walk\n"},
		{"parts engine command", nil, "    command:\n    - run\n    - --fast\n", ""},
		{"parts engine command 1", "--slow", "    - --fast\n", "    - --slow\n"},
		{"parts engine needs 0", "deck", "    needs: [hold]\n", "    needs: [deck]\n"},
		{"parts engine needs", []any{"hold", "a, b"}, "    needs: [hold]\n", "    needs: [hold, 'a, b']\n"},
		{"parts engine user", 1000.0, "    needs: [hold]\n", "    needs: [hold]\n    user: 1000\n"},
		{"parts engine resources memory", "64 MB", "    needs: [hold]\n", "    needs: [hold]\n    resources:\n      memory: 64 MB\n"},
		{"parts hold", nil, "  hold:\n    kind: volume\n    size: 1 GB\n", ""},
		{"notes", "one\ntwo\n", "notes: |\n  # as it is\n  kind: text\n", "notes: |\n  one\n  two\n"},
		{"rollout style", "rolling", "  kind: text\n", "  kind: text\nrollout:\n  style: rolling\n"},
	} {
		got, err := setField([]byte(decked), 0, strings.Fields(test.path), test.value)
		if err != nil {
			t.Errorf("%s: %v", test.path, err)
			continue
		}
		if want := strings.Replace(decked, test.gone, test.comes, 1); string(got) != want {
			t.Errorf("%s becomes\n%s", test.path, got)
		}
	}
}

// TestSetFieldAnew sees that what cannot be changed line by line is written anew, with its comments, and never becomes anything else.
func TestSetFieldAnew(t *testing.T) {
	for _, test := range []struct{ text, path, value, want string }{
		{"", "parts engine user", "x", "parts:\n  engine:\n    user: x\n"},
		{"# only here\n", "a b", "x", "# only here\na:\n  b: x\n"},
		{"a: {b: 1} # all\n", "a c", "x", "a: {b: 1, c: x} # all\n"},
		{"a: &x {b: 1}\nc: *x\n", "c b", "2", ""},
		{"a: [1, 2]\n", "a b", "2", ""},
		{"a: {}\n", "a b c", "x", "a: {b: {c: x}}\n"},
		{"a:\n", "a b", "x", "a:\n  b: x\n"},
		{"a: 1\n---\na: 2\n---\na: 3\n", "b", "x", "a: 1\n---\na: 2\n---\na: 3\n"},
		{"a: 1\na: 2\n", "a", "x", ""},
		{"a: \"two\n  lines\"\nb: 1\n", "a", "x", "a: x\nb: 1\n"},
		{"a: b", "c", "x", "a: b\nc: x\n"},
		{"{\"a\": {\"b\": 1}}\n", "a b", "x", "{\"a\": {\"b\": x}}\n"},
	} {
		document := 0
		if strings.Contains(test.text, "---") {
			document, test.want = 1, "a: 1\n---\na: 2\nb: x\n---\na: 3\n"
		}
		got, err := setField([]byte(test.text), document, strings.Fields(test.path), test.value)
		if string(got) != test.want || (err == nil) != (test.want != "") {
			t.Errorf("%q with %s becomes %q (%v), want %q", test.text, test.path, got, err, test.want)
		}
	}
}

func FuzzSetField(f *testing.F) {
	f.Add(decked, "parts engine instances", "4")
	f.Add("a: {b: 1}\n---\nc: |\n x\n", "a b", "x: y")
	f.Fuzz(func(t *testing.T, text, path, value string) {
		if steps := strings.Fields(path); len(steps) > 0 && len(text) < 4096 {
			edited, err := setField([]byte(text), 0, steps, value) // which holds it against what is meant
			if _, _, again := documents(edited); err == nil && again != nil {
				t.Errorf("%q becomes %q, which cannot be read: %v", text, edited, again)
			}
		}
	})
}

// TestAmend sees which file takes what was changed at a site.
func TestAmend(t *testing.T) {
	files := []File{
		{Name: "line.yaml", Text: []byte("aditus: 1\n")}, {Name: "decks.yaml", Text: []byte(decked)}, {Name: "deck/south.yml", Text: []byte("parts: {engine: {instances: 2}}\n")},
		{Name: "lone.yaml", Text: []byte("aditus: 1\nsites: [north]\nparts:\n  a: {kind: service}\n")}, {Name: "decks/south.yml", Text: []byte("parts: {engine: {instances: 2}} # fewer\n")},
		{Name: "objects/gate.yaml", Text: []byte("kind: Deployment\nmetadata: {name: gate}\nspec:\n  containers:\n  - name: gate # the one\n    image: r.example/gate:1 # pinned\n    args: [a]\n")},
		{Name: "objects/all.yaml", Text: []byte("kind: ConfigMap\nmetadata: {name: other}\n---\n# ours\nkind: ConfigMap\nmetadata: {name: tides}\ndata:\n  level: low # meant\n")},
	}
	field := func(path string, value any) Amended { return Amended{Path: strings.Fields(path), Value: value} }
	object := field("data level", "high")
	object.Kind, object.Name = "ConfigMap", "tides"
	inList := Amended{Path: strings.Fields("spec containers 0 image"), Value: "r.example/gate:2", List: strings.Fields("spec containers"), Whole: []any{"?"}, Kind: "Deployment", Name: "gate"}
	longer := Amended{Path: strings.Fields("spec containers 0 args 1"), Value: "b", List: strings.Fields("spec containers 0 args"), Whole: []any{"a", "b"}, Kind: "Deployment", Name: "gate"}
	unknown := object
	unknown.Name = "ebb"
	for _, test := range []struct {
		workload, site string
		field          Amended
		name, want     string
	}{
		{"deck", "north", field("parts engine instances", 5.0), "decks/north.yaml", "# What differs at north.\nparts:\n  engine:\n    instances: 5\n"},
		{"deck", "south", field("parts engine instances", 5.0), "decks/south.yml", "parts: {engine: {instances: 5}} # fewer\n"},
		{"deck", "north", field("parts engine command", nil), "decks/north.yaml", "# What differs at north.\nparts:\n  engine:\n    command: null\n"},
		{"lone", "north", field("parts a instances", 5.0), "lone.yaml", "aditus: 1\nsites: [north]\nparts:\n  a: {kind: service, instances: 5}\n"},
		{"lone", "north", object, "objects/all.yaml", "kind: ConfigMap\nmetadata: {name: other}\n---\n# ours\nkind: ConfigMap\nmetadata: {name: tides}\ndata:\n  level: high # meant\n"},
		{"lone", "north", inList, "objects/gate.yaml", "kind: Deployment\nmetadata: {name: gate}\nspec:\n  containers:\n  - name: gate # the one\n    image: r.example/gate:2 # pinned\n    args: [a]\n"},
		{"lone", "north", longer, "objects/gate.yaml", "kind: Deployment\nmetadata: {name: gate}\nspec:\n  containers:\n  - name: gate # the one\n    image: r.example/gate:1 # pinned\n    args: [a, b]\n"},
		{"lone", "north", unknown, "", ""}, {"ghost", "north", object, "", ""},
	} {
		changed, err := amend(files, test.workload, test.site, []Amended{test.field})
		if string(changed[test.name]) != test.want || (err == nil) != (test.want != "") || len(changed) > 1 {
			t.Errorf("%s at %s becomes %q (%v)", test.workload, test.site, changed, err)
		}
	}
}
