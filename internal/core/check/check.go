// Package check puts questions to the database before the commit. A check that fails takes the load back.
package check

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Input is all that a load did, which is to be proved.
type Input struct {
	Work    []Work
	Removed []Removal
	Before  map[*schema.Table]Before // what the load found in each table
	Earlier *Earlier                 // what LookBefore found; nil where nobody looked
	Level   Level
	Claims  []Claim
}

// Level is how much is checked: each level does all that those before it do.
type Level string

const (
	Balance   Level = "balance"   // rows are counted, removed rows looked for, and claims held
	Relations Level = "relations" // relations and keys are looked up
	Cells     Level = "cells"     // every cell is read back
)

// Levels are all levels, the least first.
var Levels = []Level{Balance, Relations, Cells}

// Work is what a load wrote into one table in one go: rows that it added, or rows that it updated.
type Work struct {
	Table   *schema.Table
	Columns []string // those that were sent
	Key     []string // by which an added row is recognised; empty when it isn't
	Added   int64
	Updated int64
	First   int64             // the least locator of the rows, where they were given any
	Points  []schema.Relation // what the rows refer to, declared or only in the ladle file
	Totals  []string          // the columns whose totals mean something
	Excused []string          // the columns that the database itself may give another value

	// See, where it is given, is shown each row as it was read back, with all that the table keeps of it: batches of
	// the columns By, then of Whole.
	Whole []string
	See   func(*value.Batch) error

	// Sent returns all rows that were written, in batches: first the columns By, then Columns. What was Untouched may
	// be anything.
	By   []string
	Sent func(take func(*value.Batch) error) error
}

// Untouched is the state of a cell that was left as it was, in a row that was updated.
const Untouched = value.Bad

// rows is the number of rows that were written.
func (w Work) rows() int64 { return w.Added + w.Updated }

// Removal is rows that a load removed from a table; Keys gives the columns By of them, in batches, or, where By is nil
// since nothing tells them apart, all that the table keeps.
type Removal struct {
	Table *schema.Table
	Rows  int64
	By    []string
	Keys  func(take func(*value.Batch) error) error
}

// Result is the answer to one check.
type Result struct {
	Check    string   `json:"check"` // balance, removed, relations, keys, cells, total or claim
	Table    string   `json:"table,omitempty"`
	Claim    string   `json:"claim,omitempty"` // what was claimed, in the words of the person
	OK       bool     `json:"ok"`
	Says     string   `json:"says"`     // what was found, in a sentence
	Short    string   `json:"-"`        // the same in a few words, for one that is OK
	Problems []string `json:"problems"` // the first of what is wrong
	Warnings []string `json:"warnings"` // what is wrong with rows that the load did not touch
	Totals   []Total  `json:"totals"`   // of the values read back
	counted  counted
}

// mostProblems is the number of problems that a check lists.
const mostProblems = 20

// Before is what a load found in a table.
type Before struct {
	Rows  int64
	Exact bool // Rows was counted; else it is an estimate
}

// Run puts all checks to the database.
func Run(ctx context.Context, tx engine.Tx, in Input) ([]Result, error) {
	results, err := balance(ctx, tx, in)
	if err != nil {
		return nil, err
	}
	for _, r := range in.Removed {
		result, err := in.removed(ctx, tx, r)
		if err != nil {
			return nil, fmt.Errorf("looking for the rows that were removed from %s: %w", r.Table.Name, err)
		}
		results = append(results, result)
	}
	for _, w := range in.Work {
		if w.rows() == 0 || in.Level == Balance {
			continue
		}
		more, err := in.written(ctx, tx, w)
		if err != nil {
			return nil, err
		}
		results = append(results, more...)
	}
	claimed, err := Ask(ctx, tx, in.Claims)
	return append(results, claimed...), err
}

// written checks what was written into one table in one go.
func (in *Input) written(ctx context.Context, tx engine.Tx, w Work) ([]Result, error) {
	cells, relations, err := in.prove(ctx, tx, w)
	if err != nil {
		return nil, fmt.Errorf("reading %s back: %w", w.Table.Name, err)
	}
	results := []Result{relations}
	if w.Updated == 0 { // which leaves keys as they are
		results[0].Warnings = in.Earlier.warnings(w.Table)
		keys, err := doubles(ctx, tx, w)
		if err != nil {
			return nil, fmt.Errorf("looking for double keys in %s: %w", w.Table.Name, err)
		}
		results = append(results, keys)
	}
	if in.Level == Relations {
		return results, nil
	}
	return append(results, cells), nil
}

// Followed lists the tables to which rows are added of which every relation is followed, wherever it leads: all rows are
// read back.
func (in *Input) Followed() (all []*schema.Table) {
	for _, w := range in.Work {
		if w.Added == 0 || slices.Contains(all, w.Table) {
			continue
		}
		unread := func(o Work) bool { return o.Table == w.Table && o.Added > 0 && len(o.By) == 0 }
		if in.Level == Cells && !slices.ContainsFunc(in.Work, unread) {
			all = append(all, w.Table)
		}
	}
	return all
}

// prove reads back what was written.
func (in *Input) prove(ctx context.Context, tx engine.Tx, w Work) (cells, relations Result, err error) {
	if in.Level == Relations {
		relations, err = unread(ctx, tx, w)
		return cells, relations, err
	}
	if len(w.By) > 0 && in.fills(w) {
		return scanned(ctx, tx, w)
	}
	if len(w.By) > 0 {
		return readBack(ctx, tx, w)
	}
	if in.prints(w) {
		return in.printed(ctx, tx, w)
	}
	return Result{Check: "cells", Table: w.Table.Name, Says: "the rows can't be read back: no unique column was " +
			"filled, and several blocks fill the table"},
		Result{Check: "relations", Table: w.Table.Name, OK: true}, nil
}

// prints reports whether rows that nothing tells apart can be proved by the checksum over all rows of their table.
func (in *Input) prints(w Work) bool {
	p := in.Earlier.print(w.Table)
	excused := func(c string) bool { return slices.Contains(w.Excused, c) }
	return p != nil && slices.Equal(p.columns, slices.DeleteFunc(slices.Clone(w.Columns), excused)) && in.alone(w)
}

// Shows reports whether See is shown the rows of w.
func (in *Input) Shows(w Work) bool {
	return in.Level == Cells && (len(w.By) > 0 || in.prints(w) && w.showable())
}

// showable reports whether rows that were not read back one by one are known as a whole: all that the table keeps of
// them was sent.
func (w Work) showable() bool {
	return w.See != nil && len(w.Excused) == 0 &&
		!slices.ContainsFunc(w.Whole, func(c string) bool { return !slices.Contains(w.Columns, c) })
}

// alone reports whether no other work was in on the table.
func (in *Input) alone(w Work) bool {
	n := 0
	for _, o := range in.Work {
		if o.Table == w.Table && o.rows() > 0 {
			n++
		}
	}
	return n == 1
}

// Failed reports whether a check failed.
func Failed(results []Result) bool {
	for _, r := range results {
		if !r.OK {
			return true
		}
	}
	return false
}

// change is what the rows of a table must have come to.
type change struct {
	added, removed int64
	first          int64 // the least locator of the added rows, 0 where they were given none
}

// balance compares the rows of each table with what they were before and what was added and removed.
func balance(ctx context.Context, tx engine.Tx, in Input) ([]Result, error) {
	var tables []*schema.Table
	changes := map[*schema.Table]*change{}
	of := func(t *schema.Table) *change {
		if changes[t] == nil {
			changes[t] = &change{}
			tables = append(tables, t)
		}
		return changes[t]
	}
	for _, w := range in.Work {
		c := of(w.Table)
		c.added += w.Added
		if w.Added > 0 && (c.first == 0 || w.First < c.first) {
			c.first = w.First
		}
	}
	for _, r := range in.Removed {
		of(r.Table).removed += r.Rows
	}
	var results []Result
	for _, t := range tables {
		r, err := balanceOf(ctx, tx, t, in.Before[t], changes[t])
		if err != nil {
			return nil, err
		}
		results = append(results, r)
	}
	return results, nil
}

// balanceOf counts all rows of a table, or, where it is too large for that, those from the first new locator on.
func balanceOf(ctx context.Context, tx engine.Tx, t *schema.Table, before Before, c *change) (Result, error) {
	r := Result{Check: "balance", Table: t.Name}
	after, exact := int64(0), false
	var err error
	if before.Exact {
		after, exact, err = tx.Count(ctx, t)
	}
	had, has := reason.Count(before.Rows), reason.Count(after)
	switch {
	case err != nil:
		return r, err
	case exact:
		r.OK = before.Rows+c.added-c.removed == after
		plus, minus := " + "+reason.Count(c.added), " - "+reason.Count(c.removed)
		r.Short = fmt.Sprintf("%s%s%s = %s", had, plus, minus, has)
		switch {
		case c.removed == 0:
			r.counted = counted{known: true, before: before.Rows, added: c.added, after: after}
			r.Says, r.Short = r.counted.words()
		case c.added == 0:
			r.Says, r.Short = fmt.Sprintf("%s rows before%s removed = %s", had, minus, has),
				fmt.Sprintf("%s%s = %s", had, minus, has)
		default:
			r.Says = fmt.Sprintf("%s rows before%s added%s removed = %s", had, plus, minus, has)
		}
	case c.added == 0:
		r.OK = true
		r.Says, r.Short = "no rows were sent", "nothing sent"
	case c.first == 0:
		r.OK = true
		r.Says = fmt.Sprintf("%s added with ids of their own (the table holds about %s, too many to count)",
			reason.Plural(c.added, "row"), had)
		r.Short = fmt.Sprintf("%s added to about %s", reason.Count(c.added), had)
	default:
		if after, err = tx.CountFrom(ctx, t, c.first); err != nil {
			return r, err
		}
		r.OK = after == c.added
		r.Says = fmt.Sprintf("%s added; %s found with ids after the older ones (the table holds about %s, too many to "+
			"count)", reason.Plural(c.added, "row"), reason.Plural(after, "row"), had)
		r.Short = fmt.Sprintf("%s added after about %s", reason.Count(c.added), had)
	}
	if !r.OK {
		r.Says = "the rows don't add up: " + r.Says
		r.Problems = []string{"something else adds or removes rows of this table, possibly a trigger"}
	}
	return r, nil
}

// doubles asks whether a key that was added has duplicates. Where a unique constraint holds the key, it can't.
func doubles(ctx context.Context, tx engine.Tx, w Work) (Result, error) {
	r := Result{Check: "keys", Table: w.Table.Name, OK: true}
	switch {
	case len(w.Key) == 0:
		r.Says, r.Short = "no key, so rows are not recognised", "none"
		return r, nil
	case w.Table.UniqueOn(w.Key):
		r.Short = strings.Join(w.Key, "+")
		r.Says = fmt.Sprintf("the unique constraint on %s holds", strings.Join(w.Key, ", "))
		return r, nil
	}
	count, examples, err := countDoubles(ctx, tx, w)
	r.Short = strings.Join(w.Key, "+")
	r.Says = fmt.Sprintf("no duplicate keys (%s) among the added rows", strings.Join(w.Key, ", "))
	if count > 0 {
		r.OK, r.Problems = false, examples
		r.Says = fmt.Sprintf("%s (%s)", reason.Plural(int64(count), "duplicate key"), strings.Join(w.Key, ", "))
	}
	return r, err
}

// mayRepeat is the number of added keys that are looked up at once.
const mayRepeat = 1 << 18

// countDoubles looks the added keys up in the table, by hash: those that stand twice are counted.
func countDoubles(ctx context.Context, tx engine.Tx, w Work) (count int64, examples []string, err error) {
	wanted := map[string]int{}
	look := func() error {
		defer clear(wanted)
		return tx.Scan(ctx, w.Table, w.Key, func(b *value.Batch) error {
			ids, err := identities(ctx, tx, w.Table, w.Key, b)
			for row, id := range ids {
				n, asked := wanted[string(id)]
				if !asked {
					continue
				}
				if wanted[string(id)] = n + 1; n == 1 {
					count++
					if len(examples) < mostProblems {
						examples = append(examples, describe(w.Key, b.Columns, row)+" is a duplicate")
					}
				}
			}
			return err
		})
	}
	skip := len(w.By)
	err = w.Sent(func(b *value.Batch) error {
		key := &value.Batch{}
		for _, k := range w.Key {
			key.Columns = append(key.Columns, b.Columns[skip+indexOf(w.Columns, k)])
		}
		ids, err := identities(ctx, tx, w.Table, w.Key, key)
		for _, id := range ids {
			wanted[string(id)] = 0
		}
		if err != nil || len(wanted) < mayRepeat {
			return err
		}
		return look()
	})
	if err == nil && len(wanted) > 0 {
		err = look()
	}
	return count, examples, err
}

func indexOf(names []string, name string) int {
	for i, n := range names {
		if n == name {
			return i
		}
	}
	return -1
}

// identities gives, for each row of b, bytes that are the same where the columns of t hold the rows equal.
func identities(ctx context.Context, tx engine.Reader, t *schema.Table, columns []string, b *value.Batch) ([][]byte,
	error) {
	folded := make([]*value.Column, len(columns))
	for i := range columns {
		folded[i] = &b.Columns[i]
		if c := t.Column(columns[i]); c != nil && b.Columns[i].Kind == value.Text {
			f, err := tx.Fold(ctx, c, &b.Columns[i])
			if err != nil {
				return nil, err
			}
			folded[i] = f
		}
	}
	ids, ends := make([][]byte, b.Len()), make([]int, b.Len())
	var all []byte
	for row := range ids {
		for _, c := range folded {
			all = c.AppendIdentity(all, row)
		}
		ends[row] = len(all)
	}
	start := 0
	for row, end := range ends {
		ids[row] = all[start:end]
		start = end
	}
	return ids, nil
}

// describe names a row by some of its columns.
func describe(names []string, columns []value.Column, row int) string {
	parts := make([]string, len(names))
	for i, n := range names {
		parts[i] = n + " " + show(&columns[i], row)
	}
	return strings.Join(parts, ", ")
}

func show(c *value.Column, row int) string {
	switch c.States[row] {
	case value.Null:
		return "NULL"
	case value.Bad:
		return "a value that is not a " + c.Kind.String()
	}
	if c.Kind.Numeric() {
		return c.Text(row)
	}
	return fmt.Sprintf("%q", c.Text(row))
}
