package guard

import _ "embed"

// VerdictSchema is the JSON Schema (2020-12) of a Verdict as JSON.
//
//go:embed verdict.schema.json
var VerdictSchema []byte
