// Package docs holds what the program itself prints of its documentation.
package docs

import _ "embed"

// Schema is the JSON Schema (draft 2020-12) of ladle files.
//
//go:embed ladle-file.schema.json
var Schema string
