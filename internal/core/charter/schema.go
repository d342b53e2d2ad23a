package charter

import _ "embed"

// Schema is the form of one file of a charter as a JSON Schema (draft 2020-12).
//
//go:embed schema.json
var Schema []byte
