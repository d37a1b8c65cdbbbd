package config

import (
	"encoding/json"
	"reflect"
	"strings"
	"time"

	"github.com/invopop/jsonschema"
)

// KindName is a kind of target by its name, and what it means in a few words.
type KindName struct{ Name, Means string }

// Schema is the JSON Schema (2020-12) of the settings, made from their types, where sites run on these kinds of targets.
func Schema(kinds []KindName) []byte {
	reflector := jsonschema.Reflector{
		FieldNameTag: "yaml", RequiredFromJSONSchemaTags: true, DoNotReference: true, Anonymous: true, Mapper: written,
	}
	schema := reflector.ReflectFromType(reflect.TypeFor[Settings]())
	schema.ID, schema.Title, schema.Description = "https://aditus.example/settings-1.schema.json", "Aditus settings", "settings.yaml in the data folder."
	sites, _ := schema.Properties.Get("sites")
	target, _ := sites.Items.Properties.Get("target")
	kind, _ := target.Properties.Get("kind")
	var means []string
	for _, k := range kinds {
		kind.Enum = append(kind.Enum, k.Name)
		means = append(means, k.Name+": "+k.Means)
	}
	kind.Description = strings.Join(means, "; ") + "."
	text, err := json.MarshalIndent(schema, "", "  ")
	if err != nil {
		panic("a schema is made of plain values: " + err.Error())
	}
	return append(text, '\n')
}

// written describes types that are written as text.
func written(t reflect.Type) *jsonschema.Schema {
	switch t {
	case reflect.TypeFor[time.Duration]():
		return &jsonschema.Schema{Type: "string", Pattern: `^([0-9]+(\.[0-9]+)?(ms|s|m|h))+$`, Description: "A length of time such as 30s or 1m30s."}
	case reflect.TypeFor[Days]():
		return &jsonschema.Schema{Type: "string", Pattern: `^(for ever|1 day|[0-9]+ days)$`}
	case reflect.TypeFor[time.Time]():
		return &jsonschema.Schema{Type: "string"}
	}
	return nil
}
