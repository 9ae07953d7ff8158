package engine

import (
	"context"
	"strings"

	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Dialect writes the statements of a script for the program with which people run scripts on a database. Statements are
// without the semicolon; a line for the program itself, which takes none, is a statement that begins with a backslash, a
// dot or DELIMITER.
type Dialect interface {
	// Run is a line for a shell that has that program run the script FILE on this database, without a password.
	Run() string

	// Open are the statements that begin the transaction: the program stops at the first error, and the tables of work
	// are kept from other writers. Close commits.
	Open(work []*schema.Table) []string
	Close() []string

	// Table and Column are names in SQL, and Text is a text.
	Table(t *schema.Table) string
	Column(name string) string
	Text(text string) string

	// AppendLiteral adds slot i of c, a value of that column of t or its locator; it is written as what an INSERT into
	// the column takes exactly.
	AppendLiteral(b []byte, t *schema.Table, column string, c *value.Column, i int) []byte

	// Room makes a temporary table for rows that concern t, and Ready has the database find them by the fields by, once
	// they are there.
	Room(name string, t *schema.Table, fields []RoomField) string
	Ready(name string, by []string) []string

	// Numbers sets a variable to the last locator of t that is taken, and keeps the n behind it from being given to
	// others; Variable is its name in an expression.
	Numbers(ctx context.Context, variable string, t *schema.Table, n int64) ([]string, error)
	Variable(name string) string

	// Stop stops the script where one of the conditions holds, with the words of that guard.
	Stop(guards []Guard) []string

	// Matches is a condition: a value of a column of t equals another one as the column's collation has it; NULL equals
	// NULL where nulls says so. Same asks whether they are exactly the same, NULL too.
	Matches(t *schema.Table, column, other string, nulls bool) string
	Same(t *schema.Table, column, other string) string

	// Insert begins an INSERT: what follows are the rows.
	Insert(t *schema.Table, columns []string) string
	Update(t *schema.Table, columns, values []string, from Joined) string
	Delete(t *schema.Table, from Joined) string

	// DeleteEqual removes as many rows of t as there are rows in the room, each equal to one of them in all columns; it is
	// nil where the database can't do that in a script.
	DeleteEqual(t *schema.Table, room string, columns []string) []string

	// Other is a second name of t, under which a statement may use it once more.
	Other(t *schema.Table) string

	// Enforces reports whether the database itself sees to a relation.
	Enforces(r schema.Relation) bool
}

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
