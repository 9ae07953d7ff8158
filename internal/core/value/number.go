package value

import (
	"bytes"
	"math"
	"math/big"
	"strconv"

	"ladle/internal/core/reason"
)

// Digits is a decimal number by what is written of it: its sign and the digits before and behind the point, in ASCII.
type Digits struct {
	Negative        bool
	Whole, Fraction []byte
}

// ScanNumber reads a plain number: an optional minus, digits, optionally a point and digits. The digits stand in cell.
func ScanNumber(cell []byte) (Digits, error) {
	d := Digits{Whole: cell}
	if cell[0] == '-' {
		d.Negative, d.Whole = true, cell[1:]
	}
	if point := bytes.IndexByte(d.Whole, '.'); point >= 0 {
		d.Whole, d.Fraction = d.Whole[:point], d.Whole[point+1:]
		if len(d.Fraction) == 0 {
			return d, notNumber(cell)
		}
	}
	if len(d.Whole) == 0 && len(d.Fraction) == 0 || !AllDigits(d.Whole) || !AllDigits(d.Fraction) {
		return d, notNumber(cell)
	}
	if len(d.Whole) > 1 && d.Whole[0] == '0' {
		return d, errLeadingZero
	}
	return d, nil
}

// mostWhole is the number of digits that fit an int64 in any case.
const mostWhole = 18

// Rounded is the number with so many digits behind the point, of which it has more; halves round away from zero. The digits
// stand in buf, which must be empty. It reports whether it could be done: up to 18 digits are left.
func (d Digits) Rounded(places int, buf []byte) (Digits, bool) {
	if places < 0 || places >= len(d.Fraction) || len(d.Whole)+places > mostWhole-1 {
		return d, false
	}
	n := int64(0)
	for _, part := range [2][]byte{d.Whole, d.Fraction[:places]} {
		for _, c := range part {
			n = n*10 + int64(c-'0')
		}
	}
	if d.Fraction[places] >= '5' {
		n++
	}
	r := DigitsOf(uint64(n), places, buf)
	r.Negative = d.Negative
	return r, true
}

// DigitsOf is n in the unit of the last of so many digits behind the point. The digits stand in buf, which must be
// empty.
func DigitsOf(n uint64, places int, buf []byte) Digits {
	const most = 20 // digits of n
	var digits [most]byte
	at := most
	for ; n > 0; n /= 10 {
		at--
		digits[at] = '0' + byte(n%10)
	}
	for missing := places + 1 - (most - at); missing > 0; missing-- {
		buf = append(buf, '0')
	}
	buf = append(buf, digits[at:]...)
	d := Digits{Whole: buf[:len(buf)-places]}
	if places > 0 {
		d.Fraction = buf[len(buf)-places:]
	}
	return d
}

// Causes that need no arguments, made once.
var (
	errLeadingZero error = reason.New(reason.LeadingZero)
	errNotNumber   error = reason.New(reason.NotNumber)
	errTooLarge    error = reason.New(reason.TooLargeFloat)
	errTooFine     error = reason.Because(reason.Why{Kind: reason.TooPreciseNumber, Type: Float.String()})
	errTooPrecise  error = reason.New(reason.TooPreciseNumber)
)

// AllDigits reports whether b holds nothing but digits of ASCII.
func AllDigits(b []byte) bool {
	for _, c := range b {
		if c < '0' || c > '9' {
			return false
		}
	}
	return true
}

// notNumber returns the most likely cause for which cell is not a plain number.
func notNumber(cell []byte) error {
	has := func(what string) error {
		return reason.Cause{Why: reason.Why{Kind: reason.NotPlainNumber}, Detail: reason.Detail{Has: what}}
	}
	if len(bytes.TrimSpace(cell)) != len(cell) {
		return has(reason.HasBlanks)
	}
	marks := bytes.Trim(cell, "-0123456789")
	switch {
	case len(marks) > 0 && len(bytes.Trim(marks, ",.' 0123456789")) == 0 && len(marks) != len(cell):
		return has(reason.HasSeparators)
	case bytes.ContainsAny(cell, "0123456789") && bytes.ContainsAny(cell, "€$£¥"):
		return has(reason.HasCurrency)
	case len(marks) > 0 && len(marks) < len(cell) && !bytes.ContainsAny(marks, "0123456789"):
		return has(string(marks))
	}
	return errNotNumber
}

// PutNumber adds d to c, a column for values of t, when it is one: a number is never rounded, cut or made a date.
// Otherwise it adds Bad, and the error is a reason.Cause.
func PutNumber(c *Column, t Type, d Digits) error {
	err := putNumber(c, t, d)
	if err != nil {
		c.AppendState(Bad)
	}
	return err
}

func putNumber(c *Column, t Type, d Digits) error {
	switch t.Kind {
	case Int:
		return putInt(c, t, d)
	case Fixed:
		return putFixed(c, t, d)
	case Decimal:
		return putDecimal(c, t, d)
	case Float:
		return putFloat(c, t, d)
	case Text:
		return parseText(c, t, d.Append(nil))
	case Bool:
		return parseBool(c, d.Append(nil))
	}
	return reason.Because(reason.Why{Kind: reason.NumberForType, Type: t.Kind.String()})
}

func putInt(c *Column, t Type, d Digits) error {
	if len(bytes.TrimRight(d.Fraction, "0")) > 0 {
		return reason.New(reason.HasFraction)
	}
	n, ok := d.scaled(0)
	if !ok {
		return reason.New(reason.TooLargeWhole)
	}
	if (t.Least != 0 || t.Most != 0) && (n < t.Least || n > t.Most) {
		return reason.Because(reason.Why{Kind: reason.OutOfRange, Least: strconv.FormatInt(t.Least, 10),
			Most: strconv.FormatInt(t.Most, 10)})
	}
	c.AppendNum(n)
	return nil
}

// scaled is the number times 10 to the power of scale; not ok when digits would be lost or it passes 64 bits.
func (d Digits) scaled(scale int) (int64, bool) {
	fraction := d.Fraction
	for len(fraction) > 0 && fraction[len(fraction)-1] == '0' {
		fraction = fraction[:len(fraction)-1]
	}
	if len(fraction) > scale || len(d.Whole)+scale > 19 {
		return 0, false
	}
	var n uint64
	for _, c := range d.Whole {
		n = n*10 + uint64(c-'0')
	}
	for i := range scale {
		n *= 10
		if i < len(fraction) {
			n += uint64(fraction[i] - '0')
		}
	}
	if d.Negative && n <= 1<<63 {
		return -int64(n), true
	}
	return int64(n), n <= math.MaxInt64
}

// fits judges the number of digits before and after the point.
func (d Digits) fits(t Type) error {
	if t.Precision == 0 {
		return nil
	}
	if len(d.Fraction) > t.Scale && len(bytes.TrimRight(d.Fraction, "0")) > t.Scale {
		return reason.Because(reason.Why{Kind: reason.TooManyDecimals, Limit: int64(t.Scale)})
	}
	if most := t.Precision - t.Scale; len(d.Whole) > most && len(bytes.TrimLeft(d.Whole, "0")) > most {
		return reason.Because(reason.Why{Kind: reason.TooManyDigits, Limit: int64(most)})
	}
	return nil
}

func putFixed(c *Column, t Type, d Digits) error {
	if err := d.fits(t); err != nil {
		return err
	}
	n, ok := d.scaled(t.Scale)
	if !ok {
		return reason.New(reason.TooManyDigits)
	}
	if t.Storage == AsDouble && !doubleKeeps(n, t.Scale) {
		return errTooPrecise
	}
	c.AppendNum(n)
	return nil
}

// PutScaled adds n / 10^fraction to c, a column for values of t, when that is plainly one; false, with nothing added,
// when it needs a closer look.
func PutScaled(c *Column, t *Type, n int64, fraction int) bool {
	const plainly = 15 // zeros of a number up to which a double keeps each
	switch {
	case t.Kind == Int && fraction == 0 && t.Least == 0 && t.Most == 0:
	case t.Kind == Fixed && fraction <= t.Scale:
		more := t.Scale - fraction
		if more > plainly || n > pow10(plainly-more) || n < -pow10(plainly-more) {
			return false
		}
		if n *= pow10(more); t.Precision <= plainly && (n >= pow10(t.Precision) || n <= -pow10(t.Precision)) {
			return false
		}
	default:
		return false
	}
	c.AppendNum(n)
	return true
}

// doubleKeeps reports whether n / 10^scale comes back the same, at that scale, from an IEEE 754 double (or from a
// 64-bit whole number, where it is whole).
func doubleKeeps(n int64, scale int) bool {
	const exact = 1e15 // every decimal of 15 digits does
	if -exact <= n && n <= exact || n%pow10(scale) == 0 {
		return true
	}
	back, ok := FloatToFixed(FixedToFloat(n, scale), scale)
	return ok && back == n
}

func putDecimal(c *Column, t Type, d Digits) error {
	if err := d.fits(t); err != nil {
		return err
	}
	var buf [64]byte
	text := d.Append(buf[:0])
	if t.Storage == AsDouble && !textKeeps(text) {
		return errTooPrecise
	}
	c.AppendBytes(text)
	return nil
}

// Append adds the number in its canonical text: no zero that could be left out, and no minus before a zero.
func (d Digits) Append(b []byte) []byte {
	fraction, whole := bytes.TrimRight(d.Fraction, "0"), bytes.TrimLeft(d.Whole, "0")
	if d.Negative && len(fraction)+len(whole) > 0 {
		b = append(b, '-')
	}
	if len(whole) == 0 {
		b = append(b, '0')
	}
	b = append(b, whole...)
	if len(fraction) > 0 {
		b = append(append(b, '.'), fraction...)
	}
	return b
}

func textKeeps(canonical []byte) bool {
	if _, err := strconv.ParseInt(string(canonical), 10, 64); err == nil {
		return true
	}
	f, err := strconv.ParseFloat(string(canonical), 64)
	return err == nil && string(FloatText(f)) == string(canonical)
}

func putFloat(c *Column, t Type, d Digits) error {
	var buf [64]byte
	text := string(d.Append(buf[:0]))
	bits := t.bits()
	f, err := strconv.ParseFloat(text, bits)
	if err != nil {
		return errTooLarge
	}
	if strconv.FormatFloat(f, 'f', -1, bits) != text {
		return errTooFine
	}
	if bits == 32 {
		f, err = strconv.ParseFloat(text, 64) // shown as it was written
	}
	c.AppendFloat(f)
	return err
}

// bits are those of a floating-point number.
func (t Type) bits() int {
	if t.Storage == AsSingle {
		return 32
	}
	return 64
}

// parseFloat also reads what only a floating-point number can be: an exponent, and the words NaN and Infinity where
// the column holds them.
func parseFloat(c *Column, t Type, cell []byte) error {
	if d, err := ScanNumber(cell); err == nil {
		return putFloat(c, t, d)
	} else if err == errLeadingZero {
		return err
	}
	switch string(cell) {
	case "NaN", "Infinity", "-Infinity":
		if !t.Special {
			return reason.New(reason.NotHeldNumber)
		}
		f, err := strconv.ParseFloat(string(cell), 64)
		c.AppendFloat(f)
		return err
	}
	e := bytes.IndexAny(cell, "eE")
	if e < 1 {
		return notNumber(cell)
	}
	d, err := ScanNumber(cell[:e])
	if _, bad := strconv.ParseInt(string(cell[e+1:]), 10, 32); err != nil || bad != nil {
		return notNumber(cell)
	}
	return putExponent(c, t, d, string(cell))
}

// putExponent adds a number with an exponent, whose digits are d.
func putExponent(c *Column, t Type, d Digits, text string) error {
	f, err := strconv.ParseFloat(text, t.bits())
	digits := bytes.Trim(append(bytes.Clone(d.Whole), d.Fraction...), "0")
	shortest := strconv.FormatFloat(f, 'e', -1, t.bits())
	mantissa, _, _ := bytes.Cut([]byte(shortest), []byte{'e'})
	mantissa = bytes.Trim(bytes.ReplaceAll(bytes.TrimPrefix(mantissa, []byte{'-'}), []byte{'.'}, nil), "0")
	switch {
	case err != nil:
		return errTooLarge
	case !bytes.Equal(digits, mantissa):
		return errTooFine
	}
	if t.bits() == 32 {
		f, err = strconv.ParseFloat(text, 64)
	}
	c.AppendFloat(f + 0) // no zero below zero
	return err
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
	var buf [32]byte
	text := strconv.AppendFloat(buf[:0], f, 'f', -1, 64)
	d, err := ScanNumber(text)
	if err != nil {
		return 0, false
	}
	return d.scaled(scale)
}

// FloatText is the shortest plain decimal that reads back as f, without an exponent; NaN and infinities in words.
func FloatText(f float64) []byte {
	switch {
	case f == 0:
		return []byte("0")
	case math.IsInf(f, 0) && f > 0:
		return []byte("Infinity")
	case math.IsInf(f, 0):
		return []byte("-Infinity")
	}
	return strconv.AppendFloat(nil, f, 'f', -1, 64)
}
