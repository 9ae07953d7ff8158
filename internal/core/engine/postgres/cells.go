package postgres

import (
	"bytes"
	"encoding/hex"

	"ladle/internal/core/engine"
	"ladle/internal/core/value"
)

// read adds a value in PostgreSQL's text form to c; nil is NULL. What is no such value is Bad: infinity, NaN.
func read(c *value.Column, t value.Type, text []byte) {
	switch {
	case text == nil:
		c.AppendState(value.Null)
		return
	case len(text) == 0:
		if t.Kind == value.Text || t.Kind == value.Bytes {
			c.AppendBytes(nil) // an empty text is not NULL
			return
		}
	case t.Kind == value.Bytes:
		text = bytes.TrimPrefix(text, []byte(`\x`))
		raw := make([]byte, hex.DecodedLen(len(text)))
		if _, err := hex.Decode(raw, text); err != nil {
			c.AppendState(value.Bad)
			return
		}
		c.AppendBytes(raw)
		return
	case t.Kind == value.Bool:
		c.AppendNum(int64(map[byte]int{'t': 1}[text[0]]))
		return
	case t.Kind == value.Text && t.Storage == value.AsPadded:
		c.AppendBytes(bytes.TrimRight(text, " "))
		return
	case t.Kind == value.Text && t.Storage != value.AsJSON:
		c.AppendBytes(text)
		return
	}
	_ = value.Parse(c, t, text) // adds Bad where it gives an error
}

// appendText adds slot i of c in the form that PostgreSQL reads; the slot holds a value.
func appendText(b []byte, c *value.Column, t value.Type, i int) []byte {
	switch {
	case t.Kind == value.Bytes:
		return hex.AppendEncode(append(b, `\x`...), c.Bytes(i))
	case t.Zoned:
		return append(c.AppendText(b, i), 'Z')
	}
	return c.AppendText(b, i)
}

// appendCopy adds slot i of c as a field of COPY's text format (postgresql.org/docs/current/sql-copy.html).
func appendCopy(b []byte, c *value.Column, t value.Type, i int) []byte {
	if c.States[i] != value.Given {
		return append(b, `\N`...)
	}
	switch t.Kind {
	case value.Text:
		return engine.AppendEscaped(b, c.Bytes(i))
	case value.Bytes:
		return hex.AppendEncode(append(b, `\\x`...), c.Bytes(i))
	}
	return appendText(b, c, t, i)
}
