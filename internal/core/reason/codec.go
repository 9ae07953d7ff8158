package reason

import (
	"encoding/binary"
	"errors"
)

// ErrDamaged is the error of bytes that Append did not write.
var ErrDamaged = errors.New("a reason can't be read back")

// texts are the arguments of a cause that are texts, in the order of writing.
func (c *Cause) texts() [12]*string {
	return [...]*string{&c.Table, (*string)(&c.Columns), &c.Type, &c.Least, &c.Most, (*string)(&c.List), &c.Text,
		&c.Has, &c.Near, &c.Value,
		&c.Theirs, (*string)(&c.Values)}
}

func (c *Cause) numbers() [2]*int64 { return [...]*int64{&c.Limit, &c.Length} }

func (c *Cause) flags() [2]*bool { return [...]*bool{&c.IsNew, &c.OldIDs} }

func (c *Cause) places() [2]*Place { return [...]*Place{&c.Other, &c.Third} }

// Append adds the cause to b in a form that Read takes back: its kind, a bit for each argument that is given, and
// these.
func (c Cause) Append(b []byte) []byte {
	mask, bit := uint32(0), uint32(1)
	b = append(b, byte(c.Kind), 0, 0, 0)
	at := len(b) - 3
	for _, t := range c.texts() {
		if *t != "" {
			mask |= bit
			b = appendText(b, *t)
		}
		bit <<= 1
	}
	for _, n := range c.numbers() {
		if *n != 0 {
			mask |= bit
			b = binary.AppendVarint(b, *n)
		}
		bit <<= 1
	}
	for _, p := range c.places() {
		if *p != (Place{}) {
			mask |= bit
			b = binary.AppendVarint(appendText(b, p.File), p.Line)
			b = append(b, flag(p.Sheet)|flag(p.Alone)<<1)
		}
		bit <<= 1
	}
	for _, f := range c.flags() {
		if *f {
			mask |= bit
		}
		bit <<= 1
	}
	b[at], b[at+1], b[at+2] = byte(mask), byte(mask>>8), byte(mask>>16)
	return b
}

func appendText(b []byte, text string) []byte {
	return append(binary.AppendUvarint(b, uint64(len(text))), text...)
}

func flag(on bool) byte {
	if on {
		return 1
	}
	return 0
}

// Read returns the cause at the start of b, which Append wrote, and what is behind it.
func Read(b []byte) (c Cause, rest []byte, err error) {
	if len(b) < 4 {
		return c, b, ErrDamaged
	}
	r := reader{rest: b[4:]}
	c.Kind = Kind(b[0])
	mask, bit := uint32(b[1])|uint32(b[2])<<8|uint32(b[3])<<16, uint32(1)
	given := func() bool {
		is := mask&bit != 0
		bit <<= 1
		return is
	}
	for _, t := range c.texts() {
		if given() {
			*t = r.text()
		}
	}
	for _, n := range c.numbers() {
		if given() {
			*n = r.number()
		}
	}
	for _, p := range c.places() {
		if given() {
			p.File, p.Line = r.text(), r.number()
			flags := r.byte()
			p.Sheet, p.Alone = flags&1 != 0, flags&2 != 0
		}
	}
	for _, f := range c.flags() {
		*f = given()
	}
	return c, r.rest, r.err
}

// reader takes values off the start of bytes.
type reader struct {
	rest []byte
	err  error
}

func (r *reader) take(n int) []byte {
	if n < 0 || n > len(r.rest) {
		r.err, r.rest = ErrDamaged, nil
		return nil
	}
	part := r.rest[:n]
	r.rest = r.rest[n:]
	return part
}

func (r *reader) text() string {
	length, n := binary.Uvarint(r.rest)
	if n <= 0 || length > uint64(len(r.rest)) {
		r.err, r.rest = ErrDamaged, nil
		return ""
	}
	r.take(n)
	return string(r.take(int(length)))
}

func (r *reader) number() int64 {
	v, n := binary.Varint(r.rest)
	if n <= 0 {
		n = -1
	}
	r.take(n)
	return v
}

func (r *reader) byte() byte {
	if b := r.take(1); len(b) == 1 {
		return b[0]
	}
	return 0
}
