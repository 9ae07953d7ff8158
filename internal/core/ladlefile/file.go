// Package ladlefile reads ladle files: how inputs become rows of tables. It decodes them, keeping the place of
// everything that is said, and holds them against the files and the database that they name.
package ladlefile

import (
	"time"

	"ladle/internal/core/clean"
	"ladle/internal/core/source"
)

// Version is the version of the format that this package reads.
const Version = "1"

// Place is where something stands in the ladle file, both counted from 1.
type Place struct{ Line, Column int }

// Text is a scalar, as it is written: NO, 007 and 2024-01-01 are text.
type Text struct {
	Value string
	Place
}

// Given tells whether the scalar stands in the file.
func (t Text) Given() bool { return t.Line > 0 }

// File is a decoded ladle file.
type File struct {
	Path   string
	Sum    string // SHA-256 of its bytes, in hexadecimal
	Inputs []*Input
	Blocks []*Block
	Limit  Limit
}

// Input is a named origin of rows.
type Input struct {
	Name  Text
	File  Text // the first file, as it is written: relative to the ladle file, perhaps a pattern
	Paths []string
	Asked source.Asked // what is said of the way to read them
	Rules []clean.Named
	Made  []clean.Made
	Only  Text // a condition on rows
	zone  *time.Location
}

// Block says how rows of one input become rows of one table.
type Block struct {
	Name    Text
	Into    Text // the table, where its name isn't the block's
	From    Text // the name of the input
	Key     []Text
	Keyless bool // key: none
	KeyAt   Place
	There   There
	Repeats Repeats
	Columns []Column
	Only    Text // a condition on rows
}

// Column says where the values of a column come from.
type Column struct {
	Name   Text
	Source Source
}

// Source is where a value comes from: a column of the input, a constant, or the row that a find leads to.
type Source struct {
	Place
	From     Text
	Constant Text
	Find     *Find
}

// Find resolves values to a row of a table.
type Find struct {
	Place
	Table    Text
	By       []Column
	NotFound NotFound
	Several  Several
}

// There says what happens to a row whose key is in the table already.
type There string

// Repeats says what happens to rows of an input that have the same key and differ.
type Repeats string

// NotFound says what happens to a row whose find leads nowhere.
type NotFound string

// Several says what happens to a row whose find leads to more than one row.
type Several string

const (
	KeepThere   There = "keep"
	RefuseThere There = "refuse"

	RefuseRepeats Repeats = "refuse"
	FirstRepeat   Repeats = "first"
	LastRepeat    Repeats = "last"

	RefuseNotFound NotFound = "refuse"
	AddNotFound    NotFound = "add"
	BlankNotFound  NotFound = "leave_blank"

	RefuseSeveral Several = "refuse"
	BlankSeveral  Several = "leave_blank"
)

// Limit is how many lines may be set aside before the load is refused.
type Limit struct {
	Any   bool
	Lines int64
	Share float64 // of the lines read, from 0 to 1; used when it is not 0
}

// Passed tells whether aside of read lines are too many.
func (l Limit) Passed(aside, read int64) bool {
	switch {
	case l.Any:
		return false
	case l.Share > 0:
		return float64(aside) > l.Share*float64(read)
	}
	return aside > l.Lines
}

// Table is the name of the table that the block fills.
func (b *Block) Table() Text {
	if b.Into.Given() {
		return b.Into
	}
	return b.Name
}
