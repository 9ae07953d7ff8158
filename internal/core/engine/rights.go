package engine

import (
	"slices"

	"ladle/internal/core/schema"
)

// Purpose is what a privilege is needed for.
type Purpose string

// The purposes, in the order in which people come to them.
const (
	ForTry  Purpose = "try"
	ForLoad Purpose = "load"
	ForUndo Purpose = "undo"
)

// Need is something that is done with a table.
type Need struct {
	Table *schema.Table
	Do    Privilege
	For   []Purpose
}

// Right is a privilege on something in the database, and whether a user has it.
type Right struct {
	On    string    `json:"on"` // a table, a sequence, a schema or the database, as people call it
	May   string    `json:"may"`
	For   []Purpose `json:"for"`
	Has   bool      `json:"has"`
	Grant string    `json:"grant"` // the statement that grants it
}

// Acts are what privileges are called in a list of what a user needs.
var Acts = map[Privilege]string{Select: "read", Insert: "add rows", Update: "update rows", Delete: "remove rows"}

// Rights gathers privileges, each once.
type Rights []*Right

// Add adds a privilege, or a purpose to one that is there.
func (r *Rights) Add(on, may, grant string, purposes []Purpose) *Right {
	for _, known := range *r {
		if known.Grant == grant {
			for _, p := range purposes {
				if !slices.Contains(known.For, p) {
					known.For = append(known.For, p)
				}
			}
			return known
		}
	}
	made := &Right{On: on, May: may, Grant: grant, For: slices.Clone(purposes)}
	*r = append(*r, made)
	return made
}
