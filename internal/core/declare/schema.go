package declare

import _ "embed"

// Schema is the JSON Schema (2020-12) of declarations. Read finds more than a schema can say; whatever the schema
// refuses, Read refuses too.
//
//go:embed schema.json
var Schema []byte

// LineSchema is the JSON Schema (2020-12) of a line's rules.
//
//go:embed line.schema.json
var LineSchema []byte
