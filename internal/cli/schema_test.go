package cli

import (
	"bytes"
	"encoding/json"
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
