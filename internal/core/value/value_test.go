package value

import (
	"bytes"
	"fmt"
	"math"
	"strconv"
	"strings"
	"testing"
	"time"

	"ladle/internal/seeded"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	money := Type{Kind: Fixed, Precision: 10, Scale: 2}
	real18 := Type{Kind: Fixed, Precision: 18, Scale: 2, Storage: AsDouble}
	free := Type{Kind: Decimal, Storage: AsDouble}
	minutes := Type{Kind: DateTime, Step: 60_000_000}
	cases := []struct {
		name string
		t    Type
		cell string
		want string // as people read it; "" for a problem
		why  string
	}{
		{"text as it stands", Type{}, " a ", " a ", ""},
		{"text of just the length, in characters", Type{Length: 3}, "äöü", "äöü", ""},
		{"text that would be cut", Type{Length: 3}, "äöüß", "", "is longer than the 3 characters"},
		{"text that is not UTF-8", Type{}, "\xff", "", "is not valid UTF-8"},
		{"text with a NUL", Type{}, "a\x00", "", "holds a NUL character"},
		{"text that would become a number", Type{Storage: AsNumberLook}, "007", "", "would be stored as a number"},
		{"a whole number", Type{Kind: Int}, "-42", "-42", ""},
		{"the least whole number", Type{Kind: Int}, "-9223372036854775808", "-9223372036854775808", ""},
		{"one too large", Type{Kind: Int}, "9223372036854775808", "", "is too large"},
		{"a whole number with a fraction of nothing", Type{Kind: Int}, "7.00", "7", ""},
		{"a whole number with a fraction", Type{Kind: Int}, "7.5", "", "has a fraction"},
		{"a leading zero", Type{Kind: Int}, "007", "", "starts with a zero"},
		{"thousands", money, "1,234", "", "has separators"},
		{"a currency", money, "€12", "", "has a currency sign"},
		{"a unit", money, "12 t", "", `has " t" in it`},
		{"blanks", money, " 12", "", "has blanks around it"},
		{"an exponent", money, "1e5", "", `has "e" in it`},
		{"words", money, "n/a", "", "is not a number"},
		{"a plus", money, "+5", "", `has "+" in it`},
		{"a point without digits", money, "5.", "", "is not a plain number"},
		{"money", money, "-0.5", "-0.50", ""},
		{"zeros behind the scale", money, "12.5000", "12.50", ""},
		{"no whole part", money, ".5", "0.50", ""},
		{"what would be rounded", money, "1.005", "", "would be rounded"},
		{"what would overflow", money, "123456789", "", "more than 8 digits before the point"},
		{"eighteen digits", Type{Kind: Fixed, Precision: 18, Scale: 2}, "1234567890123456.78", "1234567890123456.78",
			""},
		{"eighteen digits in a double", real18, "1234567890123456.78", "", "more digits than the database keeps"},
		{"fifteen digits in a double", real18, "1234567890123.45", "1234567890123.45", ""},
		{"a decimal of any size", Type{Kind: Decimal}, "-00", "", "starts with a zero"},
		{"a decimal without needless zeros", Type{Kind: Decimal}, "-12345678901234567890.10", "-12345678901234567890.1",
			""},
		{"a decimal that a double keeps", free, "0.1", "0.1", ""},
		{"a decimal that a double loses", free, "0.1234567890123456789", "", "more digits than the database keeps"},
		{"minus nothing", Type{Kind: Decimal}, "-0.0", "0", ""},
		{"a float", Type{Kind: Float}, "0.30", "0.3", ""},
		{"a float that loses digits", Type{Kind: Float}, "12345678901234567890", "",
			"more digits than a floating-point number keeps"},
		{"yes", Type{Kind: Bool}, "TRUE", "true", ""},
		{"neither yes nor no", Type{Kind: Bool}, "ja", "", "neither true nor false"},
		{"bytes", Type{Kind: Bytes}, "00fF", "00ff", ""},
		{"half a byte", Type{Kind: Bytes}, "0", "", "hexadecimal"},
		{"a date", Type{Kind: Date}, "2024-02-29", "2024-02-29", ""},
		{"a day that isn't", Type{Kind: Date}, "2026-02-29", "", "is not a date"},
		{"a date in another style", Type{Kind: Date}, "14/03/2026", "", "is not a date"},
		{"a date with a time", Type{Kind: Date}, "2026-03-31 10:00", "", "is more than a date"},
		{"a time", Type{Kind: Time}, "23:59:59.5", "23:59:59.5", ""},
		{"a time past midnight", Type{Kind: Time}, "24:00", "", "is past 24:00"},
		{"a date and time", Type{Kind: DateTime}, "1969-12-31T23:59:59.000001", "1969-12-31 23:59:59.000001", ""},
		{"a date without a time", Type{Kind: DateTime}, "2026-03-31", "", "is a date without a time"},
		{"a zone", Type{Kind: DateTime}, "2026-03-31 10:00Z", "", "has a time zone, which the column would lose"},
		{"no zone", Type{Kind: DateTime, Zoned: true}, "2026-03-31 10:00", "", "has no time zone"},
		{"an offset", Type{Kind: DateTime, Zoned: true}, "2026-03-31T01:00+02:30", "2026-03-30 22:30:00", ""},
		{"a small whole number", Type{Kind: Int, Least: -128, Most: 127}, "128", "", "is not between -128 and 127"},
		{"a word that is not among those allowed", Type{Among: &[]string{"in", "out"}}, "away", "",
			"is not one of in, out"},
		{"blanks that mean nothing", Type{Length: 2, Storage: AsPadded}, "N1   ", "N1", ""},
		{"a UUID", Type{Storage: AsUUID}, "0194F7A0-0000-7000-8000-00000000000A",
			"0194f7a0-0000-7000-8000-00000000000a", ""},
		{"no UUID", Type{Storage: AsUUID}, "{0194F7A0}", "", "is not a UUID"},
		{"JSON", Type{Storage: AsJSON}, `{"b": 1.0, "a": [ "<" ]}`, `{"a":["<"],"b":1.0}`, ""},
		{"no JSON", Type{Storage: AsJSON}, `{"a": 1} x`, "", "is not JSON"},
		{"a single-precision number", Type{Kind: Float, Storage: AsSingle}, "0.1", "0.1", ""},
		{"too many digits for one", Type{Kind: Float, Storage: AsSingle}, "0.123456789", "", "more digits"},
		{"seconds where rows have minutes", minutes, "2026-03-31 10:00:01", "",
			"more precise than the times in this column"},
		{"minutes where rows have minutes", minutes, "2026-03-31 10:01", "2026-03-31 10:01:00", ""},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			column := NewColumn(c.t)
			err := Parse(&column, c.t, []byte(c.cell))
			require.Equal(t, 1, column.Len())
			if c.why != "" {
				require.ErrorContains(t, err, c.why)
				assert.Equal(t, Bad, column.States[0])
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.want, column.Text(0))
		})
	}
}

// FuzzParse: what is taken reads back as the same value from its own text, and nothing makes it panic.
func FuzzParse(f *testing.F) {
	for _, seed := range []string{"1.50", "-0.0", "2026-03-31 10:00:00.25", "true", "00ff", "€ 1,2",
		"9223372036854775807", ".5"} {
		for kind := range uint8(10) {
			f.Add(kind, seed)
		}
	}
	f.Fuzz(func(t *testing.T, kind uint8, cell string) {
		typ := Type{Kind: Kind(kind % 10), Precision: 12, Scale: 3, Storage: AsDouble}
		a, b := NewColumn(typ), NewColumn(typ)
		if Parse(&a, typ, []byte(cell)) != nil || a.States[0] == Null {
			return
		}
		text := a.Text(0)
		require.NoError(t, Parse(&b, typ, []byte(text)), "%q was taken, its text %q is not", cell, text)
		assert.True(t, a.Same(0, &b, 0), "%q and its text %q differ", cell, text)
	})
}

func TestDatesAreThoseOfTheCalendar(t *testing.T) {
	for day := time.Date(1, 1, 1, 0, 0, 0, 0, time.UTC); day.Year() < 10_000; day = day.AddDate(0, 0, 61) {
		c := Column{Kind: Date}
		require.NoError(t, Parse(&c, Type{Kind: Date}, []byte(day.Format(time.DateOnly))))
		require.Equal(t, day.Unix()/86400, c.Nums[0], day)
		require.Equal(t, day.Format(time.DateOnly), c.Text(0))
	}
}

func TestFixedNumbersSurviveDoubles(t *testing.T) {
	for _, n := range []int64{0, 1, -1, 105, 999_999_999_999_999, -123_456_789_012_345} {
		for scale := range 10 {
			back, ok := FloatToFixed(FixedToFloat(n, scale), scale)
			assert.True(t, ok && back == n, "%d at scale %d came back as %d", n, scale, back)
		}
	}
	_, ok := FloatToFixed(0.125, 2)
	assert.False(t, ok, "digits may not be lost")
	_, ok = FloatToFixed(math.Inf(1), 2)
	assert.False(t, ok)
}

func TestIdentityTellsSlotsApart(t *testing.T) {
	texts := []string{"", "a", "ab", "b", "a\x00", strings.Repeat("x", 300)}
	c := Column{Kind: Text}
	for _, s := range texts {
		c.AppendBytes([]byte(s))
	}
	c.AppendState(Null)
	seen := map[string]bool{}
	for i := range c.Len() {
		for j := range c.Len() {
			id := string(c.AppendIdentity(c.AppendIdentity(nil, i), j))
			assert.False(t, seen[id], "pair %d, %d", i, j)
			seen[id] = true
			assert.Equal(t, i == j, c.Same(i, &c, j))
		}
	}
}

func TestCompare(t *testing.T) {
	for kind, ordered := range map[Kind][]string{
		Decimal: {"-10", "-9.5", "0", "9", "10.01"}, Int: {"-2", "10", "11"}, Float: {"-0.5", "0.25", "3"},
		Text: {"a", "b"}, Date: {"1999-12-31", "2000-01-01"},
	} {
		c := Column{Kind: kind}
		for _, s := range ordered {
			require.NoError(t, Parse(&c, Type{Kind: kind}, []byte(s)))
		}
		for i := range ordered {
			for j := range ordered {
				assert.Equal(t, strconv.Itoa(max(-1, min(1, i-j))), strconv.Itoa(Compare(&c, i, &c, j)), "%s %s %s",
					kind, ordered[i], ordered[j])
			}
		}
	}
}

// TestWhatIsShownReadsBack: for every kind, the canonical text of any value is read as the same value.
func TestWhatIsShownReadsBack(t *testing.T) {
	r := seeded.Rand(t)
	for name, typ := range map[string]Type{
		"text": {}, "whole": {Kind: Int}, "fixed": {Kind: Fixed, Precision: 18, Scale: 4}, "decimal": {Kind: Decimal},
		"float":  {Kind: Float, Special: true},
		"single": {Kind: Float, Storage: AsSingle}, "truth": {Kind: Bool}, "date": {Kind: Date}, "time": {Kind: Time},
		"span": {Kind: Time, Long: true}, "moment": {Kind: DateTime},
		"bytes": {Kind: Bytes}, "uuid": {Storage: AsUUID}, "json": {Storage: AsJSON},
	} {
		for range 2000 {
			a, b := NewColumn(typ), NewColumn(typ)
			switch {
			case typ.Storage == AsUUID:
				a.AppendBytes(fmt.Appendf(nil, "%08x-%04x-7%03x-8%03x-%012x", r.Uint32(), r.Uint32N(1<<16),
					r.Uint32N(1<<12), r.Uint32N(1<<12), r.Uint64N(1<<48)))
			case typ.Storage == AsJSON:
				a.AppendBytes(fmt.Appendf(nil, `{"a":[%d,"<%x>",null],"b":%t}`, r.Int64(), r.Uint32(), r.IntN(2) == 0))
			case typ.Kind == Text:
				a.AppendBytes([]byte(strings.Repeat("é", r.IntN(4)) + "x"))
			case typ.Kind == Bytes:
				a.AppendBytes([]byte{byte(r.Uint32()), byte(r.Uint32())})
			case typ.Kind == Decimal:
				a.AppendBytes(Digits{r.IntN(2) == 0, fmt.Append(nil, r.Uint64()),
					fmt.Append(nil, r.Uint64())}.Append(nil))
			case typ.Storage == AsSingle:
				a.AppendFloat(float64(r.IntN(100000)) / 8)
			case typ.Kind == Float:
				a.AppendFloat([]float64{r.NormFloat64(), math.Inf(1), math.Inf(-1), math.NaN(),
					math.Ldexp(r.Float64(), r.IntN(600)-300)}[r.IntN(5)])
			case typ.Kind == Bool:
				a.AppendNum(r.Int64N(2))
			case typ.Kind == Date:
				a.AppendNum(r.Int64N(3652059) - 719162) // the years 1 to 9999
			case typ.Long:
				a.AppendNum(r.Int64N(2e15) - 1e15)
			case typ.Kind == Time:
				a.AppendNum(r.Int64N(dayOf))
			case typ.Kind == DateTime:
				a.AppendNum((r.Int64N(3652059)-719162)*dayOf + r.Int64N(dayOf))
			case typ.Kind == Fixed:
				a.AppendNum(r.Int64N(2e17) - 1e17)
			default:
				a.AppendNum(int64(r.Uint64()))
			}
			text := a.Text(0)
			require.NoError(t, Parse(&b, typ, []byte(text)), "%s %q", name, text)
			require.True(t, a.Same(0, &b, 0), "%s %q comes back as %q", name, text, b.Text(0))
		}
	}
}

// TestPlainlyIsTheSameAsClosely: what the quick ways add to a column is what the others add.
func TestPlainlyIsTheSameAsClosely(t *testing.T) {
	r := seeded.Rand(t)
	for _, typ := range []Type{{Kind: Int}, {Kind: Fixed, Precision: 10, Scale: 2},
		{Kind: Fixed, Precision: 18, Scale: 6, Storage: AsDouble}, {Kind: Fixed, Precision: 15, Scale: 2}, {Kind: Fixed, Precision: 18, Scale: 10},
		{Kind: Fixed, Precision: 18, Scale: 18}, {Kind: Decimal}, {}} {
		taken := 0
		for range 3000 {
			n, fraction := pow10(r.IntN(16))+r.Int64N(3)-1, r.IntN(5) // about where there is a digit more, or few
			if r.IntN(2) == 0 {
				n = r.Int64N(2*n+1) - n
			}
			a, b := NewColumn(typ), NewColumn(typ)
			if !PutScaled(&a, &typ, n, fraction) {
				require.Zero(t, a.Len())
				continue
			}
			taken++
			d, err := ScanNumber(AppendFixed(nil, n, fraction))
			require.NoError(t, err)
			require.NoError(t, PutNumber(&b, typ, d))
			require.True(t, a.Same(0, &b, 0), "%d / 10^%d", n, fraction)
		}
		assert.Equal(t, typ.Kind == Int || typ.Kind == Fixed, taken > 0)
	}
	for _, c := range []struct {
		n                int64
		precision, scale int
	}{
		{972027198196829, 18, 10}, // times 10^10, that is 119808 in the 64 bits that are left of it
		{10000000000000, 15, 2},   // has a digit too many
		{1, 18, 18},               // more than a double keeps
	} {
		typ := Type{Kind: Fixed, Precision: c.precision, Scale: c.scale}
		to := NewColumn(typ)
		assert.False(t, PutScaled(&to, &typ, c.n, 0), "%d for %d, %d", c.n, c.precision, c.scale)
	}
	for _, typ := range []Type{{Kind: Date}, {Kind: DateTime}, {Kind: DateTime, Step: 60e6},
		{Kind: DateTime, Zoned: true}, {Kind: Time}} {
		for range 3000 {
			m := Moment{Days: r.Int64N(40000), Micros: r.Int64N(3) * r.Int64N(1440) * 30e6, Dated: true}
			m.Timed = m.Micros != 0
			a, b := NewColumn(typ), NewColumn(typ)
			if PutPlain(&a, &typ, m.Days, m.Micros) {
				require.NoError(t, PutMoment(&b, typ, m, nil))
				require.True(t, a.Same(0, &b, 0))
			}
		}
	}
}

func TestMomentsGoWhereTheyFit(t *testing.T) {
	merrow, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	dated := Moment{Days: 20544, Dated: true} // 2026-04-01
	timed, zoned, clock := Moment{Days: 20544, Micros: Clock(1, 30, 0), Dated: true, Timed: true},
		Moment{Days: 20544, Micros: Clock(1, 30, 0), Offset: Clock(2, 0, 0), Dated: true, Timed: true, Zoned: true},
		Moment{Micros: Clock(30, 15, 0), Timed: true}
	for _, c := range []struct {
		name string
		m    Moment
		t    Type
		zone *time.Location
		want string // as people read it, or why not
	}{
		{"a date", dated, Type{Kind: Date}, nil, "2026-04-01"},
		{"the midnight of a date", dated, Type{Kind: DateTime}, nil, "2026-04-01 00:00:00"},
		{"a time that a date would lose", timed, Type{Kind: Date}, nil, "has a time, which the column would lose"},
		{"a date that a time would lose", timed, Type{Kind: Time}, nil, "has a date, which the column would lose"},
		{"a time without a date", clock, Type{Kind: DateTime}, nil, "is a time without a date"},
		{"a time past 24:00", clock, Type{Kind: Time}, nil, "is past 24:00"},
		{"a span past 24:00", clock, Type{Kind: Time, Long: true}, nil, "30:15:00"},
		{"a span out of bounds", clock, Type{Kind: Time, Long: true, Least: -1, Most: Clock(30, 0, 0)}, nil,
			"is not between -00:00:00.000001 and 30:00:00"},
		{"a span as text", clock, Type{}, nil, "30:15:00"},
		{"a zone in text", zoned, Type{}, nil, "2026-03-31 23:30:00Z"},
		{"a zone where none is kept", zoned, Type{Kind: DateTime}, nil, "has a time zone, which the column would lose"},
		{"a zone to that of the harbour", zoned, Type{Kind: DateTime}, merrow, "2026-04-01 00:30:00"},
		{"an instant", zoned, Type{Kind: DateTime, Zoned: true}, nil, "2026-03-31 23:30:00"},
		{"a local time without its zone", timed, Type{Kind: DateTime, Zoned: true}, nil, "has no time zone"},
		{"a local time of the harbour", timed, Type{Kind: DateTime, Zoned: true}, merrow, "2026-04-01 00:30:00"},
		{"a date as a number", dated, Type{Kind: Int}, nil, "the column takes a whole number"},
	} {
		column := NewColumn(c.t)
		if err := PutMoment(&column, c.t, c.m, c.zone); err != nil {
			assert.Contains(t, err.Error(), c.want, c.name)
			assert.Equal(t, Bad, column.States[0], c.name)
			continue
		}
		assert.Equal(t, c.want, column.Text(0), c.name)
	}
}

func TestKeysAreInTheOrderOfTheirValues(t *testing.T) {
	number := func(texts ...string) (c Column) {
		c.Kind = Decimal
		for _, text := range texts {
			c.AppendBytes([]byte(text))
		}
		return c
	}
	float := Column{Kind: Float}
	for _, f := range []float64{math.Inf(-1), -2.5, -1e-9, 0, 1e-9, 3, 1e300} {
		float.AppendFloat(f)
	}
	whole := Column{Kind: Int}
	for _, n := range []int64{math.MinInt64, -2, 0, 7, math.MaxInt64} {
		whole.AppendNum(n)
	}
	whole.AppendState(Null)
	words := Column{Kind: Text}
	for _, w := range []string{"", "anchor", "Anchor", "Ångström", "b", "b a", "berth", "Éa", "ez", "Z"} {
		words.AppendBytes([]byte(w))
	}
	raw := Column{Kind: Bytes}
	for _, w := range []string{"", "\x00", "\x00\x00", "\x00\x01", "\x01", "a", "a\x00", "ab", "\xff"} {
		raw.AppendBytes([]byte(w))
	}
	for name, c := range map[string]Column{"decimals": number("-1000", "-999.5", "-999.25", "-0.02", "-0.0101", "0",
		"0.0009", "0.001", "0.0011", "0.01", "1", "1.5", "9.9", "10", "123456789012345678901234567890"),
		"floats": float, "whole numbers, a blank last": whole, "texts": words, "bytes": raw} {
		t.Run(name, func(t *testing.T) {
			order := NewOrderer()
			last := order.AppendKey(nil, &c, 0)
			for i := 1; i < c.Len(); i++ {
				next := order.AppendKey(nil, &c, i)
				assert.Negative(t, bytes.Compare(last, next), "%q is behind %q", c.Text(i), c.Text(i-1))
				assert.False(t, bytes.HasPrefix(next, last), c.Text(i))
				last = next
			}
		})
	}
}
