package value

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"slices"
	"strconv"
	"time"
	"unicode/utf8"

	"ladle/internal/core/reason"

	"github.com/google/uuid"
)

// Parse reads cell as a value of t and adds it to c, a column for values of t. An empty cell is Null. A cell that
// can't be read, or that would be cut, rounded, overflowed or guessed, is added as Bad, and the error is a
// reason.Cause.
func Parse(c *Column, t Type, cell []byte) error { return ParseIn(c, t, cell, nil) }

// ParseIn is Parse with the zone of times that don't say theirs; see PutMoment.
func ParseIn(c *Column, t Type, cell []byte, zone *time.Location) error {
	if len(cell) == 0 {
		c.AppendState(Null)
		return nil
	}
	if err := parse(c, t, cell, zone); err != nil {
		c.AppendState(Bad)
		return err
	}
	return nil
}

// Put is ParseIn for a cell that is not empty; false, with nothing added, where it is no value of t.
func Put(c *Column, t *Type, cell []byte, zone *time.Location) bool {
	return parse(c, *t, cell, zone) == nil
}

func parse(c *Column, t Type, cell []byte, zone *time.Location) error {
	switch t.Kind {
	case Text:
		return parseText(c, t, cell)
	case Float:
		return parseFloat(c, t, cell)
	case Bool:
		return parseBool(c, cell)
	case Bytes:
		return parseBytes(c, t, cell)
	case Date, Time, DateTime:
		return parseMoment(c, t, cell, zone)
	}
	d, err := ScanNumber(cell)
	if err != nil {
		return err
	}
	return putNumber(c, t, d)
}

func parseText(c *Column, t Type, cell []byte) error {
	if !utf8.Valid(cell) {
		return reason.New(reason.NotUTF8)
	}
	if bytes.IndexByte(cell, 0) >= 0 {
		return reason.New(reason.HasNUL)
	}
	if t.Storage == AsPadded {
		cell = bytes.TrimRight(cell, " ")
	}
	if t.Length > 0 && len(cell) > t.Length {
		if n := utf8.RuneCount(cell); n > t.Length {
			return tooLong(n, t.Length, "characters")
		}
	}
	if t.Storage == AsNumberLook && looksNumeric(cell) {
		return reason.New(reason.BecomesNumber)
	}
	if t.Among != nil && !slices.Contains(*t.Among, string(cell)) {
		return reason.Because(reason.Why{Kind: reason.NotAmong, List: reason.List(*t.Among...)})
	}
	cell, err := formed(t.Storage, cell)
	if err != nil {
		return err
	}
	c.AppendBytes(cell)
	return nil
}

// IsPlainText reports whether values of the type are texts that stay as they are, whatever they say.
func (t *Type) IsPlainText() bool { return t.Kind == Text && t.Storage == AsIs && t.Among == nil }

// PutText adds a text that is valid UTF-8, where nothing must be looked at but its length; else it reports false and adds
// nothing.
func PutText(c *Column, t *Type, text []byte) bool {
	if !t.IsPlainText() || len(text) == 0 || t.Length > 0 && len(text) > t.Length ||
		bytes.IndexByte(text, 0) >= 0 {
		return false
	}
	c.AppendBytes(text)
	return true
}

func tooLong(is, most int, unit string) error {
	return reason.Cause{Why: reason.Why{Kind: reason.TooLong, Limit: int64(most), Type: unit},
		Detail: reason.Detail{Length: int64(is)}}
}

// formed returns text in the one form in which the database keeps it.
func formed(k Storage, cell []byte) ([]byte, error) {
	switch k {
	case AsUUID:
		id, err := uuid.ParseBytes(cell)
		if err != nil || len(cell) != 36 {
			return nil, reason.New(reason.NotUUID)
		}
		return []byte(id.String()), nil
	case AsJSON:
		return CanonicalJSON(cell)
	}
	return cell, nil
}

// CanonicalJSON returns a JSON text without blanks and with the keys of its objects in order; numbers stay as they are
// written.
func CanonicalJSON(text []byte) ([]byte, error) {
	var v any
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	if err := d.Decode(&v); err != nil || d.More() {
		return nil, reason.New(reason.NotJSON)
	}
	var out bytes.Buffer
	e := json.NewEncoder(&out)
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return nil, err
	}
	return bytes.TrimRight(out.Bytes(), "\n"), nil
}

// looksNumeric tells text that SQLite's NUMERIC affinity would turn into a number (sqlite.org/datatype3.html, §3).
func looksNumeric(cell []byte) bool {
	_, err := strconv.ParseFloat(string(bytes.TrimSpace(cell)), 64)
	return err == nil || errors.Is(err, strconv.ErrRange)
}

func parseBool(c *Column, cell []byte) error {
	switch string(bytes.ToLower(cell)) {
	case "1", "true":
		c.AppendNum(1)
	case "0", "false":
		c.AppendNum(0)
	default:
		return reason.New(reason.NotYesNo)
	}
	return nil
}

func parseBytes(c *Column, t Type, cell []byte) error {
	raw := make([]byte, hex.DecodedLen(len(cell)))
	if _, err := hex.Decode(raw, cell); err != nil {
		return reason.New(reason.NotHexadecimal)
	}
	if t.Length > 0 && len(raw) > t.Length {
		return tooLong(len(raw), t.Length, "bytes")
	}
	c.AppendBytes(raw)
	return nil
}
