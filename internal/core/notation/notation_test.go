package notation

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/fault"
	"ladle/internal/core/value"
)

func TestNumbersByExample(t *testing.T) {
	for example, cells := range map[string]map[string]string{ // "" for a cell that is refused
		"1.234,56": {"1.234,56": "1234.56", "-7,5": "-7.5", "1234,5": "1234.5", "1.234.567": "1234567", "0": "0",
			",5": "0.5", "−3": "-3", "1.23,4": "", "12.34": "", "1,234.5": "", "€5": "", "1,": "", "": "", "-": "",
			"1e5": "", "007": "", "1_000": "", "0x1F": "", "NaN": "", "5-": "", "+5": "", "--5": ""},
		"1 234,56": {"1 234,56": "1234.56", "1\u00a0234": "1234", "1\u202f234\u202f567,8": "1234567.8",
			"1\u00a0234 567": "", "1  234": "", "1234 ": ""},
		"(1,234.50)": {"(1,234.50)": "-1234.5", "1,234.50": "1234.5", "(5)": "-5", "-5": "", "(5": "", "()": "",
			"((5))": ""},
		"€1,234.56": {"€1,234.56": "1234.56", "1,234.56": "1234.56", "-€5": "-5", "€-5": "-5", "€ 5": "5", "£5": "",
			"5€": "", "€": "", "-€-5": ""},
		"12,5 %":       {"12,5 %": "12.5", "12,5%": "12.5", "12": "12", "%": "", "5 %%": "", "5 t": ""},
		"1'234.50 t":   {"1'234.50 t": "1234.5", "1’234": "1234", "3 t": "3", "1,234": ""},
		"1234.5-":      {"5-": "-5", "5.25": "5.25", "-5": "", "5--": ""},
		"-1234.5":      {"-5": "-5", "5": "5", "+5": ""},
		"+1234.5":      {"+5": "5", "-5": "-5"},
		"1234":         {"12": "12", "-12": "-12", "12.5": "", "1,234": ""},
		"0001234":      {"007": "7", "7": "7", "000": "0"},
		"12,34,567.89": {"12,34,567.89": "1234567.89", "1,23,456": "123456", "123,456": "", "1,234": "1234"},
		"1,234,567":    {"1,234": "1234", "1,234.5": ""},
		"CHF 1'234.50": {"CHF 99.95": "99.95", "CHF99": "99", "99 CHF": ""},
		"1234,567":     {"0,5": "0.5", "1.000": ""},
	} {
		n, err := NumberLike(example)
		require.NoError(t, err, example)
		for cell, want := range cells {
			if cell == "" {
				continue
			}
			d, _, err := n.Scan(nil, []byte(cell))
			if want == "" {
				assert.Error(t, err, "%q as %q", cell, example)
				continue
			}
			if assert.NoError(t, err, "%q as %q", cell, example) {
				assert.Equal(t, want, string(d.Append(nil)), "%q as %q", cell, example)
			}
		}
	}
	for example, why := range map[string]string{"abc": "it has no digits", "": "it has no digits",
		"1,234": "it is not clear whether", "1.234": "it is not clear whether",
		"1/2": "can't be", "1,23,4.5": "can't be", "1.2.3,4,5": "can't be", "1:30": "can't be"} {
		_, err := NumberLike(example)
		var advised fault.InvalidValue
		require.ErrorAs(t, err, &advised, example)
		assert.Contains(t, err.Error(), why, example)
	}
}

func TestAGuessReadsItsCell(t *testing.T) {
	for cell, want := range map[string]string{"1.234,56": "1.234,50", "€ 851,00": "€1234,50", "4,060.00": "1,234.50",
		"450 m3": "", "395 t": "1234 t", "(12.5)": "(1234.50)",
		"12 %": "1234 %", "1 234": "1 234", "11,204.0": "1,234.50", "1,204": "1,234.50", "n/a": "", "14/03/2026": "",
		"2026-03-14": "", "12:30": ""} {
		assert.Equal(t, want, Guess(cell), cell)
	}
}

// TestNumbersInSeveralWays: notations are tried in order, a cell that two of them read differently is refused.
func TestNumbersInSeveralWays(t *testing.T) {
	for _, c := range []struct {
		cells, examples []string
		covered         int
	}{
		{[]string{"4.5", "4,5", "5", "6,25", "5.5"}, []string{"1234.5", "1234,50"}, 5},
		{[]string{"24,94 m", "18,2 m", "11 m", "9,00 m"}, []string{"1234,50 m"}, 4},
		{[]string{"€ 1.200,50", "88,00", "12,10 €", "abc"}, []string{"€1.234,50", "1234,50 €"}, 3},
		{[]string{"1.234,50", "2.000,00", "1.234", "4.5"}, []string{"1.234,50", "1234.5"}, 3}, // 1.234 is two numbers
		{[]string{"7", "8.25"}, []string{"1234.5"}, 2},
		{[]string{"abc", ""}, nil, 0},
	} {
		examples, covered := CoveringNumbers(c.cells, 3)
		assert.Equal(t, c.examples, examples, "%q", c.cells)
		assert.Equal(t, c.covered, covered, "%q", c.cells)
	}
	var all []*Number
	for _, example := range []string{"1.234,50", "1234.5"} {
		n, err := NumberLike(example)
		require.NoError(t, err)
		all = append(all, n)
	}
	for cell, want := range map[string]string{"1.234,5": "1234.5", "-4.5": "-4.5", "12": "12", "12.500,00": "12500.00",
		"1.234": "is 1234 when read like 1.234,50, and 1.234 when read like 1234.5",
		"x":     "is not a number like 1.234,50 or 1234.5"} {
		d, _, err := NewNumbers(all...).Scan(nil, []byte(cell))
		if err != nil {
			assert.Equal(t, want, err.Error())
			continue
		}
		assert.Equal(t, want, plain(d))
	}
}

func TestDatesByPattern(t *testing.T) {
	const gone = "doesn't exist"
	for pattern, cells := range map[string]map[string]string{ // "" for a cell that is written in another way
		"dd/MM/yyyy": {"14/03/2026": "2026-03-14", "31/02/2026": gone, "29/02/2024": "2024-02-29",
			"14/3/2026": "", "03/14/2026": gone, "14/03/26": "", "14/03/2026 ": "", "14-03-2026": "",
			"14/03/20261": ""},
		"d/M/yyyy": {"14/3/2026": "2026-03-14", "04/03/2026": "2026-03-04", "4/3/2026": "2026-03-04",
			"114/3/2026": ""},
		"yyyyMMdd": {"20260314": "2026-03-14", "2026031": "", "20261314": gone},
		"d MMM yyyy": {"4 Mar 2026": "2026-03-04", "14 SEP 2026": "2026-09-14",
			"14 Sept 2026": "2026-09-14", "4 March 2026": "", "4 Mrz 2026": ""},
		"MMMM d, yyyy": {"March 4, 2026": "2026-03-04", "Mar 4, 2026": ""},
		"EEE, d MMM yyyy": {"Sat, 14 Mar 2026": "2026-03-14", "Sun, 14 Mar 2026": gone,
			"Wed, 31 Dec 1969": "1969-12-31"},
		"dd.MM.yy": {"14.03.26": "2026-03-14", "14.03.41": "1941-03-14", "14.03.40": "1940-03-14",
			"14.03.39": "2039-03-14"},
		"dd/MM/yyyy HH:mm": {"14/03/2026 03:10": "2026-03-14 03:10:00", "14/03/2026 24:00": gone,
			"14/03/2026\u00a003:10": "2026-03-14 03:10:00", "14/03/2026 3:10": ""},
		"M/d/yyyy h:mm a": {"3/14/2026 3:10 PM": "2026-03-14 15:10:00",
			"3/14/2026 12:10 am": "2026-03-14 00:10:00", "3/14/2026 13:10 PM": gone, "3/14/2026 3:10 xm": ""},
		"yyyy-MM-dd'T'HH:mm:ssXXX": {"2026-03-14T03:10:00+01:00": "2026-03-14 02:10:00Z",
			"2026-03-14T03:10:00Z": "2026-03-14 03:10:00Z", "2026-03-14T03:10:00": ""},
		"yyyy-MM-dd HH:mm:ss.SSS": {"2026-03-14 03:10:00.250": "2026-03-14 03:10:00.25", "2026-03-14 03:10:00.25": ""},
		"HH:mm": {"23:59": "23:59:00", "30:15": "30:15:00", "3:10": "", "03:60": gone,
			"130:15": "130:15:00"},
		"h 'o''clock' a":      {"3 o'clock PM": "15:00:00", "0 o'clock AM": gone},
		"yyyy-MM-dd ss:mm:HH": {"2026-03-14 05:10:03": "2026-03-14 03:10:05"},
	} {
		p, err := NewPattern(pattern, 1940)
		require.NoError(t, err, pattern)
		dates := NewDates(p)
		for cell, want := range cells {
			m, err := dates.Scan([]byte(cell))
			switch want {
			case "":
				assert.EqualError(t, err, "is not a date like "+pattern, "%q", cell)
			case gone:
				assert.ErrorContains(t, err, gone, "%q as %s", cell, pattern)
			default:
				if assert.NoError(t, err, "%q as %s", cell, pattern) {
					assert.Equal(t, want, string(value.AppendMoment(nil, m)), "%q as %s", cell, pattern)
				}
			}
		}
	}
	for pattern, why := range map[string]string{"": "neither a date nor a time", "dd/mm/yyyy": "needs y, M and d",
		"yyyy": "needs y, M and d", "hh:mm": "go together", "HH:mm a": "go together",
		"DD/MM/YYYY": "DD is not a field", "dd/MM/yy": "don't say which century", "yyyy-MM-dd HH:ss": "is missing",
		"yyyy-MM-dd HH:mm 'h": "not closed", "yyyyy-MM-dd": "not a field", "HH:mmX": "a zone needs",
		"dd/dd/yyyy": "twice"} {
		_, err := NewPattern(pattern, NoPivot)
		var advised fault.InvalidValue
		require.ErrorAs(t, err, &advised, pattern)
		assert.Contains(t, err.Error(), why, pattern)
	}
}

func TestPatternsAreTriedInOrder(t *testing.T) {
	var both []*Pattern
	for _, text := range []string{"dd/MM/yyyy", "MM/dd/yyyy"} {
		p, err := NewPattern(text, NoPivot)
		require.NoError(t, err)
		both = append(both, p)
	}
	for cell, want := range map[string]string{"03/04/2026": "2026-04-03", "03/14/2026": "2026-03-14"} {
		m, err := NewDates(both...).Scan([]byte(cell))
		require.NoError(t, err)
		assert.Equal(t, want, string(value.AppendMoment(nil, m)))
	}
	assert.Equal(t, []string{"dd/MM/yyyy", "MM/dd/yyyy", "d/M/yyyy"}, Fitting([]string{"03/04/2026"}, 3))
	assert.Equal(t, []string{"dd/MM/yyyy HH:mm"}, Fitting([]string{"14/03/2026 03:10", "03/04/2026 10:00"}, 1))
	assert.Empty(t, Fitting([]string{"14/03/2026", "soon"}, 3))
}

// FuzzNumber: what is read by an example is the number of its digits, and reads back the same from its own text.
func FuzzNumber(f *testing.F) {
	for _, example := range []string{"1.234,56", "1 234,56", "(1,234.50)", "€1,234.56", "12,5 %", "1'234.50 t", "5-",
		"007"} {
		f.Add(example, example)
		f.Add(example, "-1,5")
		f.Add("A"+example, " 0")
	}
	simple, err := NumberLike("1234.5")
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, example, cell string) {
		n, err := NumberLike(example)
		if err != nil || cell == "" {
			return
		}
		_, _, err = n.Scan(nil, []byte(n.String()))
		require.NoError(t, err, "an example reads itself: %q", example)
		d, _, err := n.Scan(nil, []byte(cell))
		scaled, fraction, plain := n.ScanPlain([]byte(cell))
		if err != nil {
			require.False(t, plain, "%q by %q is refused, but read plainly", cell, example)
			return
		}
		text := string(d.Append(nil))
		if plain {
			p, err := value.ScanNumber(value.AppendFixed(nil, scaled, fraction))
			require.NoError(t, err)
			assert.Equal(t, text, string(p.Append(nil)), "%q by %q is read plainly as another number", cell, example)
		}
		again, _, err := simple.Scan(nil, []byte(text))
		require.NoError(t, err, "%q by %q is %q", cell, example, text)
		assert.Equal(t, text, string(again.Append(nil)))
		assert.Contains(t, digitsOf(cell), strings.Trim(digitsOf(text), "0"), "%q by %q is %q", cell, example, text)
	})
}

func digitsOf(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return r
		}
		return -1
	}, s)
}

// FuzzPattern: whatever pattern and cell there are, a date that is read exists.
func FuzzPattern(f *testing.F) {
	for _, pattern := range []string{"dd/MM/yyyy", "d MMM yyyy", "yyyyMMdd", "M/d/yy h:mm a",
		"yyyy-MM-dd'T'HH:mm:ss.SSSXXX", "HH:mm"} {
		f.Add(pattern, "14/03/2026")
		f.Add(pattern, "4 Mar 2026")
		f.Add(pattern, "14 sept 2026")
	}
	f.Fuzz(func(t *testing.T, pattern, cell string) {
		p, err := NewPattern(pattern, 1940)
		if err != nil || !utf8.ValidString(pattern) {
			return
		}
		m, err := NewDates(p).Scan([]byte(cell))
		if p.plain != nil {
			days, micros, ok := p.plain.scan([]byte(cell))
			slow, w := p.scanFields([]byte(cell))
			quick := value.Moment{Days: days, Micros: micros, Dated: true, Timed: p.timed}
			require.True(t, !ok || w == read && quick == slow, "%q by %q", cell, pattern)
		}
		if err != nil {
			return
		}
		text := value.AppendMoment(nil, m)
		back, ok := value.ScanMoment(text)
		require.True(t, ok, "%q by %q is %q", cell, pattern, text)
		assert.Equal(t, string(text), string(value.AppendMoment(nil, back)))
	})
}

func TestFittingFollowsWhatCellsTell(t *testing.T) {
	for _, c := range []struct {
		cells []string
		want  []string
	}{
		{[]string{"2026-03-14"}, []string{"yyyy-MM-dd"}},
		{[]string{"20260314", "20261231"}, []string{"yyyyMMdd"}},
		{[]string{"14.3.2026", "1.12.2026"}, []string{"d.M.yyyy"}},
		{[]string{"3/14/2026", "3/4/2026"}, []string{"M/d/yyyy"}},
		{[]string{"14 March 2026"}, []string{"d MMMM yyyy"}},
		{[]string{"14-Mar-2026"}, []string{"d-MMM-yyyy"}},
		{[]string{"Mar 14, 2026 3:10 PM"}, []string{"MMM d, yyyy h:mm a"}},
		{[]string{"2026-03-14T03:10:00+01:00", "2026-03-14T03:10:00Z"}, []string{"yyyy-MM-dd'T'HH:mm:ssXXX"}},
		{[]string{"14/03/26"}, []string{"dd/MM/yy"}},
		{[]string{"2026-03-14", "14/03/2026"}, nil},
		{nil, nil},
	} {
		assert.Equal(t, c.want, Fitting(c.cells, 1), "%q", c.cells)
	}
	for _, p := range usual() {
		again, err := NewPattern(p.String(), CenturyFrom())
		require.NoError(t, err)
		assert.Equal(t, p, again)
	}
}
