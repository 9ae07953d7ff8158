package formula

import (
	"cmp"
	"math/bits"

	"github.com/cockroachdb/apd/v3"

	"ladle/internal/core/value"
)

// Scaled is a number of few digits: so many Units of 10 to the power of -Places. Most numbers are: they are computed as whole
// numbers, with the outcome that the library has. What computes them is not ok where that would have too many digits.
type Scaled struct {
	Units  int64
	Places uint8
}

const (
	mostUnits  = 1e18 // two of them can be added
	mostPlaces = 18   // behind the point
)

// powers are those of 10, and scalable the units below which a number can be multiplied by each.
var powers, scalable = func() (all, most [mostPlaces + 1]int64) {
	for i, n := 0, int64(1); i <= mostPlaces; i, n = i+1, 10*n {
		all[i], most[i] = n, mostUnits/n
	}
	return all, most
}()

// NewScaled is a number of few digits, if it is one.
func NewScaled(units int64, places int) (Scaled, bool) {
	return Scaled{units, uint8(places)}, 0 <= places && places <= mostPlaces && -mostUnits < units && units < mostUnits
}

// ScaledOf is d, if it is a number of few digits.
func ScaledOf(d value.Digits) (Scaled, bool) {
	if len(d.Whole)+len(d.Fraction) > mostPlaces {
		return Scaled{}, false
	}
	n := int64(0)
	for _, part := range [2][]byte{d.Whole, d.Fraction} {
		for _, c := range part {
			n = n*10 + int64(c-'0')
		}
	}
	if d.Negative {
		n = -n
	}
	return Scaled{n, uint8(len(d.Fraction))}, true
}

// scaled is d, if it is a number of few digits.
func scaled(d *apd.Decimal) (Scaled, bool) {
	if d.Form != apd.Finite || !d.Coeff.IsInt64() {
		return Scaled{}, false
	}
	n := d.Coeff.Int64()
	if d.Negative {
		n = -n
	}
	return NewScaled(n, -int(d.Exponent))
}

// put makes r the number.
func (s Scaled) put(r *apd.Decimal) {
	r.Form, r.Negative, r.Exponent = apd.Finite, s.Units < 0, -int32(s.Places)
	r.Coeff.SetInt64(max(s.Units, -s.Units))
}

// Digits is the number. The digits stand in buf, which must be empty, or in memory of their own.
func (s Scaled) Digits(buf []byte) value.Digits {
	d := value.DigitsOf(uint64(max(s.Units, -s.Units)), int(s.Places), buf)
	d.Negative = s.Units < 0
	return d
}

// finer is the number in a smaller unit.
func (s Scaled) finer(places uint8) (Scaled, bool) {
	more := places - s.Places
	most := scalable[more]
	return Scaled{s.Units * powers[more], places}, -most < s.Units && s.Units < most
}

// aligned are two numbers in the smaller unit of theirs.
func aligned(x, y Scaled) (_, _ Scaled, ok bool) {
	switch {
	case x.Places < y.Places:
		x, ok = x.finer(y.Places)
		return x, y, ok
	case x.Places > y.Places:
		y, ok = y.finer(x.Places)
		return x, y, ok
	}
	return x, y, true
}

func (s Scaled) plus(o Scaled) (Scaled, bool) {
	x, y, ok := aligned(s, o)
	n := x.Units + y.Units
	return Scaled{n, x.Places}, ok && -mostUnits < n && n < mostUnits
}

func (s Scaled) minus(o Scaled) (Scaled, bool) { return s.plus(o.negated()) }

func (s Scaled) negated() Scaled { return Scaled{-s.Units, s.Places} }

func (s Scaled) absolute() Scaled { return Scaled{max(s.Units, -s.Units), s.Places} }

func (s Scaled) times(o Scaled) (Scaled, bool) {
	high, low := bits.Mul64(s.size(), o.size())
	return Scaled{signed(low, s, o), s.Places + o.Places}, high == 0 && low < mostUnits && s.Places+o.Places <= mostPlaces
}

// over is the quotient, where it comes out even.
func (s Scaled) over(o Scaled) (Scaled, bool) {
	ok := o.Units != 0 && s.size()%notDecimal(o.size()) == 0
	for ok && (s.Places < o.Places || s.Units%o.Units != 0) {
		if ok = s.Places < mostPlaces; ok {
			s, ok = s.finer(s.Places + 1)
		}
	}
	if !ok {
		return Scaled{}, false
	}
	return Scaled{s.Units / o.Units, s.Places - o.Places}, true
}

// notDecimal is n, which isn't zero, without its factors 2 and 5: only what it divides comes out even over n.
func notDecimal(n uint64) uint64 {
	n >>= bits.TrailingZeros64(n)
	for n%5 == 0 {
		n /= 5
	}
	return n
}

// overRounded is the quotient rounded to digits behind the point, halves away from zero: of what does not come out even, all
// digits that are left away tell nothing that the rest of the division doesn't. Not ok where it comes out even.
func (s Scaled) overRounded(o Scaled, places int) (Scaled, bool) {
	more := int(s.Places) - int(o.Places) // places that the quotient of the units has
	if o.Units == 0 || places > mostPlaces || places-more < -mostPlaces || places-more > mostPlaces {
		return Scaled{}, false
	}
	x, y := s.size(), o.size()
	high, low := uint64(0), x
	if more = places - more; more >= 0 {
		high, low = bits.Mul64(x, uint64(powers[more]))
	} else if high, y = bits.Mul64(y, uint64(powers[-more])); high > 0 {
		return Scaled{}, false
	}
	if high >= y {
		return Scaled{}, false
	}
	n, rest := bits.Div64(high, low, y)
	if rest >= y-rest {
		n++
	}
	return Scaled{signed(n, s, o), uint8(places)}, rest > 0 && n < mostUnits
}

// roundedOver is the quotient rounded to digits behind the point, whether it comes out even or not.
func roundedOver(s, o Scaled, places int) (Scaled, bool) {
	if made, ok := s.overRounded(o, places); ok {
		return made, true
	}
	even, ok := s.over(o)
	if ok {
		even, _ = even.Rounded(places)
	}
	return even, ok
}

// Rounded is the number rounded to digits behind the point, halves away from zero, and whether any but zeros were lost.
func (s Scaled) Rounded(places int) (rounded Scaled, lost bool) {
	if int(s.Places) <= places {
		return s, false
	}
	unit := powers[int(s.Places)-places]
	n, rest := s.Units/unit, s.Units%unit
	switch {
	case 2*rest >= unit:
		n++
	case -2*rest >= unit:
		n--
	}
	return Scaled{n, uint8(places)}, rest != 0
}

// compare is -1, 0 or 1 as s is less than o, the same, or greater.
func (s Scaled) compare(o Scaled) (int, bool) {
	x, y, ok := aligned(s, o)
	return cmp.Compare(x.Units, y.Units), ok
}

// size is the number of units without its sign.
func (s Scaled) size() uint64 { return uint64(max(s.Units, -s.Units)) }

// signed is n with the sign of a product or quotient.
func signed(n uint64, a, b Scaled) int64 {
	if (a.Units < 0) != (b.Units < 0) {
		return -int64(n)
	}
	return int64(n)
}
