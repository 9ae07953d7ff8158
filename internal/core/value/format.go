package value

import (
	"encoding/hex"
	"strconv"
)

// AppendText adds slot i as people read it: plain decimals, ISO dates, true and false; nothing for Null.
func (c *Column) AppendText(b []byte, i int) []byte {
	if c.States[i] != Given {
		return b
	}
	switch c.Kind {
	case Text, Decimal:
		return append(b, c.Bytes(i)...)
	case Bytes:
		return hex.AppendEncode(b, c.Bytes(i))
	case Int:
		return strconv.AppendInt(b, c.Nums[i], 10)
	case Fixed:
		return AppendFixed(b, c.Nums[i], c.Scale)
	case Float:
		return append(b, FloatText(c.Float(i))...)
	case Bool:
		return strconv.AppendBool(b, c.Nums[i] != 0)
	case Date:
		return AppendDate(b, c.Nums[i])
	case Time:
		return AppendTime(b, c.Nums[i], 0)
	}
	return AppendDateTime(b, c.Nums[i], ' ', 0)
}

// Text is slot i as people read it.
func (c *Column) Text(i int) string { return string(c.AppendText(nil, i)) }

// AppendFixed adds n / 10^scale with all its digits after the point.
func AppendFixed(b []byte, n int64, scale int) []byte {
	u := uint64(n)
	if n < 0 {
		b, u = append(b, '-'), -u
	}
	if scale == 0 {
		return strconv.AppendUint(b, u, 10)
	}
	unit := uint64(pow10(scale))
	b = append(strconv.AppendUint(b, u/unit, 10), '.')
	fraction := strconv.FormatUint(u%unit, 10)
	for range scale - len(fraction) {
		b = append(b, '0')
	}
	return append(b, fraction...)
}
