package script

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// rows are rows that are written as INSERTs of many rows each, into a temporary table or into the table itself.
type rows struct {
	s       *Script
	to      *sheet
	table   *schema.Table
	room    string // the temporary table; "" for the table itself
	fields  []field
	nulls   []bool // the fields in which a NULL stands
	pending int    // rows of the INSERT that is open
	size    int
	buf     []byte
}

// field is a column of such rows.
type field struct {
	name   string
	of     string    // the column of the table whose values it has; "" for whole numbers
	parent *numbered // the table whose numbers stand in it; nil for values
	added  bool      // they are all of rows that are added
	// how its values are written; nil for numbers
	literal engine.Literal
}

// The most rows, and bytes, of one INSERT.
const (
	mostRows  = 500
	mostBytes = 256 << 10
)

func (s *Script) newRows(to *sheet, t *schema.Table, room string, fields []field) *rows {
	for i, f := range fields {
		if f.parent == nil && f.of != "" {
			fields[i].literal = s.Dialect.Literal(t, f.of)
		}
	}
	return &rows{s: s, to: to, table: t, room: room, fields: fields, nulls: make([]bool, len(fields))}
}

// roomFields are the fields of the temporary table.
func (r *rows) roomFields() []engine.RoomField {
	all := make([]engine.RoomField, len(r.fields))
	for i, f := range r.fields {
		all[i] = engine.RoomField{Name: f.name, Of: f.of}
		if f.parent != nil {
			all[i].Of = ""
		}
	}
	return all
}

// add writes rows; from says from which lines they are, nil where that is not told.
func (r *rows) add(ctx context.Context, columns []value.Column, from func(first, last int) (string, error)) error {
	for i, f := range r.fields {
		if f.parent != nil {
			if err := r.s.learn(ctx, f.parent, &columns[i]); err != nil {
				return err
			}
		}
	}
	n := columns[0].Len()
	for row := range n {
		if r.pending == 0 {
			if err := r.begin(from, row, min(row+mostRows, n)-1); err != nil {
				return err
			}
		}
		b := append(r.buf[:0], '(')
		for i := range r.fields {
			if i > 0 {
				b = append(b, ", "...)
			}
			b = r.appendCell(b, i, &columns[i], row)
		}
		r.buf = append(b, ')')
		if r.pending > 0 {
			_, _ = r.to.WriteString(",\n")
		}
		_, _ = r.to.Write(r.buf)
		r.pending++
		if r.size += len(r.buf); r.pending == mostRows || r.size > mostBytes || row == n-1 && from != nil {
			r.finish()
		}
	}
	return nil
}

func (r *rows) begin(from func(first, last int) (string, error), first, last int) error {
	if from != nil {
		text, err := from(first, last)
		if err != nil {
			return err
		}
		say(r.to, "%s", text)
	}
	into := "INSERT INTO " + r.room
	if r.room == "" {
		into = r.s.Dialect.Insert(r.table, r.names())
	}
	_, err := r.to.WriteString(into + " VALUES\n")
	return err
}

func (r *rows) names() []string {
	names := make([]string, len(r.fields))
	for i, f := range r.fields {
		names[i] = f.name
	}
	return names
}

func (r *rows) finish() {
	if r.pending > 0 {
		_, _ = r.to.WriteString(";\n")
	}
	r.pending, r.size = 0, 0
}

// end ends the last INSERT.
func (r *rows) end() error {
	r.finish()
	return r.to.Flush()
}

// appendCell adds a value: a number of a row as it is where it waits in a temporary table, as a sum in the table itself.
func (r *rows) appendCell(b []byte, i int, c *value.Column, row int) []byte {
	f := &r.fields[i]
	if c.States[row] != value.Given {
		r.nulls[i] = true
		return append(b, "NULL"...)
	}
	switch {
	case f.parent != nil && r.room == "":
		b = append(b, r.s.Dialect.Variable(f.parent.variable)...)
		b = append(b, " + "...)
		return strconv.AppendInt(b, f.parent.number(c.Nums[row]), 10)
	case f.parent != nil:
		return strconv.AppendInt(b, f.parent.number(c.Nums[row]), 10)
	case f.literal == nil:
		return strconv.AppendInt(b, c.Nums[row], 10)
	}
	return f.literal(b, c, row)
}

// from is the temporary table, called s, with those that have the locators of rows that are there, for the wanted
// fields; all where it is nil.
func (r *rows) from(wanted []int) string {
	text := r.room + " s"
	for i, f := range r.fields {
		if f.parent != nil && !f.added && (wanted == nil || slices.Contains(wanted, i)) {
			f.parent.joined = true
			text += fmt.Sprintf(" LEFT JOIN %s k%d ON k%d.n = s.%s", f.parent.keys, i, i, r.s.Dialect.Column(f.name))
		}
	}
	return text
}

// value is field i in an expression: the locator for a number of a row.
func (r *rows) value(i int) string {
	f := r.fields[i]
	own := "s." + r.s.Dialect.Column(f.name)
	switch {
	case f.parent == nil:
		return own
	case f.added:
		return own + " + " + r.s.Dialect.Variable(f.parent.variable)
	case f.parent.added() == 0 || !f.parent.wanted:
		return r.there(i)
	}
	return fmt.Sprintf("CASE WHEN %s < 0 THEN k%d.id ELSE %s + %s END", own, i, own,
		r.s.Dialect.Variable(f.parent.variable))
}

// there is value for rows that are there: nothing for those that are added.
func (r *rows) there(i int) string {
	if r.fields[i].parent == nil {
		return r.value(i)
	}
	return fmt.Sprintf("k%d.id", i)
}

// matches is the condition that a row of the table is one that is there and has the values of the fields from first on.
func (r *rows) matches(first, fields int) string { return r.found(first, fields, r.there) }

func (r *rows) found(first, fields int, value func(int) string) string {
	all := make([]string, fields)
	for i := range all {
		all[i] = r.s.Dialect.Matches(r.table, r.fields[first+i].of, value(first+i), r.nulls[first+i])
	}
	return strings.Join(all, " AND ")
}

// same is the condition that a row of the table has exactly the values of the fields from first on.
func (r *rows) same(first, fields int) string {
	all := make([]string, fields)
	for i := range all {
		all[i] = r.s.Dialect.Same(r.table, r.fields[first+i].of, r.there(first+i))
	}
	return strings.Join(all, " AND ")
}
