// Package ladlefile reads ladle files: how inputs become rows of tables. It decodes them, keeping the place of
// everything that is said, and holds them against the files and the database that they name.
package ladlefile

import (
	"fmt"
	"strconv"
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
	Claims []*Claim
}

// Input is a named origin of rows.
type Input struct {
	Name   Text
	File   Text // the first file, as it is written: relative to the ladle file, perhaps a pattern
	Paths  []string
	Asked  source.Asked // what is said of the way to read them
	Rules  []clean.Named
	Made   []clean.Made
	Only   Text // a condition on rows
	Stated []Stated
	zone   *time.Location
}

// Block says how rows of one input become rows of one table.
type Block struct {
	Name     Text
	Into     Text // the table, where its name isn't the block's
	From     Text // the name of the input
	Key      []Text
	Keyless  bool // key: none
	KeyAt    Place
	There    There
	NotThere NotThere
	Blank    Blank
	BlankKey BlankKey
	Repeats  Repeats
	Gone     *Gone
	Columns  []Column
	Only     Text   // a condition on rows
	Changed  []Text // the columns that the database itself may give another value
}

// Gone says that rows of the table which the input no longer has are removed.
type Gone struct {
	Place
	Most  Limit // how many of the rows among which they are looked for
	Among Text  // a condition in SQL on the table's rows; all of them where it isn't given
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

// Find resolves values to a row of a table: by columns of it, or by the id that the row had where it came from.
type Find struct {
	Place
	Table    Text
	By       []Column
	Block    Text // in place of Table, by an old id: the block that made the row
	Old      Text // by an old id: the column that holds it in the input of the rows
	Is       Text // the column that holds it in this input
	NotFound NotFound
	Several  Several
	Similar  Similar
}

// There says what happens to a row whose key is in the table already.
type There string

// NotThere says what happens to a row whose key is not in the table.
type NotThere string

// Blank says what a blank cell does to a row that is updated.
type Blank string

// BlankKey says what happens to a row with a blank in its key.
type BlankKey string

// Similar says what happens to a new name that looks like another one; empty when a person is to be asked.
type Similar string

// Repeats says what happens to rows of an input that have the same key and differ.
type Repeats string

// NotFound says what happens to a row whose find leads nowhere.
type NotFound string

// Several says what happens to a row whose find leads to more than one row.
type Several string

const (
	KeepThere   There = "keep"
	UpdateThere There = "update"
	RefuseThere There = "refuse"

	AddNotThere    NotThere = "add"
	LeaveNotThere  NotThere = "leave"
	RefuseNotThere NotThere = "refuse"

	BlankKeeps  Blank = "keeps"
	BlankClears Blank = "clears"

	RefuseBlankKey BlankKey = "refuse"
	MatchBlankKey  BlankKey = "match"

	AcceptSimilar Similar = "accept"
	RefuseSimilar Similar = "refuse"

	RefuseRepeats Repeats = "refuse"
	FirstRepeat   Repeats = "first"
	LastRepeat    Repeats = "last"

	RefuseNotFound NotFound = "refuse"
	AddNotFound    NotFound = "add"
	BlankNotFound  NotFound = "leave_blank"

	RefuseSeveral Several = "refuse"
	BlankSeveral  Several = "leave_blank"
)

// Limit is how many of some lines or rows may meet with something before the load is refused.
type Limit struct {
	Any   bool
	Count int64
	Share float64 // of all, from 0 to 1; used when it is not 0
}

// Passed tells whether some of all are too many.
func (l Limit) Passed(some, all int64) bool {
	switch {
	case l.Any:
		return false
	case l.Share > 0:
		return float64(some) > l.Share*float64(all)
	}
	return some > l.Count
}

func (l Limit) String() string {
	switch {
	case l.Any:
		return "any"
	case l.Share > 0:
		return fmt.Sprintf("%g%%", l.Share*100)
	}
	return strconv.FormatInt(l.Count, 10)
}

// Table is the name of the table that the block fills.
func (b *Block) Table() Text {
	if b.Into.Given() {
		return b.Into
	}
	return b.Name
}
