package logbook

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"unicode/utf8"

	"ladle/internal/core/ahead"
	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/value"
)

// damaged is the error of a logbook that somebody else wrote into.
func damaged(err error) error {
	return fault.Because(fault.Failed, err, fault.Problem{What: "the logbook of this database is damaged: " +
		err.Error()})
}

// appendRows writes the rows of a batch as JSON arrays, a line each: null for NULL, false for what could not be read, a
// text for a value, or, where its text is not UTF-8, an array with its hexadecimal digits.
func appendRows(to []byte, b *value.Batch) []byte {
	var buf []byte
	for row := range b.Len() {
		before := byte('[')
		for i := range b.Columns {
			to = append(to, before)
			before = ','
			c := &b.Columns[i]
			switch c.States[row] {
			case value.Null:
				to = append(to, "null"...)
			case value.Given:
				buf = c.AppendText(buf[:0], row)
				to = appendText(to, buf)
			default:
				to = append(to, "false"...)
			}
		}
		to = append(to, "]\n"...)
	}
	return to
}

func appendText(to, text []byte) []byte {
	if bare(text) {
		return append(append(append(to, '"'), text...), '"')
	}
	if !utf8.Valid(text) {
		return append(hex.AppendEncode(append(to, `["`...), text), `"]`...)
	}
	quoted, _ := json.Marshal(string(text)) // a string can always be written
	return append(to, quoted...)
}

// bare reports whether nothing in a text must be escaped in JSON, as in that of a number or a date.
func bare(text []byte) bool {
	for _, c := range text {
		if c < ' ' || c >= utf8.RuneSelf || c == '"' || c == '\\' {
			return false
		}
	}
	return true
}

// eachRow reads what appendRows wrote, in batches, with the number of the first row of each: the next is read while take is at
// work.
func eachRow(from io.Reader, types []value.Type, take func(first int, b *value.Batch) error) error {
	first := 0
	return ahead.Of(func(give func(*value.Batch) error) error { return readRows(from, types, give) }, func(b *value.Batch) error {
		err := take(first, b)
		first += b.Len()
		return err
	})
}

// readRows gives the batches of eachRow, in two memories by turns: one is filled while the other is in use.
func readRows(from io.Reader, types []value.Type, give func(*value.Batch) error) error {
	d := json.NewDecoder(from)
	batch, given := value.NewBatch(types), value.NewBatch(types)
	for {
		var row []any
		err := d.Decode(&row)
		if n := batch.Len(); n == engine.BatchRows || n > 0 && errors.Is(err, io.EOF) {
			if err := give(batch); err != nil {
				return err
			}
			batch, given = given, batch
			batch.Reset()
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil {
			err = appendRow(batch, types, row)
		}
		if err != nil {
			return damaged(err)
		}
	}
}

func appendRow(to *value.Batch, types []value.Type, row []any) error {
	if len(row) != len(types) {
		return errors.New("a row of it has too many cells, or too few")
	}
	for i := range row {
		if err := appendCell(&to.Columns[i], types[i], row[i]); err != nil {
			return err
		}
	}
	return nil
}

func appendCell(c *value.Column, t value.Type, cell any) error {
	switch cell := cell.(type) {
	case nil:
		c.AppendState(value.Null)
		return nil
	case string:
		return appendValue(c, t, []byte(cell))
	case []any:
		if digits, ok := append(cell, "")[0].(string); ok {
			raw, err := hex.DecodeString(digits)
			c.AppendBytes(raw)
			return err
		}
	}
	c.AppendState(value.Bad)
	return nil
}

// appendValue reads a value in the form that AppendText gave it. One that the column's type does not take any more is
// Bad.
func appendValue(c *value.Column, t value.Type, text []byte) error {
	switch {
	case t.Kind == value.Text || t.Kind == value.Bytes && len(text) == 0:
		c.AppendBytes(text)
	default:
		if t.Zoned {
			text = append(text, 'Z')
		}
		_ = value.Parse(c, t, text) // adds Bad where it gives an error
	}
	return nil
}
