package alter

import (
	"regexp"
	"strconv"
	"strings"

	"ladle/internal/core/propose"
	"ladle/internal/core/value"
)

var typeForm = regexp.MustCompile(`^([a-z][a-z0-9 ]*?)\s*(?:\(\s*(\d+)\s*(?:,\s*(\d+)\s*)?\))?((?: unsigned)?)(?: with(out)? time zone)?$`)

// intBits are the whole numbers by their bits.
var intBits = map[string]int{"tinyint": 8, "smallint": 16, "int2": 16, "mediumint": 24, "int": 32, "integer": 32,
	"int4":   32,
	"bigint": 64, "int8": 64}

// typeOf reads a type as it is declared, as far as that says which values it takes; known is false for all others.
func typeOf(declared string, d propose.Dialect) (t value.Type, known bool) {
	m := typeForm.FindStringSubmatch(strings.ToLower(strings.TrimSpace(declared)))
	if m == nil {
		return t, false
	}
	first, _ := strconv.Atoi(m[2])
	second, _ := strconv.Atoi(m[3])
	if bits := intBits[m[1]]; bits > 0 {
		return whole(bits, m[4] != "", d), true
	}
	switch m[1] {
	case "varchar", "character varying", "char varying", "nvarchar", "text", "mediumtext", "longtext", "clob":
		return value.Type{Kind: value.Text, Length: first}, true
	case "char", "character", "bpchar", "nchar":
		return value.Type{Kind: value.Text, Length: max(first, 1), Storage: value.AsPadded}, true
	case "decimal", "numeric", "dec":
		if first == 0 && d == propose.MySQL {
			first = 10
		}
		return value.Type{Kind: value.Decimal, Precision: first, Scale: second}, true
	case "real", "float4":
		return value.Type{Kind: value.Float, Storage: value.AsSingle}, true
	case "float":
		if d == propose.MySQL {
			return value.Type{Kind: value.Float, Storage: value.AsSingle}, true
		}
		return value.Type{Kind: value.Float}, true
	case "double", "double precision", "float8":
		return value.Type{Kind: value.Float}, true
	case "boolean", "bool":
		return value.Type{Kind: value.Bool}, true
	case "date":
		return value.Type{Kind: value.Date}, true
	case "datetime", "timestamp":
		if m[5] == "" && strings.HasSuffix(strings.ToLower(declared), "time zone") {
			return t, false
		}
		return value.Type{Kind: value.DateTime}, true
	case "time":
		return value.Type{Kind: value.Time}, true
	}
	return t, false
}

// whole is the type of whole numbers of some bits; in SQLite they are always of 64.
func whole(bits int, unsigned bool, d propose.Dialect) value.Type {
	t := value.Type{Kind: value.Int}
	switch {
	case d == propose.SQLite || bits == 64 && !unsigned:
	case unsigned && bits < 64:
		t.Most = 1<<bits - 1
	case unsigned:
		return value.Type{Kind: value.Decimal, Precision: 20} // which goes beyond whole numbers of 64 bits with a sign
	default:
		t.Least, t.Most = -1<<(bits-1), 1<<(bits-1)-1
	}
	return t
}

// widens reports whether each value of one type is a value of another, unchanged.
func widens(from, to value.Type) bool {
	bounded := func(t value.Type) bool { return t.Least != 0 || t.Most != 0 }
	switch {
	case from.Kind == value.Int && to.Kind == value.Decimal:
		const most = 19 // digits of 64 bits
		digits := most
		if bounded(from) {
			digits = len(strconv.FormatInt(from.Most, 10))
		}
		return to.Precision == 0 || to.Precision-to.Scale >= digits
	case from.Kind != to.Kind:
		return false
	case from.Kind == value.Int:
		return !bounded(to) || bounded(from) && to.Least <= from.Least && to.Most >= from.Most
	case from.Kind == value.Text:
		return (to.Storage == from.Storage || to.Storage != value.AsPadded) && (to.Length == 0 || from.Length > 0 && to.Length >= from.Length)
	case from.Kind == value.Decimal:
		return to.Precision == 0 || from.Precision > 0 && to.Scale >= from.Scale && to.Precision-to.Scale >= from.Precision-from.Scale
	case from.Kind == value.Float:
		return to.Storage != value.AsSingle || from.Storage == value.AsSingle
	}
	return true
}

// fits reports whether a value, as text, is one of a type, and stays as it is.
func fits(t value.Type, text []byte) bool {
	c := value.NewColumn(t)
	if t.Kind == value.Text {
		return value.Parse(&c, value.Type{Kind: value.Text, Length: t.Length}, text) == nil
	}
	return value.Parse(&c, t, text) == nil
}

// Takes reports whether a type takes all values of another one, each in its own dialect; known is false where that
// can't be told.
func Takes(to string, d propose.Dialect, from string, of propose.Dialect) (takes, known bool) {
	x, xKnown := typeOf(from, of)
	y, yKnown := typeOf(to, d)
	return widens(x, y), xKnown && yKnown
}
