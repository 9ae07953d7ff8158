package formula

import (
	"testing"

	"github.com/cockroachdb/apd/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/value"
)

// FuzzFewDigits holds what is computed with whole numbers against what the library makes of the same decimals.
func FuzzFewDigits(f *testing.F) {
	for _, pair := range [][2]string{{"1205.75", "0.1"}, {"-0.05", "3"}, {"999999999999999999", "999999999999999999"}, {"0", "-7.50"},
		{"10", "4"}, {"0.000000000000000001", "1000000000000"}, {"99999999999999999.9", "0.01"}, {"1", "3"}, {"-2.5", "0.5"}} {
		f.Add(pair[0], pair[1], 1)
	}
	f.Fuzz(func(t *testing.T, one, other string, places int) {
		if one == "" || other == "" || len(one)+len(other) > 500 || places < 0 || places > 20 {
			return
		}
		x, err := value.ScanNumber([]byte(one))
		y, also := value.ScanNumber([]byte(other))
		if err != nil || also != nil {
			return
		}
		var a, b Value
		a.SetNumber(x)
		b.SetNumber(y)
		halves := apd.BaseContext.WithPrecision(1000)
		halves.Rounding = apd.RoundHalfUp
		for name, ways := range map[string][2]func(r, a, b *apd.Decimal) error{
			"+": {add, func(r, a, b *apd.Decimal) error { return condition(exact.Add(r, a, b)) }},
			"-": {subtract, func(r, a, b *apd.Decimal) error { return condition(exact.Sub(r, a, b)) }},
			"*": {multiply, func(r, a, b *apd.Decimal) error { return condition(exact.Mul(r, a, b)) }},
			"/": {divide, func(r, a, b *apd.Decimal) error {
				if b.IsZero() {
					return NoResult("the formula divides by zero")
				}
				return condition(quotient.Quo(r, a, b))
			}},
		} {
			quick, slow := Value{Kind: Number}, Value{Kind: Number}
			quickly, slowly := ways[0](&quick.Number, &a.Number, &b.Number), ways[1](&slow.Number, &a.Number, &b.Number)
			require.Equal(t, slowly, quickly, "%s %s %s", one, name, other)
			if slowly != nil {
				continue
			}
			assert.Zero(t, quick.Number.Cmp(&slow.Number), "%s %s %s", one, name, other)
			if name != "/" { // of which the library gives 40 digits, most of them zeros
				assert.Equal(t, slow.Number.Exponent, quick.Number.Exponent, "%s %s %s", one, name, other)
			}
			if int(slow.Number.Exponent) < -places {
				require.NoError(t, Round(&quick.Number, &quick.Number, places))
				_, err := halves.Quantize(&slow.Number, &slow.Number, -int32(places))
				require.NoError(t, err)
				assert.Zero(t, quick.Number.Cmp(&slow.Number), "%s %s %s to %d digits", one, name, other, places)
			}
		}
		quick, slow := Value{Kind: Number}, Value{Kind: Number}
		if err := divide(&slow.Number, &a.Number, &b.Number); err == nil {
			require.NoError(t, Round(&slow.Number, &slow.Number, places))
			require.NoError(t, divideRounded(&quick.Number, &a.Number, &b.Number, places))
			assert.Zero(t, quick.Number.Cmp(&slow.Number), "%s / %s to %d digits", one, other, places)
			assert.Equal(t, slow.Number.Exponent, quick.Number.Exponent, "%s / %s to %d digits", one, other, places)
		} else {
			require.Equal(t, err, divideRounded(&quick.Number, &a.Number, &b.Number, places))
		}
		assert.Equal(t, a.Number.Cmp(&b.Number), compareNumbers(&a.Number, &b.Number), "%s against %s", one, other)
	})
}
