package value

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/google/uuid"
)

// Parse reads cell as a value of t and adds it to c, a column for values of t. An empty cell is Null. A cell that
// can't be read, or that would be cut, rounded, overflowed or guessed, is added as Bad, and the error says why in
// words that go behind the quoted cell.
func Parse(c *Column, t Type, cell []byte) error {
	if len(cell) == 0 {
		c.AppendState(Null)
		return nil
	}
	if err := parse(c, t, cell); err != nil {
		c.AppendState(Bad)
		return err
	}
	return nil
}

func parse(c *Column, t Type, cell []byte) error {
	switch t.Kind {
	case Text:
		return parseText(c, t, cell)
	case Int:
		return parseInt(c, t, cell)
	case Fixed:
		return parseFixed(c, t, cell)
	case Decimal:
		return parseDecimal(c, t, cell)
	case Float:
		return parseFloat(c, t, cell)
	case Bool:
		return parseBool(c, cell)
	case Bytes:
		return parseBytes(c, t, cell)
	}
	n, err := parseMoment(t, cell)
	if err == nil {
		c.AppendNum(n)
	}
	return err
}

func parseText(c *Column, t Type, cell []byte) error {
	if !utf8.Valid(cell) {
		return errors.New("is not valid UTF-8")
	}
	if bytes.IndexByte(cell, 0) >= 0 {
		return errors.New("holds a NUL character")
	}
	if t.Kept == AsPadded {
		cell = bytes.TrimRight(cell, " ")
	}
	if t.Length > 0 && len(cell) > t.Length {
		if n := utf8.RuneCount(cell); n > t.Length {
			return fmt.Errorf("has %d characters, the column takes %d", n, t.Length)
		}
	}
	if t.Kept == AsNumberLook && looksNumeric(cell) {
		return errors.New("would be stored as a number in a column of this declared type")
	}
	if t.Among != nil && !slices.Contains(*t.Among, string(cell)) {
		return fmt.Errorf("is none of %s", strings.Join(*t.Among, ", "))
	}
	cell, err := formed(t.Kept, cell)
	if err != nil {
		return err
	}
	c.AppendBytes(cell)
	return nil
}

// formed gives text in the one form in which the database keeps it.
func formed(k Kept, cell []byte) ([]byte, error) {
	switch k {
	case AsUUID:
		id, err := uuid.ParseBytes(cell)
		if err != nil || len(cell) != 36 {
			return nil, errors.New("is not a UUID")
		}
		return []byte(id.String()), nil
	case AsJSON:
		return CanonicalJSON(cell)
	}
	return cell, nil
}

// CanonicalJSON gives a JSON text without blanks and with the keys of its objects in order; numbers stay as they are
// written.
func CanonicalJSON(text []byte) ([]byte, error) {
	var v any
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	if err := d.Decode(&v); err != nil || d.More() {
		return nil, errors.New("is not JSON")
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

// digits is a number as it is written: sign, whole part and fraction, nothing else.
type digits struct {
	negative       bool
	whole, decimal []byte
}

// scan reads a plain number: an optional minus, digits, optionally a point and digits.
func scan(cell []byte) (digits, error) {
	d := digits{whole: cell}
	if cell[0] == '-' {
		d.negative, d.whole = true, cell[1:]
	}
	if point := bytes.IndexByte(d.whole, '.'); point >= 0 {
		d.whole, d.decimal = d.whole[:point], d.whole[point+1:]
		if len(d.decimal) == 0 {
			return d, notNumber(cell)
		}
	}
	if len(d.whole) == 0 && len(d.decimal) == 0 || !allDigits(d.whole) || !allDigits(d.decimal) {
		return d, notNumber(cell)
	}
	if len(d.whole) > 1 && d.whole[0] == '0' {
		return d, errors.New("starts with a zero, which a number would lose")
	}
	return d, nil
}

func allDigits(b []byte) bool {
	for _, c := range b {
		if c < '0' || c > '9' {
			return false
		}
	}
	return true
}

// notNumber says why cell isn't a plain number, in the words of the most likely reason.
func notNumber(cell []byte) error {
	if len(bytes.TrimSpace(cell)) != len(cell) {
		return errors.New("has blanks around it, so it is not a plain number")
	}
	marks := bytes.Trim(cell, "-0123456789")
	switch {
	case len(marks) > 0 && len(bytes.Trim(marks, ",.' 0123456789")) == 0 && len(marks) != len(cell):
		return errors.New("has separators, so it is not a plain number like 1234.5")
	case bytes.ContainsAny(cell, "0123456789") && bytes.ContainsAny(cell, "€$£¥"):
		return errors.New("has a currency sign, so it is not a plain number like 1234.5")
	case len(marks) > 0 && len(marks) < len(cell) && !bytes.ContainsAny(marks, "0123456789"):
		return fmt.Errorf("has %q in it, so it is not a plain number like 1234.5", marks)
	}
	return errors.New("is not a number")
}

func parseInt(c *Column, t Type, cell []byte) error {
	d, err := scan(cell)
	if err != nil {
		return err
	}
	if len(bytes.TrimRight(d.decimal, "0")) > 0 {
		return errors.New("has a fraction, the column takes whole numbers")
	}
	n, ok := d.scaled(0)
	if !ok {
		return errors.New("is too large for a 64-bit whole number")
	}
	if (t.Least != 0 || t.Most != 0) && (n < t.Least || n > t.Most) {
		return fmt.Errorf("is not between %d and %d", t.Least, t.Most)
	}
	c.AppendNum(n)
	return nil
}

// scaled is the number times 10 to the power of scale; not ok when digits would be lost or it passes 64 bits.
func (d digits) scaled(scale int) (int64, bool) {
	fraction := bytes.TrimRight(d.decimal, "0")
	if len(fraction) > scale || len(d.whole)+scale > 19 {
		return 0, false
	}
	var n uint64
	for _, c := range d.whole {
		n = n*10 + uint64(c-'0')
	}
	for i := range scale {
		n *= 10
		if i < len(fraction) {
			n += uint64(fraction[i] - '0')
		}
	}
	if d.negative && n <= 1<<63 {
		return -int64(n), true
	}
	return int64(n), n <= math.MaxInt64
}

// fits judges the number of digits before and after the point.
func (d digits) fits(t Type) error {
	if t.Precision == 0 {
		return nil
	}
	if len(bytes.TrimRight(d.decimal, "0")) > t.Scale {
		return fmt.Errorf("has more than %d digits after the point and would be rounded", t.Scale)
	}
	if len(bytes.TrimLeft(d.whole, "0")) > t.Precision-t.Scale {
		return fmt.Errorf("has more than %d digits before the point", t.Precision-t.Scale)
	}
	return nil
}

func parseFixed(c *Column, t Type, cell []byte) error {
	d, err := scan(cell)
	if err != nil {
		return err
	}
	if err := d.fits(t); err != nil {
		return err
	}
	n, ok := d.scaled(t.Scale)
	if !ok {
		return errors.New("has too many digits")
	}
	if t.Kept == AsDouble && !doubleKeeps(n, t.Scale) {
		return errors.New("has more digits than the database keeps exactly")
	}
	c.AppendNum(n)
	return nil
}

// doubleKeeps tells whether n / 10^scale comes back the same, at that scale, from an IEEE 754 double (or from a
// 64-bit whole number, where it is whole).
func doubleKeeps(n int64, scale int) bool {
	const exact = 1e15 // every decimal of 15 digits does
	if -exact <= n && n <= exact || n%pow10(scale) == 0 {
		return true
	}
	back, ok := FloatToFixed(FixedToFloat(n, scale), scale)
	return ok && back == n
}

func parseDecimal(c *Column, t Type, cell []byte) error {
	d, err := scan(cell)
	if err != nil {
		return err
	}
	if err := d.fits(t); err != nil {
		return err
	}
	text := d.canonical()
	if t.Kept == AsDouble && !textKeeps(text) {
		return errors.New("has more digits than the database keeps exactly")
	}
	c.AppendBytes(text)
	return nil
}

// canonical is the number with no zero that could be left out, and no minus before a zero.
func (d digits) canonical() []byte {
	fraction := bytes.TrimRight(d.decimal, "0")
	whole := d.whole
	if len(whole) == 0 {
		whole = []byte("0")
	}
	out := make([]byte, 0, len(whole)+len(fraction)+2)
	if d.negative && (len(fraction) > 0 || string(whole) != "0") {
		out = append(out, '-')
	}
	out = append(out, whole...)
	if len(fraction) > 0 {
		out = append(append(out, '.'), fraction...)
	}
	return out
}

func textKeeps(canonical []byte) bool {
	if _, err := strconv.ParseInt(string(canonical), 10, 64); err == nil {
		return true
	}
	f, err := strconv.ParseFloat(string(canonical), 64)
	return err == nil && string(FloatText(f)) == string(canonical)
}

func parseFloat(c *Column, t Type, cell []byte) error {
	d, err := scan(cell)
	if err != nil {
		return err
	}
	text := string(d.canonical())
	bits := 64
	if t.Kept == AsSingle {
		bits = 32
	}
	f, err := strconv.ParseFloat(text, bits)
	if err != nil {
		return errors.New("is too large for a floating-point number")
	}
	if strconv.FormatFloat(f, 'f', -1, bits) != text {
		return errors.New("has more digits than a floating-point number keeps")
	}
	if bits == 32 {
		f, err = strconv.ParseFloat(text, 64) // shown as it was written
	}
	c.AppendFloat(f)
	return err
}

func parseBool(c *Column, cell []byte) error {
	switch string(bytes.ToLower(cell)) {
	case "1", "true":
		c.AppendNum(1)
	case "0", "false":
		c.AppendNum(0)
	default:
		return errors.New("is neither true nor false (1 or 0)")
	}
	return nil
}

func parseBytes(c *Column, t Type, cell []byte) error {
	raw := make([]byte, hex.DecodedLen(len(cell)))
	if _, err := hex.Decode(raw, cell); err != nil {
		return errors.New("is not a row of hexadecimal digits")
	}
	if t.Length > 0 && len(raw) > t.Length {
		return fmt.Errorf("has %d bytes, the column takes %d", len(raw), t.Length)
	}
	c.AppendBytes(raw)
	return nil
}

var powers = func() (p [19]int64) {
	p[0] = 1
	for i := 1; i < len(p); i++ {
		p[i] = p[i-1] * 10
	}
	return p
}()

func pow10(n int) int64 { return powers[n] }

// FixedToFloat is the double nearest to n / 10^scale.
func FixedToFloat(n int64, scale int) float64 {
	if -1<<53 <= n && n <= 1<<53 {
		return float64(n) / float64(pow10(scale)) // both exact, so the division rounds once (IEEE 754)
	}
	f, _ := new(big.Rat).SetFrac64(n, pow10(scale)).Float64()
	return f
}

// FloatToFixed is the number that f stands for when it is written in its shortest form; not ok when that has more
// than scale digits after the point.
func FloatToFixed(f float64, scale int) (int64, bool) {
	var room [32]byte
	text := strconv.AppendFloat(room[:0], f, 'f', -1, 64)
	d, err := scan(text)
	if err != nil {
		return 0, false
	}
	return d.scaled(scale)
}

// FloatText is the shortest plain decimal that reads back as f, without an exponent.
func FloatText(f float64) []byte {
	if f == 0 {
		return []byte("0")
	}
	return strconv.AppendFloat(nil, f, 'f', -1, 64)
}
