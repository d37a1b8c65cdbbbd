package declare

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	jsonpatch "github.com/evanphx/json-patch/v5"
)

// nodeOf makes a node of JSON, as the YAML reader would.
func nodeOf(t testing.TB, text string) Node {
	t.Helper()
	decoder := json.NewDecoder(strings.NewReader(text))
	decoder.UseNumber()
	var value any
	if err := decoder.Decode(&value); err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	var make func(any) Node
	make = func(value any) Node {
		switch v := value.(type) {
		case nil:
			return Node{Kind: Null, Text: "null"}
		case bool:
			return Node{Kind: Bool, Text: fmt.Sprint(v)}
		case json.Number:
			return Node{Kind: Number, Text: v.String()}
		case string:
			return Node{Kind: Text, Text: v}
		case []any:
			n := Node{Kind: List}
			for _, item := range v {
				n.Items = append(n.Items, make(item))
			}
			return n
		}
		n := Node{Kind: Map}
		object := value.(map[string]any)
		for _, key := range keysOf(object) {
			n.Entries = append(n.Entries, Entry{Key: Node{Kind: Text, Text: key}, Value: make(object[key])})
		}
		return n
	}
	return make(value)
}

// jsonOf writes a node as JSON, with its keys sorted.
func jsonOf(n Node) string {
	switch n.Kind {
	case Text:
		text, _ := json.Marshal(n.Text)
		return string(text)
	case List:
		var items []string
		for _, item := range n.Items {
			items = append(items, jsonOf(item))
		}
		return "[" + strings.Join(items, ",") + "]"
	case Map:
		var entries []string
		for _, e := range n.Entries {
			entries = append(entries, jsonOf(e.Key)+":"+jsonOf(e.Value))
		}
		slices.Sort(entries)
		return "{" + strings.Join(entries, ",") + "}"
	}
	return n.Text
}

// TestMerge goes through the examples of RFC 7386, appendix A, and holds a library's answer beside ours.
func TestMerge(t *testing.T) {
	for _, test := range [][3]string{
		{`{"a":"b"}`, `{"a":"c"}`, `{"a":"c"}`}, {`{"a":"b"}`, `{"b":"c"}`, `{"a":"b","b":"c"}`}, {`{"a":"b"}`, `{"a":null}`, `{}`},
		{`{"a":"b","b":"c"}`, `{"a":null}`, `{"b":"c"}`}, {`{"a":["b"]}`, `{"a":"c"}`, `{"a":"c"}`}, {`{"a":"c"}`, `{"a":["b"]}`, `{"a":["b"]}`},
		{`{"a":{"b":"c"}}`, `{"a":{"b":"d","c":null}}`, `{"a":{"b":"d"}}`}, {`{"a":[{"b":"c"}]}`, `{"a":[1]}`, `{"a":[1]}`},
		{`["a","b"]`, `["c","d"]`, `["c","d"]`}, {`{"a":"b"}`, `["c"]`, `["c"]`}, {`{"a":"foo"}`, `null`, `null`}, {`{"a":"foo"}`, `"bar"`, `"bar"`},
		{`{"e":null}`, `{"a":1}`, `{"a":1,"e":null}`}, {`[1,2]`, `{"a":"b","c":null}`, `{"a":"b"}`}, {`{}`, `{"a":{"bb":{"ccc":null}}}`, `{"a":{"bb":{}}}`},
		// the example of section 3
		{`{"title":"Goodbye!","author":{"givenName":"John","familyName":"Doe"},"tags":["example","sample"],"content":"This will be unchanged"}`,
			`{"title":"Hello!","phoneNumber":"+01-123-456-7890","author":{"familyName":null},"tags":["example"]}`,
			`{"author":{"givenName":"John"},"content":"This will be unchanged","phoneNumber":"+01-123-456-7890","tags":["example"],"title":"Hello!"}`},
	} {
		base := nodeOf(t, test[0])
		if got := jsonOf(Merge(base, nodeOf(t, test[1]))); got != test[2] {
			t.Errorf("%s with %s gives %s, want %s", test[0], test[1], got, test[2])
		}
		if jsonOf(base) != jsonOf(nodeOf(t, test[0])) {
			t.Errorf("%s was changed by merging %s", test[0], test[1])
		}
		if strings.HasPrefix(test[0], "{") && strings.HasPrefix(test[1], "{") {
			if theirs, err := jsonpatch.MergePatch([]byte(test[0]), []byte(test[1])); err != nil || !jsonpatch.Equal(theirs, []byte(test[2])) {
				t.Errorf("%s with %s gives %s elsewhere (%v)", test[0], test[1], theirs, err)
			}
		}
	}
}

func TestFill(t *testing.T) {
	v := Variables{
		All:   Scope{"line": {Name: "line", Value: "skerry", From: "all sites", kind: Text}, "gates": {Name: "gates", Value: "4", From: "all sites", kind: Number}},
		Teams: []Team{{Name: "harbour", Sites: []string{"drydock"}, Scope: Scope{"gates": {Name: "gates", Value: "2", From: "team harbour", kind: Number}}}},
		Sites: map[string]Scope{"drydock": {"line": {Name: "line", Value: "trial", From: "site drydock", kind: Text}}},
	}
	for _, test := range []struct{ site, text, want, from string }{
		{"north", "${line}", `"skerry"`, "all sites"}, {"drydock", "${line}", `"trial"`, "site drydock"}, {"north", "${gates}", "4", "all sites"}, {"drydock", "${gates}", "2", "team harbour"},
		{"north", "at ${line}-${gates}", `"at skerry-4"`, "all sites all sites"}, {"north", "${port:-8080}", "8080", ""}, {"north", "${word:-a b}", `"a b"`, ""}, {"north", "${empty:-}", `""`, ""},
		{"north", "$${line}", `"${line}"`, ""}, {"north", "$$${line}", `"$${line}"`, ""}, {"north", "${forced}", "true", CommandLine}, {"north", "$line and $5", `"$line and $5"`, ""},
	} {
		filled, uses, problems := Fill(nodeOf(t, fmt.Sprintf(`{"a":[%q]}`, test.text)), v.For(test.site, map[string]string{"forced": "true"}))
		var from []string
		for _, use := range uses {
			if use.Pointer != "/a/0" {
				t.Errorf("%s is used at %s", test.text, use.Pointer)
			}
			from = append(from, use.Given)
		}
		if got := jsonOf(filled); got != `{"a":[`+test.want+`]}` || len(problems) > 0 || strings.Join(from, " ") != test.from {
			t.Errorf("%s at %s gives %s from %q, want %s from %q (%v)", test.text, test.site, got, from, test.want, test.from, problems)
		}
	}
	for text, want := range map[string]string{
		"${lnie}": `the variable lnie is not given; did you mean "line"?`, "${wavelength-of-light}": "given are gates, line", "${zone:?name the zone you sail in}": "the variable zone is needed: name the zone you sail in",
		"${": "does not end", "${a b}": "is no name of a variable", "${}": "is no name of a variable",
	} {
		_, _, problems := Fill(nodeOf(t, fmt.Sprintf("[%q]", text)), v.For("north", nil))
		if len(problems) != 1 || !strings.Contains(problems[0].Error(), want) {
			t.Errorf("%s: %v, want %q", text, problems, want)
		}
	}
}

func TestReadVariables(t *testing.T) {
	v, problems := ReadVariables(nodeOf(t, `{"aditus":1,"variables":{"a":1},"teams":{"t":{"sites":["n"],"variables":{"a":2}}},"sites":{"n":{"b":true}}}`))
	if len(problems) > 0 || v.For("n", nil)["a"].Value != "2" || v.For("n", nil)["b"].kind != Bool || v.For("s", nil)["a"].From != "all sites" {
		t.Errorf("%+v (%v)", v, problems)
	}
	for text, want := range map[string]string{
		`{"aditus":1,"variables":{"a":[1]}}`: "not a list", `{"aditus":1,"variables":{"a b":1}}`: "is no name of a variable", `{"aditus":2}`: "reads format 1", `{"aditus":1,"variables":{"a":"${b}"}}`: "made of other variables",
		`{"aditus":1,"teams":{"t":{"sites":["n"],"variables":{}},"u":{"sites":["n"],"variables":{}}}}`: "is in the teams t and u", `{"aditus":1,"site":{}}`: `did you mean "sites"?`, `[]`: "must be a mapping",
	} {
		if _, problems := ReadVariables(nodeOf(t, text)); len(problems) == 0 || !strings.Contains(problems[0].Error(), want) {
			t.Errorf("%s: %v, want %q", text, problems, want)
		}
	}
}

func TestWaves(t *testing.T) {
	d := Desired{Parts: map[string]Part{
		"web": {Kind: Service, Needs: []string{"prepare", "engine"}}, "engine": {Kind: Service}, "prepare": {Kind: Task, Needs: []string{"engine"}}, "after": {Kind: Task, Needs: []string{"web"}},
		"texts": {Kind: Settings}, "key": {Kind: Secret}, "data": {Kind: Volume}, "entry": {Kind: Route, Service: "web"},
	}}
	var got []string
	for _, wave := range d.Waves(append(keysOf(d.Parts), "nobody")...) {
		got = append(got, strings.Join(wave, " "))
	}
	if text := strings.Join(got, " | "); text != "data key texts | engine | prepare | web | after entry" {
		t.Errorf("the waves are %s", text)
	}
	if needs := d.RunningNeeds(); len(needs) != 3 || strings.Join(needs["web"], " ") != "prepare engine" {
		t.Errorf("needs are %v", needs)
	}
	for want, needs := range map[string]map[string][]string{
		"": {"a": {"b"}, "b": {"c"}, "c": nil}, "a b a": {"a": {"b"}, "b": {"a"}}, "a a": {"a": {"a"}}, "b c d b": {"a": {"b"}, "b": {"c"}, "c": {"d"}, "d": {"b"}},
	} {
		if got := strings.Join(Circle(needs), " "); got != want {
			t.Errorf("%v: the circle is %q, want %q", needs, got, want)
		}
	}
}

// TestEscape goes through the keys of RFC 6901, section 5, that need escaping.
func TestEscape(t *testing.T) {
	for key, want := range map[string]string{"": "", "a/b": "a~1b", "c%d": "c%d", "e^f": "e^f", "g|h": "g|h", `i\j`: `i\j`, `k"l`: `k"l`, " ": " ", "m~n": "m~0n", "~1": "~01"} {
		if got := Escape(key); got != want || Unescape(got) != key {
			t.Errorf("%q becomes %q, want %q", key, got, want)
		}
	}
}
