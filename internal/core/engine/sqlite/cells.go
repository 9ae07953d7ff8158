package sqlite

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"strconv"
	"unsafe"

	"zombiezen.com/go/sqlite"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// codec moves the values of one column between a batch and SQLite's storage classes.
type codec struct {
	kind  value.Kind
	scale int
	form  form
	buf   []byte
}

// codecs makes a codec for each column; name may also be the locator.
func (d *Database) codecs(t *schema.Table, columns []string) ([]codec, []value.Type) {
	codecs, types := make([]codec, len(columns)), engine.Types(t, columns)
	for i, name := range columns {
		f, ok := d.forms[t][name]
		if !ok {
			f = isoForm
			f.integer = types[i].Kind == value.Bool
		}
		codecs[i] = codec{kind: types[i].Kind, scale: types[i].Scale, form: f}
	}
	return codecs, types
}

// bind returns slot i of c to a parameter of s.
func (k *codec) bind(s *sqlite.Stmt, parameter int, c *value.Column, i int) {
	if c.States[i] != value.Given {
		s.BindNull(parameter)
		return
	}
	switch k.kind {
	case value.Text:
		s.BindText(parameter, text(c.Bytes(i)))
	case value.Bytes:
		s.BindBytes(parameter, c.Bytes(i))
	case value.Decimal:
		bindDecimal(s, parameter, text(c.Bytes(i)))
	case value.Int:
		s.BindInt64(parameter, c.Nums[i])
	case value.Fixed:
		k.bindFixed(s, parameter, c.Nums[i])
	case value.Float:
		s.BindFloat(parameter, c.Float(i))
	default:
		k.bindFormed(s, parameter, c.Nums[i])
	}
}

// text is b as a string, for the time that b doesn't change.
func text(b []byte) string { return unsafe.String(unsafe.SliceData(b), len(b)) }

func bindDecimal(s *sqlite.Stmt, parameter int, canonical string) {
	if n, err := strconv.ParseInt(canonical, 10, 64); err == nil {
		s.BindInt64(parameter, n)
		return
	}
	f, _ := strconv.ParseFloat(canonical, 64) // value.Parse took only what a double keeps
	s.BindFloat(parameter, f)
}

func (k *codec) bindFixed(s *sqlite.Stmt, parameter int, n int64) {
	if k.scale == 0 {
		s.BindInt64(parameter, n)
		return
	}
	s.BindFloat(parameter, value.FixedToFloat(n, k.scale)) // NUMERIC affinity makes whole numbers of whole doubles
}

func (k *codec) bindFormed(s *sqlite.Stmt, parameter int, n int64) {
	if k.form.integer {
		if k.kind == value.DateTime {
			n /= second
		}
		s.BindInt64(parameter, n)
		return
	}
	k.buf = k.form.append(k.buf[:0], k.kind, n)
	s.BindText(parameter, text(k.buf))
}

// appendStored adds column i of the row that s stands on to b: its storage class, and behind it what is stored.
func appendStored(b []byte, s *sqlite.Stmt, i int) []byte {
	class := s.ColumnType(i)
	b = append(b, byte(class))
	switch class {
	case sqlite.TypeNull:
		return b
	case sqlite.TypeInteger:
		return binary.LittleEndian.AppendUint64(b, uint64(s.ColumnInt64(i)))
	case sqlite.TypeFloat:
		return binary.LittleEndian.AppendUint64(b, math.Float64bits(s.ColumnFloat(i)))
	}
	return appendText(b, s, i)
}

// appendText adds column i of the row that s stands on to b, in UTF-8 where it is a text or a number: asking for its length makes
// that of it (sqlite.org/c3ref/column_blob.html).
func appendText(b []byte, s *sqlite.Stmt, i int) []byte {
	n, length := len(b), s.ColumnLen(i)
	b = slices.Grow(b, length)[:n+length]
	s.ColumnBytes(i, b[n:])
	return b
}

// read adds what appendStored wrote to c.
func (k *codec) read(c *value.Column, stored []byte) {
	class, stored := sqlite.ColumnType(stored[0]), stored[1:]
	switch class {
	case sqlite.TypeNull:
		c.AppendState(value.Null)
	case sqlite.TypeInteger:
		k.readInteger(c, int64(binary.LittleEndian.Uint64(stored)))
	case sqlite.TypeFloat:
		k.readFloat(c, math.Float64frombits(binary.LittleEndian.Uint64(stored)))
	case sqlite.TypeText:
		k.readText(c, stored)
	default:
		k.readBlob(c, stored)
	}
}

func (k *codec) readInteger(c *value.Column, n int64) {
	switch {
	case k.kind == value.Int || k.kind == value.Bool && k.form.integer && n>>1 == 0:
		c.AppendNum(n)
	case k.kind == value.Fixed:
		if scaled, ok := times(n, k.scale); ok {
			c.AppendNum(scaled)
			return
		}
		c.AppendState(value.Bad)
	case k.kind == value.Decimal:
		c.AppendBytes(strconv.AppendInt(nil, n, 10))
	case k.kind == value.Float:
		c.AppendFloat(float64(n))
	case k.kind == value.DateTime && k.form.integer && n > math.MinInt64/second && n < math.MaxInt64/second:
		c.AppendNum(n * second)
	default:
		c.AppendState(value.Bad)
	}
}

// times is n * 10^scale, where that fits.
func times(n int64, scale int) (int64, bool) {
	for range scale {
		if n > math.MaxInt64/10 || n < math.MinInt64/10 {
			return 0, false
		}
		n *= 10
	}
	return n, true
}

func (k *codec) readFloat(c *value.Column, f float64) {
	switch k.kind {
	case value.Float:
		c.AppendFloat(f)
		return
	case value.Fixed:
		if n, ok := value.FloatToFixed(f, k.scale); ok {
			c.AppendNum(n)
			return
		}
	case value.Decimal:
		c.AppendBytes(value.FloatText(f))
		return
	}
	c.AppendState(value.Bad)
}

func (k *codec) readText(c *value.Column, text []byte) {
	switch {
	case k.kind == value.Text:
		c.AppendBytes(text)
	case formed(k.kind) && !k.form.integer:
		k.form.parse(c, text)
	default:
		c.AppendState(value.Bad)
	}
}

func (k *codec) readBlob(c *value.Column, blob []byte) {
	if k.kind != value.Bytes {
		c.AppendState(value.Bad)
		return
	}
	c.AppendBytes(blob)
}

// Fold returns values as the column's collation compares them (sqlite.org/datatype3.html, §7).
func fold(collation string, values *value.Column) (*value.Column, error) {
	var change func([]byte) []byte
	switch collation {
	case "", "BINARY":
		return values, nil
	case "NOCASE":
		change = lowerASCII
	case "RTRIM":
		change = func(b []byte) []byte { return bytes.TrimRight(b, " ") }
	default:
		return nil, fmt.Errorf("the collation %s is not known", collation)
	}
	folded := &value.Column{Kind: values.Kind}
	for i, state := range values.States {
		if state != value.Given {
			folded.AppendState(state)
			continue
		}
		folded.AppendBytes(change(values.Bytes(i)))
	}
	return folded, nil
}

func lowerASCII(b []byte) []byte {
	lower := bytes.Clone(b)
	for i, c := range lower {
		if 'A' <= c && c <= 'Z' {
			lower[i] = c + 'a' - 'A'
		}
	}
	return lower
}
