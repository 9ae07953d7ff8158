package formula

import (
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

// quickly makes r what do makes of two numbers of few digits, if that has few digits too.
func quickly(r, a, b *apd.Decimal, do func(x, y Scaled) (Scaled, bool)) bool {
	x, ok := scaled(a)
	y, both := scaled(b)
	if !ok || !both {
		return false
	}
	s, ok := do(x, y)
	if ok {
		s.put(r)
	}
	return ok
}

func add(r, a, b *apd.Decimal) error {
	if quickly(r, a, b, Scaled.plus) {
		return nil
	}
	return condition(exact.Add(r, a, b))
}

func subtract(r, a, b *apd.Decimal) error {
	if quickly(r, a, b, Scaled.minus) {
		return nil
	}
	return condition(exact.Sub(r, a, b))
}

func multiply(r, a, b *apd.Decimal) error {
	if quickly(r, a, b, Scaled.times) {
		return nil
	}
	return condition(exact.Mul(r, a, b))
}

func divide(r, a, b *apd.Decimal) error {
	if b.IsZero() {
		return NoResult("the formula divides by zero")
	}
	if quickly(r, a, b, Scaled.over) {
		return nil
	}
	return condition(quotient.Quo(r, a, b))
}

// divideRounded is divide, then Round.
func divideRounded(r, a, b *apd.Decimal, places int) error {
	if quickly(r, a, b, func(x, y Scaled) (Scaled, bool) { return x.overRounded(y, places) }) {
		return nil
	}
	if err := divide(r, a, b); err != nil {
		return err
	}
	return Round(r, r, places)
}

// Round rounds d to digits behind the point; halves round away from zero.
func Round(to, d *apd.Decimal, places int) error {
	if int(d.Exponent) >= -places {
		to.Set(d)
		return nil
	}
	if s, ok := scaled(d); ok {
		s, _ = s.Rounded(places)
		s.put(to)
		return nil
	}
	c := apd.BaseContext.WithPrecision(uint32(max(d.NumDigits(), 1)) + uint32(places) + 1)
	c.Rounding = apd.RoundHalfUp // of the size, whatever the sign
	return condition(c.Quantize(to, d, -int32(places)))
}

// compareNumbers is -1, 0 or 1 as a is less than b, the same, or greater.
func compareNumbers(a, b *apd.Decimal) int {
	if x, ok := scaled(a); ok {
		if y, ok := scaled(b); ok {
			if n, ok := x.compare(y); ok {
				return n
			}
		}
	}
	return a.Cmp(b)
}
