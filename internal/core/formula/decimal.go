package formula

import (
	"cmp"
	"math/bits"

	"github.com/cockroachdb/apd/v3"
)

// exact computes without rounding.
var exact = apd.BaseContext.WithPrecision(0)

// quotient rounds what a division can't give exactly to 40 digits.
var quotient = func() *apd.Context {
	c := apd.BaseContext.WithPrecision(40)
	c.Rounding = apd.RoundHalfEven
	return c
}()

func condition(c apd.Condition, err error) error {
	if err != nil || c.Overflow() || c.InvalidOperation() {
		return NoResult("the result is too large")
	}
	return nil
}

func add(r, a, b *apd.Decimal) error {
	if x, y, exponent, ok := aligned(a, b); ok {
		setUnits(r, x+y, exponent)
		return nil
	}
	return condition(exact.Add(r, a, b))
}

func subtract(r, a, b *apd.Decimal) error {
	if x, y, exponent, ok := aligned(a, b); ok {
		setUnits(r, x-y, exponent)
		return nil
	}
	return condition(exact.Sub(r, a, b))
}

func multiply(r, a, b *apd.Decimal) error {
	x, ok := units(a)
	y, both := units(b)
	if high, low := bits.Mul64(uint64(max(x, -x)), uint64(max(y, -y))); ok && both && high == 0 && low < 1<<63 {
		n := int64(low)
		if (x < 0) != (y < 0) {
			n = -n
		}
		setUnits(r, n, a.Exponent+b.Exponent)
		return nil
	}
	return condition(exact.Mul(r, a, b))
}

func divide(r, a, b *apd.Decimal) error {
	if b.IsZero() {
		return NoResult("the formula divides by zero")
	}
	if divideEven(r, a, b) {
		return nil
	}
	return condition(quotient.Quo(r, a, b))
}

// divideEven divides numbers of few digits, if the quotient has few digits too.
func divideEven(r, a, b *apd.Decimal) bool {
	x, ok := units(a)
	y, both := units(b)
	exponent := a.Exponent - b.Exponent
	if !ok || !both || exponent > 0 {
		return false
	}
	for ; x%y != 0; exponent-- {
		if x, ok = scaled(x, 1); !ok {
			return false
		}
	}
	setUnits(r, x/y, exponent)
	return true
}

// divideRounded rounds a quotient to digits behind the point, halves away from zero, as divide and Round do after each other:
// of numbers of few digits, the 40 digits of what does not come out even tell nothing that its rest doesn't.
func divideRounded(r, a, b *apd.Decimal, places int) error {
	x, ok := units(a)
	y, both := units(b)
	if ok && both && y != 0 && places <= mostPlaces {
		if n, ok := roundedQuotient(uint64(max(x, -x)), uint64(max(y, -y)), int(a.Exponent-b.Exponent)+places); ok {
			if (x < 0) != (y < 0) {
				n = -n
			}
			setUnits(r, n, -int32(places))
			return nil
		}
	}
	if err := divide(r, a, b); err != nil {
		return err
	}
	return Round(r, r, places)
}

// roundedQuotient is x times 10 to the power of places, divided by y; not ok where that comes out even, or has many digits.
func roundedQuotient(x, y uint64, places int) (int64, bool) {
	if places < -mostPlaces || places > mostPlaces {
		return 0, false
	}
	if places < 0 {
		high, low := bits.Mul64(y, uint64(powers[-places]))
		if high > 0 {
			return 0, false
		}
		y, places = low, 0
	}
	high, low := bits.Mul64(x, uint64(powers[places]))
	if high >= y {
		return 0, false
	}
	n, rest := bits.Div64(high, low, y)
	if rest >= y-rest {
		n++
	}
	return int64(n), rest > 0 && n < mostUnits
}

// Round rounds d to digits behind the point; halves round away from zero.
func Round(to, d *apd.Decimal, places int) error {
	if int(d.Exponent) >= -places {
		to.Set(d)
		return nil
	}
	if n, ok := units(d); ok {
		unit := powers[-int(d.Exponent)-places]
		kept, rest := n/unit, n%unit
		switch {
		case 2*rest >= unit:
			kept++
		case -2*rest >= unit:
			kept--
		}
		setUnits(to, kept, -int32(places))
		return nil
	}
	c := apd.BaseContext.WithPrecision(uint32(max(d.NumDigits(), 1)) + uint32(places) + 1)
	c.Rounding = apd.RoundHalfUp // of the size, whatever the sign
	return condition(c.Quantize(to, d, -int32(places)))
}

// compareNumbers is -1, 0 or 1 as a is less than b, the same, or greater.
func compareNumbers(a, b *apd.Decimal) int {
	if x, y, _, ok := aligned(a, b); ok {
		return cmp.Compare(x, y)
	}
	return a.Cmp(b)
}

// Most numbers have few digits: they are computed as whole numbers, with the outcome that the library has.

const (
	mostUnits  = 1e18 // two of them can be added
	mostPlaces = 18   // behind the point
)

// units is a number in the unit of its last digit, if it is one of few digits.
func units(d *apd.Decimal) (int64, bool) {
	if d.Form != apd.Finite || !d.Coeff.IsInt64() || d.Exponent > 0 || d.Exponent < -mostPlaces {
		return 0, false
	}
	n := d.Coeff.Int64()
	if d.Negative {
		n = -n
	}
	return n, -mostUnits < n && n < mostUnits
}

// aligned are two numbers of few digits in the same unit, the smaller one of theirs: 10 to the exponent.
func aligned(a, b *apd.Decimal) (x, y int64, exponent int32, ok bool) {
	x, ok = units(a)
	y, both := units(b)
	if !ok || !both {
		return 0, 0, 0, false
	}
	if exponent = min(a.Exponent, b.Exponent); a.Exponent != b.Exponent {
		x, ok = scaled(x, a.Exponent-exponent)
		y, both = scaled(y, b.Exponent-exponent)
	}
	return x, y, exponent, ok && both
}

// scaled is n times 10 to the power of places, if that has few digits.
func scaled(n int64, places int32) (int64, bool) {
	most := mostUnits / powers[places]
	return n * powers[places], -most < n && n < most
}

// powers are those of 10.
var powers = func() (all [mostPlaces + 1]int64) {
	all[0] = 1
	for i := range mostPlaces {
		all[i+1] = 10 * all[i]
	}
	return all
}()

func setUnits(r *apd.Decimal, n int64, exponent int32) {
	r.Form, r.Negative, r.Exponent = apd.Finite, n < 0, exponent
	r.Coeff.SetInt64(max(n, -n))
}
