// Package licences holds the licences of the modules that the program is made of.
package licences

import _ "embed"

//go:generate go run ./collect

// Text has the name and version of each module that is part of the program, on any system, and its licence; that of Go
// itself comes first.
//
//go:embed licences.txt
var Text string
