// Package ladlefile is the syntax of ladle files, which say how inputs become rows of tables.
//
// [Read] and [Decode] make a [File] of one: its inputs, each with rules for its columns, its blocks, each feeding a
// table from an input, and its claims. Every scalar is taken as it is written, and keeps its [Place]. The other way,
// [Scalar] and [Flow] write values so that Decode reads the same, and a [Setting] is a key that is to get a value.
//
// What the names in a file stand for is not looked up here; package plan does that.
package ladlefile

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"time"

	"ladle/internal/core/clean"
	"ladle/internal/core/reshape"
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

// Given reports whether the scalar stands in the file.
func (t Text) Given() bool { return t.Line > 0 }

// File is a decoded ladle file.
type File struct {
	Path       string
	Sum        string // SHA-256 of its bytes, in hexadecimal
	Kept       string // the folder in which corrected lines are kept: that of Path, where nobody said another one
	Inputs     []*Input
	Blocks     []*Block
	Limit      Limit
	SetAsideAs SetAsideAs // empty for CSV
	Claims     []*Claim
	Parts      []*File // the ladle files that it is made of, see Together; nil for one
}

// Input is a named origin of rows.
type Input struct {
	Name  Text
	File  Text // the first file, as it is written: relative to the ladle file, perhaps a pattern
	Paths []string
	// in place of files: a query on the database that is loaded into, or on the one that is called Database
	Query, Database Text
	Tables          []Text             // in place of a query, all rows of tables
	Asked           source.ReadOptions // what is said of the way to read them
	Shape           reshape.Shape      // what becomes of its lines before they are cleaned
	Rules           []clean.NamedRule
	Made            []clean.DerivedColumn
	Only            Text // a condition on lines
	Totals          []ControlTotal
	Zone            *time.Location // of times that do not say theirs; nil for none
}

// Origin is where the rows of the input come from, as people know it: its first file, or its query.
func (in *Input) Origin() string {
	switch {
	case in.Query.Given():
		return "query " + in.Name.Value
	case in.Tables != nil:
		return "table " + in.Tables[0].Value
	}
	return in.File.Value
}

// FromDatabase reports whether the rows of the input come from a database.
func (in *Input) FromDatabase() bool { return in.Query.Given() || in.Tables != nil }

// Block says how lines of one input become rows of one table.
type Block struct {
	Name           Text
	written        string // its name in the ladle file, where Together gave it another one
	Into           Text   // the table, where its name isn't the block's
	From           Text   // the name of the input
	Key            []Text
	Keyless        bool // key: none
	AllColumns     bool // key: all_columns
	KeyAt          Place
	AlreadyThere   AlreadyThere
	NotThere       NotThere
	Blank          Blank
	BlankKey       BlankKey
	Contradictions Contradictions
	Similar        SimilarNames
	SimilarAt      Place
	Gone           *Gone
	Columns        []Column
	InOrderOf      []Text // the columns that order the rows which are added; nil for the order of the input
	Only           Text   // a condition on lines
	Changed        []Text // the columns to which the database itself may give another value
}

// Gone says what becomes of rows of the table that the input no longer has.
type Gone struct {
	Place
	Mark   []Mark // what they are given; nil where they are removed
	Back   []Mark // what marked rows are given that the input has again
	AtMost Limit  // how many of the rows among which they are looked for
	Where  Text   // a condition in SQL on the table's rows; all of them where it isn't given
}

// Mark is a column, and what all rows that are marked have in it.
type Mark struct {
	Column  Text
	Value   Text // "" for NULL
	Formula Text // in place of Value: it uses no column of the input
}

// Column says where the values of a column come from.
type Column struct {
	Name   Text
	Source Source
}

// Source is where a value comes from: a column of the input, a constant, or the row that a lookup finds.
type Source struct {
	Place
	From     Text
	Constant Text
	Lookup   *Lookup
	OnUpdate AlreadyThere // for this column alone; empty where the block says it
	StoreAs  StoreAs      // in a column without a type; empty where the ladle file doesn't say
	StoreAt  Place
	PointsAt *Target // the column of another table that the values are those of; nil where the ladle file doesn't say
}

// Target is a column of a table.
type Target struct{ Table, Column Text }

// Lookup resolves values to a row of a table: by columns of it, or by the id that the row had where it came from.
type Lookup struct {
	Place
	Table    Text
	By       []Column
	Block    Text // in place of Table, by an old id: the block that made the row
	There    Text // by an old id: the column that holds it in the input of those rows
	Here     Text // the column that holds it in this input
	NotFound NotFound
	Several  Several
	Similar  SimilarNames
}

// AlreadyThere says what becomes of a line whose key is in the table already.
type AlreadyThere string

// NotThere says what becomes of a line whose key is not in the table.
type NotThere string

// Blank says what a blank cell does to a row that is updated.
type Blank string

// BlankKey says what becomes of a line with a blank in its key.
type BlankKey string

// Similar says what becomes of a new name that looks like another one; empty when a person is to be asked.
type Similar string

// SimilarNames says what becomes of new names that look like others: of all of them, or of some.
type SimilarNames struct {
	All   Similar
	Names map[string]Similar
}

// Of is what becomes of a name.
func (s SimilarNames) Of(name string) Similar { return cmp.Or(s.Names[name], s.All) }

// Given reports whether anything is said.
func (s SimilarNames) Given() bool { return s.All != "" || s.Names != nil }

// StoreAs says as what values are stored in a column that has no type.
type StoreAs string

// SetAsideAs says as what set-aside lines are written.
type SetAsideAs string

// Contradictions says what becomes of lines of an input that have the same key and differ.
type Contradictions string

// NotFound says what becomes of a line whose lookup finds nothing.
type NotFound string

// Several says what becomes of a line whose lookup finds more than one row.
type Several string

const (
	KeepThere       AlreadyThere = "keep"
	UpdateThere     AlreadyThere = "update"
	FillBlanksThere AlreadyThere = "fill_blanks" // what is NULL in the table
	SetAsideThere   AlreadyThere = "set_aside"

	AddNotThere      NotThere = "add"
	LeaveOutNotThere NotThere = "leave_out"
	SetAsideNotThere NotThere = "set_aside"

	KeepBlank  Blank = "keep"
	ClearBlank Blank = "clear"

	SetAsideBlankKey BlankKey = "set_aside"
	MatchBlankKey    BlankKey = "match"

	AcceptSimilar   Similar = "accept"
	SetAsideSimilar Similar = "set_aside"

	SetAsideCSV      SetAsideAs = "csv"
	SetAsideWorkbook SetAsideAs = "workbook"

	StoreNumbers StoreAs = "number"
	StoreTexts   StoreAs = "text"

	SetAsideContradictions Contradictions = "set_aside"
	FirstOfContradictions  Contradictions = "first"
	LastOfContradictions   Contradictions = "last"
	MostOfContradictions   Contradictions = "most" // by column, the value that most of the lines have

	SetAsideNotFound NotFound = "set_aside"
	AddNotFound      NotFound = "add"
	BlankNotFound    NotFound = "leave_blank"

	SetAsideSeveral Several = "set_aside"
	BlankSeveral    Several = "leave_blank"
)

// Limit is how many of some lines or rows may meet with something before the load is refused.
type Limit struct {
	Any   bool
	Count int64
	Share float64 // of all, from 0 to 1; used when it is not 0
}

// Passed reports whether some of all are too many.
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

// Queries are the queries of a claim.
func (c *Claim) Queries() (all []Text) {
	all = []Text{c.NoRows, c.HowMany}
	for _, side := range c.Equal {
		all = append(all, side.Query)
	}
	return slices.DeleteFunc(all, func(q Text) bool { return !q.Given() })
}

// Queries are all pieces of SQL in the file: queries of inputs, those for all rows of a table too, and of claims, and
// conditions.
func (f *File) Queries() (all []Text) {
	for _, in := range f.Inputs {
		if in.Query.Given() {
			all = append(all, in.Query)
		}
		for _, t := range in.Tables {
			all = append(all, Text{"SELECT * FROM " + t.Value, t.Place})
		}
	}
	for _, c := range f.Claims {
		all = append(all, c.Queries()...)
	}
	for _, b := range f.Blocks {
		if b.Gone != nil && b.Gone.Where.Given() {
			all = append(all, b.Gone.Where)
		}
	}
	return all
}
