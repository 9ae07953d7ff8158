package value

import (
	"bytes"
	"encoding/binary"
	"math"

	"golang.org/x/text/collate"
	"golang.org/x/text/language"
)

// Orderer writes values as keys whose bytes are in the order of the values: numbers, dates and times by size, texts
// alphabetically, by the Unicode Collation Algorithm (UTS 10) without a language, and blanks last. It serves one
// goroutine.
type Orderer struct {
	alphabet *collate.Collator
	buf      collate.Buffer
}

// NewOrderer returns an Orderer.
func NewOrderer() *Orderer { return &Orderer{alphabet: collate.New(language.Und)} }

const (
	orderedGiven = 1
	orderedBlank = 2
)

// AppendKey appends the key of slot i of a column to b. No key is the beginning of another one, so keys of several
// columns can follow each other.
func (o *Orderer) AppendKey(b []byte, c *Column, i int) []byte {
	if c.States[i] != Given {
		return append(b, orderedBlank)
	}
	b = append(b, orderedGiven)
	switch c.Kind {
	case Text:
		o.buf.Reset()
		return appendBytesKey(b, o.alphabet.Key(&o.buf, c.Bytes(i)))
	case Decimal:
		return AppendNumberKey(b, c.Bytes(i))
	case Bytes:
		return appendBytesKey(b, c.Bytes(i))
	case Float:
		bits := uint64(c.Nums[i])
		if math.Signbit(c.Float(i)) {
			return binary.BigEndian.AppendUint64(b, ^bits)
		}
		return binary.BigEndian.AppendUint64(b, bits|1<<63)
	}
	return AppendIntKey(b, c.Nums[i])
}

// AppendIntKey appends a whole number as a key whose bytes are in the order of the numbers.
func AppendIntKey(b []byte, n int64) []byte { return binary.BigEndian.AppendUint64(b, uint64(n)^1<<63) }

// appendBytesKey appends bytes with an end that sorts before any byte.
func appendBytesKey(b, text []byte) []byte {
	for _, c := range text {
		if b = append(b, c); c == 0 {
			b = append(b, 0xff)
		}
	}
	return append(b, 0, 0)
}

// AppendNumberKey appends a decimal, given in its canonical text, as a key whose bytes are in the order of the numbers:
// its sign, the places of its first digit, its digits.
func AppendNumberKey(b, text []byte) []byte {
	const negative, zero, positive = 1, 2, 3
	minus := len(text) > 0 && text[0] == '-'
	whole, fraction, _ := bytes.Cut(bytes.TrimPrefix(text, []byte("-")), []byte("."))
	whole = bytes.TrimLeft(whole, "0")
	digits, places := append(bytes.Clone(whole), fraction...), len(whole)
	if len(whole) == 0 {
		digits = bytes.TrimLeft(fraction, "0")
		places = len(digits) - len(fraction)
	}
	if digits = bytes.TrimRight(digits, "0"); len(digits) == 0 {
		return append(b, zero)
	}
	key := binary.BigEndian.AppendUint32(nil, uint32(places)^1<<31)
	key = append(append(key, digits...), 0)
	if !minus {
		return append(append(b, positive), key...)
	}
	b = append(b, negative)
	for _, c := range key {
		b = append(b, ^c)
	}
	return b
}
