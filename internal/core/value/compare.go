package value

import (
	"cmp"

	"github.com/cockroachdb/apd/v3"
)

// Compare orders slot i of a and slot j of b, values of one kind that are Given: by size, by time, or by their bytes.
func Compare(a *Column, i int, b *Column, j int) int {
	switch a.Kind {
	case Text, Bytes:
		return cmp.Compare(string(a.Bytes(i)), string(b.Bytes(j)))
	case Float:
		return cmp.Compare(a.Float(i), b.Float(j))
	case Decimal:
		var x, y apd.Decimal
		_, _, errX := x.SetString(string(a.Bytes(i)))
		_, _, errY := y.SetString(string(b.Bytes(j)))
		if errX != nil || errY != nil {
			return cmp.Compare(string(a.Bytes(i)), string(b.Bytes(j)))
		}
		return x.Cmp(&y)
	}
	return cmp.Compare(a.Nums[i], b.Nums[j])
}
