// Package reason says why a cell, a line or a load is not as it should be.
//
// A [Why] is a kind with the arguments that all of its sort have in common, such as the table and the columns of a
// lookup that finds nothing; reasons are grouped, and advice is found, by comparing it. A [Cause] adds the details of
// one case, such as the name that looks like the one that was not found. A [Reason] adds the place and what stands
// there. None of them holds words: [Why.Words], [Cause.Words] and [Reason.Words] make them, and nothing reads them
// back.
//
// A Cause is an error, so that functions that judge a cell can return it as one.
package reason

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
)

// Why is a kind with the arguments that belong to it; the zero value of an argument means that the kind has none.
// It can be compared, and used as the key of a map.
type Why struct {
	Kind    Kind   `json:"kind"`
	Table   string `json:"table,omitempty"`   // of the database
	Columns Names  `json:"columns,omitempty"` // of Table, or of an input where the kind is about lines of it
	Type    string `json:"type,omitempty"`    // the type of value that the column takes
	Least   string `json:"least,omitempty"`   // a bound of the column
	Most    string `json:"most,omitempty"`    // a bound of the column
	Limit   int64  `json:"limit,omitempty"`   // characters, bytes, digits, parts, fields or lines, as the kind says
	List    Names  `json:"list,omitempty"`    // what would do: words, examples, patterns; or what the kind is about
	Text    string `json:"text,omitempty"`    // what a formula, a file or the database says of it
	// Columns are of the lines for Table, and hold ids that its rows used to have
	OldIDs bool `json:"old_ids,omitempty"`
}

// Detail is what only one case has. Its zero value says nothing.
type Detail struct {
	// what makes a cell no plain number: one of the Has constants, or the characters
	Has    string `json:"has,omitempty"`
	Length int64  `json:"length,omitempty"` // of the cell, in what Limit counts
	Near   string `json:"near,omitempty"`   // a name like it
	IsNew  bool   `json:"is_new,omitempty"` // Near is not in the table yet either
	Other  Place  `json:"other,omitzero"`   // another line
	Value  string `json:"value,omitempty"`  // a value of this line or group
	Theirs string `json:"theirs,omitempty"` // the value that Other has in its place
	Third  Place  `json:"third,omitzero"`   // where Theirs stands, when Value stands at Other
	Values Names  `json:"values,omitempty"` // of the row that the database rejects: "COLUMN is VALUE"
}

// Has constants say what a cell has that a plain number has not.
const (
	HasBlanks     = "blanks"
	HasSeparators = "separators"
	HasCurrency   = "currency"
)

// Cause is why a cell or a line can't be used.
type Cause struct {
	Why
	Detail
}

// New returns a cause of a kind that has no arguments.
func New(k Kind) Cause { return Cause{Why: Why{Kind: k}} }

// Because returns a cause without details.
func Because(w Why) Cause { return Cause{Why: w} }

// Error returns the words of the cause.
func (c Cause) Error() string { return c.Words() }

// MarshalJSON writes the cause as one object, with its words under "says".
func (c Cause) MarshalJSON() ([]byte, error) {
	return json.Marshal(struct {
		Says string `json:"says"`
		Why
		Detail
	}{c.Words(), c.Why, c.Detail})
}

// Fault returns a cause with what a file says of a cell or line, to be kept by its address.
func Fault(k Kind, text string) *Cause { return &Cause{Why: Why{Kind: k, Text: text}} }

// CauseOf returns the cause that err is, or one of kind Other with the words of err.
func CauseOf(err error) Cause {
	if c, ok := err.(Cause); ok {
		return c
	}
	return Because(Why{Kind: Other, Text: err.Error()})
}

// Reason is a cause with its place.
type Reason struct {
	Place   Place  // of the line
	Column  string // as it is called in the input; "" where the whole line is meant
	Cell    string // the name of the cell in a sheet, for example C14; "" where cells have none
	Content string // of the cell; "" for a blank one
	Cause
}

// Place is a line of a file, or a row of a sheet. The zero Place is none.
type Place struct {
	File  string `json:"file,omitempty"` // a file, or workbook[sheet]
	Line  int64  `json:"line,omitempty"` // from 1
	Sheet bool   `json:"-"`              // File is a sheet, whose lines are rows
	Query bool   `json:"-"`              // File names a query, whose rows are counted
	Alone bool   `json:"-"`              // the input has no other file, so that its lines need no name of one
}

// Words returns "line 12" or "row 12".
func (p Place) Words() string {
	if p.Sheet || p.Query {
		return fmt.Sprintf("row %d", p.Line)
	}
	return fmt.Sprintf("line %d", p.Line)
}

// Short returns file:line, or workbook[sheet]!row, without the folder of the file.
func (p Place) Short() string {
	if p.Query {
		return p.File + ", " + p.Words()
	}
	mark := ":"
	if p.Sheet {
		mark = "!"
	}
	return fmt.Sprintf("%s%s%d", filepath.Base(p.File), mark, p.Line)
}

// Within returns the place as people say it who know the input: with the file only where there are several.
func (p Place) Within() string {
	if p.Alone {
		return p.Words()
	}
	return p.Short()
}

// Names is a list of names that can be compared; the zero Names is empty.
type Names string

const between = "\x1f" // a control character that no name has

// List returns the names as Names.
func List(names ...string) Names { return Names(strings.Join(names, between)) }

// All returns the names one by one.
func (n Names) All() []string {
	if n == "" {
		return nil
	}
	return strings.Split(string(n), between)
}

// String returns the names with commas between them.
func (n Names) String() string { return strings.ReplaceAll(string(n), between, ", ") }

// MarshalJSON writes the names as an array.
func (n Names) MarshalJSON() ([]byte, error) { return json.Marshal(n.All()) }

// Shorten returns text cut to a length that keeps a message readable.
func Shorten(text string) string {
	const most = 80
	if r := []rune(text); len(r) > most {
		return string(r[:most]) + "…"
	}
	return text
}
