package mysql

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/value"
)

// read adds a value as the server's text protocol gives it to c; nil is NULL. What is no such value is Bad: zero dates.
func read(c *value.Column, t value.Type, text []byte) {
	switch {
	case text == nil:
		c.AppendState(value.Null)
	case t.Kind == value.Bytes || t.Kind == value.Text && t.Storage != value.AsJSON && t.Storage != value.AsPadded:
		c.AppendBytes(text)
	case t.Storage == value.AsPadded:
		c.AppendBytes(bytes.TrimRight(text, " "))
	case len(text) == 0:
		c.AppendState(value.Bad)
	case t.Kind == value.Float:
		f, err := strconv.ParseFloat(string(text), 64)
		if err != nil {
			c.AppendState(value.Bad)
			return
		}
		c.AppendFloat(f)
	default:
		if t.Zoned {
			text = append(bytes.Clone(text), 'Z')
		}
		_ = value.Parse(c, t, text) // adds Bad where it gives an error
	}
}

// appendField adds slot i of c as a field of LOAD DATA, separated by tabs and escaped by backslashes; bytes in
// hexadecimal digits.
func appendField(b []byte, c *value.Column, t value.Type, i int) []byte {
	switch {
	case c.States[i] != value.Given:
		return append(b, `\N`...)
	case t.Kind == value.Bool:
		return strconv.AppendInt(b, c.Nums[i], 10)
	case t.Kind == value.Bytes:
		return hex.AppendEncode(b, c.Bytes(i))
	case t.Kind == value.Text:
		return engine.AppendEscaped(b, c.Bytes(i))
	}
	return c.AppendText(b, i)
}

// placed is how LOAD DATA takes the columns: directly, or, for bytes, through a variable.
func placed(columns []string, kinds []value.Type) string {
	var takes, sets []string
	for i, name := range columns {
		if kinds[i].Kind != value.Bytes {
			takes = append(takes, quote(name))
			continue
		}
		takes = append(takes, fmt.Sprintf("@v%d", i))
		sets = append(sets, fmt.Sprintf("%s = UNHEX(@v%d)", quote(name), i))
	}
	text := "(" + strings.Join(takes, ", ") + ")"
	if sets != nil {
		text += " SET " + strings.Join(sets, ", ")
	}
	return text
}
