package api

import (
	"encoding"
	"encoding/json"
	"maps"
	"net/http"
	"path"
	"reflect"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/invopop/jsonschema"

	"aditus/internal/core/berth"
	"aditus/internal/core/guard"
	"aditus/internal/core/policy"
	"aditus/internal/ledger"
	"aditus/internal/status"
)

// Document is the OpenAPI 3.1 document of the server. It is made from the list of operations and the types of their
// bodies, so that it says what the handlers do.
var Document = sync.OnceValue(func() []byte {
	d := describer{schemas: map[string]any{}}
	paths := map[string]map[string]any{}
	add := func(method, at string, operation map[string]any) {
		if paths[at] == nil {
			paths[at] = map[string]any{}
			if in := pathParameters(at); len(in) > 0 {
				paths[at]["parameters"] = in
			}
		}
		paths[at][strings.ToLower(method)] = operation
	}
	for _, op := range operations {
		add(op.method, op.path, d.operation(op))
	}
	for _, s := range streams {
		operation := map[string]any{
			"operationId": s.name, "summary": s.about, "security": security(policy.Look), "responses": map[string]any{
				"200":     map[string]any{"description": "Server-sent events; the data of each is JSON.", "content": map[string]any{"text/event-stream": map[string]any{"schema": map[string]any{"type": "string"}, "x-event": d.schema(s.event)}}},
				"default": d.problem(),
			}}
		if s.change != nil {
			d.schema(s.change)
			operation["parameters"] = []any{map[string]any{"name": "changes", "in": "query", "schema": map[string]any{"type": "boolean"}, "description": "true: after the first snapshot, events named change, each a " + nameOf(reflect.TypeOf(s.change)) + " of the one before."}}
		}
		add(http.MethodGet, s.path, operation)
	}
	for at, about := range map[string]string{"/healthz": "Whether the engine works and its ledger can be written.", "/leads": "Whether this server leads the ledger, where several share one: 503 where it stands by.", "/metrics": "OpenMetrics text of Aditus itself, and of what the sites' routers count."} {
		kind, schema, secure := "application/json", any(d.schema(Answer{})), []any{}
		if at == "/metrics" {
			kind, schema, secure = "application/openmetrics-text", map[string]any{"type": "string"}, security(policy.Look)
		}
		add(http.MethodGet, at, map[string]any{"operationId": strings.Trim(at, "/"), "summary": about, "security": secure, "responses": map[string]any{
			"200": map[string]any{"description": "It does.", "content": map[string]any{kind: map[string]any{"schema": schema}}}, "default": d.problem(),
		}})
	}
	text, err := json.MarshalIndent(map[string]any{
		"openapi": "3.1.0",
		"info":    map[string]any{"title": "Aditus", "version": "1", "description": "What a face may ask of a running Aditus. On the Unix socket in the data folder no token is needed: it is its owner's alone."},
		"paths":   paths,
		"components": map[string]any{
			"schemas":         d.schemas,
			"securitySchemes": map[string]any{"token": map[string]any{"type": "http", "scheme": "bearer", "description": "Made by aditus token add, with the scopes " + policy.Words() + "; or an ID token of the provider that /v1/login names. Over TLS a client's certificate may stand in for it."}},
		},
	}, "", " ")
	if err != nil {
		panic("the document is made of plain values: " + err.Error())
	}
	return text
})

// streams are the operations that answer with server-sent events.
var streams = []struct {
	path, name, about string
	event, change     any
}{
	{"/v1/events", "events", "A snapshot whenever there is a new one.", status.Snapshot{}, Change{}},
	{"/v1/ledger/events", "follow", "Facts as they come on record, from the one after Last-Event-ID.", ledger.Fact{}, nil},
}

var placeholder = regexp.MustCompile(`\{(\w+)\}`)

func pathParameters(at string) (all []any) {
	for _, found := range placeholder.FindAllStringSubmatch(at, -1) {
		all = append(all, map[string]any{"name": found[1], "in": "path", "required": true, "schema": map[string]any{"type": "string"}})
	}
	return all
}

func security(scope policy.Scope) []any {
	return []any{map[string]any{"token": []any{string(scope)}}}
}

// describer collects the schemas that operations speak of.
type describer struct{ schemas map[string]any }

func (d describer) operation(op operation) map[string]any {
	out := map[string]any{"operationId": op.name, "summary": op.about, "security": security(op.scope), "responses": map[string]any{
		strconv.Itoa(http.StatusOK): map[string]any{"description": "It is so.", "content": map[string]any{"application/json": map[string]any{"schema": d.schema(op.out)}}},
		"default":                   d.problem(),
	}}
	if op.in != nil {
		out["requestBody"] = map[string]any{"content": map[string]any{"application/json": map[string]any{"schema": d.schema(op.in)}}}
	}
	var parameters []any
	for _, p := range op.query {
		one := map[string]any{"name": p.name, "in": "query", "schema": map[string]any{"type": p.kind}}
		if p.about != "" {
			one["description"] = p.about
		}
		parameters = append(parameters, one)
	}
	if parameters != nil {
		out["parameters"] = parameters
	}
	return out
}

func (d describer) problem() map[string]any {
	return map[string]any{"description": "A problem document (RFC 9457).", "content": map[string]any{"application/problem+json": map[string]any{"schema": d.schema(Problem{})}}}
}

// schema describes a type, and keeps those that it is made of by their names.
func (d describer) schema(value any) map[string]any {
	t := reflect.TypeOf(value)
	r := jsonschema.Reflector{Anonymous: true, RequiredFromJSONSchemaTags: true, Namer: nameOf, Mapper: written}
	text, err := json.Marshal(r.ReflectFromType(t))
	if err != nil {
		panic("a schema is made of plain values: " + err.Error())
	}
	text = []byte(strings.ReplaceAll(string(text), `"#/$defs/`, `"#/components/schemas/`))
	var whole map[string]any
	if err := json.Unmarshal(text, &whole); err != nil {
		panic(err)
	}
	defs, _ := whole["$defs"].(map[string]any)
	for name, def := range defs {
		d.schemas[name] = nullable(def)
	}
	if nameOf(t) == "" {
		return nullable(whole).(map[string]any)
	}
	return map[string]any{"$ref": "#/components/schemas/" + nameOf(t)}
}

// SchemaOf is the JSON Schema (2020-12) of what a value is written as.
func SchemaOf(title string, value any) []byte {
	d := describer{schemas: map[string]any{}}
	whole := map[string]any{"$schema": "https://json-schema.org/draft/2020-12/schema", "title": title}
	maps.Copy(whole, d.schema(value))
	whole["$defs"] = d.schemas
	text, err := json.MarshalIndent(whole, "", "  ")
	if err != nil {
		panic("a schema is made of plain values: " + err.Error())
	}
	return append([]byte(strings.ReplaceAll(string(text), `"#/components/schemas/`, `"#/$defs/`)), '\n')
}

// written describes types that are not written as what they are made of.
func written(t reflect.Type) *jsonschema.Schema {
	switch {
	case t == reflect.TypeFor[guard.Limit]():
		return limitSchema()
	case t == reflect.TypeFor[berth.Verb]():
		return verbSchema()
	case t == reflect.TypeFor[time.Time]() || !t.Implements(reflect.TypeFor[encoding.TextMarshaler]()):
		return nil
	}
	return &jsonschema.Schema{Type: "string"}
}

// verbSchema describes the verbs of all orders that there are.
func verbSchema() *jsonschema.Schema {
	schema := &jsonschema.Schema{Type: "string"}
	for _, verb := range berth.Verbs() {
		schema.Enum = append(schema.Enum, verb)
	}
	return schema
}

// limitSchema describes a limit: its value under its kind, and its unit.
func limitSchema() *jsonschema.Schema {
	properties := jsonschema.NewProperties()
	for _, kind := range guard.LimitKinds() {
		properties.Set(string(kind), &jsonschema.Schema{Type: "number"})
	}
	properties.Set("unit", &jsonschema.Schema{Type: "string"})
	return &jsonschema.Schema{Type: "object", Properties: properties, Required: []string{"unit"}, AdditionalProperties: jsonschema.FalseSchema}
}

// nameOf names a type with its package, as several packages have a Berth.
func nameOf(t reflect.Type) string {
	if t.Name() == "" {
		return ""
	}
	name, _, _ := strings.Cut(t.Name(), "[")
	return path.Base(t.PkgPath()) + "." + name
}

// nullable lets lists and mappings be null, as Go writes those that are empty, and pointers too.
func nullable(schema any) any {
	switch s := schema.(type) {
	case map[string]any:
		for key, value := range s {
			s[key] = nullable(value)
		}
		_, open := s["additionalProperties"].(map[string]any)
		if s["type"] == "array" || s["type"] == "object" && open && s["properties"] == nil {
			s["type"] = []any{s["type"], "null"}
		}
		if properties, ok := s["properties"].(map[string]any); ok {
			for name, value := range properties {
				if p, ok := value.(map[string]any); ok && p["$ref"] != nil {
					properties[name] = map[string]any{"anyOf": []any{p, map[string]any{"type": "null"}}}
				}
			}
		}
	case []any:
		for i := range s {
			s[i] = nullable(s[i])
		}
	}
	return schema
}
