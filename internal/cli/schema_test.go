package cli

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"go.yaml.in/yaml/v4"

	"aditus/internal/config"
	"aditus/internal/ledger"
)

func compile(t *testing.T, text []byte) *jsonschema.Schema {
	t.Helper()
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	compiler := jsonschema.NewCompiler()
	compiler.AssertFormat()
	if err := compiler.AddResource("schema.json", value); err != nil {
		t.Fatal(err)
	}
	schema, err := compiler.Compile("schema.json")
	if err != nil {
		t.Fatal(err)
	}
	return schema
}

// hold holds a line of JSON against a schema.
func hold(t *testing.T, schema *jsonschema.Schema, line string) {
	t.Helper()
	value, err := jsonschema.UnmarshalJSON(strings.NewReader(line))
	if err == nil {
		err = schema.Validate(value)
	}
	if err != nil {
		t.Fatalf("%s: %v", line, err)
	}
}

// holdSchemas holds what the story left in its folders against the schemas of facts and settings.
func holdSchemas(t *testing.T, data, out string) {
	t.Helper()
	facts, err := os.ReadFile(filepath.Join(out, "ledger.jsonl"))
	if err != nil {
		t.Fatal(err)
	}
	schema, lines := compile(t, ledger.FactSchema), 0
	for line := range bytes.Lines(facts) {
		hold(t, schema, string(line))
		lines++
	}
	if lines < 50 {
		t.Errorf("only %d facts", lines)
	}
	text, err := os.ReadFile(filepath.Join(data, config.FileName))
	if err != nil {
		t.Fatal(err)
	}
	validateSettings(t, text)
}

// holdAnswers holds what commands print of a data folder against their schemas, and YAML against JSON.
func holdAnswers(t *testing.T, data string) {
	t.Helper()
	for _, test := range []struct{ schema, command string }{
		{"status", "status"}, {"compare", "compare fares/slipway"}, {"compare", "compare tides/isles --all"}, {"spread", "spread boarding"},
		{"fact", "ledger -n 40"}, {"version", "version"}, {"links", "link list"}, {"tokens", "token list"}, {"report", "report"}, {"leaving", "tear-down piers/isles --dry-run"}, {"leaving", "tear-down --site isles --dry-run"},
	} {
		printed := map[string]string{}
		for _, form := range []string{"json", "yaml", "wide"} {
			var out, errs bytes.Buffer
			args := append(strings.Fields(test.command), "-o", form)
			if test.schema != "version" {
				args = append(args, "--data", data)
			}
			if code := run(t.Context(), args, &out, &errs); code != exitOK || out.Len() == 0 && form != "wide" {
				t.Errorf("%s -o %s ends with %d, prints %q and says %s", test.command, form, code, out.String(), errs.String())
			}
			printed[form] = out.String()
		}
		var schema bytes.Buffer
		if code := run(t.Context(), []string{"schema", test.schema}, &schema, io.Discard); code != exitOK {
			t.Fatalf("there is no schema %s", test.schema)
		}
		holds := compile(t, schema.Bytes())
		values, documents := json.NewDecoder(strings.NewReader(printed["json"])), yaml.NewDecoder(strings.NewReader(printed["yaml"]))
		for values.More() {
			var value, same any
			if err := errors.Join(values.Decode(&value), documents.Decode(&same)); err != nil {
				t.Fatalf("%s: %v", test.command, err)
			}
			one, _ := json.Marshal(value)
			hold(t, holds, string(one))
			if other, _ := json.Marshal(same); string(other) != string(one) && test.schema != "status" && test.schema != "version" { // whose time goes on
				t.Errorf("%s prints as YAML\n%s\ninstead of\n%s", test.command, other, one)
			}
		}
	}
}

// TestYAML sees that nothing harmful comes through, and that all that looks like something else stays what it is.
func TestYAML(t *testing.T) {
	value := map[string]any{"a": "yes", "b": "1e3", "c": "\u202etide\x1b[2J\u009b", "d": []any{}, "e": map[string]any{}, "f": nil, "g": "two\nlines\n", "h": 1 << 60, "i": " - x: #", "j": "2026-03-12", "k": "~", "\u2066": "<>"}
	text, _ := json.Marshal(value)
	var out bytes.Buffer
	w := &yamlWriter{out: &out}
	for _, part := range bytes.SplitAfter(append(text, text...), []byte(",")) { // as it may come
		if _, err := w.Write(part); err != nil {
			t.Fatal(err)
		}
	}
	if bytes.ContainsFunc(out.Bytes(), harmful) {
		t.Errorf("%q does harm", out.String())
	}
	documents := yaml.NewDecoder(&out)
	for range 2 {
		var is map[string]any
		if err := documents.Decode(&is); err != nil {
			t.Fatal(err)
		}
		if got, _ := json.Marshal(is); string(got) != string(text) {
			t.Errorf("%s became %s", text, got)
		}
	}
}

// validateSettings holds a settings file against its schema.
func validateSettings(t *testing.T, text []byte) {
	t.Helper()
	var value any
	if err := yaml.Unmarshal(text, &value); err != nil {
		t.Fatal(err)
	}
	plain, err := json.Marshal(value)
	if err != nil {
		t.Fatal(err)
	}
	settings, err := jsonschema.UnmarshalJSON(bytes.NewReader(plain))
	if err == nil {
		err = compile(t, settingsSchema()).Validate(settings)
	}
	if err != nil {
		t.Errorf("%s: %v", text, err)
	}
}

// holdCompletions asks for completions as a shell does, on what a story left.
func holdCompletions(t *testing.T, data string) {
	t.Helper()
	t.Setenv("ADITUS_DATA", data)
	for command, want := range map[string]string{
		"compare fares/n": "fares/north", "spread f": "fares", "log fares/slipway ": "fares-", "rollback fares/slipway --to ": "", "sync --site n": "north", "token add x --scope look,ch": "look,change",
		"guard backtest fares/slipway --guard s": "slow share", "link test sk": "skerry-line", "schema verd": "verdict", "sync fares/slipway --part e": "engine", "status -o y": "table",
		"settings put li": "links", "compare --with m": "main", "wait fares/north --for pr": "aligned", "link find ": ":0",
	} {
		var out bytes.Buffer
		args := strings.Split(command, " ")
		if code := run(t.Context(), append([]string{"__complete"}, args...), &out, io.Discard); code != exitOK {
			t.Errorf("%s ends with %d", command, code)
		}
		if !strings.HasPrefix(out.String(), want) || strings.HasPrefix(out.String(), ":") != (want == ":0") {
			t.Errorf("%q is completed with %q", command, out.String())
		}
	}
}
