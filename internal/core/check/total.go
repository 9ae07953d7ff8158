package check

import (
	"math/big"

	"github.com/cockroachdb/apd/v3"

	"ladle/internal/core/value"
)

// Total is what the values of one column come to.
type Total struct {
	Column string `json:"column"`
	Count  int64  `json:"count"`         // values that are not NULL
	Sum    string `json:"sum,omitempty"` // of numbers
	Least  string `json:"least,omitempty"`
	Most   string `json:"greatest,omitempty"`
}

// total adds values up, exactly but for floating-point ones.
type total struct {
	Total
	kind        value.Kind
	scale       int
	sum         big.Int
	decimal     apd.Decimal
	float       float64
	least, most value.Column
}

// exact is wide enough for the sum of 10^9 decimals of 131,000 digits.
var exact = apd.BaseContext.WithPrecision(150_000)

func (t *total) add(c *value.Column) {
	t.kind, t.scale = c.Kind, c.Scale
	var small int64 // the sum of values that are small enough not to overflow it
	for row, state := range c.States {
		if state != value.Given {
			continue
		}
		t.Count++
		switch {
		case c.Kind == value.Decimal:
			var d apd.Decimal
			if _, _, err := d.SetString(string(c.Bytes(row))); err == nil {
				_, _ = exact.Add(&t.decimal, &t.decimal, &d)
			}
		case c.Kind == value.Float:
			t.float += c.Float(row)
		case -1<<40 < c.Nums[row] && c.Nums[row] < 1<<40:
			small += c.Nums[row]
		default:
			t.sum.Add(&t.sum, big.NewInt(c.Nums[row]))
		}
		t.least = extreme(t.least, c, row, -1)
		t.most = extreme(t.most, c, row, 1)
	}
	t.sum.Add(&t.sum, big.NewInt(small))
}

// extreme is the one of the value in best and that in slot row of c that lies further in the direction of sign.
func extreme(best value.Column, c *value.Column, row, sign int) value.Column {
	if best.Len() > 0 && value.Compare(c, row, &best, 0)*sign <= 0 {
		return best
	}
	best.Reset()
	best.Kind, best.Scale = c.Kind, c.Scale
	best.AppendFrom(c, row)
	return best
}

func (t *total) result() Total {
	if t.Count == 0 {
		return t.Total
	}
	t.Least, t.Most = t.least.Text(0), t.most.Text(0)
	switch t.kind {
	case value.Int, value.Fixed:
		t.Sum = apd.NewWithBigInt(new(apd.BigInt).SetMathBigInt(&t.sum), -int32(t.scale)).Text('f')
	case value.Decimal:
		t.Sum = t.decimal.Text('f')
	case value.Float:
		t.Sum = string(value.FloatText(t.float))
	}
	return t.Total
}
