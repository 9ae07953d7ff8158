// Package engine says what a database must do for a load. Each of its subpackages does it for one kind of database;
// only they know a dialect.
package engine

import (
	"bytes"
	"context"
	"errors"
	"slices"

	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Missing lists the statements that make the tables of own, and the columns that they lack. table and column write
// their definitions.
func Missing(ctx context.Context, r Reader, own []*schema.Table, table func(*schema.Table) string,
	column func(*schema.Table, schema.Column) string) ([]string, error) {
	var all []string
	for _, t := range own {
		there, err := r.ColumnsOf(ctx, t)
		if err != nil {
			return nil, err
		}
		if there == nil {
			all = append(all, table(t))
			continue
		}
		for _, c := range t.Columns {
			if !slices.Contains(there, c.Name) {
				all = append(all, column(t, c))
			}
		}
	}
	return all, nil
}

// BatchRows is the number of rows that travel together between a load and an engine.
const BatchRows = 4096

// Database is an open connection to one database. It is used by one goroutine at a time.
type Database interface {
	Reader

	// Schema reads the catalogue.
	Schema(ctx context.Context) (*schema.Schema, error)

	// Begin opens the one transaction of a load, with the tables of work locked against other writers, and makes sure
	// that the tables of own exist with all their columns: where the engine can't make tables inside a transaction,
	// before it. A load that will be rolled back names none. It waits a few seconds for a lock that somebody else
	// holds; then it fails. A Careful transaction finds all rows that the database rejects; one that isn't may end with
	// ErrCareful when it meets the first, where that makes it faster.
	Begin(ctx context.Context, work, own []*schema.Table, mode Mode) (Tx, error)

	// May is an error, a *Denied, when this user may not do that to these columns of t; columns count only for Insert
	// and Update.
	May(ctx context.Context, do Privilege, t *schema.Table, columns []string) error

	// MayLoad lists what else a load needs that this user may not do: work are the tables in use, adds those that get
	// rows.
	MayLoad(ctx context.Context, work, adds []*schema.Table) ([]*Denied, error)

	// Rights lists the privileges for some needs, and which of them a user has; none where the database knows no users.
	Rights(ctx context.Context, user string, needs []Need) (Rights, error)

	// Definitions are the statements that make those tables of Ladle's own that are missing, and the columns that they lack.
	Definitions(ctx context.Context, own []*schema.Table) ([]string, error)

	// MayMake is an error when this user may not make tables.
	MayMake(ctx context.Context) error

	// Restructure is Begin for a change of tables: it locks, asks, and runs the statements. Where the database can't roll
	// statements back, Rollback runs what takes each of them back, the last first.
	Restructure(ctx context.Context, r Restructuring) (Tx, error)

	// User is the name of the user of the database, or of the system where the database knows none.
	User(ctx context.Context) (string, error)

	// Foresee makes ready for Ask in the transactions that begin later, and is an error when the database does not
	// understand the query, or when it is not one that only reads.
	Foresee(ctx context.Context, query string) error

	// NameOf is the name of t in SQL.
	NameOf(t *schema.Table) string

	// Script is how scripts for the database's own client are written.
	Script() Dialect

	// SelectAll is a query for all columns and rows of t, for Ask.
	SelectAll(t *schema.Table) string

	// Notes are what a person should know of this connection: what it can't do, and what that costs.
	Notes() []string

	Close() error
}

// Mode is what a transaction is for.
type Mode uint8

const (
	Careful   Mode = 1 << iota // it finds all rows that the database rejects
	Rehearsal                  // it will be rolled back, and takes no numbers from what counts rows, where that is possible
)

// Privilege is what a user may do with a table.
type Privilege uint8

const (
	Insert Privilege = iota
	Update
	Delete
	Select // which May is not asked for: it shows when the catalogue is read
)

// Reader asks the database, inside or outside of a transaction. Its methods change nothing.
type Reader interface {
	// ColumnsOf lists the columns of the table of this name; none when there is no such table.
	ColumnsOf(ctx context.Context, t *schema.Table) ([]string, error)

	// Count is the number of rows. Where counting a large table would take long, and nothing but the load itself can
	// add or remove rows, it is an estimate and not exact.
	Count(ctx context.Context, t *schema.Table) (n int64, exact bool, err error)

	// CountFrom is the number of rows with a locator of first or more.
	CountFrom(ctx context.Context, t *schema.Table, first int64) (int64, error)

	// Scan returns the wanted columns of all rows to sink, in batches, in no order. A value that is not one of the
	// column's declared type comes as value.Bad. The batch is reused once sink is back. More rows may be on their way
	// while sink works: it must call no method but Fold.
	Scan(ctx context.Context, t *schema.Table, columns []string, sink func(*value.Batch) error) error

	// Among is Scan for the rows for which a condition, in SQL, holds. The condition is an expression that the person
	// wrote; what it says that is no expression on t is an error.
	Among(ctx context.Context, t *schema.Table, condition string, columns []string, sink func(*value.Batch) error) error

	// Between is Scan for the rows whose whole number in column, the first of an index, lies from least to most.
	Between(ctx context.Context, t *schema.Table, column string, least, most int64, columns []string,
		sink func(*value.Batch) error) error

	// Probe is Scan for the rows whose columns by, an index of the table, equal one of the rows of keys. Keys that
	// hold value.Null, value.Bad or value.New find nothing.
	Probe(ctx context.Context, t *schema.Table, by []string, keys *value.Batch, columns []string,
		sink func(*value.Batch) error) error

	// Fold gives, for values of a text column, the forms that are the same exactly where the column's collation
	// holds the values equal. It may give the column that it got. It never asks on the connection of the other methods: it
	// can be called at any time, and by several goroutines at once.
	Fold(ctx context.Context, c *schema.Column, values *value.Column) (*value.Column, error)

	// Orphans counts the rows of t that refer to nothing by a relation; rows with a NULL in it point nowhere.
	// It reads the whole table.
	Orphans(ctx context.Context, t *schema.Table, r schema.Relation) (int64, error)

	// Broken lists the rows that break a CHECK constraint of t, without writing anything: those for which its condition
	// is false, and, with the words of the database, those for which it has no result. rows hold the columns of which
	// the condition speaks. It is empty where the database can judge the condition only when a row is written.
	Broken(ctx context.Context, t *schema.Table, c schema.Check, columns []string, rows *value.Batch) ([]Rejection,
		error)

	// Ask returns the rows of a query that a person wrote, as they read them, with the names of its columns; NULL is
	// nil. A row is good until take returns; see Texts. Before the first row, also where there is none, take is given the
	// names with a nil row; see OnlyRows. It changes nothing, whatever the query calls. In a transaction the query must have
	// been foreseen before that began.
	Ask(ctx context.Context, query string, take func(columns []string, row [][]byte) error) error

	// Rows returns some rows of t, as people read them, in the order of its locator or else its first key; NULL is nil.
	Rows(ctx context.Context, t *schema.Table, shown []DisplayColumn, w Window) ([][]*string, error)
}

// OnlyRows is take, for Reader.Ask, without the call that comes before the first row.
func OnlyRows(take func(columns []string, row [][]byte) error) func(columns []string, row [][]byte) error {
	return func(columns []string, row [][]byte) error {
		if row == nil {
			return nil
		}
		return take(columns, row)
	}
}

// Texts are the cells of a row of Reader.Ask, to be kept; NULL is nil.
func Texts(row [][]byte) []*string {
	all, texts := make([]*string, len(row)), make([]string, len(row))
	for i, cell := range row {
		if cell != nil {
			texts[i] = string(cell)
			all[i] = &texts[i]
		}
	}
	return all
}

// Tx is the one transaction of a load.
type Tx interface {
	Reader

	// Reserve sets n locators aside, greater than past, that no row of t has, none was given before in this
	// transaction, and no later row gets by itself; nothing where t has no locator or n is 0.
	Reserve(ctx context.Context, t *schema.Table, n, past int64) ([]Span, error)

	// Insert adds rows to the columns of t (its locator may be among them). Rows that only the database could judge,
	// and did not take, come back as rejections; all others are in. Warnings of the database are rejections.
	Insert(ctx context.Context, t *schema.Table, columns []string, rows *value.Batch) ([]Rejection, error)

	// Update gives columns of t new values. rows has the columns by, which find a row each: the locator of t, or
	// columns that a unique constraint holds; behind them stand the values of columns. It answers as Insert does.
	Update(ctx context.Context, t *schema.Table, by, columns []string, rows *value.Batch) ([]Rejection, error)

	// Remove removes the rows of t whose columns by equal a row of keys, and returns their number. Where by is nil,
	// keys are whole rows, of all that t keeps, and for each of them one row goes that is equal to it, NULL to NULL.
	// That the database refuses to remove a row is an *OwnRowError.
	Remove(ctx context.Context, t *schema.Table, by []string, keys *value.Batch) (int64, error)

	// ReadBack returns columns of the rows whose columns by equal a row of keys, in the order of keys; by is the
	// locator of t, or columns that a unique constraint holds. Rows that are not there are left out.
	ReadBack(ctx context.Context, t *schema.Table, by []string, keys *value.Batch, columns []string,
		into *value.Batch) error

	// Ahead starts to read what will be needed: work asks the Reader that it gets, and nothing else of the transaction. What
	// Ahead returns waits until that is done, as every other method does.
	Ahead(work func(Reader) error) (wait func() error)

	// Commit ends the transaction, also when it returns an error: one of class fault.Unknown when no answer came, so
	// that only a new connection can tell whether its changes are there; after any other they are not.
	Commit(ctx context.Context) error

	// Rollback ends the transaction and takes back what it changed. After Commit it does nothing.
	Rollback() error
}

// ErrCareful is the error of a transaction that met a row which the database rejects, and that must be begun
// again as a careful one to learn which.
var ErrCareful = errors.New("the database rejects a row")

// ErrContended is in the error of a transaction that others stood in the way of: it waited too long for a lock, was chosen
// to end a deadlock, or could not be put in order with theirs. Nothing was changed, and it may succeed when it is done
// anew.
var ErrContended = errors.New("others work on the same rows")

// Contended returns err as one with ErrContended in it.
func Contended(err error) error { return errors.Join(err, ErrContended) }

// ErrOvertaken is in the error of a transaction that keeps nobody out, see Cluster: others have committed rows since it was
// begun that it has judged, or could not see, or its server is gone and another one may be asked. It is an ErrContended too.
var ErrOvertaken = errors.New("others have committed first")

// Overtaken returns err as one with ErrOvertaken in it.
func Overtaken(err error) error { return errors.Join(Contended(err), ErrOvertaken) }

// Cluster is several servers that hold the same rows, and take transactions on each of them at once. A transaction there
// sees the rows as they were when it began, and keeps nobody out: whoever commits first wins, and the other one ends with
// ErrOvertaken, at its commit at the latest. Only what constraints hold together, and rows that both change, are seen to.
type Cluster struct {
	Servers  int
	MostRows int64 // that one transaction may change; 0 for any number
	MostSize int64 // bytes of them; 0 for any number
}

// ClusterOf is the cluster that a database is a server of; nil where it stands by itself.
func ClusterOf(db Database) *Cluster {
	if member, is := db.(interface{ Cluster() *Cluster }); is {
		return member.Cluster()
	}
	return nil
}

// Unanswered returns err, that of a commit to which no answer came, as one of class fault.Unknown.
func Unanswered(err error) error { return fault.OfClass(fault.Unknown, err) }

// Run reports whether keys are locators of t without a gap, in ascending order, and returns the first and the last.
func Run(t *schema.Table, by []string, keys *value.Batch) (first, last int64, run bool) {
	first, last, step := Stepped(t, by, keys)
	return first, last, step == 1
}

// Stepped returns the first and the last of keys which are locators of t that ascend by the same step, and that step; 1 for
// a single one, and 0 where they are none.
func Stepped(t *schema.Table, by []string, keys *value.Batch) (first, last, step int64) {
	if len(by) != 1 || by[0] != t.Locator || keys.Len() == 0 {
		return 0, 0, 0
	}
	numbers := keys.Columns[0].Nums
	if step = 1; len(numbers) > 1 {
		step = numbers[1] - numbers[0]
	}
	for i, n := range numbers {
		if step < 1 || n != numbers[0]+int64(i)*step {
			return 0, 0, 0
		}
	}
	return numbers[0], numbers[len(numbers)-1], step
}

// Span is a run of locators.
type Span struct {
	First, Count int64
	Step         int64 // from one to the next; 0 where there is no gap between them
}

// At is locator n of the span, from 0.
func (s Span) At(n int64) int64 { return s.First + n*max(s.Step, 1) }

// Last is the last locator of the span.
func (s Span) Last() int64 { return s.At(s.Count - 1) }

// Place is the place of a locator in the span, from 0; -1 for one that isn't in it.
func (s Span) Place(locator int64) int64 {
	step := max(s.Step, 1)
	if n := (locator - s.First) / step; locator >= s.First && n < s.Count && s.At(n) == locator {
		return n
	}
	return -1
}

// Rejection is a row that the database did not take.
type Rejection struct {
	Row int    // its number in the batch
	Why string // in the words of the database; of a CHECK constraint of the table, CheckFails
}

// CheckFails says that a row breaks the CHECK constraint of this name; of one without a name, its condition.
func CheckFails(name string) string { return "CHECK " + name + " does not hold" }

// DisplayColumn is a column as it is shown to people: by itself, or, where Names are given, by those columns of the row
// that Relation refers to.
type DisplayColumn struct {
	Column   string
	Relation *schema.Relation
	Names    []DisplayColumn
}

// AppendEscaped adds text as a field of the tab-separated lines that servers take in bulk: backslashes, tabs and line
// ends are escaped by a backslash.
func AppendEscaped(b, text []byte) []byte {
	if !bytes.ContainsAny(text, "\\\n\r\t") {
		return append(b, text...)
	}
	for _, x := range text {
		switch x {
		case '\\':
			b = append(b, `\\`...)
		case '\n':
			b = append(b, `\n`...)
		case '\r':
			b = append(b, `\r`...)
		case '\t':
			b = append(b, `\t`...)
		default:
			b = append(b, x)
		}
	}
	return b
}

// OwnRowError is the error of a database that does not take a row of Ladle's own, or lets none go.
type OwnRowError struct{ Table, What, Why string }

func (r *OwnRowError) Error() string { return r.Table + " does not " + r.What + ": " + r.Why }

// Hastener is a transaction that can find rows fast where an index is missing.
type Hastener interface {
	// Hasten has the database find rows of t by columns without reading all of t, for the time of the transaction; end
	// takes that back, and must be called before the commit. It is ErrBusy where others use the table just then: all of
	// the transaction must be done anew without it. end is nil where nothing can be done.
	Hasten(ctx context.Context, t *schema.Table, columns []string) (end func(context.Context) error, err error)
}

// Truster is a transaction whose database need not look for the rows that added rows refer to, where the load looks for
// them itself before it commits.
type Truster interface {
	// Trust is told of which tables every relation of every row that is added will be followed. The database may then
	// take rows that refer to nothing.
	Trust(ctx context.Context, tables []*schema.Table) error
}

// Keeper is a transaction whose database can keep rows that others refer to.
type Keeper interface {
	// Keeps reports whether the database is sure to refuse, with an OwnRowError, to remove rows that rows of child refer to
	// by r, and can go on with the transaction then.
	Keeps(ctx context.Context, child *schema.Table, r *schema.Relation) (bool, error)
}

// ErrBusy says that others use a table.
var ErrBusy = errors.New("others use the table")
