package engine

import (
	"bytes"
	"context"
	"regexp"
	"strings"

	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Dialect writes the parts of a script for the program with which people run scripts on a database. What returns lines
// returns them as they stand in the script, with what ends a statement there; what returns one text returns SQL without
// that.
type Dialect interface {
	// Run is a line for a shell that has that program run a script on this database, without a password.
	Run(file string) string

	// Open are the lines that begin the transaction: the program stops at the first error, and the tables of work are kept
	// from other writers. Close commits.
	Open(work []*schema.Table) []string
	Close() []string

	// Table and Column are names in SQL, and Text is a text. Other is a second name of t, under which a statement may use
	// it once more.
	Table(t *schema.Table) string
	Column(name string) string
	Text(text string) string
	Other(t *schema.Table) string

	// Literal writes the values of a column of t, or its locators, as an INSERT into the column takes them exactly.
	Literal(t *schema.Table, column string) Literal

	// Room makes a temporary table for rows that concern t. Ready are the lines that have the database find them by the
	// fields by, once they are there.
	Room(name string, t *schema.Table, fields []RoomField) string
	Ready(name string, by []string) []string

	// Numbers are the lines that set a variable to the last locator of t that is taken, and keep the n behind it from
	// being given to others; Variable is its name in an expression.
	Numbers(ctx context.Context, variable string, t *schema.Table, n int64) ([]string, error)
	Variable(name string) string

	// Stop are the lines that stop the script where one of the conditions holds, with the words of that guard.
	Stop(guards []Guard) []string

	// Matches is a condition: a value of a column of t equals another one as the column's collation has it; NULL equals
	// NULL where nulls says so. Same asks whether they are exactly the same, NULL too.
	Matches(t *schema.Table, column, other string, nulls bool) string
	Same(t *schema.Table, column, other string) string

	// Insert begins an INSERT: what follows are the rows.
	Insert(t *schema.Table, columns []string) string
	Update(t *schema.Table, columns, values []string, from Joined) string
	Delete(t *schema.Table, from Joined) string

	// DeleteEqual are the lines that remove as many rows of t as there are rows in the room, each equal to one of them in
	// all columns; nil where the database can't do that in a script.
	DeleteEqual(t *schema.Table, room string, columns []string) []string

	// Enforces reports whether the database sees to foreign keys while the script runs.
	Enforces() bool
}

// Literal adds slot i of c.
type Literal func(b []byte, c *value.Column, i int) []byte

// RoomField is a column of a temporary table: of the type of a column of the table that it is for, or a whole number.
type RoomField struct {
	Name string
	Of   string // that column; "" for a whole number
}

// Joined is temporary tables that are joined with each other, and the condition by which they find rows of a table.
type Joined struct{ From, On string }

// Guard is a condition that must not hold, and what the script says and stops with where it does.
type Guard struct{ Unless, Says string }

// QuoteText makes a literal of standard SQL: quotes are doubled.
func QuoteText(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }

// AppendQuoted adds the literal that QuoteText makes.
func AppendQuoted(b, text []byte) []byte {
	b = append(b, '\'')
	for {
		quote := bytes.IndexByte(text, '\'')
		if quote < 0 {
			return append(append(b, text...), '\'')
		}
		b = append(append(b, text[:quote+1]...), '\'')
		text = text[quote+1:]
	}
}

var plainWord = regexp.MustCompile(`^[A-Za-z0-9_./:@=,+%-]+$`)

// ShellWord is a word on the command line of a shell (POSIX.1, §2.2), in quotes where it needs them.
func ShellWord(word string) string {
	if plainWord.MatchString(word) {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}
